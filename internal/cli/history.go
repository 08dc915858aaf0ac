package cli

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/view"
)

// itemJSON is a snapshot or a change in a list.
type itemJSON struct {
	ID      string `json:"id"`
	Kind    string `json:"kind"`
	Time    string `json:"time"`
	Message string `json:"message"`
	Entries int    `json:"entries"`
	State   string `json:"state"`
}

func snapshotItem(s *snapshot.Snapshot) itemJSON {
	return itemJSON{s.Name(), "snapshot", s.Time.Format(time.RFC3339), s.Message, s.Enabled + s.Disabled, "done"}
}

func changeItem(c change.Change) itemJSON {
	message := c.Message
	if message == "" && c.Undoes > 0 {
		message = "takes back C" + strconv.Itoa(c.Undoes)
	}
	return itemJSON{c.Name(), "change", c.Time.Format(time.RFC3339), strings.TrimSuffix(string(c.Kind)+": "+message, ": "), c.Entries, string(c.State)}
}

// number reads the number of a snapshot (S1) or of a change (C1).
func number(id, letter, what string) (int, error) {
	digits, ok := strings.CutPrefix(strings.ToUpper(id), letter)
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 1 {
		return 0, usage("%q is not %s; they are written %s1, %s2, ...: see lockback history", id, what, letter, letter)
	}
	return n, nil
}

func (a *app) historyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "history [ID]",
		Short: "List snapshots and changes, newest first",
		Long: `List the snapshots and changes of this machine, newest first; with an id, that
one in full.

The record is the file named by --store or LOCKBACK_STORE, else that of this system
when run as root, else the person's own in their state folder. It is used only where
nobody else could have written to it. --store disk is the record that lies on the
mounted disk (in var/lib/lockback, ProgramData\lockback or Library/Application
Support/lockback): what it says is the word of whoever had the disk.`,
		Example: "  lockback history\n  lockback history C3",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.close()
			if len(args) == 1 {
				return s.historyOf(args[0])
			}
			snaps, err := s.store.Snapshots(s.machine.ID)
			if err != nil {
				return adviseStore(err)
			}
			changes, err := s.store.Changes(s.machine.ID)
			if err != nil {
				return adviseStore(err)
			}
			// A change stands above the snapshot that was taken before it.
			var items []itemJSON
			used := map[int][]change.Change{}
			for _, c := range changes {
				used[c.Snapshot] = append(used[c.Snapshot], c)
			}
			for _, snap := range snaps {
				items = append(items, snapshotItem(snap))
				for _, c := range used[snap.ID] {
					items = append(items, changeItem(c))
				}
			}
			slices.Reverse(items)
			return s.printItems(items)
		},
	}
}

func (s *session) printItems(items []itemJSON) error {
	p := s.printer()
	switch s.format {
	case "json":
		return p.JSON(struct {
			Items []itemJSON `json:"items"`
		}{notNil(items)})
	case "csv":
		var rows [][]string
		for _, i := range items {
			rows = append(rows, []string{i.ID, i.Kind, i.Time, i.Message, strconv.Itoa(i.Entries), i.State})
		}
		return p.CSV([]string{"id", "kind", "time", "message", "entries", "state"}, rows)
	}
	p.Line("%s", heading(describe(s.machine)))
	p.Line("")
	var rows [][]view.Cell
	for _, i := range items {
		mark := view.Plain
		if i.State != "done" {
			mark = view.Alert
		}
		rows = append(rows, []view.Cell{view.T(i.ID), view.T(i.Time), view.T(i.Kind), view.T(strconv.Itoa(i.Entries)), {Lines: []string{i.State}, Mark: mark}, view.T(i.Message)})
	}
	p.Table([]view.Column{{Title: "id"}, {Title: "time (UTC)"}, {Title: "kind"}, {Title: "entries"}, {Title: "state"}, {Title: "message", Share: 1}}, slices.Values(rows))
	return nil
}

func (s *session) historyOf(id string) error {
	p := s.printer()
	if strings.HasPrefix(strings.ToUpper(id), "C") {
		n, err := number(id, "C", "a change")
		if err != nil {
			return err
		}
		c, err := s.change(n)
		if err != nil {
			return err
		}
		item := changeItem(c)
		if s.format == "json" {
			return p.JSON(struct {
				itemJSON
				Steps []stepJSON `json:"steps"`
			}{item, stepsOf(c.Steps)})
		}
		if s.format == "csv" {
			return s.stepsCSV(c.Steps)
		}
		p.Line("%s of %s, %s: %s", item.ID, item.Time, item.State, item.Message)
		p.Line("")
		s.printSteps(c.Steps)
		return nil
	}
	snap, err := s.snapshot(id)
	if err != nil {
		return err
	}
	recorded, err := snap.Entries()
	if err != nil {
		return err
	}
	entries := make([]*autostart.Entry, len(recorded))
	for k := range recorded {
		entries[k] = &recorded[k].Entry
	}
	item := snapshotItem(snap)
	switch s.format {
	case "json":
		return p.JSON(struct {
			itemJSON
			List   []*autostart.Entry `json:"list"`
			Unread []autostart.Unread `json:"unread"`
		}{item, entries, notNil(snap.Unread)})
	case "csv":
		return p.EntriesCSV(entries)
	}
	p.Line("%s", strings.TrimSuffix(item.ID+" of "+item.Time+": "+item.Message, ": "))
	p.Line("")
	p.Entries(entries)
	p.Unread(snap.Unread)
	p.Line("")
	p.Line("%s", view.Counts(entries, 0))
	return nil
}

// snapshot loads a snapshot by its written number.
func (s *session) snapshot(id string) (*snapshot.Snapshot, error) {
	n, err := number(id, "S", "a snapshot")
	if err != nil {
		return nil, err
	}
	snap, err := s.store.Snapshot(n)
	if err != nil {
		return nil, s.notFound(id, err)
	}
	return snap, nil
}

// change loads a change of this machine.
func (s *session) change(n int) (change.Change, error) {
	c, err := s.store.Change(n)
	if err == nil && c.Machine != s.machine.ID {
		return c, usage("%s is a change of another machine", c.Name())
	}
	if err != nil {
		return c, s.notFound("C"+strconv.Itoa(n), err)
	}
	return c, nil
}
