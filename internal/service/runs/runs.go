package runs

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/fnv"
	mathrand "math/rand/v2"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/evidence"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/core/states"
	"yamato/internal/service/base"
	"yamato/internal/service/dispatch"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// maxLegs bounds what one run may cover.
const maxLegs = 100_000

// Order is what a run is to be. What is empty is chosen.
type Order struct {
	Build, App               string
	Suites, Cases, Tags      []string
	On                       []string // models, devices, kinds or platforms
	Lineup, Language         string
	RepeatFailed             int
	Seed                     *int64 // a fresh one where nil
	RealTime, LeaveInstalled bool
	Keep                     evidence.Rules // what is kept of it, over what its suites say
	FromLine                 int            // only the case on this line, where one suite is named
	Order                    string         // of the cases: written, or random by the seed
	Steps                    bool           // each step is told as it ends
	Checklist                string         // what people go through by hand: one of Suites, by its digest
}

// StartRun makes a run of what is asked: which build, which suites, on which
// classes of device. What cannot run is left out with its reasons; where nothing
// is left, the call is refused with them.
func (s *Part) StartRun(ctx context.Context, c base.Caller, in Order, key string) (store.Run, error) {
	build, err := s.builds.BuildNamed(ctx, c, in.App, in.Build)
	if err != nil {
		return store.Run{}, err
	}
	levels, err := levelsOf(in.Language)
	if err != nil {
		return store.Run{}, err
	}
	chosen, err := s.chooseCases(ctx, c, in)
	if err != nil {
		return store.Run{}, err
	}
	m, err := s.combine(ctx, c, build, in, levels)
	if err != nil {
		return store.Run{}, err
	}
	n := store.NewRun{IdempotencyKey: key, Run: store.Asked{ProjectID: c.ProjectID, BuildID: build.ID, Purpose: "suite",
		RepeatFailed: in.RepeatFailed,
		AfterError:   1, Language: levels.Of(feel.Language), RealTime: in.RealTime, AskedBy: c.Name,
		Leave: in.LeaveInstalled, Lineup: in.Lineup, Checklist: in.Checklist, Order: in.Order, Steps: in.Steps}}
	if err := in.Keep.Check(); err != nil {
		return store.Run{}, base.Invalid(err.Error(), HowKept)
	}
	n.Run.Keep.V.Run = in.Keep
	if n.Run.RepeatFailed < 0 || n.Run.RepeatFailed > 20 {
		return store.Run{}, base.Invalid("failed cases are repeated 0 to 20 times", "choose fewer repetitions")
	}
	if n.Run.Seed = base.Deref(in.Seed); in.Seed == nil {
		n.Run.Seed = newSeed()
	}
	if in.Order == "random" {
		for _, suite := range chosen {
			shuffle(suite, n.Run.Seed)
		}
	}
	for _, leg := range m.Legs {
		for _, suite := range chosen {
			n.Legs = append(n.Legs, store.NewLeg{RevisionID: suite.id, Digest: build.Packages[leg.Package].Digest,
				Combination: leg.Combination, Device: base.Stated(leg.Device), Never: leg.Never, Cases: suite.cases})
		}
	}
	for _, l := range m.LeftOut {
		n.LeftOut = append(n.LeftOut, store.NewLeftOut{Combination: l.Combination, Reasons: l.Reasons})
	}
	if len(n.Legs) > maxLegs {
		return store.Run{}, base.Invalid(fmt.Sprintf("this run would have %d legs; at most %d are taken", len(n.Legs),
			maxLegs), "choose fewer devices or suites")
	}
	return s.add(ctx, c, n, in)
}

