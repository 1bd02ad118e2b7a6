package store_test

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/pgbox/pgtest"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	"yamato/internal/store/vault"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// records are a project with a build, a suite, devices and a run.
type records struct {
	*store.Store
	t       *testing.T
	url     string // of its database
	project int64
	host    int64
	devices []int64
	run     store.Run
}

func newRecords(t *testing.T, devices, legs int) *records {
	t.Helper()
	ctx := context.Background()
	address := pgtest.Database(t)
	opened, err := store.Open(ctx, address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = opened.Close() })
	r := &records{Store: opened, t: t, url: address}
	r.project, err = r.AddProject(ctx, "default")
	require.NoError(t, err)
	p := store.Package{Digest: "d", FileName: "a.apk",
		Facts: pg.JSON[appfile.Package]{V: appfile.Package{Kind: appfile.Android, Platform: "android",
			ApplicationID: "example.tideline", VersionName: "1", VersionCode: "1"}}}
	require.NoError(t, r.AddPackage(ctx, r.project, p))
	suite, fresh, err := r.AddSuite(ctx, r.project, store.Suite{Name: "S", Digest: "s", FileName: "s.yamato",
		Cases:    pg.JSON[[]store.CaseName]{V: []store.CaseName{{Name: "one"}}},
		Locators: pg.JSON[[]string]{V: []string{"#a"}},
		Asks:     pg.JSON[vault.Asked]{V: vault.Asked{Builds: []string{"2.0"}}}}, nil)
	require.NoError(t, err)
	require.True(t, fresh)
	var build int64
	r.tx(func(tx *store.Tx) error {
		app, err := tx.Builds.AppOf(ctx, r.project, "Tideline", []store.Package{p})
		if err != nil {
			return err
		}
		if build, err = tx.Builds.AddBuild(ctx, r.project, app, "1", "1"); err != nil {
			return err
		}
		if r.host, _, _, err = tx.Hosts.OpenLink(ctx, store.Linking{Project: r.project, Name: "bench", Site: "bench",
			Version: "test", Instance: "00000000-0000-0000-0000-000000000001"}); err != nil {
			return err
		}
		for i := range devices {
			id, err := tx.Devices.PutDevice(ctx, r.project, r.host, kaede(i), fleet.Condition{}, "idle", "")
			if err != nil {
				return err
			}
			r.devices = append(r.devices, id)
		}
		return nil
	})
	n := store.NewRun{Run: store.Asked{ProjectID: r.project, BuildID: build, Purpose: "suite", Language: "en-GB",
		AskedBy: "Aya Torrent"}}
	for range legs {
		n.Legs = append(n.Legs, store.NewLeg{RevisionID: suite.ID, Digest: "d", Combination: fleet.Of(kaede(0),
			fleet.Levels{{Factor: feel.Language, Value: "en-GB"}}), Cases: []int{0}})
	}
	number, err := r.AddRun(ctx, n)
	require.NoError(t, err)
	r.run, err = r.RunNumbered(ctx, r.project, number)
	require.NoError(t, err)
	return r
}

func kaede(i int) fleet.Device {
	return fleet.Device{Name: fmt.Sprintf("kaede-7-%d", i), Site: "bench", Kind: "emulator", Platform: "android",
		Model: "Kaede 7", OS: "14", Traits: []string{}, Abilities: []string{}}
}

func (r *records) tx(do func(*store.Tx) error) {
	r.t.Helper()
	require.NoError(r.t, r.InTx(context.Background(), do))
}

func (r *records) legs() []int64 {
	r.t.Helper()
	list, err := r.Legs(context.Background(), r.run.ID)
	require.NoError(r.t, err)
	var ids []int64
	for _, l := range list {
		ids = append(ids, l.ID)
	}
	return ids
}

// place puts legs on devices, and gives how many could be.
func place(tx *store.Tx, legs, devices []int64) (int, error) {
	ctx := context.Background()
	var list []store.Placement
	for i, leg := range legs {
		list = append(list, store.Placement{Leg: leg, Device: devices[i]})
	}
	if err := tx.Devices.Lock(ctx, devices); err != nil {
		return 0, err
	}
	runs, err := tx.Legs.Place(ctx, list, time.Minute)
	if err != nil {
		return 0, err
	}
	return len(runs), tx.Runs.Begin(ctx, runs)
}

