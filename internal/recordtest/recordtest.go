// Package recordtest holds the contract of a record: what the change engine relies on,
// whatever keeps it.
//
//	func TestContract(t *testing.T) { recordtest.Run(t, func(t *testing.T) recordtest.Keeper { ... }) }
package recordtest

import (
	"errors"
	"fmt"
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

// Keeper opens one record, again and again.
type Keeper interface {
	// Open opens the record to write; the one opened before is closed first.
	Open(t *testing.T) change.Record
}

var box = &machine.Machine{ID: "0123456789abcdef0123456789abcdef", Name: "workshop-box", OS: "linux",
	Version: "Gullrock Linux 12"}

func file(s string) artifact.Image {
	return artifact.NewFile([]byte(s), 0o755, 1, 2, time.Unix(1000, 5))
}

var absent = artifact.Image{Kind: artifact.Absent}

// capture makes a snapshot of one entry whose file has that content.
func capture(t *testing.T, content string, keep snapshot.Keeper) *snapshot.Snapshot {
	item := &location.Item{Entry: autostart.Entry{Handle: "k7f3qa2", Location: "linux.rc-local", Name: "rc.local",
		Problems: []string{}},
		Artifacts: func() []artifact.Artifact { return []artifact.Artifact{artifact.File("/etc/rc.local")} }}
	inv := inventory.Inventory{Machine: box, Items: []*location.Item{item},
		Unread: []autostart.Unread{{Path: "/x", Reason: "no"}}}
	snap, err := snapshot.CaptureFrom(inv, func(artifact.Artifact) (artifact.Image, error) {
		return file(content),
			nil
	}, time.Unix(2000, 0), "as found", keep)
	require.NoError(t, err)
	return snap
}

// add records a change with a snapshot before it.
func add(t *testing.T, rec change.Record, c change.Change) change.Change {
	c.Machine, c.Time = box.ID, time.Unix(2000, 0).UTC()
	require.NoError(t, rec.Update(func(tx change.Tx) error {
		require.NoError(t, tx.AddMachine(box))
		snap := capture(t, fmt.Sprint(c.Message), tx.Keeper())
		require.NoError(t, tx.AddSnapshot(snap))
		c.Snapshot = snap.ID
		return tx.AddChange(&c)
	}))
	require.NoError(t, rec.Holds(c))
	return c
}

// Run holds a record to the contract.
func Run(t *testing.T, fresh func(t *testing.T) Keeper) {
	t.Run("what is recorded comes back", func(t *testing.T) {
		keeper := fresh(t)
		rec := keeper.Open(t)
		c := add(t, rec, change.Change{Token: "0011", Root: "/mnt", Host: "box", Kind: change.Disable,
			Message: "m\n\u202e", Entries: 1, State: change.Begun,
			Steps: []change.Step{
				{Handles: []string{"k7f3qa2", "other"}, Artifact: artifact.File("/etc/\xff\n"),
					Before: file("before\x00\xff"), After: absent},
				{Artifact: artifact.RegistryValue(`HKLM\K`, "V"), Before: absent,
					After: artifact.Image{Kind: artifact.Value, Type: 7, Content: []byte{0, 0}, UID: -1, GID: -1,
						Place: 3}},
				{Handles: []string{"k7f3qa2"}, Artifact: artifact.File("/link"), Before: artifact.NewLink("to\xff", 0,
					0, time.Unix(-5, 7)), After: file("")},
			},
			Folders: []change.Folder{{Artifact: artifact.File("/etc"), Before: artifact.Image{Kind: artifact.Folder,
				Mode: 0o755, Names: "n"}, After: absent},
				{Artifact: artifact.RegistryKeyOnly(`HKLM\K`), Before: artifact.NewKey(), After: absent}}})
		rec = keeper.Open(t)
		back, err := rec.Change(c.ID)
		require.NoError(t, err)
		require.Len(t, back.Steps, 3)
		for k, s := range c.Steps {
			require.Equal(t, s.Artifact, back.Steps[k].Artifact)
			require.ElementsMatch(t, s.Handles, back.Steps[k].Handles)
			require.True(t, s.Before.Same(back.Steps[k].Before) && s.After.Same(back.Steps[k].After))
			require.Equal(t, string(s.Before.Content), string(back.Steps[k].Before.Content))
			require.Equal(t, s.Before.ModTime, back.Steps[k].Before.ModTime)
		}
		require.ElementsMatch(t, []artifact.Artifact{c.Folders[0].Artifact, c.Folders[1].Artifact},
			[]artifact.Artifact{back.Folders[0].Artifact, back.Folders[1].Artifact})
		require.Equal(t, []any{c.Machine, c.Time, c.Kind, c.Message, c.Snapshot, 1, c.State, 0, "0011", "/mnt", "box"},
			[]any{back.Machine, back.Time, back.Kind, back.Message, back.Snapshot, back.Entries, back.State,
				back.Undoes, back.Token, back.Root, back.Host})
		require.NoError(t, rec.Holds(c))
		snap, err := rec.Snapshot(c.Snapshot)
		require.NoError(t, err)
		require.Equal(t, []any{"as found", 0, 1, box.Version, []autostart.Unread{{Path: "/x", Reason: "no"}}},
			[]any{snap.Message, snap.Enabled, snap.Disabled, snap.System, snap.Unread})
		d, err := snapshot.Compare(capture(t, c.Message, snapshot.Keeper{}), snap)
		require.NoError(t, err)
		require.True(t, d.Empty())
		machines, err := rec.Machines()
		require.NoError(t, err)
		require.Equal(t, []change.KnownMachine{{ID: box.ID, Name: box.Name, OS: box.OS, Version: box.Version}},
			machines)
	})
	t.Run("all or nothing", func(t *testing.T) {
		rec := fresh(t).Open(t)
		failure := errors.New("failed in between")
		require.ErrorIs(t, rec.Update(func(tx change.Tx) error {
			require.NoError(t, tx.AddMachine(box))
			require.NoError(t, tx.AddSnapshot(capture(t, "x", tx.Keeper())))
			return failure
		}), failure)
		snaps, err := rec.Snapshots(box.ID)
		require.NoError(t, err)
		require.Empty(t, snaps)
		machines, err := rec.Machines()
		require.NoError(t, err)
		require.Empty(t, machines)
		// A snapshot of a machine that is not recorded would have no owner.
		require.Error(t, rec.Update(func(tx change.Tx) error { return tx.AddSnapshot(capture(t, "x", tx.Keeper())) }))
	})
	t.Run("what is not there", func(t *testing.T) {
		rec := fresh(t).Open(t)
		_, err := rec.Snapshot(77)
		require.ErrorIs(t, err, change.ErrNotFound)
		_, err = rec.Change(77)
		require.ErrorIs(t, err, change.ErrNotFound)
		_, err = rec.Blob(snapshot.Digest{})
		require.ErrorIs(t, err, change.ErrDamaged)
		require.False(t, rec.Has(snapshot.Digest{}))
		require.ErrorIs(t, rec.Holds(change.Change{ID: 77}), change.ErrDamaged)
	})
	t.Run("what a record does not hold", func(t *testing.T) {
		rec := fresh(t).Open(t)
		c := add(t, rec, change.Change{Kind: change.Disable, State: change.Begun,
			Steps:   []change.Step{{Artifact: artifact.File("/a"), Before: file("a"), After: absent}},
			Folders: []change.Folder{{Artifact: artifact.File("/"), Before: absent, After: absent}}})
		for name, spoil := range map[string]func(*change.Change){
			"the state": func(c *change.Change) { c.State = change.Done },
			"the token": func(c *change.Change) { c.Token = "x" },
			"a step more": func(c *change.Change) {
				c.Steps = append(c.Steps[:1:1], change.Step{Artifact: artifact.File("/b"), Before: absent,
					After: absent})
			},
			"a step less": func(c *change.Change) { c.Steps = nil },
			"another content": func(c *change.Change) {
				c.Steps = []change.Step{{Artifact: artifact.File("/a"), Before: file("b"), After: absent}}
			},
			"the folders": func(c *change.Change) { c.Folders = nil },
		} {
			other := c
			spoil(&other)
			require.ErrorIs(t, rec.Holds(other), change.ErrDamaged, name)
		}
	})
	t.Run("states and machines", func(t *testing.T) {
		rec := fresh(t).Open(t)
		var all []change.Change
		for range 3 {
			all = append(all, add(t, rec, change.Change{Kind: change.Disable, State: change.Begun}))
		}
		require.NoError(t, rec.Update(func(tx change.Tx) error { return tx.SetState(all[0].ID, change.Done) }))
		require.NoError(t, rec.Update(func(tx change.Tx) error { return tx.SetState(all[1].ID, change.Abandoned) }))
		waiting, err := rec.Interrupted(box.ID)
		require.NoError(t, err)
		require.Len(t, waiting, 1)
		require.Equal(t, all[2].ID, waiting[0].ID)
		listed, err := rec.Changes(box.ID)
		require.NoError(t, err)
		require.Len(t, listed, 3)
		require.Less(t, listed[0].ID, listed[2].ID, "oldest first")
		require.Empty(t, listed[0].Steps)
		for _, none := range []string{"another", ""} {
			listed, err = rec.Changes(none)
			require.NoError(t, err)
			require.Empty(t, listed)
			waiting, err = rec.Interrupted(none)
			require.NoError(t, err)
			require.Empty(t, waiting)
			snaps, err := rec.Snapshots(none)
			require.NoError(t, err)
			require.Empty(t, snaps)
		}
		snaps, err := rec.Snapshots(box.ID)
		require.NoError(t, err)
		require.Len(t, snaps, 3)
	})
	t.Run("how changes left entries", func(t *testing.T) {
		keeper := fresh(t)
		rec := keeper.Open(t)
		left := func(kind change.Kind, state change.State, outcomes ...change.Outcome) change.Change {
			return add(t, rec, change.Change{Kind: kind, State: state, Trial: 9, Outcomes: outcomes})
		}
		off, on := autostart.Disabled, autostart.Enabled
		first := left(change.Disable, change.Done, change.Outcome{State: off, Handles: []string{"a", "b", "c"}})
		left(change.Disable, change.Undone, change.Outcome{State: off, Handles: []string{"d"}})
		left(change.Review, change.Done, change.Outcome{State: on, Handles: []string{"b"}}, change.Outcome{State: off,
			Handles: []string{"a"}})
		last := left(change.Remove, change.Done, change.Outcome{State: change.Removed, Handles: []string{"a"}},
			change.Outcome{Handles: []string{"c"}})
		require.NoError(t, rec.Update(func(tx change.Tx) error { return tx.Keep(first.ID, time.Unix(3000, 0)) }))
		rec = keeper.Open(t)
		decisions, err := rec.Decisions(box.ID)
		require.NoError(t, err)
		require.Equal(t, map[string]change.Decision{"a": {Change: last.ID, State: change.Removed,
			Off: []int{first.ID, first.ID + 2, last.ID}}, "b": {Change: first.ID + 2, State: on},
			"c": {Change: last.ID}}, decisions)
		decisions, err = rec.Decisions("another")
		require.NoError(t, err)
		require.Empty(t, decisions)
		back, err := rec.Change(last.ID)
		require.NoError(t, err)
		require.Equal(t, last.Outcomes, back.Outcomes)
		require.Equal(t, 9, back.Trial)
		require.True(t, back.OnTrial())
		listed, err := rec.Changes(box.ID)
		require.NoError(t, err)
		require.Equal(t, []bool{false, false, true, true}, []bool{listed[0].OnTrial(), listed[1].OnTrial(),
			listed[2].OnTrial(), listed[3].OnTrial()})
		require.Equal(t, int64(3000), listed[0].Kept.Unix())
		spoiled := last
		spoiled.Outcomes = nil
		require.ErrorIs(t, rec.Holds(spoiled), change.ErrDamaged)
	})
	t.Run("what changes left", func(t *testing.T) {
		rec := fresh(t).Open(t)
		a, b := artifact.File("/a"), artifact.File("/b")
		step := func(a artifact.Artifact, before, after artifact.Image) []change.Step {
			return []change.Step{{Handles: []string{"h" + a.Name}, Artifact: a, Before: before, After: after}}
		}
		first := add(t, rec, change.Change{Kind: change.Disable, State: change.Done, Steps: step(a, file("1"),
			file("2"))})
		second := add(t, rec, change.Change{Kind: change.Disable, State: change.Done, Steps: step(a, file("2"),
			absent)})
		add(t, rec, change.Change{Kind: change.Disable, State: change.Undone, Steps: step(a, file("2"),
			file("undone"))})
		add(t, rec, change.Change{Kind: change.Enable, State: change.Done, Steps: step(b, absent, file("enabled"))})
		latest, err := rec.Latest(box.ID)
		require.NoError(t, err)
		i, ok, err := latest(a)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, artifact.Absent, i.Kind)
		i, ok, err = latest(b)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, "enabled", string(i.Content))
		_, ok, err = latest(artifact.File("/c"))
		require.NoError(t, err)
		require.False(t, ok)
		var steps []string
		seen := 0
		require.NoError(t, rec.Touched(second.ID, func(seq int, handles []string, at artifact.Artifact) {
			one, err := rec.Step(second.ID, seq)
			require.NoError(t, err)
			require.True(t, one.Before.Same(second.Steps[seq].Before) && one.After.Same(second.Steps[seq].After))
			require.Equal(t, one.Handles, handles)
			require.Equal(t, second.Steps[seq].Artifact, at)
			seen++
		}))
		require.Len(t, second.Steps, seen)
		_, err = rec.Step(second.ID, seen)
		require.ErrorIs(t, err, change.ErrNotFound)
		require.NoError(t, rec.StepsOn(box.ID, a, func(before, after artifact.Image) {
			steps = append(steps, string(before.Content)+">"+string(after.Content))
		}))
		require.Equal(t, []string{"1>2", "2>"}, steps)
		var removals []change.Removal
		require.NoError(t, rec.Removals(box.ID, func(r change.Removal) error {
			removals = append(removals,
				r)
			return nil
		}))
		require.Equal(t, []change.Removal{{Change: second.ID, Kind: change.Disable, Snapshot: second.Snapshot,
			Handles: []string{"h/a"}, Artifact: a, Whole: true},
			{Change: first.ID, Kind: change.Disable, Snapshot: first.Snapshot, Handles: []string{"h/a"}, Artifact: a}},
			removals)
		stop := errors.New("enough")
		require.ErrorIs(t, rec.Removals(box.ID, func(change.Removal) error { return stop }), stop)
	})
}
