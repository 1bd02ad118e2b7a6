package pgtest

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/states"
)

// Rewind runs a statement that brings a record back to a state that its table does not let follow: as if a process had
// been killed before it could write what came after.
func Rewind(t testing.TB, address, statement string) {
	t.Helper()
	db, err := sql.Open("pgx", address)
	require.NoError(t, err)
	defer db.Close()
	conn, err := db.Conn(context.Background())
	require.NoError(t, err)
	defer conn.Close()
	for _, s := range []string{`set session_replication_role = replica`, statement} { // which no trigger sees
		_, err := conn.ExecContext(context.Background(), s)
		require.NoError(t, err)
	}
}

// derived are the states that have no column, by the records' table, as what they are of a row.
var derived = map[string]string{"errand": "case when %s.done_at is null then 'wanted' else 'done' end"}

// hold has the tests' database refuse every state that its table does not let follow, or be begun in: whichever
// statement sets one is seen, in every test there is. The product's own database has no such triggers; they cost a call a
// row.
func hold(ctx context.Context, db *sql.DB) error {
	if _, err := db.ExecContext(ctx, `
		create table state_way (of text, previous text, next text, primary key (of, previous, next))`); err != nil {
		return err
	}
	for _, k := range states.InRecords() {
		var rows []string
		for _, s := range k.Begins {
			rows = append(rows, fmt.Sprintf("('%s', '', '%s')", k.Table, s))
		}
		for _, w := range k.Ways {
			rows = append(rows, fmt.Sprintf("('%s', '%s', '%s')", k.Table, w[0], w[1]))
		}
		state := func(row string) string {
			if how, ok := derived[k.Table]; ok {
				return fmt.Sprintf(how, row)
			}
			return row + ".state"
		}
		if _, err := db.ExecContext(ctx, fmt.Sprintf(`
			insert into state_way values %[2]s;
			create function %[1]s_held() returns trigger language plpgsql as $$
			declare
				was text := case when tg_op = 'UPDATE' then %[3]s else '' end;
				now text := %[4]s;
			begin
				if was <> now and not exists (select 1 from state_way where of = '%[1]s' and previous = was and next = now) then
					raise exception '%[1]s: "%%" may not follow "%%"', now, was;
				end if;
				return new;
			end $$;
			create trigger held after insert or update on %[1]s for each row execute function %[1]s_held()`,
			k.Table, strings.Join(rows, ", "), state("old"), state("new"))); err != nil {
			return fmt.Errorf("holding the states of %s: %w", k.Table, err)
		}
	}
	return nil
}
