package store

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"yamato/internal/core/appfile"
	"yamato/internal/store/pg"
)

// Package is a package as it was handed in.
type Package struct {
	Digest    string                   `db:"digest"`
	Size      int64                    `db:"size"`
	FileName  string                   `db:"file_name"`
	Facts     pg.JSON[appfile.Package] `db:"facts"`
	CreatedAt time.Time                `db:"created_at"`
}

// Build is one version of an app.
type Build struct {
	ID          int64             `db:"id"`
	AppID       int64             `db:"app_id"`
	App         string            `db:"app"`
	Number      int64             `db:"number"`
	VersionName string            `db:"version_name"`
	VersionCode string            `db:"version_code"`
	CreatedAt   time.Time         `db:"created_at"`
	Note        string            `db:"note"`
	Pinned      bool              `db:"pinned"`
	RemovedAt   *time.Time        `db:"removed_at"`
	Packages    []Package         `db:"-"`
	Labels      map[string]string `db:"-"`
}

// AddPackage keeps what is known of a package whose bytes are kept already.
func (s *Store) AddPackage(ctx context.Context, project int64, p Package) error {
	_, err := s.db.ExecContext(ctx, `
		insert into package (project_id, digest, size, file_name, facts) values ($1, $2, $3, $4, $5)
		on conflict (project_id, digest) do nothing`, project, p.Digest, p.Size, p.FileName, pg.Encode(p.Facts.V))
	return err
}

// Packages gives packages by digest; those that are not there are missing.
func (s *Store) Packages(ctx context.Context, project int64, digests []string) ([]Package, error) {
	var out []Package
	err := s.db.SelectContext(ctx, &out, `
		select digest, size, file_name, facts, created_at from package
		where project_id = $1 and digest = any($2) order by array_position($2, digest)`, project, digests)
	return out, err
}

// AppOf finds the app that has one of these identities, or makes it with name,
// and gives it the identities. It holds the app's row until the transaction ends.
func (t Builds) AppOf(ctx context.Context, project int64, name string, packages []Package) (int64, error) {
	if err := t.change(ctx, atBuilds, `select pg_advisory_xact_lock(7420002, $1::int)`, project); err != nil {
		return 0, err
	}
	var found []int64
	for _, p := range packages {
		var ids []int64
		err := t.rows(ctx, atBuilds, &ids, `
			select distinct app_id from app_identity
			where project_id = $1 and (platform, application_id) = ($2, $3)
			   or project_id = $1 and application_id = $3
			   	limit 1`, project, p.Facts.V.Platform, p.Facts.V.ApplicationID)
		if err != nil {
			return 0, err
		}
		found = append(found, ids...)
	}
	var app int64
	if len(found) > 0 {
		app = found[0]
	} else if err := t.row(ctx, atBuilds, &app, `insert into app (project_id, name) values ($1, $2) returning id`,
		project, name); err != nil {
		return 0, err
	}
	for _, p := range packages {
		if err := t.change(ctx, atBuilds, `
			insert into app_identity (project_id, platform, application_id, app_id) values ($1, $2, $3, $4)
			on conflict do nothing`, project, p.Facts.V.Platform, p.Facts.V.ApplicationID, app); err != nil {
			return 0, err
		}
	}
	return app, nil
}

// NewestBuildOf gives the newest build of a version, with its packages, or ErrNone.
func (t Builds) NewestBuildOf(ctx context.Context, app int64, versionName, versionCode string) (Build, error) {
	var b Build
	err := t.row(ctx, atBuilds, &b, buildColumns+`
		where b.app_id = $1 and b.version_name = $2 and b.version_code = $3 order by b.number desc
			limit 1`, app, versionName, versionCode)
	if err != nil {
		return b, pg.Found(err)
	}
	return b, withPackages(ctx, t.tx, []*Build{&b})
}

// BuildHolding gives the newest build of an app that holds all these packages, or ErrNone.
func (t Builds) BuildHolding(ctx context.Context, app int64, digests []string) (int64, error) {
	var id int64
	err := t.row(ctx, atBuilds, &id, `
		select b.id from build b join build_package p on p.build_id = b.id
		where b.app_id = $1 and p.digest = any($2) group by b.id having count(distinct p.digest) = $3
			order by b.id desc limit 1`, app, digests, len(digests))
	return id, pg.Found(err)
}

// AddBuild makes a build with the next number of its app.
func (t Builds) AddBuild(ctx context.Context, project, app int64, versionName, versionCode string) (int64, error) {
	var id int64
	err := t.row(ctx, atBuilds, &id, `
		with n as (update app set next_build = next_build + 1 where id = $2 returning next_build - 1 as number)
		insert into build (project_id, app_id, number, version_name, version_code)
		select $1, $2, number, $3, $4 from n returning id`, project, app, versionName, versionCode)
	return id, err
}

