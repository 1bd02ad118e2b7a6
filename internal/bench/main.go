// Command bench measures what docs/benchmarks.md reports, on a cluster, a
// service and hosts of its own, and writes that page.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"
)

func main() {
	if os.Getenv(uploadVariable) != "" {
		if err := handIn(context.Background()); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	}
	program := flag.String("program", "bin/yamato", "the program")
	out := flag.String("out", "", "page to write; standard output where empty")
	window := flag.Duration("window", 60*time.Second, "how long the closed loop is measured")
	devices := flag.Int("devices", 800, "devices of the null driver")
	only := flag.String("only", "", "P1, P2b, console, fleet, byhand, script, plans, evidence, flow, handsets or phones alone")
	length := flag.Duration("soak", 0, "soak for so long instead of measuring")
	flag.Parse()
	if *length > 0 {
		if err := soak(context.Background(), config{*program, *window, *devices, *only}, *length); err != nil {
			fmt.Fprintln(os.Stderr, "soak:", err)
			os.Exit(1)
		}
		return
	}
	text, err := measure(context.Background(), config{*program, *window, *devices, *only})
	if err == nil && *out != "" {
		text += kept(*out)
		err = os.WriteFile(*out, []byte(text), 0o644)
	}
	fmt.Println(text)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// kept gives the part of the page that people write: what is compared with what.
func kept(page string) string {
	const begins = "\n## Before and after"
	text, err := os.ReadFile(page)
	if i := strings.Index(string(text), begins); err == nil && i >= 0 {
		return string(text[i:])
	}
	return ""
}
