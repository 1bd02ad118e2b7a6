package ui

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Size is a number of bytes, as people write it: 500MB, 200GB.
type Size int64

var sizeForm = regexp.MustCompile(`(?i)^(\d{1,9}(?:\.\d{1,3})?) ?(B|kB|MB|GB|TB)?$`)

// units of sizes, in bytes (ISO 80000-13: a kB is a thousand bytes).
var sizes = map[string]float64{"": 1, "b": 1, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12}

// Set reads one.
func (s *Size) Set(text string) error {
	m := sizeForm.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return fmt.Errorf("%q is no size: write 500MB or 200GB", text)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	*s = Size(n * sizes[strings.ToLower(m[2])])
	return err
}

func (s Size) String() string {
	for _, u := range []struct {
		name string
		of   float64
	}{{"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}} {
		if float64(s) >= u.of {
			return strings.TrimSuffix(strings.TrimSuffix(fmt.Sprintf("%.2f", float64(s)/u.of), "0"), ".0") + " " +
				u.name
		}
	}
	return fmt.Sprintf("%d bytes", int64(s))
}

// Type names what is given.
func (s *Size) Type() string { return "size" }
