package store_test

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
)

var box = &machine.Machine{ID: "0123456789abcdef0123456789abcdef", Name: "workshop-box", OS: "linux"}

// capture makes a snapshot of one entry whose file has that content.
func capture(t testing.TB, content string, keep snapshot.Keeper) *snapshot.Snapshot {
	t.Helper()
	item := &location.Item{Entry: autostart.Entry{Handle: "k7f3qa2", Location: "linux.rc-local", Name: "rc.local", Problems: []string{}},
		Artifacts: func() []machine.Artifact { return []machine.Artifact{machine.File("/etc/rc.local")} }}
	inv := inventory.Inventory{Machine: box, Items: []*location.Item{item}, Unread: []autostart.Unread{{Path: "/x", Reason: "no"}}}
	snap, err := snapshot.CaptureFrom(inv, func(machine.Artifact) (machine.Image, error) {
		return machine.NewFile([]byte(content), 0o755, 0, 0, time.Unix(1000, 0)), nil
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

func TestWhatIsRecordedComesBack(t *testing.T) {
	// A name that means something to SQLite and to shells.
	path := filepath.Join(t.TempDir(), "a folder", "rec?mode=memory&#%20'\".db")
	st := open(t, path)
	var first, second *snapshot.Snapshot
	change := store.Change{Machine: box.ID, Time: time.Unix(2000, 0), Token: "0011", Root: "/mnt", Host: "box", Kind: store.Disable, Message: "m", Entries: 1, State: store.Begun,
		Steps: []store.Step{{Handles: []string{"k7f3qa2"}, Artifact: machine.File("/etc/\xff\n"),
			Before: machine.NewFile([]byte("before"), 0o644, 1, 2, time.Unix(3, 0)), After: machine.Image{Kind: machine.Absent}}},
		Folders: []store.Folder{{Artifact: machine.File("/etc"), Before: machine.Image{Kind: machine.Folder, Mode: 0o755, Names: "n"}}}}
	require.NoError(t, st.Update(func(tx *store.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		first, second = capture(t, "one", tx.Keeper()), capture(t, "two", tx.Keeper())
		require.NoError(t, tx.AddSnapshot(first))
		require.NoError(t, tx.AddSnapshot(second))
		change.Snapshot = first.ID
		return tx.AddChange(&change)
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
	require.Equal(t, "as found", back.Message)
	require.Equal(t, first.Unread, back.Unread)
	d, err := snapshot.Compare(capture(t, "one", snapshot.Keeper{}), back)
	require.NoError(t, err)
	require.True(t, d.Empty())
	other, err := st.Snapshot(second.ID)
	require.NoError(t, err)
	d, err = snapshot.Compare(back, other)
	require.NoError(t, err)
	require.Len(t, d.Changed, 1)
	require.Equal(t, "/etc/rc.local", d.Changed[0].Fields[0].Field)
	c, err := st.Change(change.ID)
	require.NoError(t, err)
	require.Equal(t, change.Steps[0].Artifact, c.Steps[0].Artifact)
	require.True(t, c.Steps[0].Before.Same(change.Steps[0].Before))
	require.Equal(t, "before", string(c.Steps[0].Before.Content))
	require.Equal(t, change.Folders[0].Before, c.Folders[0].Before)
	require.Equal(t, []string{"0011", "/mnt", "box"}, []string{c.Token, c.Root, c.Host})
	require.NoError(t, st.Holds(change))
	waiting, err := st.Interrupted(box.ID)
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	require.Equal(t, change.ID, waiting[0].ID)
	waiting, err = st.Interrupted("another")
	require.NoError(t, err)
	require.Empty(t, waiting)
	_, err = st.Snapshot(77)
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = st.Change(77)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestAllOrNothing(t *testing.T) {
	st := open(t, filepath.Join(t.TempDir(), "record.db"))
	failure := errors.New("failed in between")
	require.ErrorIs(t, st.Update(func(tx *store.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		require.NoError(t, tx.AddSnapshot(capture(t, "x", tx.Keeper())))
		return failure
	}), failure)
	snaps, err := st.Snapshots(box.ID)
	require.NoError(t, err)
	require.Empty(t, snaps)
	machines, err := st.Machines()
	require.NoError(t, err)
	require.Empty(t, machines)
	// A snapshot of a machine that is not recorded would have no owner.
	require.Error(t, st.Update(func(tx *store.Tx) error { return tx.AddSnapshot(capture(t, "x", tx.Keeper())) }))
}

func TestContentsAreCheckedWhenTheyAreRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "record.db")
	st := open(t, path)
	var snap *snapshot.Snapshot
	require.NoError(t, st.Update(func(tx *store.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		snap = capture(t, "precious", tx.Keeper())
		return tx.AddSnapshot(snap)
	}))
	require.NoError(t, st.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, spoil := range []string{"UPDATE blob SET data = data || x'00'", "UPDATE blob SET size = size + 1", "UPDATE blob SET data = x'28b52ffd'", "DELETE FROM blob"} {
		_, err = db.Exec(spoil)
		require.NoError(t, err, spoil)
		st, err := store.Open(path, store.Read)
		require.NoError(t, err)
		_, err = st.Snapshot(snap.ID)
		require.ErrorIs(t, err, store.ErrDamaged, spoil)
		require.NoError(t, st.Close())
	}
	require.NoError(t, db.Close())
}

func TestReadingNeedsARecord(t *testing.T) {
	path := filepath.Join(t.TempDir(), "none.db")
	_, err := store.Open(path, store.Read)
	require.ErrorIs(t, err, store.ErrNone)
	_, err = os.Stat(path)
	require.ErrorIs(t, err, os.ErrNotExist)
}
