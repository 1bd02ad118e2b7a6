// Package readings keeps what an app takes of its device over time: figures at moments, written as
// CSV (RFC 4180), and what they come to.
package readings

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"

	"yamato/internal/core/device"
)

// EveryMS is the rate of readings: one in so many milliseconds of the device's clock.
const EveryMS = 500

// Names of figures, in the order in which they are told, with their units. What a device tells beside
// these follows, as a number.
var units = []struct{ name, unit string }{{"cpu", "percent"}, {"memory", "bytes"}, {"network", "bytes/s"},
	{"frames", "frames/s"},
	{"battery", "percent"}, {"heat", "°C"}}

// counters are told by devices as sums from the app's start on; what is kept is how much a second.
var counters = map[string]float64{"cpu": 100, "network": 1, "frames": 1}

// Unit gives the unit of a figure, "" where it is a count.
func Unit(name string) string {
	for _, u := range units {
		if u.name == name {
			return u.unit
		}
	}
	return ""
}

// Bounds of what is kept of a case.
const (
	MaxMoments = 50_000
	MaxNames   = 12
)

// Series are figures at moments. The zero value is empty.
type Series struct {
	At      []int64 // ms of device time since the case began, rising
	Names   []string
	Values  [][]float64 // by name, then by moment; NaN where there is none
	Dropped int
	last    map[string]float64 // of counters
	lastAt  int64
}

// Add takes in what a device tells at a moment. What is out of order, or too much, is dropped.
func (s *Series) Add(atMS int64, list []device.Reading) {
	if len(list) == 0 {
		return
	}
	if len(s.At) >= MaxMoments || len(s.At) > 0 && atMS <= s.At[len(s.At)-1] {
		s.Dropped++
		return
	}
	now := map[string]float64{}
	for _, r := range list {
		if !math.IsNaN(r.Value) && !math.IsInf(r.Value, 0) {
			now[r.Name] = r.Value
		}
	}
	before, seconds := s.last, float64(atMS-s.lastAt)/1000
	s.last, s.lastAt = now, atMS
	s.At = append(s.At, atMS)
	for i := range s.Values {
		s.Values[i] = append(s.Values[i], math.NaN())
	}
	for _, r := range list {
		value, ok := now[r.Name]
		if !ok {
			continue
		}
		if by, counted := counters[r.Name]; counted {
			was, had := before[r.Name]
			if !had || seconds <= 0 {
				continue
			}
			if was > value { // the app was started anew, and counts from there
				was = 0
			}
			value = (value - was) / seconds * by
		}
		s.set(r.Name, value)
	}
}

func (s *Series) set(name string, value float64) {
	i := slices.Index(s.Names, name)
	if i < 0 {
		if len(s.Names) == MaxNames {
			return
		}
		i = len(s.Names)
		column := make([]float64, len(s.At))
		for j := range column {
			column[j] = math.NaN()
		}
		s.Names, s.Values = append(s.Names, name), append(s.Values, column)
	}
	s.Values[i][len(s.At)-1] = value
}

func order(name string) int {
	for i, u := range units {
		if u.name == name {
			return i
		}
	}
	return len(units)
}

// Write writes them as CSV: milliseconds since the case began, then a column for each figure.
func (s *Series) Write(w io.Writer) error {
	at := make([]int, len(s.Names))
	for i := range at {
		at[i] = i
	}
	slices.SortStableFunc(at, func(a, b int) int { return order(s.Names[a]) - order(s.Names[b]) })
	c := csv.NewWriter(w)
	head := []string{"ms"}
	for _, i := range at {
		name := s.Names[i]
		if u := Unit(name); u != "" {
			name += " (" + u + ")"
		}
		head = append(head, name)
	}
	if err := c.Write(head); err != nil {
		return err
	}
	row := make([]string, len(head))
	for m, ms := range s.At {
		row[0] = strconv.FormatInt(ms, 10)
		for k, i := range at {
			row[k+1] = ""
			if v := s.Values[i][m]; !math.IsNaN(v) {
				row[k+1] = strconv.FormatFloat(math.Round(v*100)/100, 'f', -1, 64)
			}
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// Read reads what Write has written.
func Read(r io.Reader) (*Series, error) {
	c := csv.NewReader(r)
	c.ReuseRecord = true
	head, err := c.Read()
	if err != nil {
		return nil, fmt.Errorf("the readings cannot be read: %w", err)
	}
	s := &Series{}
	if len(head) < 1 || head[0] != "ms" || len(head) > MaxNames+1 {
		return nil, errors.New("these are no readings: their first column is not ms")
	}
	for _, name := range head[1:] {
		for _, u := range units {
			if name == u.name+" ("+u.unit+")" {
				name = u.name
			}
		}
		s.Names, s.Values = append(s.Names, name), append(s.Values, nil)
	}
	for {
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			return s, nil
		}
		if err != nil || len(s.At) >= MaxMoments {
			return nil, fmt.Errorf("the readings cannot be read after moment %d: %w", len(s.At), errors.Join(err))
		}
		ms, err := strconv.ParseInt(row[0], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("the readings cannot be read after moment %d: %w", len(s.At), err)
		}
		s.At = append(s.At, ms)
		for i, text := range row[1:] {
			v := math.NaN()
			if text != "" {
				if v, err = strconv.ParseFloat(text, 64); err != nil {
					return nil, fmt.Errorf("the readings cannot be read after moment %d: %w", len(s.At), err)
				}
			}
			s.Values[i] = append(s.Values[i], v)
		}
	}
}

// Sum is what one figure comes to.
type Sum struct {
	Name     string  `json:"name"`
	Unit     string  `json:"unit,omitempty"`
	Smallest float64 `json:"smallest"`
	Median   float64 `json:"median"`
	Largest  float64 `json:"largest"`
	PeakMS   int64   `json:"peak_ms"` // when it was the largest, first
	Count    int     `json:"count"`
}

// Sums gives what each figure comes to, in order.
func (s *Series) Sums() []Sum {
	out := []Sum{}
	for i, name := range s.Names {
		one := Sum{Name: name, Unit: Unit(name)}
		var values []float64
		for m, v := range s.Values[i] {
			if math.IsNaN(v) {
				continue
			}
			if len(values) == 0 || v > one.Largest {
				one.Largest, one.PeakMS = v, s.At[m]
			}
			values = append(values, v)
		}
		if len(values) == 0 {
			continue
		}
		slices.Sort(values)
		one.Count, one.Smallest, one.Median = len(values), values[0], values[len(values)/2]
		if len(values)%2 == 0 {
			one.Median = (values[len(values)/2-1] + values[len(values)/2]) / 2
		}
		out = append(out, one)
	}
	slices.SortStableFunc(out, func(a, b Sum) int { return order(a.Name) - order(b.Name) })
	return out
}