func TestTheOrderOfLocksIsKept(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	leg := r.legs()[0]
	err := r.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Legs.HoldOpen(ctx, r.run.ID); err != nil {
			return err
		}
		return tx.Devices.Lock(ctx, r.devices)
	})
	require.Equal(t, store.OrderError{At: "legs", Wanted: "devices"}, err)
	err = r.InTx(ctx, func(tx *store.Tx) error {
		_, err := tx.Legs.Place(ctx, []store.Placement{{Leg: leg, Device: r.devices[0]}}, time.Minute)
		return err
	})
	require.ErrorAs(t, err, &store.OrderError{}, "a device is locked before its leg is placed on it")
	err = r.InTx(ctx, func(tx *store.Tx) error {
		return tx.ChangeLeases(ctx, []store.LeaseChange{{Lease: 1}})
	})
	require.ErrorAs(t, err, &store.OrderError{}, "a lease is changed by who holds it")
}

func TestTheTestsDatabaseRefusesStatesThatCannotFollow(t *testing.T) {
	r := newRecords(t, 1, 1)
	db, err := sqlx.Open("pgx", r.url)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(`update leg set state = 'running'`)
	require.ErrorContains(t, err, `leg: "running" may not follow "waiting"`)
	_, err = db.Exec(`update leg set state = 'cancelled'`)
	require.NoError(t, err)
	_, err = db.Exec(`insert into device (project_id, host_id, name, site, kind, platform, model, os, facts, worth, state, reason)
		select project_id, host_id, 'x', site, kind, platform, model, os, facts, worth, 'leased', reason from device limit 1`)
	require.ErrorContains(t, err, `device: "leased" may not follow ""`)
	_, err = r.AskErrand(context.Background(), r.project, store.Errand{HostID: r.host, Device: "kaede-7-0", What: "check"}, pg.Wish{})
	require.NoError(t, err)
	_, err = db.Exec(`update errand set done_at = now()`)
	require.NoError(t, err)
	_, err = db.Exec(`update errand set done_at = null`)
	require.ErrorContains(t, err, `errand: "wanted" may not follow "done"`)
}

func TestOnlyWhatIsIdleAndWaitingIsPlaced(t *testing.T) {
	r := newRecords(t, 2, 3)
	ctx := context.Background()
	legs := r.legs()
	put := func(leg, device int64) (n int) {
		r.tx(func(tx *store.Tx) (err error) {
			n, err = place(tx, []int64{leg}, []int64{device})
			return err
		})
		return n
	}
	require.Equal(t, 1, put(legs[0], r.devices[0]))
	require.Zero(t, put(legs[1], r.devices[0]), "one live lease a device")
	devices, err := r.Devices(ctx, r.project)
	require.NoError(t, err)
	require.Equal(t, states.DeviceLeased, devices[0].State)
	require.Equal(t, r.run.Number, *devices[0].Run)

	live, err := r.LiveLeases(ctx, r.host, 1, false)
	require.NoError(t, err)
	require.Len(t, live, 1)
	list, err := r.Assignments(ctx, []int64{live[0].Lease})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, pg.Ints{0}, list[0].Cases)
	live, err = r.LiveLeases(ctx, r.host, 2, true)
	require.NoError(t, err)
	require.Empty(t, live, "not for a link that is not the host's newest")
	g, err := r.GoodsOf(ctx, r.project, 1, "d")
	require.NoError(t, err)
	require.Equal(t, []string{"example.tideline", "s", "#a"}, []string{g.Package.V.ApplicationID, g.Suite,
		g.Locators.V[0]})
}

func TestTheDatabaseItselfForbidsASecondLiveLease(t *testing.T) {
	r := newRecords(t, 1, 2)
	ctx := context.Background()
	legs := r.legs()
	r.tx(func(tx *store.Tx) error {
		_, err := place(tx, legs[:1], r.devices)
		return err
	})
	r.tx(func(tx *store.Tx) error { // as if a fault had set the device free under its lease
		return tx.Devices.ChangeDevices(ctx, []store.DeviceChange{{ID: r.devices[0], To: states.DeviceIdle}})
	})
	err := r.InTx(ctx, func(tx *store.Tx) error {
		_, err := place(tx, legs[1:], r.devices)
		return err
	})
	require.True(t, pg.Conflict(err), "%v", err)
}

