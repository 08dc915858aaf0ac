package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/core/work/rounds"
	"lockback/internal/page"
)

func newUndoCommand(a *app) *cobra.Command {
	var allOrNothing bool
	c := &cobra.Command{
		Use:   "undo [CHANGE]",
		Short: "Take a change back (by default the last one)",
		Long: `Take a change back: every file, value and link is put back as it was before. Entries that
something else changed since, or that turned themselves on again, stay as they are;
lockback names them, with the command that brings back their earlier state, and the exit
code is 1. With --all-or-nothing one such entry stops everything, with exit code 5.`,
		Example: "  lockback undo\n  lockback undo C2\n  lockback undo C2 --all-or-nothing --yes",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.openToChange(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if len(args) == 0 {
				if err := undoesNoRound(s); err != nil {
					return err
				}
			}
			c, err := s.ToUndo(args)
			if err != nil {
				return err
			}
			inv := s.Inventory()
			undo := s.Engine.UndoStanding
			if allOrNothing {
				undo = s.Engine.Undo
			}
			plan, err := undo(c)
			if errors.Is(err, change.ErrNothing) {
				a.note("nothing to take back on %s: nothing of %s still stands",
					page.Subject(s.Machine), c.Name())
				return s.printNothing(plan)
			}
			if err != nil {
				return s.explain(err)
			}
			about, err := aboutUndo(s, c)
			if err != nil {
				return err
			}
			return s.carryOut(task{plan: plan, inv: inv, verb: "Take back " + c.Name() + ":", about: about,
				message: "takes back " + c.Name()})
		},
	}
	a.writeFlags(c)
	c.Flags().BoolVar(&allOrNothing, "all-or-nothing", false, "take nothing back where something else changed a part")
	return c
}

// undoesNoRound fails where the last change may be a round of a search, which is taken back by the search.
func undoesNoRound(s *session) error {
	search, err := rounds.Begun(s.Session)
	if err == nil && search != nil {
		err = usage("a search for a culprit is under way since %s; lockback culprit goes on with it, lockback "+
			"culprit stop "+
			"takes back its rounds; to take back another change, name it", autostart.Minute(search.Begun))
	}
	return err
}

// aboutUndo says what an undo takes back, and what the next one would.
func aboutUndo(s *session, c change.Change) ([]string, error) {
	what := map[change.Kind]string{
		change.Restore: "It was a restore: the machine will be as it was before that, in %s.",
		change.Undo: "It took a change back itself: that change will be in force again, and %s has the state " +
			"before it."}[c.Kind]
	if what == "" {
		what = "The machine will be as it was before that, in %s."
	}
	about := []string{fmt.Sprintf("Takes back %s of %s: %s", c.Name(), page.Dated(c.Time), c.Words()),
		fmt.Sprintf(what, fmt.Sprintf("S%d", c.Snapshot))}
	next, ok, err := s.NextUndo(c)
	if err != nil || ok {
		return append(about, fmt.Sprintf("A second undo would take back %s of %s: %s", next.Name(),
			page.Dated(next.Time), next.Words())), err
	}
	return append(about, "A second undo would find nothing more to take back."), nil
}

func newRecoverCommand(a *app) *cobra.Command {
	var finish, abandon bool
	var onto string
	c := &cobra.Command{
		Use:   "recover",
		Short: "Settle a change that was interrupted",
		Long: `Settle a change that was interrupted, by a crash or a power cut: take it back, so
that the machine is exactly as before, or with --finish carry it out to its end.
--abandon gives up a change that can neither be taken back nor finished: it lists how
each of its files is left, and the change no longer blocks others.`,
		Example: "  lockback recover --dry-run\n  lockback recover\n  lockback recover --finish",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if finish && abandon {
				return usage("give only one of --finish and --abandon")
			}
			return recoverChange(a, finish, abandon, onto)
		},
	}
	a.writeFlags(c)
	c.Flags().BoolVar(&finish, "finish", false, "carry the change out to its end instead of taking it back")
	c.Flags().BoolVar(&abandon, "abandon", false, "give the change up and list how everything is left")
	c.Flags().StringVar(&onto, "onto", "", "the change was made under another name or in another place; recover it "+
		"on the machine with this `NAME`")
	return c
}

