package change

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
)

// Errors of [Engine.Remove] that concern one entry.
var (
	errRemoved  = errors.New("it is removed already; the record keeps it")
	errNoErase  = errors.New("lockback does not know how to remove it here; it stays disabled")
	errIsFolder = errors.New("it is a folder; lockback removes no folders")
)

// Remove plans to take entries away for good: what each is read from, and what says about it alone that it is on or
// off. Programs stay, and so does what others have a share in. An artifact that keeps fails for is not taken away, and
// neither is its entry. All are the entries of the machine: those that are not to be removed must be found afterwards
// as they are now. What cannot be removed is left out and named, as [Engine.Switch] does.
func (e *Engine) Remove(items, all []*location.Item, keeps func(artifact.Artifact) error) (Plan, error) {
	plan := Plan{Kind: Remove, want: map[string]autostart.State{}, taken: map[string]bool{}, gone: map[string]bool{},
		others: map[string]autostart.State{}}
	plan.expect = func(string) Expected { return Expected{State: autostart.Disabled, Removed: true} }
	d := e.newDraft()
	chosen := map[string]bool{}
	for _, item := range items {
		chosen[item.Handle] = true
	}
	for _, item := range items {
		edits, err := e.erase(d, item)
		for _, edit := range edits {
			if err == nil {
				err = d.possible(edit.Artifact, edit.Image)
			}
			if err == nil && edit.Image.Kind == artifact.Absent {
				err = keeps(edit.Artifact)
			}
		}
		if err != nil {
			plan.leave(item, err)
			delete(chosen, item.Handle)
			continue
		}
		for _, edit := range edits {
			if e.inside(d, edit.Artifact) {
				continue // it goes with the whole key
			}
			if err := d.set(edit.Artifact, edit.Image, item.Handle); err != nil {
				return plan, err
			}
		}
		plan.Handles = append(plan.Handles, item.Handle)
		plan.want[item.Handle], plan.taken[item.Handle], plan.gone[item.Handle] = autostart.Disabled, true, true
	}
	for _, item := range all {
		if !Taken(item) && !chosen[item.Handle] {
			plan.others[item.Handle] = item.State
		}
	}
	if len(plan.LeftOut) == len(items) && len(items) > 0 {
		return plan, fmt.Errorf("cannot remove %q: %w", plan.LeftOut[0].Name, plan.LeftOut[0].Err)
	}
	err := d.finish(&plan)
	plan.sortOutcomes()
	return plan, err
}

// readFrom reports whether an entry is read from an artifact, and not only decided by it. A word that keeps it off, in
// launchd's database for example, stays: what puts the entry back finds it off.
func readFrom(item *location.Item, a artifact.Artifact) bool {
	if a.Kind != artifact.ValueArtifact {
		return a.Name == item.Source.Path
	}
	key, name := a.Value()
	return strings.EqualFold(key, item.Source.Path) && strings.EqualFold(name, item.Source.Key)
}

// overlay is a draft with edits over it.
type overlay struct {
	draft *draft
	edits []location.Edit
}

// Image is the image that the edits give an artifact, else the one of the draft.
func (o overlay) Image(a artifact.Artifact) (artifact.Image, error) {
	for _, edit := range o.edits {
		if edit.Artifact == a {
			return edit.Image, nil
		}
		if value, ok := edit.Image.ValueIn(edit.Artifact, a); ok {
			return value, nil // of a key that was taken away whole
		}
	}
	return o.draft.Image(a)
}

// revived are the edits that bring an entry back which was removed while it was disabled, and turn it on: where what
// turned it off cannot simply be taken back, because it is shared with others, its location reads it as it would be,
// and its own switch turns it on. ok is false if no removal that stands took it away.
func (e *Engine) revived(d *draft, item *location.Item, want location.Want) (edits []location.Edit, ok bool,
	err error) {
	changes, err := d.disables()
	if err != nil {
		return nil, false, err
	}
	for _, c := range changes {
		if c.Kind != Remove {
			continue
		}
		full, err := e.journal(d, c.ID)
		if err != nil {
			return nil, false, err
		}
		steps := full.steps[item.Handle]
		if len(steps) == 0 {
			continue
		}
		own := item.Can.Part
		for _, k := range steps {
			s := full.Steps[k]
			current, err := d.Image(s.Artifact)
			switch {
			case err != nil:
				return nil, false, err
			case e.Machine.Same(s.Artifact, current, s.Before): // with another entry that is read from it
				edits = append(edits, location.Edit{Artifact: s.Artifact, Image: s.Before})
			case (own == nil || own.In() != s.Artifact || len(s.Handles) == 1) && e.Machine.Same(s.Artifact, current,
				s.After):
				edits = append(edits, location.Edit{Artifact: s.Artifact, Image: s.Before})
			case own != nil && own.In() == s.Artifact:
				image, err := own.Carry(d, current, s.Before, want.Now)
				if err != nil {
					return nil, false, err
				}
				edits = append(edits, location.Edit{Artifact: s.Artifact, Image: image})
			default:
				return nil, false, fmt.Errorf("%w: %s was changed since it was removed by %s", location.ErrNoSwitch,
					autostart.Text(s.Artifact.String()), c.Name())
			}
		}
		images := map[artifact.Artifact]artifact.Image{}
		for _, edit := range edits {
			images[edit.Artifact] = edit.Image
		}
		for _, back := range inventory.With(e.Machine, images, item.Location) {
			if back.Handle != item.Handle || back.State == want.State {
				continue
			}
			on, err := back.Plan(overlay{d, edits}, want)
			if err != nil {
				return nil, false, fmt.Errorf("%w; lockback undo %s brings it back disabled, as it was", err, c.Name())
			}
			return replace(edits, on), true, nil
		}
		return edits, true, nil
	}
	return nil, false, nil
}

