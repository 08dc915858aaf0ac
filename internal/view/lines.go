package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"lockback/core/autostart"
)

// Widths of terminals from which on more of an entry stands in its line.
const (
	lined  = 100 // one line an entry
	placed = 130 // with the place that it starts from
)

// Signs are the signs that a list of entries has used, and that a legend explains.
type Signs struct {
	Cut      bool // …: more is known than the line has room for
	Unproven bool // ?: nothing proves the maker
	Fixed    bool // fixed: it cannot be turned off here
	Guarded  bool // protected
}

// line is an entry in one line, or in two of a narrow terminal.
type line struct {
	entry *autostart.Entry
	// cells are what stands in columns: name, maker, place, when or cost.
	cells [lineColumns]string
	// remark is what a technician should know of it, the worst first.
	remark []piece
}

// The columns of a line behind its handle and its state; the remark follows them.
const (
	lineName = iota
	lineMaker
	linePlace
	lineWhen
	lineColumns
)

// lineLeast and lineShare are how wide these columns are at least, and how they share what is left; the last is the
// remark's.
var (
	lineLeast = [lineColumns + 1]int{16, 10, 12, 12, 30}
	lineShare = [lineColumns + 1]int{4, 2, 3, 2, 6}
)

// lineOf words an entry for a line. The place is left out where headings or no column tell it; differs is what tells it
// from others of its name.
func (p Printer) lineOf(e *autostart.Entry, place bool, differs string, s *Signs) line {
	l := line{entry: e}
	l.cells[lineName] = nameOf(e)
	if place {
		l.cells[linePlace] = placeOf(e)
	}
	who := ""
	if others(e) != "" || e.User != "" && !place {
		who = e.User
	}
	switch {
	case differs == "" || differs == who:
		differs = who
	case who != "":
		differs = who + ", " + differs
	}
	if differs != "" {
		l.cells[lineName] += " (" + differs + ")"
	}
	if maker := e.Maker(); maker.Name != "" {
		l.cells[lineMaker] = maker.Name
		if !autostart.Proven(maker.Basis) {
			l.cells[lineMaker] += unproven
			s.Unproven = true
		}
	}
	when := details(e)
	if costs := costFigures(e.Cost, feltCPU); len(costs) > 0 { // what is felt most
		when = append(costs[:1], when...)
	}
	l.cells[lineWhen] = strings.Join(when, ", ")
	for k, c := range l.cells {
		l.cells[k] = Safe(c)
	}
	l.remark = lineRemark(e, s)
	return l
}

// unproven is the sign behind a maker whom nothing proves.
const unproven = " ?"

// feltCPU is from how many milliseconds of processor time on these come before memory and disk.
const feltCPU = 100

// lineRemark is what stands behind an entry: what somebody noted, what is wrong, what the catalogue says, whether it
// can be turned off, and what it is.
func lineRemark(e *autostart.Entry, s *Signs) []piece {
	var all []piece
	known := e.Facts()
	for _, n := range e.Notes {
		what, _ := NoteWords(n)
		all = append(all, piece{"note: " + what, Plain, false})
	}
	for _, problem := range e.Problems {
		if words := shortProblem(problem); words != "" {
			all = append(all, piece{"! " + words, Alert, false})
		}
	}
	if (known.Verdict == "spare" || known.Verdict == "hostile") && known.VerdictBasis != autostart.ByNote {
		all = append(all, piece{known.Verdict, Plain, false})
	}
	if e.Guarded != "" {
		all = append(all, piece{"protected", Quiet, false})
		s.Guarded = true
	}
	if e.Caution != "" {
		all = append(all, piece{"think twice: " + e.Caution, Quiet, false})
	}
	if e.Switch == autostart.Report {
		all = append(all, piece{"fixed", Quiet, false})
		s.Fixed = true
	}
	if also := alsoRuns(e); also != "" {
		all = append(all, piece{also, Quiet, false})
	}
	if known.Description != "" && known.DescriptionBasis != autostart.ByVersionResource {
		all = append(all, piece{strings.TrimSuffix(known.Description, "."), Quiet, false})
	}
	return all
}

// Titled writes the first line of a page about one entry: its name, its handle, whether it is on, and what a
// technician should know of it before anything else.
func (p Printer) Titled(e *autostart.Entry) {
	name := Safe(nameOf(e))
	at := width(name)
	if p.Color {
		name = styled(name, ansi.AttrBold)
	}
	fmt.Fprint(p.Out, name+"  ")
	pieces := []piece{{e.Handle, Plain, true}, {stateWord(e.State), Plain, true}}
	said := len(pieces)
	for _, n := range e.Notes {
		what, who := NoteWords(n)
		pieces = append(pieces, piece{"note: " + what + " (" + who + ")", Plain, false})
	}
	for _, problem := range e.Problems {
		if words := shortProblem(problem); words != "" {
			pieces = append(pieces, piece{"! " + words, Alert, false})
		}
	}
	known := e.Facts()
	if known.Verdict != "" && known.VerdictBasis != autostart.ByNote {
		pieces = append(pieces, piece{known.Verdict + " (" + known.VerdictBasis + ")", Plain, false})
	}
	if e.Guarded != "" {
		pieces = append(pieces, piece{"protected", Alert, false})
	}
	if e.Caution != "" {
		pieces = append(pieces, piece{"think twice: " + e.Caution, Alert, false})
	}
	if e.Switch == autostart.Report {
		pieces = append(pieces, piece{"cannot be turned off here", Plain, false})
	}
	if len(pieces) == said {
		pieces = append(pieces, piece{autostart.Unrated, Quiet, false})
	}
	p.flow(pieces, at+gap, 4, "  ")
}

