package change

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
)

// Denied lists the artifacts of a plan that this process may not write.
type Denied struct {
	Cause     error // machine.ErrNeedsRights, machine.ErrReadOnly or another
	Artifacts []machine.Artifact
	Handles   []string
}

func (d *Denied) Error() string {
	names := make([]string, len(d.Artifacts))
	for k, a := range d.Artifacts {
		names[k] = autostart.Text(a.String())
	}
	return fmt.Sprintf("%v: %s", d.Cause, strings.Join(names, ", "))
}

func (d *Denied) Unwrap() error { return d.Cause }

// Check tells, before anything is touched, whether the plan can be applied:
// [*Denied] where rights are missing, [ErrConflict] where an artifact is not as
// the plan saw it.
func (e *Engine) Check(plan Plan) error {
	denied := map[string]*Denied{}
	var order []string
	for _, s := range plan.Steps {
		err := e.Machine.Writable(s.Artifact, s.Before, s.After)
		if err == nil {
			continue
		}
		d := denied[err.Error()]
		if d == nil {
			d = &Denied{Cause: err}
			denied[err.Error()] = d
			order = append(order, err.Error())
		}
		d.Artifacts = append(d.Artifacts, s.Artifact)
		d.Handles = append(d.Handles, s.Handles...)
	}
	if len(order) > 0 {
		return denied[order[0]]
	}
	var conflicts []string
	for _, s := range plan.Steps {
		if err := e.compare(s); err != nil {
			conflicts = append(conflicts, err.Error())
		}
	}
	if len(conflicts) > 0 {
		return fmt.Errorf("%w: %s; nothing was touched, list again", ErrConflict, strings.Join(conflicts, "; "))
	}
	return nil
}

// compare fails where the artifact does not have the image that the plan saw.
func (e *Engine) compare(s store.Step) error {
	current, err := e.Machine.Image(s.Artifact)
	if err != nil {
		return err
	}
	if !e.Machine.Same(s.Artifact, current, s.Before) {
		return fmt.Errorf("%s was %s and is %s", autostart.Text(s.Artifact.String()), s.Before, current)
	}
	return nil
}

// Result is what came of a change.
type Result struct {
	Change   store.Change
	Snapshot *snapshot.Snapshot // taken before the first step
	Warnings []string           // what the running system said
}

// Apply makes the change: all of it, or nothing. The snapshot of the inventory
// and the journal are recorded first. It fails with the errors of [Engine.Check],
// with those of the record, or with the cause for which everything was taken
// back.
func (e *Engine) Apply(plan Plan, inv inventory.Inventory, message string) (Result, error) {
	var result Result
	e.Machine.Abandon() // what was read for the plan is read again
	if err := e.Check(plan); err != nil {
		return result, err
	}
	if open, ok, err := e.Store.Interrupted(e.Machine.ID); err != nil {
		return result, err
	} else if ok {
		return result, fmt.Errorf("%s: %w", open.Name(), ErrInterrupted)
	}
	result.Snapshot = snapshot.Capture(inv, e.now(), "before "+string(plan.Kind))
	change := store.Change{Machine: e.Machine.ID, Time: result.Snapshot.Time, Kind: plan.Kind, Message: message,
		Entries: len(plan.Handles), State: store.Begun, Undoes: plan.Undoes, Steps: plan.Steps, Folders: plan.Folders}
	e.at("before the journal")
	err := e.Store.Update(func(tx *store.Tx) error {
		if err := tx.AddMachine(e.Machine); err != nil {
			return err
		}
		if err := tx.AddSnapshot(result.Snapshot); err != nil {
			return err
		}
		change.Snapshot = result.Snapshot.ID
		return tx.AddChange(&change)
	})
	if err != nil {
		return result, err
	}
	result.Change = change
	if err := e.carryOut(change); err != nil {
		return result, e.takeBack(change, err)
	}
	result.Warnings = e.Machine.Announce(touched(change.Steps))
	if err := e.verify(change, plan); err != nil {
		err = e.takeBack(change, err)
		e.Machine.Announce(touched(change.Steps))
		return result, err
	}
	e.at("before done")
	if err := e.finish(change); err != nil {
		return result, err
	}
	result.Change.State = store.Done
	return result, nil
}

func touched(steps []store.Step) []string {
	var names []string
	for _, s := range steps {
		names = append(names, s.Artifact.Name)
	}
	return names
}

