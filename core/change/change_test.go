//go:build unix

package change_test

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/format/regf"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/testkit"
)

// engine works on a small machine with a person, an entry for everyone and two
// lines of one crontab.
func engine(t *testing.T) (*change.Engine, string) {
	t.Helper()
	root := filepath.Join(t.TempDir(), "root")
	for name, content := range map[string]string{
		"etc/os-release": "", "etc/machine-id": "0123456789abcdef0123456789abcdef\n",
		"etc/passwd":                     "ines:x:1000:1000::/home/ines:/bin/sh\n",
		"home/ines/notes":                "",
		"etc/xdg/autostart/bell.desktop": "[Desktop Entry]\nType=Application\nName=Bell\nExec=/opt/bell\n",
		"etc/crontab":                    "@daily root /opt/one\n@daily root /opt/two\n",
	} {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
	}
	m, err := machine.Open(root)
	require.NoError(t, err)
	st, err := store.Open(filepath.Join(filepath.Dir(root), "record.db"), store.Write)
	require.NoError(t, err)
	t.Cleanup(func() { st.Close(); m.Close() })
	return &change.Engine{Machine: m, Record: st, Now: func() time.Time { return time.Unix(1_800_000_001, 5) }}, root
}

func named(t *testing.T, e *change.Engine, names ...string) (inventory.Inventory, []*location.Item) {
	t.Helper()
	inv := inventory.Take(e.Machine, nil)
	var items []*location.Item
	for _, name := range names {
		for _, item := range inv.Items {
			if item.Name == name {
				items = append(items, item)
			}
		}
	}
	require.Len(t, items, len(names))
	return inv, items
}

var off = location.Want{State: autostart.Disabled}

func TestEditsOfOneArtifactAreOneStep(t *testing.T) {
	t.Parallel()
	e, root := engine(t)
	inv, items := named(t, e, "one", "two")
	plan, err := e.Switch(items, off)
	require.NoError(t, err)
	require.Len(t, plan.Steps, 1)
	require.Equal(t, []string{items[0].Handle, items[1].Handle}, plan.Steps[0].Handles)
	require.Zero(t, plan.Steps[0].After.ModTime.Nanosecond())
	_, err = e.Apply(plan, inv, "")
	require.NoError(t, err)
	b, err := os.ReadFile(filepath.Join(root, "etc/crontab"))
	require.NoError(t, err)
	require.Equal(t, "#lockback:off @daily root /opt/one\n#lockback:off @daily root /opt/two\n", string(b))
	// One of the two alone comes back by its own line, not by the whole file.
	inv, items = named(t, e, "two")
	plan, err = e.Switch(items, location.Want{State: autostart.Enabled})
	require.NoError(t, err)
	_, err = e.Apply(plan, inv, "")
	require.NoError(t, err)
	b, err = os.ReadFile(filepath.Join(root, "etc/crontab"))
	require.NoError(t, err)
	require.Equal(t, "#lockback:off @daily root /opt/one\n@daily root /opt/two\n", string(b))
}

