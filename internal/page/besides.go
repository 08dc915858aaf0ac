package page

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lockback/internal/view"
)

// differs is the sign of a row in which entries differ.
const differs = "≠"

// narrowBeside is how narrow the column of an entry beside others may be, and mostBeside how many stand side by side
// where no terminal says how much room there is.
const (
	narrowBeside = 22
	mostBeside   = 5
)

// aspect is one thing that entries are compared in, with what each says of it.
type aspect struct {
	name   string
	values []string
	marks  []view.Mark
}

func (a aspect) same() bool {
	return !slices.ContainsFunc(a.values, func(v string) bool { return v != a.values[0] })
}

// besides writes several entries side by side: what differs in a column for each, what all have in common once.
func (w Writer) besides(entries []ShownEntry) {
	aspects := aspectsOf(entries)
	label := 0 // the width of the names with the sign before them
	for _, a := range aspects {
		label = max(label, len("  ")+len(a.name))
	}
	most := mostBeside
	if w.Width > 0 {
		most = max(1, (w.Width-1-label)/(narrowBeside+2))
	}
	different := 0
	for _, a := range aspects {
		if !a.same() {
			different++
		}
	}
	for from := 0; from < len(entries); from += most {
		to := min(from+most, len(entries))
		if from > 0 {
			w.Line("")
		}
		w.beside(aspects, entries, from, to, label)
	}
	w.Line("")
	all := "both"
	if len(entries) > 2 {
		all = fmt.Sprintf("all %d", len(entries))
	}
	w.Line("%s differs (%d of %d rows); the other rows hold for %s", differs, different, len(aspects), all)
	w.Line("%s", w.Hinted("lockback show "+entries[0].Entry.Handle)+
		" shows one of them with the source of each fact; --verbose shows all so")
}

// beside writes the entries from one to another. What all have in common stands with the first only.
func (w Writer) beside(aspects []aspect, entries []ShownEntry, from, to, label int) {
	columns := make([]view.Column, 1+to-from)
	head := []view.Cell{{}}
	for k, e := range entries[from:to] {
		columns[1+k].Share = 1
		head = append(head, view.Cell{Lines: []string{cmp.Or(e.Entry.Name, "(no name)"), e.Entry.Handle}})
	}
	columns[0].Title = strings.Repeat(" ", label)
	cells := func(a aspect) []view.Cell {
		row := []view.Cell{{Lines: []string{differs + " " + a.name}, Mark: view.Quiet}}
		for k := from; k < to; k++ {
			row = append(row, view.Cell{Lines: []string{cmp.Or(a.values[k], "—")}, Mark: a.marks[k]})
		}
		return row
	}
	rows := [][]view.Cell{head}
	for _, a := range aspects {
		if !a.same() {
			rows = append(rows, cells(a))
		}
	}
	widths := w.Widths(columns, slices.Values(rows))
	w.Rows(slices.Values(rows[:1]), widths)
	for _, a := range aspects {
		switch {
		case !a.same():
			w.Rows(slices.Values([][]view.Cell{cells(a)}), widths)
		case from == 0:
			w.Pair(view.Pair{Name: "  " + a.name, Value: a.values[0], Mark: a.marks[0]}, label+2)
		}
	}
}

// answeredRows are rows whose values the answers have already, or that are none of the entry.
var answeredRows = []string{"maker", "description", "product", "role", "verdict", "measured", "look it up at"}

// aspectsOf are the things that are known of entries, in the order of a page about one.
func aspectsOf(entries []ShownEntry) []aspect {
	var aspects []aspect
	at := map[string]int{}
	put := func(k int, r row) {
		n, known := at[r.name]
		if !known {
			n = len(aspects)
			at[r.name] = n
			aspects = append(aspects, aspect{r.name, make([]string, len(entries)), make([]view.Mark, len(entries))})
		}
		a := &aspects[n]
		a.values[k] = strings.TrimPrefix(a.values[k]+"; "+r.value, "; ")
		a.marks[k] = max(a.marks[k], r.mark)
	}
	for k, e := range entries {
		put(k, row{name: "verdict", value: e.Entry.Facts().VerdictWord()})
		for _, r := range e.answers(unanswered) {
			put(k, r)
		}
	}
	for k, e := range entries {
		for _, r := range e.rows() {
			switch {
			case r.answered || slices.Contains(answeredRows, r.name):
			case r.name == "command":
				put(k, r)
				put(k, row{name: "read from", value: r.basis})
			case r.name == "starts":
				put(k, r)
				put(k, row{name: "place", value: r.basis})
			default:
				put(k, r)
			}
		}
	}
	return aspects
}
