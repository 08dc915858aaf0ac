package change

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// draft collects edits; later ones see the images that earlier ones want.
type draft struct {
	machine *machine.Machine
	before  map[artifact.Artifact]artifact.Image
	after   map[artifact.Artifact]artifact.Image
	handles map[artifact.Artifact][]string
	named   map[artifact.Artifact]map[string]bool // the same, to look them up where there are many
	order   []artifact.Artifact
	folders map[artifact.Artifact]artifact.Image // earlier images of folders, for their times
	// disables are the changes that switched something off and stand, the newest
	// first; each is read from the record once, however many entries ask.
	disables func() ([]Change, error)
	journals map[int]journal
	// decisions are how changes left entries, read once when somebody asks.
	decisions func() (map[string]Decision, error)
	// earlier are images that artifacts had once: one that becomes like its own but for the time gets that, too.
	earlier map[artifact.Artifact]artifact.Image
	// back are the edits that bring an entry to a state which it had once; nil if nobody asks.
	back func(handle string, state autostart.State) ([]location.Edit, bool)
}

// journal is a change read from the record, with its steps by the entries that they are for.
type journal struct {
	Change
	steps  map[string][]int
	before func(handle string) Expected
}

// journal reads a change from the record, once.
func (e *Engine) journal(d *draft, id int) (journal, error) {
	if j, known := d.journals[id]; known {
		return j, nil
	}
	full, err := e.Record.Change(id)
	if err != nil {
		return journal{}, err
	}
	j := journal{full, map[string][]int{}, e.asBefore(full)}
	for k, s := range full.Steps {
		for _, h := range s.Handles {
			j.steps[h] = append(j.steps[h], k)
		}
	}
	d.journals[id] = j
	return j, nil
}

func (e *Engine) newDraft() *draft {
	return &draft{machine: e.Machine, folders: map[artifact.Artifact]artifact.Image{},
		before: map[artifact.Artifact]artifact.Image{}, after: map[artifact.Artifact]artifact.Image{},
		handles: map[artifact.Artifact][]string{}, named: map[artifact.Artifact]map[string]bool{},
		disables: sync.OnceValues(e.disables), journals: map[int]journal{},
		decisions: sync.OnceValues(func() (map[string]Decision, error) {
			if e.Record == nil {
				return nil, nil
			}
			return e.Record.Decisions(e.Machine.ID)
		})}
}

// offAgain reports whether more than one change in a row turned an entry off: a later one may have found it disabled.
func (d *draft) offAgain(handle string) bool {
	all, err := d.decisions()
	return err != nil || len(all[handle].Off) > 1
}

// disables lists the changes that may have switched something off and stand, the newest
// first, without their journals.
func (e *Engine) disables() ([]Change, error) {
	if e.Record == nil {
		return nil, nil
	}
	changes, err := e.Record.Changes(e.Machine.ID)
	changes = slices.DeleteFunc(changes, func(c Change) bool {
		return c.Kind != Disable && c.Kind != Review && c.Kind != Culprit && c.Kind != Remove || c.State != Done
	})
	slices.Reverse(changes)
	return changes, err
}

// Image is the artifact's image after the steps planned so far.
func (d *draft) Image(a artifact.Artifact) (artifact.Image, error) {
	if i, ok := d.after[a]; ok {
		return i, nil
	}
	if i, ok := d.before[a]; ok {
		return i, nil
	}
	i, err := d.machine.Image(a)
	if err == nil {
		d.before[a] = i
	}
	return i, err
}

// peek is [draft.Image] for what will mostly not be part of the plan: it is not remembered.
func (d *draft) peek(a artifact.Artifact) (artifact.Image, error) {
	if i, ok := d.after[a]; ok {
		return i, nil
	}
	if i, ok := d.before[a]; ok {
		return i, nil
	}
	return d.machine.Image(a)
}

func (d *draft) set(a artifact.Artifact, want artifact.Image, handle string) error {
	if _, err := d.Image(a); err != nil {
		return err
	}
	if !d.machine.KeepsOwners && want.Kind != artifact.Absent {
		want.UID, want.GID = -1, -1 // all is the copier's, and stays so
	}
	if _, planned := d.after[a]; !planned {
		// A name may be a piece of a snapshot's text, which would stay in memory with it.
		a.Name = strings.Clone(a.Name)
		d.order = append(d.order, a)
	}
	d.name(a, handle)
	d.after[a] = want
	return nil
}

