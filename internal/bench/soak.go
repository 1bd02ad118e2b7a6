package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"yamato/demo"
)

// soak has runs go on, one after the other, with odd calls beside them, and sees whether
// the memory of service, host and apps stays as it is. It gives an error where it grows.
func soak(ctx context.Context, c config, length time.Duration) error {
	r, err := newRig(ctx, c)
	if err != nil {
		return err
	}
	defer func() { _ = r.box.Stop() }()
	defer r.close()
	if err := r.serve(ctx, "soak"); err != nil {
		return err
	}
	if err := r.attach(ctx, "soak", standInSite(), standIns); err != nil {
		return err
	}
	suites, err := demo.Suites()
	if err != nil {
		return err
	}
	var texts []string
	for _, text := range suites {
		texts = append(texts, text)
	}
	slices.Sort(texts)
	names, err := r.push(ctx, texts)
	if err != nil {
		return err
	}
	begin := time.Now()
	var samples []usage
	next, told := begin, begin
	for runs := 0; time.Since(begin) < length; {
		run, err := r.start(ctx, names)
		if err != nil {
			return err
		}
		runs++
		r.oddCalls(ctx)
		if err := until(ctx, 2*time.Minute, func() error {
			n, err := r.count(ctx, `select count(*) from run where number = $1 and finished_at is not null`, run.Number)
			if err == nil && n == 0 {
				err = errors.New("a run does not end")
			}
			return err
		}); err != nil {
			return err
		}
		if now := time.Now(); now.After(next) {
			next = now.Add(2 * time.Second)
			samples = append(samples, r.usage())
			if now.Sub(told) > 30*time.Second {
				told = now
				fmt.Printf("%5s  %4d runs  %s\n", now.Sub(begin).Round(time.Second), runs, samples[len(samples)-1])
			}
		}
	}
	if wrong, err := r.count(ctx, `select count(*) from result where verdict = 'error'`); err != nil || wrong > 0 {
		return errors.Join(err, fmt.Errorf("%d results are errors", wrong))
	}
	return judgeGrowth(samples)
}

// usage is resident memory, in kilobytes.
type usage struct{ service, host, apps int64 }

func (u usage) String() string {
	return fmt.Sprintf("service %4d MB, host %4d MB, apps %4d MB", u.service>>10, u.host>>10, u.apps>>10)
}

func (r *rig) usage() usage {
	u := usage{service: residentKB(r.service.Process.Pid), host: residentKB(r.host.Process.Pid)}
	for _, child := range childrenOf(r.host.Process.Pid) {
		u.apps += residentKB(child)
	}
	return u
}

// judgeGrowth compares the last quarter of the samples with the second.
func judgeGrowth(samples []usage) error {
	n := len(samples)
	if n < 8 {
		return errors.New("too short to tell anything: soak for longer")
	}
	mean := func(list []usage) (out usage) {
		for _, u := range list {
			out.service, out.host, out.apps = out.service+u.service, out.host+u.host, out.apps+u.apps
		}
		k := int64(len(list))
		return usage{out.service / k, out.host / k, out.apps / k}
	}
	before, after := mean(samples[n/4:n/2]), mean(samples[3*n/4:])
	fmt.Printf("second quarter  %s\nlast quarter    %s\n", before, after)
	var wrong []string
	for what, pair := range map[string][2]int64{"service": {before.service, after.service},
		"host": {before.host, after.host}, "apps": {before.apps, after.apps}} {
		if pair[1] > pair[0]*115/100+10<<10 {
			wrong = append(wrong, fmt.Sprintf("the memory of the %s grew from %d to %d MB", what, pair[0]>>10,
				pair[1]>>10))
		}
	}
	if len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "; "))
	}
	fmt.Println("Memory is flat.")
	return nil
}

// oddCalls sends what no caller should.
func (r *rig) oddCalls(ctx context.Context) {
	for _, body := range []string{`{"text":"` + strings.Repeat("(", 100_000) + `"}`, "\x00", `{"build":"\u0000"}`,
		strings.Repeat("[", 50_000)} {
		for _, path := range []string{"/suites", "/runs", "/builds", "/nowhere"} {
			req, err := http.NewRequestWithContext(ctx, http.MethodPost,
				r.client.Base()+"/api/v1/projects/default"+path,
				strings.NewReader(body))
			if err != nil {
				continue
			}
			req.Header.Set("Content-Type", "application/json")
			if response, err := http.DefaultClient.Do(req); err == nil {
				_, _ = io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20))
				_ = response.Body.Close()
			}
		}
	}
}
