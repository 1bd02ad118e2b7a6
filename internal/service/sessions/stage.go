package sessions

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/link"
	"yamato/internal/mailbox"
	"yamato/internal/service/base"
)

// stage is where a session's live traffic comes together: its host's socket, and all who look on. What is said over it
// is fenced by the lease: there is one stage a lease, and it goes with it.
type stage struct {
	part    *Part
	session int64
	lease   int64
	owner   string
	conn    link.Live
	gone    chan struct{}

	mu      sync.Mutex
	viewers []*viewer
	hand    *viewer // who steers, nil for nobody
	asking  []*viewer
	status  json.RawMessage // the newest, for who comes
	tail    []json.RawMessage
	tailed  int // bytes of it
	orders  map[int64]sent
	next    int64
	shown   int64 // the newest frame that anybody has been shown
	size    link.Size
	used    bool // the device was used since that was last noted
}

// sent is an order that its host has not answered yet.
type sent struct {
	by   *viewer
	id   int64       // as the viewer numbers it
	late *time.Timer // answers it where the host does not
}

// How long a host may take to answer an order: to install is to fetch the package first.
const (
	answerTime  = 3 * time.Minute
	installTime = 20 * time.Minute
)

// answer tells whoever gave an order how it went. The caller holds the lock.
func (g *stage) answer(number int64, a link.Answer) {
	to, ok := g.orders[number]
	if !ok {
		return
	}
	delete(g.orders, number)
	to.late.Stop()
	a.ID = to.id
	to.by.tell(written(link.Told{Answer: &a}))
}

// unanswered answers an order in place of its host.
func (g *stage) unanswered(number int64, why string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.answer(number, link.Answer{Trouble: why, Remedy: "look at the screen: whether it was done is not known"})
}

// abandoned answers all that its host has not answered, and will not any more.
func (g *stage) abandoned() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for number := range g.orders {
		g.answer(number, link.Answer{Trouble: "the device's host has dropped away",
			Remedy: "it comes back by itself; whether it was done is not known"})
	}
}

// maxTail bounds the newest lines of the log that are at hand for who comes, in bytes: those are not kept yet.
const maxTail = 1 << 20

// viewer is somebody who looks on, or a command.
type viewer struct {
	caller  base.Caller
	program bool
	box     *mailbox.Box // who does not take what it is told is cut off: it comes anew, and sees how things are

	mu     sync.Mutex
	frame  []byte // the newest that was not sent yet
	flying []int64
	screen link.Size
}

// Bounds of what waits for a viewer.
const (
	maxWaiting = 8 << 20 // bytes of words
	maxFlying  = 2       // frames
	maxViewers = 40      // of one session
)

func newViewer(c base.Caller, program bool) *viewer {
	return &viewer{caller: c, program: program, box: mailbox.New(mailbox.Lose, maxWaiting)}
}

// tell queues words.
func (v *viewer) tell(body json.RawMessage) {
	_ = v.box.Put(body) // where it is lost, take says so
}

// show has a frame be the newest.
func (v *viewer) show(frame []byte) {
	if v.program {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.frame = frame
	v.box.Ring()
}

// take gives what is to be sent now.
func (v *viewer) take() (words []json.RawMessage, frame []byte, err error) {
	if words, err = v.box.Take(); err != nil {
		return nil, nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.frame != nil && len(v.flying) < maxFlying {
		frame, v.frame = v.frame, nil
		if h, _, err := link.DecodeFrame(frame); err == nil {
			v.flying = append(v.flying, h.Number)
		}
	}
	return words, frame, nil
}

// acknowledged notes that the viewer has been shown a frame. It tells whether that was sent to it.
func (v *viewer) acknowledged(number int64) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !slices.Contains(v.flying, number) {
		return false
	}
	v.flying = slices.DeleteFunc(v.flying, func(n int64) bool { return n <= number })
	v.box.Ring()
	return true
}

// ServeLive serves a host's socket of a session, until it or ctx ends.
func (s *Part) ServeLive(ctx context.Context, c base.Caller, lease int64, conn link.Live) error {
	if err := s.Speaks(ctx, c, lease); err != nil {
		return err
	}
	one, err := s.Store.SessionOfLease(ctx, c.ProjectID, lease)
	if err != nil {
		return base.NotThere(err, "", "no session has the lease %d", lease)
	}
	g := &stage{part: s, session: one.ID, lease: lease, owner: one.AskedBy, conn: conn, gone: make(chan struct{}),
		orders: map[int64]sent{}}
	s.looks.Add(1)
	defer s.looks.Done()
	s.mu.Lock()
	s.stages[lease] = g
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		if s.stages[lease] == g {
			delete(s.stages, lease)
		}
		s.mu.Unlock()
		g.abandoned()
		close(g.gone)
	}()
	if err := s.Store.SetInstance(ctx, one.ID, lease, s.Instance); err != nil {
		return err
	}
	s.Bell.Ring()
	for {
		var t link.Told
		frame, err := conn.Receive(ctx, &t)
		switch {
		case err != nil:
			return err
		case frame != nil:
			g.show(frame)
		default:
			g.heard(t)
		}
	}
}

