package main

import (
	"encoding/json"
	"fmt"
)

// call makes a call of the service's as the page would, and reads its answer into a pointer, nil for none.
func (p *photographer) call(method, path string, body, into any) {
	p.then(func() error {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		var answer string
		sent := fmt.Sprintf(`, headers: {"Content-Type": "application/json"}, body: %q`, text)
		if body == nil {
			sent = ""
		}
		if err := p.tab.Ask(fmt.Sprintf(`fetch("/api/v1/projects/default/%s", {method: %q%s}).then(async (r) => { const t = await r.text(); if (!r.ok) throw new Error(t); return t; })`,
			path, method, sent), &answer); err != nil {
			return err
		}
		if into == nil {
			return nil
		}
		return json.Unmarshal([]byte(answer), into)
	})
}

// open opens a session on a device, with the newest sample build, and gives its number.
func (p *photographer) open(device string) (number int64) {
	var s struct{ Number int64 }
	p.call("POST", "sessions", map[string]any{"device": device, "build": "3.2.0", "app": "Tideline"}, &s)
	p.call("GET", fmt.Sprintf("sessions/%d?wait_ms=30000", s.Number), nil, nil)
	return s.Number
}

// line has a session's device do something.
func (p *photographer) line(session int64, lines ...string) {
	for _, l := range lines {
		p.call("POST", fmt.Sprintf("sessions/%d/orders", session), map[string]any{"do": "line", "text": l}, nil)
	}
}

// hands shows devices in hand: one, several, what stays, and a finding.
func (p *photographer) hands() {
	p.then(func() error { return p.tab.Theme("day") })
	p.call("PUT", "checklists", map[string]any{"text": "# Before each release\n\n## Tickets\n- [ ] The total is under the fares\n- [ ] Paying twice is not possible\n- [ ] Nothing is cut off in German\n"}, nil)
	p.call("POST", "checklist-runs", map[string]any{"checklist": "Before each release", "build": "3.2.0",
		"app": "Tideline", "on": []string{"Kaede 7", "Minato Tab 10"}}, nil)

	phone := p.open("kaede-7-cable-2") // the phone on a cable; the emulator there is the first
	p.visit(fmt.Sprintf("/by-hand/%d", phone))
	p.await(`document.querySelector("canvas")?.width > 100`)
	p.line(phone, `tap tab called "Tickets"`, `set #passengers to 3`, `expect #total`)
	p.call("POST", fmt.Sprintf("sessions/%d/orders", phone), map[string]any{"do": "mark",
		"text": "three passengers, and the total is short"}, nil)
	p.see("the total is short")
	p.click("Look inside")
	p.then(func() error {
		return p.tab.Run(`{ const c = document.querySelector("canvas"), r = c.getBoundingClientRect(); c.setPointerCapture = () => {};
			for (const type of ["pointerdown", "pointerup"]) c.dispatchEvent(new PointerEvent(type, {bubbles: true, pointerId: 1, button: 0, pointerType: "mouse", clientX: r.x + r.width * 0.8, clientY: r.y + r.height * 0.4})); }`)
	})
	p.see("do it")
	p.keep("console-session")

	p.click("Checklist")
	p.see("Paying twice")
	p.then(func() error {
		return p.tab.Run(`[...document.querySelectorAll("button")].find((b) => b.getAttribute("aria-label")?.startsWith("pass: Tickets: Paying")).click()`)
	})
	p.see("looked at by")

	var entries []struct {
		Lease, Seq int64
		Kind       string
	}
	p.call("GET", fmt.Sprintf("sessions/%d/entries", phone), nil, &entries)
	var mark struct{ Lease, Seq int64 }
	for _, e := range entries {
		if e.Kind == "mark" {
			mark.Lease, mark.Seq = e.Lease, e.Seq
		}
	}
	p.call("POST", "findings", map[string]any{"title": "Three passengers pay for less than three", "session": phone,
		"lease": mark.Lease, "seq": mark.Seq,
		"note": "Expected: the total is three single fares. Seen: less than that.",
		"marks": []map[string]any{{"kind": "box", "x": 0.31, "y": 0.375, "to_x": 0.5, "to_y": 0.42},
			{"kind": "arrow", "x": 0.62, "y": 0.56, "to_x": 0.5, "to_y": 0.43, "text": "too little"}}}, nil)
	p.visit("/findings/1")
	p.await(`document.querySelector("section[aria-label=Picture] img")?.naturalWidth > 0`)
}
