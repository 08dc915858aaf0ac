package store_test

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/program"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/recordtest"
)

var box = &machine.Machine{ID: "0123456789abcdef0123456789abcdef", Name: "workshop-box", OS: "linux"}

// capture makes a snapshot of one entry whose file has that content.
func capture(t testing.TB, content string, keep snapshot.Keeper) *snapshot.Snapshot {
	t.Helper()
	item := &location.Item{Entry: autostart.Entry{Handle: "k7f3qa2", Location: "linux.rc-local", Name: "rc.local",
		Problems: []string{}},
		Artifacts: func() []artifact.Artifact { return []artifact.Artifact{artifact.File("/etc/rc.local")} }}
	inv := inventory.Inventory{Machine: box, Items: []*location.Item{item},
		Unread: []autostart.Unread{{Path: "/x", Reason: "no"}}}
	snap, err := snapshot.CaptureFrom(inv, func(artifact.Artifact) (artifact.Image, error) {
		return artifact.NewFile([]byte(content), 0o755, 0, 0, time.Unix(1000, 0)), nil
	}, time.Unix(2000, 0), "as found", keep)
	require.NoError(t, err)
	return snap
}

func open(t *testing.T, path string) *store.Store {
	t.Helper()
	st, err := store.Open(path, store.Write)
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return st
}

// The record is one file, with a name that means something to SQLite and to shells.
func TestOneFile(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "a folder", "rec?mode=memory&#%20'\".db")
	st := open(t, path)
	var first, second *snapshot.Snapshot
	require.NoError(t, st.Update(func(tx change.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		first, second = capture(t, "one", tx.Keeper()), capture(t, "two", tx.Keeper())
		require.NoError(t, tx.AddSnapshot(first))
		return tx.AddSnapshot(second)
	}))
	require.NoError(t, st.Close())
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	files, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, files, 1, "nothing is left beside the record")

	st, err = store.Open(path, store.Read)
	require.NoError(t, err)
	defer st.Close()
	back, err := st.Snapshot(first.ID)
	require.NoError(t, err)
	other, err := st.Snapshot(second.ID)
	require.NoError(t, err)
	d, err := snapshot.Compare(back, other)
	require.NoError(t, err)
	require.Len(t, d.Changed, 1)
	require.Equal(t, "/etc/rc.local", d.Changed[0].Fields[0].Field)
}

// sqlite keeps a record in a file.
type sqlite struct {
	path string
	open *store.Store
}

func (k *sqlite) Open(t *testing.T) change.Record {
	if k.open != nil {
		require.NoError(t, k.open.Close())
	}
	st, err := store.Open(k.path, store.Write)
	require.NoError(t, err)
	k.open = st
	t.Cleanup(func() { st.Close() })
	return st
}

func TestContract(t *testing.T) {
	t.Parallel()
	recordtest.Run(t, func(t *testing.T) recordtest.Keeper {
		return &sqlite{path: filepath.Join(t.TempDir(),
			"record.db")}
	})
}

func TestContentsAreCheckedWhenTheyAreRead(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "record.db")
	st := open(t, path)
	var snap *snapshot.Snapshot
	require.NoError(t, st.Update(func(tx change.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		snap = capture(t, "precious", tx.Keeper())
		return tx.AddSnapshot(snap)
	}))
	require.NoError(t, st.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, spoil := range []string{"UPDATE blob SET data = data || x'00'", "UPDATE blob SET size = size + 1",
		"UPDATE blob SET data = x'28b52ffd'", "DELETE FROM blob"} {
		_, err = db.Exec(spoil)
		require.NoError(t, err, spoil)
		st, err := store.Open(path, store.Read)
		require.NoError(t, err)
		_, err = st.Snapshot(snap.ID)
		require.ErrorIs(t, err, change.ErrDamaged, spoil)
		require.NoError(t, st.Close())
	}
	require.NoError(t, db.Close())
}

func TestReadingNeedsARecord(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "none.db")
	_, err := store.Open(path, store.Read)
	require.ErrorIs(t, err, store.ErrNone)
	_, err = os.Stat(path)
	require.ErrorIs(t, err, os.ErrNotExist)
}

// A content that is not what it should be is found, whichever it is.
func TestVerify(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "record.db")
	st := open(t, path)
	require.NoError(t, st.Update(func(tx change.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		return tx.AddSnapshot(capture(t, "one", tx.Keeper()))
	}))
	n, err := st.Verify()
	require.NoError(t, err)
	require.Equal(t, 3, n, "a content, a section, and what the snapshot consists of")
	require.NoError(t, st.Close())
	for id := 1; id <= n; id++ {
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		var data []byte
		require.NoError(t, db.QueryRow("SELECT data FROM blob ORDER BY id LIMIT 1 OFFSET ?", id-1).Scan(&data))
		_, err = db.Exec("UPDATE blob SET data = ? WHERE id = (SELECT id FROM blob ORDER BY id LIMIT 1 OFFSET ?)",
			append([]byte{data[0] ^ 1}, data[1:]...), id-1)
		require.NoError(t, err)
		st, err := store.Open(path, store.Read)
		require.NoError(t, err)
		_, err = st.Verify()
		require.ErrorIs(t, err, change.ErrDamaged)
		require.NoError(t, st.Close())
		_, err = db.Exec("UPDATE blob SET data = ? WHERE id = (SELECT id FROM blob ORDER BY id LIMIT 1 OFFSET ?)", data,
			id-1)
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
}