// AddToBuild adds a package to a build.
func (t Builds) AddToBuild(ctx context.Context, project, build int64, p Package) error {
	return t.change(ctx, atBuilds, `
		with back as (update build set removed_at = null where id = $2 and removed_at is not null)
		insert into build_package (project_id, build_id, kind, digest) values ($1, $2, $3, $4)
		on conflict (build_id, kind) do nothing`, project, build, p.Facts.V.Kind, p.Digest)
}

const buildColumns = `
	select b.id, b.app_id, a.name as app, b.number, b.version_name, b.version_code, b.created_at, b.note, b.pinned,
		b.removed_at
	from build b join app a on a.id = b.app_id `

// hasLabels keeps builds that have all labels of the JSON object in $7.
const hasLabels = `not exists (
			select 1 from jsonb_each_text($7::jsonb) as w(key, value)
			where not exists (select 1 from build_label k where k.build_id = b.id and k.key = w.key
				and k.value = w.value))`

// Builds gives a project's builds, newest first, before the one of that id (0
// for the newest), of one app if that is not empty, and that q finds if it is not.
func (s *Store) Builds(ctx context.Context, project int64, app, q string, labels map[string]string, before int64,
	limit int) ([]Build, error) {
	var list []*Build
	err := s.db.SelectContext(ctx, &list, buildColumns+`
		where b.project_id = $1 and ($2 = '' or a.name = $2 or exists (
			select 1 from app_identity i where i.app_id = a.id and i.application_id = $2))
		  and ($3::bigint = 0 or b.id < $3)
		  and ($5 = '' or a.name ilike $6 or b.version_name ilike $6 or b.version_code = $5 or exists (
			select 1 from app_identity i where i.app_id = a.id and i.application_id ilike $6) or b.note ilike $6
				or exists (
			select 1 from build_label k where k.build_id = b.id
				and (k.key ilike $6 or k.value ilike $6 or k.key || '=' || k.value = $5)))
		  and `+hasLabels+`
		order by b.id desc limit $4`, project, app, before, limit, q, like(q), pg.Encode(labels))
	if err != nil {
		return nil, err
	}
	if err := withPackages(ctx, s.db, list); err != nil {
		return nil, err
	}
	return values(list), nil
}

// BuildsNamed gives the builds that ref may mean: by number, or by version, the
// newest of each app first.
func (s *Store) BuildsNamed(ctx context.Context, project int64, app, ref string) ([]Build, error) {
	var list []*Build
	err := s.db.SelectContext(ctx, &list, buildColumns+`
		where b.project_id = $1 and ('#' || b.number = $2 or b.number::text = $2 or b.version_name = $2)
		  and ($3 = '' or a.name = $3 or exists (select 1 from app_identity i where i.app_id = a.id
		  	and i.application_id = $3))
		order by (b.version_name = $2) desc, b.id desc limit 50`, project, ref, app)
	if err != nil {
		return nil, err
	}
	if err := withPackages(ctx, s.db, list); err != nil {
		return nil, err
	}
	return values(list), nil
}

// NewestLabelled gives the newest build of each app that has all these labels.
func (s *Store) NewestLabelled(ctx context.Context, project int64, app string,
	labels map[string]string) ([]Build, error) {
	list, err := s.Builds(ctx, project, app, "", labels, 0, 50)
	seen := map[int64]bool{}
	var out []Build
	for _, b := range list {
		if !seen[b.AppID] {
			seen[b.AppID] = true
			out = append(out, b)
		}
	}
	return out, err
}

// BuildBefore gives the build of the same app that came before one, or ErrNone.
func (s *Store) BuildBefore(ctx context.Context, project int64, b Build) (Build, error) {
	var out Build
	err := s.db.GetContext(ctx, &out, buildColumns+`
		where b.project_id = $1 and b.app_id = $2 and b.number < $3 and b.removed_at is null order by b.number desc
			limit 1`, project, b.AppID, b.Number)
	if err != nil {
		return out, pg.Found(err)
	}
	return out, withPackages(ctx, s.db, []*Build{&out})
}

// ChangeBuild changes what people say of a build. Nil leaves as it is; an empty
// value takes a label away.
func (t Builds) ChangeBuild(ctx context.Context, build int64, note *string, pinned *bool, labels map[string]string) error {
	if err := t.change(ctx, atBuilds, `update build set note = coalesce($2, note), pinned = coalesce($3, pinned) where id = $1`,
		build, note, pinned); err != nil {
		return err
	}
	for key, value := range labels {
		if value == "" {
			if err := t.change(ctx, atBuilds, `delete from build_label where build_id = $1 and key = $2`, build, key); err != nil {
				return err
			}
			continue
		}
		if err := t.change(ctx, atBuilds, `
			insert into build_label (build_id, key, value) values ($1, $2, $3)
			on conflict (build_id, key) do update set value = excluded.value`, build, key, value); err != nil {
			return err
		}
	}
	var n int
	if err := t.row(ctx, atBuilds, &n, `select count(*) from build_label where build_id = $1`, build); err != nil {
		return err
	}
	if n > MaxLabels {
		return ErrTooMany
	}
	return nil
}

