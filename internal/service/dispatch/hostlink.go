package dispatch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"yamato/internal/contain"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/core/states"
	"yamato/internal/killpoint"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/access"
	"yamato/internal/store/pg"
)

// MaxDevices bounds how many devices one host may declare.
const MaxDevices = 5000

// maxFact bounds what a host says of a device, in bytes of one text.
const maxFact = 500

// session is one host's link to this instance.
type session struct {
	service *Part
	caller  base.Caller
	conn    link.Conn
	out     outbox
	host    int64
	number  int64  // of the link
	own     string // the token that it was given, until it has kept it
	close   context.CancelCauseFunc
	told    bool                      // of the leases that were live when it linked
	leases  map[int64]bool            // that were sent, and that the host has said nothing of yet
	ended   map[int64]bool            // leases whose early end was sent
	asked   map[int64]bool            // errands that were sent and are not done
	wished  map[int64]bool            // screens that were asked for and not shown
	known   map[int64]map[string]bool // by run, what it knew of its app when it began
	goods   map[goodsKey]store.Goods  // many leases hand over the same
}

type goodsKey struct {
	project, revision int64
	pack              string // digest
}

const maxGoods = 2000

// ServeHost serves a host's link until it or ctx ends, and gives why it ended.
func (s *Part) ServeHost(ctx context.Context, c base.Caller, conn link.Conn) error {
	s.sessions.Add(1)
	defer s.sessions.Done()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	n := &session{service: s, caller: c, conn: conn, out: newOutbox(), close: cancel, ended: map[int64]bool{},
		goods: map[goodsKey]store.Goods{}}
	if err := n.open(ctx); err != nil {
		return err
	}
	defer n.forget(context.WithoutCancel(ctx))
	var work sync.WaitGroup                        // both end with ctx
	beside := func(what string, do func() error) { // a panic costs this link alone
		work.Go(func() {
			if err := contain.Do(what, do); err != nil {
				cancel(err)
			}
		})
	}
	beside("delivering to a host", func() error { n.deliver(ctx); return nil })
	beside("telling a host", func() error { return n.out.run(ctx, conn) })
	err := contain.Do("hearing a host", func() error { return n.hear(ctx) })
	cancel(err)
	work.Wait()
	return context.Cause(ctx)
}

// open takes the host's hello and its devices in, and answers.
func (n *session) open(ctx context.Context) error {
	s := n.service
	var first link.FromHost
	wait, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	if err := n.conn.Receive(wait, &first); err != nil {
		return err
	}
	h := first.Hello
	switch {
	case h == nil:
		return base.Invalid("a link begins with hello", "")
	case h.Version != link.Version:
		return base.Refuse(base.LinkVersion, fmt.Sprintf("the host speaks version %d of the link, this service %d",
			h.Version, link.Version), "use the same program for both")
	case len(h.Devices) > MaxDevices:
		return base.Invalid(fmt.Sprintf("a host has at most %d devices", MaxDevices), "run several hosts")
	case h.Host == "" || len(h.Host) > 100 || !plain.Is(h.Host) || strings.ContainsFunc(h.Host, unicode.IsControl):
		return base.Invalid("a host has a name of 1 to 100 characters", "")
	case !fleet.IsName(h.Site):
		return base.Invalid(fmt.Sprintf("%q cannot be the name of a site", plain.Clip(h.Site, 80)),
			"a name is of at most 63 small letters, digits and hyphens")
	}
	if n.caller.Host != "" && n.caller.Host != h.Host {
		return base.Forbidden(fmt.Sprintf("this token is that of the host %s, and the host that came with it is named %s", n.caller.Host, h.Host),
			remedy.Say("give each host a folder, and a token, of its own: %s", remedy.HostTokenMake("NAME")))
	}
	replaced := false
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		var err error
		linking := store.Linking{Project: n.caller.ProjectID, Name: h.Host, Site: h.Site, Version: h.Program,
			Instance: s.Instance, Boot: h.Boot, Started: h.Started}
		if n.host, n.number, replaced, err = t.Hosts.OpenLink(ctx, linking); errors.Is(err, store.ErrNewerHost) {
			return base.Refuse(base.HostName, "another host named "+h.Host+", started later, is linked",
				remedy.Say("give each host a name of its own: %s", remedy.Option("name")))
		} else if err != nil {
			return err
		}
		if err := t.Hosts.DropErrands(ctx, n.host, append([]int64{}, h.Errands...),
			"its host was linked anew before it was done"); err != nil {
			return err
		}
		if n.own, err = n.enrol(ctx, t.Hosts, h.Host); err != nil {
			return err
		}
		return n.takeIn(ctx, t, h)
	})
	if err != nil {
		return fmt.Errorf("taking the host %s in: %w", h.Host, err)
	}
	if replaced {
		s.Log.Warn("two hosts have one name; the one that was started later has the link", "host", h.Host)
	}
	s.Log.Info("host linked", "host", h.Host, "site", h.Site, "devices", len(h.Devices), "link", n.number)
	s.Bell.Ring()
	return n.conn.Send(ctx, link.ToHost{Welcome: &link.Welcome{Version: link.Version,
		TTLMS:    s.Config.TTL.Milliseconds(),
		Replaced: replaced, Token: n.own}})
}

