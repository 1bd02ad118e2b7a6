// Package remote drives devices over W3C WebDriver and WebDriver BiDi: handsets with other engines than the one of
// package handset, whose browsers this machine has, and devices behind somebody else's endpoint.
//
// What an engine cannot do is an ability that its devices lack. The screen is read by the scripts of package inpage,
// the same that handsets read theirs with, so that a suite means the same on all.
package remote