// tag names what is prepared for a step; the same after a crash.
func tag(c store.Change, step int) string { return fmt.Sprintf("%s-%d", c.Name(), step) }

// carryOut brings all artifacts from before to after.
func (e *Engine) carryOut(c store.Change) error {
	// Folders first, and all new content beside its place: when the disk is
	// full it shows here, where nothing is replaced yet.
	for k, s := range c.Steps {
		if err := e.stopped(); err != nil {
			return err
		}
		if s.MakesFolder() {
			e.at(fmt.Sprintf("step %d: folder", k))
			if err := e.compare(s); err != nil {
				return fmt.Errorf("%w: %w", ErrConflict, err)
			}
			if err := e.Machine.Set(s.Artifact, s.After, tag(c, k)); err != nil {
				return stepError(s, err)
			}
			continue
		}
		e.at(fmt.Sprintf("step %d: prepare", k))
		if err := e.Machine.Prepare(s.Artifact, s.After, tag(c, k)); err != nil {
			return stepError(s, err)
		}
	}
	for k, s := range c.Steps {
		if s.MakesFolder() {
			continue
		}
		if err := e.stopped(); err != nil {
			return err
		}
		e.at(fmt.Sprintf("step %d: set", k))
		if err := e.compare(s); err != nil {
			return fmt.Errorf("%w: %w", ErrConflict, err)
		}
		if err := e.Machine.Set(s.Artifact, s.After, tag(c, k)); err != nil {
			return stepError(s, err)
		}
	}
	return e.settle(c, func(f store.Folder) machine.Image { return f.After })
}

// settle puts folder times back and makes all names durable.
func (e *Engine) settle(c store.Change, earlier func(store.Folder) machine.Image) error {
	e.at("folder times")
	restoreTimes := func(files bool) error {
		for _, f := range c.Folders {
			if (f.Artifact.Kind == machine.FileArtifact) != files {
				continue
			}
			if err := e.Machine.RestoreTime(f.Artifact, earlier(f)); err != nil {
				return fmt.Errorf("%s: %w", f.Artifact, err)
			}
		}
		return nil
	}
	// Times of registry keys are written with their hives, each in one step with
	// all its edits; that shows in the time of the hive's folder.
	if err := restoreTimes(false); err != nil {
		return err
	}
	if err := e.Machine.Commit(e.at); err != nil {
		if errors.Is(err, machine.ErrChanged) {
			err = fmt.Errorf("%w: %w", ErrConflict, err)
		}
		return err
	}
	if err := restoreTimes(true); err != nil {
		return err
	}
	e.at("flush")
	for _, f := range c.Folders {
		if err := e.Machine.FlushFolder(f.Artifact); err != nil {
			return fmt.Errorf("%s: %w", f.Artifact, err)
		}
	}
	for _, s := range c.Steps {
		if s.After.Kind == machine.Folder {
			if err := e.Machine.FlushFolder(s.Artifact); err != nil {
				return err
			}
		}
	}
	return nil
}

func stepError(s store.Step, err error) error {
	return fmt.Errorf("%s: %s", autostart.Text(s.Artifact.String()), machine.Reason(err))
}

// verify reads everything again: the artifacts, and the entries as their
// locations see them.
func (e *Engine) verify(c store.Change, plan Plan) error {
	e.at("verify")
	for _, s := range c.Steps {
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			return err
		}
		if !e.Machine.Same(s.Artifact, current, s.After) {
			return fmt.Errorf("%s was set to %s, but reads back as %s", autostart.Text(s.Artifact.String()), s.After, current)
		}
	}
	if len(plan.want) == 0 {
		return nil
	}
	inv := inventory.Take(e.Machine)
	missing := maps.Clone(plan.want)
	for _, item := range inv.Items {
		state, ok := plan.want[item.Handle]
		if !ok {
			continue
		}
		delete(missing, item.Handle)
		if item.State != state {
			return fmt.Errorf("%q still reads as %s (%s)", item.Name, item.State, item.Mode)
		}
		if err := e.Machine.Confirm(item.Location, item.Name, item.User, item.Mode); err != nil {
			return fmt.Errorf("%q: %w", item.Name, err)
		}
	}
	// What was switched off must stay in sight. Switching on can take away what
	// only stood in the way: a person's override.
	for handle, state := range missing {
		if state == autostart.Disabled && !plan.taken[handle] {
			return errors.New("an entry that was switched off is no longer in the list")
		}
	}
	return nil
}

