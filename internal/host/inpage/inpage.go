// Package inpage holds the scripts that handsets run in the pages of apps: Look beside the page's own
// scripts, in a world of its own, Ask among them, before any of theirs.
package inpage

import (
	_ "embed"
	"fmt"
	"strings"
)

// What is drawn, what controls hold and how they are drawn, and the walk over all of it.
var (
	//go:embed drawn.js
	drawn string
	//go:embed control.js
	control string
	//go:embed named.js
	named string
	//go:embed look.js
	look string
)

// Look reads what is on the screen, and does there what the browser itself would do outside of the page. due is
// the name by which it asks Due what is due. Roles and names are the browser's own where it tells them.
func Look(due string) string { return looking(due, false) }

// LookNaming is Look with roles and names of its own, in browsers that would tell theirs.
func LookNaming(due string) string { return looking(due, true) }

func looking(due string, ownNames bool) string {
	return fmt.Sprintf("(() => {\nif (globalThis.yamatoLook) return;\nconst dueName = %q, ownNames = %t;\n", due, ownNames) +
		drawn + control + named + look + "})();"
}

//go:embed fingers.js
var fingers string

// LookTouching is Look with fingers made of what a browser has that knows of no touch screen.
func LookTouching(due string) string {
	return strings.TrimSuffix(looking(due, false), "})();") + fingers + "})();"
}

//go:embed due.js
var due string

// Due knows what the scripts of a page have under way, and tells who asks by a name.
func Due(name string) string { return fmt.Sprintf(due, name) }

// Ask tells what a page is about to ask a person for.
//
//go:embed ask.js
var Ask string

// Displayed is how an app's manifest wants to be shown, for scripts that ask (W3C Web Application
// Manifest, 1.8): the browser itself always tells them that it shows a page.
const Displayed = `
(() => {
  const mode = %q, query = window.matchMedia;
  if (window !== top) return;
  window.matchMedia = function matchMedia(text) {
    return query.call(this, String(text).replace(/\(\s*display-mode\s*:\s*([a-z-]+)\s*\)/gi, (_, m) => (m.toLowerCase() === mode ? '(min-width: 0px)' : 'not all')));
  };
  Object.defineProperty(Navigator.prototype, 'standalone', { configurable: true, get() { return mode !== 'browser'; } });
})();`

// Chance draws as Math.random does, from a seed (sfc32 of PractRand, which passes its tests).
const Chance = `
(() => {
  let a = %d | 0, b = %d | 0, c = 0x9e3779b9 | 0, n = 1;
  const next = () => {
    const t = (a + b | 0) + n | 0;
    n = n + 1 | 0;
    a = b ^ b >>> 9;
    b = c + (c << 3) | 0;
    c = (c << 21 | c >>> 11) + t | 0;
    return t >>> 0;
  };
  for (let i = 0; i < 15; i++) next();
  Math.random = function random() { return (next() * 2097152 + (next() >>> 11)) / 9007199254740992; };
})();`

//go:embed told.js
var toldText string

// Told keeps what a page logs, in a browser that tells nobody, and gives it to who asks by the name that Look has.
func Told(name string) string { return fmt.Sprintf(toldText, name+"-told") }
