package handset

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yamato/internal/host/handset/pipe"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// takeOver has the service worker of an app that was put in inpage.Place of another be the new one:
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
	ctx, stop := context.WithTimeoutCause(ctx, 30*time.Second,
		errors.New("its service worker was not brought up to date within 30s"))
	defer stop()
	some, err := d.tab.ask(ctx, update)
	if err != nil || some == "" {
		return err
	}
	if err := d.tab.Execute(ctx, "ServiceWorker.skipWaiting", map[string]any{"scopeURL": i.origin + "/"},
		nil); err != nil {
		return lost(err)
	}
	// It is at work only once it is activated; until then the old one would answer the page.
	const atWork = `(async () => {
  for (const r of await navigator.serviceWorker.getRegistrations()) {
    const next = r.waiting || r.installing || r.active;
    if (!next || next.state === 'activated' || next.state === 'redundant') continue;
    await new Promise((done) => {
      const look = () => { if (next.state === 'activated' || next.state === 'redundant') done(); };
      next.addEventListener('statechange', look);
      look();
    });
  }
  return '';
})()`
	if _, err := d.tab.ask(ctx, atWork); err != nil {
		return err
	}
	d.render()
	return d.visit(ctx, i.start)
}

// registration gives the number of an app's service worker, which may be about to be there.
func (d *Device) registration(ctx context.Context, i *installed) (string, error) {
	for end := time.Now().Add(2 * time.Second); ; {
		d.tab.mu.Lock()
		id := d.tab.workers[i.host]
		d.tab.mu.Unlock()
		if id != "" {
			return id, nil
		}
		if !time.Now().Before(end) {
			return "", fmt.Errorf("%s has no service worker that could be told", i.app.Package.ApplicationID)
		}
		if err := d.tab.await(ctx, end); err != nil {
			return "", err
		}
	}
}

// registered takes in which service workers there are.
func (t *tab) registered(params jsontext.Value) {
	var e struct {
		Registrations []struct {
			RegistrationID string `json:"registrationId"`
			ScopeURL       string `json:"scopeURL"`
			IsDeleted      bool   `json:"isDeleted"`
		} `json:"registrations"`
	}
	if json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range e.Registrations {
		if host := originHost(r.ScopeURL); r.IsDeleted {
			delete(t.workers, host)
		} else if len(t.workers) < 100 {
			t.workers[host] = r.RegistrationID
		}
	}
	t.wake()
}

// hide has the page be hidden behind the home screen, or seen again.
func (d *Device) hide(ctx context.Context, yes bool) error {
	state := "active"
	if yes {
		state = "frozen"
	}
	if err := d.tab.Execute(ctx, "Emulation.setFocusEmulationEnabled", map[string]any{"enabled": !yes},
		nil); err != nil {
		return err
	}
	return d.tab.Execute(ctx, "Page.setWebLifecycleState", map[string]any{"state": state}, nil)
}
