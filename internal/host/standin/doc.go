// Package standin drives simulated phones and tablets that ship with the
// product, so that everything can be tried without one real device.
//
// A stand-in boots, installs packages, runs the program that a package carries
// in a child process of its own (package sandbox), lays its screen out with real text
// measurement, draws it, and passes touches and keys through hit-testing. It
// knows nothing of any app. Its clock is virtual: it goes to the next timer only
// when the app and whoever drives it are both at rest, so a run is a function of
// its seed and a slow machine cannot make a test fail.
//
// The programming interface for apps is described in docs/stand-ins.md.
package standin
