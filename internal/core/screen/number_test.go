package screen

import (
	"fmt"
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"golang.org/x/text/number"
	"pgregory.net/rapid"
)

func TestNumbersAreReadInTheLanguageOfTheDevice(t *testing.T) {
	for language, texts := range map[string]map[string]string{
		"en-GB": {
			"€12.60": "12.6", "£1,234.50": "1234.5", "−3 °C": "-3", "Total: 7": "7", "3.": "3",
			"1,234,567":   "1234567",
			"20000000.01": "20000000.01", "4000000001": "4000000001", "−€3.50": "-3.5", "-€3.50": "-3.5",
			"€-3.50": "-3.5",
			"EUR 5":  "5", "-EUR 5.25": "-5.25", "US$5": "5", "(€3.50)": "-3.5", "Inbox (3)": "3", "50%": "50",
			"-50 %": "-50",
			".5":    "0.5", "-.5": "-0.5", "1½": "1.5", "½": "0.5", "2 ¼ cups": "2.25", "5kg": "5", "12 m²": "12",
			"No. 5": "5",
			"No.5":  "5", "Sora – 5 plants": "5", "+7": "7", "–5 °C": "-5", "€5/month": "5", "1.5.": "1.5",
			"٣": "3", "５": "5",
			"Total:5": "5", "#5": "5", "0.10": "0.1", "007": "7", "5 of them": "5", "5 plants": "5", "You may 5": "5",
			"\u200e-5": "-5", "5!": "5", "5…": "5",
		},
		"de-DE": {
			"12,60 €": "12.6", "1.234,50 €": "1234.5", "1.234": "1234", ",5": "0.5", "-3,50\u00a0€": "-3.5",
			"−12 %":  "-12",
			"12,- €": "12", "12,– €": "12", "Gleis 3": "3", "EUR 5": "5",
		},
		"pt-PT": {"1\u00a0234,5": "1234.5", "1.234,50 €": "1234.5", "1\u202f234\u202f567": "1234567", "50%": "50"},
		"de-CH": {"1’234.50": "1234.5", "1'234.50": "1234.5", "CHF 5.00": "5"},
		"en-IN": {"12,34,567": "1234567"},
		"sv":    {"−5": "-5", "1\u00a0000,5": "1000.5", "5 kr": "5", "5kr": "5"},
		"fa":    {"۱۲۳٬۴۵۶٫۵": "123456.5"},
		"":      {"1,234.5": "1234.5"},
	} {
		for text, want := range texts {
			got, err := Number(text, language)
			require.NoError(t, err, "%q in %q", text, language)
			exact, _ := new(big.Rat).SetString(want)
			require.Zero(t, exact.Cmp(got), "%q in %q is %s", text, language, got.FloatString(6))
		}
	}
}

func TestWhatIsNoSingleNumberIsRefusedAndNeverGuessed(t *testing.T) {
	for language, texts := range map[string][]string{
		"en-GB": {
			"3 of 5", "2026-11-25", "2026-11", "25/11/2026", "10:30", `5'6"`, "none", "", "Bed B-12", "B12", "COVID-19",
			"1,50", "1.234.567",
			"12,34,567", ",5", "1-800-5", "5-6", "5–6", "1e5", "0x1F", "12A", "3rd", "5th", "1.2k", "3M",
			"2 million", "99+",
			"~5", "< 5", "±0.5",
			"(3)", "25 November", "May 5", "5²", "①", "Ⅷ", "3.2.0", "192.168.1.1", "0,123", "Balance - 5", "5-",
			"1 234",
			"A-$5", "5-day", "½ or ¼", "3.50- €", "+/-3", "--5", ">= 5", "5– ",
			strings.Repeat("9", 61), strings.Repeat("x", 3000) + "5",
		},
		"de-DE": {"12.50", "25.11.2026", "25. November", "1,234,5", ".5", "2 Mio. €", "1.2.3", "Seite 3 von 5"},
		"pt-PT": {"12.50", "5 de novembro de 2026", "2 mil"},
	} {
		for _, text := range texts {
			got, err := Number(text, language)
			require.Error(t, err, "%q in %s was read as %v", text, language, got)
		}
	}
}

