package view

import (
	"bufio"
	"cmp"
	"fmt"
	"iter"
	"slices"
	"strings"

	"lockback/core/autostart"
)

// Groupings are the words that a list can be grouped by.
var Groupings = []string{"stage", "place", "maker", "product", "none"}

// Layout says how a list of entries is laid out. The zero Layout groups by place.
type Layout struct {
	Group    string  // one of Groupings
	Columns  []Field // a table of just these; nil for the usual form
	Commands bool    // with the command below each entry
}

// group is a run of entries under one heading.
type group struct {
	title   string
	entries []*autostart.Entry
}

// grouped puts entries together by a key, in the order in which the keys come first.
func grouped(entries []*autostart.Entry, key func(*autostart.Entry) string) []group {
	var groups []group
	at := map[string]int{}
	for _, e := range entries {
		k := key(e)
		n, known := at[k]
		if !known {
			n = len(groups)
			at[k] = n
			groups = append(groups, group{title: k})
		}
		groups[n].entries = append(groups[n].entries, e)
	}
	return groups
}

// placeOf is the heading that an entry stands under.
func placeOf(e *autostart.Entry) string {
	if e.Place == "" { // an early snapshot has no word for it
		return e.Location
	}
	return e.Place
}

// Entries writes entries in groups: one line for each, two on a narrow terminal, and a wide table where there is none.
// What does not fit a line is cut with a sign. It returns the signs that a legend must explain.
func (p Printer) Entries(entries []*autostart.Entry, layout Layout) Signs {
	b := bufio.NewWriterSize(p.Out, 64<<10)
	defer b.Flush()
	p.Out = b
	byPlace := layout.Group == "" || layout.Group == "place"
	indent := ""
	if byPlace || p.Width > 0 && layout.Group != "none" {
		indent = "  "
	}
	each, signs := p.entryWriter(entries, layout, indent)
	sections := []group{{entries: entries}}
	switch layout.Group {
	case "maker", "product":
		what := map[string]func(*autostart.Entry) string{
			"maker":   func(e *autostart.Entry) string { return cmp.Or(e.Maker().Name, "Maker not known") },
			"product": func(e *autostart.Entry) string { return cmp.Or(e.Facts().Product.Name, "Product not known") },
		}[layout.Group]
		sections = grouped(entries, what)
		slices.SortStableFunc(sections, func(a, b group) int {
			return strings.Compare(strings.ToLower(a.title),
				strings.ToLower(b.title))
		})
	case "none":
	default:
		sections = grouped(entries, func(e *autostart.Entry) string { return stageWords[e.Stage] })
		slices.SortStableFunc(sections, func(a, b group) int {
			return cmp.Compare(stageOrder(a.entries[0].Stage), stageOrder(b.entries[0].Stage))
		})
	}
	for k, section := range sections {
		if k > 0 && (byPlace || p.Width == 0) {
			fmt.Fprintln(p.Out)
		}
		if section.title != "" {
			p.Bold(section.title)
		}
		if !byPlace {
			each(section.entries)
			continue
		}
		for _, place := range grouped(section.entries, placeOf) {
			p.Line("%s: %s", place.title, states(place.entries))
			each(place.entries)
		}
	}
	return *signs
}

// states counts entries by their state: "3 enabled, 1 disabled".
func states(entries []*autostart.Entry) string {
	on := 0
	for _, e := range entries {
		if e.State == autostart.Enabled {
			on++
		}
	}
	switch off := len(entries) - on; {
	case off == 0:
		return fmt.Sprintf("%d enabled", on)
	case on == 0:
		return fmt.Sprintf("%d disabled", off)
	default:
		return fmt.Sprintf("%d enabled, %d disabled", on, off)
	}
}

// entryColumn is a column of a table of entries.
type entryColumn struct {
	Column
	cell func(*autostart.Entry) Cell
}

// entryWriter makes the function that writes the entries of a group.
func (p Printer) entryWriter(entries []*autostart.Entry, layout Layout, indent string) (func([]*autostart.Entry),
	*Signs) {
	if layout.Columns == nil && p.Width > 0 {
		l := p.newLines(entries, layout, indent)
		return l.write, l.signs
	}
	columns := filled(wideColumns, entries)
	if layout.Group == "" || layout.Group == "place" { // the headings tell it
		columns = slices.DeleteFunc(columns, func(c entryColumn) bool { return c.Title == "place" })
	}
	if layout.Columns != nil {
		columns = filled(fieldColumns(layout.Columns), entries)
	}
	plain := make([]Column, len(columns))
	for k, c := range columns {
		plain[k] = c.Column
	}
	cells := make([]Cell, len(columns)) // of the row at hand: no row is kept
	rows := func(of []*autostart.Entry) iter.Seq[[]Cell] {
		return func(yield func([]Cell) bool) {
			for _, e := range of {
				for k, c := range columns {
					cells[k] = c.cell(e)
				}
				if !yield(cells) {
					return
				}
			}
		}
	}
	p.Indent = indent
	widths := p.Widths(plain, rows(entries))
	titles := true
	return func(group []*autostart.Entry) {
		p.table(plain, rows(group), widths, titles)
		titles = false
	}, &Signs{}
}

