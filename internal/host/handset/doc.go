// Package handset drives handsets that a real Chromium emulates: web apps, handed in as
// bundles or as addresses, run in it as they would on a phone.
//
// One browser serves a host. Each handset has a browser context of its own, so that nothing
// is shared: storage, cookies, service workers, permissions. All that its pages ask the
// network for goes through a proxy of the handset's own (proxy.go), which serves the app's
// bundle and refuses every host that the site file does not name.
//
// The browser is spoken to by its debugging protocol, over a pipe that ends with the host
// (package pipe); what is on the screen is read in the page by scripts of package inpage.
package handset
