package page

import (
	"cmp"
	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/work"
	"lockback/core/work/outcome"
	"lockback/internal/view"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Item is a snapshot or a change in a list.
type Item struct {
	ID      string `json:"id"`
	Kind    string `json:"kind"`
	Time    string `json:"time"`
	Message string `json:"message"`
	Entries int    `json:"entries"`
	State   string `json:"state"`
}

func snapshotItem(s *snapshot.Snapshot) Item {
	return Item{s.Name(), "snapshot", s.Time.Format(time.RFC3339), s.Message, s.Enabled + s.Disabled, "done"}
}

// ItemOf is a change in a list.
func ItemOf(c change.Change) Item {
	return Item{c.Name(), "change", c.Time.Format(time.RFC3339), c.Words(), c.Entries, stateWord(c)}
}

// ItemsOf are the snapshots and changes of a machine in a list, and which snapshot was taken before each change.
func ItemsOf(events work.Events) (items []Item, before map[string]string) {
	before = map[string]string{}
	for _, e := range events {
		if e.Snapshot != nil {
			items = append(items, snapshotItem(e.Snapshot))
			continue
		}
		items = append(items, ItemOf(e.Change))
		before[e.Change.Name()] = "S" + strconv.Itoa(e.Change.Snapshot)
	}
	return items, before
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

func (i Item) row() []string {
	return []string{i.ID, i.Kind, i.Time, i.Message, strconv.Itoa(i.Entries), i.State}
}

// HistoryDocument is a history, in JSON.
type HistoryDocument struct {
	Items []Item `json:"items"`
}

// History lists snapshots and changes. On a screen, a snapshot that a change took first stands
// in the change's own line.
func (w Writer) History(m *machine.Machine, events work.Events, others map[string]work.Events) error {
	items, before := ItemsOf(events)
	switch w.Format {
	case "json":
		return w.JSON(HistoryDocument{list(items)})
	case "csv":
		var rows [][]string
		for _, i := range items {
			rows = append(rows, i.row())
		}
		return w.CSV(itemHeader, rows)
	}
	w.Line("%s", Heading(m))
	w.Line("")
	w.Table(itemColumns, slices.Values(itemRows(items, before)))
	for _, path := range slices.Sorted(maps.Keys(others)) {
		other, _ := ItemsOf(others[path])
		w.Line("")
		w.Bold("In another record, " + path + " (with S and C numbers of its own)")
		w.Table(itemColumns, slices.Values(itemRows(other, nil)))
	}
	return nil
}

var itemColumns = []view.Column{{Title: "id"}, {Title: "time"}, {Title: "kind"}, {Title: "entries"}, {Title: "state"},
	{Title: "before it"}, {Title: "message", Share: 1}}

func itemRows(items []Item, before map[string]string) [][]view.Cell {
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
			when = autostart.Minute(t)
		}
		rows = append(rows, []view.Cell{view.T(i.ID), view.T(when), view.T(i.Kind), view.T(strconv.Itoa(i.Entries)),
			{Lines: []string{i.State}, Mark: mark}, view.T(before[i.ID]), view.T(i.Message)})
	}
	return rows
}

// automatic reports whether a change took the snapshot, not a person.
func automatic(i Item) bool { return strings.HasPrefix(i.Message, "before ") }

// ChangeDetail is a change in full, in JSON.
type ChangeDetail struct {
	Item
	Snapshot string    `json:"snapshot"`
	Touched  []Touched `json:"touched"`
	Steps    []Step    `json:"steps"`
}

// Touched is an entry that a change touched, as it was before.
type Touched struct {
	Handle string `json:"handle"`
	Name   string `json:"name"`
	User   string `json:"user"`
	Was    string `json:"was"`
}

// TouchedNames tells the names of entries that a change touched.
func TouchedNames(touched []work.Touched) func(handle string) string {
	names := make(map[string]string, len(touched))
	for _, t := range touched {
		names[t.Handle] = t.Name
	}
	return func(h string) string { return names[h] }
}

