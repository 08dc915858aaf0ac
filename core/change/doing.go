package change

import (
	"slices"

	"lockback/core/autostart"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// Doing tells which of an entry's differences between two snapshots are the doing of changes in
// the record, and which the machine made by itself. It holds no journal: a step is read when an
// entry is asked for, for a change can have a hundred thousand.
type Doing struct {
	engine *Engine
	// places are the steps of each entry, those of the newest change first.
	places map[string][]place
	// at are the steps on artifacts of entries that were added or removed: an override, for example, is an
	// entry of its own that a change for another entry made.
	at      map[artifact.Artifact][]place
	decided map[string][]artifact.Artifact
	images  *snapshot.Images // of the later side, what may differ from the earlier one
	holds   map[place]verdict
}

// place is where a step stands in the record.
type place struct{ change, seq int }

// verdict is what the later side says about the image that a step gave.
type verdict uint8

// It says nothing of a folder, and of what is as it was before; else it has the image, or another.
const (
	unasked verdict = iota
	silent
	same
	another
)

// Doing looks for the changes that stand, were made between two snapshots, and concern what differs
// between them. A later snapshot without a number is the machine as it is now.
func (e *Engine) Doing(from, to *snapshot.Snapshot, diff snapshot.Difference) (*Doing, error) {
	if e.Record == nil || diff.Empty() {
		return &Doing{engine: e}, nil
	}
	all, err := e.Record.Changes(e.Machine.ID)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(c Change) bool {
		return c.State != Done || c.Snapshot < from.ID || to.ID > 0 && c.Snapshot >= to.ID
	})
	slices.Reverse(all)
	handles := map[string]bool{}
	for _, c := range diff.Changed {
		handles[c.Handle] = true
	}
	return e.doing(all, from, to, diff, handles)
}

// doing looks through changes, the newest first, for entries that changed and for those that were
// added or removed.
func (e *Engine) doing(changes []Change, from, to *snapshot.Snapshot, diff snapshot.Difference,
	handles map[string]bool) (*Doing, error) {
	d := &Doing{engine: e, places: map[string][]place{}, at: map[artifact.Artifact][]place{},
		decided: map[string][]artifact.Artifact{}, holds: map[place]verdict{}}
	if len(changes) == 0 {
		return d, nil
	}
	wanted := map[artifact.Artifact]bool{}
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
		recorded, err := side.snap.EntriesOf(handles)
		if err != nil {
			return nil, err
		}
		for _, rec := range recorded {
			handles[rec.Handle] = true
			d.decided[rec.Handle] = rec.Artifacts
			for _, a := range rec.Artifacts {
				wanted[a] = true
			}
		}
	}
	for _, c := range changes {
		if err := e.Record.Touched(c.ID, func(seq int, touched []string, a artifact.Artifact) {
			at := place{c.ID, seq}
			for _, h := range touched {
				if handles[h] {
					d.places[h] = append(d.places[h], at)
				}
			}
			if wanted[a] {
				d.at[a] = append(d.at[a], at)
			}
		}); err != nil {
			return nil, err
		}
	}
	var err error
	d.images, err = to.ImagesUnlike(from)
	return d, err
}

// stepsOf are the steps that an entry may be as it is by: its own, else those on what decides it.
func (d *Doing) stepsOf(handle string) []place {
	if own := d.places[handle]; len(own) > 0 {
		return own
	}
	var all []place
	for _, a := range d.decided[handle] {
		all = append(all, d.at[a]...)
	}
	slices.SortStableFunc(all, func(a, b place) int { return b.change - a.change })
	return all
}

// By is the change that left an entry as the later side has it; empty where none did.
func (d *Doing) By(handle string) string {
	steps := d.stepsOf(handle)
	for len(steps) > 0 {
		id := steps[0].change
		end := slices.IndexFunc(steps, func(p place) bool { return p.change != id })
		if end < 0 {
			end = len(steps)
		}
		if d.all(steps[:end]) {
			return Change{ID: id}.Name()
		}
		steps = steps[end:]
	}
	return ""
}

