package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"yamato/internal/browser"
)

// photographer takes pictures of the console. The first trouble ends the session.
type photographer struct {
	tab  *browser.Tab
	base string
	out  string
	err  error
}

// console takes the pictures of the console's pages, signed in by link.
func console(link, base, out string) error {
	b, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer b.Close()
	tab, err := b.Tab()
	if err != nil {
		return err
	}
	defer tab.Close()
	tab.Patience(time.Minute)
	p := &photographer{tab: tab, base: base, out: out}
	p.do(tab.Go(link))
	p.await(`location.pathname === "/"`)
	p.do(tab.Theme("day"))
	p.beforehand()
	p.live()
	p.failure()
	p.writing()
	p.plans()
	p.hands()
	if n := tab.Troubles(); p.err == nil && len(n) > 0 {
		p.err = fmt.Errorf("a page complains: %s", n[0])
	}
	return p.err
}

func (p *photographer) do(err error) {
	if p.err == nil {
		p.err = err
	}
}

func (p *photographer) then(step func() error) {
	if p.err == nil {
		p.err = step()
	}
}

func (p *photographer) visit(path string) {
	p.then(func() error { return p.tab.Go(p.base + path) })
}

func (p *photographer) see(text string) { p.then(func() error { return p.tab.See(text) }) }
func (p *photographer) await(expression string) {
	p.then(func() error { return p.tab.Await(expression) })
}
func (p *photographer) click(name string) { p.then(func() error { return p.tab.Click(name) }) }

// keep takes a picture once pictures on the page are there.
func (p *photographer) keep(name string) {
	p.await(`[...document.images].every((i) => i.complete)`)
	p.then(func() error {
		png, err := p.tab.Picture()
		if err != nil {
			return err
		}
		path := filepath.Join(p.out, name+".png")
		fmt.Println(path)
		return os.WriteFile(path, png, 0o644)
	})
}

// live starts a run at a person's pace, and shows it and what it does to the fleet.
func (p *photographer) live() {
	p.visit("/?start=1&with=Tideline/2")
	p.see("legs: ")
	p.click("Stand-ins at the pace of a person")
	p.click("Start the run")
	p.await(`location.pathname.startsWith("/runs/")`)
	p.await(`(() => { const v = [...document.querySelectorAll("[role=gridcell]")].map((e) => e.dataset.verdict); return v.includes("fail") && v.includes("running") && document.body.innerText.includes("cause") })()`)
	p.keep("console-run-live")
	p.visit("/")
	p.see("under way")
	p.await(`document.querySelector("main [role=progressbar]")`)
	p.keep("console-now")
	p.visit("/fleet")
	p.see("running run")
	p.keep("console-fleet")
	p.visit("/runs?state=running")
	p.await(`document.querySelector("main a[href^='/runs/']")`)
	p.await(`(document.querySelector("main a[href^='/runs/']").click(), true)`)
	p.click("Cancel the run")
	p.click("Cancel it")
	p.see("cancelled")
	p.await(`[...document.querySelectorAll("footer .unit")].every((u) => !u.classList.contains("unit-leased") && !u.classList.contains("unit-resetting"))`)
}

// beforehand shows what is known before anything runs: where a build runs and why not.
func (p *photographer) beforehand() {
	p.visit("/builds/3?app=Tideline")
	p.see("of 27 devices can run it")
	p.keep("console-build")
}

const draft = `suite "Crossings"
tags smoke

case "a traveller sees what a crossing costs"
  tap tab called "Tickets"
  expect #single-fare
  let fare = number in #single-fare
  set #passengers to 2
  expect number in #total = $fare * 2
  expect number in #total = $fare * 3 within 500ms
end

case "what is misspelt is told"
  tap #departurs
  expect heading called "Departures"
end
`

// writing writes a suite, runs its first case, and shows a run as one page.
func (p *photographer) writing() {
	p.visit("/write")
	p.await(`document.querySelector(".cm-content")`)
	p.then(func() error { return p.tab.Ask(`document.querySelector(".cm-content").focus()`, nil) })
	p.then(func() error { return p.tab.Control("a") })
	p.then(func() error { return p.tab.Insert(draft) })
	p.see("no faults")
	p.await(`document.querySelector(".cm-lintRange-info")`)
	for range 10 {
		p.then(func() error { return p.tab.Key("ArrowUp") })
	}
	p.then(func() error { return p.tab.Control("Enter") })
	p.await(`document.querySelector(".cm-went-fail")`)
	p.await(`document.querySelector("section img")?.naturalWidth > 0`)
	p.keep("console-write")
	p.visit("/api/v1/projects/default/runs/2/report.html")
	p.await(`document.querySelector("h1")`)
	p.keep("run-report")
}

// plans shows a plan with what it comes to, how its factors meet, the week, and its run by a factor.
func (p *photographer) plans() {
	p.visit("/plans/Tideline%20in%20every%20pair")
	p.await(`document.querySelectorAll("[role=rowgroup] [role=row]").length > 10 && document.querySelector("[role=slider]")`)
	p.keep("console-plan")
	p.visit("/calendar")
	p.await(`document.querySelectorAll("[role=group] button").length > 2`)
	p.keep("console-calendar")
	p.visit("/runs/3?by=language&folded=en-GB")
	p.await(`document.querySelectorAll("[role=gridcell]").length > 10`)
	p.keep("console-run-grouped")
}

// failure opens a case of the sample run that crashed, with all columns, and what else is known of such cases.
func (p *photographer) failure() {
	p.visit("/runs/2")
	p.click("it crashed: TypeError")
	p.await(`document.querySelectorAll("aside img").length > 2`)
	p.click("Wide")
	p.await(`!document.querySelector("[role=grid]")?.offsetParent && document.querySelector("[role=option]")`)
	p.keep("console-run-failure")
	p.beside()
	p.visit("/runs/2/pictures?name=the%20wallet")
	p.await(`document.querySelectorAll("li img").length > 5`)
	p.keep("console-pictures")
	p.visit("/over-time")
	p.see("not covered")
	p.keep("console-covered")
}

// beside lays two attempts at a case beside each other that went well on one kind of device and not on another.
func (p *photographer) beside() {
	var run struct {
		Legs []struct {
			ID    int64 `json:"id"`
			Cases []struct {
				Name    string `json:"name"`
				Index   int    `json:"index"`
				Verdict string `json:"verdict"`
				Results []struct {
					Attempt int `json:"attempt"`
				} `json:"results"`
			} `json:"cases"`
		} `json:"legs"`
	}
	p.call("GET", "runs/2?brief=true", nil, &run)
	at := map[string]string{}
	for _, l := range run.Legs {
		for _, c := range l.Cases {
			if c.Name == "the wallet is the same after the app was away" && len(c.Results) > 0 {
				at[c.Verdict] = fmt.Sprintf("2.%d.%d.%d", l.ID, c.Index, c.Results[len(c.Results)-1].Attempt)
			}
		}
	}
	p.visit("/beside?a=" + at["fail"] + "&b=" + at["pass"])
	p.await(`document.querySelectorAll("figure img").length === 2 && document.querySelector("[role=option]")`)
	p.keep("console-beside")
}
