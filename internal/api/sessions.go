package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strconv"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/sessions"
	kept "yamato/internal/store/sessions"
)

// ListSessions lists sessions.
func (h *handlers) ListSessions(ctx context.Context, r ListSessionsRequestObject) (ListSessionsResponseObject, error) {
	cursor, limit, err := page(r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	c := caller(ctx)
	list, next, err := h.service.Sessions.Sessions(ctx, c, base.Deref(r.Params.Going), text(r.Params.Q), cursor, limit)
	out := ListSessions200JSONResponse{Sessions: []contract.Session{}, Next: base.Stated(next)}
	for _, s := range list {
		out.Sessions = append(out.Sessions, wire.Session(s, c.Name))
	}
	return out, err
}

// OpenSession asks for a device.
func (h *handlers) OpenSession(ctx context.Context, r OpenSessionRequestObject) (OpenSessionResponseObject, error) {
	b := r.Body
	c := caller(ctx)
	in := sessions.Wish{Name: text(b.Name), Purpose: text(b.Purpose), Device: text(b.Device), Lineup: text(b.Lineup),
		Build: text(b.Build), App: text(b.App), Installed: text(b.Installed), Language: text(b.Language),
		Cleaning: text(b.Cleaning),
		Shared:   base.Deref(b.Shared), IdleMS: base.Deref(b.IdleMs), AwayMS: base.Deref(b.AwayMs)}
	if b.Platform != nil {
		in.Platform = string(*b.Platform)
	}
	var err error
	if a := b.Again; a != nil {
		if in, err = h.service.Sessions.AgainByHand(ctx, c, a.Run, a.Leg, a.Case, in); err != nil {
			return nil, err
		}
	}
	if a := b.Report; a != nil {
		if in, err = h.service.Sessions.Nearest(ctx, c, text(a.Model), text(a.Os), text(a.Language), in); err != nil {
			return nil, err
		}
	}
	s, err := h.service.Sessions.OpenSession(ctx, c, in, text(r.Params.IdempotencyKey))
	return OpenSession200JSONResponse(wire.Session(s, c.Name)), err
}

// GetSession gives one, when it is open or closed or a time has passed.
func (h *handlers) GetSession(ctx context.Context, r GetSessionRequestObject) (GetSessionResponseObject, error) {
	c := caller(ctx)
	s, err := h.service.Sessions.AwaitSession(ctx, c, r.Session,
		time.Duration(base.Deref(r.Params.WaitMs))*time.Millisecond)
	return GetSession200JSONResponse(wire.Session(s, c.Name)), err
}

// ChangeSession changes words.
func (h *handlers) ChangeSession(ctx context.Context, r ChangeSessionRequestObject) (ChangeSessionResponseObject,
	error) {
	c := caller(ctx)
	s, err := h.service.Sessions.ChangeSession(ctx, c, r.Session, sessions.Words{Name: r.Body.Name,
		Purpose: r.Body.Purpose,
		Shared:  r.Body.Shared})
	return ChangeSession200JSONResponse(wire.Session(s, c.Name)), err
}

// EndSession ends one.
func (h *handlers) EndSession(ctx context.Context, r EndSessionRequestObject) (EndSessionResponseObject, error) {
	c := caller(ctx)
	s, err := h.service.Sessions.EndSession(ctx, c, r.Session)
	return EndSession200JSONResponse(wire.Session(s, c.Name)), err
}

// MoveSession has one go on elsewhere.
func (h *handlers) MoveSession(ctx context.Context, r MoveSessionRequestObject) (MoveSessionResponseObject, error) {
	c := caller(ctx)
	s, err := h.service.Sessions.MoveSession(ctx, c, r.Session, text(r.Body.Device), text(r.Body.Lineup))
	return MoveSession200JSONResponse(wire.Session(s, c.Name)), err
}

// OrderSession has a device do something.
func (h *handlers) OrderSession(ctx context.Context, r OrderSessionRequestObject) (OrderSessionResponseObject, error) {
	b := r.Body
	o := link.Order{Do: b.Do, Text: text(b.Text), Name: text(b.Name), App: text(b.App), On: base.Deref(b.On),
		OverMS: base.Deref(b.OverMs), From: float64(base.Deref(b.From)), To: float64(base.Deref(b.To))}
	if b.At != nil {
		o.At = &screen.Point{X: float64(b.At.X), Y: float64(b.At.Y)}
	}
	if b.Args != nil {
		args, err := json.Marshal(*b.Args)
		if err != nil {
			return nil, err
		}
		o.Args = args
	}
	a, err := h.service.Sessions.Order(ctx, caller(ctx), r.Session, o)
	return OrderSession200JSONResponse(wire.Answer(a)), err
}

// ListEntries lists what stays.
func (h *handlers) ListEntries(ctx context.Context, r ListEntriesRequestObject) (ListEntriesResponseObject, error) {
	_, list, err := h.service.Sessions.SessionEntries(ctx, caller(ctx), r.Session)
	out := ListEntries200JSONResponse{}
	for _, e := range list {
		out = append(out, wire.Entry(e))
	}
	return out, err
}

// AddSessionFile takes a file in.
func (h *handlers) AddSessionFile(ctx context.Context, r AddSessionFileRequestObject) (AddSessionFileResponseObject,
	error) {
	digest, size, err := h.service.Sessions.AddSessionFile(ctx, caller(ctx), r.Session, r.Body)
	return AddSessionFile200JSONResponse{Digest: digest, Size: size}, err
}

// ListPlaces lists places.
func (h *handlers) ListPlaces(ctx context.Context, _ ListPlacesRequestObject) (ListPlacesResponseObject, error) {
	list, err := h.service.Store.Places(ctx, caller(ctx).ProjectID)
	out := ListPlaces200JSONResponse{}
	for _, p := range list {
		out = append(out, contract.SavedPlace{Name: p.Name, Latitude: p.Latitude, Longitude: p.Longitude,
			Accuracy: &p.Accuracy})
	}
	return out, err
}

// SavePlace keeps one.
func (h *handlers) SavePlace(ctx context.Context, r SavePlaceRequestObject) (SavePlaceResponseObject, error) {
	p := kept.SavedPlace{Name: r.Body.Name, Latitude: r.Body.Latitude, Longitude: r.Body.Longitude, Accuracy: 10}
	if r.Body.Accuracy != nil {
		p.Accuracy = *r.Body.Accuracy
	}
	at := device.Place{Latitude: p.Latitude, Longitude: p.Longitude, Accuracy: p.Accuracy}
	if err := at.Check(); err != nil {
		return nil, base.Invalid(err.Error(), "")
	}
	if p.Name == "" {
		return nil, base.Invalid("a place has a name", "")
	}
	return SavePlace204Response{}, h.service.Store.SavePlace(ctx, caller(ctx).ProjectID, p)
}

// ListFindings lists findings.
func (h *handlers) ListFindings(ctx context.Context, r ListFindingsRequestObject) (ListFindingsResponseObject, error) {
	cursor, limit, err := page(r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	list, next, err := h.service.Sessions.Findings(ctx, caller(ctx), text(r.Params.Q), text(r.Params.State),
		base.Deref(r.Params.Session), cursor, limit)
	out := ListFindings200JSONResponse{Findings: []contract.SeenFault{}, Next: base.Stated(next)}
	for _, f := range list {
		out.Findings = append(out.Findings, wire.SeenFault(f))
	}
	return out, err
}

func drawn(list *[]contract.DrawnMark) *[]kept.Drawn {
	if list == nil {
		return nil
	}
	out := []kept.Drawn{}
	for _, m := range *list {
		out = append(out, kept.Drawn{Kind: string(m.Kind), X: float64(m.X), Y: float64(m.Y), ToX: float64(m.ToX),
			ToY:  float64(m.ToY),
			Text: text(m.Text)})
	}
	return &out
}

// AddFinding writes one down.
func (h *handlers) AddFinding(ctx context.Context, r AddFindingRequestObject) (AddFindingResponseObject, error) {
	b := r.Body
	in := sessions.NewFinding{Title: b.Title, Note: text(b.Note), Session: base.Deref(b.Session),
		Lease: base.Deref(b.Lease),
		Seq:   base.Deref(b.Seq)}
	if b.Failed != nil {
		in.Run, in.Leg, in.Case = b.Failed.Run, b.Failed.Leg, b.Failed.Case
	}
	if m := drawn(b.Marks); m != nil {
		in.Marks = *m
	}
	f, err := h.service.Sessions.AddFinding(ctx, caller(ctx), in, text(r.Params.IdempotencyKey))
	return AddFinding200JSONResponse(wire.SeenFault(f)), err
}

// GetFinding gives one.
func (h *handlers) GetFinding(ctx context.Context, r GetFindingRequestObject) (GetFindingResponseObject, error) {
	f, err := h.service.Sessions.Finding(ctx, caller(ctx), r.Finding)
	return GetFinding200JSONResponse(wire.SeenFault(f)), err
}

// ChangeFinding changes one.
func (h *handlers) ChangeFinding(ctx context.Context, r ChangeFindingRequestObject) (ChangeFindingResponseObject,
	error) {
	b := r.Body
	f, err := h.service.Sessions.ChangeFinding(ctx, caller(ctx), r.Finding, sessions.FindingWords{Title: b.Title,
		Note:  b.Note,
		State: b.State, MendedIn: b.MendedIn, Marks: drawn(b.Marks)})
	return ChangeFinding200JSONResponse(wire.SeenFault(f)), err
}

// findingPicture serves the picture of a finding.
func (h *handlers) findingPicture(g *gin.Context) {
	n, err := number(g, "finding")
	if err != nil {
		h.fail(g, err)
		return
	}
	body, err := h.service.Sessions.FindingPicture(g.Request.Context(), caller(g.Request.Context()), n, g.Query("plain") == "true")
	if err != nil {
		h.fail(g, err)
		return
	}
	g.Data(http.StatusOK, evidence.Picture.MediaType, body)
}

// findingFile serves a finding as Markdown with its pictures.
func (h *handlers) findingFile(g *gin.Context) {
	n, err := number(g, "finding")
	if err != nil {
		h.fail(g, err)
		return
	}
	var body bytes.Buffer // a few pictures at most
	if err := h.service.Sessions.FindingFile(g.Request.Context(), caller(g.Request.Context()), n, &body); err != nil {
		h.fail(g, err)
		return
	}
	g.Header("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": fmt.Sprintf("finding-%d.zip", n)}))
	g.Data(http.StatusOK, "application/zip", body.Bytes())
}

