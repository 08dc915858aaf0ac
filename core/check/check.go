// Package check tells what happened to a machine since somebody looked at it last: what put itself back, what came,
// what is another program now, what broke, and what an update of the system or of a package did, which is no reason to
// worry. It decides nothing and writes nothing.
//
//	for _, f := range check.Find(in) {
//		fmt.Println(f.Kind, f.Entry.Name, f.Wants)
//	}
package check

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/program"
	"lockback/core/snapshot"
)

// Kind is what happened to an entry.
type Kind string

// The kinds, in the order in which they are shown.
const (
	PutBack  Kind = "put-back"  // turned off by a change, and on again by something else
	Added    Kind = "added"     // not there before
	Replaced Kind = "replaced"  // another program, or another command
	Problem  Kind = "problem"   // something is wrong with it now that was not
	TurnedOn Kind = "turned-on" // by the system's own settings, or by something else
	// What follows is no reason to decide anything.
	TurnedOff Kind = "turned-off"
	Removed   Kind = "removed"
	Changed   Kind = "changed"
	Updated   Kind = "updated" // by an update of the system, or of its package by the package manager
)

// Kinds lists all kinds in their order.
var Kinds = []Kind{PutBack, Added, Replaced, Problem, TurnedOn, TurnedOff, Removed, Changed, Updated}

// Finding is one entry that something happened to.
type Finding struct {
	Kind  Kind
	Entry *autostart.Entry
	// Wants says that somebody must decide.
	Wants bool
	// Change is the number of the change that had turned the entry off, and Times how often it has come back by
	// itself since one first did; 0 for all but [PutBack].
	Change, Times int
	// Left is how that change left it: disabled, or removed.
	Left autostart.State
	// Instead is the entry that the change had turned off, where this one starts the same program under another name.
	Instead *autostart.Entry
	// At is when what starts it was written; the zero time if that is not known.
	At time.Time
	// By is who did it, as far as that could be found; Looked says that it was looked for.
	By     []Author
	Looked bool
	// Update is the package that did it, in words; empty where it was none. Of what came back it is the package that
	// was installed since, which may have done it.
	Update string
	// Holds says that disable can keep it off, in a way that its program respects.
	Holds  bool
	Fields []snapshot.Field
}

// Input is what is known about both sides.
type Input struct {
	Machine *machine.Machine
	Memory  *program.Memory
	Before  *snapshot.Snapshot
	Diff    snapshot.Difference
	// Ours tells which change of the record did what differs of an entry; empty: none.
	Ours      func(handle string) string
	Decisions map[string]change.Decision
	Changes   []change.Change // of the machine, the oldest first
	Items     []*location.Item
	// Snapshot reads a snapshot of the record.
	Snapshot func(id int) (*snapshot.Snapshot, error)
}

// finder looks for what happened.
type finder struct {
	Input
	items      map[string]*location.Item
	earlier    map[string]*snapshot.Recorded
	changes    map[int]change.Change
	off        map[[2]string]*location.Item // what changes turned off, by what it starts
	book       *program.Book
	starts     starts
	candidates []candidate                        // who may have put others back
	sought     []string                           // the names of all entries of which it is looked who made them
	scripts    map[string]*script                 // by path
	states     map[int]map[string]autostart.State // of snapshots, by their numbers
	inside     map[string]map[string]bool         // which of these a program has in it, by its path
	text       int                                // bytes of scripts that were read
	binary     int64                              // bytes of other programs that were read
}

