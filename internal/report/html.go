package report

import (
	"embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"sort"
	"strings"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/evidence"
	"yamato/internal/core/script"
)

//go:embed page.html style.html covered.html
var pageFiles embed.FS

var page = template.Must(template.New("page.html").Funcs(template.FuncMap{
	"seconds": func(ms int64) string { return fmt.Sprintf("%.1f s", float64(ms)/1000) },
	"when":    func(t time.Time) string { return t.UTC().Format("2 January 2006, 15:04 UTC") },
	"shape":   shapeSVG,
	"inc":     func(i int) int { return i + 1 },
	"width":   func(columns []string) int { return len(columns) + 1 },
	"indent":  func(depth int) int { return 14 * min(depth, 10) },
	"day":     func(t time.Time) string { return t.UTC().Format("2 January 2006") },
}).ParseFS(pageFiles, "page.html", "style.html", "covered.html"))

// Pictures gives the content of a picture of a run by its evidence's id.
type Pictures func(id int64) ([]byte, error)

// Bounds on the pictures of a page, in bytes and in number.
const (
	maxPagePictures = 80
	maxPageBytes    = 24 << 20
)

type (
	htmlPage struct {
		Run      contract.Run
		Made     time.Time
		Counts   []htmlCount
		Took     string
		Causes   []htmlCause
		Columns  []string
		Rows     []htmlRow
		Failures []htmlFailure
		LeftOut  []htmlOut
		Slowest  []htmlSlow
		Missing  int // pictures that were left out
	}
	htmlCount struct {
		Verdict string
		Count   int
	}
	htmlCause struct {
		Verdict, Sentence string
		Said              []string
	}
	htmlRow struct {
		Suite, Case string
		First       bool
		Cells       []htmlCell
	}
	htmlCell struct{ Verdict, Anchor, Title string }

	htmlFailure struct {
		Anchor, Suite, Case, Verdict string
		Where                        []string
		Lines                        []Line
		Difference                   []script.Piece
		Steps                        []contract.Step
		Pictures                     []htmlPicture
	}
	htmlPicture struct {
		Name string
		Data template.URL
	}
	htmlOut  struct{ Where, Why string }
	htmlSlow struct{ Case, Where, Took string }
)

// HTML writes a run as one page with its pictures within, which needs no script and prints well.
func HTML(w io.Writer, d contract.RunDetail, causes []contract.Cause, kept []contract.Evidence,
	pictures Pictures) error {
	p := htmlPage{Run: d.Run, Made: time.Now().UTC()}
	rows, columns := crossings(d)
	p.Columns = columns
	p.fillCounts(d)
	for _, c := range causes {
		var said []string
		if c.Suite != nil && c.Line != nil && len(c.Cases) > 0 {
			said = append(said, fmt.Sprintf("%s (%s, line %d)", strings.Join(c.Cases[:min(len(c.Cases), 3)], ", "),
				*c.Suite, *c.Line))
		}
		if c.Shared == "" { // which says how many there are
			said = append(said, fmt.Sprintf("in %d of %d combinations", c.Combinations, c.Of))
		}
		for _, text := range append([]string{c.Shared, deref(c.Since)}, bearing(c.Bearing)...) {
			if text != "" {
				said = append(said, text)
			}
		}
		shape := c.Verdict
		if c.Flaky > 0 {
			shape = "flaky"
		}
		p.Causes = append(p.Causes, htmlCause{shape, fmt.Sprintf("Expected %s, but %s", c.Expected, c.Actual), said})
	}
	anchors := p.fillFailures(d, kept, pictures)
	for i := range p.Failures {
		f, of := &p.Failures[i], 0
		for _, leg := range d.Legs {
			if leg.Suite == f.Suite {
				of++
			}
		}
		if n := len(f.Where); n == of && n > 2 {
			f.Where = []string{fmt.Sprintf("all %d combinations", n)}
		}
	}
	suite := ""
	for _, r := range rows {
		row := htmlRow{Suite: r.suite, Case: r.name, First: r.suite != suite}
		suite = r.suite
		for _, c := range columns {
			x, ok := r.cells[c]
			if !ok {
				row.Cells = append(row.Cells, htmlCell{})
				continue
			}
			verdict := x.Verdict
			if x.Flaky {
				verdict = "flaky"
			}
			row.Cells = append(row.Cells, htmlCell{verdict, anchors[r.suite+"\x00"+r.name+"\x00"+c],
				r.name + ", " + c + ": " + verdict})
		}
		p.Rows = append(p.Rows, row)
	}
	for _, l := range d.LeftOut {
		why := ""
		if len(l.Reasons) > 0 {
			why = l.Reasons[0].Why
		}
		p.LeftOut = append(p.LeftOut, htmlOut{wholeOf(l.Combination), why})
	}
	return page.Execute(w, p)
}