// sessionLog serves a session's log.
func (h *handlers) sessionLog(g *gin.Context) {
	n, err := number(g, "session")
	if err == nil {
		_, err = h.service.Sessions.Session(g.Request.Context(), caller(g.Request.Context()), n)
	}
	if err != nil {
		h.fail(g, err)
		return
	}
	asText := g.Query("as") != "lines"
	g.Header("Content-Type", evidence.Log.MediaType)
	if asText {
		g.Header("Content-Disposition", mime.FormatMediaType("attachment",
			map[string]string{"filename": fmt.Sprintf("session-%d.log", n)}))
	}
	if err := h.service.Sessions.SessionLog(g.Request.Context(), caller(g.Request.Context()), n, asText, g.Writer); err != nil {
		h.fail(g, err)
	}
}

// keptOfSession serves what a session kept, so that a browser runs none of it.
func (h *handlers) keptOfSession(g *gin.Context) {
	var at [3]int64
	for i, name := range []string{"session", "lease", "seq"} {
		var err error
		if at[i], err = number(g, name); err != nil {
			h.fail(g, err)
			return
		}
	}
	e, f, err := h.service.Sessions.Kept(g.Request.Context(), caller(g.Request.Context()), at[0], at[1], at[2])
	if err != nil {
		h.fail(g, err)
		return
	}
	defer f.Close()
	kind := "application/octet-stream"
	if k, ok := evidence.ByMediaType(e.MediaType); ok && k.Passive {
		kind = e.MediaType
	}
	g.Header("Content-Type", kind)
	keepable(g)
	http.ServeContent(g.Writer, g.Request, "", time.Time{}, f)
}

