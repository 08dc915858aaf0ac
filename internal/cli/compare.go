package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/change"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/core/work"
)

func newCompareCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "compare FROM [TO]",
		Short: "Show what differs between two snapshots, or since one, or since a change",
		Long: `Show what differs between two snapshots, or between a snapshot and the machine as
it is now: the entries added, the entries removed, and what changed in the others. It
tells lockback's own changes from all others. "compare C2" shows what happened since that
change, apart from what it did, and what was put back.
The exit code is 0 where nothing differs and 3 where something does.`,
		Example: "  lockback compare S1\n  lockback compare S1 S4\n  lockback compare C2",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.Close()
			fromName, before, since, err := compareFrom(s, args[0])
			if err != nil {
				return err
			}
			if before.Machine != s.Machine.ID {
				a.note("note: %s is of another machine, %s", before.Name(), s.MachineNamed(before.Machine))
			}
			name := "now"
			var to *snapshot.Snapshot
			if len(args) == 2 && !strings.EqualFold(args[1], "now") {
				if to, err = s.Snapshot(args[1]); err != nil {
					return err
				}
				name = to.Name()
				if since != nil && to.ID <= since.Snapshot {
					return usage("%s was taken before %s", to.Name(), since.Name())
				}
			} else {
				if to, _, err = s.Capture(); err != nil {
					return err
				}
			}
			d, err := snapshot.Compare(before, to)
			if err != nil {
				return work.Advise(err)
			}
			if since != nil {
				if d, err = s.Engine.Since(*since, d, before, to); err != nil {
					return work.Advise(err)
				}
			}
			doing, err := s.Engine.Doing(before, to, d)
			if err != nil {
				return work.Advise(err)
			}
			if err := a.page().Difference(s.Machine, fromName, name, d, doing, before.Figures, to.Figures); err != nil {
				return err
			}
			if !d.Empty() {
				return exitError(exitDifferent)
			}
			return nil
		},
	}
}

// compareFrom is where a comparison begins: a snapshot, or a change with the one before it.
func compareFrom(s *session, id string) (string, *snapshot.Snapshot, *change.Change, error) {
	if !strings.HasPrefix(strings.ToUpper(id), "C") {
		snap, err := s.Snapshot(id)
		if err != nil {
			return "", nil, nil, err
		}
		return snap.Name(), snap, nil, nil
	}
	c, err := s.ChangeNamed(id)
	if err == nil && c.State != change.Done {
		err = usage("%s is %s; compare with S%d, which was taken before it", c.Name(), string(c.State), c.Snapshot)
	}
	if err != nil {
		return "", nil, nil, err
	}
	snap, err := s.Snapshot("S" + strconv.Itoa(c.Snapshot))
	return c.Name(), snap, &c, err
}
