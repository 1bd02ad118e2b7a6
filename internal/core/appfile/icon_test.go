package appfile_test

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"hash/crc32"
	"image/color"
	"image/png"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"yamato/internal/core/appfile"
)

// drawnPackage is compiled by aapt from an adaptive icon's layers and what they refer to.
func drawnPackage(t testing.TB, files map[string]string) string {
	dir := t.TempDir()
	const ns = ` xmlns:android="http://schemas.android.com/apk/res/android"`
	write(t, filepath.Join(dir, "AndroidManifest.xml"),
		`<manifest`+ns+` package="example.drawn" android:versionCode="1" android:versionName="1"><uses-sdk android:minSdkVersion="26"/><application android:label="Drawn" android:icon="@drawable/icon"/></manifest>`)
	for name, text := range files {
		write(t, filepath.Join(dir, "res", name), strings.Replace(text, " NS", ns, 1))
	}
	path := filepath.Join(dir, "d.apk")
	tool(t, dir, "aapt", "package", "-f", "-M", "AndroidManifest.xml", "-S", "res", "-F", path, "-I",
		"/usr/share/android-framework-res/framework-res.apk")
	return path
}

func iconOf(t testing.TB, path string) (*appfile.Package, string, error) {
	t.Helper()
	f, size := open(t, path)
	p, err := appfile.Read(f, size)
	require.NoError(t, err)
	icon, media, err := p.ReadIcon(f, size)
	if err == nil {
		require.Equal(t, "image/svg+xml", media)
	}
	return p, string(icon), err
}

func wellFormed(t testing.TB, text string) {
	t.Helper()
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		if _, err := d.Token(); err == io.EOF {
			return
		} else {
			require.NoError(t, err, text)
		}
	}
}

func TestAnIconDrawnInXMLBecomesSVG(t *testing.T) {
	path := drawnPackage(t, map[string]string{
		"drawable/icon.xml":   `<adaptive-icon NS><background android:drawable="@drawable/ground"/><foreground android:drawable="@drawable/ship"/></adaptive-icon>`,
		"drawable/ground.xml": `<shape NS><gradient android:startColor="#ff0a2030" android:endColor="@color/sea" android:angle="270"/></shape>`,
		"values/colours.xml":  `<resources><color name="sea">#ff1d5a78</color><string name="hull">M20,60 L88,60 78,80 30,80z</string></resources>`,
		"color/sun.xml":       `<gradient NS android:type="radial" android:centerX="54" android:centerY="40" android:gradientRadius="12"><item android:offset="0" android:color="#ffffee00"/><item android:offset="1" android:color="#80ff8800"/></gradient>`,
		"drawable/ship.xml": `<vector NS android:width="108dp" android:height="108dp" android:viewportWidth="108" android:viewportHeight="108">
			<path android:fillColor="#fff7f4ec" android:pathData="@string/hull"/>
			<group android:pivotX="54" android:pivotY="54" android:rotation="15" android:translateX="2.5">
				<clip-path android:pathData="M0,0h108v50h-108z"/>
				<path android:strokeColor="@android:color/white" android:strokeWidth="3" android:strokeLineCap="round" android:fillAlpha="0.5" android:fillColor="@color/sea" android:fillType="evenOdd" android:pathData="M54,20v40"/>
			</group>
			<path android:fillColor="?android:attr/colorAccent" android:pathData="M1,1h2v2z"/>
			<path android:fillColor="@color/sun" android:pathData="M42,40a12,12 0 1,0 24,0z"/>
			<path android:fillColor="#fff" android:pathData="M0,0&quot;/&gt;&lt;script&gt;alert(1)&lt;/script&gt;"/>
		</vector>`,
	})
	p, svg, err := iconOf(t, path)
	require.NoError(t, err)
	require.Contains(t, p.Icon, "icon.xml")
	wellFormed(t, svg)
	for _, part := range []string{
		`viewBox="18 18 72 72"`, `x1="0.5" y1="0" x2="0.5" y2="1"`, `stop-color="#0a2030"`, `stop-color="#1d5a78"`,
		`<path d="M20,60 L88,60 78,80 30,80z" fill="#f7f4ec" fill-opacity="1"/>`,
		`translate(56.5 54) rotate(15) scale(1 1) translate(-54 -54)`,
		`clip-path="url(#`, `fill="#1d5a78" fill-opacity="0.5" fill-rule="evenodd" stroke="#ffffff" stroke-opacity="1" stroke-width="3" stroke-linecap="round"`,
		`<radialGradient`, `cx="54" cy="40" r="12"`, `stop-color="#ff8800" stop-opacity="0.501961"`,
		`<path d="M1,1h2v2z" fill="#808080"`,
	} {
		require.Contains(t, svg, part)
	}
	require.NotContains(t, svg, "script", "nothing of a package becomes markup")
}

func TestLayersOfAnIconMayBePicturesColoursAndInsets(t *testing.T) {
	path := drawnPackage(t, map[string]string{
		"drawable/icon.xml":    `<adaptive-icon NS><background android:drawable="@color/sea"/><foreground><inset android:drawable="@mipmap/ship" android:inset="25%"/></foreground></adaptive-icon>`,
		"values/more.xml":      `<resources><color name="sea">#ff1d5a78</color></resources>`,
		"mipmap-mdpi/ship.png": picture(t, 48), "mipmap-xxhdpi/ship.png": picture(t, 144),
	})
	_, svg, err := iconOf(t, path)
	require.NoError(t, err)
	wellFormed(t, svg)
	require.Contains(t, svg, `<rect width="108" height="108" fill="#1d5a78" fill-opacity="1"/>`)
	require.Contains(t, svg, `translate(27 27) scale(0.5 0.5)`)
	require.Contains(t, svg, `href="data:image/png;base64,`)
}