// finish marks a change as done, and the one that it undid as undone.
func (e *Engine) finish(c store.Change) error {
	return e.Store.Update(func(tx *store.Tx) error {
		if err := tx.SetState(c.ID, store.Done); err != nil {
			return err
		}
		if c.Undoes > 0 {
			return tx.SetState(c.Undoes, store.Undone)
		}
		return nil
	})
}

// takeBack reverses what was done of a change because of cause. Where that
// fails too, the change stays interrupted and recover is needed.
func (e *Engine) takeBack(c store.Change, cause error) error {
	err := e.reverse(c)
	switch {
	case errors.Is(err, ErrConflict) && errors.Is(cause, ErrConflict):
		return fmt.Errorf("%w; everything was taken back but that", cause)
	case errors.Is(err, ErrConflict):
		return fmt.Errorf("%w; everything was taken back but: %w", cause, err)
	case err != nil:
		return fmt.Errorf("%w; and taking it back failed: %w: %w", cause, ErrInterrupted, err)
	}
	return fmt.Errorf("%w; everything was taken back", cause)
}

// reverse brings all artifacts that have their image of after back to before,
// removes what was prepared, and marks the change as undone. What has neither
// image was changed by something else: it is left alone and reported as
// [ErrConflict], and the change is settled all the same.
func (e *Engine) reverse(c store.Change) error {
	var conflicts []string
	e.Machine.Abandon()
	for k, s := range slices.Backward(c.Steps) {
		e.at(fmt.Sprintf("step %d: back", k))
		if err := e.Machine.Discard(s.Artifact, tag(c, k)); err != nil {
			return stepError(s, err)
		}
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			return stepError(s, err)
		}
		switch made := current.Container() && s.After.Kind == current.Kind; {
		case e.Machine.Same(s.Artifact, current, s.Before):
		case e.Machine.Same(s.Artifact, current, s.After) || made:
			if err := e.Machine.Set(s.Artifact, s.Before, tag(c, k)); err != nil {
				return stepError(s, err)
			}
		default:
			conflicts = append(conflicts, fmt.Sprintf("%s is %s", autostart.Text(s.Artifact.String()), current))
		}
	}
	if err := e.settle(c, func(f store.Folder) machine.Image { return f.Before }); err != nil {
		return err
	}
	e.at("before undone")
	err := e.Store.Update(func(tx *store.Tx) error { return tx.SetState(c.ID, store.Undone) })
	if err == nil && len(conflicts) > 0 {
		err = fmt.Errorf("%w: changed by something else meanwhile and left alone: %s", ErrConflict, strings.Join(conflicts, "; "))
	}
	return err
}

// Recover settles an interrupted change: it takes it back, or finishes it.
func (e *Engine) Recover(c store.Change, finish bool) error {
	defer e.Machine.Announce(touched(c.Steps))
	if !finish {
		return e.reverse(c)
	}
	var conflicts []string
	for _, s := range c.Steps {
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			return stepError(s, err)
		}
		if !e.Machine.Same(s.Artifact, current, s.Before) && !e.Machine.Same(s.Artifact, current, s.After) && !(current.Container() && s.After.Kind == current.Kind) {
			conflicts = append(conflicts, fmt.Sprintf("%s is %s", autostart.Text(s.Artifact.String()), current))
		}
	}
	if len(conflicts) > 0 {
		return fmt.Errorf("%w: %s; take the change back instead", ErrConflict, strings.Join(conflicts, "; "))
	}
	for k, s := range c.Steps {
		e.at(fmt.Sprintf("step %d: finish", k))
		if err := e.Machine.Discard(s.Artifact, tag(c, k)); err != nil && !errors.Is(err, machine.ErrNotRegular) {
			return stepError(s, err)
		}
		if current, err := e.Machine.Image(s.Artifact); err == nil && e.Machine.Same(s.Artifact, current, s.After) {
			continue
		}
		if err := e.Machine.Set(s.Artifact, s.After, tag(c, k)); err != nil {
			return stepError(s, err)
		}
	}
	if err := e.settle(c, func(f store.Folder) machine.Image { return f.After }); err != nil {
		return err
	}
	if err := e.verify(c, Plan{}); err != nil {
		return err
	}
	return e.finish(c)
}