// MaxLabels bounds the labels of one build.
const MaxLabels = 50

// ErrTooMany tells that there would be more of something than is kept.
var ErrTooMany = errors.New("there would be too many")

// Retention is what may be taken away of a project's builds.
type Retention struct {
	Keep      int       `db:"keep"`
	Days      int       `db:"days"`
	ChangedBy string    `db:"changed_by"`
	ChangedAt time.Time `db:"changed_at"`
}

// RetentionOf gives a project's rule, or ErrNone.
func (s *Store) RetentionOf(ctx context.Context, project int64) (Retention, error) {
	var r Retention
	err := s.db.GetContext(ctx, &r, `select keep, days, changed_by, changed_at from retention where project_id = $1`,
		project)
	return r, pg.Found(err)
}

// SetRetention keeps a project's rule.
func (s *Store) SetRetention(ctx context.Context, project int64, r Retention) error {
	_, err := s.db.ExecContext(ctx, `
		insert into retention (project_id, keep, days, changed_by) values ($1, $2, $3, $4)
		on conflict (project_id) do update set keep = excluded.keep, days = excluded.days,
			changed_by = excluded.changed_by, changed_at = now()`, project, r.Keep, r.Days, r.ChangedBy)
	return err
}

// Outdated gives the builds that a rule takes away: older than its days, not among
// the newest of their app, not pinned, and of no run that is under way.
func (s *Store) Outdated(ctx context.Context, project int64, keep, days, limit int) ([]Build, error) {
	var list []*Build
	err := s.db.SelectContext(ctx, &list, buildColumns+`
		where b.project_id = $1 and not b.pinned and b.removed_at is null and ($2 > 0 or $3 > 0)
		  and b.created_at < now() - $3 * interval '1 day'
		  and (select count(*) from build n where n.app_id = b.app_id and n.number > b.number
		  	and n.removed_at is null) >= $2
		  and not exists (select 1 from run r where r.build_id = b.id and r.finished_at is null)
		order by b.id limit $4`, project, keep, days, limit)
	if err != nil {
		return nil, err
	}
	if err := withPackages(ctx, s.db, list); err != nil {
		return nil, err
	}
	return values(list), nil
}

// Ruled gives the projects that have a rule for retention.
func (s *Store) Ruled(ctx context.Context) ([]int64, error) {
	var list []int64
	err := s.db.SelectContext(ctx, &list, `select project_id from retention where keep > 0 or days > 0`)
	return list, err
}

// RemoveBuild takes a build's packages away, unless it was pinned meanwhile. Its
// runs stay; blobs that nothing refers to are collected later.
func (s *Store) RemoveBuild(ctx context.Context, project, build int64) error {
	return s.InTx(ctx, func(t *Tx) error {
		return t.exec(ctx, `
			with old as (update build set removed_at = now() where id = $2 and project_id = $1 and not pinned
				and removed_at is null
			             and not exists (select 1 from run r where r.build_id = $2 and r.finished_at is null)
			             	returning id),
			     let as (delete from build_package bp using old where bp.build_id = old.id returning bp.digest)
			delete from package p using let where p.project_id = $1 and p.digest = let.digest
			  and not exists (select 1 from build_package o where o.project_id = $1 and o.digest = p.digest
			  	and o.build_id <> $2)`, project, build)
	})
}

// AddHandover keeps a page from which a phone can install a build.
func (s *Store) AddHandover(ctx context.Context, project, build int64, code, by string,
	ttl time.Duration) (time.Time, error) {
	var until time.Time
	err := s.InTx(ctx, func(t *Tx) error {
		if err := t.exec(ctx, `delete from handover where expires_at < now()`); err != nil {
			return err
		}
		return t.tx.GetContext(ctx, &until, `
			insert into handover (digest, project_id, build_id, made_by, expires_at)
				values ($1, $2, $3, $4, now() + $5 * interval '1 ms') returning expires_at`,
			pg.Digest(code), project, build, by, ttl.Milliseconds())
	})
	return until, err
}

