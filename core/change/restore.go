package change

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/snapshot"
)

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
	// SystemFiles brings back files of the operating system's own folders too, which
	// otherwise are left as the last upgrade of the system has them.
	SystemFiles bool
}

// Restore plans to bring back the state of a snapshot.
func (e *Engine) Restore(inv inventory.Inventory, snap *snapshot.Snapshot, opt RestoreOptions) (Plan, error) {
	plan := Plan{Kind: Restore}
	r := restore{e: e, d: e.newDraft(), plan: &plan, inv: inv, now: e.now(), opt: opt,
		latest: sync.OnceValues(func() (func(artifact.Artifact) (artifact.Image, bool, error), error) {
			if e.Record == nil {
				return func(artifact.Artifact) (artifact.Image, bool, error) { return artifact.Image{}, false, nil },
					nil
			}
			return e.Record.Latest(e.Machine.ID)
		}),
		current: map[string]*location.Item{}}
	snap, err := snap.InMemory()
	if err != nil {
		return plan, err
	}
	if r.images, err = snap.Images(); err != nil {
		return plan, err
	}
	if now := inv.Machine.Version; snap.System != "" && now != "" && now != snap.System {
		plan.Warnings = append(plan.Warnings, fmt.Sprintf("%s was taken under another version of the system: on "+
			"%s, and this is %s now", snap.Name(), snap.System, now))
	}
	if r.recorded, err = snap.Index(); err != nil {
		return plan, err
	}
	for _, item := range inv.Items {
		r.current[item.Handle] = item
	}
	r.owners = r.recorded.Owners(r.images)
	r.named = map[string]bool{}
	r.source, r.shared = map[artifact.Artifact]bool{}, map[artifact.Artifact]*parts{}
	if err := r.readMade(snap); err != nil {
		return plan, err
	}
	for _, item := range inv.Items {
		newcomer := !r.recorded.Has(item.Handle)
		if newcomer && opt.Only == nil && r.madeByUs[item.Source.Path] {
			continue // it goes
		}
		if newcomer {
			r.newcomers = append(r.newcomers, item)
			r.source[artifact.File(item.Source.Path)] = true
		}
		r.share(item, newcomer)
	}
	plan.expect = r.expected
	if err := r.readRemoved(snap); err != nil {
		return plan, err
	}
	if opt.Only == nil {
		err = r.all()
	} else {
		err = r.some(snap)
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
	plan.sortOutcomes()
	return plan, err
}

type restore struct {
	e         *Engine
	d         *draft
	plan      *Plan
	inv       inventory.Inventory
	now       time.Time
	opt       RestoreOptions
	images    *snapshot.Images
	current   map[string]*location.Item
	recorded  *snapshot.Index
	owners    *snapshot.Owners
	newcomers []*location.Item
	folders   []artifact.Artifact
	// latest finds the images that changes which stand gave to artifacts.
	latest func() (func(artifact.Artifact) (artifact.Image, bool, error), error)
	named  map[string]bool // the handles of the plan
	shared map[artifact.Artifact]*parts
	// making are the changes that made entries since the snapshot, the newest first, and madeByUs the files of those.
	making   []Change
	madeByUs map[string]bool
	// removed are the artifacts that removals took away and that snapshots do not have: keys with all below them.
	removed []Step
	source  map[artifact.Artifact]bool // what newcomers are read from
	system  []string                   // files of the system that are left as they are
}

// parts are those of one artifact, as they are now: of entries of the snapshot, and of
// newcomers.
type parts struct {
	known, newcomers []location.Sharer
	states           bool // it says about entries whether they are on, and nothing else
}

// share notes the part of an item of now.
func (r *restore) share(item *location.Item, newcomer bool) {
	sharer := item.Can.Share
	p := item.Can.Part
	if p == nil {
		return
	}
	sharing := r.shared[p.In()]
	if sharing == nil {
		sharing = &parts{}
		r.shared[p.In()] = sharing
	}
	if property, ok := p.(part.Property); ok && property.States {
		sharing.states = true
	}
	if newcomer {
		sharing.newcomers = append(sharing.newcomers, sharer)
	} else {
		sharing.known = append(sharing.known, sharer)
	}
}

// leave names an artifact that cannot be read or written and is left as it is.
func (r *restore) leave(a artifact.Artifact, err error) {
	r.plan.LeftOut = append(r.plan.LeftOut, LeftOut{Handle: r.handleFor(a), Name: autostart.Text(a.String()), Err: err})
}

// made reports whether an artifact is as a change of ours left it.
func (r *restore) made(a artifact.Artifact, current artifact.Image) bool {
	latest, err := r.latest()
	if err != nil {
		return false
	}
	after, ok, err := latest(a)
	return ok && err == nil && r.d.machine.Same(a, current, after)
}

// ours reports whether nothing but changes of ours led from one image of an artifact to another: then nobody else has
// anything in it.
func (r *restore) ours(a artifact.Artifact, from, to artifact.Image) bool {
	if r.e.Record == nil {
		return false
	}
	at, unbroken := from, false
	if err := r.e.Record.StepsOn(r.e.Machine.ID, a, func(before, after artifact.Image) {
		unbroken = r.d.machine.Same(a, at, before)
		if !unbroken {
			at = from // it starts over if it is as it was
			unbroken = r.d.machine.Same(a, at, before)
		}
		at = after
	}); err != nil {
		return false
	}
	return unbroken && r.d.machine.Same(a, at, to)
}

// keeps reports whether an artifact stays although it differs, and the sentence about it. What the system's own
// upgrades did is not taken back, and counted; neither is what somebody made where there was nothing.
func (r *restore) keeps(a artifact.Artifact, want, current artifact.Image) (stays bool, warning string) {
	switch {
	case !r.opt.SystemFiles && r.d.machine.SystemFile(a) && !r.made(a, current):
		r.system = append(r.system, autostart.Text(a.String()))
		return true, ""
	case want.Kind != artifact.Absent || current.Kind == artifact.Absent || current.Container():
	case r.shared[a] != nil && r.shared[a].states: // a list of what is on and off is nobody's own file
	case (current.Kind == artifact.Regular || r.source[a]) && !r.made(a, current):
		return true, fmt.Sprintf("%s was made since, not by lockback; it is kept",
			autostart.Text(a.String()))
	}
	return false, ""
}

// all brings every artifact of the snapshot back. Where others have parts in one, theirs
// are kept, and in files of lines what else was added since.
func (r *restore) all() error {
	var made []artifact.Artifact // folders that the snapshot did not have
	if err := r.bringKeys(); err != nil {
		return err
	}
	for a := range r.images.Artifacts() {
		want, _, err := r.images.Image(a)
		if err != nil {
			r.leave(a, err)
			continue
		}
		if r.inKey(a) {
			continue // it comes with that
		}
		if want.Kind == artifact.Folder {
			r.folders = append(r.folders, a) // its time comes back, whatever else does
		}
		if len(r.owners.Of(a)) == 0 && want.Kind != artifact.Absent || r.d.machine.Managed(a) {
			continue // a folder that is known for its times only
		}
		current, err := r.d.peek(a)
		if err != nil {
			r.leave(a, err)
			continue
		}
		if r.d.machine.Same(a, current, want) {
			continue
		}
		if sharing := r.shared[a]; sharing != nil && !(want.Kind == artifact.Absent && r.ours(a, want, current)) {
			if want, err = r.merge(a, want, current, sharing); err != nil {
				r.leave(a, err)
				continue
			}
		}
		if current.Container() && want.Kind == artifact.Absent {
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
	return r.unmake()
}

// merge is the image that an artifact gets which others have parts in.
func (r *restore) merge(a artifact.Artifact, want, current artifact.Image, sharing *parts) (artifact.Image, error) {
	partsOf := func(all []location.Sharer) []part.Part {
		parts := make([]part.Part, len(all))
		for k, s := range all {
			parts[k] = s.Part()
		}
		return parts
	}
	shares := part.Shares{Known: partsOf(sharing.known), Newcomers: partsOf(sharing.newcomers),
		Earlier: func() (parts []part.Part) {
			for _, h := range r.owners.Of(a) {
				if p := r.recorded.Part(h); p != nil && p.In() == a {
					parts = append(parts, p)
				}
			}
			// What a change of ours added is nobody else's, even where its entry is gone by now.
			if property, ok := part.PropertyOf(parts); ok && r.e.Record != nil {
				if err := r.e.Record.StepsOn(r.e.Machine.ID, a, func(before, after artifact.Image) {
					parts = append(parts, property.Added(before, after)...)
				}); err != nil {
					r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s: %v", autostart.Text(a.String()), err))
				}
			}
			return parts
		}}
	merged, err := part.Merge(r.d, want, current, shares, r.now)
	for _, list := range []struct {
		lines []string
		what  string
	}{{merged.Kept, "added since the snapshot and kept"}, {merged.GaveWay,
		"set since the snapshot; the earlier value comes back"}} {
		for k, line := range list.lines {
			if k == maxLinesNamed {
				r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s: %d more lines %s",
					autostart.Text(a.String()), len(list.lines)-k, list.what))
				break
			}
			r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s: %q was %s", autostart.Text(a.String()),
				autostart.Text(line), list.what))
		}
	}
	return merged.Image, err
}

