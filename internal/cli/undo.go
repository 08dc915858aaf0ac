package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/store"
)

func (a *app) undoCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "undo [CHANGE]",
		Short: "Take a change back (by default the last one)",
		Long: `Take a change back: every artifact gets the image that it had before. Where one
was changed since by something else, nothing is touched and the conflict is named.`,
		Example: "  lockback undo\n  lockback undo C2",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.openToWrite(true)
			if err != nil {
				return err
			}
			defer s.close()
			c, err := s.toUndo(args)
			if err != nil {
				return err
			}
			inv := s.inventory()
			plan, err := s.engine.Undo(c)
			if errors.Is(err, change.ErrNothing) {
				a.note("there is nothing to do on %s: nothing is left of %s that could be taken back", subject(s.machine), c.Name())
				return s.printNothing(plan)
			}
			if err != nil {
				return s.explain(err)
			}
			about, err := s.aboutUndo(c)
			if err != nil {
				return err
			}
			return s.carryOut(errand{plan: plan, inv: inv, verb: "Take back " + c.Name() + ":", about: about, message: "takes back " + c.Name()})
		},
	}
	a.writeFlags(c)
	return c
}

// aboutUndo says what an undo takes back, and what the next one would.
func (s *session) aboutUndo(c change.Change) ([]string, error) {
	what := map[change.Kind]string{change.Restore: "It was a restore: the machine will be as it was before that, in %s.", change.Undo: "It took a change back itself: that change will be in force again, and %s has the state before it."}[c.Kind]
	if what == "" {
		what = "The machine will be as it was before that, in %s."
	}
	about := []string{fmt.Sprintf("Takes back %s of %s: %s", c.Name(), dated(c.Time), changeItem(c).Message), fmt.Sprintf(what, fmt.Sprintf("S%d", c.Snapshot))}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return nil, adviseStore(err)
	}
	for _, next := range slices.Backward(changes) {
		if next.State == change.Done && next.Kind != change.Undo && next.ID != c.ID {
			return append(about, fmt.Sprintf("A second undo would take back %s of %s: %s", next.Name(), dated(next.Time), changeItem(next).Message)), nil
		}
	}
	return append(about, "A second undo would find nothing more to take back."), nil
}

// toUndo is the change that was named, or the last one that is done and no undo
// itself.
func (s *session) toUndo(args []string) (change.Change, error) {
	if len(args) == 1 {
		n, err := number(args[0], "C", "a change")
		if err != nil {
			return change.Change{}, err
		}
		c, err := s.change(n)
		if err == nil && c.State != change.Done {
			err = usage("%s is %s already", c.Name(), string(c.State))
		}
		return c, err
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return change.Change{}, adviseStore(err)
	}
	for _, c := range slices.Backward(changes) {
		if c.State == change.Done && c.Kind != change.Undo {
			return s.change(c.ID)
		}
	}
	return change.Change{}, usage("no change of this machine can be taken back; see lockback history")
}

func (a *app) recoverCommand() *cobra.Command {
	var finish, abandon bool
	var onto string
	c := &cobra.Command{
		Use:   "recover",
		Short: "Settle a change that was interrupted",
		Long: `Settle a change that was interrupted, by a crash or a power cut: take it back, so
that the machine is exactly as before, or with --finish carry it out to its end.
A change that can be neither taken back nor finished can be given up with
--abandon: how each of its files is left is then listed, and it no longer waits.`,
		Example: "  lockback recover --dry-run\n  lockback recover\n  lockback recover --finish",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if finish && abandon {
				return usage("--finish and --abandon exclude each other")
			}
			access := store.Write
			if a.dryRun {
				access = store.Read
			}
			s, err := a.open(access)
			if err != nil {
				return err
			}
			defer s.close()
			open, ok, err := s.toRecover()
			if err != nil {
				return adviseStore(err)
			}
			if !ok {
				a.note("no interrupted change waits on %s", subject(s.machine))
				return nil
			}
			c, err := s.change(open.ID)
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
				steps := slices.Clone(c.Steps)
				if !finish {
					for k, step := range steps {
						steps[k].Before, steps[k].After = step.After, step.Before
					}
					slices.Reverse(steps)
				}
				switch a.format {
				case "json":
					return s.changeAsJSON("", "", steps, nil, nil)
				case "csv":
					return s.stepsCSV(steps)
				}
				a.printer().Line("%s", subject(s.machine))
				a.printer().Line("")
				a.printSteps(a.printer(), steps, entryNames(s.touchedBy(c)))
				return nil
			}
			elsewhere := s.madeElsewhere(c)
			if elsewhere != "" && !abandon && (a.yes || onto != "") && onto != s.machine.Name {
				return usage("%s was made elsewhere%s; this is %s. If it is the same machine all the same, add --onto %q; if not, recover --abandon gives the change up",
					c.Name(), elsewhere, heading(describe(s.machine)), s.machine.Name)
			}
			if !a.yes {
				a.note("%s", subject(s.machine))
			}
			question := fmt.Sprintf("%s %s, %s of %s%s?", verb, c.Name(), c.Kind, dated(c.Time), elsewhere)
			if err := a.confirm(question); err != nil {
				return err
			}
			var kept []string
			if abandon {
				left, err := s.engine.Abandon(c)
				if err != nil {
					return s.explain(err)
				}
				for _, l := range left {
					kept = append(kept, fmt.Sprintf("%s: %s", autostart.Text(l.Artifact.String()), l.How))
				}
			} else if kept, err = s.engine.Recover(c, finish); err != nil {
				return s.stuck(c, err)
			}
			for _, k := range kept {
				a.note("note: %s", k)
			}
			p := a.printer()
			if a.format == "json" {
				c.State = state
				return p.JSON(struct {
					Machine machineJSON `json:"machine"`
					itemJSON
				}{describe(s.machine), changeItem(c)})
			}
			p.Line("%s", subject(s.machine))
			p.Line("%s was %s", c.Name(), done)
			return nil
		},
	}
	a.writeFlags(c)
	c.Flags().BoolVar(&finish, "finish", false, "carry the change out to its end instead of taking it back")
	c.Flags().BoolVar(&abandon, "abandon", false, "give the change up and list how everything is left")
	c.Flags().StringVar(&onto, "onto", "", "the change was made under another name or in another place; recover it on the machine with this `NAME`")
	return c
}

// toRecover is the change that waits: one of this machine, else one that has its id only.
func (s *session) toRecover() (change.Change, bool, error) {
	c, ok, err := s.engine.Interrupted()
	if ok || err != nil {
		return c, ok, err
	}
	all, err := s.store.Interrupted(s.machine.ID)
	if err != nil || len(all) == 0 {
		return change.Change{}, false, err
	}
	return all[0], true, nil
}

// stuck says what can be done where a change could not be settled.
func (s *session) stuck(c change.Change, err error) error {
	if errors.Is(err, change.ErrConflict) {
		return s.explain(err)
	}
	return fmt.Errorf("%s could not be settled: %w: %w; mend that and run recover again, or give the change up with recover --abandon", c.Name(), err, change.ErrInterrupted)
}
