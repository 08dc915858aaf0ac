// Package change makes changes to a machine so that nothing is lost: it plans
// them, writes the plan down before the first step, applies it, believes only
// what it reads back, and takes it back.
//
// The package knows artifacts and images only. What a crontab or a unit is, it
// does not know; locations tell it which image to make.
//
// The journal is the plan itself: all images, before and after, are flushed to
// the record before the first artifact is touched. How far an interrupted change
// got needs no marks of its own, because each artifact shows whether it has its
// image of before or of after.
package change

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/program"
)

// Errors that callers decide on.
var (
	ErrConflict    = errors.New("the machine changed since the plan was made")
	ErrInterrupted = errors.New("an interrupted change is waiting; run lockback recover")
	ErrNothing     = errors.New("nothing to do")
	ErrOtherwise   = errors.New("reading it back gave something else")
	ErrStopped     = errors.New("stopped by the user")
)

// Engine changes one machine and keeps its record.
type Engine struct {
	Machine *machine.Machine
	Record  Record
	Memory  *program.Memory  // of what was found of programs; may be nil
	Now     func() time.Time // time.Now when nil
	// Context, where it is set, ends a change that is being applied: it is taken
	// back at the next step.
	Context context.Context
	// At is called before each point at which a crash would leave a different
	// machine behind. Tests crash there.
	At func(point string)
}

// Plan is an ordered list of steps with what a person should know beforehand.
type Plan struct {
	Kind     Kind
	Undoes   int
	Steps    []Step
	Folders  []Folder
	Handles  []string // of the entries that are to change
	Warnings []string
	// Trial is after how many days the change is called to mind, where it is one that is tried;
	// [DefaultTrial] where it is zero.
	Trial int
	// Outcomes is how the plan leaves its entries, as far as that is one state for everyone.
	Outcomes []Outcome
	// For is the user for whom alone entries of everyone are switched; empty: for all.
	For string
	// LeftOut are the entries, or artifacts, that are not part of the plan because they
	// cannot be read or written; all others are.
	LeftOut []LeftOut
	// Spared are the entries that stay on because a protected one would stop with them, and Effects is what stops or
	// starts besides the entries of the plan; of plans of [Engine.Decide] only.
	Spared  []Spared
	Effects []inventory.SideEffect
	// expect tells how an entry will be found; nil if nobody asks any more.
	expect func(handle string) Expected
	// want are the entries that must be found in a state afterwards, with that.
	want map[string]autostart.State
	// starts are the programs that entries which the plan makes must start.
	starts map[string]string
	// gone are the entries that must not be found any more, and others how all that are not to change must be found.
	gone   map[string]bool
	others map[string]autostart.State
	// taken are the entries that nothing on the machine will show once they are
	// off: the record does.
	taken map[string]bool
}

// Expected is how a plan will leave an entry.
type Expected struct {
	// State is empty if the entry will not be there.
	State autostart.State
	// Removed says that only the record will show it.
	Removed bool
	// Entry is what the record knows of it, for those that are not on the machine; nil where it
	// knows nothing.
	Entry *autostart.Entry
}

// Expect tells how the plan will leave an entry of its Handles.
func (p Plan) Expect(handle string) Expected {
	if p.expect == nil {
		return Expected{}
	}
	return p.expect(handle)
}

// sortOutcomes tells how the plan leaves its entries, in the order of their handles.
func (p *Plan) sortOutcomes() {
	by := map[autostart.State][]string{}
	for _, h := range p.Handles {
		state, all := p.want[h]
		switch expected := p.Expect(h); {
		case expected.Removed:
			state = Removed
		case p.want == nil:
			state = expected.State
		case !all: // it was turned for one user only
			continue
		}
		by[state] = append(by[state], h)
	}
	for _, state := range []autostart.State{Removed, autostart.Enabled, autostart.Disabled, ""} {
		if handles := by[state]; len(handles) > 0 {
			p.Outcomes = append(p.Outcomes, Outcome{state, slices.Compact(slices.Sorted(slices.Values(handles)))})
		}
	}
}

// Takes reports whether the plan removes what nothing on the machine will show afterwards: then
// only the record holds it.
func (p Plan) Takes() bool { return len(p.taken) > 0 }

// Forget lets go of what only [Plan.Expect] needs: of a large machine that is much.
func (p *Plan) Forget() { p.expect = nil }

// LeftOut is something that a plan leaves as it is, and why.
type LeftOut struct {
	Handle string // empty if it is no entry
	Name   string
	Err    error
}

// wholly reports whether a cause concerns the machine, or the rights of this process, and
// not just one artifact: then nothing is done, rather than half of it.
func wholly(err error) bool {
	return errors.Is(err, files.ErrNeedsRights) || errors.Is(err, files.ErrReadOnly) ||
		errors.Is(err, machine.ErrHibernated) || errors.Is(err, machine.ErrNoAccounts) ||
		errors.Is(err, files.ErrRanOut)
}

func (e *Engine) now() time.Time {
	if e.Now != nil {
		return e.Now()
	}
	return time.Now()
}

