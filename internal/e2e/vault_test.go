package e2e

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
)

const lending = `suite "Signing in"
use "steps/getting-about.yamato"

case "one signs in"
  account "payer" as $who
  do sign in as "{who.user}" with $who.password
  expect #signed-in contains "aya@sorane.example"
end

case "what was typed is not told"
  let word = secret "harbour word"
  do sign in as $word with $word
  note "typed {word}"
  expect #signed-in contains "nobody"
end
`

// There are three combinations and one account: its legs run one after the other, and in the end
// it is free. What a secret is stands nowhere, whatever the app does with it.
func TestAnAccountIsOneLegsAtATimeAndASecretStandsNowhere(t *testing.T) {
	t.Parallel()
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	for _, v := range []string{"3.2.0"} {
		files, err := filepath.Glob(filepath.Join(dir, "tideline-"+v+"*"))
		require.NoError(t, err)
		_, errOut, code := r.yamato(append([]string{"build", "push"}, files...)...)
		require.Zero(t, code, errOut)
	}
	suite := filepath.Join(dir, "suites", "signing-in.yamato")
	require.NoError(t, os.WriteFile(suite, []byte(lending), 0o600))

	// What there is none of is said before anything runs.
	out, _, code := r.yamato("suite", "check", suite, "--app", "Tideline")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, `the project has no secret "harbour word"`)
	require.Contains(t, out, `the project has no account "payer"`)
	require.NotContains(t, out, "ever matched", "of an app that has never run nothing is known")

	const secret, password = "Q7-plum&kelp<41>", "Zx9 \"amber\" tide"
	_, errOut, code := r.yamatoWith(strings.NewReader(secret+"\n"), "secret", "set", "harbour word")
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamatoWith(strings.NewReader(password+"\n"), "account", "add", "payer", "--user",
		"aya@sorane.example")
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamato("suite", "push", suite)
	require.Zero(t, code, errOut)

	out, errOut, code = r.yamato("run", "start", "--build", "3.2.0", "--suite", "Signing in", "--wait")
	require.Equal(t, 1, code, errOut)
	require.Contains(t, out, `[secret "harbour word"]`, "the failure tells what it was, by its name")
	told := []string{out, errOut}

	var d contract.RunDetail
	out, _, _ = r.yamato("run", "show", "1", "--output", "json")
	told = append(told, out)
	require.NoError(t, json.Unmarshal([]byte(out), &d))
	require.Len(t, d.Legs, 3)
	for _, leg := range d.Legs {
		require.Equal(t, "pass", leg.Cases[0].Verdict)
		require.Equal(t, "fail", leg.Cases[1].Verdict)
	}
	require.Equal(t, "0", r.query(`select count(*)::text from lease a join lease b on a.id < b.id
		and a.granted_at < b.ended_at and b.granted_at < a.ended_at`), "no two legs had the account at once")
	var accounts []contract.Account
	out, _, _ = r.yamato("account", "ls", "--output", "json")
	require.NoError(t, json.Unmarshal([]byte(out), &accounts))
	require.Len(t, accounts, 1)
	require.Empty(t, accounts[0].LentTo)

	evidence := filepath.Join(dir, "evidence")
	_, errOut, code = r.yamato("run", "fetch", "1", evidence)
	require.Zero(t, code, errOut)
	for _, form := range []string{"--html", "--junit", "--tap", "--json"} {
		_, errOut, code = r.yamato("run", "report", "1", form, filepath.Join(evidence, "report"+form))
		require.Zero(t, code, errOut)
	}
	told = append(told, r.query(`select string_agg(run_event::text, ' ') from run_event`),
		r.query(`select string_agg(result::text, ' ') from result`),
		r.query(`select string_agg(seen_element::text, ' ') from seen_element`),
		r.query(`select string_agg(secret::text, ' ') from secret`),
		r.query(`select string_agg(account::text, ' ') from account`))
	for _, text := range told {
		requireWithout(t, []byte(text), "what is told or kept in records", secret, password)
	}
	read := 0
	for _, where := range []string{evidence, r.dir} {
		require.NoError(t, filepath.WalkDir(where, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			read++
			requireWithout(t, text, path, secret, password)
			return nil
		}))
	}
	require.Greater(t, read, 20)
}

