package appfile_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/core/appfile"
)

// The packages of this file are made by Debian's tools: nothing of ours had a
// hand in their bytes.

func tool(t testing.TB, dir, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

func write(t testing.TB, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

func picture(t testing.TB, side int) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, side, side))))
	return b.String()
}

const driftwood = `<?xml version="1.0" encoding="utf-8"?>
<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="example.driftwood" android:versionCode="1207" android:versionName="@string/version">
  <uses-sdk android:minSdkVersion="26" android:targetSdkVersion="34"/>
  <uses-permission android:name="android.permission.NFC"/>
  <uses-feature android:name="android.hardware.nfc" android:required="true"/>
  <uses-feature android:name="android.hardware.camera" android:required="false"/>
  <application android:label="@string/app_name" android:icon="@mipmap/icon" android:debuggable="true">
    <activity android:name=".Help" android:exported="true"><intent-filter><action android:name="android.intent.action.VIEW"/></intent-filter></activity>
    <activity android:name=".Shore" android:exported="true"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity>
  </application>
</manifest>`

// driftwoodPackage is compiled by aapt and signed by apksigner with a key of openssl's.
func driftwoodPackage(t testing.TB) (path, fingerprint string) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "AndroidManifest.xml"), driftwood)
	for folder, name := range map[string]string{"values": "Driftwood", "values-de": "Treibholz",
		"values-b+zh+Hant+TW": "漂流木", "values-pt-rPT": "Madeira"} {
		write(t, filepath.Join(dir, "res", folder, "strings.xml"),
			`<resources><string name="app_name">`+name+`</string></resources>`)
	}
	write(t, filepath.Join(dir, "res/values/more.xml"),
		`<resources><string name="version">12.0.7-béta</string><string name="fare">Fare: %1$s</string><color name="ink">#123456</color></resources>`)
	write(t, filepath.Join(dir, "res/mipmap-mdpi/icon.png"), picture(t, 48))
	write(t, filepath.Join(dir, "res/mipmap-xhdpi/icon.png"), picture(t, 96))
	path = filepath.Join(dir, "d.apk")
	tool(t, dir, "aapt", "package", "-f", "-M", "AndroidManifest.xml", "-S", "res", "-F", path, "-I",
		"/usr/share/android-framework-res/framework-res.apk")
	for _, lib := range []string{"lib/arm64-v8a/libshore.so", "lib/x86_64/libshore.so"} {
		write(t, filepath.Join(dir, lib), "native")
		tool(t, dir, "aapt", "add", path, lib)
	}
	tool(t, dir, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem",
		"-days", "400", "-subj", "/O=Sorane Line/CN=Driftwood release")
	tool(t, dir, "openssl", "pkcs8", "-topk8", "-outform", "DER", "-in", "key.pem", "-out", "key.pk8", "-nocrypt")
	tool(t, dir, "apksigner", "sign", "--key", "key.pk8", "--cert", "cert.pem", "--v1-signing-enabled", "true",
		"--v2-signing-enabled", "true", "--v3-signing-enabled", "true", path)
	says := tool(t, dir, "openssl", "x509", "-in", "cert.pem", "-noout", "-fingerprint", "-sha256")
	_, print, _ := strings.Cut(strings.TrimSpace(says), "=")
	return path, strings.ToLower(strings.ReplaceAll(print, ":", ""))
}

func open(t testing.TB, path string) (*os.File, int64) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	return f, info.Size()
}

