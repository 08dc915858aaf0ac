package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/store"
	"lockback/core/work"
)

func newHistoryCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "history [ID]",
		Short: "List snapshots and changes, newest first",
		Long: `List the snapshots and changes of this machine, newest first, in local time (UTC in
JSON and CSV). A snapshot that a change took first stands in that change's line.
With an id it shows that one in full.

The record is the file named by --store or LOCKBACK_STORE, else that of this system
when run as root, else the user's own in their state folder. It is used only where
nobody else could have written to it. --store disk is the record that lies on the
mounted disk (in var/lib/lockback, ProgramData\lockback or Library/Application
Support/lockback): whoever had the disk could have written it.`,
		Example: "  lockback history\n  lockback history C3",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.Close()
			if len(args) == 1 {
				return showEvent(s, args[0])
			}
			events, err := work.EventsOf(s.Record, s.Machine.ID)
			if err != nil {
				return work.Advise(err)
			}
			others := a.desk().InOtherRecords(s.Machine.ID, s.Record.Path)
			return a.paged(func() error { return a.page().History(s.Machine, events, others) })
		},
	}
}

// showEvent shows a change or a snapshot in full.
func showEvent(s *session, id string) error {
	if strings.HasPrefix(strings.ToUpper(id), "C") {
		c, err := s.ChangeNamed(id)
		if err != nil {
			return err
		}
		return s.page().Change(s.Machine, c, s.TouchedBy(c))
	}
	snap, err := s.Snapshot(id)
	if err != nil {
		return err
	}
	return s.page().SnapshotEntries(s.Machine, snap)
}
