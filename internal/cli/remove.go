package cli

import (
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/change"
	"lockback/core/work"
	"lockback/core/work/removal"
	"lockback/internal/page"
)

// removeOptions are those of remove.
type removeOptions struct {
	message string
	all     bool
	now     bool
}

func newRemoveCommand(a *app) *cobra.Command {
	var o removeOptions
	c := &cobra.Command{
		Use:   "remove SELECTOR...",
		Short: "Take entries away for good: only the record keeps them",
		Long: `Take entries away for good that have been off for 14 days (or as long as their trial), or
whose trial you ended with keep: the value, file, unit, task or line itself, never the
program. Entries whose program is missing can go at once. The record keeps everything:
undo, restore and enable bring it back exactly.

--now does not wait; then -m must say why, for the history.

Where an entry belongs to an installed product, lockback names the product's own
uninstaller: that is the better way. What lies in the system's own folders, and what a
package would bring back, stays and is only disabled.`,
		Example: "  lockback remove k7f3qa2\n  lockback remove problem=target-missing\n  lockback remove " +
			"\"Brinecast*\" --now -m \"uninstalled last year\"",
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error { return runRemove(a, words, o) },
	}
	a.writeFlags(c)
	a.trialFlag(c)
	c.Flags().StringVarP(&o.message, "message", "m", "", "say why, for the history")
	c.Flags().BoolVar(&o.all, "all", false, "choose among parts of the operating system too, to see why they stay")
	c.Flags().BoolVar(&o.now, "now", false, "do not wait until they have been disabled long enough")
	c.Flags().BoolVar(&a.guarded, "guarded", false,
		"remove protected entries too, and those that need a second thought")
	return c
}

func runRemove(a *app, words []string, o removeOptions) error {
	if o.now && strings.TrimSpace(o.message) == "" {
		return usage("--now wants a reason, for the history: add -m TEXT")
	}
	trial, err := a.trialDays()
	if err != nil {
		return err
	}
	s, err := a.openToChange(false)
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	c, err := s.ChooseExactly(inv, words, work.Scope{All: o.all})
	if err != nil {
		return err
	}
	rule, err := removal.New(s.Session, c, removal.Options{Now: o.now, ProtectedToo: a.guarded})
	if err != nil {
		return err
	}
	chosen := slices.DeleteFunc(removal.WithShared(inv, c.Items), change.Taken)
	if len(chosen) == 0 {
		a.note("nothing to do on %s: these entries are removed already; the record keeps them",
			page.Subject(s.Machine))
		return s.printNothing(change.Plan{})
	}
	items, left := rule.Sift(chosen)
	if len(items) == 0 && len(chosen) == 1 {
		return usage("nothing was removed: %s  %s: %s", left[0].Item.Handle, left[0].Item.Name, left[0].Why)
	}
	if len(items) == 0 {
		a.notes(page.RemovalNotes(left))
		return usage("nothing was removed: no match can be removed, see above")
	}
	plan, items, more, err := rule.Plan(inv, items)
	notes := page.RemovalNotes(append(left, more...))
	if errors.Is(err, change.ErrNothing) {
		s.notes(notes)
		a.note("nothing to do on %s", page.Subject(s.Machine))
		return s.printNothing(plan)
	}
	if err != nil {
		s.notes(notes)
		return s.explain(err)
	}
	plan.Trial = trial
	notes = append(notes, page.UninstallNotes(removal.Uninstalls(s.Machine, items))...)
	if o.message == "" {
		o.message = page.Summary(items, "")
	}
	return s.carryOut(task{plan: plan, inv: inv, verb: "Remove", message: o.message, notes: notes})
}