// fewHandles is how many handles are looked through one by one.
const fewHandles = 16

// name says that a step is for an entry, too.
func (d *draft) name(a artifact.Artifact, handle string) {
	have := d.handles[a]
	if handle == "" || d.named[a][handle] || len(have) < fewHandles && slices.Contains(have, handle) {
		return
	}
	// A handle may be a piece of a snapshot's text, which would stay in memory with it.
	have = append(have, strings.Clone(handle))
	d.handles[a] = have
	if len(have) < fewHandles {
		return
	}
	if d.named[a] == nil {
		d.named[a] = map[string]bool{}
		for _, h := range have {
			d.named[a][h] = true
		}
	}
	d.named[a][have[len(have)-1]] = true
}

// possible fails where an artifact could not be brought to an image, or not back again
// afterwards. What concerns the whole plan is left to [Engine.Check].
func (d *draft) possible(a artifact.Artifact, want artifact.Image) error {
	before, err := d.Image(a)
	if err != nil {
		return err
	}
	if d.machine.Same(a, before, want) {
		return nil
	}
	switch {
	case before.Kind == artifact.Special || want.Kind == artifact.Special:
		return errors.New("it is a device, a pipe or a socket, and those cannot be restored")
	case before.Kind == artifact.Folder && want.Kind != artifact.Folder:
		return errors.New("it is a folder")
	case want.Kind == artifact.Folder && before.Kind != artifact.Folder && before.Kind != artifact.Absent:
		return fmt.Errorf("it should be a folder, and is this: %s", autostart.Text(before.String()))
	}
	if want.Kind != artifact.Absent {
		if err := d.machine.Room(a); err != nil {
			return err
		}
	}
	if err := d.machine.Writable(a, before, want); err != nil && !wholly(err) {
		return fmt.Errorf("it cannot be written: %w", err)
	}
	return nil
}

// links tells how many names the file of an artifact has.
func (d *draft) links(a artifact.Artifact) int {
	if a.Kind != artifact.FileArtifact {
		return 1
	}
	return d.machine.Links(a)
}

// finish makes the steps of the plan, and is the end of the draft. Folders are made before what
// goes into them, and removed after what was in them.
func (d *draft) finish(plan *Plan) error {
	rank := func(s Step) int {
		switch {
		case s.MakesFolder():
			return 0
		case s.Before.Container() && s.After.Kind == artifact.Absent:
			return 2
		}
		return 1
	}
	plan.Steps = make([]Step, 0, len(d.order))
	for _, a := range d.order {
		before, after := d.before[a], d.asEarlier(a, d.after[a])
		delete(d.before, a) // of a large plan two copies would be much
		delete(d.after, a)
		if !d.machine.Same(a, before, after) {
			plan.Steps = append(plan.Steps, Step{Handles: d.handles[a], Artifact: a, Before: before, After: after})
			if n := d.links(a); n > 1 && before.Kind == artifact.Regular && !files.OnlyMode(before, after) {
				plan.Warnings = append(plan.Warnings,
					fmt.Sprintf("%s is one of %d names of the same file (hard links): the others keep the old "+
						"content, and bringing it back makes a file of its own", autostart.Text(a.String()), n))
			}
		}
	}
	slices.SortStableFunc(plan.Steps, func(a, b Step) int {
		byDepth := 0
		switch rank(a) {
		case 0:
			byDepth = cmp.Compare(a.Artifact.Name, b.Artifact.Name)
		case 2:
			byDepth = cmp.Compare(b.Artifact.Name, a.Artifact.Name)
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), byDepth)
	})
	seen := map[artifact.Artifact]bool{}
	add := func(dir artifact.Artifact, ok bool) error {
		if !ok || seen[dir] {
			return nil
		}
		seen[dir] = true
		before, err := d.machine.Image(dir)
		if err == nil && before.Container() {
			plan.Folders = append(plan.Folders, Folder{Artifact: dir, Before: before, After: d.folders[dir]})
		}
		return err
	}
	for _, s := range plan.Steps {
		if err := add(s.Artifact.Parent()); err != nil {
			return err
		}
		if err := add(d.machine.Beside(s.Artifact)); err != nil {
			return err
		}
	}
	if len(plan.Steps) == 0 {
		return ErrNothing
	}
	return nil
}
