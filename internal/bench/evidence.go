package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"database/sql"

	"github.com/jackc/pgx/v5"
	"github.com/minio/minio-go/v7"

	"yamato/demo"
	"yamato/internal/blob"
	"yamato/internal/blob/bucket"
	"yamato/internal/blob/bucket/buckettest"
	"yamato/internal/browser"
	"yamato/internal/contract"
	"yamato/internal/core/device"
	"yamato/internal/core/har"
	"yamato/internal/core/readings"
	"yamato/internal/host/upstream"
)

// uploadVariable names a file that a process of this program hands in as a host would: so that its memory can be told.
const uploadVariable = "YAMATO_BENCH_UPLOAD"

// handIn uploads a file as a host does, and says how much memory that took at most.
func handIn(ctx context.Context) error {
	fields := strings.Split(os.Getenv(uploadVariable), "|")
	f, err := os.Open(fields[0])
	if err != nil {
		return err
	}
	defer f.Close()
	hash := sha256.New()
	size, err := io.Copy(hash, f)
	if err != nil {
		return err
	}
	s := upstream.NewServices([]string{fields[1]}, upstream.FixedToken(fields[2]))
	if err := s.Upload(ctx, hex.EncodeToString(hash.Sum(nil)), f, size); err != nil {
		return err
	}
	fmt.Println(peakKB(os.Getpid()))
	return nil
}

// peakKB is the most memory that a process has had resident.
func peakKB(pid int) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return n
		}
	}
	return 0
}

// evidenceFigures measures what keeping costs, and how fast it goes.
func (r *rig) evidenceFigures(ctx context.Context, page *strings.Builder) error {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		return errors.New("ffmpeg is needed: make video installs it")
	}
	var err error
	if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
		return err
	}
	if err := r.serve(ctx, "evidence"); err != nil {
		return err
	}
	standIn, leaping, err := r.costOnStandIns(ctx)
	if err != nil {
		return err
	}
	lines, copied, err := r.logIntake(ctx)
	if err != nil {
		return err
	}
	opened, scroll, err := r.wholeSheet(ctx)
	if err != nil {
		return err
	}
	hostMB, serviceMB, err := r.largeVideo(ctx)
	if err != nil {
		return err
	}
	r.close()
	handset, err := r.costOnHandset(ctx)
	if err != nil {
		return err
	}
	r.close()
	through, plain, err := bucketRates(ctx, r.dir)
	if err != nil {
		return err
	}
	fmt.Fprintf(page, `## E: evidence

| | |
|---|---|
| attempts with everything kept beside ones with nothing, stand-ins in real time | **%.2f** times as long (aim: at most 1.15) |
| the same where the clock leaps: a case takes no time, and its video some | %.2f times as long |
| the same on a handset | **%.2f** times as long (aim: at most 1.10) |
| log lines taken in, beside PostgreSQL's COPY of the same lines | %.0f and %.0f a second: **%.2f** times as many (aim: at least 0.5) |
| the sheet with %d log lines, 5,000 calls and an hour of readings | open in **%.2f s** (aim: under 1); scrolled, **%.1f frames a second** (aim: 50) |
| memory at the most while a video of 500 MB goes through | **%.0f MB** of who hands it in, **%.0f MB** of the service (aim: under 100 each) |
| blobs to a bucket, beside a plain upload by the client package | %.0f and %.0f MB a second: %.2f |

Medians of five pairs of runs of the sample suites, one after the other. The log goes as hosts hand it in, and is on the
service's disk after it; COPY goes into a table without an index. The bucket is a real S3-compatible server on the same disk.

`, standIn, leaping, handset, lines, copied, lines/copied, logLines, opened, scroll.fps, hostMB, serviceMB, through, plain, through/plain)
	return nil
}

// kept rules, for a run each.
var allKept, noneKept = contract.Keep{"everything": "always"}, contract.Keep{"everything": "never"}

