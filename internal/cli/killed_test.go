//go:build unix

package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// realKills is how many of a command's points are tried with a real SIGKILL, drawn by seed.
const realKills = 2

// wreck is a machine with its record as a crash at one point of a command leaves them.
type wreck struct {
	testkit.Program
	n     int // counted from 1
	point string
	// before says that the point comes before the journal: nothing waits for recover.
	before bool
}

// wrecks runs a command once and returns a wreck of every so many points, each in a folder of its own. The command runs
// on a copy; p stays as it is. A copy of all files at a point is what a killed process leaves behind. That this is so
// is tried with a real SIGKILL at points drawn by seed: those wrecks are real ones.
func wrecks(t *testing.T, p testkit.Program, every int, args ...string) []wreck {
	t.Helper()
	dir := t.TempDir()
	run := moved(t, p, filepath.Join(dir, "run"))
	var all []wreck
	n := 0
	code, errs := in(run, func(point string) {
		if n++; (n-1)%every == 0 {
			all = append(all, wreck{moved(t, run, filepath.Join(t.TempDir(), "wreck")), n, point,
				point == "before the journal"})
		}
	}, args...)
	require.Zero(t, code, "%v: %s", args, errs)
	require.NotEmpty(t, all)
	r := draw.Source(t)
	for range realKills {
		w := &all[r.IntN(len(all))]
		real := moved(t, p, filepath.Join(t.TempDir(), "wreck"))
		point, killed := crash(t, real, w.n, args...)
		require.True(t, killed, w.point)
		require.Equal(t, "point: "+w.point, point)
		w.Program = real
	}
	return all
}

// moved copies a machine and its record to another folder. A change knows at which place its machine lay, so the record
// is told of the move.
func moved(t testing.TB, p testkit.Program, to string) testkit.Program {
	t.Helper()
	testkit.Copy(t, filepath.Dir(p.Root), to)
	q := testkit.Program{Root: filepath.Join(to, filepath.Base(p.Root)), Store: filepath.Join(to,
		filepath.Base(p.Store))}
	if _, err := os.Stat(q.Store); err != nil {
		return q
	}
	db := openSQL(t, q.Store)
	defer db.Close()
	var has bool
	require.NoError(t, db.QueryRow("SELECT count(*) > 0 FROM sqlite_master WHERE name = 'change'").Scan(&has))
	if has {
		_, err := db.Exec("UPDATE change SET root = ? WHERE root = ?", q.Root, p.Root)
		require.NoError(t, err)
	}
	return q
}
