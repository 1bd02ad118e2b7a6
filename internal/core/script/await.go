package script

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
)

// sight is what a judgement saw.
type sight struct {
	ok     bool
	cause  Cause // where not ok
	final  bool  // waiting longer would not help on a settled screen
	actual string
	nodes  []*screen.Node // what was acted on or looked at
	value  amount.Value
	key    string // what has to stay the same for as long as a screen takes to settle

	locator    string // as known, where nothing has ever matched it
	difference []Piece
	obstacle   *screen.Node
}

// judged is a sight with the circumstances under which it was taken.
type judged struct {
	sight
	tree    *screen.Tree
	settled bool
	steady  bool // it has been ok for as long as a screen takes to settle
	waited  time.Duration
	hinders hindrance
}

// hindrance is for how long, of how long that was measured, the app wanted to run and its machine did not let it.
type hindrance struct{ kept, of time.Duration }

// unmeasured is how long a step waits at most before its machine is measured: most have what they want by then.
const unmeasured = time.Second

// much tells whether nobody can say any more that the app was late: it had less than half of the time.
func (h hindrance) much() bool { return h.kept > h.of/2 }

// lateLooks is how often at least what came to be right in time is looked at after patience has ended, where looks
// take long: until it has settled, or is seen not to.
const lateLooks = 8

// await waits until view is content on a screen that has settled since the last
// action, or until patience ends, and gives what view last saw. It wakes when the
// screen changes. What came to be right just before patience ended may settle after.
//
// A look takes its time too, much of it on a machine that has other things to do. What it shows was so
// at some moment of it, and nobody knows which: what a look that began after patience had ended does not
// show came too late; what is first shown by one that may have begun before did not.
func (r *runner) await(st Statement, view func(*screen.Tree) sight) (judged, error) {
	patience := r.o.Patience
	if w := st.base().Within; w > 0 {
		patience = w
	}
	from, quiet := r.device.Now(), r.o.Quiet
	limit := max(r.limitFrom+r.o.CaseLimit, from)
	deadline := min(from+patience, limit)
	var out judged
	var okFrom, okBlind time.Duration // since when it is ok, and how much of that nobody looked
	okAfter, late := from, 0          // when it was last known not to be, and how often that was seen since patience ended
	_, acts := st.(patient)
	if _, ok := st.(*Expect); ok {
		acts = false
	}
	machine, measures := device.As[device.Hindered](r.device)
	var kept func() time.Duration
	var keptFrom time.Duration
	unmeasured := min(unmeasured, (deadline-from)/4)
	for last := from; ; {
		before := r.device.Now()
		tree, err := r.device.Tree(r.ctx)
		if err != nil {
			return judged{}, err
		}
		now := r.device.Now()
		r.settling.See(tree, now)
		r.settling.Looked(now - before)
		quiet := quiet
		if tree.Rests >= quiet { // the page itself tells that nothing comes
			quiet = 0
		}
		r.lastTree, r.language = tree, tree.Language
		if r.app == "" && tree.App != "system" {
			r.app = tree.App
		}
		was := out.sight
		out.sight, out.tree, out.waited = view(tree), tree, now-from
		if !was.ok || !out.ok || was.key != out.key {
			okFrom, okBlind, okAfter, late = r.settling.Any, 0, last, 0
		}
		last = before
		// What the look itself took, such as a screen's waking, is no time in which nothing changed; but for so much
		// of it as looks usually take, or on a machine where each takes long nothing would ever have settled.
		looked := max(before, min(now, r.settling.Any))
		calm := r.settling.Settled(looked, quiet)
		out.steady = out.ok && looked-okFrom-okBlind >= quiet
		blind := max(0, now-looked-r.o.Quiet/2)
		r.settling.Unwatched(blind)
		okBlind += blind
		if e, ok := st.(*Expect); ok && out.ok {
			if l, ok := e.Condition.(lasting); ok && l.atOnce() {
				return out, nil
			}
		}
		out.settled = calm && (!out.ok || out.steady)
		if out.settled && (out.ok || out.final) {
			return out, nil
		}
		until := deadline
		if measures && kept == nil {
			if now-from >= unmeasured {
				kept, keptFrom = machine.Hindered(), r.device.Now()
			} else {
				until = min(until, from+unmeasured)
			}
		}
		if now >= deadline {
			if late++; out.ok {
				until = deadline + quiet + okBlind // looks that take long are no reason to give up on what is right
			}
			over := !out.ok && before >= deadline || out.ok && (tree.Busy && !acts || okAfter > deadline ||
				now >= until && late >= lateLooks)
			if over || now >= limit {
				out.settled = calm
				if kept != nil {
					out.hinders = hindrance{kept(), now - keptFrom}
				}
				return out, nil
			}
		}
		if soon := max(r.settling.Calm(), okFrom+okBlind) + quiet; !tree.Busy && soon > now {
			until = min(until, soon)
		}
		if err := r.pass(tree.Revision, until); err != nil {
			return judged{}, err
		}
	}
}

// tooBusy is the device's trouble where its machine was.
func (h hindrance) tooBusy() error {
	return &device.Trouble{Busy: true,
		Why: fmt.Sprintf("its machine was too busy to let the app run: for %s of %s it waited for a processor, so that nobody can say whether the app was late",
			short(h.kept), short(h.of)),
		Remedy: "have that host do less at once, or give it more processors"}
}

