package change

import (
	"slices"
	"strings"

	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// A snapshot does not have what was made after it, nor the whole of a registry key that a removal took away: of both, a
// restore knows from the journals.

// readRemoved finds what was removed since the snapshot, and is in the record of that removal alone.
func (r *restore) readRemoved(snap *snapshot.Snapshot) error {
	if r.e.Record == nil {
		return nil
	}
	changes, err := r.e.Record.Changes(r.e.Machine.ID)
	if err != nil {
		return err
	}
	known := map[artifact.Artifact]bool{}
	for _, c := range slices.Backward(changes) { // the newest has how it was last
		if c.Kind != Remove || c.State != Done && c.State != Undone {
			continue
		}
		full, err := r.e.Record.Change(c.ID)
		if err != nil {
			return err
		}
		for _, s := range full.Steps {
			if s.Artifact.Kind != artifact.TreeArtifact || s.After.Kind != artifact.Absent || known[s.Artifact] {
				continue
			}
			if _, ok, err := r.images.Image(s.Artifact); ok || err != nil {
				continue
			}
			known[s.Artifact] = true
			r.removed = append(r.removed, s)
		}
	}
	return nil
}

// inKey reports whether an artifact lies in a key that the plan brings back with all below it.
func (r *restore) inKey(a artifact.Artifact) bool {
	return slices.ContainsFunc(r.removed, func(s Step) bool {
		if _, planned := r.d.after[s.Artifact]; !planned {
			return false
		}
		name := a.Name
		if a.Kind == artifact.ValueArtifact {
			name, _ = a.Value()
		}
		return a.Kind != artifact.FileArtifact && (strings.EqualFold(name, s.Artifact.Name) ||
			strings.HasPrefix(strings.ToLower(name), strings.ToLower(s.Artifact.Name)+`\`))
	})
}

// bringKeys brings keys back that were removed with all below them; values that the snapshot holds get its content.
// Keys that are there again, and were removed when the snapshot was taken, go.
func (r *restore) bringKeys() error {
	for _, s := range r.removed {
		handle, removed := "", false
		for _, h := range s.Handles {
			rec, ok := r.recorded.Entry(h)
			if !ok || r.opt.Only != nil && !r.opt.Only[h] {
				continue
			}
			here := r.current[h] != nil && !Taken(r.current[h])
			if removed = isRemoved(&rec); removed == here {
				handle = h
			}
		}
		current, err := r.d.Image(s.Artifact)
		if handle == "" || err != nil || (current.Kind == artifact.Absent) == removed {
			continue // it is as in the snapshot
		}
		if removed {
			if err := r.d.set(s.Artifact, artifact.Image{Kind: artifact.Absent}, handle); err != nil {
				return err
			}
			r.changes(handle)
			continue
		}
		image := s.Before
		for a := range r.images.Artifacts() {
			want, _, err := r.images.Image(a)
			if err != nil || a.Kind != artifact.ValueArtifact {
				continue
			}
			if with, ok := image.WithValueIn(s.Artifact, a, want); ok {
				image = with
			}
		}
		if err := r.parents(s.Artifact, handle); err != nil {
			r.leave(s.Artifact, err)
			continue
		}
		if err := r.d.set(s.Artifact, image, handle); err != nil {
			return err
		}
		for _, h := range s.Handles {
			r.changes(h)
		}
	}
	return nil
}

// readMade reads what changes of ours made since the snapshot, as entries of their own.
func (r *restore) readMade(snap *snapshot.Snapshot) error {
	r.madeByUs = map[string]bool{}
	if r.e.Record == nil {
		return nil
	}
	changes, err := r.e.Record.Changes(r.e.Machine.ID)
	if err != nil {
		return err
	}
	made := map[string]bool{} // the entries
	for _, c := range changes {
		makes := c.Kind == Add || c.Kind == Delay
		if !makes && (len(made) == 0 || c.State != Done || c.Snapshot < snap.ID) {
			continue
		}
		full, err := r.e.Record.Change(c.ID)
		if err != nil {
			return err
		}
		for _, o := range full.Outcomes {
			for _, h := range o.Handles {
				made[h] = made[h] || makes && !r.recorded.Has(h)
			}
		}
		if c.State != Done || c.Snapshot < snap.ID {
			continue
		}
		// What was done to such an entry since is its own, too.
		full.Steps = slices.DeleteFunc(full.Steps, func(s Step) bool {
			return s.Before.Kind != artifact.Absent || !makes && slices.ContainsFunc(s.Handles,
				func(h string) bool { return !made[h] })
		})
		for _, s := range full.Steps {
			if s.Artifact.Kind == artifact.FileArtifact && !s.After.Container() {
				r.madeByUs[s.Artifact.Name] = true
			}
		}
		r.making = append(r.making, full)
	}
	slices.Reverse(r.making)
	return nil
}

// unmake takes it away, where nothing changed it. A key of the registry that was made goes with all that was written
// into it since.
func (r *restore) unmake() error {
	for _, full := range r.making {
		for _, f := range full.Folders { // the oldest, which comes last, counts
			r.d.folders[f.Artifact] = f.Before
		}
		keys := map[string]bool{}
		for _, s := range full.Steps {
			for _, h := range s.Handles {
				item := r.current[h]
				if item != nil && s.After.Kind == artifact.Key && item.Source.Path == s.Artifact.Name &&
					item.Source.Key == "" {
					keys[s.Artifact.Name] = true // the key is the entry: a service
				}
			}
		}
		for _, s := range slices.Backward(full.Steps) { // what lies in a folder before it
			a, handle := s.Artifact, ""
			if len(s.Handles) > 0 {
				handle = s.Handles[0]
			}
			if dir, ok := a.Parent(); ok && keys[dir.Name] {
				continue
			}
			_, known, err := r.images.Image(a)
			current, ierr := r.d.Image(a)
			switch {
			case known, err != nil, ierr != nil:
				continue
			case keys[a.Name]:
				a = artifact.RegistryTree(a.Name)
			case s.After.Container():
				if more, err := r.e.holdsMore(a, r.gone()); err != nil || more {
					continue
				}
			case !r.d.machine.Same(a, current, s.After) && !r.ours(a, artifact.Image{Kind: artifact.Absent}, current):
				continue
			}
			if err := r.d.set(a, artifact.Image{Kind: artifact.Absent}, handle); err != nil {
				return err
			}
			r.changes(handle)
		}
	}
	return nil
}

// gone are the artifacts that the plan takes away.
func (r *restore) gone() map[artifact.Artifact]bool {
	gone := map[artifact.Artifact]bool{}
	for a, image := range r.d.after {
		gone[a] = image.Kind == artifact.Absent
	}
	return gone
}
