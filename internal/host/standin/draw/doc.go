// Package draw lays the screens of stand-ins out and draws them: what an app shows becomes
// elements with places, a screen tree, and a picture.
package draw