// ratio runs suites with everything kept and with nothing in turn, and gives how many times as long the attempts took.
func (r *rig) ratio(ctx context.Context, names []string, realTime bool, pairs int) (float64, error) {
	var ratios []float64
	for range pairs {
		var took [2]float64
		for i, keep := range []contract.Keep{noneKept, allKept} {
			seed := int64(7)
			a, err := r.client.StartRunWithResponse(ctx, "default", &contract.StartRunParams{},
				contract.NewRun{Build: "3.1.4", Suites: names, Seed: &seed,
					Keep: &keep, RealTime: &realTime})
			if err != nil {
				return 0, err
			}
			if a.JSON200 == nil {
				return 0, fmt.Errorf("starting a run: %s", a.Body)
			}
			if err := until(ctx, 20*time.Minute, func() error {
				n, err := r.count(ctx, `select count(*) from run where number = $1 and finished_at is not null`,
					a.JSON200.Number)
				if err == nil && n == 0 {
					err = errors.New("the run is not finished")
				}
				return err
			}); err != nil {
				return 0, err
			}
			if err := r.db.QueryRowContext(ctx, `select sum(extract(epoch from l.ended_at - l.began_at)) from lease l join attempt t on t.lease_id = l.id
				join run w on w.id = t.run_id where w.number = $1`, a.JSON200.Number).Scan(&took[i]); err != nil {
				return 0, err
			}
		}
		ratios = append(ratios, took[1]/took[0])
	}
	slices.Sort(ratios)
	return ratios[len(ratios)/2], nil
}

func (r *rig) costOnStandIns(ctx context.Context) (realTime, leaping float64, err error) {
	site := "site: bench\ndriver: standin\nmodels:\n  - {model: Kaede 7, platform: android, form: phone, width: 408, height: 896, memory_mb: 8192}\n" +
		"devices:\n  - {name: kaede-7-1, model: Kaede 7, kind: emulator, os: \"14\"}\n"
	if err := r.attach(ctx, "evidence", site, 1); err != nil {
		return 0, 0, err
	}
	names, err := r.pushSamples(ctx)
	if err != nil {
		return 0, 0, err
	}
	if realTime, err = r.ratio(ctx, names[:1], true, 5); err != nil {
		return 0, 0, err
	}
	leaping, err = r.ratio(ctx, names, false, 5)
	return realTime, leaping, err
}

// pushSamples pushes two of the sample suites, the shorter first.
func (r *rig) pushSamples(ctx context.Context) ([]string, error) {
	samples, err := demo.Suites()
	if err != nil {
		return nil, err
	}
	return r.push(ctx, []string{samples["timetable.yamato"], samples["tickets.yamato"]})
}

func (r *rig) costOnHandset(ctx context.Context) (float64, error) {
	var err error
	if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
		return 0, err
	}
	if err := r.serve(ctx, "evidence_handset"); err != nil {
		return 0, err
	}
	site := "site: bench\ndriver: handset\nmodels:\n  - {model: Kaede 7, platform: web, form: phone, width: 408, height: 896, memory_mb: 8192}\n" +
		"devices:\n  - {name: kaede-7-h1, model: Kaede 7, kind: emulator}\n"
	if err := r.attach(ctx, "evidence_handset", site, 1); err != nil {
		return 0, err
	}
	names, err := r.pushSamples(ctx)
	if err != nil {
		return 0, err
	}
	return r.ratio(ctx, names[:1], false, 5)
}

// logIntake gives how many lines of a log the service takes in a second as hosts hand them in, and how many COPY does.
func (r *rig) logIntake(ctx context.Context) (lines, copied float64, err error) {
	const n = 1_000_000
	var b strings.Builder
	rows := make([][]any, n)
	for i := range n {
		text := fmt.Sprintf("line %d of many, with as many words as such lines have", i)
		fmt.Fprintf(&b, "%9.3f %-5s %s: %s\n", float64(i)/1000, "info", "timetable", text)
		rows[i] = []any{int64(i), "info", "timetable", text}
	}
	text := b.String()
	began := time.Now()
	if _, err := r.uploadTo(ctx, "evidence", text); err != nil {
		return 0, 0, err
	}
	lines = n / time.Since(began).Seconds()
	conn, err := pgx.Connect(ctx, r.box.URL("evidence"))
	if err != nil {
		return 0, 0, err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `create table copied (at_ms bigint, level text, tag text, line text)`); err != nil {
		return 0, 0, err
	}
	began = time.Now()
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"copied"}, []string{"at_ms", "level", "tag", "line"},
		pgx.CopyFromRows(rows)); err != nil {
		return 0, 0, err
	}
	return lines, n / time.Since(began).Seconds(), nil
}

func (r *rig) uploadTo(ctx context.Context, database, text string) (digest string, err error) {
	token, err := os.ReadFile(filepath.Join(r.dir, "service-"+database, "host-token"))
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(text))
	digest = hex.EncodeToString(sum[:])
	return digest, upstream.NewServices([]string{r.client.Base()},
		upstream.FixedToken(strings.TrimSpace(string(token)))).Upload(ctx, digest, strings.NewReader(text),
		int64(len(text)))
}