func TestAPackageOfDebiansToolsIsReadFieldByField(t *testing.T) {
	path, fingerprint := driftwoodPackage(t)
	f, size := open(t, path)
	p, err := appfile.Read(f, size)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(400*24*time.Hour), p.Signing.Expires, time.Hour)
	p.Signing.Expires = time.Time{}
	require.Equal(t, &appfile.Package{
		Kind: appfile.Android, Platform: "android", ApplicationID: "example.driftwood", Name: "Driftwood",
		VersionName: "12.0.7-béta", VersionCode: "1207",
		MinimumOS: "8.0", MinimumAPI: 26, TargetOS: "14", TargetAPI: 34, ABIs: []string{"arm64-v8a", "x86_64"},
		Launch: "example.driftwood.Shore", Debuggable: true,
		Permissions: []string{"android.permission.NFC"}, Needs: []string{"nfc"}, Languages: []string{"de", "pt-PT",
			"zh-Hant-TW"}, Icon: p.Icon, Parts: p.Parts,
		Signing: &appfile.Signing{Schemes: []string{"v1", "v2", "v3"}, Subject: "CN=Driftwood release,O=Sorane Line",
			Fingerprint: fingerprint},
	}, p)
	icon, media, err := p.ReadIcon(f, size)
	require.NoError(t, err)
	require.Equal(t, "image/png", media)
	shape, err := png.DecodeConfig(bytes.NewReader(icon))
	require.NoError(t, err)
	require.Equal(t, 96, shape.Width, "the sharpest icon is taken")
	texts, err := appfile.ReadTexts(f, size)
	require.NoError(t, err)
	require.Equal(t, appfile.Texts{"app_name": {"": "Driftwood", "de": "Treibholz", "pt-PT": "Madeira",
		"zh-Hant-TW": "漂流木"}, "version": {"": "12.0.7-béta"}, "fare": {"": "Fare: %1$s"}}, texts)
	says := tool(t, "", "aapt", "dump", "badging", path)
	for _, line := range []string{"launchable-activity: name='example.driftwood.Shore'",
		"native-code: 'arm64-v8a' 'x86_64'", "application-debuggable", "targetSdkVersion:'34'"} {
		require.Contains(t, says, line, "aapt reads the same")
	}
}

// secondPackages are compiled by aapt2: as it is, with sparse tables, and with names
// taken away.
func secondPackages(t *testing.T) map[string]string {
	dir := t.TempDir()
	const ns = ` xmlns:android="http://schemas.android.com/apk/res/android" xmlns:aapt="http://schemas.android.com/aapt"`
	for name, text := range map[string]string{
		"AndroidManifest.xml": `<manifest` + ns +
			` package="example.second" android:versionCode="42" android:versionName="2.0-rc.1+build.9"><uses-sdk android:minSdkVersion="26" android:targetSdkVersion="34"/>
			<uses-permission-sdk-23 android:name="android.permission.CAMERA"/><uses-feature android:name="android.hardware.telephony"/>
			<application android:label="@string/app_name" android:icon="@mipmap/icon"><activity android:name=".Main" android:exported="true"/>
			<activity-alias android:name=".Alias" android:targetActivity=".Main" android:exported="true"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity-alias></application></manifest>`,
		"res/mipmap-anydpi-v26/icon.xml": `<adaptive-icon` + ns +
			`><background android:drawable="@drawable/ground"/><foreground><vector android:width="108dp" android:height="108dp" android:viewportWidth="108" android:viewportHeight="108">
			<path android:pathData="M28,60L80,60 72,76 36,76z"><aapt:attr name="android:fillColor"><gradient android:startX="28" android:startY="60" android:endX="80" android:endY="76" android:type="linear"><item android:color="#ffeedd" android:offset="0"/><item android:color="#88ffffff" android:offset="1"/></gradient></aapt:attr></path></vector></foreground><monochrome android:drawable="@drawable/ground"/></adaptive-icon>`,
		"res/drawable/ground.xml": `<vector` + ns +
			` android:width="1dp" android:height="1dp" android:viewportWidth="10" android:viewportHeight="10"><path android:fillColor="@color/sea" android:pathData="M0,0h10v10h-10z"/></vector>`,
		"res/values/all.xml":          `<resources><color name="sea">#1d5a78</color><string name="app_name">Second</string><string name="fare">It\u0027s "one" fare</string><string name="styled">A <b>bold</b> word</string><plurals name="many"><item quantity="other">%d</item></plurals></resources>`,
		"res/values-night/all.xml":    `<resources><color name="sea">#000000</color></resources>`,
		"res/values-de/all.xml":       `<resources><string name="app_name">Zweites</string></resources>`,
		"res/values-zh-rTW/all.xml":   `<resources><string name="app_name">第二</string></resources>`,
		"res/values-sw600dp/all.xml":  `<resources><string name="fare">wide</string><string name="app_name">Second on tablets</string></resources>`,
		"res/values-de-land/wide.xml": `<resources><string name="app_name">Zweites, quer</string></resources>`,
	} {
		write(t, filepath.Join(dir, name), text)
	}
	const framework = "/usr/share/android-framework-res/framework-res.apk"
	tool(t, dir, "aapt2", "compile", "--dir", "res", "-o", "c.zip")
	tool(t, dir, "aapt2", "link", "-o", "plain.apk", "--manifest", "AndroidManifest.xml", "-I", framework, "c.zip")
	tool(t, dir, "aapt2", "link", "--enable-sparse-encoding", "-o", "sparse.apk", "--manifest", "AndroidManifest.xml",
		"-I", framework, "c.zip")
	tool(t, dir, "aapt2", "link", "--proto-format", "-o", "bundled.apk", "--manifest", "AndroidManifest.xml", "-I",
		framework, "c.zip")
	tool(t, dir, "aapt2", "optimize", "--enable-resource-obfuscation", "--enable-resource-path-shortening",
		"--enable-sparse-encoding", "-o", "bare.apk", "plain.apk")
	out := map[string]string{}
	for _, name := range []string{"plain", "sparse", "bare", "bundled"} {
		out[name] = filepath.Join(dir, name+".apk")
	}
	return out
}

