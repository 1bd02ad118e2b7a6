package ui

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

func Short(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func (a *App) WriteLine(v any) error { return json.NewEncoder(a.Out).Encode(v) }

func Ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2006-01-02")
}

// Moment is a time with its day and its zone, this machine's.
func Moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }

func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
