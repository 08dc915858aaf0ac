package testkit

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // writes the databases
)

// Database is the file of a database of SQLite's that some statements make.
func Database(t testing.TB, statements ...string) []byte {
	t.Helper()
	file := filepath.Join(t.TempDir(), "db")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	return content
}
