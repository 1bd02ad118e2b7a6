package appfile_test

import (
	"archive/zip"
	"bytes"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	packer "yamato/internal/host/standin/pack"
)

// ofDriftwood has Debian's own packer make one of the packages that an app is split into.
func ofDriftwood(t *testing.T, attributes, application string, files map[string]string) []byte {
	t.Helper()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "AndroidManifest.xml"), `<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="example.driftwood" android:versionCode="3" `+
		attributes+`><application `+application+`/></manifest>`)
	args := []string{"package", "-f", "-M", "AndroidManifest.xml", "-F", filepath.Join(dir, "d.apk"), "-I",
		"/usr/share/android-framework-res/framework-res.apk"}
	for name, text := range files {
		write(t, filepath.Join(dir, name), text)
		if strings.HasPrefix(name, "res/") {
			args = append(args, "-S", filepath.Join(dir, "res"))
		}
	}
	tool(t, dir, "aapt", args...)
	for name := range files {
		if strings.HasPrefix(name, "lib/") {
			tool(t, dir, "aapt", "add", "d.apk", name)
		}
	}
	f, size := open(t, filepath.Join(dir, "d.apk"))
	data := make([]byte, size)
	_, err := f.ReadAt(data, 0)
	require.NoError(t, err)
	return data
}

const strings1 = `<?xml version="1.0"?><resources><string name="greeting">`

func driftwoodInParts(t *testing.T) map[string][]byte {
	return map[string][]byte{
		"splits/base-master.apk": ofDriftwood(t, `android:versionName="1.2"`, `android:isSplitRequired="true" android:label="Driftwood"`,
			map[string]string{"res/values/strings.xml": strings1 + `Hello</string></resources>`}),
		"splits/base-arm64_v8a.apk": ofDriftwood(t, `split="config.arm64_v8a"`, "", map[string]string{"lib/arm64-v8a/libdrift.so": "\x7fELF"}),
		"splits/base-x86_64.apk":    ofDriftwood(t, `split="config.x86_64"`, "", map[string]string{"lib/x86_64/libdrift.so": "\x7fELF"}),
		"splits/base-hdpi.apk":      ofDriftwood(t, `split="config.hdpi"`, "", nil),
		"splits/base-xxhdpi.apk":    ofDriftwood(t, `split="config.xxhdpi"`, "", nil),
		"splits/base-de.apk": ofDriftwood(t, `split="config.de"`, "",
			map[string]string{"res/values-de/strings.xml": strings1 + `Moin</string></resources>`, "res/values/strings.xml": strings1 + `Hello</string></resources>`}),
		"splits/shore.apk":      ofDriftwood(t, `split="shore"`, "", nil),
		"splits/shore-x86.apk":  ofDriftwood(t, `split="shore.config.x86_64" configForSplit="shore"`, "", map[string]string{"lib/x86_64/libshore.so": "\x7fELF"}),
		"standalones/whole.apk": []byte("for devices of other times"),
		"toc.pb":                []byte("a list of them"),
	}
}

func names(list []appfile.Split) (out []string) {
	for _, s := range list {
		out = append(out, s.Name)
	}
	return out
}