// shortProblem words a problem where there is little room; what is ignored stands in its mode.
func shortProblem(problem string) string {
	switch problem {
	case autostart.Ignored:
		return ""
	case autostart.TargetMissing:
		return "program missing"
	case autostart.Impostor:
		return "uses a name of the system's"
	case autostart.Twice:
		return "starts twice"
	}
	return cmp.Or(problemWords[problem], problem)
}

// lines writes entries one below the other, in the columns that suit all of them.
type lines struct {
	Printer
	indent   string
	place    bool
	commands bool
	differs  map[string]string    // see [apart]
	widths   [lineColumns + 1]int // the last is that of the remark
	signs    *Signs
}

func (p Printer) newLines(entries []*autostart.Entry, layout Layout, indent string) *lines {
	l := &lines{Printer: p, indent: indent, place: layout.Group != "place" && p.Width >= placed,
		commands: layout.Commands,
		signs:    &Signs{}}
	l.differs = apart(entries, l.place)
	var of [lineColumns + 1][]int
	alert := 0 // the widest that comes first in a remark: of none of them anything is cut
	for _, e := range entries {
		one := p.lineOf(e, l.place, l.differs[e.Handle], l.signs)
		for k, c := range one.cells {
			if c != "" {
				of[k] = append(of[k], width(c))
			}
		}
		rest := 0
		for k, r := range one.remark {
			if k == 0 && r.mark == Alert {
				alert = max(alert, width(Safe(r.text)))
			}
			rest += width(Safe(r.text)) + gap
		}
		of[lineColumns] = append(of[lineColumns], rest)
	}
	var natural [lineColumns + 1]int
	for k, widths := range of {
		natural[k] = suits(widths)
	}
	natural[lineColumns] = max(natural[lineColumns], alert)
	room := p.Width - 1 - l.before()
	var shares []int
	for k := range natural {
		l.widths[k] = min(natural[k], lineLeast[k])
		if l.widths[k] > 0 {
			room -= l.widths[k] + gap
		}
		shares = append(shares, lineShare[k])
	}
	shareOut(l.widths[:], natural[:], shares, room+gap)
	return l
}

// suits is a width that all but a few of the given ones fit: one long name does not take the room of all others.
func suits(widths []int) int {
	if len(widths) == 0 {
		return 0
	}
	slices.Sort(widths)
	most := widths[len(widths)*9/10]
	if last := widths[len(widths)-1]; last <= most+4 {
		return last
	}
	return most
}

// before is how many columns stand before a name: the handle and the state.
func (l *lines) before() int { return len(l.indent) + 7 + gap + len("off") + gap }

// shareOut gives columns what is left of a line by their shares, until they have what they need.
func shareOut(widths, wanted, shares []int, room int) {
	for room > 0 {
		all := 0
		for k := range widths {
			if widths[k] < wanted[k] {
				all += shares[k]
			}
		}
		given := 0
		for k := range widths {
			if widths[k] < wanted[k] {
				more := min(wanted[k]-widths[k], max(1, room*shares[k]/all), room-given)
				widths[k] += more
				given += more
			}
		}
		if given == 0 {
			return
		}
		room -= given
	}
}

// stateWord is a state in a column of three.
func stateWord(s autostart.State) string {
	if s == autostart.Enabled {
		return "on"
	}
	return "off"
}

func (l *lines) write(entries []*autostart.Entry) {
	for _, e := range entries {
		one := l.lineOf(e, l.place, l.differs[e.Handle], l.signs)
		head := fmt.Sprintf("%s%-7s  %s%*s  ", l.indent, e.Handle, l.paint(stateWord(e.State), markOf(e)),
			len("off")-len(stateWord(e.State)), "")
		fmt.Fprint(l.Out, head)
		if l.Width >= lined {
			l.oneLine(one)
		} else {
			l.twoLines(one)
		}
		if l.commands && e.Command != "" {
			var words []piece
			for _, w := range commandWords(e) {
				words = append(words, piece{w, Quiet, true})
			}
			fmt.Fprintf(l.Out, "%*s", l.before(), "")
			l.flow(words, l.before(), l.before(), " ")
		}
	}
}