// lookOn serves the socket of somebody who looks on.
func (h *handlers) lookOn(g *gin.Context) {
	n, err := number(g, "session")
	if err == nil {
		_, err = h.service.Sessions.Session(g.Request.Context(), caller(g.Request.Context()), n)
	}
	if err != nil {
		h.fail(g, err)
		return
	}
	h.socket(g, func(ctx context.Context, conn link.Live) error {
		return h.service.Sessions.ServeViewer(ctx, caller(g.Request.Context()), n,
			conn)
	})
}

// live serves a host's socket of a session.
func (h *handlers) live(g *gin.Context) {
	lease, err := number(g, "lease")
	if err != nil {
		h.fail(g, err)
		return
	}
	h.socket(g, func(ctx context.Context, conn link.Live) error {
		conn.Socket.SetReadLimit(link.MaxLive)
		return h.service.Sessions.ServeLive(ctx, caller(g.Request.Context()), lease, conn)
	})
}

// relay serves another instance.
func (h *handlers) relay(g *gin.Context) {
	lease, err := strconv.ParseInt(g.Param("lease"), 10, 64)
	c, program, ok := h.service.Sessions.Relayed(g.Request)
	if !ok || err != nil {
		h.fail(g, base.Forbidden("only another instance of the service may do this", ""))
		return
	}
	h.socket(g, func(ctx context.Context, conn link.Live) error {
		return h.service.Sessions.ServeRelay(ctx, c, program, lease, conn)
	})
}

