package sqlitefile_test

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/sqlitefile"
)

// logged is a database with its log, as they lie on the disk while SQLite has it open: with some transactions in
// the database already, and some in the log only. The levels that it holds are told.
func logged(t testing.TB, pageSize int) (content, log []byte, levels []int64) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "db")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	defer db.Close()
	do := func(format string, args ...any) {
		_, err := db.Exec(fmt.Sprintf(format, args...))
		require.NoError(t, err)
	}
	do("PRAGMA page_size = %d", pageSize)
	do("PRAGMA journal_mode = wal")
	do("PRAGMA wal_autocheckpoint = 0")
	do("CREATE TABLE gauge (level INTEGER, filling TEXT)")
	do("INSERT INTO gauge VALUES (1, 'in the database')")
	do("PRAGMA wal_checkpoint(RESTART)")
	for k := range 40 {
		do("INSERT INTO gauge VALUES (%d, hex(randomblob(300)))", 100+k)
	}
	do("DELETE FROM gauge WHERE level > 120")
	do("UPDATE gauge SET level = level + 1000 WHERE level = 110")
	rows, err := db.Query("SELECT level FROM gauge ORDER BY level")
	require.NoError(t, err)
	for rows.Next() {
		var n int64
		require.NoError(t, rows.Scan(&n))
		levels = append(levels, n)
	}
	require.NoError(t, rows.Close())
	content, err = os.ReadFile(file)
	require.NoError(t, err)
	log, err = os.ReadFile(file + "-wal")
	require.NoError(t, err)
	return content, log, levels
}

func levelsOf(t testing.TB, content []byte) (levels []int64) {
	db, err := sqlitefile.Open(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.Rows("SELECT level FROM gauge ORDER BY level")
	require.NoError(t, err)
	for _, row := range rows {
		levels = append(levels, row[0].(int64))
	}
	return levels
}

// SQLite itself is the judge: what it answers while the log is there, is what is read of both files.
func TestWithLog(t *testing.T) {
	const most = 1 << 24
	for _, size := range []int{512, 4096, 65536} {
		content, log, levels := logged(t, size)
		require.Equal(t, []int64{1}, levelsOf(t, content), "without its log")
		before := bytes.Clone(content)
		whole, err := sqlitefile.WithLog(content, log, most)
		require.NoError(t, err)
		require.Equal(t, levels, levelsOf(t, whole), "pages of %d bytes", size)
		require.Equal(t, before, content, "what is given is not changed")

		// Where the log is cut or damaged, the transactions before that count, as for SQLite.
		for _, cut := range []int{0, 31, 32, 40, len(log) / 2, len(log) - 1} {
			damaged := bytes.Clone(log)
			if cut < len(log)/2 {
				damaged = damaged[:cut]
			} else {
				damaged[cut] ^= 1
			}
			whole, err := sqlitefile.WithLog(content, damaged, most)
			require.NoError(t, err, cut)
			file := filepath.Join(t.TempDir(), "db")
			require.NoError(t, os.WriteFile(file, content, 0o600))
			require.NoError(t, os.WriteFile(file+"-wal", damaged, 0o600))
			db, err := sql.Open("sqlite", file)
			require.NoError(t, err)
			var want int64
			require.NoError(t, db.QueryRow("SELECT count(*) FROM gauge").Scan(&want))
			require.NoError(t, db.Close())
			require.Len(t, levelsOf(t, whole), int(want), "cut or damaged at %d", cut)
		}
		_, err = sqlitefile.WithLog(content, log, int64(size))
		require.ErrorIs(t, err, sqlitefile.ErrFormat, "larger than is wanted")
	}
	content, log, _ := logged(t, 512)
	_, other, _ := logged(t, 1024)
	_, err := sqlitefile.WithLog(content, other, most)
	require.ErrorIs(t, err, sqlitefile.ErrFormat)
	binary.BigEndian.PutUint32(log, 7)
	_, err = sqlitefile.WithLog(content, log, most)
	require.ErrorIs(t, err, sqlitefile.ErrFormat)
}

func FuzzWithLog(f *testing.F) {
	content, log, _ := logged(f, 512)
	f.Add(content, log)
	f.Fuzz(func(t *testing.T, content, log []byte) {
		whole, err := sqlitefile.WithLog(content, log, 1<<20)
		if err == nil && len(whole) > max(1<<20, len(content)) {
			t.Fatal("larger than is wanted")
		}
	})
}
