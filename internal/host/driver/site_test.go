package driver

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
)

func TestASiteFileSaysWhatIsWrongWithIt(t *testing.T) {
	const model = "models: [{model: Kaede 7, platform: android, form: phone, width: 408, height: 896, " +
		"memory_mb: 8192}]\n"
	for text, says := range map[string]string{
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 9, kind: emulator, os: \"14\"}]": `the model "Kaede 9"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\"}, {name: k, model: " +
			"Kaede 7, kind: real, os: \"14\"}]": "stands twice",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {hours: " +
			"always}}]": "hours are written as in Mon-Fri",
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", state: maybe}]":       `absent or present, not "maybe"`,
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", licence: none such}]": "which the site file does not hold",
		"site: bench\nimages: [{platform: android}]":                                              "states its platform and its os",
		"site: bench\nmodels: [{model: K, platform: ios}, {model: K, platform: ios}]":             "stands twice",
		"site: bench\ncapacity: {memory_mb: -5}":                                                  "capacity",
		"site: Bench 1\n" + model:                                                                 `"Bench 1"`,
		"site: bench\ndriver: standin\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", " +
			"standing: {charge: 8}}]": "did you mean `standin`?",
		"site: bench\ndriver: other\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", " +
			"standin: {charge: 8}}]": "there is no `standin`",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {peple: " +
			"[Bo]}}]": "did you mean `people`?",
		"site: bench\nfoo: 1":                            "foo",
		"site: bench\ndriver: table\ntabel: {legs: 4}\n": "did you mean `table`?",
		"{": "cannot be read",
	} {
		_, err := ReadSite([]byte(text))
		require.ErrorContains(t, err, says)
	}
}

// table is a driver of what lies on a table: phones of one platform, none of which boots.
type table struct{}

func (table) Check(s *Site) error {
	return Supplies{"android": {fleet.Emulator, fleet.Real}}.Check(s)
}
func (table) Open(*Site, SiteDevice, fleet.Model) (Device, error) { return nil, nil }

func TestADriverSaysWhatASiteFileAsksOfItInVain(t *testing.T) {
	Register("table", func() (Driver, error) { return table{}, nil })
	t.Cleanup(func() { delete(drivers, "table") })
	const model = "site: bench\ndriver: table\nmodels: [{model: Kaede 7, platform: android, form: phone, width: 408, height: 896}]\n"
	_, d, err := Read([]byte(model + "devices: [{name: k, model: Kaede 7, kind: real}]"))
	require.NoError(t, err)
	require.Equal(t, table{}, d)
	for text, says := range map[string]string{
		model + "devices: [{name: k, model: Kaede 7, kind: simulator}]":    `is emulator or real with this driver, not "simulator"`,
		"site: bench\ndriver: table\nmodels: [{model: K, platform: beos}]": `its platform is android, not "beos"`,
		model + "images: [{platform: android, os: \"14\"}]":                "boots from no OS images",
		"site: bench":                "write `driver: ",
		"site: bench\ndriver: tabel": `did you mean "table"?`,
		"{":                          "cannot be read",
	} {
		_, _, err := Read([]byte(text))
		require.ErrorContains(t, err, says)
	}
}