// all reports whether the later side has the images that steps gave, as far as it tells of them.
func (d *Doing) all(steps []place) bool {
	reported := false
	for _, at := range steps {
		switch d.look(at) {
		case another:
			return false
		case same:
			reported = true
		}
	}
	return reported
}

// look compares the later side with the image that a step gave, once.
func (d *Doing) look(at place) verdict {
	if known := d.holds[at]; known != unasked {
		return known
	}
	v := another
	if step, err := d.engine.Record.Step(at.change, at.seq); err == nil {
		is, ok, err := d.images.Image(step.Artifact)
		switch {
		case err != nil:
		case !ok, step.After.Container(), step.Before.Container():
			v = silent
		case d.engine.Machine.Same(step.Artifact, is, step.After):
			v = same
		}
	}
	d.holds[at] = v
	return v
}

// leaves are the states in which a kind of change leaves its entries.
var leaves = map[Kind]autostart.State{Disable: autostart.Disabled, Enable: autostart.Enabled}

// Since is what differs from how a change left the machine, given what differs from the snapshot
// that was taken before it: what the change did is no difference, and what was put back is one.
func (e *Engine) Since(c Change, diff snapshot.Difference, before, to *snapshot.Snapshot) (snapshot.Difference, error) {
	handles := map[string]bool{}
	var order []string
	if err := e.Record.Touched(c.ID, func(_ int, touched []string, _ artifact.Artifact) {
		for _, h := range touched {
			if !handles[h] {
				handles[h] = true
				order = append(order, h)
			}
		}
	}); err != nil {
		return diff, err
	}
	entries, err := to.EntriesOf(handles)
	if err != nil {
		return diff, err
	}
	now := make(map[string]*snapshot.Recorded, len(entries))
	for _, rec := range entries {
		now[rec.Handle] = rec
	}
	doing, err := e.doing([]Change{c}, before, to, diff, handles)
	if err != nil {
		return diff, err
	}
	did := func(handle string) bool { return doing.By(handle) != "" }
	diff.Added = slices.DeleteFunc(diff.Added, func(e autostart.Entry) bool { return did(e.Handle) })
	diff.Removed = slices.DeleteFunc(diff.Removed, func(e autostart.Entry) bool { return did(e.Handle) })
	left := leaves[c.Kind]
	var changed []snapshot.Changed
	reported := map[string]bool{}
	for _, ch := range diff.Changed {
		rec := now[ch.Handle]
		if rec == nil { // no entry of the change's
			changed = append(changed, ch)
			continue
		}
		reported[ch.Handle] = true
		if did(ch.Handle) {
			continue
		}
		if left != "" {
			// Its state is compared with what the change made of it, not with what was before.
			again := rec.State != left // which says all that its artifacts would
			ch.Fields = slices.DeleteFunc(ch.Fields, func(f snapshot.Field) bool {
				return f.Field == "state" ||
					f.Field == "mode" || again && f.What != ""
			})
			if again {
				ch.Fields = slices.Insert(ch.Fields, 0, snapshot.Field{Field: "state", From: string(left),
					To: string(rec.State)})
			}
		}
		if len(ch.Fields) > 0 {
			changed = append(changed, ch)
		}
	}
	slices.Sort(order)
	for _, h := range order {
		rec := now[h]
		if rec == nil || reported[h] || did(h) {
			continue
		}
		// It is as it was before the change, so it was not among what differs from that.
		from := string(left)
		if left == "" {
			from = "as " + c.Name() + " left it"
		}
		if to := string(rec.State); from != to {
			changed = append(changed, snapshot.Changed{Handle: h, Name: rec.Name,
				Fields: []snapshot.Field{{Field: "state", From: from, To: to}}})
		}
	}
	diff.Changed = changed
	return diff, nil
}