func (g *stage) show(frame []byte) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, v := range g.viewers {
		v.show(frame)
	}
}

// heard passes on what the host says.
func (g *stage) heard(t link.Told) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if a := t.Answer; a != nil {
		g.answer(a.ID, *a)
		return
	}
	body := written(t)
	switch {
	case t.Status != nil:
		g.status = body
	case t.Log != nil:
		g.tail, g.tailed = append(g.tail, body), g.tailed+len(body)
		for g.tailed > maxTail && len(g.tail) > 1 {
			g.tailed -= len(g.tail[0])
			g.tail = g.tail[1:]
		}
	}
	for _, v := range g.viewers {
		v.tell(body)
	}
}

func written(v any) json.RawMessage {
	body, err := json.Marshal(v)
	if err != nil {
		return json.RawMessage("{}") // only values of our own come here
	}
	return body
}

// Hands tells who steers.
type Hands struct {
	By       string   `json:"by"` // "" for nobody
	You      bool     `json:"you"`
	Asking   []string `json:"asking"`
	Watching []string `json:"watching"`
}

// join lets somebody look on.
func (g *stage) join(v *viewer) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.viewers) >= maxViewers {
		return base.Invalid(fmt.Sprintf("%d people look on already", maxViewers), "try again later")
	}
	g.viewers = append(g.viewers, v)
	if v.program {
		return nil
	}
	if v.caller.Name == g.owner && (g.hand == nil || g.hand.caller.Name == g.owner) {
		g.hand = v // of one person's windows the newest has it
	}
	if g.status != nil {
		v.tell(g.status)
	}
	for _, t := range g.tail {
		v.tell(t)
	}
	g.tellHands()
	go g.ask(link.Asked{Again: true}) // bounded by the socket's own limit on sending
	return nil
}

func (g *stage) leave(v *viewer) {
	g.mu.Lock()
	defer g.mu.Unlock()
	gone := func(o *viewer) bool { return o == v }
	g.viewers, g.asking = slices.DeleteFunc(g.viewers, gone), slices.DeleteFunc(g.asking, gone)
	if g.hand == v {
		g.hand = nil
		for _, o := range g.viewers {
			if o.caller.Name == g.owner && !o.program {
				g.hand = o
			}
		}
	}
	if !v.program {
		g.tellHands()
	}
}

func (g *stage) tellHands() {
	h := Hands{Asking: []string{}, Watching: []string{}}
	if g.hand != nil {
		h.By = g.hand.caller.Name
	}
	for _, v := range g.asking {
		h.Asking = append(h.Asking, v.caller.Name)
	}
	for _, v := range g.viewers {
		if !v.program && !slices.Contains(h.Watching, v.caller.Name) {
			h.Watching = append(h.Watching, v.caller.Name)
		}
	}
	for _, v := range g.viewers {
		h.You = v == g.hand
		v.tell(written(map[string]Hands{"hand": h}))
	}
}

// ask says something to the host.
func (g *stage) ask(a link.Asked) {
	ctx, stop := context.WithTimeout(context.Background(), link.SendLimit)
	defer stop()
	_ = g.conn.Send(ctx, a) // a broken socket is noticed by who hears from it
}

// Said is what somebody who looks on says.
type Said struct {
	Order *link.Order `json:"order,omitempty"`
	Shown int64       `json:"shown,omitempty"`
	Size  *link.Size  `json:"size,omitempty"`
	Hand  string      `json:"hand,omitempty"` // ask, give, take or keep
	To    string      `json:"to,omitempty"`
	Keep  bool        `json:"keep,omitempty"` // it is not idle
}

// looking are the orders that touch nothing, so that everybody may give them who may look on.
var looking = []string{"card", "tree"}

// hear takes in what a viewer says.
func (g *stage) hear(ctx context.Context, v *viewer, m Said) {
	switch {
	case m.Shown > 0:
		if !v.acknowledged(m.Shown) {
			return
		}
		g.mu.Lock()
		news := m.Shown > g.shown
		g.shown = max(g.shown, m.Shown)
		g.mu.Unlock()
		if news {
			g.ask(link.Asked{Shown: m.Shown})
		}
	case m.Size != nil:
		g.resize(v, *m.Size)
	case m.Hand != "":
		g.handOver(v, m)
	case m.Keep:
		g.noteUse()
	case m.Order != nil:
		if err := g.order(ctx, v, *m.Order); err != nil {
			p := base.AsProblem(err)
			v.tell(written(link.Told{Answer: &link.Answer{ID: m.Order.ID, Trouble: p.Title, Remedy: p.Hint.String()}}))
		}
	}
}

