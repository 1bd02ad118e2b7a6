package e2e

import (
	"database/sql"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/pgbox"
)

// chmodForDatabase lets the database's unprivileged user pass through the
// folders of a test.
func chmodForDatabase(dir string) error {
	for _, d := range []string{dir, dir + "/.."} {
		if err := os.Chmod(d, 0o711); err != nil {
			return err
		}
	}
	return nil
}

func makeDatabase(t *testing.T, box *pgbox.Box, name string) string {
	t.Helper()
	db, err := sql.Open("pgx", box.URL("postgres"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(`create database ` + name + ` template yamato_template`)
	require.NoError(t, err)
	return box.URL(name)
}