// filled leaves out the columns that nobody fills.
func filled(columns []entryColumn, entries []*autostart.Entry) []entryColumn {
	return slices.DeleteFunc(slices.Clone(columns), func(c entryColumn) bool {
		return !slices.ContainsFunc(entries, func(e *autostart.Entry) bool {
			return slices.ContainsFunc(c.cell(e).Lines, func(l string) bool { return l != "" })
		})
	})
}

// fieldColumns are the columns of chosen fields.
func fieldColumns(fields []Field) []entryColumn {
	columns := make([]entryColumn, len(fields))
	for k, f := range fields {
		columns[k] = entryColumn{Column{Title: f.Name, Share: 1},
			func(e *autostart.Entry) Cell { return Cell{[]string{f.Value(e)}, markOf(e)} }}
		switch f.Name {
		case "handle", "state", "stage", "scope", "user", "os_part", "line", "switch", "target_exists", "target_size",
			"target_modified":
			columns[k].Share = 0
		}
	}
	return columns
}

// nameOf is the name of an entry, or words for one that has none.
func nameOf(e *autostart.Entry) string {
	if e.Name == "" {
		return "(no name)"
	}
	return e.Name
}

// markOf makes what is off faint.
func markOf(e *autostart.Entry) Mark {
	if e.State == autostart.Disabled {
		return Quiet
	}
	return Plain
}

var wideColumns = []entryColumn{
	{Column{Title: "handle"}, func(e *autostart.Entry) Cell { return T(e.Handle) }},
	{Column{Title: "state"}, func(e *autostart.Entry) Cell { return Cell{[]string{string(e.State)}, markOf(e)} }},
	{Column{Title: "name", Share: 3}, func(e *autostart.Entry) Cell { return Cell{[]string{nameOf(e)}, markOf(e)} }},
	{Column{Title: "for"}, func(e *autostart.Entry) Cell { return T(others(e)) }},
	{Column{Title: "place", Share: 2}, func(e *autostart.Entry) Cell { return T(placeOf(e)) }},
	{Column{Title: "when and how", Share: 3}, func(e *autostart.Entry) Cell { return Cell{details(e), markOf(e)} }},
	{Column{Title: "what it is", Share: 4}, func(e *autostart.Entry) Cell { return Cell{about(e), markOf(e)} }},
	{Column{Title: "starts", Share: 5}, func(e *autostart.Entry) Cell { return Cell{[]string{e.Command}, markOf(e)} }},
	{Column{Title: "problems", Share: 2}, func(e *autostart.Entry) Cell { return Cell{Problems(e), Alert} }},
	{Column{Title: "remarks", Share: 3}, func(e *autostart.Entry) Cell { return Cell{remarks(e), Quiet} }},
}

// about tells in a few words what an entry's program is, who made it, and what the catalogue says
// of it.
func about(e *autostart.Entry) []string {
	var all []string
	known := e.Facts()
	for _, n := range e.Notes {
		what, who := NoteWords(n)
		all = append(all, "note: "+what+" ("+who+")")
	}
	if known.Description != "" && known.DescriptionBasis != autostart.ByVersionResource {
		all = append(all, strings.TrimSuffix(known.Description, "."))
	}
	if maker := MadeBy(e); maker != "" {
		all = append(all, "by "+maker)
	}
	if (known.Verdict == "spare" || known.Verdict == "hostile") && known.VerdictBasis != autostart.ByNote {
		all = append(all, known.Verdict)
	}
	return all
}

// NoteWords are what a note says, and who wrote it, when, and how sure it is that it is about this program.
func NoteWords(n autostart.Note) (what, who string) {
	var words []string
	if n.Verdict != "" {
		words = append(words, n.Verdict)
	}
	if n.Role != "" {
		words = append(words, n.Role)
	}
	what = strings.Join(words, ", ")
	if n.Text != "" {
		what = strings.TrimPrefix(what+": "+n.Text, ": ")
	}
	who = "by " + cmp.Or(n.By, "nobody named")
	if !n.Time.IsZero() {
		who += ", " + autostart.Day(n.Time)
	}
	switch {
	case n.Machine:
		who += ", on this machine"
	case !n.Proven:
		who += ", known by names only"
	}
	return what, who
}