// What CLDR writes is read back exactly, in every language that the package knows.
func TestWhatALanguageWritesIsReadBackExactly(t *testing.T) {
	languages := []string{"en-GB", "de-DE", "pt-PT", "pt-BR", "fr-FR", "sv", "nb", "de-CH", "de-AT", "hi", "en-IN",
		"es",
		"pl", "ja", "fa", "ar-EG", "he", "it", "nl"}
	rapid.Check(t, func(t *rapid.T) {
		tag := rapid.SampledFrom(languages).Draw(t, "language")
		whole, cents := rapid.Int64Range(-1e12, 1e12).Draw(t, "whole"), rapid.Int64Range(0, 99).Draw(t, "cents")
		value := big.NewRat(whole*100+cents, 100)
		f, _ := value.Float64()
		text := message.NewPrinter(language.Make(tag)).Sprint(number.Decimal(f, number.Scale(2)))
		got, err := Number(text, tag)
		if err != nil || got.Cmp(value) != 0 {
			t.Fatalf("%q in %s is %v (%v), not %s", text, tag, got, err, value.FloatString(2))
		}
	})
}

func TestABareNumberStandsAlone(t *testing.T) {
	for _, text := range []string{"5", " 5 ", "5.0", "-5", "1,234"} {
		_, err := BareNumber(text, "en-GB")
		require.NoError(t, err, text)
	}
	for _, text := range []string{"5 plants", "€5", "5%", "Total: 5", "5.", "(5)"} {
		_, err := BareNumber(text, "en-GB")
		require.Error(t, err, text)
	}
}

func ExampleNumber() {
	for _, text := range []string{"1.234,50 €", "Kai B-12"} {
		n, err := Number(text, "de-DE")
		fmt.Println(n, err)
	}
	// Output:
	// 2469/2 <nil>
	// <nil> 12 belongs to "B-12"
}

func FuzzNumber(f *testing.F) {
	f.Add("−€1,234.50", "en-GB")
	f.Add("1 ½", "pt-PT")
	f.Add(",-", "de")
	f.Fuzz(func(t *testing.T, text, language string) {
		if n, err := Number(text, language); err == nil && n == nil {
			t.Fatal("neither a number nor a reason")
		}
	})
}

func TestUnitsAndCountersAreWrittenOnToNumbers(t *testing.T) {
	for language, texts := range map[string]map[string]string{
		"ja-JP": {"120円": "120", "2点": "2", "合計1,200円": "1200", "残り3点": "3", "5個": "5", "3時間": "3", "12.5キロ": "12.5"},
		"zh-CN": {"共3件": "3", "12元": "12"}, "ko-KR": {"3개": "3", "1,200원": "1200"}, "th-TH": {"3ชิ้น": "3"},
		"de-DE": {"3Std": "3", "2Stk": "2"}, "ru-RU": {"5км": "5", "120руб.": "120"}, "hu-HU": {"500Ft": "500"},
		"ar-EG": {"٣٫١٥": "3.15", "١٬٢٣٤٫٥": "1234.5"}, "ar-SA": {"٣٫١٥": "3.15"}, "fa-IR": {"۳٫۱۵": "3.15"},
		"ar": {"٣٫١٥": "3.15"},
	} {
		for text, want := range texts {
			got, err := Number(text, language)
			require.NoError(t, err, "%q in %q", text, language)
			exact, _ := new(big.Rat).SetString(want)
			require.Zero(t, exact.Cmp(got), "%q in %q is %s", text, language, got.FloatString(6))
		}
	}
	for language, texts := range map[string][]string{"ja-JP": {"3万", "5月", "二3", "3千円", "5月3日"},
		"en-GB": {"5Std", "120bananas"}} {
		for _, text := range texts {
			_, err := Number(text, language)
			require.Error(t, err, "%q in %s", text, language)
		}
	}
}