// maxLinesNamed is how many lines of a file are named one by one.
const maxLinesNamed = 20

// credit names all entries that a planned step brings back, where they share the
// artifact.
func (r *restore) credit(a artifact.Artifact) {
	if _, planned := r.d.after[a]; !planned {
		return
	}
	for _, h := range r.owners.Of(a) {
		now, there := r.current[h]
		if !there {
			continue
		}
		if rec, ok := r.recorded.Entry(h); !ok || now.State == rec.State && isRemoved(&now.Entry) == isRemoved(&rec) {
			continue
		}
		r.d.name(a, h)
		r.changes(h)
	}
}

// changes says that an entry is changed by the plan.
func (r *restore) changes(handle string) {
	if handle != "" && !r.named[handle] {
		handle = strings.Clone(handle) // not a piece of the snapshot's text
		r.named[handle] = true
		r.plan.Handles = append(r.plan.Handles, handle)
	}
}

// otherFolders adds the folders that no step touches, where they hold the same
// names as in the snapshot at another time: what was done and taken back since
// shows in their times only.
func (r *restore) otherFolders() error {
	planned := map[artifact.Artifact]bool{}
	for _, f := range r.plan.Folders {
		planned[f.Artifact] = true
	}
	for _, a := range r.folders {
		if planned[a] || r.d.machine.SystemFile(a) && !r.opt.SystemFiles {
			continue
		}
		want, _, err := r.images.Image(a)
		if err != nil {
			continue // a time is no reason to fail
		}
		now, err := r.d.machine.Image(a)
		if err != nil || r.d.machine.Writable(a, now, now) != nil {
			continue
		}
		if now.Kind == artifact.Folder && now.Names == want.Names && !now.ModTime.Equal(want.ModTime) {
			a.Name = strings.Clone(a.Name) // not a piece of the snapshot's text
			r.plan.Folders = append(r.plan.Folders, Folder{Artifact: a, Before: now, After: want})
		}
	}
	return nil
}