// replace puts later edits in place of earlier ones of the same artifacts.
func replace(edits, later []location.Edit) []location.Edit {
	for _, edit := range later {
		edits = slices.DeleteFunc(edits, func(e location.Edit) bool { return e.Artifact == edit.Artifact })
	}
	return append(edits, later...)
}

// inside reports whether an artifact lies in a key that the plan takes away whole.
func (e *Engine) inside(d *draft, a artifact.Artifact) bool {
	for dir, ok := a.Parent(); ok; dir, ok = dir.Parent() {
		if image, planned := d.after[artifact.RegistryTree(dir.Name)]; planned && image.Kind == artifact.Absent {
			return true
		}
	}
	return false
}

// Taken reports whether an entry was taken away by a change, so that only the record shows it.
func Taken(item *location.Item) bool {
	_, taken := item.Switcher.(removed)
	return taken
}

// erase are the edits that take an entry away.
func (e *Engine) erase(d *draft, item *location.Item) ([]location.Edit, error) {
	if Taken(item) {
		return nil, errRemoved
	}
	own := item.Can.Part
	if err := part.Known(own); err != nil {
		return nil, err
	}
	var edits []location.Edit
	if own != nil && readFrom(item, own.In()) {
		image, err := d.Image(own.In())
		if err != nil {
			return nil, err
		}
		without, had, err := own.Without(image, e.now())
		if err != nil {
			return nil, err
		}
		if had {
			edits = append(edits, location.Edit{Artifact: own.In(), Image: without})
		}
	}
	for _, a := range e.itself(d, item) {
		if own != nil && own.In() == a {
			continue // others have a share in it
		}
		image, err := d.Image(a)
		switch {
		case err != nil:
			return nil, err
		case image.Kind == artifact.Absent:
			if _, planned := d.after[a]; !planned {
				continue
			} // it goes with another entry that is read from it
		case image.Kind == artifact.Folder:
			return nil, errIsFolder
		}
		edits = append(edits, location.Edit{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}})
	}
	if len(edits) == 0 {
		return nil, errNoErase
	}
	return edits, nil
}

// alongside reports whether a file belongs to the one that an entry is read from: a drop-in of it, a link to it, or the
// same name in another of its places, where a file that is taken away would uncover it. What lies in homes belongs to
// entries of their users only.
func (e *Engine) alongside(d *draft, a artifact.Artifact, item *location.Item) bool {
	source := item.Source.Path
	image, err := d.peek(a)
	if err != nil || item.User == "" && e.inHome(a.Name) || item.User != "" && !e.inHome(a.Name) {
		return false
	}
	switch image.Kind {
	case artifact.Symlink:
		return path.Base(image.Target) == path.Base(source) || path.Base(a.Name) == path.Base(source)
	case artifact.Regular:
		return strings.HasPrefix(a.Name, source+".d/") || path.Base(a.Name) == path.Base(source)
	}
	return false
}

// inHome reports whether a file lies in somebody's home. That of root counts as any other.
func (e *Engine) inHome(name string) bool {
	return slices.ContainsFunc(e.Machine.Users, func(u account.User) bool {
		return len(u.Home) > 1 && strings.HasPrefix(name, u.Home) && len(name) > len(u.Home) &&
			strings.ContainsRune(`/\`, rune(name[len(u.Home)]))
	})
}

// itself are the artifacts that are the entry and nothing else: what it is read from, drop-ins of that, links to it,
// and what its switch would write, as far as that exists.
func (e *Engine) itself(d *draft, item *location.Item) []artifact.Artifact {
	if eraser := item.Can.Erase; eraser != nil {
		return eraser.Erases()
	}
	source, key := item.Source.Path, item.Source.Key
	var all []artifact.Artifact
	add := func(a artifact.Artifact) {
		if !slices.Contains(all, a) {
			all = append(all, a)
		}
	}
	for _, a := range item.Artifacts() {
		is := false
		switch a.Kind {
		case artifact.FileArtifact:
			is = a.Name == source || e.alongside(d, a, item)
		case artifact.ValueArtifact:
			k, name := a.Value()
			is = strings.EqualFold(k, source) && strings.EqualFold(name, key)
		case artifact.TreeArtifact:
			is = strings.EqualFold(a.Name, source)
		case artifact.LoginItemArtifact:
			is = true
		}
		if is {
			add(a)
		}
	}
	for _, state := range []autostart.State{autostart.Disabled, autostart.Enabled} {
		edits, err := item.Plan(d, location.Want{State: state, Now: e.now()})
		if err != nil {
			continue // it has no such state
		}
		for _, edit := range edits {
			if image, err := d.peek(edit.Artifact); err == nil && !image.Container() && image.Kind != artifact.Absent &&
				slices.Contains(item.Artifacts(), edit.Artifact) {
				add(edit.Artifact)
			}
		}
	}
	return all
}
