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
	"lockback/core/work"
	"lockback/internal/page"
)

func newKeepCommand(a *app) *cobra.Command {
	var message string
	c := &cobra.Command{
		Use:   "keep [CHANGE]",
		Short: "End a trial: the change stays",
		Long: `End the trial of a change, by default of the last one that is on trial: nobody missed
anything, and check no longer asks. Nothing of the machine is touched, and the change
can still be taken back.

For an entry that came back by itself and may stay on, there is lockback accept.`,
		Example: "  lockback keep\n  lockback keep C2",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.openToChange(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if !slices.ContainsFunc(args, func(arg string) bool { return !work.IsChange(arg) }) {
				return keepChange(s, args)
			}
			s.page().Note("an entry that may stay on is accepted: lockback accept; keep takes it for one version more")
			return acceptEntries(s, args, message)
		},
	}
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, "say what would be confirmed and record nothing")
	c.Flags().BoolVar(&a.yes, "yes", false, "do not ask")
	c.Flags().StringVarP(&message, "message", "m", "", "say why, for the history")
	return c
}

func newAcceptCommand(a *app) *cobra.Command {
	var message string
	c := &cobra.Command{
		Use:   "accept SELECTOR...",
		Short: "Let entries that came back stay on: check no longer names them",
		Long: `Accept entries that lockback turned off and that something turned on again: they stay
on, and check no longer names them. Nothing of the machine is touched.

To end the trial of a change that holds, there is lockback keep.`,
		Example: "  lockback accept k7f3qa2\n  lockback accept \"Fogbell Sync\" -m \"Ines wants it\"",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			s, err := a.openToChange(true)
			if err != nil {
				return err
			}
			defer s.Close()
			return acceptEntries(s, words, message)
		},
	}
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, "say what would be accepted and record nothing")
	c.Flags().BoolVar(&a.yes, "yes", false, "do not ask")
	c.Flags().StringVarP(&message, "message", "m", "", "say why, for the history")
	return c
}

// keepChange ends the trial of a change.
func keepChange(s *session, args []string) error {
	c, err := s.ToKeep(args)
	if err != nil {
		return err
	}
	if !s.dryRun {
		now := time.Now()
		if err := s.Record.Update(func(tx change.Tx) error { return tx.Keep(c.ID, now) }); err != nil {
			return work.Advise(err)
		}
		c.Kept = now
	}
	if s.dryRun {
		return s.page().Kept(s.Machine, c, fmt.Sprintf("%s of %s would be kept; nothing was changed", c.Name(),
			page.Dated(c.Time)))
	}
	return s.page().Kept(s.Machine, c, fmt.Sprintf("%s of %s is kept: %s", c.Name(), page.Dated(c.Time), c.Words()))
}

// acceptEntries says about entries that came back that they may stay.
func acceptEntries(s *session, words []string, message string) error {
	inv := s.Inventory()
	c, err := s.ChooseExactly(inv, words, work.Scope{})
	if err != nil {
		return err
	}
	decisions, err := s.Record.Decisions(s.Machine.ID)
	if err != nil {
		return work.Advise(err)
	}
	var handles []string
	var back []string
	for _, item := range c.Items {
		if d := decisions[item.Handle]; d.IsOff() && item.State == autostart.Enabled {
			handles, back = append(handles, item.Handle), append(back, item.Name)
		}
	}
	if len(handles) == 0 {
		return usage("none of these is an entry that lockback turned off and that came back; to end the trial of a " +
			"change, name that: lockback keep C1")
	}
	slices.Sort(handles)
	kept := change.Change{Machine: s.Machine.ID, Time: time.Now().UTC().Truncate(time.Second), Kind: change.Keep,
		Message: cmp.Or(message, strings.Join(back, ", ")), Entries: len(handles),
		State: change.Done, Host: s.Machine.Name, Outcomes: []change.Outcome{{State: autostart.Enabled,
			Handles: handles}}}
	if !s.Machine.Live {
		kept.Root = s.Machine.Root
	}
	if !s.dryRun {
		if err := s.Record.Update(func(tx change.Tx) error {
			snap, err := s.Engine.Capture(tx, inv, kept.Time, "before "+string(change.Keep))
			if err != nil {
				return err
			}
			kept.Snapshot = snap.ID
			return tx.AddChange(&kept)
		}); err != nil {
			return work.Advise(err)
		}
	}
	if s.dryRun {
		return s.page().Kept(s.Machine, kept, fmt.Sprintf("%s would be accepted and stay on; nothing was changed",
			strings.Join(back, ", ")))
	}
	return s.page().Kept(s.Machine, kept, fmt.Sprintf("%s: %s may stay on; check no longer names %s",
		kept.Name(), strings.Join(back, ", "), itThem(len(back))))
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