// Look makes a run that starts an app on one device and keeps what is to be seen.
func (s *Part) Look(ctx context.Context, c base.Caller, device string, in Order, key string) (store.Run, error) {
	build, err := s.builds.BuildNamed(ctx, c, in.App, in.Build)
	if err != nil {
		return store.Run{}, err
	}
	levels, err := levelsOf(in.Language)
	if err != nil {
		return store.Run{}, err
	}
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return store.Run{}, base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q", device)
	}
	if d.State == "offline" {
		return store.Run{}, base.Invalid(device+" is offline: "+d.Reason, "start the host of the site "+d.Facts.V.Site)
	}
	i, reasons := fleet.Fit(build.Facts(), d.Facts.V, d.Condition.V.Installed, time.Now())
	if r, ok := d.Facts.V.Admits(c.Name, time.Now()); !ok {
		i, reasons = -1, append(reasons, r)
	}
	if i >= 0 && (d.State == "unready" || d.State == "sidelined") {
		return store.Run{}, base.Invalid(fmt.Sprintf("%s is %s: %s", device, d.State, d.Reason),
			remedy.Say("%s says what to do", remedy.DeviceCheck(device)))
	}
	if i < 0 {
		p := base.Invalid(fmt.Sprintf("%s %s cannot run on %s: %s", build.App, build.VersionName, device,
			reasons[0].Why),
			reasons[0].Remedy)
		return store.Run{}, p
	}
	suite, err := s.lookSuite(ctx, c)
	if err != nil {
		return store.Run{}, err
	}
	return s.add(ctx, c, store.NewRun{IdempotencyKey: key,
		Run: store.Asked{ProjectID: c.ProjectID, BuildID: build.ID, Purpose: "look", Language: levels.Of(feel.Language),
			AskedBy: c.Name, AfterError: 0, Seed: newSeed()},
		Legs: []store.NewLeg{{RevisionID: suite, Digest: build.Packages[i].Digest, Combination: fleet.Of(d.Facts.V,
			levels),
			Device: &d.ID, Cases: []int{0}}}}, []any{device, in})
}

const lookText = `// What the service runs to look at a device.
suite "look"
case "look"
  start app fresh
  picture as "screen"
end
`

func (s *Part) lookSuite(ctx context.Context, c base.Caller) (int64, error) {
	info, err := s.Put(ctx, strings.NewReader(lookText), "", 1<<20)
	if err != nil {
		return 0, err
	}
	in := store.Suite{Name: "yamato: look", Digest: info.Digest, FileName: "look.yamato",
		Cases: pg.JSON[[]store.CaseName]{V: []store.CaseName{{Name: "look", Tags: []string{}}}}}
	in.Locators.V = []string{}
	kept, _, err := s.Store.AddSuite(ctx, c.ProjectID, in, nil)
	return kept.ID, err
}

// add keeps a run. asked is the call that asks for it: with the same key comes the same
// call, or it is refused.
func (s *Part) add(ctx context.Context, c base.Caller, n store.NewRun, asked any) (store.Run, error) {
	body, err := json.Marshal(asked)
	if err != nil {
		return store.Run{}, err
	}
	digest := sha256.Sum256(append([]byte(n.Run.Purpose+"\x00"), body...))
	n.Digest = digest[:]
	if len(n.IdempotencyKey) > 200 {
		return store.Run{}, base.Invalid("an idempotency key has at most 200 characters", "")
	}
	number, err := s.Store.AddRun(ctx, n)
	if pg.Conflict(err) && n.IdempotencyKey != "" { // the same call, a moment earlier
		number, err = s.Store.AddRun(ctx, n)
	}
	if err != nil {
		return store.Run{}, base.Granted(err)
	}
	s.Bell.Ring()
	return s.Store.RunNumbered(ctx, c.ProjectID, number)
}

func newSeed() int64 {
	var b [8]byte
	_, _ = rand.Read(b[:])                               // never fails (crypto/rand)
	return int64(binary.LittleEndian.Uint64(b[:]) >> 12) // fits a JSON number whole
}

// levelsOf gives the levels that a run asks for, of all factors.
func levelsOf(language string) (fleet.Levels, error) {
	levels, why := fleet.UsualLevels(map[string]string{feel.Language: language})
	if why != "" {
		return nil, base.Invalid(why, "en-GB is taken where none is given")
	}
	return levels, nil
}

