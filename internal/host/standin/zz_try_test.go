package standin_test

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"
	"bytes"

	"github.com/stretchr/testify/require"
	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/script"
)

type mapFiles map[string]string

func (m mapFiles) Text(p string) (string, error) {
	if t, ok := m[p]; ok {
		return t, nil
	}
	return "", fmt.Errorf("there is no such file")
}

func TestZZ(t *testing.T) {
	suites, err := demo.Suites()
	require.NoError(t, err)
	packages, _ := demo.Packages(demo.Versions[0], time.Now())
	for _, lang := range []string{"en-GB", "de-DE", "pt-PT"} {
		for _, d := range bench(t) {
			if only := os.Getenv("ONLY"); only != "" && d.Describe().Name != only {
				continue
			}
			v := demo.Versions[0]
			if os.Getenv("V") != "" {
				v = demo.Versions[1]
			}
			install(t, d, v, lang)
			texts, err := appfile.ReadTexts(bytes.NewReader(packages[0].Data), int64(len(packages[0].Data)))
			require.NoError(t, err)
			for name, text := range suites {
				s, f := script.ReadWith(text, mapFiles(suites))
				if script.IsShared(text) {
					continue
				}
				require.Zero(t, script.Faults(f), "%v", f)
				play := script.NewPlay(s, d, script.Options{App: demo.ApplicationID, Words: texts.Speaker().Say,
					Secrets: map[string]string{"harbour word": "evening tide"}, Accounts: map[string]map[string]string{"traveller": {"user": "aya@sorane.example", "password": "kujira-7711"}}})
				for i, c := range s.Cases {
					r := play.Case(context.Background(), c, i == len(s.Cases)-1, &pictures{t: t})
					if r.Verdict != "pass" {
						fmt.Printf("%s %s %s: %s: %s\n   %+v\n", lang, d.Describe().Name, name, c.Name, r.Verdict, *r.Failure)
					}
				}
			}
		}
	}
}