// A record that holds something takes nothing more.
func TestCarryIntoAnEmptyRecordOnly(t *testing.T) {
	t.Parallel()
	from, to := open(t, filepath.Join(t.TempDir(), "a.db")), open(t, filepath.Join(t.TempDir(), "b.db"))
	for _, st := range []*store.Store{from, to} {
		require.NoError(t, st.Update(func(tx change.Tx) error {
			require.NoError(t, tx.AddMachine(box))
			return tx.AddSnapshot(capture(t, "one", tx.Keeper()))
		}))
	}
	require.ErrorIs(t, from.Carry(to, box.ID), store.ErrNotEmpty)
}

// What was found of programs is kept with the next transaction, and never taken from a record that
// anybody could have made.
func TestPrograms(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "record.db")
	require.NoError(t, os.Chmod(filepath.Dir(path), 0o700))
	st, err := store.Open(path, store.Write)
	require.NoError(t, err)
	rows := []program.Row{{Name: "/a", Key: "1", Evidence: []byte("x")}, {Name: "/large", Key: "1",
		Evidence: make([]byte, 1<<20)}}
	st.KeepPrograms("box", rows)
	none := func(change.Tx) error { return nil }
	require.NoError(t, st.Update(none))
	st.KeepPrograms("box", []program.Row{{Name: "/a", Key: "2", Evidence: []byte("y")}})
	require.ErrorContains(t, st.Update(func(change.Tx) error { return errors.New("no") }), "no")
	got, err := st.Programs("box")
	require.NoError(t, err)
	require.Equal(t, rows[:1], got)
	require.NoError(t, st.Update(none))
	got, err = st.Programs("box")
	require.NoError(t, err)
	require.Equal(t, []program.Row{{Name: "/a", Key: "2", Evidence: []byte("y")}}, got)
	other, err := st.Programs("other")
	require.NoError(t, err)
	require.Empty(t, other)
	require.NoError(t, st.Close())
	claim, err := store.OpenClaim(path, store.Read)
	require.NoError(t, err)
	defer claim.Close()
	got, err = claim.Programs("box")
	require.NoError(t, err)
	require.Empty(t, got)
}

// A change whose outcomes cannot be read is not told as one that has none.
func TestOutcomesThatCannotBeRead(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "record.db")
	st := open(t, path)
	c := change.Change{Machine: box.ID, Time: time.Unix(3000, 0), Kind: change.Disable, State: change.Done,
		Outcomes: []change.Outcome{{State: autostart.Disabled, Handles: []string{"k7f3qa2"}}}}
	require.NoError(t, st.Update(func(tx change.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		snap := capture(t, "precious", tx.Keeper())
		require.NoError(t, tx.AddSnapshot(snap))
		c.Snapshot = snap.ID
		return tx.AddChange(&c)
	}))
	read, err := st.Change(c.ID)
	require.NoError(t, err)
	require.Equal(t, c.Outcomes, read.Outcomes)
	require.NoError(t, st.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("UPDATE outcome SET handles = '['")
	require.NoError(t, err)
	st, err = store.Open(path, store.Read)
	require.NoError(t, err)
	defer st.Close()
	_, err = st.Change(c.ID)
	require.Error(t, err)
}

// While one holds a record, others read it and do not write; once it is released, they do, and nobody needs to close
// it.
func TestHoldAndRelease(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "darwin" {
		t.Skip("locks are those of the process there")
	}
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	path := filepath.Join(dir, "record.db")
	one, err := store.Open(path, store.Exclusive)
	require.NoError(t, err)
	defer one.Close()
	reader, err := store.Open(path, store.Read)
	require.NoError(t, err)
	defer reader.Close()
	require.NoError(t, one.Release())
	two, err := store.Open(path, store.Write)
	require.NoError(t, err)
	defer two.Close()
	require.NoError(t, one.Hold())
	wrote := make(chan error, 1)
	go func() { wrote <- two.KeepSearch("m", "begun") }()
	for range 20 {
		text, err := reader.Search("m")
		require.NoError(t, err)
		require.Empty(t, text, "it waits")
		time.Sleep(5 * time.Millisecond)
	}
	require.NoError(t, one.KeepSearch("n", "held"), "who holds it writes")
	require.NoError(t, one.Release())
	require.NoError(t, <-wrote)
	text, err := reader.Search("m")
	require.NoError(t, err)
	require.Equal(t, "begun", text)
	require.NoError(t, one.KeepSearch("n", "again"), "for as long as one transaction")
	require.NoError(t, two.KeepSearch("m", "too"))
}
