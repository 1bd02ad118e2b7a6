package plans

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
)

// MakeFeed makes a secret by which calendars read the project's; the one before opens it no longer.
// The digest alone is kept.
func (s *Part) MakeFeed(ctx context.Context, c base.Caller) (secret string, err error) {
	var b [18]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	secret = base64.RawURLEncoding.EncodeToString(b[:])
	digest := sha256.Sum256([]byte(secret))
	return secret, s.Store.KeepFeed(ctx, c.ProjectID, digest[:], c.Name)
}

// What a feed tells: a little of what was, more of what comes.
const (
	feedBefore = 14 * 24 * time.Hour
	feedAfter  = 45 * 24 * time.Hour
)

// Feed gives the calendar that a secret opens, as iCalendar (RFC 5545). at is the address of the
// service, which links lead to.
func (s *Part) Feed(ctx context.Context, secret, at string, now time.Time) ([]byte, error) {
	digest := sha256.Sum256([]byte(secret))
	project, err := s.Store.FeedOf(ctx, digest[:])
	if err != nil {
		return nil, base.NotThere(err, remedy.Say("ask for a new address: %s", remedy.PlanCalendar),
			"this calendar is not to be had")
	}
	list, err := s.Calendar(ctx, project, now.Add(-feedBefore), now.Add(feedAfter), now)
	if err != nil {
		return nil, err
	}
	c := ics.NewCalendarFor("Yamato")
	c.SetMethod(ics.MethodPublish)
	c.SetXWRCalName("Yamato: plans")
	c.SetRefreshInterval("PT15M")
	for _, e := range list {
		id := fmt.Sprintf("start-%d@yamato", e.ID)
		if e.Coming { // the start that comes of it has another number: until then its plan and moment are its own
			id = fmt.Sprintf("plan-%d-%d@yamato", e.PlanID, e.At.Unix())
		}
		event := c.AddEvent(id)
		event.SetDtStampTime(now)
		event.SetStartAt(e.At)
		end := e.At.Add(15 * time.Minute)
		if e.FinishedAt != nil && e.FinishedAt.After(e.At) {
			end = *e.FinishedAt
		}
		event.SetEndAt(end)
		title, link := e.Plan, at+"/plans/"+url.PathEscape(e.Plan)
		switch {
		case e.Run != nil:
			title, link = fmt.Sprintf("%s: %s", e.Plan, verdictOf(e)), fmt.Sprintf("%s/runs/%d", at, *e.Run)
		case !e.Coming:
			title = e.Plan + ": " + string(e.State)
		}
		event.SetSummary(title)
		event.SetURL(link)
		words := []string{link}
		if e.Told != "" {
			words = append(words, e.Told)
		}
		if len(e.Sites) > 0 {
			words = append(words, "at "+strings.Join(e.Sites, ", "))
			event.SetLocation(strings.Join(e.Sites, ", "))
		}
		event.SetDescription(strings.Join(words, "\n"))
		status := ics.ObjectStatusConfirmed
		if e.Coming {
			status = ics.ObjectStatusTentative
		}
		event.SetStatus(status)
	}
	return []byte(c.Serialize()), nil
}

func verdictOf(e Entry) string {
	switch {
	case e.RunState != nil && (*e.RunState == "queued" || *e.RunState == "running"):
		return *e.RunState
	case e.RunState != nil && *e.RunState == "cancelled":
		return "cancelled"
	}
	return base.Deref(e.Verdict)
}
