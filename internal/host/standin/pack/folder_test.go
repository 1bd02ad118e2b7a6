package pack

import (
	"bytes"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
)

var day = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func folder(description string, files ...string) fstest.MapFS {
	out := fstest.MapFS{"app.yaml": {Data: []byte(description)},
		"app.js": {Data: []byte("os.show(() => ui.text({text: 'hi'}))")}}
	for i := 0; i < len(files); i += 2 {
		out[files[i]] = &fstest.MapFile{Data: []byte(files[i+1])}
	}
	return out
}

func TestAFolderIsPackedInEveryKindAndReadBack(t *testing.T) {
	dir := folder("id: example.ferryradio\nname: Ferry Radio\nversion: \"2.1\"\ncode: 7\nminimum_android: "+
		"\"12\"\nforms: [phone]\nprofile: {devices: [00008120-1], days: 10}\n",
		"texts.yaml", "greeting: {default: Hello, de-DE: Moin}\n")
	list, err := Folder(dir, day)
	require.NoError(t, err)
	again, err := Folder(dir, day)
	require.NoError(t, err)
	require.Equal(t, list, again, "the same app gives the same bytes")
	kinds := map[string]appfile.Kind{"ferry-radio-2.1.apk": appfile.Android,
		"ferry-radio-2.1-simulator.zip": appfile.Simulator, "ferry-radio-2.1.ipa": appfile.IOSDevice,
		"ferry-radio-2.1-web.zip": appfile.Web}
	require.Len(t, list, len(kinds))
	for _, f := range list {
		p, err := appfile.Read(bytes.NewReader(f.Data), int64(len(f.Data)))
		require.NoError(t, err, f.File)
		require.Equal(t, kinds[f.File], p.Kind, f.File)
		require.Equal(t, "2.1", p.VersionName)
		require.Equal(t, "7", p.VersionCode)
		require.Equal(t, "Ferry Radio", p.Name)
		program, err := p.ReadProgram(bytes.NewReader(f.Data), int64(len(f.Data)))
		require.NoError(t, err)
		require.Equal(t, dir["app.js"].Data, program)
		if p.Kind == appfile.Android {
			require.Equal(t, "example.ferryradio", p.ApplicationID)
			require.Equal(t, 31, p.MinimumAPI)
			require.Equal(t, []string{"v2"}, p.Signing.Schemes)
			texts, err := appfile.ReadTexts(bytes.NewReader(f.Data), int64(len(f.Data)))
			require.NoError(t, err)
			require.Equal(t, "Moin", texts["greeting"]["de-DE"])
		}
		if p.Kind == appfile.IOSDevice {
			require.Equal(t, []string{"00008120-1"}, p.Profile.Devices)
			require.Equal(t, "2026-12-05", p.Profile.Expires.Format("2006-01-02"))
		}
	}
}

func TestAFolderThatCannotBePackedSaysWhatIsWrong(t *testing.T) {
	ok := "id: example.a\nname: A\n"
	for says, dir := range map[string]fstest.MapFS{
		"it holds no app.yaml":        {},
		"it holds no app.js":          {"app.yaml": {Data: []byte(ok)}},
		"did you mean `version`?":     folder(ok + "verzion: 1"),
		"its id is \"a\"":             folder("id: a\nname: A"),
		"it has no name":              folder("id: example.a"),
		"there is no kind of package": folder(ok + "packages: [phone]"),
		"it makes no packages":        folder(ok + "packages: []"),
		"a version of Android from 8": folder(ok + "minimum_android: \"4\""),
		"there is no form \"watch\"":  folder(ok + "forms: [watch]"),
		"its code is 0":               folder(ok + "code: 0"),
		"icon.png is no PNG":          folder(ok, "icon.png", "GIF89a"),
		"texts.yaml cannot be read":   folder(ok, "texts.yaml", "[a"),
		"a key is small letters":      folder(ok, "texts.yaml", "Big Key: {default: a}"),
		"is larger than the 8 MB":     folder(ok, "app.js", strings.Repeat("x", 9<<20)),
	} {
		_, err := Folder(dir, day)
		require.ErrorContains(t, err, says)
	}
}

func TestWhatNobodyWouldTakeIsNotPacked(t *testing.T) {
	_, err := Folder(folder("id: example.my_app\nname: A\n"), day)
	require.ErrorContains(t, err, "iOS takes letters, digits and dots")
	list, err := Folder(folder("id: example.my_app\nname: A\npackages: [android]\n"), day)
	require.NoError(t, err, "Android takes it")
	require.Len(t, list, 1)
}