func (p *htmlPage) fillCounts(d contract.RunDetail) {
	counts := map[string]int{}
	type slow struct {
		htmlSlow
		ms int64
	}
	var slowest []slow
	for _, leg := range d.Legs {
		for _, x := range leg.Cases {
			verdict := x.Verdict
			if x.Flaky {
				verdict = "flaky"
			}
			counts[verdict]++
			for _, r := range x.Results {
				slowest = append(slowest, slow{htmlSlow{x.Name, whole(leg),
					fmt.Sprintf("%.1f s", float64(r.TookMs)/1000)}, r.TookMs})
			}
		}
	}
	for _, v := range []string{"fail", "error", "flaky", "pass", "skip", "none"} {
		if counts[v] > 0 {
			p.Counts = append(p.Counts, htmlCount{v, counts[v]})
		}
	}
	sort.SliceStable(slowest, func(i, j int) bool { return slowest[i].ms > slowest[j].ms })
	for _, s := range slowest[:min(len(slowest), 5)] {
		p.Slowest = append(p.Slowest, s.htmlSlow)
	}
	if d.Run.StartedAt != nil && d.Run.FinishedAt != nil {
		p.Took = d.Run.FinishedAt.Sub(*d.Run.StartedAt).Round(time.Second).String()
	}
}

// fillFailures gathers what failed, each failure once with where it was met, and gives the anchors
// of the crossings.
func (p *htmlPage) fillFailures(d contract.RunDetail, kept []contract.Evidence, pictures Pictures) map[string]string {
	anchors, at := map[string]string{}, map[string]int{}
	bytes, shown := 0, 0
	for _, leg := range d.Legs {
		for _, x := range leg.Cases {
			if x.Verdict != "fail" && x.Verdict != "error" && !x.Flaky {
				continue
			}
			sentence := lastSentence(x)
			if sentence == "" {
				sentence = troubleOf(leg)
			}
			k := leg.Suite + "\x00" + x.Name + "\x00" + sentence
			i, told := at[k]
			if !told {
				i = len(p.Failures)
				at[k] = i
				p.Failures = append(p.Failures, htmlFailure{Anchor: fmt.Sprintf("failure-%d", i+1), Suite: leg.Suite,
					Case:    x.Name,
					Verdict: x.Verdict})
				f := &p.Failures[i]
				for _, r := range x.Results {
					failure, ok := FailureOf(r)
					if !ok {
						continue
					}
					f.Lines, f.Difference, f.Steps = failure.Lines(), failure.Difference, deref(r.Steps)
					f.Pictures = nil
					for _, e := range kept {
						if e.Sort != evidence.Picture.Name || e.Leg != leg.Id || e.CaseIndex != x.Index ||
							e.Attempt != r.Attempt {
							continue
						}
						if shown >= maxPagePictures || bytes+int(e.Size) > maxPageBytes {
							p.Missing++
							continue
						}
						data, err := pictures(e.Id)
						if err != nil {
							p.Missing++
							continue
						}
						shown, bytes = shown+1, bytes+len(data)
						f.Pictures = append(f.Pictures, htmlPicture{e.Name,
							template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(data))}) //nolint:gosec // a PNG's own bytes
					}
				}
				if f.Lines == nil {
					f.Lines = []Line{{Label: "because", Text: sentence}}
				}
			}
			p.Failures[i].Where = append(p.Failures[i].Where, whole(leg))
			anchors[leg.Suite+"\x00"+x.Name+"\x00"+whole(leg)] = p.Failures[i].Anchor
		}
	}
	return anchors
}

// shapeSVG is a verdict's shape: colour never speaks alone.
func shapeSVG(verdict string) template.HTML {
	body := map[string]string{
		"pass":  `<circle cx="6" cy="6" r="3.6" fill="none" stroke="currentColor" stroke-width="1.5"/>`,
		"fail":  `<rect x="2" y="2" width="8" height="8" fill="#c8421f"/>`,
		"error": `<path d="M6 1.5 11 10.5H1z" fill="#1d6480"/>`,
		"skip":  `<rect x="2.5" y="5.2" width="7" height="1.6" fill="#8a8f98"/>`,
		"flaky": `<circle cx="6" cy="6" r="4" fill="none" stroke="#c8421f" stroke-width="1.5"/><path d="M6 2a4 4 0 0 0 0 8z" fill="#c8421f"/>`,
	}[verdict]
	if body == "" {
		body = `<circle cx="6" cy="6" r="1.2" fill="#8a8f98"/>`
	}
	return template.HTML(`<svg class="shape" viewBox="0 0 12 12" width="12" height="12" role="img" aria-label="` +
		template.HTMLEscapeString(verdict) + `">` + body + `</svg>`) //nolint:gosec // constants
}