// bring plans one artifact. Folders are removed only when nothing else is in
// them, and never turned into something else.
func (r *restore) bring(a artifact.Artifact, want artifact.Image, handle string) error {
	current, err := r.d.Image(a)
	if err != nil {
		r.leave(a, err)
		return nil
	}
	if r.d.machine.Same(a, current, want) {
		return nil
	}
	switch {
	case want.Kind == artifact.Special || current.Kind == artifact.Special:
		r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s is a device, a pipe or a socket, in the snapshot "+
			"or now; it is left as it is", autostart.Text(a.String())))
		return nil
	case current.Container() && want.Kind == artifact.Absent:
		return nil // looked at once the files are planned, see emptied
	case current.Kind == artifact.Folder && want.Kind != artifact.Folder:
		r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%s is a folder now and was %s; it is left as it is",
			autostart.Text(a.String()), want))
		return nil
	}
	if stays, warning := r.keeps(a, want, current); stays {
		if warning != "" {
			r.plan.Warnings = append(r.plan.Warnings, warning)
		}
		return nil
	}
	if err := r.d.possible(a, want); err != nil {
		r.leave(a, err)
		return nil
	}
	if want.Kind != artifact.Absent {
		if err := r.parents(a, handle); err != nil {
			r.leave(a, err)
			return nil
		}
	}
	if err := r.d.set(a, want, handle); err != nil {
		return err
	}
	r.changes(handle)
	if dir, ok := a.Parent(); ok {
		return r.emptied(dir)
	}
	return nil
}

