package cli

import (
	"time"

	"github.com/spf13/cobra"

	"lockback/core/check"
	"lockback/core/snapshot"
	"lockback/core/starts"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/core/work/trial"
	"lockback/internal/page"
)

func newCheckCommand(a *app) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "check [SNAPSHOT]",
		Short: "Show what happened since, and what is on trial",
		Long: `Show what happened since the last snapshot that somebody took, or since the one you name:
what turned itself on again, and who did it, as far as files, packages, policies and logs
tell; what was added; which program was replaced; what broke. Updates by the system or its
package manager stand apart, and so does what somebody turned off.

Every disable is on trial until you keep it. check says whether the computer was restarted
or the users signed in since, because a trial means nothing before that, and what to try.
After 14 days, or what disable --trial says, it asks for a decision.

The exit code is 3 where you have to decide something. With --quiet only that is printed,
for scheduled runs.`,
		Example: "  lockback check\n  lockback check S3\n  lockback check --quiet",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.openSettled(store.Read)
			if err != nil {
				return err
			}
			defer s.Close()
			r, err := runCheck(s, args)
			if err != nil {
				return err
			}
			if err := a.page().Check(r, all); err != nil {
				return err
			}
			if r.Wants() > 0 {
				return exitError(exitDifferent)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "list what updates did to parts of the operating system, too")
	return c
}

// runCheck compares the machine with a snapshot, by default the last one that somebody took.
func runCheck(s *session, args []string) (page.Checked, error) {
	r := page.Checked{Machine: s.Machine}
	var err error
	if len(args) == 1 {
		r.Since, err = s.Snapshot(args[0])
		if err == nil && r.Since.Machine != s.Machine.ID {
			err = usage("%s is of another machine, %s", r.Since.Name(), s.MachineNamed(r.Since.Machine))
		}
	} else {
		r.Since, err = s.LastSnapshot()
	}
	if err != nil {
		return r, err
	}
	now, inv, err := s.Capture()
	if err != nil {
		return r, err
	}
	diff, err := snapshot.Compare(r.Since, now)
	if err != nil {
		return r, work.Advise(err)
	}
	doing, err := s.Engine.Doing(r.Since, now, diff)
	if err != nil {
		return r, work.Advise(err)
	}
	changes, err := s.Record.Changes(s.Machine.ID)
	if err != nil {
		return r, work.Advise(err)
	}
	decisions, err := s.Record.Decisions(s.Machine.ID)
	if err != nil {
		return r, work.Advise(err)
	}
	r.Starts, r.Before, r.Now = starts.Read(s.Machine), r.Since.Figures, now.Figures
	in := check.Input{Machine: s.Machine, Memory: s.Memory, Before: r.Since, Diff: diff, Ours: doing.By,
		Decisions: decisions,
		Changes:   changes, Items: inv.Items, Snapshot: s.Record.Snapshot}
	if r.Findings, err = check.Find(in); err != nil {
		return r, work.Advise(err)
	}
	r.Trials = trial.All(s.Session, changes, inv, r.Starts, time.Now())
	state, err := s.Record.Search(s.Machine.ID)
	r.Search = state != ""
	return r, work.Advise(err)
}