// maxChosen bounds what a run names.
const maxChosen = 500

type chosenSuite struct {
	id     int64
	name   string
	digest string
	cases  []int
	names  []store.CaseName // of all cases
}

// shuffle puts the cases of a suite in an order that is a function of the seed and of the suite.
func shuffle(s chosenSuite, seed int64) {
	h := fnv.New64a()
	_, _ = h.Write([]byte(s.digest)) // never fails (hash.Hash)
	chance := mathrand.New(mathrand.NewPCG(uint64(seed), h.Sum64()))
	chance.Shuffle(len(s.cases), func(i, j int) { s.cases[i], s.cases[j] = s.cases[j], s.cases[i] })
}

// tagged tells whether a case with tags is wanted: it has one of those that are asked for, where
// any is, and none of those that are asked for with `not` before.
func tagged(tags, asked []string) bool {
	wanted, any := false, false
	for _, t := range asked {
		if unwanted, not := strings.CutPrefix(strings.TrimSpace(t), "not "); not {
			if slices.Contains(tags, strings.TrimSpace(unwanted)) {
				return false
			}
			continue
		}
		any = true
		wanted = wanted || slices.Contains(tags, strings.TrimSpace(t))
	}
	return wanted || !any
}

// caseOn gives the case that a line of a suite belongs to; -1 where no line is asked for.
func caseOn(suite store.Suite, in Order) (int, error) {
	if in.FromLine == 0 {
		return -1, nil
	}
	if len(in.Suites) != 1 {
		return -1, base.Invalid("a line is one of a single suite", "name one suite with it")
	}
	at := -1
	for i, one := range suite.Cases.V {
		if one.Line > 0 && one.Line <= in.FromLine && in.FromLine <= max(one.End, one.Line) {
			at = i // of rows of data, the nearest above
		}
	}
	if at < 0 {
		return -1, base.NotFound(fmt.Sprintf("no case of %s stands on line %d", suite.Name, in.FromLine),
			remedy.Say("%s shows the suite", remedy.SuiteShow))
	}
	return at, nil
}

// chooseCases finds the suites of a run and which of their cases run.
func (s *Part) chooseCases(ctx context.Context, c base.Caller, in Order) ([]chosenSuite, error) {
	var out []chosenSuite
	names, tags := in.Cases, in.Tags
	if len(in.Suites) > maxChosen || len(names) > 10*maxChosen || len(tags) > maxChosen ||
		len(in.On) > maxChosen {
		return nil, base.Invalid(fmt.Sprintf("a run names at most %d suites, tags and devices, and %d cases", maxChosen,
			10*maxChosen), "choose by tag, or make several runs")
	}
	found := map[string]bool{}
	for i, name := range in.Suites {
		if slices.Contains(in.Suites[:i], name) {
			continue
		}
		suite, err := s.Store.SuiteNamed(ctx, c.ProjectID, name)
		if err != nil {
			return nil, base.NotThere(err, remedy.Say("%s lists the suites; %s hands them in", remedy.SuiteList, remedy.SuitePush),
				"there is no suite %q", name)
		}
		chosen := chosenSuite{id: suite.ID, name: suite.Name, digest: suite.Digest, names: suite.Cases.V}
		line, err := caseOn(suite, in)
		if err != nil {
			return nil, err
		}
		for i, one := range suite.Cases.V {
			byName := len(names) == 0 || slices.Contains(names, one.Name)
			if byName && tagged(one.Tags, tags) && (line < 0 || line == i) {
				chosen.cases, found[one.Name] = append(chosen.cases, i), true
			}
		}
		if len(chosen.cases) > 0 {
			out = append(out, chosen)
		}
	}
	for _, n := range names {
		if !found[n] {
			return nil, base.NotFound(fmt.Sprintf("no case of these suites is called %q", n),
				remedy.Say("%s lists the cases", remedy.SuiteList))
		}
	}
	if len(out) == 0 {
		if len(in.Suites) == 0 {
			return nil, base.Invalid("there is no suite", remedy.Say("%s hands them in", remedy.SuitePush))
		}
		return nil, base.Invalid("no case of these suites has these tags: "+plain.Some(tags, 5),
			remedy.Say("%s lists the cases with their tags", remedy.SuiteList))
	}
	return out, nil
}