func TestAnAppThatIsSplitIsReadAndEachDeviceIsGivenWhatItWants(t *testing.T) {
	all := driftwoodInParts(t)
	data, err := packer.Set(all)
	require.NoError(t, err)
	r, size := bytes.NewReader(data), int64(len(data))
	p, err := appfile.Read(r, size)
	require.NoError(t, err)
	require.Equal(t, "example.driftwood 3 1.2 Driftwood", strings.Join([]string{p.ApplicationID, p.VersionCode, p.VersionName, p.Name}, " "))
	require.Equal(t, []string{"arm64-v8a", "x86_64"}, p.ABIs)
	require.Contains(t, p.Languages, "de")
	require.Len(t, p.Splits, 8)
	texts, err := appfile.ReadTexts(r, size)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"": "Hello", "de": "Moin"}, texts["greeting"], "a language's texts lie in a part of its own")

	for _, c := range []struct {
		abis    []string
		density int
		want    string
	}{
		{[]string{"arm64-v8a", "armeabi-v7a"}, 320, ""},
		{[]string{"x86_64", "arm64-v8a"}, 320, " config.de config.x86_64 config.xxhdpi shore shore.config.x86_64"},
		{[]string{"x86_64"}, 200, " config.de config.hdpi config.x86_64 shore shore.config.x86_64"},
		{[]string{"x86_64"}, 640, " config.de config.x86_64 config.xxhdpi shore shore.config.x86_64"},
	} {
		got, err := p.Choose(c.abis, c.density)
		if c.want == "" {
			require.ErrorContains(t, err, "arm64-v8a, armeabi-v7a", "a feature that has native code must have it for the device")
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.want, strings.Join(names(got), " "), "%v at %d", c.abis, c.density)
	}
	for _, s := range p.Splits {
		in, err := appfile.OpenSplit(r, size, s)
		require.NoError(t, err)
		one := make([]byte, in.Size())
		_, err = in.ReadAt(one, 0)
		require.NoError(t, err)
		require.Equal(t, all[s.Entry], one, "each part is handed on as it came")
		_, split, err := appfile.ReadSplit(in, in.Size())
		require.NoError(t, err)
		require.Equal(t, s.Name, split.Name)
	}
}

func TestWhatIsNoSetOfOneAppIsRefused(t *testing.T) {
	base := driftwoodInParts(t)
	other := sample
	other.Version.Code = 4
	for name, c := range map[string]struct {
		change func(map[string][]byte)
		says   string
	}{
		"no base":      {func(m map[string][]byte) { delete(m, "splits/base-master.apk") }, "none of the 7 packages in the zip is the base"},
		"two bases":    {func(m map[string][]byte) { m["splits/base-master_2.apk"] = m["splits/base-master.apk"] }, "both the base of the app"},
		"a part twice": {func(m map[string][]byte) { m["splits/again.apk"] = m["splits/base-de.apk"] }, "are the same part of the app"},
		"two apps":     {func(m map[string][]byte) { m["splits/other.apk"] = pack1(t, other) }, "packages of two apps"},
		"two builds": {func(m map[string][]byte) {
			m["splits/old.apk"] = oldPart(t)
		}, "is of version 2, and the base of 3"},
		"a part that is none": {func(m map[string][]byte) { m["splits/zz.apk"] = []byte("PK\x03\x04 and no more than that at all") }, "zz.apk"},
	} {
		m := map[string][]byte{}
		for k, v := range base {
			m[k] = v
		}
		c.change(m)
		data, err := packer.Set(m)
		require.NoError(t, err)
		_, err = read(data)
		var refusal *appfile.Refusal
		require.ErrorAs(t, err, &refusal, name)
		require.Contains(t, refusal.Reason, c.says, name)
	}
}

func oldPart(t *testing.T) []byte {
	a := packer.App{ID: "example.driftwood", Name: "Driftwood", Version: packer.Version{Name: "1.1", Code: 2}, Split: "config.pt"}
	data, err := packer.Android(a)
	require.NoError(t, err)
	return data
}

func pack1(t *testing.T, a packer.App) []byte {
	data, err := packer.Android(a)
	require.NoError(t, err)
	return data
}

// A zip may say anything of where its entries lie.
func TestEntriesThatLieElsewhereAreRefused(t *testing.T) {
	data, err := packer.Set(driftwoodInParts(t))
	require.NoError(t, err)
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	at := bytes.LastIndex(data, []byte(archive.File[0].Name)) - 46 // its record in the list of entries
	for _, size := range []uint32{0xfffffff0, uint32(len(data))} {
		wrong := bytes.Clone(data)
		for _, field := range []int{20, 24} { // compressed and uncompressed
			wrong[at+field], wrong[at+field+1], wrong[at+field+2], wrong[at+field+3] = byte(size), byte(size>>8), byte(size>>16), byte(size>>24)
		}
		_, err := read(wrong)
		var refusal *appfile.Refusal
		require.ErrorAs(t, err, &refusal)
	}
}
