package e2e

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A suite is written in the console: what is wrong is marked as one types, it is saved as
// revisions, and its case is run from where the cursor is, seen line by line.
func TestASuiteIsWrittenAndTriedInTheConsole(t *testing.T) {
	t.Parallel()
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)
	d.push(filepath.Join(dir, "tideline-3.1.4.apk"))
	d.visit("/suites")
	d.click("Write a suite")
	d.await(`document.querySelector(".cm-content")`)
	d.ask(`document.querySelector(".cm-content").focus() ?? ""`)
	write := func(text string) {
		require.NoError(t, d.tab.Control("a"))
		require.NoError(t, d.tab.Insert(text))
	}
	write("suite \"Tabs\"\ncase \"it has tabs\"\nexpect tab caled \"Tickets\"\nend\n")
	d.see("1 fault")
	d.await(`document.querySelector(".cm-lintRange-error")`)
	require.Equal(t, "true", d.ask(`String([...document.querySelectorAll("button")].find((b) => b.textContent.startsWith("Save")).disabled)`))

	// What was not saved is there after the page was left.
	d.visit("/suites")
	d.visit("/write")
	d.see("1 fault")
	d.await(`document.querySelector(".cm-content").innerText.includes("caled")`)
	d.ask(`document.querySelector(".cm-content").focus() ?? ""`)
	write("suite \"Tabs\"\ncase \"it has tabs\"\nexpect tab called \"Tickets\"\nend\n")
	d.see("no faults")
	require.NoError(t, d.tab.Control("s"))
	d.await(`location.pathname === "/write/Tabs" && document.querySelector("h1")?.innerText === "Tabs" && document.querySelector(".cm-content")`)

	d.ask(`document.querySelector(".cm-content").focus() ?? ""`)
	require.NoError(t, d.tab.Key("ArrowDown"))
	require.NoError(t, d.tab.Key("ArrowDown"))
	require.NoError(t, d.tab.Control("Enter"))
	d.see("It passed, in 1 step.")
	d.await(`document.querySelector(".cm-went-pass")`)
	require.Equal(t, "1", r.query(`select count(*)::text from suite where name = 'Tabs'`),
		"what was tried is not listed beside it")
	d.visit("/write")
	d.await(`document.querySelector(".cm-content")`)
	d.ask(`document.querySelector(".cm-content").focus() ?? ""`)
	write("suite \"Tabs\"\ncase \"another\"\nexpect heading\nend\n")
	d.see("no faults")
	require.NoError(t, d.tab.Control("s"))
	d.see("there is a suite Tabs already")
	require.Equal(t, "kept", r.query(`select origin from suite_revision r join suite s on s.id = r.suite_id where s.name = 'Tabs'`))
}
