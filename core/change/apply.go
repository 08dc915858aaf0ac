package change

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/registry"
	"lockback/core/snapshot"
)

// Denied lists the artifacts of a plan that this process may not write.
type Denied struct {
	Cause     error // files.ErrNeedsRights, files.ErrReadOnly or another
	Artifacts []artifact.Artifact
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
		return fmt.Errorf("%w: %s; nothing was touched, run list again", ErrConflict, strings.Join(conflicts, "; "))
	}
	return nil
}

// compare fails where the artifact does not have the image that the plan saw.
func (e *Engine) compare(s Step) error {
	current, err := e.Machine.Image(s.Artifact)
	if err != nil {
		return err
	}
	if !e.Machine.Same(s.Artifact, current, s.Before) {
		return fmt.Errorf("%s was %s and is %s", autostart.Text(s.Artifact.String()), s.Before, current)
	}
	return nil
}

// Result is the outcome of a change.
type Result struct {
	Change   Change
	Snapshot *snapshot.Snapshot // taken before the first step
	Warnings []string           // what the running system said, and what was kept
	// After is the inventory that was read afterwards; nil if the change did not ask
	// for one.
	After *inventory.Inventory
}

// token draws what begins the names of all that a change prepares.
func token() string {
	var b [8]byte
	rand.Read(b[:]) // it never fails, crypto/rand
	return hex.EncodeToString(b[:])
}

// Capture records a snapshot of the inventory in a transaction: contents go to the record
// as they are read. It fails with [files.ErrRanOut] where not all could be read.
func (e *Engine) Capture(tx Tx, inv inventory.Inventory, now time.Time, message string) (*snapshot.Snapshot, error) {
	if err := tx.AddMachine(e.Machine); err != nil {
		return nil, err
	}
	snap, err := snapshot.Capture(inv, now, message, tx.Keeper())
	if err == nil {
		err = files.RanOut()
	}
	if err != nil {
		return nil, err
	}
	snap.Load, snap.Figures = e.Record.Blob, snapshot.FiguresOf(inv)
	return snap, tx.AddSnapshot(snap)
}

// Interrupted returns the change that was begun on this machine and waits for
// [Engine.Recover]. A change that was begun on another machine, or disk, that has the same id
// (a clone) is not waited for, as long as both its place and its name differ.
func (e *Engine) Interrupted() (Change, bool, error) {
	all, err := e.Record.Interrupted(e.Machine.ID)
	for _, c := range all {
		if e.Elsewhere(c) != Clone {
			return c, true, err
		}
	}
	return Change{}, false, err
}

// Distance says how surely a change was made on the machine at hand.
type Distance int

// Here is the same machine in the same place, Moved has another place or another name,
// and Clone has both: only the id is the same.
const (
	Here Distance = iota
	Moved
	Clone
)

// Elsewhere compares where a change was made with the machine at hand.
func (e *Engine) Elsewhere(c Change) Distance {
	if c.Token == "" {
		return Here // early records do not tell
	}
	otherRoot, otherHost := c.Root != e.root(), c.Host != e.Machine.Name
	switch {
	case otherRoot && otherHost:
		return Clone
	case otherRoot || otherHost:
		return Moved
	}
	return Here
}

// root is the mounted folder that the machine is in; empty for the running one.
func (e *Engine) root() string {
	if e.Machine.Live {
		return ""
	}
	return e.Machine.Root
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
	if open, ok, err := e.Interrupted(); err != nil {
		return result, err
	} else if ok {
		return result, fmt.Errorf("%s: %w", open.Name(), ErrInterrupted)
	}
	change := Change{Machine: e.Machine.ID, Time: e.now().UTC().Truncate(time.Second), Kind: plan.Kind,
		Message: message,
		Entries: len(plan.Handles), State: Begun, Undoes: plan.Undoes, Steps: plan.Steps, Folders: plan.Folders,
		Token: token(), Root: e.root(), Host: e.Machine.Name, Outcomes: plan.Outcomes}
	if plan.Kind.Tried() {
		change.Trial = cmp.Or(plan.Trial, DefaultTrial)
	}
	e.at("before the journal")
	err := e.Record.Update(func(tx Tx) (err error) {
		if result.Snapshot, err = e.Capture(tx, inv, change.Time, "before "+string(plan.Kind)); err != nil {
			return err
		}
		change.Snapshot, change.Boot = result.Snapshot.ID, result.Snapshot.Boot
		return tx.AddChange(&change)
	})
	if err == nil {
		// The record is believed only when it is read back, as all else is.
		err = e.Record.Holds(change)
	}
	if err != nil {
		return result, err
	}
	result.Change = change
	kept, err := e.carryOut(change)
	if err != nil {
		return result, e.takeBack(change, err)
	}
	result.Warnings = append(kept, inventory.Announce(e.Machine, touched(change.Steps))...)
	doubts, after, err := e.verify(change, plan)
	if err != nil {
		err = e.takeBack(change, readBack{err})
		inventory.Announce(e.Machine, touched(change.Steps))
		return result, err
	}
	result.Warnings, result.After = append(result.Warnings, doubts...), after
	e.at("before done")
	if err := e.finish(change); err != nil {
		return result, err
	}
	result.Change.State = Done
	return result, nil
}

