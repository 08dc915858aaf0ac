package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/product"
	"lockback/core/program"
	"lockback/internal/view"
)

// removeOptions are those of remove.
type removeOptions struct {
	message string
	all     bool
	now     bool
}

func (a *app) removeCommand() *cobra.Command {
	var o removeOptions
	c := &cobra.Command{
		Use:   "remove SELECTOR...",
		Short: "Take entries away for good: only the record keeps them",
		Long: `Take entries away for good that have been disabled for 14 days (or as long as their
trial was set to), or whose trial was ended with keep: the value, file, unit, task or
line itself, never the program. Entries whose program is missing may go at once.
Everything is kept in the record: undo, restore and enable bring it back exactly.

With --now the time is not waited for; then -m must say why, for the history.

Where an entry belongs to an installed product, the product's own way to be
uninstalled is named: that is the better way. What lies in the system's own folders,
and what its package would bring back, is not removed; it stays disabled.`,
		Example: "  lockback remove k7f3qa2\n  lockback remove problem=target-missing\n  lockback remove \"Brinecast*\" --now -m \"uninstalled last year\"",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(_ *cobra.Command, words []string) error { return a.remove(words, o) },
	}
	a.writeFlags(c)
	a.trialFlag(c)
	c.Flags().StringVarP(&o.message, "message", "m", "", "say why, for the history")
	c.Flags().BoolVar(&o.all, "all", false, "choose among parts of the operating system too, to be told why they stay")
	c.Flags().BoolVar(&o.now, "now", false, "do not wait until they have been disabled long enough")
	c.Flags().BoolVar(&a.guarded, "guarded", false, "remove protected entries too, and those that need a second thought")
	return c
}

func (a *app) remove(words []string, o removeOptions) error {
	if o.now && strings.TrimSpace(o.message) == "" {
		return usage("--now wants a reason, for the history: add -m TEXT")
	}
	trial, err := a.trialDays()
	if err != nil {
		return err
	}
	s, err := a.openToWrite(false)
	if err != nil {
		return err
	}
	defer s.close()
	inv := s.inventory()
	c, err := s.chooseExactly(inv, words, scope{all: o.all})
	if err != nil {
		return err
	}
	rule, err := s.removalRule(inv, c, o)
	if err != nil {
		return err
	}
	chosen := slices.DeleteFunc(withShared(inv, c.items), change.Taken)
	if len(chosen) == 0 {
		a.note("there is nothing to do on %s: all that was chosen is removed already, and kept in the record", subject(s.machine))
		return s.printNothing(change.Plan{})
	}
	items, notes := rule.sift(chosen)
	if len(items) == 0 && len(chosen) == 1 {
		return usage("nothing was removed: %s", strings.TrimPrefix(notes[0], "left out: "))
	}
	if len(items) == 0 {
		a.notes(notes)
		return usage("nothing was removed: nothing that matches may be, see above")
	}
	plan, items, more, err := s.planRemoval(inv, items, rule)
	notes = append(notes, more...)
	if errors.Is(err, change.ErrNothing) {
		s.notes(notes)
		a.note("there is nothing to do on %s", subject(s.machine))
		return s.printNothing(plan)
	}
	if err != nil {
		s.notes(notes)
		return s.explain(err)
	}
	plan.Trial = trial
	notes = append(notes, uninstallers(s, items)...)
	if o.message == "" {
		o.message = summary(items, "")
	}
	return s.carryOut(errand{plan: plan, inv: inv, verb: "Remove", message: o.message, notes: notes})
}

