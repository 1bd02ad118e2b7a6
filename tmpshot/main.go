package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"yamato/internal/browser"
)

// usage: tmpshot LINK name=path[;js|click:..] ...
func main() {
	b, err := browser.Open(context.Background())
	must(err)
	defer b.Close()
	 t, err := b.Tab()
	must(err)
	link := os.Args[1]
	base := link[:strings.Index(link, "/sign-in")]
	must(t.Go(link))
	must(t.Await(`location.pathname === "/"`))
	png0, e0 := t.Picture(); _ = e0; os.WriteFile("/tmp/first.png", png0, 0o644); for _, n := range t.Troubles() { fmt.Println("TROUBLE", n) }; must(t.See("devices"))
	for _, a := range os.Args[2:] { 
		name, rest, _ := strings.Cut(a, "=")
		parts := strings.Split(rest, ";;")
		if parts[0] != "" {
			must(t.Go(base + parts[0]))
		}
		for _, p := range parts[1:] {
			kind, arg, _ := strings.Cut(p, ":")
			switch kind {
			case "click":
				must(t.Click(arg))
			case "see":
				must(t.See(arg))
			case "await":
				must(t.Await(arg))
			case "key":
				must(t.Press(arg))
			case "theme":
				must(t.Theme(arg))
			case "point":
				var x, y float64
				fmt.Sscanf(arg, "%f,%f", &x, &y)
				must(t.Point(x, y))
			case "ask":
				var v any
				must(t.Ask(arg, &v))
				fmt.Println(v)
			case "sleep":
				d, _ := time.ParseDuration(arg)
				time.Sleep(d)
			}
		}
		time.Sleep(400 * time.Millisecond)
		png, err := t.Picture()
		must(err)
		must(os.WriteFile("/tmp/"+name+".png", png, 0o644))
	}
	for _, n := range t.Troubles() {
		fmt.Println("TROUBLE", n)
	}
}

func must(err error) {
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}
