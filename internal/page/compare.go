package page

import (
	"cmp"
	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/figures"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/internal/view"
	"slices"
)

// Changed is an entry that changed, and the change of ours that did it.
type Changed struct {
	Handle string           `json:"handle"`
	Name   string           `json:"name"`
	By     string           `json:"by"`
	Fields []snapshot.Field `json:"fields"`
}

// CompareDocument is what differs, in JSON.
type CompareDocument struct {
	From    string            `json:"from"`
	To      string            `json:"to"`
	Added   []autostart.Entry `json:"added"`
	Removed []autostart.Entry `json:"removed"`
	Changed []Changed         `json:"changed"`
	Figures []Figure          `json:"figures"`
}

// Difference tells what differs between two moments, and what of it changes of lockback did.
func (w Writer) Difference(m *machine.Machine, from, to string, d snapshot.Difference, doing *change.Doing, before,
	after []figures.Figure) error {
	changed := make([]Changed, len(d.Changed))
	for k, c := range d.Changed {
		changed[k] = Changed{c.Handle, c.Name, doing.By(c.Handle), c.Fields}
	}
	telling, words := tellingFigures(before, after)
	switch w.Format {
	case "json":
		return w.JSON(CompareDocument{from, to, list(d.Added), list(d.Removed), changed, telling})
	case "csv":
		var rows [][]string
		for _, e := range d.Added {
			rows = append(rows, []string{"added", e.Handle, e.Name, doing.By(e.Handle), "", "", string(e.State)})
		}
		for _, e := range d.Removed {
			rows = append(rows, []string{"removed", e.Handle, e.Name, doing.By(e.Handle), "", string(e.State), ""})
		}
		for _, c := range changed {
			for _, f := range c.Fields {
				rows = append(rows, []string{"changed", c.Handle, c.Name, c.By, f.Field, f.From, f.To})
			}
		}
		return w.CSV([]string{"what", "handle", "name", "by", "field", "from", "to"}, rows)
	}
	w.Line("%s", Heading(m))
	ends := func() {
		if d.Fleeting > 0 {
			w.Line("%s until the next restart only and not compared", autostart.Count(d.Fleeting, "entry is there",
				"entries are there"))
		}
		if words != "" {
			w.Line("figures: %s (lockback figures has all)", words)
		}
	}
	if d.Empty() {
		w.Line("nothing differs between %s and %s", from, to)
		ends()
		return nil
	}
	section := func(title string) {
		w.Line("")
		w.Bold(title)
	}
	w.listed("Added since "+from, d.Added, doing)
	w.listed("Removed since "+from, d.Removed, doing)
	var order []string // who did it: nobody of ours first
	by := map[string][]Changed{}
	for _, c := range changed {
		if by[c.By] == nil {
			order = append(order, c.By)
		}
		by[c.By] = append(by[c.By], c)
	}
	slices.SortStableFunc(order, func(a, b string) int {
		return cmp.Or(cmp.Compare(len(a), len(b)),
			cmp.Compare(a, b))
	})
	for _, who := range order {
		if who == "" {
			section("Changed since " + from + ", not by lockback")
		} else {
			section("Changed since " + from + " by " + who)
		}
		w.changed(by[who])
	}
	w.Line("")
	own := len(changed) - len(by[""])
	w.Line("%d added, %d removed, %d changed between %s and %s; %d of the changes %s lockback's own", len(d.Added),
		len(d.Removed), len(d.Changed), from, to, own, isAre(own))
	ends()
	return nil
}

func (w Writer) changed(changed []Changed) {
	if w.Width > 0 {
		for _, c := range changed {
			var lines [][]string
			for _, f := range together(c.Fields) {
				switch {
				case f.What != "":
					lines = append(lines, []string{f.Field + ":", f.What})
				default:
					lines = append(lines, []string{f.Field + ": " + cmp.Or(f.From, "nothing") + " → " + cmp.Or(f.To,
						"nothing")})
				}
			}
			w.Block(c.Handle+"  "+c.Name, lines)
		}
		return
	}
	w.Table([]view.Column{{Title: "handle"}, {Title: "name"}, {Title: "what"}, {Title: "was"}, {Title: "is"}},
		func(yield func([]view.Cell) bool) {
			for _, c := range changed {
				for _, f := range together(c.Fields) {
					was, is := f.From, f.To
					if f.What != "" {
						was, is = "", f.What
					}
					if !yield([]view.Cell{view.T(c.Handle), view.T(c.Name), view.T(f.Field), view.T(was), view.T(is)}) {
						return
					}
				}
			}
		})
}

// listed writes entries that were added or removed, those that no change of ours did first.
func (w Writer) listed(title string, entries []autostart.Entry, doing *change.Doing) {
	by := map[string][]*autostart.Entry{}
	var order []string
	for k := range entries {
		who := doing.By(entries[k].Handle)
		if by[who] == nil {
			order = append(order, who)
		}
		by[who] = append(by[who], &entries[k])
	}
	slices.SortFunc(order, func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) })
	for _, who := range order {
		w.Line("")
		if who == "" {
			w.Bold(title + ", not by lockback")
		} else {
			w.Bold(title + " by " + who)
		}
		w.Entries(by[who], view.Layout{Group: "place"})
	}
}

// together puts the system's own word for a state beside the state, where both
// changed: a person reads them as one thing.
func together(fields []snapshot.Field) []snapshot.Field {
	if len(fields) < 2 || fields[0].Field != "state" || fields[1].Field != "mode" {
		return fields
	}
	state, mode := fields[0], fields[1]
	join := func(state, mode string) string {
		if mode == "" || mode == state {
			return state
		}
		return state + " (" + mode + ")"
	}
	first := snapshot.Field{Field: "state", From: join(state.From, mode.From), To: join(state.To, mode.To)}
	return append([]snapshot.Field{first}, fields[2:]...)
}
