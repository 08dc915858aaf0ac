// Package removal decides which entries may be taken away for good, and plans it: those that have been off for long
// enough, that nothing else keeps, and that no package would bring back.
package removal

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/product"
	"lockback/core/program"
	"lockback/core/work"
)

// Options say what is not waited for.
type Options struct {
	Now          bool // how long an entry is off does not count
	ProtectedToo bool
}

// Left is an entry that is not removed, and why.
type Left struct {
	Item *location.Item
	Why  string
}

// Rule decides which entries may be removed.
type Rule struct {
	session   *work.Session
	options   Options
	selector  autostart.Selector
	decisions map[string]change.Decision
	changes   map[int]change.Change
	book      *program.Book
	offSince  func(handle string) time.Time
	now       time.Time
}

// New makes the rule for what was chosen.
func New(s *work.Session, c work.Choice, o Options) (Rule, error) {
	r := Rule{session: s, options: o, selector: c.Selector, changes: map[int]change.Change{}, now: time.Now()}
	r.book = program.Open(s.Machine.Reader(nil), s.Memory)
	if s.Record == nil { // a dry run without a record: what a removal needs of one is not there
		r.offSince = func(string) time.Time { return time.Time{} }
		return r, nil
	}
	var err error
	if r.decisions, err = s.Record.Decisions(s.Machine.ID); err != nil {
		return r, work.Advise(err)
	}
	changes, err := s.Record.Changes(s.Machine.ID)
	if err != nil {
		return r, work.Advise(err)
	}
	for _, c := range changes {
		r.changes[c.ID] = c
	}
	r.offSince, err = offSince(s, c.Items)
	return r, err
}

// WithShared adds to chosen entries those that are the same thing for other users: it is in one file.
func WithShared(inv inventory.Inventory, chosen []*location.Item) []*location.Item {
	shared, have := map[string]bool{}, map[*location.Item]bool{}
	for _, item := range chosen {
		have[item] = true
		if item.Shared != "" {
			shared[item.Shared] = true
		}
	}
	all := slices.Clone(chosen)
	for _, item := range inv.Items {
		if item.Shared != "" && shared[item.Shared] && !have[item] {
			all = append(all, item)
		}
	}
	return all
}

// Sift are the entries that may be removed, and why the others may not. What is the same thing for several users goes
// for all of them, or stays.
func (r Rule) Sift(chosen []*location.Item) (items []*location.Item, left []Left) {
	stays := map[string]string{}
	for _, item := range chosen {
		if why := r.keeps(item); why != "" {
			left = append(left, Left{item, why})
			stays[item.Handle] = why
			if item.Shared != "" && stays[item.Shared] == "" {
				stays[item.Shared] = fmt.Sprintf("it is the same file for %s: %s", cmp.Or(item.User, "everyone"), why)
			}
		}
	}
	for _, item := range chosen {
		switch {
		case stays[item.Handle] != "":
		case item.Shared != "" && stays[item.Shared] != "":
			left = append(left, Left{item, stays[item.Shared]})
		default:
			items = append(items, item)
		}
	}
	return items, left
}

// maxStepsFollowed is how many steps a removal may have for the machine to be read as it would be.
const maxStepsFollowed = 2000

// Plan plans a removal, and looks first whether the entries would be gone and all others as they are, where the machine
// keeps them in files: what would still be there is left out.
func (r Rule) Plan(inv inventory.Inventory, items []*location.Item) (change.Plan, []*location.Item, []Left, error) {
	var left []Left
	for {
		plan, err := r.session.Engine.Remove(items, inv.Items, r.packaged)
		if err != nil || len(plan.Steps) > maxStepsFollowed {
			return plan, items, left, err
		}
		out := map[string]bool{}
		for _, l := range plan.LeftOut {
			out[l.Handle] = true
		}
		still, others := inv.StillThere(plan.Images(), plan.Handles)
		n := len(items)
		items = slices.DeleteFunc(slices.Clone(items), func(item *location.Item) bool {
			why := ""
			if still[item.Handle] {
				why = "it would still be there; it stays " + string(item.State)
			}
			for _, other := range others {
				if other.Item.Source.Path == item.Source.Path || other.Item.SystemName == item.SystemName {
					why = fmt.Sprintf("%s (%s) would %s, too; choose both, or neither", other.Item.Name,
						other.Item.Handle, becomes(other.Becomes))
				}
			}
			if why != "" {
				left = append(left, Left{item, why})
			}
			return why != ""
		})
		if len(items) == n && len(others) > 0 {
			return plan, items, left, work.Wrong("nothing was done: %s (%s) would %s, too; choose fewer entries",
				others[0].Item.Name, others[0].Item.Handle, becomes(others[0].Becomes))
		}
		if len(items) == n {
			return plan, slices.DeleteFunc(items, func(i *location.Item) bool { return out[i.Handle] }), left, nil
		}
		if len(items) == 0 {
			return plan, nil, left, work.Wrong("nothing was done: no match can be removed")
		}
	}
}

