package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/tus/tusd/v2/pkg/filelocker"
	"github.com/tus/tusd/v2/pkg/filestore"
	tus "github.com/tus/tusd/v2/pkg/handler"
	quiet "golang.org/x/exp/slog"

	"yamato/internal/api/wire"
	"yamato/internal/core/plain"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/dispatch"
)

// uploads takes packages in pieces by the tus protocol (1.0.0): what was
// interrupted goes on where it stopped, at any service that shares the folder.
type uploads struct {
	dir   string
	log   *slog.Logger
	mu    sync.Mutex
	of    map[string]*tus.UnroutedHandler // by project
	store filestore.FileStore
}

func newUploads(dir string, log *slog.Logger) (*uploads, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for uploads: %w", err)
	}
	return &uploads{dir: dir, log: log, of: map[string]*tus.UnroutedHandler{}, store: filestore.New(dir)}, nil
}

// to gives the protocol's handler for a project.
func (u *uploads) to(project string) (*tus.UnroutedHandler, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if h := u.of[project]; h != nil {
		return h, nil
	}
	path := "/api/v1/projects/" + project + "/uploads/"
	if project == ofHosts {
		path = "/api/v1/parts/"
	}
	parts := tus.NewStoreComposer()
	u.store.UseIn(parts)
	filelocker.New(u.dir).UseIn(parts)
	h, err := tus.NewUnroutedHandler(tus.Config{
		StoreComposer: parts, BasePath: path, MaxSize: mostOf(project),
		DisableDownload: true, DisableConcatenation: true,
		Logger: quiet.New(quiet.NewTextHandler(io.Discard, nil)), Cors: &tus.CorsConfig{Disable: true},
		PreUploadCreateCallback: func(e tus.HookEvent) (tus.HTTPResponse, tus.FileInfoChanges, error) {
			id, _ := e.Context.Value(uploadID).(string)
			return tus.HTTPResponse{}, tus.FileInfoChanges{ID: id}, nil
		},
	})
	u.of[project] = h
	return h, err
}

// mostOf is how large one upload may be, in bytes.
func mostOf(project string) int64 {
	if project == ofHosts {
		return dispatch.MaxEvidence
	}
	return builds.MaxPackage
}

// ofHosts stands for a project where hosts upload evidence.
const ofHosts = ""

type contextKey string

const uploadID contextKey = "yamato.upload"

var uploadForm = regexp.MustCompile(`^[0-9a-f-]{36}$`)

// upload serves the protocol: POST begins, HEAD tells how far it got, PATCH goes
// on, DELETE gives up.
func (h *handlers) upload(g *gin.Context) {
	if h.uploads == nil {
		h.fail(g, base.NotFound("this service takes no uploads in pieces", "send the package whole"))
		return
	}
	of := caller(g.Request.Context()).Project
	if caller(g.Request.Context()).Kind == "host" {
		of = ofHosts
	}
	protocol, err := h.uploads.to(of)
	if err != nil {
		h.fail(g, err)
		return
	}
	serve := map[string]http.HandlerFunc{http.MethodHead: protocol.HeadFile, http.MethodPatch: protocol.PatchFile,
		http.MethodDelete: protocol.DelFile}[g.Request.Method]
	r := g.Request
	if need := max(r.ContentLength, length(g)); need > 0 {
		if use, err := disk.UsageWithContext(r.Context(), h.uploads.dir); err == nil &&
			use.Free < uint64(need)+leastRoom {
			h.fail(g, base.NoRoom())
			return
		}
	}
	made := ""
	if id := g.Param("upload"); id == "" {
		size, err := declared(g, of)
		if err != nil {
			h.fail(g, err)
			return
		}
		made = uuid.NewString()
		if err := h.service.Builds.StartUpload(r.Context(), caller(g.Request.Context()), made, size); err != nil {
			h.fail(g, err)
			return
		}
		r, serve = r.WithContext(context.WithValue(r.Context(), uploadID, made)), protocol.PostFile
	} else if err := h.ownUpload(g, id); err != nil {
		h.fail(g, err)
		return
	} else {
		r = r.Clone(r.Context())
		r.URL.Path = "/" + id // all that it looks for there
	}
	protocol.Middleware(serve).ServeHTTP(g.Writer, r)
	switch ok := g.Writer.Status() < 300; {
	case ok && g.Request.Method == http.MethodDelete:
		h.endUpload(g, g.Param("upload"))
	case !ok && made != "": // it was not begun
		h.endUpload(g, made)
	}
}

// endUpload forgets an upload that is over. What cannot be forgotten now is after a day.
func (h *handlers) endUpload(g *gin.Context, id string) {
	if err := h.service.Builds.EndUpload(g.Request.Context(), caller(g.Request.Context()), id); err != nil {
		h.config.Log.Warn("an upload that is over could not be forgotten", "error", err)
	}
}

