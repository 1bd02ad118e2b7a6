package store

import (
	"context"
	"time"

	"yamato/internal/store/pg"
)

// Checklist is a version of one.
type Checklist struct {
	Name     string    `db:"name"`
	Number   int64     `db:"number"`
	Text     string    `db:"text"`
	Digest   string    `db:"digest"` // of the suite revision that stands for it
	SavedBy  string    `db:"saved_by"`
	SavedAt  time.Time `db:"saved_at"`
	Revision int64     `db:"revision_id"`
}

// Checklists gives the newest version of each, by name.
func (s *Store) Checklists(ctx context.Context, project int64) ([]Checklist, error) {
	list := []Checklist{}
	err := s.db.SelectContext(ctx, &list, `
		select distinct on (name) name, number, text, digest, saved_by, saved_at, revision_id from checklist
		where project_id = $1 order by name, number desc`, project)
	return list, err
}

// AddChecklist keeps a version, unless the newest one has the same text.
func (s *Store) AddChecklist(ctx context.Context, project int64, c Checklist) error {
	_, err := s.db.ExecContext(ctx, `
		insert into checklist (project_id, name, number, text, revision_id, digest, saved_by)
		select $1, $2, 1 + coalesce(max(number), 0), $3, $4, $5, $6 from checklist where project_id = $1 and name = $2
		having coalesce((select text from checklist where project_id = $1 and name = $2 order by number desc limit 1), '') <> $3`,
		project, c.Name, c.Text, c.Revision, c.Digest, c.SavedBy)
	return err
}

// ByHand gives the runs that people go through now.
func (s *Store) ByHand(ctx context.Context, project int64) ([]Run, error) {
	list := []Run{}
	err := s.db.SelectContext(ctx, &list, runColumns+`
		where r.project_id = $1 and r.checklist <> '' and r.finished_at is null order by r.number desc limit 100`, project)
	return list, err
}

// HandLeg is a leg that people go through, with its run. Its row is locked.
type HandLeg struct {
	ID        int64   `db:"id"`
	ProjectID int64   `db:"project_id"`
	RunID     int64   `db:"run_id"`
	State     string  `db:"state"`
	Cases     pg.Ints `db:"cases"`
	Checklist string  `db:"checklist"`
}

// LockHandLeg gives one.
func (t Legs) LockHandLeg(ctx context.Context, project, run, leg int64) (HandLeg, error) {
	var l HandLeg
	err := t.row(ctx, atLegs, &l, `
		select g.id, g.project_id, g.run_id, g.state, g.cases, r.checklist from leg g join run r on r.id = g.run_id
		where g.project_id = $1 and r.number = $2 and g.id = $3 for no key update of g`, project, run, leg)
	note(&t.legs, []int64{leg})
	return l, err
}

// TakeMark takes back what a person said of a case, and gives the verdict of that, "" where nobody had.
func (t Legs) TakeMark(ctx context.Context, leg int64, index int) (string, error) {
	var was []string
	if err := t.rows(ctx, atLegs, &was, `delete from result where lease_id = -$1::bigint and case_index = $2 returning verdict`, leg,
		index); err != nil || len(was) == 0 {
		return "", err
	}
	return was[0], t.change(ctx, atLegs, `delete from evidence where lease_id = -$1::bigint and case_index = $2`, leg, index)
}