func TestPackagesOfTheNewerCompilerAreReadHoweverItIsSet(t *testing.T) {
	paths := secondPackages(t)
	for name, path := range paths {
		f, size := open(t, path)
		p, err := appfile.Read(f, size)
		if name == "bundled" {
			require.ErrorContains(t, err, "the format of app bundles")
			continue
		}
		require.NoError(t, err, name)
		require.Equal(t, &appfile.Package{
			Kind: appfile.Android, Platform: "android", ApplicationID: "example.second", Name: "Second",
			VersionName: "2.0-rc.1+build.9", VersionCode: "42",
			MinimumOS: "8.0", MinimumAPI: 26, TargetOS: "14", TargetAPI: 34, Launch: "example.second.Alias",
			Permissions: []string{"android.permission.CAMERA"}, Needs: []string{"telephony"},
			Languages: []string{"de", "zh-TW"}, Icon: p.Icon, Parts: p.Parts,
		}, p, name)
		svg, _, err := p.ReadIcon(f, size)
		require.NoError(t, err, name)
		wellFormed(t, string(svg))
		for _, part := range []string{`x1="28" y1="60" x2="80" y2="76"`, `stop-color="#ffeedd"`, `fill="#1d5a78"`} {
			require.Contains(t, string(svg), part, name)
		}
		require.Equal(t, 1, strings.Count(string(svg), "#1d5a78"), "what is for one colour alone is not drawn")
		texts, err := appfile.ReadTexts(f, size)
		require.NoError(t, err)
		all := map[string]bool{}
		for _, text := range texts {
			all[text[""]] = true
		}
		require.Equal(t, map[string]bool{"Second": true, `It's one fare`: true, "A bold word": true}, all, name)
		if name != "bare" {
			require.Equal(t, map[string]string{"": "Second", "de": "Zweites", "zh-TW": "第二"}, texts["app_name"],
				"what is for some screens only does not take the place of what is for all")
		}
	}
}

func TestAPartOfAnAppThatIsSplitIsRefusedInWords(t *testing.T) {
	for attribute, says := range map[string]string{`<manifest split="config.xhdpi"|<application`: `one part ("config.xhdpi") of an app`, `<manifest|<application android:isSplitRequired="true"`: "the base of an app that is split"} {
		dir := t.TempDir()
		manifest, application, _ := strings.Cut(attribute, "|")
		write(t, filepath.Join(dir, "AndroidManifest.xml"),
			manifest+` xmlns:android="http://schemas.android.com/apk/res/android" package="example.driftwood" android:versionCode="3">`+application+`/></manifest>`)
		path := filepath.Join(dir, "d.apk")
		tool(t, dir, "aapt", "package", "-f", "-M", "AndroidManifest.xml", "-F", path, "-I",
			"/usr/share/android-framework-res/framework-res.apk")
		f, size := open(t, path)
		_, err := appfile.Read(f, size)
		var refusal *appfile.Refusal
		require.ErrorAs(t, err, &refusal)
		require.Contains(t, refusal.Reason, says)
		require.Contains(t, refusal.Hint, "all packages of the app in one zip")
	}
}