func (g *stage) noteUse() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.used = true
}

// resize has frames be as large as the largest screen that they are looked at on.
func (g *stage) resize(v *viewer, to link.Size) {
	g.mu.Lock()
	v.screen = to
	var most link.Size
	for _, o := range g.viewers {
		most.Width, most.Height = max(most.Width, o.screen.Width), max(most.Height, o.screen.Height)
	}
	changed := most != g.size
	g.size = most
	g.mu.Unlock()
	if changed {
		g.ask(link.Asked{Size: &most})
	}
}

// handOver has somebody else steer: there are never two.
func (g *stage) handOver(v *viewer, m Said) {
	g.mu.Lock()
	defer g.mu.Unlock()
	may := v == g.hand || v.caller.Name == g.owner
	switch {
	case m.Hand == "ask" && v != g.hand && !slices.Contains(g.asking, v):
		g.asking = append(g.asking, v)
	case m.Hand == "take" && may:
		g.hand = v
	case m.Hand == "give" && may:
		for _, o := range g.viewers {
			if o.caller.Name == m.To && !o.program && (o != g.hand) {
				g.hand = o
			}
		}
		g.asking = slices.DeleteFunc(g.asking, func(o *viewer) bool { return o.caller.Name == m.To })
	case m.Hand == "keep" && may:
		g.asking = nil
	}
	g.tellHands()
}

// maxPending bounds the orders that have not been answered.
const maxPending = 200

// order passes an order on, if whoever gives it steers.
func (g *stage) order(ctx context.Context, v *viewer, o link.Order) error {
	g.mu.Lock()
	hand := g.hand
	g.mu.Unlock()
	steers := v == hand || v.program && v.caller.Name == g.owner && (hand == nil || hand.caller.Name == g.owner)
	if !steers && !slices.Contains(looking, o.Do) {
		who := g.owner
		if hand != nil {
			who = hand.caller.Name
		}
		return base.Forbidden(who+" has the device in hand; nothing was touched", "ask for it to be handed over")
	}
	o.Pack, o.Blob, o.By = nil, "", v.caller.Name
	if o.Do == "install" {
		if err := g.part.fill(ctx, v.caller, g.session, &o); err != nil {
			return err
		}
	}
	within := answerTime
	if o.Do == "install" {
		within = installTime
	}
	g.mu.Lock()
	if len(g.orders) >= maxPending {
		g.mu.Unlock()
		return base.Invalid("the device is still busy with what came before", "wait a moment")
	}
	g.next++
	number := g.next
	g.orders[number] = sent{v, o.ID, time.AfterFunc(within, func() {
		g.unanswered(number, fmt.Sprintf("the device's host has not answered within %s", within))
	})}
	o.ID = number
	g.used = g.used || !slices.Contains(looking, o.Do)
	g.mu.Unlock()
	g.ask(link.Asked{Order: &o})
	if v.program { // it is gone before anybody looks
		g.present(ctx, v)
	}
	return nil
}

// fill says what to install: the package of a build that runs on the session's device.
func (s *Part) fill(ctx context.Context, c base.Caller, session int64, o *link.Order) error {
	one, err := s.Store.SessionByID(ctx, session)
	if err != nil {
		return err
	}
	b, err := s.builds.BuildNamed(ctx, c, o.App, o.Name)
	if err != nil {
		return err
	}
	if one.Facts == nil {
		return base.Invalid("the session has no device yet", "wait until it has one")
	}
	d, err := s.Store.DeviceNamed(ctx, one.ProjectID, one.Device)
	if err != nil {
		return err
	}
	i, reasons := fleet.Fit(b.Facts(), d.Facts.V, d.Condition.V.Installed, time.Now())
	if i < 0 {
		return base.Invalid(fmt.Sprintf("%s %s cannot run on %s: %s", b.App, b.VersionName, one.Device, reasons[0].Why),
			reasons[0].Remedy)
	}
	p := b.Packages[i]
	o.Pack, o.Blob = &p.Facts.V, p.Digest
	if err := s.Store.LetRead(ctx, session, p.Digest); err != nil {
		return err
	}
	return s.Store.SetBuild(ctx, session, b.ID, p.Digest)
}

// present notes that somebody is there who may steer, and whether the device was used.
func (g *stage) present(ctx context.Context, v *viewer) {
	g.mu.Lock()
	used, counts := g.used, v.caller.Name == g.owner || v == g.hand
	g.used = g.used && !counts
	g.mu.Unlock()
	if counts {
		if err := g.part.Store.Touch(ctx, g.session, used); err != nil && ctx.Err() == nil {
			g.part.Log.Warn("that somebody is at a session could not be noted", "error", err)
		}
	}
}
