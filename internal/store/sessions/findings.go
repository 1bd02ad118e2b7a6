package sessions

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"yamato/internal/core/states"
	"yamato/internal/store/pg"
)

// Finding is something seen that should be mended.
type Finding struct {
	ID        int64            `db:"id"`
	ProjectID int64            `db:"project_id"`
	Number    int64            `db:"number"`
	Title     string           `db:"title"`
	Note      string           `db:"note"`
	State     states.Finding   `db:"state"`
	MendedIn  *int64           `db:"mended_in"`
	Mended    string           `db:"mended"` // that build, as people call it
	FoundBy   string           `db:"found_by"`
	At        time.Time        `db:"at"`
	SessionID *int64           `db:"session_id"`
	Session   int64            `db:"session"` // its number, 0 where none
	LeaseID   *int64           `db:"lease_id"`
	Seq       *int64           `db:"seq"`
	RunID     *int64           `db:"run_id"`
	Run       int64            `db:"run"`
	Facts     pg.JSON[Facts]   `db:"facts"`
	Marks     pg.JSON[[]Drawn] `db:"marks"`
	Picture   string           `db:"picture"`
	ChangedAt time.Time        `db:"changed_at"`
	ChangedBy string           `db:"changed_by"`
}

// Facts are what a finding says of where it was seen.
type Facts struct {
	App           string          `json:"app,omitempty"`
	Build         string          `json:"build,omitempty"`
	Device        string          `json:"device,omitempty"`
	Model         string          `json:"model,omitempty"`
	OS            string          `json:"os,omitempty"`
	Language      string          `json:"language,omitempty"`
	Surroundings  []string        `json:"surroundings,omitempty"`
	Way           []string        `json:"way,omitempty"`
	Log           []string        `json:"log,omitempty"`
	Circumstances json.RawMessage `json:"circumstances,omitempty"`
}

// Drawn is a mark drawn on a picture; places are parts of its width and height.
type Drawn struct {
	Kind string  `json:"kind"` // arrow, box or words
	X    float64 `json:"x"`
	Y    float64 `json:"y"`
	ToX  float64 `json:"to_x"`
	ToY  float64 `json:"to_y"`
	Text string  `json:"text,omitempty"`
}

const findingColumns = `
	select f.id, f.project_id, f.number, f.title, f.note, f.state, f.mended_in, f.found_by, f.at, f.session_id, f.lease_id, f.seq,
		f.run_id, f.facts, f.marks, f.picture, f.changed_at, f.changed_by, coalesce(s.number, 0) as session,
		coalesce(r.number, 0) as run, coalesce(b.version_name, '') as mended
	from finding f left join session s on s.id = f.session_id left join run r on r.id = f.run_id
		left join build b on b.id = f.mended_in `

// Findings gives a project's, newest first, numbers below cursor (0 for all).
func (r *Records) Findings(ctx context.Context, project int64, q, state string, session, cursor int64,
	limit int) ([]Finding, error) {
	list := []Finding{}
	err := r.pool.DB.SelectContext(ctx, &list, findingColumns+`
		where f.project_id = $1 and ($2 = '' or position(lower($2) in lower(f.title || ' ' || f.note || ' ' || f.found_by || ' ' ||
			f.facts::text)) > 0) and ($3 = '' or f.state = $3) and ($4 = 0 or s.number = $4) and ($5 = 0 or f.number < $5)
		order by f.number desc limit $6`, project, q, state, session, cursor, limit)
	return list, err
}

// FindingNumbered gives one.
func (r *Records) FindingNumbered(ctx context.Context, project, number int64) (Finding, error) {
	var f Finding
	err := r.pool.DB.GetContext(ctx, &f, findingColumns+`where f.project_id = $1 and f.number = $2`, project, number)
	return f, pg.Found(err)
}

// AddFinding keeps a new one.
func (r *Records) AddFinding(ctx context.Context, f Finding, w pg.Wish) (made int64, err error) {
	err = r.pool.InTx(ctx, func(t *sqlx.Tx) error {
		made, err = w.Make(ctx, t, func() (int64, error) { return addFinding(ctx, t, f) })
		return err
	})
	return made, err
}

func addFinding(ctx context.Context, t *sqlx.Tx, f Finding) (number int64, err error) {
	if err := t.GetContext(ctx, &number, `update project set next_finding = next_finding + 1 where id = $1
		returning next_finding - 1`, f.ProjectID); err != nil {
		return 0, err
	}
	return number, pg.Exec(ctx, t, `
		insert into finding (project_id, number, title, note, found_by, session_id, lease_id, seq, run_id, facts, marks, picture)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10::jsonb, $11::jsonb, $12)`, f.ProjectID, number, f.Title, f.Note, f.FoundBy,
		f.SessionID, f.LeaseID, f.Seq, f.RunID, pg.Encode(f.Facts.V), pg.Encode(append([]Drawn{}, f.Marks.V...)),
		f.Picture)
}

// ChangeFinding changes its words, its marks and its state.
func (r *Records) ChangeFinding(ctx context.Context, f Finding) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		update finding set title = $2, note = $3, state = $4, mended_in = $5, marks = $6::jsonb, changed_at = now(), changed_by = $7
		where id = $1`, f.ID, f.Title, f.Note, f.State, f.MendedIn, pg.Encode(append([]Drawn{}, f.Marks.V...)), f.ChangedBy)
	return err
}

// RunID gives the id of a run by its number.
func (r *Records) RunID(ctx context.Context, project, number int64) (int64, error) {
	var id int64
	err := r.pool.DB.GetContext(ctx, &id, `select id from run where project_id = $1 and number = $2`, project, number)
	return id, pg.Found(err)
}

// SavedPlace is a place that a project keeps for devices to be at.
type SavedPlace struct {
	Name      string  `db:"name"`
	Latitude  float64 `db:"latitude"`
	Longitude float64 `db:"longitude"`
	Accuracy  float64 `db:"accuracy"`
}

// Places gives a project's, by name.
func (r *Records) Places(ctx context.Context, project int64) ([]SavedPlace, error) {
	list := []SavedPlace{}
	err := r.pool.DB.SelectContext(ctx, &list, `select name, latitude, longitude, accuracy from saved_place where project_id = $1
		order by name limit 1000`, project)
	return list, err
}

// SavePlace keeps one under its name.
func (r *Records) SavePlace(ctx context.Context, project int64, p SavedPlace) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		insert into saved_place (project_id, name, latitude, longitude, accuracy) values ($1, $2, $3, $4, $5)
		on conflict (project_id, name) do update set latitude = excluded.latitude, longitude = excluded.longitude,
			accuracy = excluded.accuracy`, project, p.Name, p.Latitude, p.Longitude, p.Accuracy)
	return err
}