// others is for whom an entry starts where its place does not say it.
func others(e *autostart.Entry) string {
	if e.User == "" || strings.HasSuffix(placeOf(e), " of "+e.User) {
		return ""
	}
	return e.User
}

// Block writes a head, and below it lines of pieces that are not broken where they fit.
func (p Printer) Block(head string, lines [][]string) {
	p.Bold(Safe(head))
	p.Below(lines)
}

// Below writes lines below something, indented; each is flowed from its pieces.
func (p Printer) Below(lines [][]string) {
	for _, line := range lines {
		pieces := make([]piece, len(line))
		for k, text := range line {
			pieces[k] = piece{text: p.Hinted(text)}
		}
		fmt.Fprint(p.Out, "    ")
		p.flow(pieces, 4, 6, "  ")
	}
}

// commandWords splits a command where it may be broken: at spaces, but not in a quoted word, and
// not in the path of its program.
func commandWords(e *autostart.Entry) []string {
	rest := e.Command
	var words []string
	if rest == e.Source.Path || strings.HasPrefix(e.Target.Path, rest) { // the whole of it is a path
		return []string{rest}
	}
	if path := e.Target.Path; strings.Contains(path, " ") && strings.HasPrefix(rest, path) {
		words, rest = append(words, path), strings.TrimPrefix(rest, path)
	}
	quote := rune(0)
	var word strings.Builder
	for _, r := range rest {
		switch {
		case quote == 0 && r == ' ':
			if word.Len() > 0 {
				words = append(words, word.String())
				word.Reset()
			}
			continue
		case quote == 0 && (r == '"' || r == '\''):
			quote = r
		case r == quote:
			quote = 0
		}
		word.WriteRune(r)
	}
	if word.Len() > 0 {
		words = append(words, word.String())
	}
	return words
}

// EntriesCSV writes entries as a sheet, with all fields or the chosen ones.
func (p Printer) EntriesCSV(entries []*autostart.Entry, fields []Field) error {
	if fields == nil {
		fields = Fields
	}
	header := make([]string, len(fields))
	for k, f := range fields {
		header[k] = f.Name
	}
	rows := make([][]string, len(entries))
	for k, e := range entries {
		rows[k] = make([]string, len(fields))
		for n, f := range fields {
			rows[k][n] = f.Value(e)
		}
	}
	return p.CSV(header, rows)
}

// Counts words the numbers that a technician quotes.
func Counts(entries []*autostart.Entry, hidden int) string {
	on, guarded, missing, fixed := 0, 0, 0, 0
	for _, e := range entries {
		if e.State == autostart.Enabled {
			on++
		}
		if e.Guarded != "" {
			guarded++
		}
		if e.Switch == autostart.Report {
			fixed++
		}
		if slices.Contains(e.Problems, autostart.TargetMissing) {
			missing++
		}
	}
	parts := []string{fmt.Sprintf("%d enabled, %d disabled", on, len(entries)-on)}
	for _, more := range []struct {
		n         int
		one, many string
	}{{guarded, "protected", "protected"}, {fixed, "cannot be turned off here", "cannot be turned off here"}, {missing,
		"program missing", "programs missing"},
		{hidden, "part of the system hidden (--all)",
			"parts of the system hidden (--all)"}} {
		if more.n > 0 {
			parts = append(parts, Number(more.n, more.one, more.many))
		}
	}
	return Number(len(entries), "entry", "entries") + ": " + strings.Join(parts, ", ")
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Number words a count of things: "1 entry", "3 entries".
func Number(n int, one, many string) string { return fmt.Sprintf("%d %s", n, plural(n, one, many)) }

// Unread writes the places that could not be read.
func (p Printer) Unread(unread []autostart.Unread) {
	if len(unread) == 0 {
		return
	}
	fmt.Fprintln(p.Out)
	p.Bold("Not read")
	rows := make([][]Cell, len(unread))
	for k, u := range unread {
		rows[k] = []Cell{T(u.Path), {[]string{u.Reason}, Alert}, T(u.Location)}
	}
	columns := []Column{{Title: "place", Share: 3}, {Title: "reason", Share: 2}, {Title: "location", Share: 2}}
	p.table(columns, slices.Values(rows), p.Widths(columns, slices.Values(rows)), false)
}