// parents plans the folders above an artifact that are missing now, as the
// snapshot knows them.
func (r *restore) parents(a artifact.Artifact, handle string) error {
	for dir, ok := a.Parent(); ok; dir, ok = dir.Parent() {
		now, err := r.d.Image(dir)
		if err != nil || now.Kind != artifact.Absent {
			return err
		}
		want, ok, err := r.images.Image(dir)
		if err != nil {
			return err
		}
		if !ok || !want.Container() {
			want = container(dir, artifact.Image{})
			r.plan.Warnings = append(r.plan.Warnings,
				fmt.Sprintf("%s is missing and its rights were not recorded; it is made with the usual ones", dir))
		}
		if err := r.d.set(dir, want, handle); err != nil {
			return err
		}
	}
	return nil
}

// emptied plans the removal of folders that the snapshot did not have and that
// the plan leaves empty.
func (r *restore) emptied(dir artifact.Artifact) error {
	for ok := true; ok; dir, ok = dir.Parent() {
		want, ok, err := r.images.Image(dir)
		if err != nil || !ok || want.Kind != artifact.Absent {
			return nil
		}
		if now, err := r.d.Image(dir); err != nil || !now.Container() {
			return nil // what cannot be looked into is left
		}
		children, err := r.inv.Machine.Children(dir)
		if err != nil {
			return nil
		}
		for _, child := range children {
			if after, planned := r.d.after[child]; !planned || after.Kind != artifact.Absent {
				return nil
			}
		}
		if err := r.d.set(dir, artifact.Image{Kind: artifact.Absent}, r.handleFor(dir)); err != nil {
			return err
		}
	}
	return nil
}

// handleFor names the entry that a step is shown for: the one that is read from
// the artifact, else the first that it decides, one that changed if there is.
func (r *restore) handleFor(a artifact.Artifact) string {
	best := ""
	for _, h := range r.owners.Of(a) {
		rec, ok := r.recorded.Entry(h)
		if !ok {
			continue
		}
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
func (r *restore) some(snap *snapshot.Snapshot) error {
	entries, err := snap.EntriesOf(r.opt.Only)
	if err == nil {
		err = r.bringKeys()
	}
	if err != nil {
		return err
	}
	for _, rec := range entries {
		own, now := r.partsOf(rec)
		if err := part.Known(own); err != nil {
			r.plan.LeftOut = append(r.plan.LeftOut, LeftOut{Handle: rec.Handle, Name: rec.Name, Err: err})
			continue
		}
		for _, a := range rec.Artifacts {
			want, ok, err := r.images.Image(a)
			if err == nil && (!ok || want.Container() || r.d.machine.Managed(a) || r.inKey(a)) {
				continue // made where a file needs it
			}
			var current artifact.Image
			if err == nil {
				current, err = r.d.Image(a)
			}
			if err == nil && own != nil && own.In() == a {
				want, err = r.carry(rec, own, now, current, want)
			}
			if err != nil {
				r.plan.LeftOut = append(r.plan.LeftOut, LeftOut{Handle: rec.Handle, Name: rec.Name, Err: err})
				continue
			}
			if err := r.bring(a, want, rec.Handle); err != nil {
				return err
			}
		}
	}
	return nil
}

// partsOf are the part of an artifact that a recorded entry was, and the one that it is now.
func (r *restore) partsOf(rec *snapshot.Recorded) (own, now part.Part) {
	if item, there := r.current[rec.Handle]; there {
		now = item.Can.Part
	}
	if own = rec.Part; own == nil {
		own = now // an early snapshot does not tell
	}
	return own, now
}

// carry brings the part of one entry back and leaves those of others as they are now.
func (r *restore) carry(rec *snapshot.Recorded, own, now part.Part, current, earlier artifact.Image) (artifact.Image,
	error) {
	if _, there := r.current[rec.Handle]; !there && current.Kind != artifact.Absent {
		r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("%q had been removed from %s and is put back", rec.Name,
			own.In()))
	}
	return part.Replace(r.d, own, now, current, earlier, r.now)
}

// disableNewcomers switches off what came since, where that can be done.
func (r *restore) disableNewcomers(e *Engine, plan *Plan) error {
	var off []*location.Item
	for _, n := range r.newcomers {
		if n.State == autostart.Disabled || r.opt.Only != nil && !r.opt.Only[n.Handle] {
			continue
		}
		if n.Guarded != "" {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("%q was added since the snapshot and is protected "+
				"(%s); it stays enabled", n.Name, n.Guarded))
			continue
		}
		if after, planned := r.d.after[artifact.File(n.Source.Path)]; planned && after.Kind == artifact.Absent {
			continue // gone with what is restored
		}
		off = append(off, n)
	}
	off, spared := e.Spare(Choice{Off: off, Inventory: r.inv, Want: location.Want{Now: r.now}})
	for _, s := range spared {
		plan.Warnings = append(plan.Warnings, fmt.Sprintf("%q was added since the snapshot and stays enabled: %q "+
			"would stop with it, and is protected (%s)", s.Item.Name, s.Stops.Name, s.Stops.Guarded))
	}
	for _, n := range off {
		sub := Plan{want: map[string]autostart.State{}, taken: map[string]bool{}}
		e.switchItems(r.d, &sub, []*location.Item{n}, location.Want{State: autostart.Disabled, Now: r.now})
		for _, left := range sub.LeftOut {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("%q was added since the snapshot and stays enabled: %v",
				n.Name, left.Err))
		}
		for _, h := range sub.Handles {
			r.changes(h)
		}
	}
	return nil
}