func TestFoldersAreMadeFirstAndRemovedLast(t *testing.T) {
	t.Parallel()
	e, root := engine(t)
	inv, items := named(t, e, "Bell")
	ines, _ := e.Machine.UserNamed("ines")
	plan, err := e.Switch(items, location.Want{State: autostart.Disabled, User: &ines})
	require.NoError(t, err)
	var names []string
	for _, s := range plan.Steps {
		names = append(names, s.Artifact.Name)
	}
	require.Equal(t, []string{"/home/ines/.config", "/home/ines/.config/autostart",
		"/home/ines/.config/autostart/bell.desktop"}, names)
	done, err := e.Apply(plan, inv, "")
	require.NoError(t, err)
	done.Snapshot, err = e.Record.Snapshot(done.Snapshot.ID)
	require.NoError(t, err)
	back, err := e.Restore(inventory.Take(e.Machine, nil), done.Snapshot,
		change.RestoreOptions{Newcomers: change.KeepNewcomers})
	require.NoError(t, err)
	names = nil
	for _, s := range back.Steps {
		names = append(names, s.Artifact.Name)
	}
	require.Equal(t, []string{"/home/ines/.config/autostart/bell.desktop", "/home/ines/.config/autostart",
		"/home/ines/.config"}, names)
	// Where somebody put a file meanwhile, the folders stay.
	require.NoError(t, os.WriteFile(filepath.Join(root, "home/ines/.config/other"), nil, 0o644))
	back, err = e.Restore(inventory.Take(e.Machine, nil), done.Snapshot,
		change.RestoreOptions{Newcomers: change.KeepNewcomers})
	require.NoError(t, err)
	require.Len(t, back.Steps, 2)
	_, err = e.Apply(back, inventory.Take(e.Machine, nil), "")
	require.NoError(t, err)
	_, err = os.Stat(filepath.Join(root, "home/ines/.config/other"))
	require.NoError(t, err)
}

func TestConflictTouchesNothing(t *testing.T) {
	t.Parallel()
	e, root := engine(t)
	inv, items := named(t, e, "Bell", "one")
	plan, err := e.Switch(items, off)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/crontab"), []byte("@daily root /opt/three\n"), 0o644))
	_, err = e.Apply(plan, inv, "")
	require.ErrorIs(t, err, change.ErrConflict)
	require.ErrorContains(t, err, "/etc/crontab was file")
	_, now := named(t, e, "Bell")
	require.Equal(t, autostart.Enabled, now[0].State)
	changes, err := e.Record.Changes(e.Machine.ID)
	require.NoError(t, err)
	require.Empty(t, changes)
}

func TestNothingToDo(t *testing.T) {
	t.Parallel()
	e, _ := engine(t)
	inv, items := named(t, e, "Bell")
	plan, err := e.Switch(items, off)
	require.NoError(t, err)
	done, err := e.Apply(plan, inv, "")
	require.NoError(t, err)
	_, err = e.Switch(items, off)
	require.ErrorIs(t, err, change.ErrNothing)
	again, err := e.Undo(done.Change)
	require.NoError(t, err)
	_, err = e.Apply(again, inventory.Take(e.Machine, nil), "")
	require.NoError(t, err)
	snap, err := e.Record.Snapshot(done.Snapshot.ID)
	require.NoError(t, err)
	_, err = e.Restore(inventory.Take(e.Machine, nil), snap, change.RestoreOptions{})
	require.ErrorIs(t, err, change.ErrNothing)
	_, err = e.Undo(done.Change) // it was taken back already
	require.ErrorIs(t, err, change.ErrNothing)
}

// What may not be written is told with the entries that it concerns.
func TestDeniedNamesTheEntries(t *testing.T) {
	t.Parallel()
	root := testkit.WindowsDisk(t, testkit.Keys{`Microsoft\Windows\CurrentVersion\RunOnce`: {regf.NewText("Tide",
		`C:\tide.exe`), regf.NewText("Bell", `C:\bell.exe`)}}, nil, nil,
		map[string]string{"hiberfil.sys": "HIBR" + strings.Repeat("\x00", 4096)})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	e := &change.Engine{Machine: m}
	_, items := named(t, e, "Tide", "Bell")
	plan, err := e.Switch(items, off)
	require.NoError(t, err)
	var denied *change.Denied
	require.ErrorAs(t, e.Check(plan), &denied)
	require.ErrorIs(t, denied, machine.ErrHibernated)
	require.ElementsMatch(t, []string{items[0].Handle, items[1].Handle}, denied.Handles)
	require.Len(t, denied.Artifacts, 2)
}

// captured is a snapshot that keeps its contents in memory.
func captured(t *testing.T, e *change.Engine, inv inventory.Inventory) *snapshot.Snapshot {
	t.Helper()
	contents := map[snapshot.Digest][]byte{}
	snap, err := snapshot.Capture(inv, e.Now(), "", snapshot.Keeper{Keep: func(d snapshot.Digest, b []byte) error {
		contents[d] = bytes.Clone(b)
		return nil
	}})
	require.NoError(t, err)
	snap.Load = func(d snapshot.Digest) ([]byte, error) { return contents[d], nil }
	return snap
}

