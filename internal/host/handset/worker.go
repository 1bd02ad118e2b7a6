package handset

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// takeOver has the service worker of an app that was put in place of another be the new one:
// the browser would go on with the old until all its pages are closed, which people do by
// closing the app.
func (d *Device) takeOver(ctx context.Context, i *installed) error {
	const update = `(async () => {
  if (!navigator.serviceWorker) return '';
  const all = await navigator.serviceWorker.getRegistrations();
  for (const r of all) {
    await r.update();
    const next = r.installing || r.waiting;
    if (next && next.state !== 'activated') {
      await new Promise((done) => {
        const look = () => { if (['installed', 'activated', 'redundant'].includes(next.state)) done(); };
        next.addEventListener('statechange', look);
        look();
      });
    }
  }
  return all.length ? 'some' : '';
})()`
	ctx, stop := context.WithTimeoutCause(ctx, 30*time.Second, errors.New("its service worker was not brought up to date within 30s"))
	defer stop()
	some, err := d.tab.ask(ctx, update)
	if err != nil || some == "" {
		return err
	}
	if err := d.tab.Execute(ctx, "ServiceWorker.enable", nil, nil); err != nil {
		return lost(err)
	}
	if err := d.tab.Execute(ctx, "ServiceWorker.skipWaiting", map[string]any{"scopeURL": i.origin + "/"}, nil); err != nil {
		return lost(err)
	}
	d.render()
	return d.visit(ctx, i.origin+i.bundle.start)
}

// registration gives the number of an app's service worker.
func (d *Device) registration(ctx context.Context, i *installed) (string, error) {
	t := d.tab
	found := make(chan string, 1)
	t.mu.Lock()
	t.registered = func(params jsontext.Value) {
		var e struct {
			Registrations []struct {
				RegistrationID string `json:"registrationId"`
				ScopeURL       string `json:"scopeURL"`
				IsDeleted      bool   `json:"isDeleted"`
			} `json:"registrations"`
		}
		if json.Unmarshal(params, &e, reads) != nil {
			return
		}
		for _, r := range e.Registrations {
			if !r.IsDeleted && originHost(r.ScopeURL) == i.host {
				select {
				case found <- r.RegistrationID:
				default:
				}
			}
		}
	}
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		t.registered = nil
		t.mu.Unlock()
		t.post("ServiceWorker.disable", nil)
	}()
	if err := t.Execute(ctx, "ServiceWorker.enable", nil, nil); err != nil {
		return "", lost(err)
	}
	end := time.NewTimer(2 * time.Second)
	defer end.Stop()
	select {
	case id := <-found:
		return id, nil
	case <-end.C:
		return "", fmt.Errorf("%s has no service worker that could be told", i.app.Package.ApplicationID)
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}

// hide has the page be hidden behind the home screen, or seen again.
func (d *Device) hide(ctx context.Context, yes bool) error {
	state := "active"
	if yes {
		state = "frozen"
	}
	if err := d.tab.Execute(ctx, "Emulation.setFocusEmulationEnabled", map[string]any{"enabled": !yes}, nil); err != nil {
		return err
	}
	return d.tab.Execute(ctx, "Page.setWebLifecycleState", map[string]any{"state": state}, nil)
}
