package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
)

// What befalls phones on a cable while runs and a session are under way: the bridge's server is ended, cables are pulled,
// phones start anew, the host and the service are killed. No app is blamed, nothing is stuck, and all come back. `make kills`
// has it happen 40 times.
func TestWhatBefallsPhonesOnACableBlamesNoApp(t *testing.T) {
	if _, err := exec.LookPath("adb"); err != nil {
		t.Skip("adb is not here: make test installs it")
	}
	most, _ := strconv.Atoi(os.Getenv(kills))
	most = max(most, 5)
	home, server := t.TempDir(), freeAddress(t)
	_, port, _ := net.SplitHostPort(server)
	env := []string{"HOME=" + home, "ANDROID_USER_HOME=" + filepath.Join(home, ".android"), "ANDROID_ADB_SERVER_PORT=" + port,
		"ANDROID_AVD_HOME=" + filepath.Join(home, "none")}
	bridge := func(args ...string) {
		ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
		defer stop()
		c := exec.CommandContext(ctx, "adb", append([]string{"-P", port}, args...)...)
		c.Env = append(os.Environ(), env...)
		_ = c.Run() // it may have ended by itself
	}
	t.Cleanup(func() { bridge("kill-server") })
	at := []string{freeAddress(t), freeAddress(t), freeAddress(t)}
	r := newRig(t, rigConfig{env: env, site: fmt.Sprintf("site: cable\ndriver: android\nandroid: {connect: [%q, %q, %q]}\n", at[0], at[1], at[2])})
	var phones []*process
	for i, listen := range at {
		phones = append(phones, r.start(fmt.Sprintf("phone-%d", i), "", "standin", "phone", "--listen", listen, "--serial", fmt.Sprintf("KAEDE%d", i)))
	}
	dir := samples(t)
	r.until("push", "build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
	r.until("push", "suite", "push", filepath.Join(dir, "suites"))
	require.Eventually(t, func() bool { return r.query(`select count(*) from device where state = 'idle'`) == "3" }, patience, 50*time.Millisecond)

	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var work sync.WaitGroup
	runs := 0
	work.Go(func() {
		for ; ctx.Err() == nil; runs++ {
			r.until("start", "run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--on", "real")
			for ctx.Err() == nil && r.query(`select count(*) from run where finished_at is null`) != "0" {
				r.pause(ctx, 200*time.Millisecond)
			}
		}
	})
	work.Go(func() { // a person has one of them in hand now and then
		for ctx.Err() == nil {
			out, _, code := r.yamato("session", "open", "kaede-7-cable-1", "--build", "3.1.4", "--print", "--output", "json")
			var made struct{ Session contract.Session }
			if json.Unmarshal([]byte(out), &made) != nil || made.Session.Number == 0 {
				r.endAll()
				r.pause(ctx, time.Second)
				continue
			}
			if code == 0 {
				r.yamato("session", "do", fmt.Sprint(made.Session.Number), `mark "here"`)
			}
			r.until("end the session", "session", "end", fmt.Sprint(made.Session.Number), "--yes")
		}
	})
	chance, did := rand.New(rand.NewPCG(26, uint64(most))), map[string]int{}
	deeds := []struct {
		what string
		do   func()
	}{
		{"the bridge's server is ended", func() { bridge("kill-server") }},
		{"a cable is pulled", func() { bridge("disconnect", at[chance.IntN(3)]) }},
		{"a phone starts anew", func() { phones[chance.IntN(3)].kill(syscall.SIGKILL) }},
		{"the host is killed", func() { r.host.kill(syscall.SIGKILL) }},
		{"the service is killed", func() { r.services[0].kill(syscall.SIGKILL) }},
	}
	for n := range most {
		r.pause(t.Context(), time.Duration(2000+chance.IntN(7000))*time.Millisecond)
		deed := deeds[n%len(deeds)]
		deed.do()
		did[deed.what]++
	}
	stop()
	work.Wait()
	r.endAll()
	ended := func() bool {
		return r.query(`select count(*) from run where finished_at is null`) == "0" &&
			r.query(`select count(*) from session where state <> 'closed'`) == "0" &&
			r.query(`select count(*) from lease where ended_at is null`) == "0" &&
			// one that has met trouble again and again is taken out, until somebody has looked at it
			r.query(`select count(*) from device where state in ('idle', 'sidelined')`) == "3"
	}
	for begun := time.Now(); !ended() && time.Since(begun) < patience; {
		r.pause(t.Context(), 200*time.Millisecond)
	}
	require.True(t, ended(), "something is stuck: %s", r.query(`select (select json_agg(d) from (select name, state, reason from device) d)::text ||
		(select coalesce(json_agg(l), '[]') from (select state, attempts from leg where state not in ('finished', 'cancelled')) l)::text ||
		(select coalesce(json_agg(s), '[]') from (select number, state from session where state <> 'closed') s)::text ||
		(select coalesce(json_agg(e), '[]') from (select id, device_id, began_at, expires_at from lease where ended_at is null) e)::text`))
	t.Logf("%v: %d runs; cases: %s", did, runs, r.query(`select coalesce(string_agg(verdict || ' ' || n, ', '), '') from (select verdict, count(*) as n from result group by 1) x`))
	require.Equal(t, "[]", r.query(`select coalesce(json_agg(sentence), '[]') from result where verdict = 'fail'`), "an app was blamed")
	require.Equal(t, "0", r.query(`select count(*) from run where verdict is null or verdict = 'none'`), "every run was decided")
	for _, name := range strings.Fields(r.query(`select coalesce(string_agg(name, ' '), '') from device where state = 'sidelined'`)) {
		r.until("take it in again", "device", "restore", name)
	}
	r.until("start", "run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--on", "real", "--wait")
	require.Equal(t, "pass", r.query(`select verdict from run order by id desc limit 1`), "what nothing befalls passes")
}
