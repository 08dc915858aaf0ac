package page

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/review"
	"lockback/core/work"
	"lockback/internal/view"
)

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
		return "no cost is known for these entries: this machine keeps no figures that lockback can read"
	}
	var parts []string
	for _, basis := range slices.Sorted(maps.Keys(of)) {
		parts = append(parts, fmt.Sprintf("%s: %s", basis, autostart.Count(of[basis], "entry", "entries")))
	}
	text := "sorted by harm: seconds of the start, then processor time, disk, memory (" + strings.Join(parts, ", ") +
		")"
	if len(of) > 1 {
		text += "; these figures come from different times"
	}
	if n := len(entries); n > 0 {
		none := n
		for _, k := range of {
			none -= k
		}
		if none > 0 {
			text += fmt.Sprintf("; no cost is known for %s", autostart.Count(none, "entry", "entries"))
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

// ListView says how a list is shown to a person.
type ListView struct {
	view.Layout
	ByCost   bool // sorted by what programs cost
	Sorted   bool // by a field that was named
	Brief    bool // only what to look at first and what costs most
	Selected bool // words choose the entries: what to look at first is what was asked for
	More     int  // how many start for everyone besides, where one user's own were asked for
}

// List lists entries: what to look at first, what costs most, and then each, those first that need a look. A pipe gets
// the entries alone, in the order in which they were read.
func (w Writer) List(inv inventory.Inventory, c work.Choice, entries []*autostart.Entry, o ListView) error {
	switch w.Format {
	case "json":
		return view.JSONList(w.Printer, ListHead{MachineOf(inv.Machine)}, "entries", entries,
			ListTail{c.Hidden, list(inv.Unread), idsOf(inv.NotLookedAt)},
			func(b []byte, e *autostart.Entry) ([]byte, error) { return e.AppendJSON(b), nil })
	case "csv":
		w.NoteUnread(inv.Unread)
		return w.EntriesCSV(entries, o.Columns)
	}
	entries = autostart.OnceForEveryone(entries, work.Entries(inv.Items))
	w.Line("%s", Heading(inv.Machine))
	first := ""
	if w.Width > 0 || o.Brief {
		places := placesOf(c.Items)
		if !o.Sorted && !o.ByCost {
			slices.SortStableFunc(entries, func(a, b *autostart.Entry) int {
				return cmp.Compare(places[a.Handle].at, places[b.Handle].at)
			})
		}
		if o.Columns == nil && !o.Selected || o.Brief {
			first = w.lookFirst(entries, places)
			w.costMost(entries)
		}
	}
	var signs view.Signs
	if len(entries) > 0 && !o.Brief {
		w.Line("")
		signs = w.Entries(entries, o.Layout)
	}
	w.Unread(inv.Unread)
	w.Line("")
	w.Line("%s", view.Counts(entries, c.Hidden))
	if o.ByCost {
		w.Line("%s", comparedCosts(entries))
	}
	if o.More > 0 {
		w.Line("and %s for everyone (for=%s shows them too)", autostart.Count(o.More, "more", "more"),
			strings.Join(c.Selector.Only("user"), ","))
	}
	if n := len(inv.Unread); n > 0 {
		w.Line("%s could not be read, see above", autostart.Count(n, "place", "places"))
	}
	if n := len(inv.NotLookedAt); n > 0 {
		w.Line("%s %s not looked at yet, so this list is not complete (lockback locations names them)",
			autostart.Count(n, "kind of place", "kinds of places"), isAre(n))
	}
	w.Legend(signs)
	if first != "" {
		w.Line("next: lockback show %s", first)
		w.Line("or:   lockback review")
	}
	return nil
}

// place is an entry's place in the order of a review.
type place struct {
	review.Place
	at int
}

// placesOf puts the entries into the one order, by handle; of one that stands for everyone's, by that handle too.
func placesOf(items []*location.Item) map[string]place {
	places := map[string]place{}
	for k, p := range review.Order(items, time.Now()) {
		places[p.Item.Handle] = place{p, k}
		if shared := p.Item.Shared; shared != "" {
			if _, ok := places[shared]; !ok {
				places[shared] = place{p, k}
			}
		}
	}
	return places
}

// mostFirst is how many entries are named that need a look first, and mostCostly how many that cost most.
const (
	mostFirst  = 10
	mostCostly = 3
)

// lookFirst names what needs a look first, and returns the handle of the first.
func (w Writer) lookFirst(entries []*autostart.Entry, places map[string]place) string {
	var worst []*autostart.Entry
	for _, e := range entries {
		if places[e.Handle].Item != nil && places[e.Handle].Rank <= review.Broken {
			worst = append(worst, e)
		}
	}
	slices.SortStableFunc(worst, func(a, b *autostart.Entry) int {
		return cmp.Compare(places[a.Handle].at, places[b.Handle].at)
	})
	if len(worst) == 0 {
		return ""
	}
	w.Line("")
	w.Bold("Look at these first")
	reasons := func(e *autostart.Entry) string { return places[e.Handle].Why }
	w.Reasons(worst[:min(mostFirst, len(worst))], reasons)
	if more := len(worst) - mostFirst; more > 0 {
		w.Line("  and %d more: lockback review has all, the worst first", more)
	}
	return worst[0].Handle
}

// costMost names the enabled entries that cost most.
func (w Writer) costMost(entries []*autostart.Entry) {
	var costly []*autostart.Entry
	for _, e := range entries {
		if e.State == autostart.Enabled && view.CostFigures(e.Cost) != "" {
			costly = append(costly, e)
		}
	}
	if len(costly) == 0 {
		return
	}
	slices.SortStableFunc(costly, Costliest)
	entriesOf := map[string]int{} // how many start a program: its cost is said once
	var each []*autostart.Entry
	for _, e := range costly {
		program := cmp.Or(e.Target.Path, e.Handle)
		if entriesOf[program]++; entriesOf[program] == 1 {
			each = append(each, e)
		}
	}
	w.Line("")
	w.Bold("Costs most")
	w.Reasons(each[:min(mostCostly, len(each))], func(e *autostart.Entry) string {
		words := view.CostFigures(e.Cost)
		if n := entriesOf[e.Target.Path]; n > 1 {
			words += fmt.Sprintf("; %d entries start it", n)
		}
		return words
	})
}

// NoteUnread tells of unread places where the output has no room for them.
func (w Writer) NoteUnread(unread []autostart.Unread) {
	for _, u := range unread {
		w.Note("not read: %s: %s (%s)", u.Path, u.Reason, u.Location)
	}
}
