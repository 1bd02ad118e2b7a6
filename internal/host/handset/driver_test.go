package handset

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/host/driver"
)

const desk = `site: desk
driver: handset
models:
  - {model: Kaede 7, platform: web, form: phone, width: 408, height: 896, memory_mb: 8192}
devices:
  - `

func TestASiteFileSaysWhatIsWrongWithItsHandsets(t *testing.T) {
	for text, says := range map[string]string{
		`{name: k, model: Kaede 7, kind: emulator, handset: {densty: 2}}`:                              "did you mean `density`?",
		`{name: k, model: Kaede 7, kind: emulator, handset: {density: 9}}`:                             "a density is 0.5 to 5",
		`{name: k, model: Kaede 7, kind: emulator, handset: {reach: ["http://api.example"]}}`:          "is no host that apps could reach",
		`{name: k, model: Kaede 7, kind: emulator, handset: {overlook: ["https://api.example/poll"]}}`: "write api.example/poll, or /poll",
		`{name: k, model: Kaede 7, kind: emulator, handset: {browser: /no/such/browser}}`:              "is not there",
		`{name: k, model: Kaede 7, kind: emulator, standin: {charge: 8}}`:                              "there is no `standin`",
		`{name: k, model: Kaede 7, kind: simulator}`:                                                   `not "simulator"`,
	} {
		site, err := driver.ReadSite([]byte(desk + text))
		v, e := NewDriver([]string{"none"})
		require.NoError(t, e)
		if err == nil {
			err = v.Check(site)
		}
		if err == nil {
			m, e := site.Find(site.Devices[0])
			require.NoError(t, e)
			_, err = v.Open(site, site.Devices[0], m)
		}
		require.ErrorContains(t, err, says, text)
	}
}

func TestAHandsetIsOfTheWeb(t *testing.T) {
	site, err := driver.ReadSite([]byte("site: desk\ndriver: handset\nmodels: [{model: Aster 12, platform: ios, " +
		"form: phone, width: 388, height: 848}]\ndevices: [{name: k, model: Aster 12, kind: real, os: \"18\"}]"))
	require.NoError(t, err)
	v, err := NewDriver([]string{"none"})
	require.NoError(t, err)
	require.ErrorContains(t, v.Check(site), "its platform is web, not \"ios\"")
}

func TestAHandsetsOSIsItsBrowsersVersion(t *testing.T) {
	site, err := driver.ReadSite([]byte(desk + `{name: k, model: Kaede 7, kind: emulator, handset: {reach: [api.example, "127.0.0.1:8443"]}}`))
	require.NoError(t, err)
	v, err := NewDriver([]string{"none"})
	require.NoError(t, err)
	m, err := site.Find(site.Devices[0])
	require.NoError(t, err)
	d, err := v.Open(site, site.Devices[0], m)
	require.NoError(t, err)
	defer d.Close()
	require.Regexp(t, `^[0-9]{2,4}$`, d.Describe().OS)
	require.True(t, d.Describe().Virtual())
	require.Contains(t, d.Abilities(), "gestures")
	require.NotContains(t, d.Abilities(), "clipboard")
}

func TestPagesAreToldOfMemoryInPowersOfTwo(t *testing.T) {
	for mb, gb := range map[int]float64{0: 8, 128: 0.25, 512: 0.5, 1024: 1, 2048: 2, 3072: 2, 4096: 4, 6144: 4, 8192: 8,
		65536: 8} {
		require.Equal(t, gb, memory(mb), "%d MB", mb)
	}
}
