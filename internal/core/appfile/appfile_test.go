package appfile_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
)

func read(data []byte) (*appfile.Package, error) {
	return appfile.Read(bytes.NewReader(data), int64(len(data)))
}

func zipOf(t testing.TB, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, text := range files {
		// thousands are made; packing them would be most of the work
		f, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

var sample = demo.App{ID: "example.tideline", Name: "Tideline", Version: demo.Version{Name: "3.2.0", Code: 61},
	MinimumAPI: 30, MinimumIOS: "16.0",
	Permissions: []string{"android.permission.INTERNET", "android.permission.CAMERA"},
	Program:     []byte("os.show(() => ui.text({text: 'x'}))")}

func TestAnAndroidPackageIsReadFromItsBinaryManifest(t *testing.T) {
	data, err := demo.PackAndroid(sample)
	require.NoError(t, err)
	p, err := read(data)
	require.NoError(t, err)
	require.Equal(t, &appfile.Package{Kind: appfile.Android, Platform: "android", ApplicationID: "example.tideline",
		Name: "Tideline", VersionName: "3.2.0", VersionCode: "61",
		MinimumOS: "11", MinimumAPI: 30, TargetOS: "15", TargetAPI: 35, Launch: "example.tideline.Main",
		Permissions: []string{"android.permission.CAMERA", "android.permission.INTERNET"},
		Program:     appfile.ProgramAndroid,
		Parts:       p.Parts}, p)
	program, err := p.ReadProgram(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	require.Equal(t, sample.Program, program)
}

func TestADebianToolReadsOurPackagesAsWeDo(t *testing.T) {
	data, err := demo.PackAndroid(sample)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "a.apk")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	out, err := exec.Command("aapt", "dump", "badging", path).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, says := range []string{"package: name='example.tideline' versionCode='61' versionName='3.2.0'",
		"sdkVersion:'30'", "uses-permission: name='android.permission.CAMERA'",
		"launchable-activity: name='example.tideline.Main'"} {
		require.Contains(t, string(out), says)
	}
}

func TestAPackageThatADebianToolMadeIsRead(t *testing.T) {
	dir := t.TempDir()
	manifest := filepath.Join(dir, "AndroidManifest.xml")
	require.NoError(t, os.WriteFile(manifest, []byte(`<?xml version="1.0" encoding="utf-8"?>
<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="example.driftwood" android:versionCode="1207" android:versionName="12.0.7-béta">
  <uses-sdk android:minSdkVersion="33" android:targetSdkVersion="34"/>
  <uses-permission android:name="android.permission.CAMERA"/>
  <uses-permission android:name="android.permission.NFC"/>
  <application android:label="Driftwood"><activity android:name=".Main"/></application>
</manifest>`), 0o600))
	path := filepath.Join(dir, "b.apk")
	out, err := exec.Command("aapt", "package", "-f", "-M", manifest, "-F", path, "-I",
		"/usr/share/android-framework-res/framework-res.apk").CombinedOutput()
	require.NoError(t, err, "%s", out)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	p, err := read(data)
	require.NoError(t, err)
	require.Equal(t, "example.driftwood", p.ApplicationID)
	require.Equal(t, "12.0.7-béta", p.VersionName)
	require.Equal(t, "1207", p.VersionCode)
	require.Equal(t, "13", p.MinimumOS)
	require.Equal(t, []string{"android.permission.CAMERA", "android.permission.NFC"}, p.Permissions)
}

const infoXML = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0"><dict>
<key>CFBundleIdentifier</key><string>example.tideline</string>
<key>CFBundleShortVersionString</key><string>3.2.0</string>
<key>CFBundleVersion</key><string>61</string>
<key>CFBundleSupportedPlatforms</key><array><string>%s</string></array>
<key>MinimumOSVersion</key><string>16.0</string>
<key>NSCameraUsageDescription</key><string>To scan tickets</string>
</dict></plist>`

func TestAnIOSSimulatorAppIsReadFromXMLAndFromBinaryPropertyLists(t *testing.T) {
	text := fmt.Sprintf(infoXML, "iPhoneSimulator")
	cmd := exec.Command("plistutil", "-f", "bin", "-i", "-", "-o", "-")
	cmd.Stdin = strings.NewReader(text)
	binaryList, err := cmd.Output()
	require.NoError(t, err, "plistutil makes the binary list")
	require.True(t, bytes.HasPrefix(binaryList, []byte("bplist00")))
	for _, info := range []string{text, string(binaryList)} {
		p, err := read(zipOf(t, map[string]string{"Tideline.app/Info.plist": info, "Tideline.app/standin/app.js": "1",
			"__MACOSX/Tideline.app/._Info.plist": "junk"}))
		require.NoError(t, err)
		require.Equal(t, &appfile.Package{Kind: appfile.Simulator, Platform: "ios", ApplicationID: "example.tideline",
			VersionName: "3.2.0", VersionCode: "61",
			MinimumOS: "16.0", Permissions: []string{"NSCameraUsageDescription"},
			Program:   "Tideline.app/standin/app.js",
			Languages: []string{}, Parts: p.Parts}, p)
	}
	packed, err := demo.PackSimulator(sample)
	require.NoError(t, err)
	p, err := read(packed)
	require.NoError(t, err)
	require.Equal(t, "61", p.VersionCode)
	p, err = read(zipOf(t, map[string]string{"Debug-iphonesimulator/Tideline.app/Info.plist": fmt.Sprintf(infoXML,
		"iPhoneSimulator"), "Debug-iphonesimulator/Tideline.app/standin/app.js": "1"}))
	require.NoError(t, err, "in the folder that was zipped")
	require.Equal(t, "Debug-iphonesimulator/Tideline.app/standin/app.js", p.Program)
}

func TestWhatIsNoPackageIsRefusedWithAReason(t *testing.T) {
	whole, err := demo.PackAndroid(sample)
	require.NoError(t, err)
	info := fmt.Sprintf(infoXML, "iPhoneSimulator")
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"empty":           {nil, "too short"},
		"not a zip":       {[]byte(strings.Repeat("hello ", 20)), "not a zip archive"},
		"cut short":       {whole[:len(whole)-40], "cut short"},
		"an ordinary zip": {zipOf(t, map[string]string{"readme.txt": "x"}), "neither an AndroidManifest.xml, nor"},
		"an app bundle": {zipOf(t, map[string]string{"BundleConfig.pb": "x",
			"base/manifest/AndroidManifest.xml": "x"}), "an Android app bundle"},
		"an archive of a build": {zipOf(t, map[string]string{"K.xcarchive/Products/Applications/K.app/Info.plist": info}),
			"an archive of a build"},
		"symbols": {zipOf(t, map[string]string{"K.app.dSYM/Contents/Info.plist": info}),
			"symbols for debugging"},
		"a set of parts that are none": {zipOf(t, map[string]string{"base.apk": "x", "config.apk": "x", "toc.pb": "x"}),
			"too short to be a package"},
		"plain text manifest": {zipOf(t, map[string]string{"AndroidManifest.xml": "<manifest/>"}), "plain text"},
		"empty manifest":      {zipOf(t, map[string]string{"AndroidManifest.xml": ""}), "not binary XML"},
		"both": {zipOf(t, map[string]string{"AndroidManifest.xml": "", "A.app/Info.plist": info}),
			"both an Android manifest and an iOS app"},
		"two apps": {zipOf(t, map[string]string{"A.app/Info.plist": info, "B.app/Info.plist": info}),
			"holds 2 apps"},
		"a device build": {zipOf(t, map[string]string{"A.app/Info.plist": fmt.Sprintf(infoXML, "iPhoneOS")}),
			"not for the simulator"},
		"a device package": {zipOf(t, map[string]string{"Payload/A.app/Info.plist": info}),
			"built for iPhoneSimulator, not for real devices"},
		"a web app without a name": {zipOf(t, map[string]string{"manifest.webmanifest": "{}"}),
			"neither name nor short_name"},
		"a web app without an id": {zipOf(t, map[string]string{"manifest.webmanifest": `{"name": "…"}`}),
			"states no id"},
		"a web app that is text": {zipOf(t, map[string]string{"manifest.webmanifest": "hello"}),
			"no web app manifest"},
		"a web app of no version": {zipOf(t,
			map[string]string{"manifest.webmanifest": `{"name": "A", "id": "a", "version": "the third"}`}),
			"written as in 3.2.0+61"},
		"a list that stands twice": {twice(t, "A.app/Info.plist", info), "stands twice"},
		"a profile that is none": {zipOf(t, map[string]string{"Payload/A.app/Info.plist": fmt.Sprintf(infoXML,
			"iPhoneOS"), "Payload/A.app/embedded.mobileprovision": "x"}), "no signed message"},
		"a table that is none": {pack(t, func(a *demo.App) {
			a.Extra = map[string][]byte{"resources.arsc": []byte("not a table at all")}
		}), "resources.arsc is damaged at byte 0"},
		"a signature that is none": {pack(t, func(a *demo.App) {
			a.Extra = map[string][]byte{"META-INF/CERT.RSA": []byte("x")}
		}), "is no signature"},
		"a list that is none": {zipOf(t, map[string]string{"A.app/Info.plist": "hello"}),
			"neither an XML nor a binary property list"},
		"a list without id": {zipOf(t, map[string]string{"A.app/Info.plist": `<plist><dict/></plist>`}),
			"CFBundleIdentifier"},
		"a bomb": {zipOf(t, map[string]string{"AndroidManifest.xml": strings.Repeat("\x00", 5<<20)}),
			"larger than the 4 MB"},
		"an id that is no id":      {pack(t, func(a *demo.App) { a.ID = "../../etc" }), "which no device would take"},
		"a version out of control": {pack(t, func(a *demo.App) { a.Version.Name = "3\x1b[31m" }), "cannot be shown"},
	} {
		_, err := read(c.data)
		var refusal *appfile.Refusal
		require.ErrorAs(t, err, &refusal, name)
		require.Contains(t, refusal.Reason, c.says, name)
	}
}

func twice(t *testing.T, name, text string) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for range 2 {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func pack(t *testing.T, change func(*demo.App)) []byte {
	a := sample
	change(&a)
	data, err := demo.PackAndroid(a)
	require.NoError(t, err)
	return data
}

func TestADamagedManifestIsRefusedAtAnyByte(t *testing.T) {
	whole, err := demo.PackAndroid(sample)
	require.NoError(t, err)
	manifest := entry(t, whole, "AndroidManifest.xml")
	for at := range manifest {
		for _, b := range []byte{0x00, 0xff, manifest[at] ^ 0x80} {
			bad := bytes.Clone(manifest)
			bad[at] = b
			_, err := read(zipOf(t, map[string]string{"AndroidManifest.xml": string(bad)}))
			var refusal *appfile.Refusal
			require.True(t, err == nil || errors.As(err, &refusal), "byte %d: %v", at, err)
		}
	}
	for cut := range manifest {
		_, err := read(zipOf(t, map[string]string{"AndroidManifest.xml": string(manifest[:cut])}))
		require.Error(t, err, "cut at %d", cut)
	}
}

func entry(t *testing.T, data []byte, name string) []byte { return unzip(t, data, name) }

func unzip(t testing.TB, data []byte, name string) []byte {
	t.Helper()
	r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	f, err := r.Open(name)
	require.NoError(t, err)
	defer f.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(f)
	require.NoError(t, err)
	return b.Bytes()
}

func TestAListOfEntriesThatClaimsMillionsTakesNoMemory(t *testing.T) {
	const entries = 700_000
	record := make([]byte, 46)
	binary.LittleEndian.PutUint32(record, 0x02014b50)
	data := append([]byte("PK\x03\x04"), bytes.Repeat(record, entries)...)
	end := make([]byte, 22)
	binary.LittleEndian.PutUint32(end, 0x06054b50)
	binary.LittleEndian.PutUint16(end[10:], entries%65536)
	binary.LittleEndian.PutUint32(end[12:], uint32(len(data)-4))
	binary.LittleEndian.PutUint32(end[16:], 4)
	data = append(data, end...)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err := read(data)
	runtime.ReadMemStats(&after)
	require.ErrorContains(t, err, "list of entries takes")
	require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20))
}

func FuzzReadRefusesOrReadsAndNothingElse(f *testing.F) {
	whole, err := demo.PackAndroid(sample)
	require.NoError(f, err)
	simulator, err := demo.PackSimulator(sample)
	require.NoError(f, err)
	f.Add(whole)
	f.Add(simulator)
	f.Add(zipOf(f, map[string]string{"base.apk": string(whole), "split_config.de.apk": string(whole)}))
	part := sample
	part.Split = "config.de"
	split, err := demo.PackAndroid(part)
	require.NoError(f, err)
	f.Add(zipOf(f, map[string]string{"base.apk": string(whole), "split_config.de.apk": string(split)}))
	f.Add(zipOf(f, map[string]string{"A.app/Info.plist": fmt.Sprintf(infoXML, "iPhoneSimulator")}))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := read(data)
		var refusal *appfile.Refusal
		require.True(t, err == nil || errors.As(err, &refusal), "%v", err)
		if err != nil || len(p.Splits) == 0 {
			return
		}
		_, _ = appfile.ReadTexts(bytes.NewReader(data), int64(len(data)))
		_, _ = p.ReadProgram(bytes.NewReader(data), int64(len(data)))
		chosen, _ := p.Choose([]string{"x86_64"}, 320)
		for _, s := range chosen {
			_, err := appfile.OpenSplit(bytes.NewReader(data), int64(len(data)), s)
			require.NoError(t, err, "what was read can be handed on")
		}
	})
}

func FuzzAManifestRefusesOrReads(f *testing.F) {
	whole, err := demo.PackAndroid(sample)
	require.NoError(f, err)
	f.Add(unzip(f, whole, "AndroidManifest.xml"))
	f.Fuzz(func(t *testing.T, manifest []byte) {
		_, err := read(zipOf(t, map[string]string{"AndroidManifest.xml": string(manifest)}))
		var refusal *appfile.Refusal
		require.True(t, err == nil || errors.As(err, &refusal), "%v", err)
	})
}