// recoverChange settles the change that waits, if any does.
func recoverChange(a *app, finish, abandon bool, onto string) error {
	access := store.Exclusive
	if a.dryRun {
		access = store.Read
	}
	s, err := a.open(access)
	if err != nil {
		return err
	}
	defer s.Close()
	open, ok, err := s.ToRecover()
	if err != nil {
		return work.Advise(err)
	}
	if !ok {
		a.note("no interrupted change waits on %s", page.Subject(s.Machine))
		return nil
	}
	c, err := s.Change(open.ID)
	if err != nil {
		return err
	}
	verb, done, state := "Take back", "taken back; the machine is as it was before", change.Undone
	switch {
	case finish:
		verb, done, state = "Finish", "finished", change.Done
	case abandon:
		verb, done, state = "Give up", "given up; it is left as listed", change.Abandoned
	}
	if a.dryRun {
		return printRecovery(a, s, c, finish)
	}
	elsewhere := s.MadeElsewhere(c)
	if elsewhere != "" && !abandon && (a.yes || onto != "") && onto != s.Machine.Name {
		return usage("%s was made elsewhere%s; this is %s. If it is the same machine all the same, add "+
			"--onto %q; if not, recover --abandon gives the change up",
			c.Name(), elsewhere, page.Heading(s.Machine), s.Machine.Name)
	}
	if !a.yes {
		a.note("%s", page.Subject(s.Machine))
	}
	question := fmt.Sprintf("%s %s, %s of %s%s?", verb, c.Name(), c.Kind, page.Dated(c.Time), elsewhere)
	if err := a.confirm(question); err != nil {
		return err
	}
	var kept []string
	if abandon {
		left, err := s.Engine.Abandon(c)
		if err != nil {
			return s.explain(err)
		}
		for _, l := range left {
			kept = append(kept, fmt.Sprintf("%s: %s", autostart.Text(l.Artifact.String()), l.How))
		}
	} else if kept, err = s.Engine.Recover(c, finish); err != nil {
		return stuck(s, c, err)
	}
	for _, k := range kept {
		a.note("note: %s", k)
	}
	p := a.printer()
	if a.format == "json" {
		c.State = state
		return p.JSON(page.ItemDocument{Machine: page.MachineOf(s.Machine), Item: page.ItemOf(c)})
	}
	p.Line("%s", page.Subject(s.Machine))
	p.Line("%s was %s", c.Name(), done)
	return nil
}

// printRecovery prints the steps that would finish a change or take it back.
func printRecovery(a *app, s *session, c change.Change, finish bool) error {
	steps := slices.Clone(c.Steps)
	if !finish {
		for k, step := range steps {
			steps[k].Before, steps[k].After = step.After, step.Before
		}
		slices.Reverse(steps)
	}
	switch a.format {
	case "json":
		return a.page().ChangeJSON(s.Machine, "", "", steps, nil, nil)
	case "csv":
		return a.page().StepsCSV(steps)
	}
	a.printer().Line("%s", page.Subject(s.Machine))
	a.printer().Line("")
	a.page().Steps(steps, page.TouchedNames(s.TouchedBy(c)))
	return nil
}

// stuck says what can be done where a change could not be settled.
func stuck(s *session, c change.Change, err error) error {
	if errors.Is(err, change.ErrConflict) {
		return s.explain(err)
	}
	return fmt.Errorf("%s could not be settled: %w: %w; mend that and run recover again, or give the change up "+
		"with recover --abandon", c.Name(), err, change.ErrInterrupted)
}