func touched(steps []Step) []string {
	var names []string
	for _, s := range steps {
		names = append(names, s.Artifact.Name)
	}
	return names
}

// temp names what is prepared for a step; the same after a crash.
func temp(c Change, step int) string {
	if c.Token == "" {
		return files.TempName("", fmt.Sprintf("%s-%d", c.Name(), step))
	}
	return files.TempName(c.Token, strconv.Itoa(step))
}

// carryOut brings all artifacts from before to after, and returns what is kept although
// it should go: folders in which something else lies by now.
func (e *Engine) carryOut(c Change) (kept []string, err error) {
	// Folders first, and all new content beside its place: when the disk is
	// full it shows here, where nothing is replaced yet.
	for k, s := range c.Steps {
		if err := e.stopped(); err != nil {
			return nil, err
		}
		if s.MakesFolder() {
			e.at(fmt.Sprintf("step %d: folder", k))
			if err := e.compare(s); err != nil {
				return nil, fmt.Errorf("%w: %w", ErrConflict, err)
			}
			if err := e.Machine.Set(s.Artifact, s.After, temp(c, k)); err != nil {
				return nil, stepError(s, err)
			}
			continue
		}
		e.at(fmt.Sprintf("step %d: prepare", k))
		if err := e.Machine.Prepare(s.Artifact, s.After, temp(c, k)); err != nil {
			return nil, stepError(s, err)
		}
	}
	for k, s := range c.Steps {
		if s.MakesFolder() {
			continue
		}
		if err := e.stopped(); err != nil {
			return nil, err
		}
		e.at(fmt.Sprintf("step %d: set", k))
		if err := e.compare(s); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrConflict, err)
		}
		err := e.Machine.Set(s.Artifact, s.After, temp(c, k))
		if errors.Is(err, files.ErrNotEmpty) {
			kept = append(kept, fmt.Sprintf("%s: %v", autostart.Text(s.Artifact.String()), files.ErrNotEmpty))
		} else if err != nil {
			return kept, stepError(s, err)
		}
	}
	return kept, e.restoreTimes(c, func(f Folder) artifact.Image { return f.After },
		func(s Step) artifact.Image { return s.After })
}

// restoreTimes puts the times of folders and keys back and makes all names durable.
func (e *Engine) restoreTimes(c Change, earlier func(Folder) artifact.Image, reached func(Step) artifact.Image) error {
	e.at("folder times")
	var failed []error
	restoreTimes := func(files bool) {
		restore := func(a artifact.Artifact, i artifact.Image) {
			if (a.Kind == artifact.FileArtifact) != files || !i.Container() {
				return
			}
			if err := e.Machine.RestoreTime(a, i); err != nil {
				failed = append(failed, fmt.Errorf("the time of %s: %w", autostart.Text(a.String()), err))
			}
		}
		for _, s := range c.Steps {
			restore(s.Artifact, reached(s)) // of what was made again
		}
		for _, f := range c.Folders {
			restore(f.Artifact, earlier(f))
		}
	}
	// Times of registry keys are written with their hives, each in one step with
	// all its edits; that shows in the time of the hive's folder.
	restoreTimes(false)
	if err := e.Machine.Commit(c.Token, e.at); err != nil {
		if errors.Is(err, registry.ErrChanged) {
			err = fmt.Errorf("%w: %w", ErrConflict, err)
		}
		return errors.Join(append(failed, err)...)
	}
	restoreTimes(true)
	e.at("flush")
	for _, f := range c.Folders {
		if err := e.Machine.FlushFolder(f.Artifact); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", autostart.Text(f.Artifact.String()), err))
		}
	}
	for _, s := range c.Steps {
		if s.After.Kind == artifact.Folder {
			if err := e.Machine.FlushFolder(s.Artifact); err != nil {
				failed = append(failed, err)
			}
		}
	}
	return errors.Join(failed...)
}