// wholeSheet opens a sheet with all that may be on one, and scrolls it.
func (r *rig) wholeSheet(ctx context.Context) (opened float64, scroll frames, err error) {
	var log strings.Builder
	const hour = 3_600_000
	for i := range logLines {
		fmt.Fprintf(&log, "%9.3f %-5s %s: line %d of many, with as many words as such lines have\n",
			float64(i)*hour/logLines/1000,
			[]string{"debug", "info", "warn"}[i%3], "timetable", i)
	}
	record := har.Record{Device: "kaede-7-1", Bodies: true, Began: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}
	for i := range int64(5000) {
		record.Calls = append(record.Calls, device.Call{AtMS: i * hour / 5000, TookMS: 20 + i%400, WaitMS: 10 + i%100,
			Method:  "GET",
			Address: fmt.Sprintf("https://sorane.example/crossings/%d?from=Sora", i), Status: 200, Bytes: 900,
			MediaType: "application/json",
			Answered: device.Carried{Headers: []device.Header{{Name: "content-type", Value: "application/json"}},
				Body: strings.Repeat(`{"from":"Sora"}`, 40)}})
	}
	var archive bytes.Buffer
	if err := record.Write(&archive); err != nil {
		return 0, scroll, err
	}
	s, chance := &readings.Series{}, rand.New(rand.NewPCG(1, 2))
	for at := int64(0); at < hour; at += readings.EveryMS {
		s.Add(at, []device.Reading{{Name: "memory", Value: 4e7 + 1e7*chance.Float64()},
			{Name: "cpu", Value: float64(at) / 4000}, {Name: "battery", Value: 80}})
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if err := errors.Join(s.Write(z), z.Close()); err != nil {
		return 0, scroll, err
	}
	facts, err := json.Marshal(map[string]any{"sums": s.Sums()})
	if err != nil {
		return 0, scroll, err
	}
	var run, leg int64
	var index int
	if err := r.db.QueryRowContext(ctx, `select run.number, r.leg_id, r.case_index from result r join run on run.id = r.run_id order by run.number, r.leg_id, r.case_index limit 1`).
		Scan(&run, &leg, &index); err != nil {
		return 0, scroll, err
	}
	for _, one := range []struct{ sort, media, text, facts string }{{"log", "text/plain; charset=utf-8", log.String(),
		"null"},
		{"network", "application/json; profile=har", archive.String(), "null"}, {"readings", "application/gzip",
			packed.String(), string(facts)}} {
		digest, err := r.uploadTo(ctx, "evidence", one.text)
		if err != nil {
			return 0, scroll, err
		}
		if _, err := r.db.ExecContext(ctx, `
			with one as (select r.* from result r join run on run.id = r.run_id where run.number = $4 and r.leg_id = $5 and r.case_index = $6 limit 1),
			gone as (delete from evidence e using one where e.lease_id = one.lease_id and e.case_index = one.case_index and e.sort = $1)
			insert into evidence (project_id, run_id, lease_id, case_index, sort, name, media_type, digest, size, facts)
			select project_id, run_id, lease_id, case_index, $1, $1, $2, $3, $7, $8::jsonb from one`, one.sort, one.media, digest, run, leg, index,
			len(one.text), one.facts); err != nil {
			return 0, scroll, err
		}
	}
	b, err := browser.Open(ctx)
	if err != nil {
		return 0, scroll, err
	}
	defer b.Close()
	tab, err := b.Tab()
	if err != nil {
		return 0, scroll, err
	}
	defer tab.Close()
	tab.Patience(time.Minute)
	if _, err := r.firstLoad(ctx, tab); err != nil { // signs the browser in
		return 0, scroll, err
	}
	if err := tab.Await(`location.pathname === "/"`); err != nil {
		return 0, scroll, err
	}
	var times []float64
	for range 3 { // as somebody comes to it from the run's page
		if err := tab.Go(fmt.Sprintf("%s/runs/%d", r.client.Base(), run)); err != nil {
			return 0, scroll, err
		}
		if err := tab.Await(`document.querySelector("[role=grid]")`); err != nil {
			return 0, scroll, err
		}
		began := time.Now()
		if err := tab.Run(fmt.Sprintf(`(() => { history.pushState({}, "", "/runs/%d?leg=%d&case=%d&wide=1"); dispatchEvent(new PopStateEvent("popstate")) })()`, run, leg, index)); err != nil {
			return 0, scroll, err
		}
		if err := tab.Await(fmt.Sprintf(`(() => { const m = document.querySelector("[aria-label=Moments]"); return m && Number(m.dataset.log) === %d && Number(m.dataset.calls) === 5000 && document.querySelector("[role=option]") })()`, logLines)); err != nil {
			return 0, scroll, err
		}
		times = append(times, time.Since(began).Seconds())
	}
	slices.Sort(times)
	if err := tab.Run(`(() => { const box = document.querySelector("[aria-label=Moments]"); box.scrollTop = 0; const on = () => { box.scrollTop = (box.scrollTop + 66000) % box.scrollHeight; requestAnimationFrame(on); }; requestAnimationFrame(on); })()`); err != nil {
		return 0, scroll, err
	}
	t, err := trace(ctx, tab, 8*time.Second)
	return times[1], t.frames(), err
}

// largeVideo hands in 500 MB, and gives the peaks of both ends' memory.
func (r *rig) largeVideo(ctx context.Context) (hostMB, serviceMB float64, err error) {
	path := filepath.Join(r.dir, "large.webm")
	if err := random(path, 500<<20); err != nil {
		return 0, 0, err
	}
	defer os.Remove(path)
	token, err := os.ReadFile(filepath.Join(r.dir, "service-evidence", "host-token"))
	if err != nil {
		return 0, 0, err
	}
	// What the service had at the most before this does not count (proc(5), clear_refs).
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", r.service.Process.Pid), []byte("5"), 0o600); err != nil {
		return 0, 0, err
	}
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	cmd := exec.CommandContext(ctx, self)
	cmd.Env = append(os.Environ(), uploadVariable+"="+strings.Join([]string{path, r.client.Base(),
		strings.TrimSpace(string(token))}, "|"))
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return 0, 0, err
	}
	kb, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
	return kb / 1024, float64(peakKB(r.service.Process.Pid)) / 1024, err
}