func TestDrawingsThatReferToEachOtherComeToAnEnd(t *testing.T) {
	items := strings.Repeat(`<item android:drawable="@drawable/again"/>`, 40)
	path := drawnPackage(t, map[string]string{"drawable/icon.xml": `<layer-list NS>` + items + `</layer-list>`,
		"drawable/again.xml": `<layer-list NS>` + items + `</layer-list>`})
	_, _, err := iconOf(t, path)
	require.ErrorContains(t, err, "more than")
}

// applePNG writes a picture as Apple's packaging does.
func applePNG(w, h int, at func(x, y int) color.NRGBA) []byte {
	var rows bytes.Buffer
	z, _ := flate.NewWriter(&rows, flate.BestCompression)
	for y := range h {
		_, _ = z.Write([]byte{0})
		for x := range w {
			c := at(x, y)
			of := func(v uint8) byte { return byte((int(v)*int(c.A) + 127) / 255) }
			_, _ = z.Write([]byte{of(c.B), of(c.G), of(c.R), c.A})
		}
	}
	_ = z.Close()
	out := bytes.NewBufferString("\x89PNG\r\n\x1a\n")
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(w)), uint32(h))
	half := rows.Len() / 2
	for _, c := range []struct {
		name string
		body []byte
	}{{"CgBI", []byte{0x50, 0, 0x20, 2}}, {"IHDR", append(head, 8, 6, 0, 0, 0)}, {"IDAT", rows.Bytes()[:half]},
		{"IDAT", rows.Bytes()[half:]}, {"IEND", nil}} {
		out.Write(binary.BigEndian.AppendUint32(nil, uint32(len(c.body))))
		chunk := append([]byte(c.name), c.body...)
		out.Write(chunk)
		out.Write(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(chunk)))
	}
	return out.Bytes()
}

func iosWithIcon(t testing.TB, icon []byte) []byte {
	info, err := plist.Marshal(map[string]any{"CFBundleIdentifier": "example.kite", "CFBundleShortVersionString": "1.0",
		"CFBundleVersion": "7", "MinimumOSVersion": "16.0", "CFBundleSupportedPlatforms": []string{"iPhoneSimulator"},
		"CFBundleIcons~ipad": map[string]any{"CFBundlePrimaryIcon": map[string]any{"CFBundleIconFiles": []string{"AppIcon76x76"}}}}, plist.XMLFormat)
	require.NoError(t, err)
	return zipOf(t, map[string]string{"Kite.app/Info.plist": string(info),
		"Kite.app/AppIcon76x76@2x~ipad.png": string(icon)})
}

func TestAnIconInApplesKindOfPNGIsConverted(t *testing.T) {
	want := func(x, y int) color.NRGBA {
		return color.NRGBA{R: uint8(200 + x), G: uint8(10 * y), B: 30, A: []uint8{255, 128, 0}[x%3]}
	}
	data := iosWithIcon(t, applePNG(12, 9, want))
	p, err := appfile.Read(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	icon, media, err := p.ReadIcon(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	require.Equal(t, "image/png", media)
	got, err := png.Decode(bytes.NewReader(icon))
	require.NoError(t, err)
	for y := range 9 {
		for x := range 12 {
			a, b := want(x, y), color.NRGBAModel.Convert(got.At(x, y)).(color.NRGBA)
			require.Equal(t, a.A, b.A)
			for _, pair := range [][2]uint8{{a.R, b.R}, {a.G, b.G}, {a.B, b.B}} {
				if a.A > 0 {
					require.InDelta(t, pair[0], pair[1], 2, "at %d, %d", x, y)
				}
			}
		}
	}
}

func TestADamagedIconIsRefusedAndTheRestIsRead(t *testing.T) {
	whole := applePNG(5, 5, func(int, int) color.NRGBA { return color.NRGBA{A: 255} })
	for i, bad := range [][]byte{whole[:20], whole[:60], append(bytes.Clone(whole[:70]), 0xff),
		bytes.Replace(whole, []byte{0, 0, 0, 5, 0, 0, 0, 5}, []byte{0, 1, 0, 0, 0, 1, 0, 0}, 1), []byte("GIF89a")} {
		data := iosWithIcon(t, bad)
		p, err := appfile.Read(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err, fmt.Sprint(i))
		_, _, err = p.ReadIcon(bytes.NewReader(data), int64(len(data)))
		require.Error(t, err, fmt.Sprint(i))
	}
}

func FuzzDrawing(f *testing.F) {
	path := drawnPackage(f, map[string]string{"drawable/icon.xml": `<adaptive-icon NS><background android:drawable="@android:color/white"/><foreground><vector android:viewportWidth="9" android:viewportHeight="9"><group android:rotation="4"><path android:fillColor="#123" android:pathData="M1,1h2z"/></group></vector></foreground></adaptive-icon>`})
	file, size := open(f, path)
	whole := make([]byte, size)
	_, err := io.ReadFull(file, whole)
	require.NoError(f, err)
	p, err := appfile.Read(bytes.NewReader(whole), size)
	require.NoError(f, err)
	manifest, table := unzip(f, whole, "AndroidManifest.xml"), unzip(f, whole, "resources.arsc")
	f.Add(unzip(f, whole, p.Icon))
	f.Fuzz(func(t *testing.T, drawing []byte) {
		data := zipOf(t, map[string]string{"AndroidManifest.xml": string(manifest), "resources.arsc": string(table),
			p.Icon: string(drawing)})
		if svg, _, err := p.ReadIcon(bytes.NewReader(data), int64(len(data))); err == nil {
			wellFormed(t, string(svg))
		}
	})
}
