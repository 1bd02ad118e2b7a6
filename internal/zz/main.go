package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"yamato/internal/browser"
)

func must(err error) {
	if err != nil {
		panic(err)
	}
}

// zz OUT PATH [JS-or-click...]
func main() {
	out, err := exec.Command("/tmp/y1", "console", "--output", "json").CombinedOutput()
	link := ""
	for _, w := range strings.FieldsFunc(string(out), func(r rune) bool { return r == ' ' || r == '"' || r == '\n' }) {
		if strings.HasPrefix(w, "http") {
			link = w
		}
	}
	if link == "" {
		panic(fmt.Sprint(string(out), err))
	}
	b, err := browser.Open(context.Background())
	must(err)
	defer b.Close()
	tab, err := b.Tab()
	must(err)
	tab.Patience(40 * time.Second)
	must(tab.Go(link))
	must(tab.Await(`location.pathname === "/"`))
	must(tab.Theme("day"))
	base := link[:strings.Index(link[8:], "/")+8]
	must(tab.Go(base + os.Args[2]))
	time.Sleep(1500 * time.Millisecond)
	for _, step := range os.Args[3:] {
		switch {
		case strings.HasPrefix(step, "click:"):
			must(tab.Click(step[6:]))
		case strings.HasPrefix(step, "see:"):
			must(tab.See(step[4:]))
		case strings.HasPrefix(step, "keys:"):
			must(tab.Press(step[5:]))
		case strings.HasPrefix(step, "theme:"):
			must(tab.Theme(step[6:]))
		case strings.HasPrefix(step, "js:"):
			must(tab.Run(step[3:]))
		case strings.HasPrefix(step, "wait:"):
			d, _ := time.ParseDuration(step[5:])
			time.Sleep(d)
		}
	}
	time.Sleep(500 * time.Millisecond)
	png, err := tab.Picture()
	must(err)
	must(os.WriteFile(os.Args[1], png, 0o644))
	fmt.Println(tab.Troubles())
}
