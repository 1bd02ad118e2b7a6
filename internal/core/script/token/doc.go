// Package token cuts a script into words, texts, numbers and signs, and says of places in
// scripts what there is to say.
package token
