package fleet

import "strings"

// Engines of web browsers that handsets have.
const (
	Blink  = "Blink"
	Gecko  = "Gecko"
	WebKit = "WebKit"
)

// Engines are all of them.
var Engines = []string{Blink, Gecko, WebKit}

// EngineOf gives the browser engine of a device, "" where it runs no web apps. The OS of a handset is its browser's
// version, with the engine before it: "Gecko 153"; a version alone is Blink's.
func EngineOf(platform, os string) string {
	if platform != "web" {
		return ""
	}
	if engine, _, named := strings.Cut(os, " "); named {
		return engine
	}
	return Blink
}

// SystemName writes an OS as people say it: "Android 14", "web 156", "Gecko 153".
func SystemName(platform, os string) string {
	if EngineOf(platform, os) == "" || EngineOf(platform, os) == Blink {
		return PlatformName(platform) + " " + os
	}
	return os
}

// versionOf is the version in an OS that may have an engine's name before it.
func versionOf(os string) string { return os[strings.LastIndexByte(os, ' ')+1:] }
