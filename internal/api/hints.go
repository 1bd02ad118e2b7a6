package api

import (
	"regexp"
	"strings"

	"github.com/gin-gonic/gin"
)

// calls says by which call a program does what a command does for a person. A command that
// is not listed has no call, and is named to programs as it is.
var calls = []struct {
	command *regexp.Regexp
	call    string
}{
	{regexp.MustCompile("^build ls$"), "GET …/builds"},
	{regexp.MustCompile("^build push "), "POST …/packages, then POST …/builds"},
	{regexp.MustCompile("^build hand "), "POST …/builds/{build}/handovers"},
	{regexp.MustCompile("^build retention"), "PUT …/retention"},
	{regexp.MustCompile("^build settings "), "GET …/builds/{build}/settings"},
	{regexp.MustCompile("^suite ls$"), "GET …/suites"},
	{regexp.MustCompile("^suite push"), "POST …/suites"},
	{regexp.MustCompile("^suite show"), "GET …/suites/{suite}"},
	{regexp.MustCompile("^secret ls$"), "GET …/secrets"},
	{regexp.MustCompile("^secret set "), "PUT …/secrets/{name}"},
	{regexp.MustCompile("^secret remove "), "DELETE …/secrets/{name}"},
	{regexp.MustCompile("^account ls$"), "GET …/accounts"},
	{regexp.MustCompile("^account add "), "POST …/accounts"},
	{regexp.MustCompile("^account remove "), "DELETE …/accounts/{account}"},
	{regexp.MustCompile("^suite check "), "POST …/suites/check"},
	{regexp.MustCompile("^device ls$"), "GET …/devices"},
	{regexp.MustCompile("^device check ([^ ]+)$"), "POST …/errands with what: check, device: $1"},
	{regexp.MustCompile("^device restore ([^ ]+)$"), "DELETE …/devices/$1/sideline"},
	{regexp.MustCompile("^device show ([^ ]+)$"), "GET …/devices/$1"},
	{regexp.MustCompile("^device look ([^ ]+)$"), "POST …/devices/$1/screens"},
	{regexp.MustCompile("^device (boot|halt|empty|remove) (.+)$"), "POST …/errands with what: $1, device: $2"},
	{regexp.MustCompile("^device make "), "POST …/errands with what: make"},
	{regexp.MustCompile("^site ls$"), "GET …/sites"},
	{regexp.MustCompile("^site fetch "), "POST …/errands with what: fetch"},
	{regexp.MustCompile("^site licence .*--accept$"), "PUT …/licences/{licence}/acceptance"},
	{regexp.MustCompile("^lineup ls$"), "GET …/lineups"},
	{regexp.MustCompile("^lineup save "), "PUT …/lineups"},
	{regexp.MustCompile("^lineup try"), "POST …/lineups/choice"},
	{regexp.MustCompile("^crash ls$"), "GET …/crashes"},
	{regexp.MustCompile("^run pin"), "PUT …/runs/{run}/pin"},
	{regexp.MustCompile("^run retention$"), "GET …/evidence-retention"},
	{regexp.MustCompile("^plan ls$"), "GET …/plans"},
	{regexp.MustCompile("^plan save "), "PUT …/plans"},
	{regexp.MustCompile("^plan try"), "POST …/plans/trial"},
	{regexp.MustCompile("^plan start"), "POST …/plans/{plan}/runs"},
	{regexp.MustCompile("^plan remove"), "DELETE …/plans/{plan}"},
	{regexp.MustCompile("^plan calendar"), "GET …/calendar"},
	{regexp.MustCompile("^device show$"), "GET …/devices/{device}"},
	{regexp.MustCompile("^run ls$"), "GET …/runs"},
	{regexp.MustCompile("^session ls$"), "GET …/sessions"},
	{regexp.MustCompile("^session open$"), "POST …/sessions"},
	{regexp.MustCompile("^session show$"), "GET …/sessions/{session}/entries"},
	{regexp.MustCompile("^checklist ls$"), "GET …/checklists"},
	{regexp.MustCompile("^finding ls$"), "GET …/findings"},
	{regexp.MustCompile("^console$"), "POST /api/v1/sign-ins"},
}

var commandIn = regexp.MustCompile("`yamato ([^`]+)`")

var flagIn = regexp.MustCompile(`--([a-z][a-z-]*)\b`)

// forPrograms rewrites a hint that names commands for those who call over HTTP.
func forPrograms(hint string) string {
	hint = commandIn.ReplaceAllStringFunc(hint, func(quoted string) string {
		command := commandIn.FindStringSubmatch(quoted)[1]
		for _, c := range calls {
			if m := c.command.FindStringSubmatchIndex(command); m != nil {
				return "`" + string(c.command.ExpandString(nil, c.call, command, m)) + "`"
			}
		}
		return quoted
	})
	if strings.Contains(hint, "`yamato ") {
		return hint
	}
	return flagIn.ReplaceAllStringFunc(hint, func(flag string) string { // a flag of a command is a field of a call
		return strings.ReplaceAll(strings.TrimPrefix(flag, "--"), "-", "_")
	})
}

// forPeople reports whether a call's answer is read by somebody who gives commands: the
// command-line client says who it is, and a console is signed in by a cookie.
func forPeople(g *gin.Context) bool {
	return strings.HasPrefix(g.Request.UserAgent(), "yamato/") || g.GetHeader("Authorization") == ""
}