func (s *Part) combine(ctx context.Context, c base.Caller, build store.Build, in Order,
	levels fleet.Levels) (matrix.Matrix, error) {
	_, m, err := s.candidates(ctx, c, build, in, levels)
	return m, err
}

// candidates gives the devices that a run may use, and what of them can run the build.
func (s *Part) candidates(ctx context.Context, c base.Caller, build store.Build, in Order,
	levels fleet.Levels) ([]matrix.Candidate, matrix.Matrix, error) {
	devices, err := s.Candidates(ctx, c)
	if err != nil {
		return nil, matrix.Matrix{}, err
	}
	if len(devices) == 0 {
		return nil, matrix.Matrix{}, base.Invalid("there are no devices yet", remedy.Say("start a host: %s", remedy.HostStart))
	}
	var picks []fleet.Pick
	for _, p := range in.On {
		picks = append(picks, fleet.Pick(p))
	}
	if name := in.Lineup; name != "" {
		if devices, err = s.builds.ChosenBy(ctx, c, name, devices); err != nil {
			return nil, matrix.Matrix{}, err
		}
	}
	m := matrix.Combine(build.Facts(), devices, picks, levels, c.Name, time.Now())
	if len(m.Unknown) > 0 {
		return nil, m, base.NotFound(fmt.Sprintf("no device answers to %q", m.Unknown[0]),
			remedy.Say("%s lists the models: %s", remedy.DeviceList, strings.Join(models(devices), ", ")))
	}
	if len(m.Legs) == 0 {
		why := fleet.Reason{Why: "the lineup takes none of them now", Remedy: remedy.Say("%s says why", remedy.LineupTry(""))}
		if len(m.LeftOut) > 0 {
			why = m.LeftOut[0].Reasons[0]
		}
		p := base.Invalid(fmt.Sprintf("%s %s can run on none of these devices: %s", build.App, build.VersionName,
			why.Why),
			why.Remedy)
		p.LeftOut = m.LeftOut
		return nil, m, p
	}
	return devices, m, nil
}

func models(devices []matrix.Candidate) []string {
	var out []string
	for _, d := range devices {
		out = append(out, d.Model)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// CancelRun cancels a run: what waits is not run, what runs is ended, what was
// decided is kept.
func (s *Part) CancelRun(ctx context.Context, c base.Caller, number int64) (store.Run, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return store.Run{}, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	if !states.Runs.May(states.Run(r.State), states.RunCancelled) {
		return store.Run{}, base.Invalid(fmt.Sprintf("run %d is %s already", number, r.State), "")
	}
	why := "the run was cancelled by " + c.Name
	err = s.Store.InTx(ctx, func(t *store.Tx) error {
		fresh, err := t.Runs.Cancel(ctx, r.ID)
		if err != nil || !fresh {
			return err
		}
		_, err = t.Runs.Append(ctx, map[int64]int64{r.ID: c.ProjectID},
			[]store.RunEvents{{Run: r.ID, Events: []any{dispatch.Event{Kind: "cancelled"}}}})
		return err
	})
	if err == nil {
		err = dispatch.WindDown(ctx, s.Store, r, why)
	}
	if err != nil {
		return store.Run{}, err
	}
	s.Bell.Ring()
	return s.Store.RunNumbered(ctx, c.ProjectID, number)
}

// Runs lists runs, newest first.
func (s *Part) Runs(ctx context.Context, c base.Caller, f store.RunFilter, cursor int64,
	limit int) (list []store.Run, next *int64, err error) {
	list, err = s.Store.Runs(ctx, c.ProjectID, f, cursor, limit+1)
	if len(list) > limit {
		list, next = list[:limit], &list[limit-1].Number
	}
	return list, next, err
}
