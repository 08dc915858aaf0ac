package change

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// Undo plans to take a change back, and fails with [ErrConflict] where something else changed an artifact since. What
// cannot be read or made again is left out and named.
func (e *Engine) Undo(c Change) (Plan, error) { return e.undo(c, nil) }

// UndoStanding plans to take back all of a change that still stands as the change left it. An entry of which something
// else changed an artifact since is left out as a whole, and named; where that is all of it, it fails with
// [ErrConflict].
func (e *Engine) UndoStanding(c Change) (Plan, error) {
	others := map[string]string{} // entries that something else changed since, and how they are
	for _, s := range c.Steps {
		current, err := e.Machine.Image(s.Artifact)
		if err != nil || e.Machine.Same(s.Artifact, current, s.Before) || e.Machine.Same(s.Artifact, current, s.After) {
			continue
		}
		for _, h := range s.Handles {
			others[h] = fmt.Sprintf("%s is now %s", autostart.Text(s.Artifact.String()), current)
		}
	}
	plan, err := e.undo(c, others)
	var left []LeftOut
	for _, h := range slices.Sorted(maps.Keys(others)) {
		l := LeftOut{Handle: h, Err: errors.New("something else changed it since: " + others[h])}
		if was := plan.expect(h).Entry; was != nil {
			l.Name = was.Name
		}
		left = append(left, l)
	}
	plan.LeftOut = append(plan.LeftOut, left...)
	switch {
	case len(left) == 0 || err != nil && !errors.Is(err, ErrNothing):
	case len(plan.Steps) == 0:
		return plan, fmt.Errorf("%w: something else changed all of %s since; lockback restore S%d%s brings back "+
			"how it was before", ErrConflict, c.Name(), c.Snapshot, only(left))
	default:
		plan.Undoes = 0 // the rest stays to be undone
		plan.Warnings = append(plan.Warnings,
			fmt.Sprintf("something else changed the rest of %s since; lockback restore "+
				"S%d%s brings back how that was before", c.Name(), c.Snapshot, only(left)))
	}
	return plan, err
}

// only are the options of restore for some entries.
func only(left []LeftOut) string {
	var words strings.Builder
	for _, l := range left {
		words.WriteString(" --only " + l.Handle)
	}
	return words.String()
}

// undo plans to take a change back, but for the steps of some entries. Nil: all of it or nothing.
func (e *Engine) undo(c Change, but map[string]string) (Plan, error) {
	plan := Plan{Kind: Undo, Undoes: c.ID, expect: e.asBefore(c)}
	d := e.newDraft()
	var conflicts []string
	named := map[string]bool{}
	earlier := map[artifact.Artifact]artifact.Image{}
	for _, f := range c.Folders {
		earlier[f.Artifact] = f.Before
	}
	gone := map[artifact.Artifact]bool{} // what the plan removes
	for _, s := range slices.Backward(c.Steps) {
		if slices.ContainsFunc(s.Handles, func(h string) bool { return but[h] != "" }) {
			continue
		}
		current, err := d.Image(s.Artifact)
		same := err == nil && e.Machine.Same(s.Artifact, current, s.After)
		switch {
		case err == nil && e.Machine.Same(s.Artifact, current, s.Before):
			continue // it is as it was already
		case err == nil && !same:
			conflicts = append(conflicts, fmt.Sprintf("%s is now %s", autostart.Text(s.Artifact.String()), current))
			continue
		case same && s.MakesFolder():
			if kept, err := e.holdsMore(s.Artifact, gone); err == nil && kept {
				plan.Warnings = append(plan.Warnings,
					fmt.Sprintf("%s was made by %s and stays: something else lies in it now",
						autostart.Text(s.Artifact.String()), c.Name()))
				continue
			}
		default:
			if err == nil {
				err = d.possible(s.Artifact, s.Before)
			}
			if err != nil {
				plan.LeftOut = append(plan.LeftOut, LeftOut{Name: autostart.Text(s.Artifact.String()), Err: err})
				continue
			}
		}
		gone[s.Artifact] = s.Before.Kind == artifact.Absent
		plan.Steps = append(plan.Steps, Step{Handles: s.Handles, Artifact: s.Artifact, Before: s.After,
			After: s.Before})
		if s.Before.Container() {
			earlier[s.Artifact] = s.Before
		}
		for _, h := range s.Handles {
			if !named[h] {
				named[h] = true
				plan.Handles = append(plan.Handles, h)
			}
		}
	}
	if len(conflicts) > 0 {
		return plan, fmt.Errorf("%w: %s was changed since by something else: %s; use restore --only for the "+
			"entries you want back",
			ErrConflict, c.Name(), strings.Join(conflicts, "; "))
	}
	if len(plan.LeftOut) > 0 {
		if len(plan.Steps) == 0 {
			return plan, fmt.Errorf("%s cannot be taken back: %w", c.Name(), plan.LeftOut[0].Err)
		}
		plan.Undoes = 0 // it stays to be undone
	}
	if len(plan.Steps) == 0 {
		return plan, ErrNothing
	}
	// All that steps show in has its time noted, for an undo that is cut short, and the
	// folders of the change get the one that they had before it.
	for _, s := range plan.Steps {
		for _, dir := range e.around(s.Artifact) {
			if _, known := earlier[dir]; !known {
				earlier[dir] = artifact.Image{Kind: artifact.Absent}
			}
		}
	}
	for _, a := range slices.SortedFunc(maps.Keys(earlier),
		func(a, b artifact.Artifact) int { return strings.Compare(a.ID(), b.ID()) }) {
		if before, err := e.Machine.Image(a); err == nil && before.Container() {
			plan.Folders = append(plan.Folders, Folder{Artifact: a, Before: before, After: earlier[a]})
		}
	}
	plan.sortOutcomes()
	return plan, nil
}

// asBefore tells how entries were in the snapshot that was taken before a change.
func (e *Engine) asBefore(c Change) func(handle string) Expected {
	known := sync.OnceValue(func() map[string]*snapshot.Recorded {
		entries := map[string]*snapshot.Recorded{}
		snap, err := e.Record.Snapshot(c.Snapshot)
		if err != nil {
			return entries
		}
		handles := map[string]bool{}
		for _, s := range c.Steps {
			for _, h := range s.Handles {
				handles[h] = true
			}
		}
		all, err := snap.EntriesOf(handles)
		if err != nil {
			return entries
		}
		for _, rec := range all {
			entries[rec.Handle] = rec
		}
		return entries
	})
	return func(handle string) Expected {
		if rec := known()[handle]; rec != nil {
			return Expected{rec.State, isRemoved(&rec.Entry), &rec.Entry}
		}
		return Expected{}
	}
}

// around lists the containers in which writing an artifact shows.
func (e *Engine) around(a artifact.Artifact) []artifact.Artifact {
	var all []artifact.Artifact
	if dir, ok := a.Parent(); ok {
		all = append(all, dir)
	}
	if dir, ok := e.Machine.Beside(a); ok {
		all = append(all, dir)
	}
	return all
}

// holdsMore reports whether something lies in a container that the plan does not remove.
func (e *Engine) holdsMore(a artifact.Artifact, gone map[artifact.Artifact]bool) (bool, error) {
	children, err := e.Machine.Children(a)
	return slices.ContainsFunc(children, func(child artifact.Artifact) bool { return !gone[child] }), err
}