func TestATestPackageSaysWhatItInstruments(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "AndroidManifest.xml"),
		`<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="example.driftwood.test" android:versionCode="3">
  <instrumentation android:name="example.Runner" android:targetPackage="example.driftwood"/><application/></manifest>`)
	path := filepath.Join(dir, "t.apk")
	tool(t, dir, "aapt", "package", "-f", "-M", "AndroidManifest.xml", "-F", path, "-I",
		"/usr/share/android-framework-res/framework-res.apk")
	f, size := open(t, path)
	p, err := appfile.Read(f, size)
	require.NoError(t, err)
	require.Equal(t, appfile.AndroidTest, p.Kind)
	require.Equal(t, "example.driftwood", p.Instruments)
	require.Nil(t, p.Signing)
}

const profileXML = `<?xml version="1.0" encoding="UTF-8"?><plist version="1.0"><dict>
<key>Name</key><string>Tideline ad hoc</string><key>TeamName</key><string>Sorane Line</string><key>TeamIdentifier</key><array><string>SORANE0001</string></array>
<key>ExpirationDate</key><date>2027-03-01T00:00:00Z</date>
<key>ProvisionedDevices</key><array><string>00008110-000A11AA</string><string>00008110-000B22BB</string></array>
<key>Entitlements</key><dict><key>get-task-allow</key><true/><key>aps-environment</key><string>development</string></dict></dict></plist>`

// devicePackage is one whose profile is signed by openssl; how is one more of its words.
func devicePackage(t testing.TB, how string) map[string]string {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "p.plist"), profileXML)
	tool(t, dir, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem",
		"-days", "30", "-subj", "/CN=Profile signer")
	tool(t, dir, "openssl", "smime", "-sign", "-nodetach", "-outform", "DER", "-signer", "cert.pem", "-inkey",
		"key.pem",
		"-in", "p.plist", "-binary", "-out", "p.der", how)
	info := strings.Replace(infoXML, "%s", "iPhoneOS", 1)
	info = strings.Replace(info, "</dict>", `<key>UIDeviceFamily</key><array><integer>1</integer></array><key>CFBundleExecutable</key><string>Tideline</string>
<key>CFBundleIcons</key><dict><key>CFBundlePrimaryIcon</key><dict><key>CFBundleIconFiles</key><array><string>Icon60</string></array></dict></dict></dict>`, 1)
	write(t, filepath.Join(dir, "Info.xml"), info)
	tool(t, dir, "plistutil", "-f", "bin", "-i", "Info.xml", "-o", "Info.plist")
	out := map[string]string{"Payload/Tideline.app/de.lproj/Localizable.strings": "",
		"Payload/Tideline.app/Icon60@2x.png": picture(t, 120),
		"Payload/Tideline.app/Tideline":      string(mach(platformIOS))}
	for entry, file := range map[string]string{"Info.plist": "Info.plist", "embedded.mobileprovision": "p.der"} {
		text, err := os.ReadFile(filepath.Join(dir, file))
		require.NoError(t, err)
		out["Payload/Tideline.app/"+entry] = string(text)
	}
	return out
}

const (
	platformIOS = 2
	platformSim = 7
)

// mach is the head of an arm64 executable with one load command (mach-o/loader.h).
func mach(platform uint32) []byte {
	b := make([]byte, 32+24)
	for i, v := range []uint32{0xfeedfacf, 0x0100000c, 0, 2, 1, 24, 0, 0, 0x32, 24, platform, 0x100000, 0x110000, 0} {
		binary.LittleEndian.PutUint32(b[i*4:], v)
	}
	return b
}

func TestAnIOSDevicePackageIsReadWithItsProfile(t *testing.T) {
	files := devicePackage(t, "-nosmimecap")
	streamed, err := read(zipOf(t, devicePackage(t, "-stream"))) // its lengths stand at the end (X.690, 8.1.3.6)
	require.NoError(t, err)
	p, err := read(zipOf(t, files))
	require.NoError(t, err)
	require.Equal(t, p.Profile, streamed.Profile)
	require.Equal(t, &appfile.Package{
		Kind: appfile.IOSDevice, Platform: "ios", ApplicationID: "example.tideline", VersionName: "3.2.0",
		VersionCode: "61", MinimumOS: "16.0", ABIs: []string{"arm64"},
		Permissions: []string{"NSCameraUsageDescription"}, Forms: []string{"phone"}, Languages: []string{"de"},
		Icon: "Payload/Tideline.app/Icon60@2x.png", Parts: p.Parts,
		Profile: &appfile.Profile{Name: "Tideline ad hoc", Team: "Sorane Line", TeamID: "SORANE0001",
			Expires: time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC),
			Devices: []string{"00008110-000A11AA", "00008110-000B22BB"}, Entitlements: []string{"aps-environment",
				"get-task-allow"}},
	}, p)
	files["Payload/Tideline.app/Tideline"] = string(mach(platformSim))
	_, err = read(zipOf(t, files))
	require.ErrorContains(t, err, "built for the simulator", "the executable itself says so, whatever Info.plist says")
}

