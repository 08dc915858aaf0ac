package cli

import (
	"errors"
	"slices"

	"github.com/spf13/cobra"

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
				a.note("there is nothing to do: %s changed nothing", c.Name())
				return s.printChange(change.Plan{}, inv, change.Result{})
			}
			if err != nil {
				return s.explain(err)
			}
			items := itemsOf(inv, plan.Handles)
			for _, item := range items {
				if !slices.Contains(plan.Effects, item.Effect) {
					plan.Effects = append(plan.Effects, item.Effect)
				}
			}
			return s.carryOut(plan, inv, items, "takes back "+c.Name(), "Take back "+c.Name()+":")
		},
	}
	a.writeFlags(c)
	return c
}

// toUndo is the change that was named, or the last one that is done and no undo
// itself.
func (s *session) toUndo(args []string) (store.Change, error) {
	if len(args) == 1 {
		n, err := number(args[0], "C", "a change")
		if err != nil {
			return store.Change{}, err
		}
		c, err := s.change(n)
		if err == nil && c.State != store.Done {
			err = usage("%s is %s already", c.Name(), string(c.State))
		}
		return c, err
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return store.Change{}, adviseStore(err)
	}
	for _, c := range slices.Backward(changes) {
		if c.State == store.Done && c.Kind != store.Undo {
			return s.change(c.ID)
		}
	}
	return store.Change{}, usage("no change of this machine can be taken back; see lockback history")
}

func (a *app) recoverCommand() *cobra.Command {
	var finish bool
	c := &cobra.Command{
		Use:   "recover",
		Short: "Settle a change that was interrupted",
		Long: `Settle a change that was interrupted, by a crash or a power cut: take it back, so
that the machine is exactly as before, or with --finish carry it out to its end.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			access := store.Write
			if a.dryRun {
				access = store.Read
			}
			s, err := a.open(access)
			if err != nil {
				return err
			}
			defer s.close()
			open, ok, err := s.store.Interrupted(s.machine.ID)
			if err != nil {
				return adviseStore(err)
			}
			if !ok {
				a.note("no interrupted change waits")
				return nil
			}
			c, err := s.change(open.ID)
			if err != nil {
				return err
			}
			verb, done := "Take back", "taken back; the machine is as it was before"
			if finish {
				verb, done = "Finish", "finished"
			}
			if a.dryRun {
				steps := slices.Clone(c.Steps)
				if !finish {
					for k, step := range steps {
						steps[k].Before, steps[k].After = step.After, step.Before
					}
					slices.Reverse(steps)
				}
				a.printSteps(steps)
				return nil
			}
			if err := a.confirm(verb + " " + c.Name() + ", " + string(c.Kind) + " of " + c.Time.Format("2006-01-02 15:04") + "?"); err != nil {
				return err
			}
			if err := s.engine.Recover(c, finish); err != nil {
				return s.explain(err)
			}
			p := a.printer()
			if a.format == "json" {
				state := store.Undone
				if finish {
					state = store.Done
				}
				c.State = state
				return p.JSON(changeItem(c))
			}
			p.Line("%s was %s", c.Name(), done)
			return nil
		},
	}
	a.writeFlags(c)
	c.Flags().BoolVar(&finish, "finish", false, "carry the change out to its end instead of taking it back")
	return c
}
