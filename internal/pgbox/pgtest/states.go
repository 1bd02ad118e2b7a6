package pgtest

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"github.com/stretchr/testify/require"
	"testing"

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

// hold has the tests' database refuse every state that its table does not let follow, or be begun in: whichever
// statement sets one is seen, in every test there is. The product's own database has no such triggers; they cost a call a
// row.
func hold(ctx context.Context, db *sql.DB) error {
	if _, err := db.ExecContext(ctx, `
		create table state_way (of text, previous text, next text, primary key (of, previous, next));
		create function state_held() returns trigger language plpgsql as $$
		begin
			if tg_op = 'INSERT' then
				if not exists (select 1 from state_way where of = tg_table_name and previous = '' and next = new.state) then
					raise exception 'a % cannot begin as "%"', tg_table_name, new.state;
				end if;
			elsif new.state <> old.state and not exists (select 1 from state_way
				where of = tg_table_name and previous = old.state and next = new.state) then
				raise exception 'a % cannot change from "%" to "%"', tg_table_name, old.state, new.state;
			end if;
			return new;
		end $$`); err != nil {
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
		if _, err := db.ExecContext(ctx, fmt.Sprintf(`
			insert into state_way values %s;
			create trigger state_held after insert or update of %s on %s for each row execute function state_held()`,
			strings.Join(rows, ", "), k.Column, k.Table)); err != nil {
			return fmt.Errorf("holding the states of %s: %w", k.Table, err)
		}
	}
	return nil
}