func TestAWebBundleIsReadFromItsManifest(t *testing.T) {
	p, err := read(zipOf(t, map[string]string{"index.html": "", "icons/big.png": picture(t, 192),
		"manifest.webmanifest": `{"name": "Tideline", "id": "/example.tideline", "start_url": "./start.html",
		"orientation": "portrait", "lang": "en-GB", "version": "3.2.0+61", "icons": [{"src": "icons/big.png", "sizes": "192x192", "type": "image/png"}, {"src": "../../etc/passwd", "sizes": "512x512"}]}`}))
	require.NoError(t, err)
	require.Equal(t, &appfile.Package{Kind: appfile.Web, Platform: "web", ApplicationID: "example.tideline",
		Name: "Tideline", VersionName: "3.2.0", VersionCode: "61", Launch: "./start.html",
		Rotation: "portrait", Languages: []string{"en-GB"}, Icon: "icons/big.png", Permissions: []string{},
		Parts: p.Parts}, p)
}

func TestAWebBundleNeedsNoMoreThanTheStandardAsksFor(t *testing.T) {
	bundle := func(page string) []byte {
		return zipOf(t, map[string]string{"dist/index.html": page, "dist/icons/192.png": picture(t, 192),
			"dist/site.webmanifest": `{"short_name": "Tide Tables!", "start_url": "/?from=home", "display": "standalone", "icons": [{"src": "/icons/192.png", "sizes": "192x192"}]}`})
	}
	one, err := read(bundle("one"))
	require.NoError(t, err)
	require.Equal(t, "tide-tables", one.ApplicationID)
	require.Equal(t, "dist/icons/192.png", one.Icon)
	require.Regexp(t, `^content-[0-9a-f]{8}$`, one.VersionName)
	again, err := read(bundle("one"))
	require.NoError(t, err)
	require.Equal(t, one.VersionName, again.VersionName, "the same content is the same version, whenever it was zipped")
	other, err := read(bundle("another"))
	require.NoError(t, err)
	require.NotEqual(t, one.VersionName, other.VersionName)
	_, err = read(zipOf(t, map[string]string{"extension/manifest.json": `{"name": "x", "manifest_version": 3}`}))
	require.ErrorContains(t, err, "nor a web app manifest", "other manifests are not taken for one")
}

func TestThePackagesOfTheSampleAppHoldUnderOtherTools(t *testing.T) {
	dir := t.TempDir()
	packages := demotest.Packages(t, demo.Versions[1])
	kinds := map[appfile.Kind]bool{}
	for _, one := range packages {
		p, err := read(one.Data)
		require.NoError(t, err, one.File)
		kinds[p.Kind] = true
		require.Equal(t, demo.ApplicationID, p.ApplicationID)
		require.NotEmpty(t, p.Icon, one.File)
		if p.Kind == appfile.Android {
			path := filepath.Join(dir, "a.apk")
			require.NoError(t, os.WriteFile(path, one.Data, 0o600))
			require.Contains(t, tool(t, dir, "apksigner", "verify", "--verbose", "--min-sdk-version", "30", path),
				"Verified using v2 scheme (APK Signature Scheme v2): true")
			require.Contains(t, tool(t, dir, "aapt", "dump", "badging", path), "application-label-de-DE:'Tideline'")
			require.Equal(t, []string{"de-DE", "pt-PT"}, p.Languages)
		}
	}
	require.Len(t, kinds, 4)
}

// refusesOrReads is what every reader owes every input.
func refusesOrReads(t *testing.T, data []byte) {
	_, err := read(data)
	var refusal *appfile.Refusal
	require.True(t, err == nil || errors.As(err, &refusal), "%v", err)
}

