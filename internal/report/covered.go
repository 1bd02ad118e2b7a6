package report

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

type (
	coveredPage struct {
		From, To, Made time.Time
		Builds         []coveredBuild
	}
	coveredBuild struct {
		Name      string
		Languages []string
		Rows      []coveredRow
	}
	coveredRow struct {
		Device string
		Cells  []contract.Covered // by language; without cases where it was not covered
		Last   string
	}
)

// CoveredHTML writes what was covered as one page, which needs no script and prints well.
func CoveredHTML(w io.Writer, c contract.CoveredDevices, made time.Time) error {
	p := coveredPage{From: c.From, To: c.To, Made: made}
	for _, one := range c.Items {
		name := one.App + " " + one.Version
		i := slices.IndexFunc(p.Builds, func(b coveredBuild) bool { return b.Name == name })
		if i < 0 {
			i = len(p.Builds)
			p.Builds = append(p.Builds, coveredBuild{Name: name})
		}
		if b := &p.Builds[i]; !slices.Contains(b.Languages, one.Language) {
			b.Languages = append(b.Languages, one.Language)
		}
	}
	for i := range p.Builds {
		b := &p.Builds[i]
		slices.Sort(b.Languages)
		rows := map[string]int{}
		for _, one := range c.Items {
			if one.App+" "+one.Version != b.Name {
				continue
			}
			device := fleet.Class{Kind: one.Kind, Model: one.Model, Platform: one.Platform, OS: one.Os}.Label()
			at, ok := rows[device]
			if !ok {
				at = len(b.Rows)
				rows[device] = at
				b.Rows = append(b.Rows, coveredRow{Device: device, Cells: make([]contract.Covered, len(b.Languages))})
			}
			row := &b.Rows[at]
			row.Cells[slices.Index(b.Languages, one.Language)] = one
			newest := slices.MaxFunc(row.Cells, func(x, y contract.Covered) int {
				return cmp.Compare(x.LastRun,
					y.LastRun)
			})
			row.Last = fmt.Sprintf("run %d, %s", newest.LastRun, newest.LastAt.UTC().Format("2 January 2006"))
		}
	}
	return page.ExecuteTemplate(w, "covered.html", p)
}