func TestEventsOfManyHandsHaveNoGaps(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	var all sync.WaitGroup
	for hand := range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for i := range 10 {
				events := make([]any, 1+(hand+i)%3)
				for k := range events {
					events[k] = map[string]int{"hand": hand}
				}
				err := r.InTx(ctx, func(tx *store.Tx) error {
					_, err := tx.Runs.Append(ctx, map[int64]int64{r.run.ID: r.project},
						[]store.RunEvents{{Run: r.run.ID, Events: events}})
					return err
				})
				require.NoError(t, err)
			}
		}()
	}
	all.Wait()
	next := int64(1)
	batches, err := r.EventsAfter(ctx, r.run.ID, 0, 1000)
	require.NoError(t, err)
	for _, b := range batches {
		require.Equal(t, next, b.First)
		require.Len(t, b.Events.V, int(b.Last-b.First+1))
		next = b.Last + 1
	}
	run, err := r.RunNumbered(ctx, r.project, r.run.Number)
	require.NoError(t, err)
	require.Equal(t, run.LastEvent, next-1)
}

func TestOneLeadsAndOnlyWithItsOwnEpoch(t *testing.T) {
	r := newRecords(t, 0, 0)
	ctx := context.Background()
	const a, b = "00000000-0000-0000-0000-00000000000a", "00000000-0000-0000-0000-00000000000b"
	first, err := r.Lead(ctx, a, time.Minute)
	require.NoError(t, err)
	require.Positive(t, first)
	again, err := r.Lead(ctx, a, time.Minute)
	require.NoError(t, err)
	require.Equal(t, first, again, "to renew is not to begin anew")
	other, err := r.Lead(ctx, b, time.Minute)
	require.NoError(t, err)
	require.Zero(t, other)
	other, err = r.Lead(ctx, b, -time.Second) // as if a had been silent
	require.NoError(t, err)
	require.Greater(t, other, first)
	r.tx(func(tx *store.Tx) error {
		old, err := tx.Hosts.Leads(ctx, a, first)
		require.NoError(t, err)
		require.False(t, old)
		now, err := tx.Hosts.Leads(ctx, b, other)
		require.True(t, now)
		return err
	})
}

func TestALegChangesOnlyFromTheStateItIsThoughtToBeIn(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	change := store.LegChange{Leg: r.legs()[0], From: "running", To: "finished", Todo: []int{}, Avoid: []int64{1, 2}}
	var n int
	r.tx(func(tx *store.Tx) (err error) { n, err = tx.Legs.Change(ctx, []store.LegChange{change}); return err })
	require.Zero(t, n)
	r.tx(func(tx *store.Tx) error { _, err := place(tx, r.legs(), r.devices); return err })
	change.From, change.To = "placed", "waiting"
	r.tx(func(tx *store.Tx) (err error) { n, err = tx.Legs.Change(ctx, []store.LegChange{change}); return err })
	require.Equal(t, 1, n)
	r.tx(func(tx *store.Tx) error {
		list, err := tx.WaitingLegs(ctx)
		require.Equal(t, pg.Int64s{1, 2}, list[0].Avoid)
		return err
	})
}

func TestLocatorsThatMatchedAreKnown(t *testing.T) {
	r := newRecords(t, 0, 1)
	ctx := context.Background()
	for range 2 {
		r.tx(func(tx *store.Tx) error {
			return tx.Known.AddLocators(ctx, []int64{r.project, r.project}, []int64{r.run.AppID, r.run.AppID},
				[]string{"#a", "#elsewhere"})
		})
	}
	known, err := r.KnownLocators(ctx, r.project, r.run.AppID, []string{"#a", "#never"})
	require.NoError(t, err)
	require.Equal(t, []string{"#a"}, known)
}

func TestWhatWasOnceSeenWithoutADoubtStaysSo(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	app := r.run.AppID
	see := func(unsure ...string) {
		t.Helper()
		var list []vault.Element
		for _, u := range unsure {
			list = append(list, vault.Element{Project: r.project, App: app, ID: "map", Role: "img", Unsure: u})
		}
		r.tx(func(tx *store.Tx) error { return tx.Known.AddSeen(ctx, list) })
	}
	is := func() string {
		t.Helper()
		list, err := r.Seen(ctx, r.project, app)
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0].Unsure
	}
	see("it is faint")
	require.Equal(t, "it is faint", is())
	see("it is drawn")
	require.Equal(t, "it is faint", is())
	see("it is drawn", "")
	require.Empty(t, is())
	see("it is faint")
	require.Empty(t, is())
}

func TestATokenIsKeptOnlyAsItsDigest(t *testing.T) {
	r := newRecords(t, 0, 0)
	ctx := context.Background()
	require.NoError(t, r.AddToken(ctx, r.project, "user", "Aya Torrent", "secret"))
	require.NoError(t, r.AddToken(ctx, r.project, "user", "Aya Torrent", "secret"), "twice is harmless")
	c, err := r.CallerOf(ctx, "secret")
	require.NoError(t, err)
	require.Equal(t, "Aya Torrent", c.Name)
	_, err = r.CallerOf(ctx, "Secret")
	require.ErrorIs(t, err, pg.ErrNone)
	require.NotContains(t, string(pg.Digest("secret")), "secret")
}