func (l *lines) oneLine(one line) {
	pending := 0
	at := l.before()
	m := markOf(one.entry)
	for k, c := range one.cells {
		if l.widths[k] == 0 {
			continue
		}
		columns := l.widths[k]
		if k == lineWhen && len(one.remark) == 0 { // nothing stands behind it
			columns = l.Width - 1 - at
		}
		text := l.cut(c, columns)
		if text != "" {
			fmt.Fprintf(l.Out, "%*s%s", pending, "", l.paint(text, m))
			pending = 0
		}
		pending += l.widths[k] - width(text) + gap
		at += l.widths[k] + gap
	}
	if len(one.remark) > 0 {
		fmt.Fprintf(l.Out, "%*s", pending, "")
	}
	l.fill(one.remark, l.Width-1-at)
}

// twoLines writes the name and the maker, and below them the rest; all of it in one line where that has room.
func (l *lines) twoLines(one line) {
	room, m := l.Width-1-l.before(), markOf(one.entry)
	pieces := []piece{{one.cells[lineName], m, false}}
	if maker := one.cells[lineMaker]; maker != "" {
		pieces = append(pieces, piece{maker, m, false})
	}
	rest := one.remark
	if when := one.cells[lineWhen]; when != "" {
		rest = append(rest, piece{when, Plain, false})
	}
	all := -gap
	for _, r := range append(slices.Clone(pieces), rest...) {
		all += gap + width(Safe(r.text))
	}
	if all <= room {
		l.fill(append(pieces, rest...), room)
		return
	}
	l.fill(pieces, room)
	if len(rest) > 0 {
		fmt.Fprintf(l.Out, "%*s", l.before(), "")
		l.fill(rest, room)
	}
}

// fill writes pieces into what is left of a line, and ends it.
func (l *lines) fill(pieces []piece, room int) {
	for k, r := range pieces {
		text := Safe(r.text)
		left := room // for this piece: behind it, a sign must find room where more follows
		if k < len(pieces)-1 {
			left -= width(" …")
		}
		short := l.cut(text, left)
		fmt.Fprint(l.Out, l.paint(short, r.mark))
		room -= width(short)
		if short != text || k == len(pieces)-1 {
			break
		}
		if room <= gap+2 {
			fmt.Fprint(l.Out, " …")
			l.signs.Cut = true
			break
		}
		fmt.Fprint(l.Out, "  ")
		room -= gap
	}
	fmt.Fprintln(l.Out)
}

// cut cuts a safe text to a width, with a sign that it did.
func (l *lines) cut(s string, columns int) string {
	if width(s) <= columns {
		return s
	}
	l.signs.Cut = true
	if name, ok := strings.CutSuffix(s, unproven); ok && columns > 2*len(unproven) { // the sign stays
		return l.cut(name, columns-len(unproven)) + unproven
	}
	return strings.TrimRight(ansi.Truncate(s, max(columns-1, 1), ""), " ") + "…"
}

// legend explains the signs that were used.
func (s Signs) legend() []string {
	var all []string
	for _, sign := range []struct {
		used bool
		text string
	}{{s.Unproven, "? nothing proves the maker"}, {s.Guarded, "protected: disable needs --guarded"},
		{s.Fixed, "fixed: cannot be turned off here"}, {s.Cut, "… more than fits: show has it"}} {
		if sign.used {
			all = append(all, sign.text)
		}
	}
	return all
}

// Legend writes what the signs of a list mean.
func (p Printer) Legend(s Signs) {
	var all []piece
	for _, sign := range s.legend() {
		all = append(all, piece{sign, Quiet, false})
	}
	if len(all) > 0 {
		p.flow(all, 0, 0, "  ")
	}
}

// Reasons writes entries with a reason for each, in columns; a long reason goes on below itself, and one that the entry
// before has, too, is said once and counted.
func (p Printer) Reasons(entries []*autostart.Entry, reason func(*autostart.Entry) string) {
	names, places := 0, 0
	count := map[string]int{}
	for _, e := range entries {
		names = max(names, width(Safe(nameOf(e))))
		places = max(places, width(Safe(placeOf(e))))
		count[reason(e)]++
	}
	if p.Width > 0 {
		names, places = min(names, max(p.Width/3, lineLeast[lineName])), min(places, p.Width/4)
	}
	l := lines{Printer: p, signs: &Signs{}}
	last := ""
	for _, e := range entries {
		name := l.cut(Safe(nameOf(e)), names)
		fmt.Fprintf(p.Out, "  %-7s  %s%*s  ", e.Handle, name, names-width(name), "")
		at := 2 + 7 + gap + names + gap
		if p.Width >= lined {
			place := l.cut(Safe(placeOf(e)), places)
			fmt.Fprintf(p.Out, "%s%*s  ", p.paint(place, Quiet), places-width(place), "")
			at += places + gap
		}
		words := reason(e)
		switch {
		case words == last:
			words = "the same"
		case count[words] > 1:
			last = words
			words = fmt.Sprintf("%s (%d)", words, count[words])
		default:
			last = words
		}
		p.flow([]piece{{text: words}}, at, at, " ")
	}
}