// maxFilesNamed is how many of the system's own files are named.
const maxFilesNamed = 10

// expected is how the snapshot has an entry. One that it does not have is disabled where that was
// asked for, and is gone where what it is read from is taken away.
func (r *restore) expected(handle string) Expected {
	if rec, ok := r.recorded.Entry(handle); ok {
		return Expected{rec.State, isRemoved(&rec), &rec}
	}
	item := r.current[handle]
	if item == nil {
		return Expected{}
	}
	for _, step := range r.plan.Steps {
		if step.After.Kind == artifact.Absent && step.Artifact == artifact.File(item.Source.Path) {
			return Expected{}
		}
	}
	if r.opt.Newcomers == DisableNewcomers {
		return Expected{State: autostart.Disabled}
	}
	return Expected{State: item.State}
}

// warn says where an entry comes back whose program did not stay the same.
func (r *restore) warn() {
	if n := len(r.system); n > 0 {
		slices.Sort(r.system)
		more := ""
		if n > maxFilesNamed {
			more = fmt.Sprintf(" and %d more", n-maxFilesNamed)
		}
		r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("left as the system has them now, because they are "+
			"its own files and changed with an upgrade (--with-system-files brings them back too): %s%s",
			strings.Join(r.system[:min(n, maxFilesNamed)], ", "), more))
	}
	comes := map[string]bool{} // what the restore itself brings back
	for _, s := range r.plan.Steps {
		if s.Artifact.Kind == artifact.FileArtifact {
			comes[s.Artifact.Name] = true
		}
	}
	for _, h := range r.plan.Handles {
		rec, ok := r.recorded.Entry(h)
		if !ok || rec.Target.Exists == nil || !*rec.Target.Exists || comes[rec.Target.Path] {
			continue
		}
		info, err := r.inv.Machine.Stat(rec.Target.Path)
		switch {
		case files.IsMissing(err):
			r.plan.Warnings = append(r.plan.Warnings, fmt.Sprintf("the program of %q is missing: %s", rec.Name,
				rec.Target.Path))
		case err == nil && (info.Size() != rec.Target.Size || !info.ModTime().Equal(rec.Target.Modified)):
			r.plan.Warnings = append(r.plan.Warnings,
				fmt.Sprintf("the program of %q was replaced since: %s had %d bytes of %s, has %d bytes of %s", rec.Name,
					rec.Target.Path,
					rec.Target.Size, rec.Target.Modified.Format(time.DateOnly), info.Size(),
					info.ModTime().UTC().Format(time.DateOnly)))
		}
	}
}