// Change shows a change in full.
func (w Writer) Change(m *machine.Machine, c change.Change, entries []work.Touched) error {
	item, touched := ItemOf(c), make([]Touched, len(entries))
	for k, t := range entries {
		touched[k] = Touched{t.Handle, t.Name, t.User, cmp.Or(string(t.Was), outcome.Absent)}
	}
	switch w.Format {
	case "json":
		return w.JSON(ChangeDetail{item, "S" + strconv.Itoa(c.Snapshot), touched, stepsOf(c.Steps)})
	case "csv":
		return w.StepsCSV(c.Steps)
	}
	w.Line("%s", Heading(m))
	w.Line("%s of %s, %s: %s", item.ID, Dated(c.Time), item.State, item.Message)
	w.Line("S%d has the state before it.", c.Snapshot)
	w.Line("")
	var rows [][]view.Cell
	for _, t := range touched {
		rows = append(rows, []view.Cell{view.T(t.Handle), view.T(t.Name), view.T(cmp.Or(t.User, "everyone")),
			view.T(t.Was)})
	}
	w.Table([]view.Column{{Title: "handle"}, {Title: "name", Share: 1}, {Title: "for"}, {Title: "was"}},
		slices.Values(rows))
	w.Line("")
	w.Steps(c.Steps, TouchedNames(entries))
	return nil
}

// SnapshotDetail is a snapshot in full, in JSON.
type SnapshotDetail struct {
	Item
	List   []*autostart.Entry `json:"list"`
	Unread []autostart.Unread `json:"unread"`
}

// SnapshotEntries shows a snapshot in full.
func (w Writer) SnapshotEntries(m *machine.Machine, snap *snapshot.Snapshot) error {
	recorded, err := snap.Entries()
	if err != nil {
		return err
	}
	entries := make([]*autostart.Entry, len(recorded))
	for k := range recorded {
		entries[k] = &recorded[k].Entry
	}
	item := snapshotItem(snap)
	switch w.Format {
	case "json":
		return w.JSON(SnapshotDetail{item, entries, list(snap.Unread)})
	case "csv":
		return w.EntriesCSV(entries, nil)
	}
	w.Line("%s", Heading(m))
	w.Line("%s", strings.TrimSuffix(item.ID+" of "+Dated(snap.Time)+": "+item.Message, ": "))
	w.Line("")
	w.Entries(entries, view.Layout{})
	w.Unread(snap.Unread)
	w.Line("")
	w.Line("%s", view.Counts(entries, 0))
	return nil
}

// SnapshotDocument is what a new snapshot has, in JSON.
type SnapshotDocument struct {
	Machine  Machine            `json:"machine"`
	Snapshot string             `json:"snapshot"`
	Entries  int                `json:"entries"`
	Enabled  int                `json:"enabled"`
	Disabled int                `json:"disabled"`
	Unread   []autostart.Unread `json:"unread"`
}

// Snapshot tells what a new snapshot has.
func (w Writer) Snapshot(m *machine.Machine, snap *snapshot.Snapshot) error {
	entries := snap.Enabled + snap.Disabled
	switch w.Format {
	case "json":
		return w.JSON(SnapshotDocument{MachineOf(m), snap.Name(), entries, snap.Enabled, snap.Disabled,
			list(snap.Unread)})
	case "csv":
		w.NoteUnread(snap.Unread)
		return w.CSV([]string{"snapshot", "entries", "enabled", "disabled"},
			[][]string{{snap.Name(), strconv.Itoa(entries), strconv.Itoa(snap.Enabled), strconv.Itoa(snap.Disabled)}})
	}
	w.Line("%s", Subject(m))
	w.Line("%s: %s recorded, %d enabled and %d disabled", snap.Name(), autostart.Count(entries, "entry", "entries"),
		snap.Enabled, snap.Disabled)
	return nil
}

// RecordDocument is a record that was read whole, in JSON.
type RecordDocument struct {
	Record   string `json:"record"`
	Contents int    `json:"contents"`
}
