// Package change makes changes to a machine so that nothing is lost: it plans
// them, writes the plan down before the first step, applies it, believes only
// what it reads back, and takes it back.
//
//	e := &change.Engine{Machine: m, Store: st}
//	plan, err := e.Switch(inv, items, location.Want{State: autostart.Disabled})
//	done, err := e.Apply(plan, "before the holidays")
//
// The package knows artifacts and images only. What a crontab or a unit is, it
// does not know; locations tell it which image to bring about.
//
// The journal is the plan itself: all images, before and after, are flushed to
// the record before the first artifact is touched. How far an interrupted change
// got needs no marks of its own, for each artifact shows whether it has its
// image of before or of after.
package change

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
)

// Errors that callers decide on.
var (
	ErrConflict    = errors.New("the machine is not as the plan saw it")
	ErrInterrupted = errors.New("an interrupted change waits for recover")
	ErrNothing     = errors.New("there is nothing to do")
	ErrStopped     = errors.New("stopped by the user")
)

// Engine changes one machine and keeps its record.
type Engine struct {
	Machine *machine.Machine
	Store   *store.Store
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
	Kind     store.Kind
	Undoes   int
	Steps    []store.Step
	Folders  []store.Folder
	Handles  []string // of the entries that are to change
	Effects  []string // when the change is seen
	Warnings []string
	// want are the states that the entries must be found in afterwards.
	want map[string]autostart.State
	// taken are the entries that nothing on the machine will show once they are
	// off: the record does.
	taken map[string]bool
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

// draft collects edits; later ones see the images that earlier ones want.
type draft struct {
	machine *machine.Machine
	before  map[machine.Artifact]machine.Image
	after   map[machine.Artifact]machine.Image
	handles map[machine.Artifact][]string
	order   []machine.Artifact
	folders map[machine.Artifact]machine.Image // earlier images of folders, for their times
	// disables are the changes that switched something off and stand, the newest
	// first; each is read from the record once, however many entries ask.
	disables func() ([]store.Change, error)
	journals map[int]store.Change
}

func (e *Engine) newDraft() *draft {
	return &draft{machine: e.Machine, folders: map[machine.Artifact]machine.Image{}, before: map[machine.Artifact]machine.Image{}, after: map[machine.Artifact]machine.Image{},
		handles: map[machine.Artifact][]string{}, disables: sync.OnceValues(e.disables), journals: map[int]store.Change{}}
}

// disables lists the changes that switched something off and stand, the newest
// first, without their journals.
func (e *Engine) disables() ([]store.Change, error) {
	if e.Store == nil {
		return nil, nil
	}
	changes, err := e.Store.Changes(e.Machine.ID)
	changes = slices.DeleteFunc(changes, func(c store.Change) bool { return c.Kind != store.Disable || c.State != store.Done })
	slices.Reverse(changes)
	return changes, err
}

// Image is the image of the artifact as the plan has it so far.
func (d *draft) Image(a machine.Artifact) (machine.Image, error) {
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

func (d *draft) set(a machine.Artifact, want machine.Image, handle string) error {
	if _, err := d.Image(a); err != nil {
		return err
	}
	if !d.machine.KeepsOwners && want.Kind != machine.Absent {
		want.UID, want.GID = -1, -1 // all is the copier's, and stays so
	}
	if _, planned := d.after[a]; !planned {
		d.order = append(d.order, a)
	}
	if handle != "" && !slices.Contains(d.handles[a], handle) {
		d.handles[a] = append(d.handles[a], handle)
	}
	d.after[a] = want
	return nil
}

// finish orders the steps: folders are made before what goes into them, and
// removed after what was in them.
func (d *draft) finish(plan *Plan) error {
	rank := func(s store.Step) int {
		switch {
		case s.MakesFolder():
			return 0
		case s.Before.Container() && s.After.Kind == machine.Absent:
			return 2
		}
		return 1
	}
	for _, a := range d.order {
		if before, after := d.before[a], d.after[a]; !d.machine.Same(a, before, after) {
			plan.Steps = append(plan.Steps, store.Step{Handles: d.handles[a], Artifact: a, Before: before, After: after})
		}
	}
	slices.SortStableFunc(plan.Steps, func(a, b store.Step) int {
		byDepth := 0
		switch rank(a) {
		case 0:
			byDepth = cmp.Compare(a.Artifact.Name, b.Artifact.Name)
		case 2:
			byDepth = cmp.Compare(b.Artifact.Name, a.Artifact.Name)
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), byDepth)
	})
	seen := map[machine.Artifact]bool{}
	add := func(dir machine.Artifact, ok bool) error {
		if !ok || seen[dir] {
			return nil
		}
		seen[dir] = true
		before, err := d.machine.Image(dir)
		if err == nil && before.Container() {
			plan.Folders = append(plan.Folders, store.Folder{Artifact: dir, Before: before, After: d.folders[dir]})
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

// Switch plans to bring entries to a state. Entries that are in it already, or
// that no safe switch exists for, are errors: the caller chooses.
func (e *Engine) Switch(items []*location.Item, want location.Want) (Plan, error) {
	plan := Plan{Kind: store.Disable, want: map[string]autostart.State{}, taken: map[string]bool{}}
	if want.State == autostart.Enabled {
		plan.Kind = store.Enable
	}
	if want.Now.IsZero() {
		want.Now = e.now()
	}
	d := e.newDraft()
	for _, item := range items {
		if err := e.switchItem(d, &plan, item, want); err != nil {
			return plan, fmt.Errorf("cannot %s %q: %w", plan.Kind, item.Name, err)
		}
	}
	return plan, d.finish(&plan)
}

// switchItem adds the edits for one entry to the plan.
func (e *Engine) switchItem(d *draft, plan *Plan, item *location.Item, want location.Want) error {
	if want.User != nil && item.User == want.User.Name {
		want.User = nil // it is that person's alone
	}
	var edits []location.Edit
	remembered := false
	if want.State == autostart.Enabled && want.User == nil {
		var folders []store.Folder
		edits, folders, remembered = e.remembered(d, item.Handle)
		for _, f := range folders {
			d.folders[f.Artifact] = f.Before
		}
	}
	if !remembered {
		var err error
		if edits, err = item.Set(d, want); err != nil {
			return err
		}
	}
	for _, edit := range edits {
		if err := d.set(edit.Artifact, edit.Image, item.Handle); err != nil {
			return err
		}
	}
	if len(edits) > 0 {
		plan.Handles = append(plan.Handles, item.Handle)
		if !slices.Contains(plan.Effects, item.Effect) {
			plan.Effects = append(plan.Effects, item.Effect)
		}
		if want.User == nil {
			plan.want[item.Handle] = want.State
			plan.taken[item.Handle] = item.Switch == autostart.Park || item.Switch == autostart.Trim
		}
	}
	return nil
}

// remembered returns the edits that take back the last change that switched the
// entry off, where it was the entry's alone and all its artifacts still are as
// it left them: so the entry is switched on exactly as it was, to the time of
// its files.
func (e *Engine) remembered(d *draft, handle string) ([]location.Edit, []store.Folder, bool) {
	changes, err := d.disables()
	if err != nil {
		return nil, nil, false
	}
	for _, c := range changes {
		full, known := d.journals[c.ID]
		if !known {
			if full, err = e.Store.Change(c.ID); err != nil {
				return nil, nil, false
			}
			d.journals[c.ID] = full
		}
		var edits []location.Edit
		for _, s := range full.Steps {
			if !slices.Contains(s.Handles, handle) || s.MakesFolder() {
				continue // a folder that was made may hold other things by now
			}
			current, err := d.Image(s.Artifact)
			if err != nil || len(s.Handles) > 1 || !e.Machine.Same(s.Artifact, current, s.After) {
				return nil, nil, false
			}
			edits = append(edits, location.Edit{Artifact: s.Artifact, Image: s.Before})
		}
		if len(edits) > 0 {
			return edits, full.Folders, true
		}
	}
	return nil, nil, false
}

// Undo plans to take a change back. Artifacts that were changed since are a
// conflict.
func (e *Engine) Undo(c store.Change) (Plan, error) {
	plan := Plan{Kind: store.Undo, Undoes: c.ID}
	var conflicts []string
	for _, s := range slices.Backward(c.Steps) {
		current, err := e.Machine.Image(s.Artifact)
		if err != nil {
			return plan, err
		}
		if !e.Machine.Same(s.Artifact, current, s.After) {
			conflicts = append(conflicts, fmt.Sprintf("%s is now %s", s.Artifact, current))
			continue
		}
		plan.Steps = append(plan.Steps, store.Step{Handles: s.Handles, Artifact: s.Artifact, Before: s.After, After: s.Before})
		for _, h := range s.Handles {
			if !slices.Contains(plan.Handles, h) {
				plan.Handles = append(plan.Handles, h)
			}
		}
	}
	if len(conflicts) > 0 {
		return plan, fmt.Errorf("%w: %s was changed since by something else: %s; use restore --only for the entries you want back",
			ErrConflict, c.Name(), strings.Join(conflicts, "; "))
	}
	for _, f := range c.Folders {
		before, err := e.Machine.Image(f.Artifact)
		if err != nil {
			return plan, err
		}
		if before.Container() {
			plan.Folders = append(plan.Folders, store.Folder{Artifact: f.Artifact, Before: before, After: f.Before})
		}
	}
	if len(plan.Steps) == 0 {
		return plan, ErrNothing
	}
	return plan, nil
}

// Newcomers says what a restore does with entries that came since the snapshot.
type Newcomers string

// What a restore can do with newcomers.
const (
	KeepNewcomers    Newcomers = "keep"
	DisableNewcomers Newcomers = "disable"
)

// RestoreOptions limit a restore.
type RestoreOptions struct {
	// Only names the handles to bring back; nil means everything.
	Only      map[string]bool
	Newcomers Newcomers
}

// Restore plans to bring back the state of a snapshot.
func (e *Engine) Restore(inv inventory.Inventory, snap *snapshot.Snapshot, opt RestoreOptions) (Plan, error) {
	plan := Plan{Kind: store.Restore}
	r := restore{d: e.newDraft(), plan: &plan, inv: inv, now: e.now(), opt: opt,
		current: map[string]*location.Item{}, recorded: map[string]snapshot.Recorded{}, owners: map[machine.Artifact][]string{}}
	var err error
	if r.images, err = snap.Images(); err != nil {
		return plan, err
	}
	entries, err := snap.Entries()
	if err != nil {
		return plan, err
	}
	for _, item := range inv.Items {
		r.current[item.Handle] = item
	}
	for _, rec := range entries {
		r.recorded[rec.Handle] = rec
		for _, a := range rec.Artifacts {
			r.owners[a] = append(r.owners[a], rec.Handle)
		}
	}
	for _, item := range inv.Items {
		if _, ok := r.recorded[item.Handle]; !ok {
			r.newcomers = append(r.newcomers, item)
		}
	}
	if opt.Only == nil {
		err = r.all()
	} else {
		err = r.some(entries)
	}
	if err == nil && opt.Newcomers == DisableNewcomers {
		err = r.disableNewcomers(e, &plan)
	}
	if err != nil {
		return plan, err
	}
	err = r.d.finish(&plan)
	if err == nil {
		err = r.otherFolders()
	}
	for k, f := range plan.Folders {
		if earlier, ok, ierr := r.images.Image(f.Artifact); ierr == nil && ok {
			plan.Folders[k].After = earlier
		}
	}
	r.warn()
	return plan, err
}

type restore struct {
	d         *draft
	plan      *Plan
	inv       inventory.Inventory
	now       time.Time
	opt       RestoreOptions
	images    *snapshot.Images
	current   map[string]*location.Item
	recorded  map[string]snapshot.Recorded
	owners    map[machine.Artifact][]string
	newcomers []*location.Item
	folders   []machine.Artifact
}

// lined reports whether an entry is one line of a file that others share.
func lined(e autostart.Entry) bool { return e.Switch == autostart.Comment && e.Source.Line > 0 }

// all brings every artifact of the snapshot back. In files of lines, the lines
// of newcomers are kept at the end.
func (r *restore) all() error {
	var made []machine.Artifact                      // folders that the snapshot did not have
	lines := map[machine.Artifact][]*location.Item{} // newcomers that are lines, by their file
	for _, n := range r.newcomers {
		if lined(n.Entry) {
			for _, a := range n.Artifacts() {
				lines[a] = append(lines[a], n)
			}
		}
	}
	for _, a := range r.images.Artifacts() {
		want, _, err := r.images.Image(a)
		if err != nil {
			return err
		}
		if want.Kind == machine.Folder {
			r.folders = append(r.folders, a) // its time comes back, whatever else does
		}
		if len(r.owners[a]) == 0 && want.Kind != machine.Absent || r.d.machine.Managed(a) {
			continue // a folder that is known for its times only
		}
		current, err := r.d.Image(a)
		if err != nil {
			return err
		}
		if r.d.machine.Same(a, current, want) {
			continue
		}
		for _, n := range r.newcomers {
			// What is said of a newcomer stays said.
			if m, ok := n.Switcher.(location.Merger); ok && m.Shared() == a {
				if want, err = m.Merge(want, current, r.now); err != nil {
					return err
				}
			}
		}
		if want.Kind == machine.Regular {
			for _, n := range lines[a] {
				if want, err = location.AppendLine(want, current, n.Source.Line, r.now); err != nil {
					return err
				}
				r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%q came to %s since the snapshot and is kept, at the end of the file", n.Name, a))
			}
		}
		if current.Container() && want.Kind == machine.Absent {
			made = append(made, a)
			continue
		}
		if err := r.bring(a, want, r.handleFor(a)); err != nil {
			return err
		}
		r.credit(a)
	}
	for _, dir := range slices.Backward(made) { // the deepest first
		if err := r.emptied(dir); err != nil {
			return err
		}
	}
	return nil
}

// credit names all entries that a planned step brings back, where they share the
// artifact.
func (r *restore) credit(a machine.Artifact) {
	if _, planned := r.d.after[a]; !planned {
		return
	}
	for _, h := range r.owners[a] {
		now, there := r.current[h]
		if !there || now.State == r.recorded[h].State {
			continue
		}
		if !slices.Contains(r.d.handles[a], h) {
			r.d.handles[a] = append(r.d.handles[a], h)
		}
		if !slices.Contains(r.plan.Handles, h) {
			r.plan.Handles = append(r.plan.Handles, h)
		}
	}
}

// otherFolders adds the folders that no step touches, where they hold the same
// names as in the snapshot at another time: what was done and taken back since
// shows in their times only.
func (r *restore) otherFolders() error {
	planned := map[machine.Artifact]bool{}
	for _, f := range r.plan.Folders {
		planned[f.Artifact] = true
	}
	for _, a := range r.folders {
		if planned[a] {
			continue
		}
		want, _, err := r.images.Image(a)
		if err != nil {
			return err
		}
		now, err := r.d.machine.Image(a)
		if err != nil {
			return err
		}
		if now.Kind == machine.Folder && now.Names == want.Names && !now.ModTime.Equal(want.ModTime) {
			r.plan.Folders = append(r.plan.Folders, store.Folder{Artifact: a, Before: now, After: want})
		}
	}
	return nil
}

// bring plans one artifact. Folders are removed only when nothing else is in
// them, and never turned into something else.
func (r *restore) bring(a machine.Artifact, want machine.Image, handle string) error {
	current, err := r.d.Image(a)
	if err != nil || r.d.machine.Same(a, current, want) {
		return err
	}
	switch {
	case want.Kind == machine.Special || current.Kind == machine.Special:
		r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s is a device or a socket, in the snapshot or now; it is left as it is", a))
		return nil
	case current.Container() && want.Kind == machine.Absent:
		return nil // looked at once the files are planned, see emptied
	case current.Kind == machine.Folder && want.Kind != machine.Folder:
		r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s is a folder now and was %s; it is left as it is", a, want))
		return nil
	}
	if want.Kind != machine.Absent {
		if err := r.parents(a, handle); err != nil {
			return err
		}
	}
	if err := r.d.set(a, want, handle); err != nil {
		return err
	}
	if handle != "" && !slices.Contains(r.plan.Handles, handle) {
		r.plan.Handles = append(r.plan.Handles, handle)
	}
	if dir, ok := a.Parent(); ok {
		return r.emptied(dir)
	}
	return nil
}

// parents plans the folders above an artifact that are missing now, as the
// snapshot knows them.
func (r *restore) parents(a machine.Artifact, handle string) error {
	for dir, ok := a.Parent(); ok; dir, ok = dir.Parent() {
		now, err := r.d.Image(dir)
		if err != nil || now.Kind != machine.Absent {
			return err
		}
		want, ok, err := r.images.Image(dir)
		if err != nil {
			return err
		}
		if !ok || !want.Container() {
			want = machine.NewFolder(0o755, 0, 0)
			if dir.Kind == machine.KeyArtifact {
				want = machine.NewKey()
			}
			r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s is gone and its rights were not recorded; it is made with the usual ones", dir))
		}
		if err := r.d.set(dir, want, handle); err != nil {
			return err
		}
	}
	return nil
}

// emptied plans the removal of folders that the snapshot did not have and that
// the plan leaves empty.
func (r *restore) emptied(dir machine.Artifact) error {
	for ok := true; ok; dir, ok = dir.Parent() {
		want, ok, err := r.images.Image(dir)
		if err != nil || !ok || want.Kind != machine.Absent {
			return err
		}
		if now, err := r.d.Image(dir); err != nil || !now.Container() {
			return err
		}
		children, err := r.inv.Machine.Children(dir)
		if err != nil {
			return err
		}
		for _, child := range children {
			if after, planned := r.d.after[child]; !planned || after.Kind != machine.Absent {
				return nil
			}
		}
		if err := r.d.set(dir, machine.Image{Kind: machine.Absent}, r.handleFor(dir)); err != nil {
			return err
		}
	}
	return nil
}

// handleFor names the entry that a step is shown for: the one that is read from
// the artifact, else the first that it decides, one that changed if there is.
func (r *restore) handleFor(a machine.Artifact) string {
	best := ""
	for _, h := range r.owners[a] {
		rec := r.recorded[h]
		now, there := r.current[h]
		switch differs := !there || now.State != rec.State; {
		case differs && rec.Source.Path == autostart.Text(a.Name):
			return h
		case best == "" || differs:
			best = h
		}
	}
	return best
}

// some brings the chosen entries back and leaves all others as they are.
func (r *restore) some(entries []snapshot.Recorded) error {
	for _, rec := range entries {
		if !r.opt.Only[rec.Handle] {
			continue
		}
		now, there := r.current[rec.Handle]
		if lined(rec.Entry) {
			if err := r.line(rec, now, there); err != nil {
				return err
			}
			continue
		}
		for _, a := range rec.Artifacts {
			want, ok, err := r.images.Image(a)
			if err != nil {
				return err
			}
			if !ok || want.Container() || r.d.machine.Managed(a) {
				continue // made where a file needs it
			}
			current, err := r.d.Image(a)
			if err != nil {
				return err
			}
			if m, shared := r.merger(rec.Handle); shared && m.Shared() == a {
				want, err = m.Merge(current, want, r.now)
			} else if cut := rec.Switch == autostart.Park || rec.Switch == autostart.Trim; cut && current.Kind == machine.Regular && want.Kind == machine.Regular && !current.Same(want) {
				r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%q was cut out of %s, which comes back as a whole", rec.Name, a))
			}
			if err != nil {
				return err
			}
			if err := r.bring(a, want, rec.Handle); err != nil {
				return err
			}
		}
	}
	return nil
}

// merger is the switch of an entry that shares its artifact with others.
func (r *restore) merger(handle string) (location.Merger, bool) {
	now, there := r.current[handle]
	if !there {
		return nil, false
	}
	m, ok := now.Switcher.(location.Merger)
	return m, ok
}

// line brings one line of a file back: switched, or put at the file's end.
func (r *restore) line(rec snapshot.Recorded, now *location.Item, there bool) error {
	if len(rec.Artifacts) == 0 {
		return nil
	}
	a := rec.Artifacts[0]
	if there {
		if now.State == rec.State {
			return nil
		}
		edits, err := now.Set(r.d, location.Want{State: rec.State, Now: r.now})
		if err != nil {
			return err
		}
		for _, edit := range edits {
			if err := r.bring(edit.Artifact, edit.Image, rec.Handle); err != nil {
				return err
			}
		}
		return nil
	}
	earlier, ok, err := r.images.Image(a)
	if err != nil || !ok {
		return err
	}
	current, err := r.d.Image(a)
	if err != nil {
		return err
	}
	if current.Kind == machine.Absent {
		current = earlier.WithContent(nil, r.now)
	}
	want, err := location.AppendLine(current, earlier, rec.Source.Line, r.now)
	if err != nil {
		return err
	}
	r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%q was gone from %s and is put back at the end of the file", rec.Name, a))
	return r.bring(a, want, rec.Handle)
}

// disableNewcomers switches off what came since, where that can be done.
func (r *restore) disableNewcomers(e *Engine, plan *Plan) error {
	for _, n := range r.newcomers {
		if n.State == autostart.Disabled || r.opt.Only != nil && !r.opt.Only[n.Handle] {
			continue
		}
		if n.Guarded != "" {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("%q came since the snapshot and is guarded (%s); it is left on", n.Name, n.Guarded))
			continue
		}
		if after, planned := r.d.after[machine.File(n.Source.Path)]; planned && after.Kind == machine.Absent {
			continue // gone with what is restored
		}
		sub := Plan{want: map[string]autostart.State{}, taken: map[string]bool{}}
		if err := e.switchItem(r.d, &sub, n, location.Want{State: autostart.Disabled, Now: r.now}); err != nil {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("%q came since the snapshot and is left on: %v", n.Name, err))
			continue
		}
		plan.Handles = append(plan.Handles, sub.Handles...)
	}
	return nil
}

// warn says where an entry comes back whose program did not stay the same.
func (r *restore) warn() {
	for _, h := range r.plan.Handles {
		if now, ok := r.current[h]; ok && !slices.Contains(r.plan.Effects, now.Effect) {
			r.plan.Effects = append(r.plan.Effects, now.Effect)
		}
		rec, ok := r.recorded[h]
		if !ok || rec.Target.Exists == nil || !*rec.Target.Exists {
			continue
		}
		info, err := r.inv.Machine.Stat(rec.Target.Path)
		switch {
		case machine.IsMissing(err):
			r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("the program of %q is gone: %s", rec.Name, rec.Target.Path))
		case err == nil && (info.Size() != rec.Target.Size || !info.ModTime().Equal(rec.Target.Modified)):
			r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("the program of %q was replaced since: %s had %d bytes of %s, has %d bytes of %s", rec.Name, rec.Target.Path,
				rec.Target.Size, rec.Target.Modified.Format(time.DateOnly), info.Size(), info.ModTime().UTC().Format(time.DateOnly)))
		}
	}
	if len(r.plan.Effects) == 0 {
		r.plan.Effects = []string{location.AtNextStart}
	}
}