// withShared adds to chosen entries those that are the same thing for other users: it is in one file.
func withShared(inv inventory.Inventory, chosen []*location.Item) []*location.Item {
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

// sift are the entries that may be removed, and why the others may not. What is the same thing for several users goes
// for all of them, or stays.
func (r removal) sift(chosen []*location.Item) (items []*location.Item, notes []string) {
	stays := map[string]string{}
	for _, item := range chosen {
		if why := r.keeps(item); why != "" {
			notes = append(notes, fmt.Sprintf("left out: %s  %s: %s", item.Handle, item.Name, why))
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
			notes = append(notes, fmt.Sprintf("left out: %s  %s: %s", item.Handle, item.Name, stays[item.Shared]))
		default:
			items = append(items, item)
		}
	}
	return items, notes
}

// maxStepsFollowed is how many steps a removal may have for the machine to be read as it would be.
const maxStepsFollowed = 2000

// planRemoval plans it, and looks first whether the entries would be gone and all others as they are, where the machine
// keeps them in files: what would still be there is left out.
func (s *session) planRemoval(inv inventory.Inventory, items []*location.Item, rule removal) (change.Plan, []*location.Item, []string, error) {
	var notes []string
	for {
		plan, err := s.engine.Remove(items, inv.Items, rule.packaged)
		if err != nil || len(plan.Steps) > maxStepsFollowed {
			return plan, items, notes, err
		}
		left := map[string]bool{}
		for _, l := range plan.LeftOut {
			left[l.Handle] = true
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
					why = fmt.Sprintf("%s (%s) would %s, too; choose both, or neither", other.Item.Name, other.Item.Handle, becomes(other.Becomes))
				}
			}
			if why != "" {
				notes = append(notes, fmt.Sprintf("left out: %s  %s: %s", item.Handle, item.Name, why))
			}
			return why != ""
		})
		if len(items) == n && len(others) > 0 {
			return plan, items, notes, usage("nothing was done: %s (%s) would %s, too; choose fewer entries", others[0].Item.Name, others[0].Item.Handle, becomes(others[0].Becomes))
		}
		if len(items) == n {
			return plan, slices.DeleteFunc(items, func(i *location.Item) bool { return left[i.Handle] }), notes, nil
		}
		if len(items) == 0 {
			return plan, nil, notes, usage("nothing was done: nothing that matches can be removed")
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
func (r removal) packaged(a machine.Artifact) error {
	if !r.session.machine.SystemFile(a) {
		return nil
	}
	r.book.Look([]string{a.Name})
	if packages := r.book.File(a.Name).Packages(); len(packages) > 0 {
		return fmt.Errorf("%s belongs to the package %s, which would bring it back; it stays as it is", autostart.Text(a.Name), packages[0])
	}
	return nil
}

// removal decides which entries may be removed.
type removal struct {
	session   *session
	options   removeOptions
	sel       autostart.Selector
	decisions map[string]change.Decision
	changes   map[int]change.Change
	book      *program.Book
	offSince  func(handle string) time.Time
	now       time.Time
}

func (s *session) removalRule(inv inventory.Inventory, c choice, o removeOptions) (removal, error) {
	r := removal{session: s, options: o, sel: c.sel, changes: map[int]change.Change{}, now: time.Now()}
	r.book = program.Open(s.machine.Reader(nil), s.memory)
	if s.store == nil { // a dry run without a record: what a removal needs of one is not there
		r.offSince = func(string) time.Time { return time.Time{} }
		return r, nil
	}
	var err error
	if r.decisions, err = s.store.Decisions(s.machine.ID); err != nil {
		return r, adviseStore(err)
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return r, adviseStore(err)
	}
	for _, c := range changes {
		r.changes[c.ID] = c
	}
	r.offSince, err = s.offSince(c.items)
	return r, err
}

// offSince tells since when entries were seen disabled without a break, in the snapshots of the record; the zero time
// where none has them so.
func (s *session) offSince(items []*location.Item) (func(handle string) time.Time, error) {
	snaps, err := s.store.Snapshots(s.machine.ID)
	if err != nil {
		return nil, adviseStore(err)
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
		snap, err := s.store.Snapshot(listed.ID)
		if err != nil {
			return nil, adviseStore(err)
		}
		entries, err := snap.EntriesOf(open)
		if err != nil {
			return nil, adviseStore(err)
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
func (r removal) keeps(item *location.Item) string {
	missing := slices.Contains(item.Problems, autostart.TargetMissing)
	erases := item.Can.Erase != nil
	switch {
	case item.OSPart:
		return "a part of the operating system is not removed"
	case item.Guarded != "" && !r.session.guarded:
		return "it is protected (--guarded takes it too): " + item.Guarded
	case item.Caution != "" && !r.session.guarded && !r.sel.ByName(&item.Entry):
		return "it needs a second thought (name it, or --guarded takes it too): " + item.Caution
	case item.Switch == autostart.Report && !erases:
		return "it can be neither turned off nor removed here"
	}
	switch {
	case missing:
		return ""
	case item.State == autostart.Enabled:
		return "it is enabled; disable it first, restart, and see whether somebody misses it"
	case r.options.now:
		return ""
	}
	return r.tooEarly(item)
}

// tooEarly says why an entry was not off long enough; empty where it was.
func (r removal) tooEarly(item *location.Item) string {
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
		return "since when it is disabled is not in the record (--now -m TEXT removes it all the same)"
	}
	if until := since.AddDate(0, 0, days); r.now.Before(until) {
		left := int(until.Sub(r.now)/(24*time.Hour)) + 1
		return fmt.Sprintf("it is disabled since %s, which is not %s yet: %s more (--now -m TEXT removes it all the same)", local(since), view.Number(days, "day", "days"), view.Number(left, "day", "days"))
	}
	return ""
}

// uninstallers name the products that entries belong to, and how those are uninstalled.
func uninstallers(s *session, items []*location.Item) []string {
	products, _ := product.Group(s.machine, items)
	var notes []string
	for _, p := range products {
		if p.Uninstall == "" || p.WithSystem {
			continue
		}
		names := make([]string, 0, len(p.Items))
		for _, item := range p.Items {
			if !slices.Contains(names, item.Name) {
				names = append(names, item.Name)
			}
		}
		notes = append(notes, fmt.Sprintf("%s: belongs to the product %s, which is installed; uninstalling that is the better way: %s", strings.Join(names, ", "), strings.TrimSpace(p.Name+" "+p.Version), p.Uninstall))
	}
	return notes
}