// becomes words what would become of an entry.
func becomes(state autostart.State) string {
	if state == "" {
		return "go"
	}
	return "be " + string(state)
}

// packaged fails for files of the system's own folders that a package delivered: it would bring them back.
func (r Rule) packaged(a artifact.Artifact) error {
	if !r.session.Machine.SystemFile(a) {
		return nil
	}
	r.book.Look([]string{a.Name})
	if packages := r.book.File(a.Name).Packages(); len(packages) > 0 {
		return fmt.Errorf("%s belongs to the package %s, which would bring it back; it stays",
			autostart.Text(a.Name), packages[0])
	}
	return nil
}

// offSince tells since when entries were seen disabled without a break, in the snapshots of the record; the zero time
// where none has them so.
func offSince(s *work.Session, items []*location.Item) (func(handle string) time.Time, error) {
	snaps, err := s.Record.Snapshots(s.Machine.ID)
	if err != nil {
		return nil, work.Advise(err)
	}
	open := map[string]bool{} // whose run is not at its beginning yet
	for _, item := range items {
		open[item.Handle] = true
	}
	since := map[string]time.Time{}
	for _, listed := range slices.Backward(snaps) {
		if len(open) == 0 {
			break
		}
		snap, err := s.Record.Snapshot(listed.ID)
		if err != nil {
			return nil, work.Advise(err)
		}
		entries, err := snap.EntriesOf(open)
		if err != nil {
			return nil, work.Advise(err)
		}
		off := map[string]bool{}
		for _, rec := range entries {
			off[rec.Handle] = rec.State == autostart.Disabled
		}
		for handle := range open {
			if !off[handle] {
				delete(open, handle)
			} else {
				since[handle] = snap.Time
			}
		}
	}
	return func(handle string) time.Time { return since[handle] }, nil
}

// keeps says why an entry is not removed; empty where it may be.
func (r Rule) keeps(item *location.Item) string {
	missing := slices.Contains(item.Problems, autostart.TargetMissing)
	switch {
	case item.OSPart:
		return "it is a part of the operating system, and those stay"
	case item.Guarded != "" && !r.options.ProtectedToo:
		return "it is protected (--guarded takes it too): " + item.Guarded
	case item.Caution != "" && !r.options.ProtectedToo && !r.selector.ByName(&item.Entry):
		return "it needs a second thought (name it, or --guarded takes it too): " + item.Caution
	case item.Switch == autostart.Report && item.Can.Erase == nil:
		return "it cannot be turned off or removed here"
	}
	switch {
	case missing:
		return ""
	case item.State == autostart.Enabled && item.Switch == autostart.Report:
		if !r.options.Now { // it can be erased, see above
			return "it is on and cannot be turned off here (--now -m TEXT removes it, and undo brings it back)"
		}
		return ""
	case item.State == autostart.Enabled:
		return "it is still on; disable it first and restart, or add --now -m TEXT"
	case r.options.Now:
		return ""
	}
	return r.tooEarly(item)
}

// tooEarly says why an entry was not off long enough; empty where it was.
func (r Rule) tooEarly(item *location.Item) string {
	d, decided := r.decisions[item.Handle]
	since, days := r.offSince(item.Handle), change.DefaultTrial
	if decided && d.IsOff() {
		c := r.changes[d.Change]
		if !c.Kept.IsZero() {
			return ""
		}
		since = c.Time
		if c.Trial > 0 {
			days = c.Trial
		}
	}
	if since.IsZero() {
		return "the record does not say since when it is off (--now -m TEXT removes it anyway)"
	}
	if until := since.AddDate(0, 0, days); r.now.Before(until) {
		left := int(until.Sub(r.now)/(24*time.Hour)) + 1
		return fmt.Sprintf(
			"it has been off only since %s, and the wait is %s: %s to go (--now -m TEXT removes it anyway)",
			autostart.Minute(since), autostart.Count(days, "day", "days"), autostart.Count(left, "day", "days"))
	}
	return ""
}

// Uninstall is a product that entries belong to, and how that is uninstalled.
type Uninstall struct {
	Names            []string
	Product, Command string
}

// Uninstalls are the installed products of entries that have a way of their own to be uninstalled.
func Uninstalls(m *machine.Machine, items []*location.Item) []Uninstall {
	products, _ := product.Group(m, items)
	var all []Uninstall
	for _, p := range products {
		if p.Uninstall == "" || p.WithSystem {
			continue
		}
		u := Uninstall{Product: strings.TrimSpace(p.Name + " " + p.Version), Command: p.Uninstall}
		for _, item := range p.Items {
			if !slices.Contains(u.Names, item.Name) {
				u.Names = append(u.Names, item.Name)
			}
		}
		all = append(all, u)
	}
	return all
}