func TestMigrationsMayRunTwiceAndAtOnce(t *testing.T) {
	r := newRecords(t, 0, 0)
	var all sync.WaitGroup
	for range 4 {
		all.Add(1)
		go func() { defer all.Done(); require.NoError(t, r.Migrate(context.Background())) }()
	}
	all.Wait()
}

func TestRecordsOfANewerProgramAreLeftAsTheyAre(t *testing.T) {
	r := newRecords(t, 0, 0)
	ctx := context.Background()
	_, err := r.DB.ExecContext(ctx, `insert into goose_db_version (version_id, is_applied) values (99999, true)`)
	require.NoError(t, err)
	var newer store.NewerError
	require.ErrorAs(t, r.Migrate(ctx), &newer)
	require.EqualValues(t, 99999, newer.There)
	require.Less(t, newer.Known, newer.There)
}

func TestWhatTheDatabaseDoesNotKnowIsNoFaultOfAValue(t *testing.T) {
	r := newRecords(t, 0, 0)
	fault := func(query string) error {
		_, err := r.DB.ExecContext(context.Background(), query)
		require.Error(t, err)
		return err
	}
	require.False(t, pg.Hopeless(fault(`select no_such_column from lease`)))
	require.False(t, pg.Hopeless(fault(`select 1 from no_such_table`)))
	require.True(t, pg.Hopeless(fault(`select 'x'::int`)))
	require.True(t, pg.Hopeless(fault(`insert into project (name) values (null)`)))
}

func TestWhoListensHearsTheBell(t *testing.T) {
	r := newRecords(t, 0, 0)
	ctx, stop := context.WithCancel(context.Background())
	heard := make(chan struct{}, 10)
	done := make(chan error, 1)
	go func() { done <- r.Listen(ctx, func() { heard <- struct{}{} }) }()
	<-heard // it listens now
	require.NoError(t, r.Ring(ctx))
	select {
	case <-heard:
	case <-time.After(10 * time.Second):
		require.Fail(t, "the bell was not heard")
	}
	stop()
	require.ErrorIs(t, <-done, context.Canceled)
}

func TestFailuresAreKeptAsTheyWere(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	r.tx(func(tx *store.Tx) error {
		if _, err := place(tx, r.legs(), r.devices); err != nil {
			return err
		}
		return tx.AddResults(ctx, []store.NewResult{{ProjectID: r.project, Lease: 1, RunID: r.run.ID,
			LegID:   r.legs()[0],
			Verdict: "fail", Sentence: `it shows "€6.30"`, Failure: map[string]string{"actual": `"quoted" \ and €`},
			Steps: []int{}}})
	})
	list, err := r.Results(ctx, r.run.ID)
	require.NoError(t, err)
	var failure map[string]string
	require.NoError(t, json.Unmarshal(list[0].Failure, &failure))
	require.Equal(t, `"quoted" \ and €`, failure["actual"])
	require.Equal(t, `it shows "€6.30"`, list[0].Sentence)
}

func TestAHostMayReadTheBuildsThatALeasesSuiteInstalls(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	for version, digest := range map[string]string{"2.0": "updated", "3.0": "another"} {
		p := store.Package{Digest: digest, FileName: "a.apk",
			Facts: pg.JSON[appfile.Package]{V: appfile.Package{Kind: appfile.Android,
				Platform: "android", ApplicationID: "example.tideline", VersionName: version, VersionCode: version}}}
		require.NoError(t, r.AddPackage(ctx, r.project, p))
		r.tx(func(tx *store.Tx) error {
			app, err := tx.Builds.AppOf(ctx, r.project, "Tideline", []store.Package{p})
			if err != nil {
				return err
			}
			build, err := tx.Builds.AddBuild(ctx, r.project, app, version, version)
			if err != nil {
				return err
			}
			return tx.Builds.AddToBuild(ctx, r.project, build, p)
		})
	}
	host := ""
	may := func(digest string) bool {
		ok, err := r.MayRead(ctx, r.project, host, digest)
		require.NoError(t, err)
		return ok
	}
	require.False(t, may("updated"), "nobody has a lease yet")
	r.tx(func(tx *store.Tx) error {
		_, err := place(tx, r.legs(), r.devices)
		return err
	})
	require.True(t, may("d"), "the run's own package")
	require.True(t, may("s"), "its suite")
	require.True(t, may("updated"), "the build that the suite installs over it")
	require.False(t, may("another"), "and no other")
}