// stopped is the cause for which a change must not go on, if there is one.
func (e *Engine) stopped() error {
	if e.Context == nil || e.Context.Err() == nil {
		return nil
	}
	return ErrStopped
}

func (e *Engine) at(point string) {
	if e.At != nil {
		e.At(point)
	}
}

// Switch plans to bring entries to a state, whatever stops or starts with them: see [Engine.Decide]. Those that cannot
// be, for whatever reason, are left out and named in the plan; where that is all of them, it fails with the first
// reason.
func (e *Engine) Switch(items []*location.Item, want location.Want) (Plan, error) {
	if want.State == autostart.Enabled {
		return e.decide(e.newDraft(), nil, items, want)
	}
	return e.decide(e.newDraft(), items, nil, want)
}

func (e *Engine) decide(d *draft, off, on []*location.Item, want location.Want) (Plan, error) {
	plan := Plan{Kind: Review, want: map[string]autostart.State{}, taken: map[string]bool{}}
	states := make(map[string]autostart.State, len(off)+len(on))
	for _, item := range off {
		states[item.Handle] = autostart.Disabled
	}
	for _, item := range on {
		states[item.Handle] = autostart.Enabled
	}
	plan.expect = func(handle string) Expected { return Expected{State: states[handle]} }
	switch {
	case len(on) == 0:
		plan.Kind = Disable
	case len(off) == 0:
		plan.Kind = Enable
	}
	if want.User != nil {
		plan.For = want.User.Name
	}
	if want.Now.IsZero() {
		want.Now = e.now()
	}
	for _, some := range []struct {
		items []*location.Item
		state autostart.State
	}{{off, autostart.Disabled}, {on, autostart.Enabled}} {
		want.State = some.state
		e.switchItems(d, &plan, some.items, want)
	}
	for _, item := range off {
		if item.Loses != "" && !slices.ContainsFunc(plan.LeftOut,
			func(l LeftOut) bool { return l.Handle == item.Handle }) {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("of %q, %s", item.Name, item.Loses))
		}
	}
	if n := len(off) + len(on); len(plan.LeftOut) == n && n > 0 {
		left, verb := plan.LeftOut[0], Disable
		if states[left.Handle] == autostart.Enabled {
			verb = Enable
		}
		return plan, fmt.Errorf("cannot %s %q: %w", verb, left.Name, left.Err)
	}
	err := d.finish(&plan)
	plan.sortOutcomes()
	return plan, err
}

// switchItems adds the edits for entries to the plan, those that share an artifact in one
// pass, and leaves out what cannot be switched.
func (e *Engine) switchItems(d *draft, plan *Plan, items []*location.Item, want location.Want) {
	groups := map[artifact.Artifact][]*location.Item{}
	for _, item := range items {
		edits, folders, remembered, err := e.ownEdits(d, item, want)
		if group := item.Can.Group; group != nil && !remembered {
			if _, err := item.Wanted(want); err != nil {
				plan.leave(item, err)
				continue
			}
			a := group.Group()
			groups[a] = append(groups[a], item)
			continue
		}
		e.adopt(d, plan, []*location.Item{item}, want, edits, folders, err)
	}
	for _, item := range items {
		g := item.Can.Group
		if g == nil || len(groups[g.Group()]) == 0 {
			continue
		}
		group := groups[g.Group()]
		delete(groups, g.Group())
		switchers := make([]location.Switcher, len(group))
		for k, item := range group {
			switchers[k] = item.Switcher
		}
		edits, errs := g.PlanGroup(d, limited(want, item), switchers)
		var set []*location.Item
		for k, item := range group {
			if errs[k] != nil {
				plan.leave(item, errs[k])
			} else {
				set = append(set, item)
			}
		}
		if len(set) > 0 {
			e.adopt(d, plan, set, want, edits, nil, nil)
		}
	}
}

func (p *Plan) leave(item *location.Item, err error) {
	p.LeftOut = append(p.LeftOut, LeftOut{item.Handle, item.Name, err})
}

// limited is a want for one user, where the entry is not that user's alone anyway.
func limited(want location.Want, item *location.Item) location.Want {
	if want.User != nil && item.User == want.User.Name {
		want.User = nil
	}
	return want
}

// ownEdits are the edits that switch one entry: the ones that the record remembers, or
// those of its switch. Of entries that share an artifact only the former.
func (e *Engine) ownEdits(d *draft, item *location.Item, want location.Want) (edits []location.Edit, folders []Folder,
	remembered bool, err error) {
	want = limited(want, item)
	if d.back != nil {
		if edits, ok := d.back(item.Handle, want.State); ok {
			return edits, nil, true, nil
		}
	}
	if want.State == autostart.Enabled && want.User == nil {
		if edits, folders, remembered = e.remembered(d, item.Handle); remembered {
			return edits, folders, true, nil
		}
		if Taken(item) {
			if edits, ok, err := e.revived(d, item, want); ok || err != nil {
				return edits, nil, true, err
			}
		}
	}
	if item.Can.Group == nil {
		edits, err = item.Plan(d, want)
	}
	return edits, nil, false, err
}

