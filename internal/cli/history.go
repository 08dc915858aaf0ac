package cli

import (
	"cmp"
	"maps"
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
	return itemJSON{c.Name(), "change", c.Time.Format(time.RFC3339), strings.TrimSuffix(string(c.Kind)+": "+message, ": "), c.Entries, stateWord(c)}
}

// stateWord is how far a change got, for people: one that is done is on trial until somebody confirms it.
func stateWord(c change.Change) string {
	switch {
	case c.OnTrial():
		return "trial"
	case c.State == change.Done && !c.Kept.IsZero():
		return "kept"
	}
	return string(c.State)
}

// itemHeader heads a sheet of snapshots and changes, and row is one of them.
var itemHeader = []string{"id", "kind", "time", "message", "entries", "state"}

func (i itemJSON) row() []string {
	return []string{i.ID, i.Kind, i.Time, i.Message, strconv.Itoa(i.Entries), i.State}
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
		Long: `List the snapshots and changes of this machine, newest first, in local time (UTC in
JSON and CSV). A snapshot that a change took first stands in that change's line.
With an id, that one in full.

The record is the file named by --store or LOCKBACK_STORE, else that of this system
when run as root, else the user's own in their state folder. It is used only where
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
			items, before, err := itemsOf(s.store, s.machine.ID)
			if err != nil {
				return adviseStore(err)
			}
			return s.printItems(items, before)
		},
	}
}

// itemsOf lists the snapshots and changes of a machine, the newest first, and tells which snapshot
// was taken before each change. A change stands above that.
func itemsOf(st *store.Store, machine string) (items []itemJSON, before map[string]string, err error) {
	snaps, err := st.Snapshots(machine)
	if err != nil {
		return nil, nil, err
	}
	changes, err := st.Changes(machine)
	if err != nil {
		return nil, nil, err
	}
	used := map[int][]change.Change{}
	before = map[string]string{}
	for _, c := range changes {
		used[c.Snapshot] = append(used[c.Snapshot], c)
		before[c.Name()] = "S" + strconv.Itoa(c.Snapshot)
	}
	for _, snap := range snaps {
		items = append(items, snapshotItem(snap))
		for _, c := range used[snap.ID] {
			items = append(items, changeItem(c))
		}
	}
	slices.Reverse(items)
	return items, before, nil
}

// printItems lists snapshots and changes. On a screen, a snapshot that a change took first stands
// in the change's own line.
func (s *session) printItems(items []itemJSON, before map[string]string) error {
	p := s.printer()
	switch s.format {
	case "json":
		return p.JSON(struct {
			Items []itemJSON `json:"items"`
		}{notNil(items)})
	case "csv":
		var rows [][]string
		for _, i := range items {
			rows = append(rows, i.row())
		}
		return p.CSV(itemHeader, rows)
	}
	p.Line("%s", heading(describe(s.machine)))
	p.Line("")
	p.Table(itemColumns, slices.Values(itemRows(items, before)))
	others := s.otherItems(s.machine.ID, s.store.Path)
	for _, path := range slices.Sorted(maps.Keys(others)) {
		p.Line("")
		p.Bold("In another record, " + path + " (numbers of its own)")
		p.Table(itemColumns, slices.Values(itemRows(others[path], nil)))
	}
	return nil
}

var itemColumns = []view.Column{{Title: "id"}, {Title: "time"}, {Title: "kind"}, {Title: "entries"}, {Title: "state"}, {Title: "before it"}, {Title: "message", Share: 1}}

func itemRows(items []itemJSON, before map[string]string) [][]view.Cell {
	folded := map[string]bool{}
	for _, snap := range before {
		folded[snap] = true
	}
	var rows [][]view.Cell
	for _, i := range items {
		if i.Kind == "snapshot" && folded[i.ID] && automatic(i) {
			continue
		}
		mark := view.Plain
		if i.State == string(change.Begun) || i.State == string(change.Abandoned) {
			mark = view.Alert
		}
		when := i.Time
		if t, err := time.Parse(time.RFC3339, i.Time); err == nil {
			when = local(t)
		}
		rows = append(rows, []view.Cell{view.T(i.ID), view.T(when), view.T(i.Kind), view.T(strconv.Itoa(i.Entries)), {Lines: []string{i.State}, Mark: mark}, view.T(before[i.ID]), view.T(i.Message)})
	}
	return rows
}

// automatic reports whether a change took the snapshot, not a person.
func automatic(i itemJSON) bool { return strings.HasPrefix(i.Message, "before ") }

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
		touched := s.touchedBy(c)
		if s.format == "json" {
			return p.JSON(struct {
				itemJSON
				Snapshot string     `json:"snapshot"`
				Touched  []named    `json:"touched"`
				Steps    []stepJSON `json:"steps"`
			}{item, "S" + strconv.Itoa(c.Snapshot), touched, stepsOf(c.Steps)})
		}
		if s.format == "csv" {
			return s.stepsCSV(c.Steps)
		}
		p.Line("%s", heading(describe(s.machine)))
		p.Line("%s of %s, %s: %s", item.ID, dated(c.Time), item.State, item.Message)
		p.Line("S%d has the state before it.", c.Snapshot)
		p.Line("")
		var rows [][]view.Cell
		for _, n := range touched {
			rows = append(rows, []view.Cell{view.T(n.Handle), view.T(n.Name), view.T(cmp.Or(n.User, "everyone")), view.T(n.Was)})
		}
		p.Table([]view.Column{{Title: "handle"}, {Title: "name", Share: 1}, {Title: "for"}, {Title: "was"}}, slices.Values(rows))
		p.Line("")
		s.printSteps(p, c.Steps, entryNames(touched))
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
		return p.EntriesCSV(entries, nil)
	}
	p.Line("%s", heading(describe(s.machine)))
	p.Line("%s", strings.TrimSuffix(item.ID+" of "+dated(snap.Time)+": "+item.Message, ": "))
	p.Line("")
	p.Entries(entries, view.Layout{})
	p.Unread(snap.Unread)
	p.Line("")
	p.Line("%s", view.Counts(entries, 0))
	return nil
}

// named is an entry that a change touched, as it was before.
type named struct {
	Handle string `json:"handle"`
	Name   string `json:"name"`
	User   string `json:"user"`
	Was    string `json:"was"`
}

// touchedBy lists the entries of a change by their names. Those that were not there before it have
// only a handle.
func (s *session) touchedBy(c change.Change) []named {
	list := []named{}
	at := map[string]int{}
	for _, step := range c.Steps {
		for _, h := range step.Handles {
			if _, known := at[h]; !known {
				at[h] = len(list)
				list = append(list, named{Handle: h, Was: absent})
			}
		}
	}
	snap, err := s.store.Snapshot(c.Snapshot)
	if err != nil {
		return list // the change itself can be told of all the same
	}
	handles := make(map[string]bool, len(at))
	for h := range at {
		handles[h] = true
	}
	entries, err := snap.EntriesOf(handles)
	if err != nil {
		return list
	}
	for _, rec := range entries {
		n := &list[at[rec.Handle]]
		n.Name, n.User, n.Was = rec.Name, rec.User, string(rec.State)
	}
	return list
}

// entryNames tells the names of entries that a change touched.
func entryNames(touched []named) func(handle string) string {
	names := make(map[string]string, len(touched))
	for _, n := range touched {
		names[n.Handle] = n.Name
	}
	return func(h string) string { return names[h] }
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