// maxIdle is how often in a row a device may say that something has changed, or that
// the time has come, where neither is so.
const maxIdle = 1000

var errStandsStill = errors.New("the device's clock stands still")

// pass lets the device's time go on until its screen changes or until has come.
func (r *runner) pass(revision uint64, until time.Duration) error {
	if r.ctx.Err() != nil {
		return fmt.Errorf("the attempt was ended: %w", context.Cause(r.ctx))
	}
	before := r.device.Now()
	if err := r.device.AwaitChange(r.ctx, revision, until); err != nil {
		return err
	}
	if r.device.Now() > before || revision != r.idleAt {
		r.idle, r.idleAt = 0, revision
	} else if r.idle++; r.idle > maxIdle {
		return errStandsStill
	}
	return nil
}

// judge awaits and turns what it saw into the end of the case, if it is one.
func (r *runner) judge(st Statement, expected string, view func(*screen.Tree) sight) (sight, *stop) {
	saw, err := r.await(st, view)
	r.found = saw.nodes
	if err != nil {
		return saw.sight, r.trouble(st, err)
	}
	if saw.ok && saw.settled {
		return saw.sight, nil
	}
	if p, ok := st.(patient); ok && p.content(saw) { // who acts need not wait for an answer for ever
		return saw.sight, nil
	}
	if saw.hinders.much() {
		stopped := r.trouble(st, saw.hinders.tooBusy())
		stopped.failure.WaitedMS = saw.waited.Milliseconds()
		r.mark(stopped, saw.nodes)
		return saw.sight, stopped
	}
	cause, actual := r.verdictOf(saw)
	if e, ok := st.(*Expect); ok && expected == "" {
		expected = e.Condition.expected(r)
	}
	if ran := r.device.Now() - r.limitFrom; ran >= r.o.CaseLimit {
		cause, expected, actual = OutOfTime, r.endInTime(), fmt.Sprintf("it has run for %s, at last waiting for %s: %s",
			short(ran), expected, actual)
	}
	stopped := r.stop(st, cause, expected, actual)
	stopped.failure.WaitedMS, stopped.failure.Settled = saw.waited.Milliseconds(), saw.settled && cause != Awaited
	if saw.tree.Busy {
		stopped.failure.PendingMS = (r.device.Now() - r.settling.Busy).Milliseconds()
	}
	if cause == Contradicted {
		stopped.failure.Difference = saw.difference
	}
	if saw.obstacle != nil {
		stopped.failure.Obstacle = r.mask(screen.DescribeCover(saw.obstacle))
	}
	r.mark(stopped, saw.nodes)
	return saw.sight, stopped
}

func (r *runner) endInTime() string { return fmt.Sprintf("the case to end within %s", r.o.CaseLimit) }

// verdictOf says what a step that got no further ended of, and in which words.
func (r *runner) verdictOf(saw judged) (Cause, string) {
	actual := saw.actual
	if saw.tree.App != r.app {
		actual = joinWords(actual, "the app is not in front: "+front(saw.tree)+" is")
	}
	switch {
	case saw.tree.Busy:
		pending := fmt.Sprintf("the app's answer was still awaited, for %s", short(r.device.Now()-r.settling.Busy))
		if len(saw.tree.Awaits) > 0 {
			pending += ": " + r.mask(strings.Join(saw.tree.Awaits, ", "))
		}
		if saw.ok {
			return Awaited, pending + "; what the screen shows meanwhile proves nothing"
		}
		if saw.cause == NeverMatched { // what is not there yet may come with the answer
			actual = "it is not there"
		}
		return Awaited, pending + "; so far " + actual
	case saw.ok:
		return Contradicted, joinWords("it had not stayed so for "+short(r.o.Quiet), r.unrest())
	case !saw.settled:
		return saw.cause, joinWords(actual, r.unrest())
	}
	return saw.cause, actual
}

func joinWords(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// front says what is to be seen instead of the app.
func front(t *screen.Tree) string {
	if t.App == "" {
		return "the home screen"
	}
	words := ""
	t.Walk(func(n *screen.Node, _ int) bool {
		if label := n.Label(); words == "" && label != "" &&
			slices.Contains([]string{"dialog", "alertdialog", "heading",
				"status"}, n.Role) {
			words = fmt.Sprintf("%s %q", n.Role, clipText(label))
		}
		return words == ""
	})
	switch {
	case words != "":
		return words
	case t.App == "system":
		return "a screen of the system's"
	}
	return "the app " + clipText(t.App)
}

// unrest says what kept a screen from settling.
func (r *runner) unrest() string {
	var names []string
	for _, n := range r.settling.Unrest() {
		if name := screen.Describe(n); !slices.Contains(names, name) && (n.ID != "" || n.Label() != "") {
			names = append(names, name)
		}
	}
	if more := len(names) - 3; more > 0 {
		names = append(names[:3], fmt.Sprintf("%d more", more))
	}
	if len(names) == 0 {
		return "the screen was still changing"
	}
	return "the screen was still changing: " + strings.Join(names, ", ")
}