// HandoverOf gives the build of a page that has not expired.
func (s *Store) HandoverOf(ctx context.Context, code string) (Build, time.Time, error) {
	var row struct {
		Project int64     `db:"project_id"`
		Build   int64     `db:"build_id"`
		Until   time.Time `db:"expires_at"`
	}
	if err := s.db.GetContext(ctx, &row, `select project_id, build_id, expires_at from handover where digest = $1 and expires_at > now()`, pg.Digest(code)); err != nil {
		return Build{}, time.Time{}, pg.Found(err)
	}
	b, err := s.Build(ctx, row.Project, row.Build)
	return b, row.Until, err
}

// Build gives one build.
func (s *Store) Build(ctx context.Context, project, id int64) (Build, error) {
	var b Build
	if err := s.db.GetContext(ctx, &b, buildColumns+`where b.project_id = $1 and b.id = $2`, project, id); err != nil {
		return b, pg.Found(err)
	}
	return b, withPackages(ctx, s.db, []*Build{&b})
}

// Facts gives what each package of the build says of itself, in their order.
func (b Build) Facts() []appfile.Package {
	var out []appfile.Package
	for _, p := range b.Packages {
		out = append(out, p.Facts.V)
	}
	return out
}

func withPackages(ctx context.Context, q sqlx.QueryerContext, builds []*Build) error {
	ids := make([]int64, len(builds))
	at := map[int64]*Build{}
	for i, b := range builds {
		ids[i], at[b.ID] = b.ID, b
		b.Packages, b.Labels = []Package{}, map[string]string{}
	}
	var labels []struct {
		Build int64  `db:"build_id"`
		Key   string `db:"key"`
		Value string `db:"value"`
	}
	if err := sqlx.SelectContext(ctx, q, &labels,
		`select build_id, key, value from build_label where build_id = any($1)`, ids); err != nil {
		return err
	}
	for _, l := range labels {
		at[l.Build].Labels[l.Key] = l.Value
	}
	var rows []struct {
		Build int64 `db:"build_id"`
		Package
	}
	err := sqlx.SelectContext(ctx, q, &rows, `
		select bp.build_id, p.digest, p.size, p.file_name, p.facts, p.created_at
		from build_package bp join package p on p.project_id = bp.project_id and p.digest = bp.digest
		where bp.build_id = any($1) order by bp.build_id, bp.kind`, ids)
	for _, r := range rows {
		at[r.Build].Packages = append(at[r.Build].Packages, r.Package)
	}
	return err
}

func values[T any](list []*T) []T {
	out := make([]T, len(list))
	for i, p := range list {
		out[i] = *p
	}
	return out
}

// Begun is what one caller has begun to upload and not ended.
type Begun struct {
	Count int   `db:"count"`
	Bytes int64 `db:"bytes"` // as declared
}

// AddUpload notes whose an upload is, and how large, where what its caller has begun stays within most. It forgets
// those begun a day ago, whose pieces are swept. false where it would be more than that.
func (s *Store) AddUpload(ctx context.Context, project int64, id, by string, size int64, most Begun) (bool, error) {
	ok := false
	err := s.InTx(ctx, func(t *Tx) error {
		// one after the other: two that count at once would both find room
		if err := t.exec(ctx, `select 1 from project where id = $1 for no key update`, project); err != nil {
			return err
		}
		if err := t.exec(ctx, `delete from upload where project_id = $1 and created_at < now() - interval '1 day'`,
			project); err != nil {
			return err
		}
		var begun Begun
		if err := t.tx.GetContext(ctx, &begun, `
			select count(*) as count, coalesce(sum(size), 0) as bytes from upload where project_id = $1 and created_by = $2`, project, by); err != nil {
			return err
		}
		if ok = begun.Count < most.Count && size <= most.Bytes-begun.Bytes; !ok {
			return nil
		}
		return t.exec(ctx, `insert into upload (id, project_id, created_by, size) values ($1, $2, $3, $4)`, id, project,
			by, size)
	})
	return ok, err
}

// HasUpload reports whether an upload is of a project, and begun by whom it says; "" for anybody.
func (s *Store) HasUpload(ctx context.Context, project int64, id, by string) (bool, error) {
	var ok bool
	err := s.db.GetContext(ctx, &ok, `
		select exists (select 1 from upload where id = $1 and project_id = $2 and $3 in ('', created_by))`, id, project, by)
	return ok, err
}

// RemoveUpload forgets an upload.
func (s *Store) RemoveUpload(ctx context.Context, project int64, id string) error {
	_, err := s.db.ExecContext(ctx, `delete from upload where id = $1 and project_id = $2`, id, project)
	return err
}

// AppNamed gives the id of an app.
func (s *Store) AppNamed(ctx context.Context, project int64, name string) (int64, error) {
	var id int64
	err := s.db.GetContext(ctx, &id, `select id from app where project_id = $1 and lower(name) = lower($2)`, project,
		name)
	return id, pg.Found(err)
}