func random(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = io.CopyN(f, rand.NewChaCha8([32]byte{1}), size)
	return errors.Join(err, f.Close())
}

// bucketRates gives megabytes a second of blobs kept in a bucket, and of a plain upload by the client package.
func bucketRates(ctx context.Context, dir string) (through, plain float64, err error) {
	s, err := buckettest.Start(ctx, filepath.Join(dir, "objects"), "sorane")
	if err != nil {
		return 0, 0, err
	}
	defer s.Stop()
	keys := filepath.Join(dir, "keys")
	if err := os.WriteFile(keys, fmt.Appendf(nil, "[default]\naws_access_key_id = %s\naws_secret_access_key = %s\n",
		buckettest.Access, buckettest.Secret), 0o600); err != nil {
		return 0, 0, err
	}
	place, err := bucket.ReadPlace("s3://sorane/bench?endpoint="+s.URL, func(string) string { return "" })
	if err != nil {
		return 0, 0, err
	}
	b, err := bucket.Open(ctx, place, keys, filepath.Join(dir, "spool"))
	if err != nil {
		return 0, 0, err
	}
	c, err := s.Client()
	if err != nil {
		return 0, 0, err
	}
	const size = 128 << 20
	var ours, theirs []float64
	for i := range 5 {
		path := filepath.Join(dir, fmt.Sprintf("piece-%d", i))
		if err := random(path, size+int64(i)); err != nil {
			return 0, 0, err
		}
		for _, one := range []func(f *os.File) error{
			func(f *os.File) error {
				began := time.Now()
				_, err := b.Put(ctx, f, "", 1<<40, func(blob.Info) error { return nil })
				ours = append(ours, float64(size)/1e6/time.Since(began).Seconds())
				return err
			},
			func(f *os.File) error {
				began := time.Now()
				_, err := c.PutObject(ctx, "sorane", fmt.Sprintf("plain-%d", i), f, size+int64(i),
					minio.PutObjectOptions{})
				theirs = append(theirs, float64(size)/1e6/time.Since(began).Seconds())
				return err
			},
		} {
			f, err := os.Open(path)
			if err != nil {
				return 0, 0, err
			}
			if err := errors.Join(one(f), f.Close()); err != nil {
				return 0, 0, err
			}
		}
		if err := os.Remove(path); err != nil {
			return 0, 0, err
		}
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	return ours[2], theirs[2], nil
}
