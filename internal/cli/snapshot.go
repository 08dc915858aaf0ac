package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine/files"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/core/work"
)

func newSnapshotCommand(a *app) *cobra.Command {
	var message string
	c := &cobra.Command{
		Use:   "snapshot",
		Short: "Record the exact state of all entries",
		Long: `Record the exact state of all entries: every file, link and folder that decides
one, with content, owner, mode, times and extended attributes. Only new content takes
room in the record. lockback names what it could not read; for root the exit code is then 1.`,
		Example: "  lockback snapshot\n  lockback snapshot -m \"as found\"",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) (err error) {
			s, err := a.openSettled(store.Exclusive)
			if err != nil {
				return err
			}
			defer s.Close()
			inv := s.Inventory()
			var snap *snapshot.Snapshot
			done := a.busy("recording")
			err = s.Record.Update(func(tx change.Tx) (err error) {
				snap, err = s.Engine.Capture(tx, inv, time.Now(), message)
				return err
			})
			done()
			if err != nil {
				return fmt.Errorf("no snapshot was recorded: %w", work.Advise(err))
			}
			if snap.Missed > 0 && files.Privileged() {
				// Nobody has more rights: what is missing in it stays missing.
				defer func() {
					if err == nil {
						a.note("the snapshot is not complete: what decides an entry could not be read in %s",
							autostart.Count(snap.Missed, "place", "places"))
						err = exitError(exitFailed)
					}
				}()
			}
			if err := a.page().Snapshot(s.Machine, snap); err != nil || a.format != "table" {
				return err
			}
			a.note("in the record %s", s.Record.Path)
			a.printer().Unread(snap.Unread)
			return nil
		},
	}
	c.Flags().StringVarP(&message, "message", "m", "", "say what it is for")
	return c
}