// A part of a kind that a later version recorded cannot be brought back alone: it is left out and
// named, and the others in its file stay.
func TestPartOfALaterVersion(t *testing.T) {
	t.Parallel()
	e, root := engine(t)
	inv, items := named(t, e, "one")
	snap := captured(t, e, inv)
	replaced := 0
	for k, s := range snap.Sections {
		replaced += bytes.Count(s.Text, []byte("\tline 1 "))
		text := bytes.ReplaceAll(s.Text, []byte("\tline 1 "), []byte("\tbraid 1 "))
		snap.Sections[k].Text, snap.Sections[k].Digest = text, sha256.Sum256(text)
	}
	require.Equal(t, 1, replaced)
	file := filepath.Join(root, "etc/crontab")
	now := "@daily root /opt/one --since\n@daily root /opt/kept\n"
	require.NoError(t, os.WriteFile(file, []byte(now), 0o644))
	inv = inventory.Take(e.Machine, nil)
	plan, err := e.Restore(inv, snap, change.RestoreOptions{Only: map[string]bool{items[0].Handle: true}})
	require.ErrorIs(t, err, change.ErrNothing)
	require.Empty(t, plan.Steps)
	require.Len(t, plan.LeftOut, 1)
	require.ErrorContains(t, plan.LeftOut[0].Err, "later version")
}

// Of an image whose content the record has lost, the artifact is left out and named; the others
// come back.
func TestLostContent(t *testing.T) {
	t.Parallel()
	e, root := engine(t)
	inv := inventory.Take(e.Machine, nil)
	snap := captured(t, e, inv)
	bell, table := filepath.Join(root, "etc/xdg/autostart/bell.desktop"), filepath.Join(root, "etc/crontab")
	was, err := os.ReadFile(bell)
	require.NoError(t, err)
	lost := snapshot.Digest(sha256.Sum256(was))
	load := snap.Load
	content, err := load(lost)
	require.NoError(t, err)
	require.Equal(t, was, content)
	snap.Load = func(d snapshot.Digest) ([]byte, error) {
		if d == lost {
			return nil, errors.New("the content is lost")
		}
		return load(d)
	}
	require.NoError(t, os.WriteFile(bell, append(was, "Hidden=true\n"...), 0o644))
	require.NoError(t, os.WriteFile(table, []byte("#lockback:off @daily root /opt/one\n@daily root /opt/two\n"), 0o644))
	plan, err := e.Restore(inventory.Take(e.Machine, nil), snap, change.RestoreOptions{})
	require.NoError(t, err)
	require.Len(t, plan.LeftOut, 1)
	require.ErrorContains(t, plan.LeftOut[0].Err, "lost")
	require.Len(t, plan.Steps, 1)
	require.Equal(t, "/etc/crontab", plan.Steps[0].Artifact.Name)
}

// A newcomer in a file that is restored for other entries is turned off in it.
func TestNewcomerInARestoredFile(t *testing.T) {
	t.Parallel()
	e, root := engine(t)
	inv := inventory.Take(e.Machine, nil)
	snap := captured(t, e, inv)
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/crontab"), []byte("#lockback:off @daily root "+
		"/opt/one\n@daily root /opt/two\n@daily root /opt/three\n"), 0o644))
	plan, err := e.Restore(inventory.Take(e.Machine, nil), snap,
		change.RestoreOptions{Newcomers: change.DisableNewcomers})
	require.NoError(t, err)
	require.Empty(t, plan.LeftOut)
	require.Len(t, plan.Steps, 1)
	require.Equal(t, "@daily root /opt/one\n@daily root /opt/two\n#lockback:off @daily root /opt/three\n",
		string(plan.Steps[0].After.Content))
}