// withContainers puts before the edits those that make the folders and keys which are
// missing above them. A folder belongs to the owner of what goes into it; people's folders are
// for them only, as the XDG Base Directory Specification defines it.
func (d *draft) withContainers(edits []location.Edit) ([]location.Edit, error) {
	var all []location.Edit
	planned := map[artifact.Artifact]bool{}
	for _, edit := range edits {
		planned[edit.Artifact] = true
		if edit.Image.Kind != artifact.Absent {
			missing, err := d.missing(edit.Artifact, planned)
			if err != nil {
				return nil, err
			}
			for _, dir := range slices.Backward(missing) {
				planned[dir] = true
				all = append(all, location.Edit{Artifact: dir, Image: container(dir, edit.Image)})
			}
		}
		all = append(all, edit)
	}
	return all, nil
}

// missing lists the containers above an artifact that are neither there nor planned, the
// nearest first.
func (d *draft) missing(a artifact.Artifact, planned map[artifact.Artifact]bool) ([]artifact.Artifact, error) {
	var all []artifact.Artifact
	for dir, ok := a.Parent(); ok; dir, ok = dir.Parent() {
		if planned[dir] {
			return all, nil
		}
		i, err := d.Image(dir)
		if err != nil || i.Kind != artifact.Absent {
			return all, err
		}
		all = append(all, dir)
	}
	if len(all) > 0 {
		return nil, fmt.Errorf("%w: the machine has no place for %s", location.ErrNoSwitch, autostart.Text(a.String()))
	}
	return nil, nil
}

// container is the image of a container to make for what has the other image.
func container(dir artifact.Artifact, inside artifact.Image) artifact.Image {
	switch {
	case dir.Kind == artifact.KeyArtifact:
		return artifact.NewKey()
	case inside.UID > 0:
		return artifact.NewFolder(0o700, inside.UID, inside.GID)
	}
	return artifact.NewFolder(0o755, 0, 0)
}

// adopt takes edits into the plan for the entries that they switch, or leaves those out.
func (e *Engine) adopt(d *draft, plan *Plan, items []*location.Item, want location.Want, edits []location.Edit,
	folders []Folder, err error) {
	if err == nil {
		edits, err = d.withContainers(edits)
	}
	for _, edit := range edits {
		if err == nil {
			if err = d.possible(edit.Artifact, edit.Image); err != nil {
				err = fmt.Errorf("%s: %w", autostart.Text(edit.Artifact.String()), err)
			}
		}
	}
	if err != nil {
		for _, item := range items {
			plan.leave(item, err)
		}
		return
	}
	for _, f := range folders {
		d.folders[f.Artifact] = f.Before
	}
	for _, edit := range edits {
		for _, item := range items {
			if err := d.set(edit.Artifact, edit.Image, item.Handle); err != nil {
				plan.leave(item, err) // it was readable a moment ago
			}
		}
	}
	if len(edits) == 0 {
		return
	}
	for _, item := range items {
		plan.Handles = append(plan.Handles, item.Handle)
		if limited(want, item).User == nil {
			plan.want[item.Handle] = want.State
			if item.Can.Removes {
				plan.taken[item.Handle] = true
			}
		}
	}
}

// remembered returns the edits that take back the last change that switched the
// entry off, where it was the entry's alone and all its artifacts still are as
// it left them: so the entry is turned on exactly as it was, to the time of
// its files. Where it was removed after it was turned off, both are taken back.
func (e *Engine) remembered(d *draft, handle string) ([]location.Edit, []Folder, bool) {
	changes, err := d.disables()
	if err != nil {
		return nil, nil, false
	}
	var edits []location.Edit
	var folders []Folder
	for _, c := range changes {
		full, err := e.journal(d, c.ID)
		if err != nil {
			return nil, nil, false
		}
		var own []location.Edit
		for _, k := range full.steps[handle] {
			s := full.Steps[k]
			if s.MakesFolder() {
				continue // a folder that was made may hold other things by now
			}
			current, err := overlay{d, edits}.Image(s.Artifact)
			if err != nil || len(s.Handles) > 1 || !e.Machine.Same(s.Artifact, current, s.After) {
				return nil, nil, false
			}
			own = append(own, location.Edit{Artifact: s.Artifact, Image: s.Before})
		}
		if len(own) == 0 {
			continue
		}
		edits, folders = over(edits, own), append(folders, full.Folders...)
		switch {
		case c.Kind == Disable && !d.offAgain(handle), full.before(handle).State == autostart.Enabled:
			return edits, folders, true
		case c.Kind != Remove && c.Kind != Disable:
			return nil, nil, false // that change turned it on
		}
	}
	return nil, nil, false
}

// over puts earlier edits over later ones, also where they are of a value in a key that was taken away whole.
func over(edits, earlier []location.Edit) []location.Edit {
	for _, edit := range earlier {
		placed := false
		for k := range edits {
			if edits[k].Artifact == edit.Artifact {
				edits[k].Image, placed = edit.Image, true
			} else if image, ok := edits[k].Image.WithValueIn(edits[k].Artifact, edit.Artifact, edit.Image); ok {
				edits[k].Image, placed = image, true
			}
		}
		if !placed {
			edits = append(edits, edit)
		}
	}
	return edits
}
