package change

import (
	"maps"
	"slices"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/snapshot"
)

// Doing tells which of an entry's differences between two snapshots are the doing of changes in
// the record, and which the machine made by itself.
type Doing struct {
	engine  *Engine
	changes []Change                         // with their steps, the newest first
	steps   []map[string][]Step              // of each change, by entry
	images  func() (*snapshot.Images, error) // of the later side
	// decided are the artifacts of entries that came or went, see [Doing.Look].
	decided map[string][]machine.Artifact
}

// Look reads what decides entries of the earlier and of the later side that no step names: an
// override, for example, is an entry of its own that a change for another entry made.
func (d *Doing) Look(from, to *snapshot.Snapshot, diff snapshot.Difference) error {
	d.decided = map[string][]machine.Artifact{}
	for _, side := range []struct {
		snap    *snapshot.Snapshot
		entries []autostart.Entry
	}{{to, diff.Added}, {from, diff.Removed}} {
		if len(side.entries) == 0 {
			continue
		}
		handles := map[string]bool{}
		for _, e := range side.entries {
			handles[e.Handle] = true
		}
		all, err := side.snap.EntriesOf(handles)
		if err != nil {
			return err
		}
		for _, rec := range all {
			d.decided[rec.Handle] = rec.Artifacts
		}
	}
	return nil
}

// stepsFor are the steps of a change that an entry is as it is by.
func (d *Doing) stepsFor(k int, handle string) []Step {
	if steps := d.steps[k][handle]; len(steps) > 0 {
		return steps
	}
	var steps []Step
	for _, s := range d.changes[k].Steps {
		if !s.Before.Container() && !s.After.Container() && slices.Contains(d.decided[handle], s.Artifact) {
			steps = append(steps, s)
		}
	}
	return steps
}

// Doing reads the changes that were made between two snapshots and stand. A later snapshot without
// a number is the machine as it is now.
func (e *Engine) Doing(from, to *snapshot.Snapshot) (*Doing, error) {
	d := &Doing{engine: e}
	if e.Record == nil {
		return d, nil
	}
	all, err := e.Record.Changes(e.Machine.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range slices.Backward(all) {
		if c.State != Done || c.Snapshot < from.ID || to.ID > 0 && c.Snapshot >= to.ID {
			continue
		}
		if err := d.add(c.ID); err != nil {
			return nil, err
		}
	}
	d.read(to)
	return d, nil
}

func (d *Doing) add(id int) error {
	full, err := d.engine.Record.Change(id)
	if err != nil {
		return err
	}
	byEntry := map[string][]Step{}
	for _, s := range full.Steps {
		for _, h := range s.Handles {
			byEntry[h] = append(byEntry[h], s)
		}
	}
	d.changes, d.steps = append(d.changes, full), append(d.steps, byEntry)
	return nil
}

func (d *Doing) read(to *snapshot.Snapshot) {
	var images *snapshot.Images
	var err error
	d.images = func() (*snapshot.Images, error) {
		if images == nil && err == nil {
			images, err = to.Images()
		}
		return images, err
	}
}

// By is the change that left an entry as the later side has it; empty where none did.
func (d *Doing) By(handle string) string {
	for k, c := range d.changes {
		if steps := d.stepsFor(k, handle); len(steps) > 0 && d.holds(steps, func(s Step) machine.Image { return s.After }) {
			return c.Name()
		}
	}
	return ""
}

// holds reports whether the later side has the images that steps give. What it does not tell of,
// a folder for example, decides nothing; where it tells of none, nothing holds.
func (d *Doing) holds(steps []Step, image func(Step) machine.Image) bool {
	images, err := d.images()
	if err != nil {
		return false
	}
	told := false
	for _, s := range steps {
		is, ok, err := images.Image(s.Artifact)
		switch {
		case err != nil:
			return false
		case !ok, image(s).Container():
		case !d.engine.Machine.Same(s.Artifact, is, image(s)):
			return false
		default:
			told = true
		}
	}
	return told
}

// leaves are the states in which a kind of change leaves its entries.
var leaves = map[Kind]autostart.State{Disable: autostart.Disabled, Enable: autostart.Enabled}

// Since is what differs from how a change left the machine, given what differs from the snapshot
// that was taken before it: what the change did is no difference, and what was put back is one.
func (e *Engine) Since(c Change, d snapshot.Difference, before, to *snapshot.Snapshot) (snapshot.Difference, error) {
	doing := &Doing{engine: e}
	if err := doing.add(c.ID); err != nil {
		return d, err
	}
	doing.read(to)
	if err := doing.Look(before, to, d); err != nil {
		return d, err
	}
	steps := doing.steps[0]
	did := func(handle string) bool {
		own := doing.stepsFor(0, handle)
		return len(own) > 0 && doing.holds(own, func(s Step) machine.Image { return s.After })
	}
	d.Added = slices.DeleteFunc(d.Added, func(e autostart.Entry) bool { return did(e.Handle) })
	d.Removed = slices.DeleteFunc(d.Removed, func(e autostart.Entry) bool { return did(e.Handle) })
	entries, err := to.EntriesOf(keys(steps))
	if err != nil {
		return d, err
	}
	now := map[string]*snapshot.Recorded{}
	for _, rec := range entries {
		now[rec.Handle] = rec
	}
	left := leaves[c.Kind]
	var changed []snapshot.Changed
	told := map[string]bool{}
	for _, ch := range d.Changed {
		rec := now[ch.Handle]
		if steps[ch.Handle] == nil || rec == nil {
			changed = append(changed, ch)
			continue
		}
		told[ch.Handle] = true
		if did(ch.Handle) {
			continue
		}
		if left != "" {
			// Its state is compared with what the change made of it, not with what was before.
			again := rec.State != left // which says all that its artifacts would
			ch.Fields = slices.DeleteFunc(ch.Fields, func(f snapshot.Field) bool { return f.Field == "state" || f.Field == "mode" || again && f.What != "" })
			if rec.State != left {
				ch.Fields = slices.Insert(ch.Fields, 0, snapshot.Field{Field: "state", From: string(left), To: string(rec.State)})
			}
		}
		if len(ch.Fields) > 0 {
			changed = append(changed, ch)
		}
	}
	for _, h := range slices.Sorted(maps.Keys(steps)) {
		rec := now[h]
		if rec == nil || told[h] || did(h) {
			continue
		}
		// It is as it was before the change, so it was not among what differs from that.
		from := string(left)
		if left == "" {
			from = "as " + c.Name() + " left it"
		}
		if to := string(rec.State); from != to {
			changed = append(changed, snapshot.Changed{Handle: h, Name: rec.Name, Fields: []snapshot.Field{{Field: "state", From: from, To: to}}})
		}
	}
	d.Changed = changed
	return d, nil
}

func keys(of map[string][]Step) map[string]bool {
	set := make(map[string]bool, len(of))
	for k := range of {
		set[k] = true
	}
	return set
}
