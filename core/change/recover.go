package change

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// reverse brings all artifacts that have their image of after back to before,
// removes what was prepared, and marks the change as undone. What has neither
// image was changed by something else: it is left alone and reported as
// [ErrConflict], and the change is settled all the same. What fails does not stop the
// rest; then the change stays interrupted, and the error says what is left. It returns
// the folders that stay because something else lies in them.
func (e *Engine) reverse(c Change) (kept []string, err error) {
	var conflicts []string
	var failed []error
	e.Machine.Abandon()
	for k, s := range slices.Backward(c.Steps) {
		e.at(fmt.Sprintf("step %d: back", k))
		if err := e.Machine.Discard(s.Artifact, temp(c, k), c.Token); err != nil {
			failed = append(failed, fmt.Errorf("%s, beside %s: %w", temp(c, k), autostart.Text(s.Artifact.String()),
				stepError(s, err)))
		}
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			failed = append(failed, stepError(s, err))
			continue
		}
		switch made := current.Container() && s.After.Kind == current.Kind; {
		case e.Machine.Same(s.Artifact, current, s.Before):
		case e.Machine.Same(s.Artifact, current, s.After) || made:
			err := e.Machine.Set(s.Artifact, s.Before, temp(c, k))
			if errors.Is(err, files.ErrNotEmpty) {
				kept = append(kept, fmt.Sprintf("%s: %v", autostart.Text(s.Artifact.String()), files.ErrNotEmpty))
			} else if err != nil {
				failed = append(failed, stepError(s, err))
			}
		case s.Before.Kind == artifact.Absent && current.Container():
			kept = append(kept, fmt.Sprintf("%s: %v", autostart.Text(s.Artifact.String()), files.ErrNotEmpty))
		default:
			conflicts = append(conflicts, fmt.Sprintf("%s is %s", autostart.Text(s.Artifact.String()), current))
		}
	}
	if err := e.restoreTimes(c, func(f Folder) artifact.Image { return f.Before },
		func(s Step) artifact.Image { return s.Before }); err != nil {
		failed = append(failed, err)
	}
	if len(failed) > 0 {
		return kept, errors.Join(failed...)
	}
	e.at("before undone")
	err = e.Record.Update(func(tx Tx) error { return tx.SetState(c.ID, Undone) })
	if err == nil && len(conflicts) > 0 {
		err = fmt.Errorf("%w: changed by something else meanwhile and left alone: %s", ErrConflict,
			strings.Join(conflicts, "; "))
	}
	return kept, err
}

// Recover settles an interrupted change: it takes it back, or finishes it. It returns the
// folders that stay because something else lies in them.
func (e *Engine) Recover(c Change, finish bool) (kept []string, err error) {
	defer inventory.Announce(e.Machine, touched(c.Steps))
	if !finish {
		return e.reverse(c)
	}
	var conflicts []string
	for _, s := range c.Steps {
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			return nil, stepError(s, err)
		}
		if e.state(s, current) == neither {
			conflicts = append(conflicts, fmt.Sprintf("%s is %s", autostart.Text(s.Artifact.String()), current))
		}
	}
	if len(conflicts) > 0 {
		return nil, fmt.Errorf("%w: %s; take the change back instead", ErrConflict, strings.Join(conflicts, "; "))
	}
	for k, s := range c.Steps {
		e.at(fmt.Sprintf("step %d: finish", k))
		if err := e.Machine.Discard(s.Artifact, temp(c, k), c.Token); err != nil &&
			!errors.Is(err, files.ErrNotRegular) {
			return nil, stepError(s, err)
		}
		if current, err := e.Machine.Image(s.Artifact); err == nil && e.Machine.Same(s.Artifact, current, s.After) {
			continue
		}
		err := e.Machine.Set(s.Artifact, s.After, temp(c, k))
		if errors.Is(err, files.ErrNotEmpty) {
			kept = append(kept, fmt.Sprintf("%s: %v", autostart.Text(s.Artifact.String()), files.ErrNotEmpty))
		} else if err != nil {
			return kept, stepError(s, err)
		}
	}
	if err := e.restoreTimes(c, func(f Folder) artifact.Image { return f.After },
		func(s Step) artifact.Image { return s.After }); err != nil {
		return kept, err
	}
	if _, _, err := e.verify(c, Plan{}); err != nil {
		return kept, err
	}
	return kept, e.finish(c)
}

// What an artifact of a change can be found as.
const (
	asBefore = "as before the change"
	asAfter  = "as the change wanted it"
	neither  = "neither as before nor as the change wanted it"
)

// state tells which image of a step an artifact has.
func (e *Engine) state(s Step, current artifact.Image) string {
	switch {
	case e.Machine.Same(s.Artifact, current, s.Before):
		return asBefore
	case e.Machine.Same(s.Artifact, current, s.After), current.Container() && s.After.Kind == current.Kind:
		return asAfter
	}
	return neither
}

// Left is how one artifact of a change was left.
type Left struct {
	Artifact artifact.Artifact
	How      string
}

// Abandon gives an interrupted change up: nothing of it is written any more but what was
// prepared for it is removed where that can be done, and it no longer waits. It returns how
// each artifact is left.
func (e *Engine) Abandon(c Change) ([]Left, error) {
	var left []Left
	for k, s := range c.Steps {
		l := Left{Artifact: s.Artifact}
		current, err := e.Machine.Image(s.Artifact)
		if l.How = e.state(s, current); err != nil {
			l.How = "cannot be read: " + machine.Reason(err)
		}
		if err := e.Machine.Discard(s.Artifact, temp(c, k), c.Token); err != nil {
			l.How += "; " + temp(c, k) + " beside it could not be removed: " + machine.Reason(err)
		}
		left = append(left, l)
	}
	return left, e.Record.Update(func(tx Tx) error { return tx.SetState(c.ID, Abandoned) })
}
