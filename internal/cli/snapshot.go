package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/view"
)

func (a *app) snapshotCommand() *cobra.Command {
	var message string
	c := &cobra.Command{
		Use:   "snapshot",
		Short: "Record the exact state of all entries",
		Long: `Record the exact state of all entries: every file, link and folder that decides
one, with content, owner, mode, times and extended attributes. Only what is new
takes room in the record. What could not be read is named, and for root the exit
code is then 1.`,
		Example: "  lockback snapshot\n  lockback snapshot -m \"as found\"",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) (err error) {
			s, err := a.open(store.Write)
			if err != nil {
				return err
			}
			defer s.close()
			if err := s.settled(); err != nil {
				return err
			}
			inv := s.inventory()
			var snap *snapshot.Snapshot
			done := a.busy("recording")
			err = s.store.Update(func(tx change.Tx) (err error) {
				snap, err = s.engine.Capture(tx, inv, time.Now(), message)
				return err
			})
			done()
			if err != nil {
				return fmt.Errorf("no snapshot was recorded: %w", adviseStore(err))
			}
			if snap.Missed > 0 && machine.Privileged() {
				// Nobody has more rights: what is missing in it stays missing.
				defer func() {
					if err == nil {
						a.note("the snapshot is not complete: what decides an entry could not be read in %s", view.Number(snap.Missed, "place", "places"))
						err = exitError(exitFailed)
					}
				}()
			}
			p := a.printer()
			switch a.format {
			case "json":
				return p.JSON(struct {
					Machine  machineJSON        `json:"machine"`
					Snapshot string             `json:"snapshot"`
					Entries  int                `json:"entries"`
					Enabled  int                `json:"enabled"`
					Disabled int                `json:"disabled"`
					Unread   []autostart.Unread `json:"unread"`
				}{describe(s.machine), snap.Name(), snap.Enabled + snap.Disabled, snap.Enabled, snap.Disabled, notNil(snap.Unread)})
			case "csv":
				a.noteUnread(snap.Unread)
				return p.CSV([]string{"snapshot", "entries", "enabled", "disabled"},
					[][]string{{snap.Name(), strconv.Itoa(snap.Enabled + snap.Disabled), strconv.Itoa(snap.Enabled), strconv.Itoa(snap.Disabled)}})
			}
			p.Line("%s", subject(s.machine))
			p.Line("%s: %s recorded, %d enabled and %d disabled", snap.Name(), view.Number(snap.Enabled+snap.Disabled, "entry", "entries"), snap.Enabled, snap.Disabled)
			a.note("in the record %s", s.store.Path)
			p.Unread(snap.Unread)
			return nil
		},
	}
	c.Flags().StringVarP(&message, "message", "m", "", "say what it is for")
	return c
}