// Find tells what happened to entries. What changes of the record did themselves is not among it.
func Find(in Input) ([]Finding, error) {
	f := finder{Input: in, items: map[string]*location.Item{}, changes: map[int]change.Change{},
		off: map[[2]string]*location.Item{}, scripts: map[string]*script{}, inside: map[string]map[string]bool{},
		states: map[int]map[string]autostart.State{}}
	for _, item := range in.Items {
		if _, known := f.items[item.Handle]; !known {
			f.items[item.Handle] = item
		}
	}
	for _, c := range in.Changes {
		f.changes[c.ID] = c
	}
	if err := f.readEarlier(); err != nil {
		return nil, err
	}
	for _, item := range slices.Backward(in.Items) {
		if d := in.Decisions[item.Handle]; d.IsOff() && item.State == autostart.Disabled {
			f.off[runsOf(item)] = item // of several, the first
		}
	}
	all := f.putBack()
	reported := map[string]bool{}
	for _, g := range all {
		reported[g.Entry.Handle] = true
	}
	for k := range in.Diff.Added {
		e := &in.Diff.Added[k]
		if item := f.items[e.Handle]; item != nil && !reported[e.Handle] && in.Ours(e.Handle) == "" {
			all = append(all, f.added(item))
		}
	}
	for _, c := range in.Diff.Changed {
		item := f.items[c.Handle]
		if item == nil || reported[c.Handle] {
			continue
		}
		fields := f.notOurs(item, c.Fields)
		if in.Ours(c.Handle) != "" { // what decides it is as a change of ours left it, but not its program
			fields = slices.DeleteFunc(fields, func(field snapshot.Field) bool {
				return field.Field != "program" &&
					field.Field != "problems"
			})
		}
		if len(fields) > 0 {
			all = append(all, f.changed(item, fields))
		}
	}
	for k := range in.Diff.Removed {
		if e := &in.Diff.Removed[k]; in.Ours(e.Handle) == "" {
			all = append(all, Finding{Kind: Removed, Entry: e})
		}
	}
	f.findUpdates(all)
	slices.SortStableFunc(all, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(slices.Index(Kinds, a.Kind), slices.Index(Kinds, b.Kind)), autostart.Compare(a.Entry,
			b.Entry))
	})
	f.findAuthors(all)
	return all, nil
}

// notOurs are the fields that a change of ours did not make as they are: where it turned the entry off or on, and that
// is so, its state is no news, and neither is that it is no longer as the system came.
func (f *finder) notOurs(item *location.Item, fields []snapshot.Field) []snapshot.Field {
	d, decided := f.Decisions[item.Handle]
	if !decided || d.IsOff() != (item.State == autostart.Disabled) || d.State == "" {
		return slices.Clone(fields)
	}
	return slices.DeleteFunc(slices.Clone(fields), func(field snapshot.Field) bool {
		return field.Field == "state" || field.Field == "mode" || field.Field == "when" ||
			field.Field == "problems" && withoutNotDefault(field.From) == withoutNotDefault(field.To)
	})
}

func withoutNotDefault(problems string) string {
	words := strings.FieldsFunc(problems, func(r rune) bool { return r == ' ' || r == ',' })
	return strings.Join(slices.DeleteFunc(words, func(p string) bool { return p == autostart.NotDefault }), " ")
}

// readEarlier reads how the entries that differ were before.
func (f *finder) readEarlier() error {
	handles := map[string]bool{}
	for _, c := range f.Diff.Changed {
		handles[c.Handle] = true
	}
	f.earlier = map[string]*snapshot.Recorded{}
	if len(handles) == 0 {
		return nil
	}
	all, err := f.Before.EntriesOf(handles)
	for _, rec := range all {
		f.earlier[rec.Handle] = rec
	}
	return err
}

// putBack are the entries that the changes which stand left disabled, and that are enabled.
func (f *finder) putBack() []Finding {
	var all []Finding
	for handle, d := range f.Decisions {
		item := f.items[handle]
		if !d.IsOff() || item == nil || item.State != autostart.Enabled {
			continue
		}
		holds := item.Can.Hold != nil
		all = append(all, Finding{Kind: PutBack, Entry: &item.Entry, Wants: true, Change: d.Change, Left: d.State,
			Times: f.times(handle, d), Holds: holds})
	}
	return all
}

// times is how often an entry has come back: now, and before each of the later changes that found it enabled. One that
// found it disabled, to hold it or to remove it, was no answer to its coming back.
func (f *finder) times(handle string, d change.Decision) int {
	n := 1
	for _, id := range d.Off[1:] {
		if !f.foundDisabled(f.changes[id].Snapshot, handle) {
			n++
		}
	}
	return n
}

// foundDisabled reports whether an entry was disabled in a snapshot. What cannot be read says nothing.
func (f *finder) foundDisabled(id int, handle string) bool {
	states, known := f.states[id]
	if !known {
		states = map[string]autostart.State{}
		if snap, err := f.Snapshot(id); err == nil {
			all, _ := snap.Entries()
			for _, e := range all {
				states[e.Handle] = e.State
			}
		}
		f.states[id] = states
	}
	return states[handle] == autostart.Disabled
}

// added is an entry that was not there. One that starts a program which a change turned off came back under another
// name.
func (f *finder) added(item *location.Item) Finding {
	g := Finding{Kind: Added, Entry: &item.Entry, Wants: item.State == autostart.Enabled}
	if item.Target.Path == "" || item.State != autostart.Enabled {
		return g
	}
	if other := f.off[runsOf(item)]; other != nil {
		d := f.Decisions[other.Handle]
		g.Kind, g.Change, g.Left, g.Times, g.Instead = PutBack, d.Change, d.State, f.times(other.Handle, d),
			&other.Entry
	}
	return g
}