// requireWithout looks for values as they are, and as JSON, HTML and addresses write them.
func requireWithout(t *testing.T, text []byte, where string, values ...string) {
	t.Helper()
	for _, v := range values {
		quoted, err := json.Marshal(v)
		require.NoError(t, err)
		for _, form := range []string{v, string(quoted[1 : len(quoted)-1]), v[:9]} {
			if bytes.Contains(text, []byte(form)) {
				require.Failf(t, "a secret is told", "%s holds %s", where, form)
			}
		}
	}
}

// A file that a suite uses is a part of it: a change there is another revision, and what runs.
func TestAChangeInAFileThatASuiteUsesIsAnotherRevision(t *testing.T) {
	t.Parallel()
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	_, errOut, code := r.yamato("build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
	require.Zero(t, code, errOut)
	suite, used := filepath.Join(dir, "suites", "order.yamato"), filepath.Join(dir, "suites", "steps", "own.yamato")
	write := func(path, text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	write(suite, "suite \"Order\"\nuse \"steps/own.yamato\"\ncase \"a\" tags slow\n  do look\nend\ncase \"b\"\n  do look\nend\n\ncase \"c\"\n  do look\nend\n")
	write(used, "action look\n  expect tab called \"Tickets\"\nend\n")
	push := func() contract.Suite {
		out, errOut, code := r.yamato("suite", "push", suite, "--output", "json")
		require.Zero(t, code, errOut)
		var s []contract.Suite
		require.NoError(t, json.Unmarshal([]byte(out), &s))
		require.Len(t, s, 1)
		return s[0]
	}
	first := push()
	require.Equal(t, first.Revision, push().Revision, "nothing has changed")
	write(used, "action look\n  expect tab called \"Nowhere\" within 100ms\nend\n")
	require.Equal(t, first.Revision+1, push().Revision)

	run := func(args ...string) contract.RunDetail {
		out, errOut, _ := r.yamato(append([]string{"run", "start", "--build", "3.1.4", "--suite", "Order", "--on",
			"kaede-7-1", "--wait", "--output", "json"}, args...)...)
		var d contract.RunDetail
		require.NoError(t, json.Unmarshal([]byte(out), &d), "%s%s", out, errOut)
		return d
	}
	names := func(d contract.RunDetail) (out []string) {
		for _, x := range d.Legs[0].Cases {
			out = append(out, x.Name)
		}
		return out
	}
	d := run()
	require.Equal(t, "fail", d.Run.Verdict)
	require.Equal(t, []string{"a", "b", "c"}, names(d))
	write(used, "action look\n  expect tab called \"Tickets\"\nend\n")
	push()
	require.Equal(t, []string{"b", "c"}, names(run("--tag", "not slow")))
	require.Equal(t, []string{"b"}, names(run("--from-line", "7")))

	// By one seed the order is one, and it is told; by some other it is another.
	began := func(d contract.RunDetail) string {
		return r.query(`select string_agg(e.one->>'case_index', ' ' order by last, n) from run_event join run on run.id = run_id,
			jsonb_array_elements(events) with ordinality e(one, n) where run.number = $1 and e.one->>'kind' = 'result'`, d.Run.Number)
	}
	one := run("--order", "random", "--seed", "3")
	require.Equal(t, began(one), began(run("--order", "random", "--seed", "3")))
	orders := map[string]bool{}
	for _, seed := range []string{"1", "2", "3", "4", "5", "6", "7", "8"} {
		orders[began(run("--order", "random", "--seed", seed))] = true
	}
	require.Greater(t, len(orders), 1)

	write(used, "action look\n  tpa #x\nend\n")
	out, errOut, code := r.yamato("suite", "push", suite)
	require.NotZero(t, code)
	require.Contains(t, out+errOut, "own.yamato")
	require.Contains(t, out+errOut, "did you mean `tap`")
}
