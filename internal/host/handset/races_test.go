package handset

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

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
	var all sync.WaitGroup
	for range 4 {
		d := kaede(t)
		all.Go(func() {
			for one := range next {
				data, err := demo.PackWeb(demo.App{ID: "example.other", Name: "Other",
					Version: demo.Version{Name: "1.0", Code: 1}, Program: []byte(one.Program)})
				if err == nil {
					err = raced(t, d, packed(t, data), one)
				}
				if err != nil {
					t.Errorf("%s: %v", one.Name, err)
				}
			}
		})
	}
	for _, one := range list {
		next <- one
	}
	close(next)
	all.Wait()
	t.Logf("%d trials", len(list))
}

func raced(t *testing.T, d *Device, app driver.App, one devicetest.Trial) error {
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	if err := errors.Join(d.Ready(ctx, driver.Terms{}), d.SetLanguage(ctx, one.Language())); err != nil {
		return err
	}
	if err := d.Install(ctx, app); err != nil {
		return err
	}
	got, err := one.Judge(ctx, d, app.Package.ApplicationID, unseen{})
	if err != nil {
		return err
	}
	if why := one.Wrong(got); why != "" {
		t.Error(why)
	}
	return d.Clean(ctx, driver.CleanDevice)
}