// enrol gives a host that came with the token that hosts share one of its own, and notes that one came with its own.
func (n *session) enrol(ctx context.Context, t store.Hosts, host string) (own string, err error) {
	if n.caller.Host != "" {
		return "", t.Linked(ctx, n.caller.TokenID)
	}
	own = base.NewToken()
	if err := t.Enrol(ctx, n.caller.ProjectID, host, own); errors.Is(err, access.ErrOwnToken) {
		return "", base.Forbidden(fmt.Sprintf("the host %s has a token of its own, and the one that hosts share works once for each", host),
			remedy.Say("it lies in its folder; where that is lost, make another: %s", remedy.HostTokenMake(host)))
	} else if err != nil {
		return "", err
	}
	return own, nil
}

// takeIn keeps what a host says of itself when it links.
func (n *session) takeIn(ctx context.Context, t *store.Tx, h *link.Hello) error {
	if err := t.Hosts.Tell(ctx, n.host, h.Offer, h.Load); err != nil {
		return err
	}
	ids, err := n.putDevices(ctx, t.Devices, h.Devices, nil)
	if err != nil {
		return err
	}
	if err := t.Devices.DropDevices(ctx, n.host, ids); err != nil {
		return err
	}
	return t.MarkDirty(ctx, store.DirtyDevice, ids)
}

