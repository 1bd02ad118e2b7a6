package handset

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/handset/pipe"
)

// What a page says can be dragged (HTML 6.11) is dragged by the system, and not by the page's own scripts: on
// a phone after the finger has stayed on it. The browser hands such a drag over, and it is carried on here.

// dragged tells whether one finger goes from one place to another.
func dragged(fingers []device.Finger) (from, to screen.Point, ok bool) {
	if len(fingers) != 1 {
		return from, to, false
	}
	down := false
	for _, a := range fingers[0] {
		switch a.Do {
		case "down":
			down = true
		case "move":
			if to = a.At; !down {
				from = a.At
			}
		}
	}
	return from, to, down && from != to
}

// dragWithin is how long the browser may take to hand a drag over.
const dragWithin = time.Second

// dragAndDrop drags what can be dragged at a place, and tells whether there is such a thing.
func (d *Device) dragAndDrop(ctx context.Context, from, to screen.Point) (done bool, err error) {
	t := d.tab
	said, err := t.ask(ctx, fmt.Sprintf("yamatoDraggable(%g, %g)", from.X, from.Y))
	if err != nil || said == "" {
		return false, err
	}
	data := make(chan *input.DragData, 1)
	t.mu.Lock()
	t.drags = data
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		t.drags = nil
		t.mu.Unlock()
		t.Post(input.CommandSetInterceptDrags, input.SetInterceptDrags(false))
	}()
	err = d.do(ctx, func(ctx context.Context) error {
		if err := input.SetInterceptDrags(true).Do(ctx); err != nil {
			return err
		}
		mouse := func(kind input.MouseType, p screen.Point) error {
			return input.DispatchMouseEvent(kind, p.X, p.Y).WithButton(input.Left).WithButtons(1).WithClickCount(1).Do(ctx)
		}
		if err := mouse(input.MousePressed, from); err != nil {
			return err
		}
		for i := 1; i <= 4; i++ { // it has to be moved a little before it counts as dragged
			if err := mouse(input.MouseMoved, screen.Point{X: from.X + (to.X-from.X)*float64(i)/20,
				Y: from.Y + (to.Y-from.Y)*float64(i)/20}); err != nil {
				return err
			}
		}
		wait := time.NewTimer(dragWithin)
		defer wait.Stop()
		select {
		case what := <-data:
			done = true
			for _, step := range []struct {
				kind input.DispatchDragEventType
				at   float64
			}{{input.DragEnter, 0.5}, {input.DragOver, 0.75}, {input.DragEnter, 1}, {input.DragOver, 1},
				{input.DragOver, 1}, {input.Drop, 1}} {
				if err := input.DispatchDragEvent(step.kind, from.X+(to.X-from.X)*step.at, from.Y+(to.Y-from.Y)*step.at,
					what).Do(ctx); err != nil {
					return err
				}
			}
		case <-wait.C:
		case <-t.Gone:
			return pipe.ErrGone
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		return mouse(input.MouseReleased, to)
	})
	return done, err
}

// dragBegan takes in what is dragged.
func (t *tab) dragBegan(params jsontext.Value) {
	var e input.EventDragIntercepted
	if json.Unmarshal(params, &e, pipe.Reads) != nil || e.Data == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.drags != nil {
		select {
		case t.drags <- e.Data:
		default:
		}
	}
}
