package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"yamato/internal/store/pg"
	"yamato/internal/store/vault"
)

// CaseName is a case as the records know it.
type CaseName struct {
	Name string   `json:"name"`
	Tags []string `json:"tags"`
	Line int      `json:"line,omitempty"` // where it begins, or its row of data
	End  int      `json:"end,omitempty"`

	Given []string `json:"given,omitempty"` // variables that its suite is given by runs
}

// Suite is one revision of a suite.
type Suite struct {
	ID        int64                `db:"id"` // of the revision
	Name      string               `db:"name"`
	Number    int64                `db:"number"` // of the revision, within the suite
	Digest    string               `db:"digest"`
	FileName  string               `db:"file_name"`
	Cases     pg.JSON[[]CaseName]  `db:"cases"`
	Locators  pg.JSON[[]string]    `db:"locators"`
	Asks      pg.JSON[vault.Asked] `db:"asks"`
	Origin    string               `db:"origin"`    // folder, or kept
	By        string               `db:"handed_by"` // who handed it in
	CreatedAt time.Time            `db:"created_at"`
	Tried     bool                 `db:"tried"` // it came to be run once, and is no revision that a name means
}

const suiteColumns = `
	select r.id, s.name, r.number, r.digest, r.file_name, r.cases, r.locators, r.asks, r.origin, r.handed_by,
		r.created_at, r.tried
	from suite s join suite_revision r on r.suite_id = s.id `

// AddSuite keeps a revision of a suite, unless its newest one is the same, and
// gives the revision. fresh tells whether it is a new one. may, unless it is nil, is asked of the
// newest one where there is one that is not only tried, and nobody else adds one meanwhile.
func (s *Store) AddSuite(ctx context.Context, project int64, in Suite, may func(newest Suite) error) (out Suite,
	fresh bool, err error) {
	err = s.InTx(ctx, func(t *Tx) error {
		var id int64
		var removed []bool
		if err := t.tx.SelectContext(ctx, &removed, `
			select removed_at is not null from suite where project_id = $1 and name = $2 for update`, project, in.Name); err != nil {
			return err
		}
		if err := t.tx.GetContext(ctx, &id, `
			insert into suite (project_id, name) values ($1, $2)
			on conflict (project_id, name) do update set removed_at = case when $3 then suite.removed_at end
				returning id`, project, in.Name, in.Tried); err != nil {
			return err
		}
		if may != nil && !slices.Contains(removed, true) {
			var newest []Suite
			if err := t.tx.SelectContext(ctx, &newest, suiteColumns+`
				where r.suite_id = $1 and not r.tried order by r.number desc limit 1`, id); err != nil {
				return err
			}
			if len(newest) > 0 {
				if err := may(newest[0]); err != nil {
					return err
				}
			}
		}
		var n int64
		if err := t.tx.GetContext(ctx, &n, `
			with new as (
				insert into suite_revision (project_id, suite_id, number, digest, file_name, cases, locators, tried,
					asks, origin, handed_by)
				select $1, $2, 1 + coalesce((select max(number) from suite_revision where suite_id = $2), 0),
					$3, $4, $5, $6, $7, $8, $9, $10
				on conflict (suite_id, digest) do nothing returning 1)
			select count(*) from new`, project, id, in.Digest, in.FileName, pg.Encode(in.Cases.V), pg.Encode(in.Locators.V),
			in.Tried, pg.Encode(in.Asks.V), cmp.Or(in.Origin, "folder"), in.By); err != nil {
			return err
		}
		fresh = n > 0
		// what was tried before, or is not the newest any more, is what a name means from now on
		if !in.Tried && !fresh {
			var newest []int64
			if err := t.tx.SelectContext(ctx, &newest, `
				update suite_revision r set tried = false, origin = $3, handed_by = $4,
					number = 1 + (select max(number) from suite_revision where suite_id = $1)
				where suite_id = $1 and digest = $2 and (tried
					or number < (select max(number) from suite_revision where suite_id = $1 and not tried))
						returning id`, id, in.Digest, cmp.Or(in.Origin, "folder"), in.By); err != nil {
				return err
			}
			fresh = len(newest) > 0
		}
		return t.tx.GetContext(ctx, &out, suiteColumns+`where r.suite_id = $1 and r.digest = $2`, id, in.Digest)
	})
	return out, fresh, err
}

// Suites gives the newest revision of each suite, by name.
func (s *Store) Suites(ctx context.Context, project int64) ([]Suite, error) {
	list := []Suite{}
	err := s.db.SelectContext(ctx, &list, suiteColumns+`
		where s.project_id = $1 and s.removed_at is null
			and r.number = (select max(number) from suite_revision where suite_id = s.id and not tried)
		order by s.name`, project)
	return list, err
}

// SuiteNamed gives the newest revision of a suite by its name, or the revision
// with that digest.
func (s *Store) SuiteNamed(ctx context.Context, project int64, name string) (Suite, error) {
	var out Suite
	err := s.db.GetContext(ctx, &out, suiteColumns+`
		where s.project_id = $1 and ((s.name = $2 or lower(s.name) = lower($2)) and not r.tried
			and s.removed_at is null or r.digest = $2)
		order by (s.name = $2) desc, (r.digest = $2) desc, r.number desc limit 1`, project, name)
	return out, pg.Found(err)
}

// SuiteRevisions gives the revisions of a suite that a name has meant, newest first.
func (s *Store) SuiteRevisions(ctx context.Context, project int64, name string, limit int) ([]Suite, error) {
	list := []Suite{}
	err := s.db.SelectContext(ctx, &list, suiteColumns+`
		where s.project_id = $1 and s.name = $2 and not r.tried order by r.number desc limit $3`, project, name, limit)
	return list, err
}

// SuiteRevision gives one revision of a suite by its number.
func (s *Store) SuiteRevision(ctx context.Context, project int64, name string, number int64) (Suite, error) {
	var out Suite
	err := s.db.GetContext(ctx, &out, suiteColumns+`where s.project_id = $1 and s.name = $2 and r.number = $3`, project,
		name, number)
	return out, pg.Found(err)
}

// RemoveSuite takes a suite off the list. ErrNone tells that it is not on it.
func (s *Store) RemoveSuite(ctx context.Context, project int64, name string) error {
	var id int64
	return pg.Found(s.db.GetContext(ctx, &id, `update suite set removed_at = now() where project_id = $1 and name = $2 and removed_at is null returning id`, project, name))
}
