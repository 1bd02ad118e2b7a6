package handset

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

type unseen struct{}

func (unseen) Step(script.StepRecord)                                                   {}
func (unseen) Picture(string, device.Picture, *screen.Tree, []screen.Rect, screen.Rect) {}

// Verdicts on apps that change while a case is under way, in a real browser, on a machine that has
// other things to do. YAMATO_TRIALS sets how many.
func TestVerdictsOnAppsThatChangeMeanwhile(t *testing.T) {
	testbin.Unhurried(t)
	devicetest.Busy(t)
	list := devicetest.Trials(devicetest.Enough(17), true)
	next := make(chan devicetest.Trial)
	var decided atomic.Int32
	var all sync.WaitGroup
	for range 4 {
		d := kaede(t)
		all.Go(func() {
			for one := range next {
				data, err := demo.PackWeb(demo.App{ID: "example.other", Name: "Other",
					Version: demo.Version{Name: "1.0", Code: 1}, Program: []byte(one.Program)})
				told := false
				if err == nil {
					told, err = raced(t, d, packed(t, data), one)
				}
				if err != nil {
					t.Errorf("%s: %v", one.Name, err)
				}
				if told {
					decided.Add(1)
				}
			}
		})
	}
	for _, one := range list {
		next <- one
	}
	close(next)
	all.Wait()
	t.Logf("%d of %d trials were decided", decided.Load(), len(list))
	require.GreaterOrEqual(t, int(decided.Load()), len(list)/4, "this machine is too busy to judge anything")
}

// raced makes a trial, and tells whether it proves anything. Where the machine kept the app from running, or the case,
// they were not under way at the times that the trial supposes: then it is made again, a few times.
func raced(t *testing.T, d *Device, app driver.App, one devicetest.Trial) (bool, error) {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	if err := errors.Join(d.Ready(ctx, driver.Terms{}), d.SetLanguage(ctx, one.Language())); err != nil {
		return false, err
	}
	if err := d.Install(ctx, app); err != nil {
		return false, err
	}
	for range 3 {
		hindered, from := d.Hindered(), d.Now()
		got, err := one.Judge(ctx, d, app.Package.ApplicationID, unseen{})
		if err != nil {
			return false, err
		}
		why, kept, took := one.Wrong(got), hindered(), d.Now()-from
		if why != "" && kept > took/4 {
			t.Logf("%s: its machine kept it waiting for %s of %s", one.Name, kept, took)
			continue
		}
		if why != "" {
			t.Errorf("%s\nits machine kept it waiting for %s of %s", why, kept, took)
		}
		return true, d.Clean(ctx, driver.CleanDevice)
	}
	return false, d.Clean(ctx, driver.CleanDevice)
}