// socket serves a WebSocket, and says in closing why it ended.
func (h *handlers) socket(g *gin.Context, serve func(ctx context.Context, conn link.Live) error) {
	socket, err := websocket.Accept(g.Writer, g.Request, &websocket.AcceptOptions{})
	if err != nil {
		return // Accept has answered
	}
	err = serve(g.Request.Context(), link.Live{Socket: socket})
	code, reason := websocket.StatusGoingAway, "it has ended"
	var p *base.Problem
	if errors.As(err, &p) {
		code, reason = websocket.StatusPolicyViolation, p.Title
	}
	_ = socket.Close(code, inClosing(reason))
}

// port serves a tool of whoever has a session.
func (h *handlers) port(g *gin.Context) {
	n, err := number(g, "session")
	if err == nil {
		_, err = h.service.Sessions.Session(g.Request.Context(), caller(g.Request.Context()), n)
	}
	if err != nil {
		h.fail(g, err)
		return
	}
	h.socket(g, func(ctx context.Context, conn link.Live) error {
		return h.service.Sessions.ServePort(ctx, caller(g.Request.Context()), n, conn.Socket)
	})
}

// meetPort serves a host's end of a tool's connection.
func (h *handlers) meetPort(g *gin.Context) {
	lease, err := number(g, "lease")
	if err == nil {
		err = h.service.Speaks(g.Request.Context(), caller(g.Request.Context()), lease)
	}
	if err != nil {
		h.fail(g, err)
		return
	}
	h.socket(g, func(_ context.Context, conn link.Live) error {
		if !h.service.Sessions.MeetPort(g.Param("id"), conn.Socket) {
			return base.NotFound("nobody waits for this", "")
		}
		return nil
	})
}

// relayPort serves another instance.
func (h *handlers) relayPort(g *gin.Context) {
	lease, err := strconv.ParseInt(g.Param("lease"), 10, 64)
	c, _, ok := h.service.Sessions.Relayed(g.Request)
	if !ok || err != nil {
		h.fail(g, base.Forbidden("only another instance of the service may do this", ""))
		return
	}
	h.socket(g, func(ctx context.Context, conn link.Live) error {
		return h.service.Sessions.ServeRelayedPort(ctx, c, lease, conn.Socket)
	})
}