// declared is how large an upload that begins says that it will be. One that does not say could grow without end.
func declared(g *gin.Context, of string) (int64, error) {
	n, err := strconv.ParseInt(g.GetHeader("Upload-Length"), 10, 64)
	if err != nil || n < 0 || g.GetHeader("Upload-Defer-Length") != "" {
		return 0, base.Invalid("an upload says how large it will be when it begins",
			"send Upload-Length, in bytes, without Upload-Defer-Length")
	}
	if most := mostOf(of); n > most {
		return 0, base.Refuse(base.TooLarge, fmt.Sprintf("an upload is of at most %d MB", most>>20), "")
	}
	return n, nil
}

// leastRoom is what is to be left on the disk beside an upload, in bytes.
const leastRoom = 32 << 20

// length is how large an upload says that it will be, 0 where it does not say.
func length(g *gin.Context) int64 {
	n, err := strconv.ParseInt(g.GetHeader("Upload-Length"), 10, 64)
	if err != nil || n < 0 || n > builds.MaxPackage {
		return 0
	}
	return n
}

func (h *handlers) ownUpload(g *gin.Context, id string) error {
	if !uploadForm.MatchString(id) {
		return base.NotFound("there is no such upload", "")
	}
	return h.service.Builds.OwnsUpload(g.Request.Context(), caller(g.Request.Context()), id)
}

// TakeUpload takes in a package whose upload is complete.
func (h *handlers) TakeUpload(ctx context.Context, r TakeUploadRequestObject) (TakeUploadResponseObject, error) {
	g := served(ctx)
	if g == nil || h.uploads == nil {
		return nil, base.NotFound("this service takes no uploads in pieces", "send the package whole")
	}
	if err := h.ownUpload(g, r.Upload); err != nil {
		return nil, err
	}
	upload, err := h.uploads.store.GetUpload(ctx, r.Upload)
	if errors.Is(err, tus.ErrNotFound) {
		return nil, base.NotFound("there is no such upload", "it is kept for a day after it was begun: begin anew")
	}
	if err != nil {
		return nil, err
	}
	info, err := upload.GetInfo(ctx)
	if err != nil {
		return nil, err
	}
	if info.SizeIsDeferred || info.Offset != info.Size {
		return nil, base.Invalid(fmt.Sprintf("%d of %d bytes have arrived", info.Offset, info.Size),
			"send the rest first")
	}
	f, err := os.Open(filepath.Join(h.uploads.dir, r.Upload))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	p, err := h.service.Builds.TakeUpload(ctx, caller(ctx), r.Upload, plain.Text(info.MetaData["filename"], 500), f)
	if err != nil {
		var refused *base.Problem
		// it will not get better: nothing is kept of it
		if errors.As(base.AsProblem(err), &refused) && statusOf(refused.Kind) < 500 {
			_ = h.uploads.store.AsTerminatableUpload(upload).Terminate(ctx)
			h.endUpload(g, r.Upload)
		}
		return nil, err
	}
	if err := h.uploads.store.AsTerminatableUpload(upload).Terminate(ctx); err != nil {
		h.config.Log.Warn("an upload could not be tidied away", "error", err)
	}
	return TakeUpload200JSONResponse(wire.Package(p)), nil
}

// putPart keeps a blob whose upload in parts is complete.
func (h *handlers) putPart(g *gin.Context, id string) error {
	if h.uploads == nil {
		return base.NotFound("this service takes no uploads in pieces", "send it whole")
	}
	if err := h.ownUpload(g, id); err != nil {
		return err
	}
	ctx := g.Request.Context()
	upload, err := h.uploads.store.GetUpload(ctx, id)
	if errors.Is(err, tus.ErrNotFound) {
		return base.NotFound("there is no such upload", "begin anew")
	}
	if err != nil {
		return err
	}
	info, err := upload.GetInfo(ctx)
	if err != nil {
		return err
	}
	if info.SizeIsDeferred || info.Offset != info.Size {
		return base.Invalid(fmt.Sprintf("%d of %d bytes have arrived", info.Offset, info.Size), "send the rest first")
	}
	f, err := os.Open(filepath.Join(h.uploads.dir, id))
	if err != nil {
		return err
	}
	defer f.Close()
	err = h.service.Link.PutBlob(ctx, g.Param("digest"), f)
	var refused *base.Problem
	if err == nil || errors.As(err, &refused) { // kept, or it never will be: nothing stays of it
		if err := h.uploads.store.AsTerminatableUpload(upload).Terminate(ctx); err != nil {
			h.config.Log.Warn("an upload could not be tidied away", "error", err)
		}
		h.endUpload(g, id)
	}
	return err
}

// icon gives a build's icon.
func (h *handlers) icon(g *gin.Context) {
	data, media, err := h.service.Builds.Icon(g.Request.Context(), caller(g.Request.Context()), g.Query("app"), g.Param("build"))
	if err != nil {
		h.fail(g, err)
		return
	}
	g.Header("Cache-Control", "private, max-age=86400")
	g.Data(http.StatusOK, media, data)
}

// sidelined gives the last picture, or the boot log, of a device that was given up.
func (h *handlers) sidelined(g *gin.Context) {
	f, media, err := h.service.Care.Remains(g.Request.Context(), caller(g.Request.Context()), g.Param("device"), g.Param("what"))
	if err != nil {
		h.fail(g, err)
		return
	}
	defer f.Close()
	g.DataFromReader(http.StatusOK, f.Size(), media, f, nil)
}