func stepError(s Step, err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return fmt.Errorf("%s: %w", autostart.Text(s.Artifact.String()), err)
}

// readBack is the error of a verification. It says itself what reads back otherwise, and how.
type readBack struct{ error }

func (readBack) Is(target error) bool { return target == ErrOtherwise }
func (r readBack) Unwrap() error      { return r.error }

// verify reads everything again: the artifacts, and the entries as their
// locations see them. It returns what a user's own service manager says
// otherwise: as root that is a doubt and no more, because the person answers there.
func (e *Engine) verify(c Change, plan Plan) (doubts []string, after *inventory.Inventory, err error) {
	e.at("verify")
	for _, s := range c.Steps {
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			return nil, nil, err
		}
		kept := s.After.Kind == artifact.Absent && s.Before.Container() && current.Container()
		if !kept && !e.Machine.Same(s.Artifact, current, s.After) {
			return nil, nil, fmt.Errorf("%s was set to %s, but reads back as %s", autostart.Text(s.Artifact.String()),
				s.After, current)
		}
	}
	if len(plan.want) == 0 {
		return nil, nil, nil
	}
	inv := inventory.Take(e.Machine, e.Memory)
	missing := plan.want // it is used up
	for _, item := range inv.Items {
		if plan.gone[item.Handle] {
			return nil, nil, fmt.Errorf("%q is still there", item.Name)
		}
		if was, wanted := plan.others[item.Handle]; wanted {
			delete(plan.others, item.Handle)
			if was != item.State {
				return nil, nil, fmt.Errorf("%q would be %s with it, and is no part of the change", item.Name,
					item.State)
			}
		}
		state, ok := plan.want[item.Handle]
		if !ok {
			continue
		}
		delete(missing, item.Handle)
		if item.State != state {
			return nil, nil, fmt.Errorf("%q still reads as %s (%s)", item.Name, item.State, item.Mode)
		}
		if program := plan.starts[item.Handle]; program != "" && !strings.EqualFold(program, item.Target.Path) &&
			!inventory.StartsOthers(program) {
			return nil, nil, fmt.Errorf("%q would start %q, and not %q", item.Name, item.Target.Path, program)
		}
		delete(plan.starts, item.Handle)
		everyones := item.Kind() == location.UserUnit && item.User == "" // each manager words it for its own user
		if !item.Kind().IsUnit() || everyones {
			continue
		}
		if err := e.Machine.ConfirmUnit(item.Name, item.User, item.Mode); err != nil {
			err = fmt.Errorf("%q: %w", item.Name, err)
			if item.User == "" || !files.Privileged() {
				return nil, nil, err
			}
			doubts = append(doubts, err.Error())
		}
	}
	// What was turned off must stay in sight. Switching on can take away what
	// only stood in the way: a user's override.
	for handle, state := range missing {
		if state == autostart.Disabled && !plan.taken[handle] {
			return nil, nil, errors.New("an entry that was turned off is no longer in the list")
		}
	}
	for handle, program := range plan.starts {
		return nil, nil, fmt.Errorf("the entry %s that starts %s is not in the list", handle, program)
	}
	for handle := range plan.others {
		return nil, nil, fmt.Errorf("the entry %s would go with it, and is no part of the change", handle)
	}
	return doubts, &inv, nil
}

// finish marks a change as done, and the one that it undid as undone.
func (e *Engine) finish(c Change) error {
	return e.Record.Update(func(tx Tx) error {
		if err := tx.SetState(c.ID, Done); err != nil {
			return err
		}
		if c.Undoes > 0 {
			return tx.SetState(c.Undoes, Undone)
		}
		return nil
	})
}

// takeBack reverses what was done of a change because of cause. Where that
// fails too, the change stays interrupted and recover is needed.
func (e *Engine) takeBack(c Change, cause error) error {
	_, err := e.reverse(c)
	switch {
	case errors.Is(err, ErrConflict) && errors.Is(cause, ErrConflict):
		return fmt.Errorf("%w; everything else was taken back", cause)
	case errors.Is(err, ErrConflict):
		return fmt.Errorf("%w; everything was taken back except: %w", cause, err)
	case err != nil:
		return fmt.Errorf("%w; and taking it back failed: %w: %w", cause, ErrInterrupted, err)
	}
	return fmt.Errorf("%w; everything was taken back", cause)
}