// putDevices keeps what the host declares of devices, and gives their ids. Only those
// that are named are locked, or all where none is.
func (n *session) putDevices(ctx context.Context, t store.Devices, devices []link.Device,
	names []string) ([]int64, error) {
	declared := make([]string, len(devices))
	for i, d := range devices {
		declared[i] = d.Name
	}
	for _, name := range append(slices.Clone(names), declared...) {
		if !fleet.IsName(name) {
			return nil, base.Invalid(fmt.Sprintf("%q cannot be the name of a device", plain.Clip(name, 80)),
				"a name is of at most 63 small letters, digits and hyphens")
		}
	}
	rows, err := t.OfHost(ctx, n.caller.ProjectID, n.host, names, declared)
	if err != nil {
		return nil, err
	}
	known := map[string]store.Device{}
	for _, d := range rows {
		known[d.Facts.V.Name] = d
	}
	var ids []int64
	slices.SortFunc(devices, func(a, b link.Device) int { return cmp.Compare(known[a.Name].ID, known[b.Name].ID) })
	for _, d := range devices {
		plain.Deep(&d.Device, maxFact)
		if err := d.Use.Check(); err != nil {
			return nil, base.Invalid(fmt.Sprintf("the rule for who may use %s cannot be: %v", d.Name, err),
				"mend it in the site file")
		}
		state, reason := stateOf(known[d.Name], d)
		id, err := t.PutDevice(ctx, n.caller.ProjectID, n.host, d.Device, d.Condition, state, reason)
		if errors.Is(err, pg.ErrNone) {
			return nil, base.Invalid(fmt.Sprintf("a device named %s belongs to another host", d.Name),
				"give it a name of its own in the site file")
		}
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// stateOf decides the state of a device that a host declares: a lease that has
// it, or that it has not been cleaned of yet, comes first, then what people and the
// service have decided, then its condition.
func stateOf(known store.Device, d link.Device) (state states.Device, reason string) {
	switch known.State {
	case states.DeviceLeased:
		return known.State, known.Reason
	case states.DeviceResetting:
		if d.Lease != 0 {
			return known.State, known.Reason
		}
	}
	if known.Sideline != nil {
		return states.DeviceSidelined, known.Sideline.V.Reason
	}
	return d.Condition.State()
}

func (n *session) forget(ctx context.Context) {
	s := n.service
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	if err := s.Store.InTx(ctx, func(t *store.Tx) error { return t.Hosts.CloseLink(ctx, n.host, n.number) }); err != nil {
		s.Log.Warn("the end of a host's link could not be recorded; it will be noticed", "error", err)
	}
	s.Bell.Ring()
}

// send queues a message for the host; nobody waits for the host to take it. A link that
// too much waits for is closed.
func (n *session) send(m link.ToHost) {
	if err := n.out.put(m); err != nil {
		n.close(err)
	}
}

// hear takes in what the host says.
func (n *session) hear(ctx context.Context) error {
	for {
		var m link.FromHost
		if err := n.conn.Receive(ctx, &m); err != nil {
			return err
		}
		if len(m.Renew) > 0 {
			live, err := n.service.Store.Renew(ctx, n.host, m.Renew, n.service.Config.TTL)
			if err != nil {
				n.service.Log.Warn("leases could not be renewed", "error", err)
				continue // the host asks again
			}
			n.send(link.ToHost{Renewed: &link.Renewed{Ask: m.Ask, Leases: live,
				TTLMS: n.service.Config.TTL.Milliseconds()}})
		}
		if m.Adopted && n.own != "" { // the one that hosts share is of no more use for it
			if err := n.service.Store.HostTokenKept(ctx, n.own); err != nil {
				return err
			}
			n.own = ""
		}
		if m.Seen != nil {
			n.keepSeen(ctx, *m.Seen)
		}
		if m.Fleet != nil {
			n.keepFleet(ctx, *m.Fleet)
		}
		if m.Done != nil {
			if err := n.keepDone(ctx, *m.Done); err != nil {
				return fmt.Errorf("how an errand ended could not be kept; its host says it again when it links "+
					"anew: %w", err)
			}
		}
		if len(m.Events) == 0 {
			continue
		}
		select {
		case n.service.inbox <- &inbound{n, m.Events}:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// deliver sends leases as they appear in the records.
func (n *session) deliver(ctx context.Context) {
	heard, leave := n.service.Bell.Subscribe()
	defer leave()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for {
		if err := n.sendErrands(ctx); err != nil && ctx.Err() == nil {
			n.service.Log.Warn("an errand could not be passed on; trying again", "error", err)
		}
		if err := n.askHost(ctx); err != nil && ctx.Err() == nil {
			n.service.Log.Warn("a wish to see a screen could not be passed on; trying again", "error", err)
		}
		if err := n.deliverNew(ctx); err != nil && ctx.Err() == nil {
			n.service.Log.Warn("leases could not be delivered; trying again", "error", err)
		}
		select {
		case <-heard:
		case <-tick.C:
			if newest, err := n.service.Store.NewestLink(ctx, n.host); err == nil && newest != n.number {
				n.close(base.Invalid("another host of this name has linked since",
					remedy.Say("give each host a name of its own: %s", remedy.Option("name"))))
				return
			}
			if back, err := n.service.Store.HoldLink(ctx, n.host, n.number); err == nil && back > 0 {
				n.service.Bell.Ring()
			}
		case <-ctx.Done():
			return
		}
	}
}

// deliverNew sends the leases that the host has not been told of on this link, and the
// ends that are asked for.
func (n *session) deliverNew(ctx context.Context) error {
	live, err := n.service.Store.LiveLeases(ctx, n.host, n.number, !n.told)
	if err != nil {
		return err
	}
	var fresh []int64
	for _, l := range live {
		if !n.leases[l.Lease] && (!l.Began || !n.told) {
			fresh = append(fresh, l.Lease)
		}
	}
	p := parcel{session: n}
	if err := n.giveOut(ctx, fresh, &p); err != nil {
		return err
	}
	sent, ended := map[int64]bool{}, map[int64]bool{}
	for _, l := range live {
		sent[l.Lease] = true
		if l.EndAsked != "" {
			if ended[l.Lease] = true; !n.ended[l.Lease] {
				p.message.End = append(p.message.End, link.End{Lease: l.Lease, Reason: l.EndAsked})
			}
		}
	}
	killpoint.Pass("delivering")
	if err := p.send(ctx); err != nil {
		return err
	}
	n.told, n.leases, n.ended = true, sent, ended
	return nil
}

// giveOut puts leases into a parcel, with all that the host needs to carry them out.
func (n *session) giveOut(ctx context.Context, leases []int64, p *parcel) error {
	if len(leases) == 0 {
		return nil
	}
	people, err := n.service.Store.SessionAssignments(ctx, leases)
	if err != nil {
		return err
	}
	for _, a := range people {
		if err := p.lease(ctx, sessionOut(a)); err != nil {
			return err
		}
	}
	list, err := n.service.Store.Assignments(ctx, leases)
	if err != nil {
		return err
	}
	if err := n.learn(ctx, list); err != nil {
		return err
	}
	for _, a := range list {
		g, err := n.goodsOf(ctx, a)
		if err != nil {
			return err
		}
		l := leaseOut(a, g, n.known[a.RunID])
		if l.Attempt.Updates, err = n.updates(ctx, a, g); err != nil {
			return err
		}
		if err := p.lease(ctx, l); err != nil {
			return err
		}
	}
	return nil
}

// parcel gathers leases into messages that are no larger than a link takes at once.
type parcel struct {
	session *session
	message link.ToHost
	size    int
}

// maxParcel bounds the leases of one message, in bytes as they are encoded.
const maxParcel = link.MaxMessage / 4

func (p *parcel) lease(ctx context.Context, l link.Lease) error {
	size := l.Weight()
	if p.size > 0 && p.size+size > maxParcel {
		if err := p.send(ctx); err != nil {
			return err
		}
	}
	p.message.Leases, p.size = append(p.message.Leases, l), p.size+size
	return nil
}

func (p *parcel) send(ctx context.Context) error {
	if len(p.message.Leases)+len(p.message.End) == 0 {
		return nil
	}
	p.session.send(p.message)
	p.message, p.size = link.ToHost{}, 0
	return ctx.Err()
}

// maxKnown bounds the runs whose knowledge a link keeps.
const maxKnown = 200

// learn reads what the runs of these assignments knew of their apps when they began.
func (n *session) learn(ctx context.Context, list []store.Assignment) error {
	var missing []int64
	for _, a := range list {
		if n.known[a.RunID] == nil && !slices.Contains(missing, a.RunID) {
			missing = append(missing, a.RunID)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	runs, err := n.service.Store.RunsKnown(ctx, missing)
	if err != nil {
		return err
	}
	if n.known == nil || len(n.known)+len(missing) > maxKnown {
		n.known = map[int64]map[string]bool{}
	}
	for _, run := range missing {
		n.known[run] = map[string]bool{}
		for _, l := range runs[run] {
			n.known[run][l] = true
		}
	}
	return nil
}

func (n *session) goodsOf(ctx context.Context, a store.Assignment) (store.Goods, error) {
	k := goodsKey{a.ProjectID, a.RevisionID, a.PackageBlob}
	if g, ok := n.goods[k]; ok {
		return g, nil
	}
	g, err := n.service.Store.GoodsOf(ctx, a.ProjectID, a.RevisionID, a.PackageBlob)
	if err != nil {
		return g, err
	}
	if len(n.goods) >= maxGoods {
		clear(n.goods)
	}
	n.goods[k] = g
	return g, nil
}

func leaseOut(a store.Assignment, g store.Goods, matched map[string]bool) link.Lease {
	known := []string{}
	for _, l := range g.Locators.V {
		if matched[l] {
			known = append(known, l)
		}
	}
	return link.Lease{Number: a.Lease, Device: a.Device, Holder: fmt.Sprintf("run %d", a.Run),
		Apps: []string{g.Package.V.ApplicationID}, Leave: a.Leave, LastSeq: a.LastSeq, TTLMS: a.TTLMS,
		Attempt: &link.Attempt{Run: a.Run, Number: a.Attempt,
			Combination: fleet.Combination{Class: fleet.Class{Kind: a.Kind, Model: a.Model, Platform: a.Platform,
				OS: a.OS},
				Levels: a.Levels.V},
			Package: g.Package.V, PackageBlob: a.PackageBlob, SuiteBlob: g.Suite, Cases: a.Cases, Seed: a.Seed,
			RealTime: a.RealTime, Known: known, Steps: a.Steps, StepMS: a.Limits.V.StepMS, CaseMS: a.Limits.V.CaseMS,
			LegMS: a.Limits.V.LegMS, Keep: a.Keep.V,
			Wants: len(g.Asks.V.Secrets)+len(g.Asks.V.Accounts) > 0}}
}

// updates finds the builds that a suite installs over the first, as packages of the same kind.
// What cannot be found is told by the step that needs it.
func (n *session) updates(ctx context.Context, a store.Assignment, g store.Goods) ([]link.Update, error) {
	var out []link.Update
	for _, name := range g.Asks.V.Builds {
		u := link.Update{Build: name, Trouble: "there is no such build"}
		list, err := n.service.Store.BuildsNamed(ctx, a.ProjectID, "", name)
		if err != nil {
			return nil, err
		}
		for _, b := range list {
			if b.AppID != a.AppID {
				continue
			}
			u.Trouble = "it holds no package of this kind"
			for _, p := range b.Packages {
				if p.Facts.V.Kind == g.Package.V.Kind {
					u.Trouble, u.Package, u.PackageBlob = "", p.Facts.V, p.Digest
				}
			}
			break
		}
		out = append(out, u)
	}
	return out, nil
}