// runsOf is what two entries have in common that start the same.
func runsOf(item *location.Item) [2]string { return [2]string{item.Target.Path, item.Command} }

// grave are problems that say that a program is not what it was, or is in danger.
var grave = []string{autostart.TargetMissing, autostart.Insecure, autostart.SignatureInvalid, autostart.Changed,
	autostart.Impostor, autostart.OddPlace, autostart.Obscured, autostart.NotDefault}

// changed is an entry that is not as it was.
func (f *finder) changed(item *location.Item, fields []snapshot.Field) Finding {
	e := &item.Entry
	g := Finding{Kind: Changed, Entry: e, Fields: fields}
	on := e.State == autostart.Enabled
	was := f.earlier[e.Handle]
	has := func(names ...string) bool {
		return slices.ContainsFunc(fields, func(f snapshot.Field) bool { return slices.Contains(names, f.Field) })
	}
	worse := was != nil && slices.ContainsFunc(grave, func(p string) bool {
		return slices.Contains(e.Problems, p) && !slices.Contains(was.Problems, p)
	})
	switch {
	case has("state") && on:
		g.Kind, g.Wants = TurnedOn, true
	case has("state"):
		g.Kind = TurnedOff
	case has("command", "target"):
		g.Kind, g.Wants = Replaced, on
	case has("program") && !slices.Contains(e.Problems, autostart.TargetMissing):
		g.Kind = Replaced
		g.Wants = on && (worse || was != nil && !sameMaker(&was.Entry, e))
	case worse:
		g.Kind, g.Wants = Problem, on
	}
	return g
}

// sameMaker reports whether two states of a program are proved to be of one maker: then it was updated, and not
// replaced.
func sameMaker(a, b *autostart.Entry) bool {
	one, other := a.Maker(), b.Maker()
	return one.Name != "" && one.Name == other.Name && one.Basis == other.Basis && autostart.Proven(one.Basis)
}

// findUpdates finds what a package manager, or the system's own update, did: what a finding's entry is read from and
// its program are as a package delivered them that was installed since, or are parts of the system.
func (f *finder) findUpdates(all []Finding) {
	var names []string
	for _, g := range all {
		if g.Kind != Removed {
			names = append(names, g.Entry.Source.Path, g.Entry.Target.Path)
		}
	}
	if len(names) == 0 {
		return
	}
	f.book = program.Open(f.Machine.Reader(nil), f.Memory)
	f.book.Look(names)
	for k := range all {
		g := &all[k]
		if g.Kind == Removed || g.Kind == Problem && !g.Entry.Hidden() {
			continue
		}
		switch update := f.update(g.Entry); {
		case update == "":
		case g.Kind == PutBack:
			g.Update = update // who turned it off wants to know, whoever turned it on
		default:
			g.Kind, g.Update, g.Wants = Updated, update, false
		}
	}
}

// update is the package that delivered an entry since the earlier side, in words; empty where none did.
func (f *finder) update(e *autostart.Entry) string {
	if e.Hidden() {
		return "the operating system"
	}
	source, its := f.book.File(e.Source.Path), f.book.File(e.Target.Path)
	for _, file := range []*program.File{source, its} {
		for _, name := range file.Packages() {
			if name != "" && f.since(file, name) && f.asDelivered(source) && f.asDelivered(its) {
				return name
			}
		}
	}
	return ""
}

// asDelivered reports whether a file is not one that somebody changed after its package was installed, or that no
// package delivered at all. What could not be looked at is no file: a registry, a program that is not there.
func (f *finder) asDelivered(file *program.File) bool {
	return file == nil || len(file.Packages()) > 0
}

// since reports whether the package of a file was installed after the earlier side was recorded.
func (f *finder) since(file *program.File, name string) bool {
	for _, e := range file.Evidence {
		if e.Package != name || e.Basis != autostart.ByPackage {
			continue
		}
		if at, err := time.Parse(time.RFC3339, e.Installed); err == nil {
			return at.After(f.Before.Time)
		}
		if day, err := time.Parse(time.DateOnly, e.Installed); err == nil {
			return !day.Before(f.Before.Time.UTC().Truncate(24 * time.Hour))
		}
	}
	return false
}
