package sqlitefile_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/sqlitefile"
	"lockback/internal/testkit"
)

func TestRows(t *testing.T) {
	// One that is kept with a log beside it opens without the log.
	for _, mode := range []string{"delete", "wal"} {
		b := testkit.Database(t, "PRAGMA journal_mode = "+mode,
			"CREATE TABLE gauge (name TEXT, level INTEGER, raw BLOB)",
			"INSERT INTO gauge VALUES ('ebb', 3, x'0001'), ('flood', 9, NULL)",
			"CREATE VIEW all_of_it AS SELECT * FROM gauge")
		db, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		require.NoError(t, db.Tables("gauge"))
		require.ErrorIs(t, db.Tables("gauge", "all_of_it"), sqlitefile.ErrFormat)
		require.ErrorIs(t, db.Tables("other"), sqlitefile.ErrFormat)
		rows, err := db.Rows("SELECT name, level, raw FROM gauge WHERE level > ? ORDER BY level", int64(1))
		require.NoError(t, err)
		require.Len(t, rows, 2)
		require.EqualValues(t, []any{"ebb", int64(3), []byte{0, 1}}, []any{rows[0][0], rows[0][1], rows[0][2]})
		_, err = db.Rows("DELETE FROM gauge")
		require.Error(t, err)
		db.Close()
	}
	_, err := sqlitefile.Open(bytes.NewReader([]byte("SQLite")), 6)
	require.ErrorIs(t, err, sqlitefile.ErrFormat)
}

func FuzzRows(f *testing.F) {
	f.Add(testkit.Database(f, "CREATE TABLE gauge (name TEXT)", "INSERT INTO gauge VALUES ('ebb')"))
	f.Fuzz(func(t *testing.T, b []byte) {
		db, err := sqlitefile.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		defer db.Close()
		if db.Tables("gauge") == nil {
			db.Rows("SELECT name FROM gauge LIMIT 10")
		}
	})
}
