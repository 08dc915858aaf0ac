package change

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// Round plans a round of the search for a culprit: [Engine.Decide], in which what becomes as it was before one of the
// earlier rounds, named by their numbers, gets its time of then as well. So what was done before the search can still
// be taken back after it.
func (e *Engine) Round(off, on []*location.Item, want location.Want, earlier []int) (Plan, error) {
	d := e.newDraft()
	d.earlier = map[artifact.Artifact]artifact.Image{}
	if len(earlier) > 0 {
		all, err := e.together(earlier)
		if err != nil && !errors.Is(err, ErrConflict) {
			return Plan{}, err // what something else changed in between is not brought back, but turned
		}
		for _, s := range all.Steps {
			d.earlier[s.Artifact] = s.Before
		}
		d.back = e.backTo(d, all)
		for _, f := range all.Folders {
			d.folders[f.Artifact] = f.Before
		}
	}
	plan, err := e.decide(d, off, on, want)
	plan.Kind = Culprit
	return plan, err
}

// backTo finds the edits that bring an entry back to how it was before a change, where it was in the wanted state then,
// and where all that the change made of it is still so and is the entry's alone.
func (e *Engine) backTo(d *draft, c Change) func(handle string, state autostart.State) ([]location.Edit, bool) {
	before := e.asBefore(c)
	return func(handle string, state autostart.State) ([]location.Edit, bool) {
		var edits []location.Edit
		for _, s := range c.Steps {
			if !slices.Contains(s.Handles, handle) || s.MakesFolder() {
				continue
			}
			current, err := d.Image(s.Artifact)
			if err != nil || len(s.Handles) > 1 || !e.Machine.Same(s.Artifact, current, s.After) {
				return nil, false
			}
			edits = append(edits, location.Edit{Artifact: s.Artifact, Image: s.Before})
		}
		return edits, len(edits) > 0 && before(handle).State == state
	}
}

// asEarlier is the image that a plan gives an artifact, with the time of an earlier one that is the same otherwise.
func (d *draft) asEarlier(a artifact.Artifact, i artifact.Image) artifact.Image {
	once, ok := d.earlier[a]
	if !ok {
		return i
	}
	dated := i
	dated.ModTime, dated.Place = once.ModTime, once.Place
	if d.machine.Same(a, dated, once) {
		return once
	}
	return i
}

// TakeBack plans to take several changes back as one, given by their numbers, the oldest first: all that they touched
// is then as it was before the first. It fails with [ErrConflict] where something else changed it since, or in between.
func (e *Engine) TakeBack(changes []int) (Plan, error) {
	all, err := e.together(changes)
	if err != nil {
		return Plan{}, err
	}
	plan, err := e.Undo(all)
	plan.Kind, plan.Undoes = Culprit, 0
	return plan, err
}

// together makes one change of several: each artifact with its image before the first and after the last of them. It
// fails with [ErrConflict], and leaves those artifacts out, where something else changed one in between.
func (e *Engine) together(changes []int) (Change, error) {
	var all Change
	at, folders, torn := map[artifact.Artifact]int{}, map[artifact.Artifact]bool{}, map[artifact.Artifact]string{}
	for _, id := range changes {
		c, err := e.Record.Change(id)
		if err != nil {
			return all, err
		}
		if c.Machine != e.Machine.ID {
			return all, fmt.Errorf("%s is a change of another machine: %w", c.Name(), ErrNotFound)
		}
		if all.ID == 0 {
			all.ID, all.Machine, all.Snapshot = c.ID, c.Machine, c.Snapshot
		}
		for _, s := range c.Steps {
			k, known := at[s.Artifact]
			if !known {
				at[s.Artifact] = len(all.Steps)
				all.Steps = append(all.Steps, s)
				continue
			}
			one := &all.Steps[k]
			if !e.Machine.Same(s.Artifact, one.After, s.Before) {
				torn[s.Artifact] = fmt.Sprintf("%s was changed by something else before %s",
					autostart.Text(s.Artifact.String()), c.Name())
			}
			one.After = s.After
			for _, h := range s.Handles {
				if !slices.Contains(one.Handles, h) {
					one.Handles = append(slices.Clip(one.Handles), h)
				}
			}
		}
		for _, f := range c.Folders {
			if !folders[f.Artifact] {
				folders[f.Artifact] = true
				all.Folders = append(all.Folders, f)
			}
		}
	}
	if len(torn) == 0 {
		return all, nil
	}
	all.Steps = slices.DeleteFunc(all.Steps, func(s Step) bool { return torn[s.Artifact] != "" })
	return all, fmt.Errorf("%w: %s", ErrConflict, strings.Join(slices.Sorted(maps.Values(torn)), "; "))
}