func TestADamagedTableProfileOrProgramIsRefusedOrRead(t *testing.T) {
	path, _ := driftwoodPackage(t)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	manifest, arsc, signature := entry(t, whole, "AndroidManifest.xml"), entry(t, whole, "resources.arsc"),
		entry(t, whole, "META-INF/KEY.RSA")
	device := devicePackage(t, "-nosmimecap")
	for name, c := range map[string]struct {
		data []byte
		in   func(bad string) map[string]string
	}{
		"resource table": {arsc, func(bad string) map[string]string {
			return map[string]string{"AndroidManifest.xml": string(manifest), "resources.arsc": bad}
		}},
		"signature": {signature, func(bad string) map[string]string {
			return map[string]string{"AndroidManifest.xml": string(manifest), "META-INF/CERT.RSA": bad}
		}},
		"profile": {[]byte(device["Payload/Tideline.app/embedded.mobileprovision"]),
			with(device, "Payload/Tideline.app/embedded.mobileprovision")},
		"info": {[]byte(device["Payload/Tideline.app/Info.plist"]),
			with(device, "Payload/Tideline.app/Info.plist")},
		"executable": {mach(platformIOS), with(device, "Payload/Tideline.app/Tideline")},
	} {
		t.Run(name, func(t *testing.T) {
			// each is packed anew: large ones at every other byte or so
			for at := 0; at < len(c.data); at += 1 + len(c.data)/250 {
				bad := bytes.Clone(c.data)
				bad[at] ^= 0xff
				refusesOrReads(t, zipOf(t, c.in(string(bad))))
				if at%7 == 0 {
					refusesOrReads(t, zipOf(t, c.in(string(c.data[:at]))))
				}
			}
		})
	}
}

func with(files map[string]string, name string) func(string) map[string]string {
	return func(bad string) map[string]string {
		out := map[string]string{name: bad}
		for k, v := range files {
			if k != name {
				out[k] = v
			}
		}
		return out
	}
}

func TestASigningBlockIsReadWithinItsBounds(t *testing.T) {
	packages := demotest.Packages(t, demo.Versions[0])
	whole := packages[0].Data
	at := bytes.LastIndex(whole, []byte("APK Sig Block 42"))
	require.Positive(t, at)
	for i := at - 900; i < at+16; i += 3 {
		bad := bytes.Clone(whole)
		bad[i] ^= 0xff
		refusesOrReads(t, bad)
	}
}

func FuzzAResourceTableRefusesOrReads(f *testing.F) {
	packages, err := demo.Packages(demo.Versions[1], time.Now())
	require.NoError(f, err)
	whole := packages[0].Data
	manifest := unzip(f, whole, "AndroidManifest.xml")
	f.Add(unzip(f, whole, "resources.arsc"))
	f.Fuzz(func(t *testing.T, table []byte) {
		data := zipOf(t, map[string]string{"AndroidManifest.xml": string(manifest), "resources.arsc": string(table)})
		refusesOrReads(t, data)
		_, _ = appfile.ReadTexts(bytes.NewReader(data), int64(len(data)))
	})
}

func FuzzADevicePackageRefusesOrReads(f *testing.F) {
	device := devicePackage(f, "-nosmimecap")
	f.Add([]byte(device["Payload/Tideline.app/Info.plist"]),
		[]byte(device["Payload/Tideline.app/embedded.mobileprovision"]), mach(platformIOS))
	f.Fuzz(func(t *testing.T, info, profile, program []byte) {
		refusesOrReads(t, zipOf(t, map[string]string{"Payload/A.app/Info.plist": string(info),
			"Payload/A.app/embedded.mobileprovision": string(profile), "Payload/A.app/Tideline": string(program)}))
	})
}

func FuzzAWebManifestRefusesOrReads(f *testing.F) {
	f.Add(`{"name": "Tideline", "id": "/x", "version": "1+2", "icons": [{"src": "a.png", "sizes": "9x9"}]}`)
	f.Fuzz(func(t *testing.T, manifest string) {
		refusesOrReads(t, zipOf(t, map[string]string{"manifest.webmanifest": manifest, "a.png": "x"}))
	})
}

func FuzzASignatureRefusesOrReads(f *testing.F) {
	packages, err := demo.Packages(demo.Versions[1], time.Now())
	require.NoError(f, err)
	manifest := unzip(f, packages[0].Data, "AndroidManifest.xml")
	f.Add([]byte("x"))
	f.Fuzz(func(t *testing.T, signature []byte) {
		refusesOrReads(t, zipOf(t, map[string]string{"AndroidManifest.xml": string(manifest),
			"META-INF/CERT.RSA": string(signature)}))
	})
}
