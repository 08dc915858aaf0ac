package page

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/work"
	"lockback/internal/view"
)

// ByCost sorts by what programs cost: no field, but several.
const ByCost = "cost"

// Costliest puts what costs most first, see [autostart.Cost.Compare].
func Costliest(a, b *autostart.Entry) int { return a.Cost.Compare(b.Cost) }

// comparedCosts says what a list by cost compares.
func comparedCosts(entries []*autostart.Entry) string {
	of := map[string]int{}
	for _, e := range entries {
		if e.Cost != nil {
			of[cmp.Or(e.Cost.Basis, e.Cost.StartBasis)]++
		}
	}
	if len(of) == 0 {
		return "nothing is known of what these entries cost: the machine keeps no figures that can be read here"
	}
	var parts []string
	for _, basis := range slices.Sorted(maps.Keys(of)) {
		parts = append(parts, fmt.Sprintf("%s: %s", basis, autostart.Count(of[basis], "entry", "entries")))
	}
	text := "sorted by harm: seconds of the start, then processor time, disk, memory (" + strings.Join(parts, ", ") + ")"
	if len(of) > 1 {
		text += "; figures of different times stand side by side"
	}
	if n := len(entries); n > 0 {
		none := n
		for _, k := range of {
			none -= k
		}
		if none > 0 {
			text += fmt.Sprintf("; of %s nothing is known", autostart.Count(none, "entry", "entries"))
		}
	}
	return text
}

// idsOf are the ids of locations.
func idsOf(locations []location.Location) []string {
	ids := make([]string, len(locations))
	for k, l := range locations {
		ids[k] = l.ID
	}
	return ids
}

// ListHead and ListTail are what stands before and behind the entries of a list, in JSON.
type ListHead struct {
	Machine Machine `json:"machine"`
}

// ListTail is what stands behind them.
type ListTail struct {
	LeftOut     int                `json:"left_out"`
	Unread      []autostart.Unread `json:"unread"`
	NotLookedAt []string           `json:"not_looked_at"`
}

// ListDocument is a list of entries, in JSON.
type ListDocument struct {
	ListHead
	Entries []autostart.Entry `json:"entries"`
	ListTail
}

// List lists entries. More is how many start for everyone besides, and whose users' own they are.
func (w Writer) List(inv inventory.Inventory, c work.Choice, entries []*autostart.Entry, layout view.Layout,
	byCost bool, more int) error {
	switch w.Format {
	case "json":
		return view.JSONList(w.Printer, ListHead{MachineOf(inv.Machine)}, "entries", entries,
			ListTail{c.Hidden, list(inv.Unread), idsOf(inv.NotLookedAt)},
			func(b []byte, e *autostart.Entry) ([]byte, error) { return e.AppendJSON(b), nil })
	case "csv":
		w.NoteUnread(inv.Unread)
		return w.EntriesCSV(entries, layout.Columns)
	}
	entries = autostart.OnceForEveryone(entries, work.Entries(inv.Items))
	w.Line("%s", Heading(inv.Machine))
	if len(entries) > 0 {
		w.Line("")
		w.Entries(entries, layout)
	}
	w.Unread(inv.Unread)
	w.Line("")
	w.Line("%s", view.Counts(entries, c.Hidden))
	if byCost {
		w.Line("%s", comparedCosts(entries))
	}
	if more > 0 {
		w.Line("and %s for everyone (for=%s shows them too)", autostart.Count(more, "more", "more"),
			strings.Join(c.Selector.Only("user"), ","))
	}
	if n := len(inv.Unread); n > 0 {
		w.Line("%s could not be read, see above", autostart.Count(n, "place", "places"))
	}
	if n := len(inv.NotLookedAt); n > 0 {
		w.Line("%s %s not looked at yet (lockback locations names them): this list is not complete",
			autostart.Count(n, "kind of place", "kinds of places"), isAre(n))
	}
	return nil
}

// NoteUnread tells of unread places where the output has no room for them.
func (w Writer) NoteUnread(unread []autostart.Unread) {
	for _, u := range unread {
		w.Note("not read: %s: %s (%s)", u.Path, u.Reason, u.Location)
	}
}
