package cover

import "errors"

// Errors of work that ends before its time.
var (
	ErrDear = errors.New("to choose these combinations takes more computing than is allowed; leave factors or levels out, " +
		"choose a lower strength, or a budget of combinations")
	ErrStopped = errors.New("it was stopped")
)

// Work counts what is computed over a space, in looks: a meeting of levels, a term of a rule or a word of levels that
// is looked at. It is a bound by what is done and never by a clock, so that the same wish has the same outcome
// everywhere. The zero value is ready; nil counts for one call alone.
type Work struct {
	Limit int64       // looks at most; 0 for MaxLooks
	Stop  func() bool // asked now and then; true ends it with ErrStopped

	spent, asked int64
	stopped      bool
}

// MaxLooks is what may be spent on one wish: some seconds of a processor.
const MaxLooks = 1_000_000_000

// askEvery is how many looks go by between two questions whether to stop: some hundredths of a second.
const askEvery = 4_000_000

func (w *Work) limit() int64 {
	if w.Limit > 0 {
		return w.Limit
	}
	return MaxLooks
}

// take counts looks.
func (w *Work) take(n int) {
	w.spent += int64(n)
	if w.spent-w.asked > askEvery {
		w.ask()
	}
}

func (w *Work) ask() {
	w.asked = w.spent
	w.stopped = w.stopped || w.Stop != nil && w.Stop()
}

// past tells whether more than a part of a hundred is spent, or it was stopped: what only makes a result better ends
// early.
func (w *Work) past(percent int64) bool { return w.stopped || w.spent > w.limit()/100*percent }

// Err says why it has to end, nil where it has not.
func (w *Work) Err() error {
	switch {
	case w.stopped:
		return ErrStopped
	case w.spent > w.limit():
		return ErrDear
	}
	return nil
}

// Spent is how many looks were taken.
func (w *Work) Spent() int64 { return w.spent }
