package script

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/screen"
)

// worn are ways in which pages, programs and protocols write a value.
var worn = map[string]func(string) string{
	"as it is":         func(s string) string { return s },
	"in capitals":      strings.ToUpper,
	"in small letters": strings.ToLower,
	"an address":       url.PathEscape,
	"a form":           url.QueryEscape,
	"twice encoded":    func(s string) string { return url.QueryEscape(url.QueryEscape(s)) },
	"small escapes":    func(s string) string { return strings.ToLower(url.QueryEscape(s)) },
	"each byte": func(s string) (out string) {
		for _, b := range []byte(s) {
			out += fmt.Sprintf("%%%02X", b)
		}
		return out
	},
	"HTML": html.EscapeString,
	"HTML in numbers": func(s string) (out string) {
		for _, r := range s {
			out += fmt.Sprintf("&#%d;", r)
		}
		return out
	},
	"HTML in hexadecimal": func(s string) (out string) {
		for _, r := range s {
			out += fmt.Sprintf("&#x%X;", r)
		}
		return out
	},
	"JSON":         func(s string) string { b, _ := json.Marshal(s); return string(b) },
	"JSON in JSON": func(s string) string { b, _ := json.Marshal(s); b, _ = json.Marshal(string(b)); return string(b) },
	"JavaScript": func(s string) (out string) {
		for _, r := range s {
			if r < 0x10000 {
				out += fmt.Sprintf("\\u%04x", r)
			} else {
				out += string(r)
			}
		}
		return out
	},
	"base64":       func(s string) string { return base64.StdEncoding.EncodeToString([]byte("user:" + s)) },
	"base64 moved": func(s string) string { return base64.StdEncoding.EncodeToString([]byte("u:" + s + "&x")) },
	"base64 for addresses": func(s string) string {
		return base64.RawURLEncoding.EncodeToString([]byte(`{"p":"` + s +
			`"}`))
	},
	"hexadecimal": func(s string) string { return hex.EncodeToString([]byte(s)) },
	"wide blanks": func(s string) string { return strings.ReplaceAll(s, " ", "\u00a0 ") },
}

func TestASecretIsHiddenInEveryDress(t *testing.T) {
	for _, secret := range []string{`pä$s/"w'ö<r>&d +1`, "correct horse battery", `back\slash\\9`, "日本語の合言葉",
		"🔑🗝️key=9%", "(a+b)*[c]{2}^$|.?"} {
		m := NewMask(map[string]string{"pin": secret}, nil)
		for dress, wear := range worn {
			text := "before " + wear(secret) + " after"
			got := m.Text(text)
			require.Contains(t, got, `[secret "pin"]`, "%s of %q: %s", dress, secret, text)
			if !strings.HasPrefix(dress, "base64") { // of that the ends that neighbours have a part in stay
				require.Equal(t, "before", strings.Fields(got)[0])
				require.NotContains(t, strings.ToLower(got), strings.ToLower(wear(secret)), "%s of %q", dress, secret)
			}
		}
		half := len([]rune(secret)) / 2
		lines := m.Lines([]string{"first " + string([]rune(secret)[:half]), string([]rune(secret)[half:]) + " second",
			"third"})
		require.Equal(t, []string{`first [secret "pin"]`, `[secret "pin"] second`, "third"}, lines)
		tree := m.Tree(&screen.Tree{Root: &screen.Node{ID: "field-" + secret, Name: secret,
			Text: strings.ToUpper(secret)}})
		require.NotContains(t, drawnOf(tree), secret)
	}
	long := strings.Repeat("abcdefghi-", 60)
	require.NotContains(t, NewMask(map[string]string{"pin": long}, nil).Text(url.QueryEscape(long)+"x"), "abcdefghi")
	require.Equal(t, "pass and word", NewMask(map[string]string{"pin": "password"}, nil).Text("pass and word"))
}

func drawnOf(t *screen.Tree) string { return fmt.Sprintf("%+v", *t.Root) }

func TestWhatIsHiddenLeavesTheRestAsItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret := rapid.StringMatching(`[a-z0-9$&/ "<]{6,14}`).Filter(func(s string) bool {
			return strings.TrimFunc(s, unicode.IsSpace) == s && !strings.Contains(s, "  ")
		}).Draw(t, "secret")
		before, after := rapid.StringMatching(`[A-Z]{0,5}:`).Draw(t, "before"),
			rapid.StringMatching(`:[A-Z]{0,5}`).Draw(t, "after")
		for _, dress := range []string{"as it is", "a form", "HTML", "an address"} {
			got := NewMask(map[string]string{"s": secret}, nil).Text(before + worn[dress](secret) + after)
			require.Equal(t, before+`[secret "s"]`+after, got)
		}
	})
}
