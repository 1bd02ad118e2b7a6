package driver

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestASiteFileSaysWhatIsWrongWithIt(t *testing.T) {
	const model = "models: [{model: Kaede 7, platform: android, form: phone, width: 408, height: 896, " +
		"memory_mb: 8192}]\n"
	for text, says := range map[string]string{
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 9, kind: emulator, os: \"14\"}]": `the model "Kaede 9"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: robot, os: \"14\"}]":    `not "robot"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\"}, {name: k, model: " +
			"Kaede 7, kind: real, os: \"14\"}]": "stands twice",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: simulator, os: \"14\"}]": "emulators are of Android and the web, and simulators of iOS",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: emulator}]":              "it states no os",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {hours: " +
			"always}}]": "hours are written as in Mon-Fri",
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", state: maybe}]":       `absent or present, not "maybe"`,
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", licence: none such}]": "which the site file does not hold",
		"site: bench\nimages: [{platform: android}]":                                              "states its platform, android or ios, and its os",
		"site: bench\nmodels: [{model: K, platform: beos}]":                                       `not "beos"`,
		"site: bench\nmodels: [{model: K, platform: ios}, {model: K, platform: ios}]":             "stands twice",
		"site: bench\ncapacity: {memory_mb: -5}":                                                  "capacity",
		"site: Bench 1\n" + model:                                                                 `"Bench 1"`,
		"site: bench\ndriver: standin\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", " +
			"standing: {charge: 8}}]": "did you mean `standin`?",
		"site: bench\ndriver: other\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", " +
			"standin: {charge: 8}}]": "there is no `standin`",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {peple: " +
			"[Bo]}}]": "did you mean `people`?",
		"site: bench\nfoo: 1": "foo",
		"{":                   "cannot be read",
	} {
		_, err := ReadSite([]byte(text))
		require.ErrorContains(t, err, says)
	}
}
