package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
)

func (a *app) keepCommand() *cobra.Command {
	var message string
	c := &cobra.Command{
		Use:   "keep [CHANGE | SELECTOR...]",
		Short: "End a trial: the change stays",
		Long: `End the trial of a change, by default of the last one that is on trial: nobody missed
anything, and check no longer asks. Nothing of the machine is touched, and the change
can still be taken back.

With entries that came back after lockback had turned them off, those may stay: check
does not name them any more.`,
		Example: "  lockback keep\n  lockback keep C2\n  lockback keep k7f3qa2",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.openToWrite(true)
			if err != nil {
				return err
			}
			defer s.close()
			if !slices.ContainsFunc(args, func(arg string) bool { return !isChange(arg) }) {
				return s.keepChange(args)
			}
			return s.keepEntries(args, message)
		},
	}
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, "say what would be confirmed and record nothing")
	c.Flags().BoolVar(&a.yes, "yes", false, "do not ask")
	c.Flags().StringVarP(&message, "message", "m", "", "say why, for the history")
	return c
}

// isChange reports whether a word is written as a change is: C and a number. A handle can look the same only where it is
// cut short, and then the change is meant.
func isChange(word string) bool {
	_, err := number(word, "C", "a change")
	return err == nil
}

// keepChange ends the trial of a change.
func (s *session) keepChange(args []string) error {
	c, err := s.toKeep(args)
	if err != nil {
		return err
	}
	if !s.dryRun {
		now := time.Now()
		if err := s.store.Update(func(tx change.Tx) error { return tx.Keep(c.ID, now) }); err != nil {
			return adviseStore(err)
		}
		c.Kept = now
	}
	if s.dryRun {
		return s.printKept(c, fmt.Sprintf("%s of %s would be kept; nothing was changed", c.Name(), dated(c.Time)))
	}
	return s.printKept(c, fmt.Sprintf("%s of %s is kept: %s", c.Name(), dated(c.Time), changeItem(c).Message))
}

// printKept tells of a change that was kept, or of one that says what may stay.
func (s *session) printKept(c change.Change, words string) error {
	item, p := changeItem(c), s.printer()
	switch s.format {
	case "json":
		return p.JSON(struct {
			Machine machineJSON `json:"machine"`
			itemJSON
		}{describe(s.machine), item})
	case "csv":
		return p.CSV(itemHeader, [][]string{item.row()})
	}
	p.Line("%s", subject(s.machine))
	p.Line("%s", words)
	return nil
}

// toKeep is the change that was named, or the last one that is on trial.
func (s *session) toKeep(args []string) (change.Change, error) {
	if len(args) > 1 {
		return change.Change{}, usage("keep ends the trial of one change at a time: lockback keep %s", args[0])
	}
	if len(args) == 1 {
		n, err := number(args[0], "C", "a change")
		if err != nil {
			return change.Change{}, err
		}
		c, err := s.change(n)
		switch {
		case err != nil:
		case !c.Kept.IsZero() && c.State == change.Done:
			err = usage("%s was kept already, on %s", c.Name(), local(c.Kept))
		case c.State != change.Done:
			err = usage("%s is %s; there is nothing to keep of it", c.Name(), string(c.State))
		case !c.OnTrial():
			err = usage("%s is not on trial: it is a change of the kind %s", c.Name(), string(c.Kind))
		}
		return c, err
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return change.Change{}, adviseStore(err)
	}
	for _, c := range slices.Backward(changes) {
		if c.OnTrial() {
			return c, nil
		}
	}
	return change.Change{}, usage("no change of this machine is on trial; see lockback history")
}

// keepEntries says of entries that came back that they may stay.
func (s *session) keepEntries(words []string, message string) error {
	inv := s.inventory()
	c, err := s.chooseExactly(inv, words, scope{})
	if err != nil {
		return err
	}
	decisions, err := s.store.Decisions(s.machine.ID)
	if err != nil {
		return adviseStore(err)
	}
	var handles []string
	var back []string
	for _, item := range c.items {
		if d := decisions[item.Handle]; d.IsOff() && item.State == autostart.Enabled {
			handles, back = append(handles, item.Handle), append(back, item.Name)
		}
	}
	if len(handles) == 0 {
		return usage("none of these is an entry that lockback turned off and that came back; to end the trial of a change, name that: lockback keep C1")
	}
	slices.Sort(handles)
	kept := change.Change{Machine: s.machine.ID, Time: time.Now().UTC().Truncate(time.Second), Kind: change.Keep, Message: cmp.Or(message, strings.Join(back, ", ")), Entries: len(handles),
		State: change.Done, Host: s.machine.Name, Outcomes: []change.Outcome{{State: autostart.Enabled, Handles: handles}}}
	if !s.machine.Live {
		kept.Root = s.machine.Root
	}
	if !s.dryRun {
		if err := s.store.Update(func(tx change.Tx) error {
			snap, err := s.engine.Capture(tx, inv, kept.Time, "before "+string(change.Keep))
			if err != nil {
				return err
			}
			kept.Snapshot = snap.ID
			return tx.AddChange(&kept)
		}); err != nil {
			return adviseStore(err)
		}
	}
	if s.dryRun {
		return s.printKept(kept, fmt.Sprintf("%s would be let stay enabled; nothing was changed", strings.Join(back, ", ")))
	}
	return s.printKept(kept, fmt.Sprintf("%s: %s may stay enabled; check does not name %s any more", kept.Name(), strings.Join(back, ", "), itThem(len(back))))
}

func itThem(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// days reads how long a trial is: "14d", or the number alone.
func days(text string) (int, error) {
	n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(text), "d"))
	if err != nil || n < 1 || n > 3650 {
		return 0, errors.New("it is a number of days from 1d to 3650d")
	}
	return n, nil
}
