package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"yamato/internal/core/appfile"
)

// Package is a package as it was handed in.
type Package struct {
	Digest    string                `db:"digest"`
	Size      int64                 `db:"size"`
	FileName  string                `db:"file_name"`
	Facts     JSON[appfile.Package] `db:"facts"`
	CreatedAt time.Time             `db:"created_at"`
}

// Build is one version of an app.
type Build struct {
	ID          int64     `db:"id"`
	AppID       int64     `db:"app_id"`
	App         string    `db:"app"`
	Number      int64     `db:"number"`
	VersionName string    `db:"version_name"`
	VersionCode string    `db:"version_code"`
	CreatedAt   time.Time `db:"created_at"`
	Packages    []Package `db:"-"`
}

// AddPackage keeps what is known of a package whose bytes are kept already.
func (s *Store) AddPackage(ctx context.Context, project int64, p Package) error {
	_, err := s.db.ExecContext(ctx, `
		insert into package (project_id, digest, size, file_name, facts) values ($1, $2, $3, $4, $5)
		on conflict (project_id, digest) do nothing`, project, p.Digest, p.Size, p.FileName, toJSON(p.Facts.V))
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
func (t *Tx) AppOf(ctx context.Context, project int64, name string, packages []Package) (int64, error) {
	if err := t.exec(ctx, `select pg_advisory_xact_lock(7420002, $1::int)`, project); err != nil {
		return 0, err
	}
	var found []int64
	for _, p := range packages {
		var ids []int64
		err := t.tx.SelectContext(ctx, &ids, `
			select distinct app_id from app_identity
			where project_id = $1 and (platform, application_id) = ($2, $3)
			   or project_id = $1 and application_id = $3 limit 1`, project, p.Facts.V.Platform, p.Facts.V.ApplicationID)
		if err != nil {
			return 0, err
		}
		found = append(found, ids...)
	}
	var app int64
	if len(found) > 0 {
		app = found[0]
	} else if err := t.tx.GetContext(ctx, &app, `insert into app (project_id, name) values ($1, $2) returning id`, project, name); err != nil {
		return 0, err
	}
	for _, p := range packages {
		if err := t.exec(ctx, `
			insert into app_identity (project_id, platform, application_id, app_id) values ($1, $2, $3, $4)
			on conflict do nothing`, project, p.Facts.V.Platform, p.Facts.V.ApplicationID, app); err != nil {
			return 0, err
		}
	}
	return app, nil
}

// NewestBuildOf gives the newest build of a version, with its packages, or ErrNone.
func (t *Tx) NewestBuildOf(ctx context.Context, app int64, versionName, versionCode string) (Build, error) {
	var b Build
	err := t.tx.GetContext(ctx, &b, buildColumns+`
		where b.app_id = $1 and b.version_name = $2 and b.version_code = $3 order by b.number desc limit 1`, app, versionName, versionCode)
	if err != nil {
		return b, one(err)
	}
	return b, withPackages(ctx, t.tx, []*Build{&b})
}

// AddBuild makes a build with the next number of its app.
func (t *Tx) AddBuild(ctx context.Context, project, app int64, versionName, versionCode string) (int64, error) {
	var id int64
	err := t.tx.GetContext(ctx, &id, `
		with n as (update app set next_build = next_build + 1 where id = $2 returning next_build - 1 as number)
		insert into build (project_id, app_id, number, version_name, version_code)
		select $1, $2, number, $3, $4 from n returning id`, project, app, versionName, versionCode)
	return id, err
}

// AddToBuild adds a package to a build.
func (t *Tx) AddToBuild(ctx context.Context, project, build int64, p Package) error {
	return t.exec(ctx, `
		insert into build_package (project_id, build_id, kind, digest) values ($1, $2, $3, $4)
		on conflict (build_id, kind) do nothing`, project, build, p.Facts.V.Kind, p.Digest)
}

const buildColumns = `
	select b.id, b.app_id, a.name as app, b.number, b.version_name, b.version_code, b.created_at
	from build b join app a on a.id = b.app_id `

// Builds gives a project's builds, newest first, before the one of that id (0
// for the newest), of one app if that is not empty, and that q finds if it is not.
func (s *Store) Builds(ctx context.Context, project int64, app, q string, before int64, limit int) ([]Build, error) {
	var list []*Build
	err := s.db.SelectContext(ctx, &list, buildColumns+`
		where b.project_id = $1 and ($2 = '' or a.name = $2 or exists (
			select 1 from app_identity i where i.app_id = a.id and i.application_id = $2))
		  and ($3 = 0 or b.id < $3)
		  and ($5 = '' or a.name ilike $6 or b.version_name ilike $6 or b.version_code = $5 or exists (
			select 1 from app_identity i where i.app_id = a.id and i.application_id ilike $6))
		order by b.id desc limit $4`, project, app, before, limit, q, like(q))
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
		where b.project_id = $1 and (b.number::text = $2 or b.version_name = $2)
		  and ($3 = '' or a.name = $3 or exists (select 1 from app_identity i where i.app_id = a.id and i.application_id = $3))
		order by (b.version_name = $2) desc, b.id desc limit 50`, project, ref, app)
	if err != nil {
		return nil, err
	}
	if err := withPackages(ctx, s.db, list); err != nil {
		return nil, err
	}
	return values(list), nil
}

// Build gives one build.
func (s *Store) Build(ctx context.Context, project, id int64) (Build, error) {
	var b Build
	if err := s.db.GetContext(ctx, &b, buildColumns+`where b.project_id = $1 and b.id = $2`, project, id); err != nil {
		return b, one(err)
	}
	return b, withPackages(ctx, s.db, []*Build{&b})
}

func withPackages(ctx context.Context, q sqlx.QueryerContext, builds []*Build) error {
	ids := make([]int64, len(builds))
	at := map[int64]*Build{}
	for i, b := range builds {
		ids[i], at[b.ID] = b.ID, b
		b.Packages = []Package{}
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
