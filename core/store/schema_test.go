package store

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// The digests are those of what the migrations make.
func TestSchemas(t *testing.T) {
	t.Parallel()
	db, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	defer db.Close()
	conn, err := db.Conn(context.Background())
	require.NoError(t, err)
	defer conn.Close()
	require.Len(t, schemas, len(migrations)+1)
	for k, script := range migrations {
		_, err := conn.ExecContext(context.Background(), script)
		require.NoError(t, err)
		digest, err := schemaDigest(conn)
		require.NoError(t, err)
		require.Equal(t, digest, schemas[k+1], "version %d", k+1)
	}
}

// A record of every earlier version is read as it is, and brought forward when it is opened
// to write: its snapshots, changes and contents are the same.
func TestEarlierRecordsOpen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	box := &machine.Machine{ID: "0123456789abcdef0123456789abcdef", Name: "workshop-box", OS: "linux"}
	gone, kept := artifact.File("/etc/cron.d/gone"), artifact.File("/etc/cron.d/kept")
	file := func(s string) artifact.Image { return artifact.NewFile([]byte(s), 0o644, 0, 0, time.Unix(1, 0)) }
	item := &location.Item{Entry: autostart.Entry{Handle: "k7f3qa2", Location: "linux.rc-local", Name: "rc.local",
		Problems: []string{}},
		Artifacts: func() []artifact.Artifact { return []artifact.Artifact{gone, kept} }}
	disable := change.Change{Machine: box.ID, Time: time.Unix(2000, 0).UTC(), Kind: change.Disable, Entries: 1,
		State: change.Done, Steps: []change.Step{
			{Handles: []string{"k7f3qa2"}, Artifact: gone, Before: file("before"),
				After: artifact.Image{Kind: artifact.Absent}},
			{Handles: []string{"k7f3qa2"}, Artifact: kept, Before: artifact.Image{Kind: artifact.Absent},
				After: file("after")},
		}}
	newest := filepath.Join(dir, "newest.db")
	st, err := Open(newest, Write)
	require.NoError(t, err)
	require.NoError(t, st.Update(func(tx change.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		snap, err := snapshot.CaptureFrom(inventory.Inventory{Machine: box, Items: []*location.Item{item}},
			func(artifact.Artifact) (artifact.Image, error) { return file("content"), nil }, time.Unix(1500,
				0), "as found", tx.Keeper())
		require.NoError(t, err)
		require.NoError(t, tx.AddSnapshot(snap))
		disable.Snapshot = snap.ID
		return tx.AddChange(&disable)
	}))
	require.NoError(t, st.Close())

	for version := 1; version < len(migrations); version++ {
		path := filepath.Join(dir, fmt.Sprintf("version%d.db", version))
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		db.SetMaxOpenConns(1)
		exec := func(query string, args ...any) {
			_, err := db.Exec(query, args...)
			require.NoError(t, err, query)
		}
		exec(strings.Join(migrations[:version], ""))
		exec(fmt.Sprintf("PRAGMA application_id = %d", applicationID))
		exec(fmt.Sprintf("PRAGMA user_version = %d", version))
		exec("ATTACH ? AS newest", newest)
		for _, table := range []string{"machine", "blob", "snapshot", "change", "step", "folder"} {
			var columns string
			require.NoError(t, db.QueryRow("SELECT group_concat(name) FROM pragma_table_info(?, 'main')",
				table).Scan(&columns))
			exec(fmt.Sprintf("INSERT INTO main.%s (%s) SELECT %s FROM newest.%s", table, columns, columns, table))
		}
		require.NoError(t, db.Close())
		require.NoError(t, os.Chmod(path, 0o600))
		for _, access := range []Access{Read, Write, Read} {
			st, err := Open(path, access)
			require.NoError(t, err, "version %d", version)
			snap, err := st.Snapshot(disable.Snapshot)
			require.NoError(t, err)
			entries, err := snap.Entries()
			require.NoError(t, err)
			require.Len(t, entries, 1)
			images, err := snap.Images()
			require.NoError(t, err)
			image, ok, err := images.Image(kept)
			require.NoError(t, err)
			require.True(t, ok)
			require.Equal(t, "content", string(image.Content))
			back, err := st.Change(disable.ID)
			require.NoError(t, err)
			require.Equal(t, disable.Steps, back.Steps)
			var removals []change.Removal
			require.NoError(t, st.Removals(box.ID, func(r change.Removal) error {
				removals = append(removals,
					r)
				return nil
			}))
			require.Equal(t, []change.Removal{{Change: disable.ID, Kind: change.Disable, Snapshot: disable.Snapshot,
				Handles: []string{"k7f3qa2"}, Artifact: gone, Whole: true}}, removals)
			latest, err := st.Latest(box.ID)
			require.NoError(t, err)
			image, ok, err = latest(kept)
			require.NoError(t, err)
			require.True(t, ok)
			require.Equal(t, "after", string(image.Content))
			_, ok, err = latest(artifact.File("/other"))
			require.NoError(t, err)
			require.False(t, ok)
			require.NoError(t, st.Close())
		}
		// What is added afterwards gets the next numbers.
		st, err := Open(path, Write)
		require.NoError(t, err)
		next := disable
		require.NoError(t, st.Update(func(tx change.Tx) error { return tx.AddChange(&next) }))
		require.Equal(t, disable.ID+1, next.ID)
		require.NoError(t, st.Holds(next))
		require.NoError(t, st.Close())
	}
}
