// Package view turns what core found into what a person or a script reads:
// tables, JSON and CSV. It makes no decisions and knows no machine.
//
// Names and commands come from hostile places, so every text passes [Safe] on
// its way to a terminal or a sheet.
package view

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/sync/errgroup"
)

// Printer writes results in one of three forms.
type Printer struct {
	Out   io.Writer
	Width int // columns of the terminal; 0: no terminal, nothing is wrapped
	// Indent stands before each row of a table.
	Indent string
	Color  bool // the terminal shows colours; they never say what words do not
	// Hints makes the commands whole that a sentence of ours suggests; nil: they are already.
	Hints func(string) string
}

// Hinted is a text of ours with its commands made whole.
func (p Printer) Hinted(text string) string {
	if p.Hints == nil {
		return text
	}
	return p.Hints(text)
}

// HintedFormat does the same to a format of fmt's: what is added is no part of the format.
func (p Printer) HintedFormat(format string) string {
	if p.Hints == nil {
		return format
	}
	text := p.Hints(strings.ReplaceAll(format, "%", "\x00"))
	return strings.ReplaceAll(strings.ReplaceAll(text, "%", "%%"), "\x00", "%")
}

// Safe shows the characters that would act on a terminal, or turn text around,
// as escapes: \n, \x1b, \u202e.
func Safe(s string) string {
	if plain(s) {
		return s
	}
	clean := true
	for _, r := range s {
		if unsafe(r) {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case !unsafe(r):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// plain reports whether a text is printable ASCII, as nearly all are: such a text
// is safe, and as wide as it is long.
func plain(s string) bool {
	for k := 0; k < len(s); k++ {
		if s[k] < ' ' || s[k] > '~' {
			return false
		}
	}
	return true
}

// width is how many columns a safe text takes.
func width(s string) int {
	if plain(s) {
		return len(s)
	}
	return ansi.StringWidth(s)
}

// unsafe are control characters, those that steer the direction of text or are
// invisible, and private ones.
func unsafe(r rune) bool {
	return unicode.Is(unicode.C, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r) ||
		r == unicode.ReplacementChar
}

// Column of a table.
type Column struct {
	Title string
	// Share is the column's part of the room that the fixed columns leave; 0
	// means as wide as its widest cell.
	Share int
}

// Mark says how a cell is shown where there are colours.
type Mark int

// The marks: Quiet is faint, Alert stands out.
const (
	Plain Mark = iota
	Quiet
	Alert
)

// Cell is one field of a row. Its Lines are shown below each other on a
// terminal, and after each other elsewhere.
type Cell struct {
	Lines []string
	Mark  Mark
}

// T is a plain cell of one line.
func T(s string) Cell { return Cell{Lines: []string{s}} }

const gap = 2

// mostAligned is the widest cell, in columns, that the cells of other rows are aligned with where there is no
// terminal: one longer value, which anybody can write, must not make each row as long.
const mostAligned = 100

// Widths gives each column its width for the rows: fixed columns as wide as
// their widest cell, the others by their share of what is left.
func (p Printer) Widths(columns []Column, rows iter.Seq[[]Cell]) []int {
	widths := make([]int, len(columns))
	for k, c := range columns {
		widths[k] = width(c.Title)
	}
	for row := range rows {
		for k := range columns {
			for _, l := range row[k].Lines {
				if w := width(Safe(l)); p.Width > 0 || w <= mostAligned {
					widths[k] = max(widths[k], w)
				}
			}
		}
	}
	if p.Width == 0 {
		return widths
	}
	left := p.Width - 1 - len(p.Indent) - gap*(len(columns)-1)
	least := make([]int, len(columns)) // so that no name or path is broken
	for row := range rows {
		for k, c := range columns {
			if c.Share > 0 {
				least[k] = max(least[k], longestWord(row[k]))
			}
		}
	}
	room := left
	for k, c := range columns {
		if c.Share > 0 {
			least[k] = min(widths[k], max(least[k], narrowest))
			room -= least[k]
		} else {
			room -= widths[k]
		}
	}
	if room < 0 { // there is no room for that: words are broken
		for k, c := range columns {
			if c.Share > 0 {
				room += least[k]
				least[k] = min(widths[k], narrowest)
				room -= least[k]
			}
		}
	}
	wanted, shares := make([]int, len(columns)), make([]int, len(columns))
	for k, c := range columns {
		if c.Share > 0 {
			wanted[k], shares[k] = widths[k], c.Share
		}
	}
	shareOut(least, wanted, shares, room)
	for k, c := range columns {
		if c.Share > 0 {
			widths[k] = least[k]
		}
	}
	return widths
}

// narrowest is the least width of a column that is shared out.
const narrowest = 8

// longestWord is how wide the widest word of a cell is.
func longestWord(c Cell) int {
	longest := 0
	for _, l := range c.Lines {
		for w := range strings.FieldsSeq(l) {
			longest = max(longest, width(Safe(w)))
		}
	}
	return longest
}

// Table writes rows under their titles. Cells that do not fit are wrapped, never
// cut. The rows are asked for twice, first for the widths, and never all kept: there can be a
// hundred thousand.
func (p Printer) Table(columns []Column, rows iter.Seq[[]Cell]) {
	p.table(columns, rows, p.Widths(columns, rows), true)
}

// Section is rows of a table under a heading of their own.
type Section struct {
	Title string
	Rows  iter.Seq[[]Cell]
}

// Sections writes tables below each other whose columns stand below each other.
func (p Printer) Sections(columns []Column, sections []Section) {
	widths := p.Widths(columns, func(yield func([]Cell) bool) {
		for _, s := range sections {
			for row := range s.Rows {
				if !yield(row) {
					return
				}
			}
		}
	})
	for k, s := range sections {
		if k > 0 {
			fmt.Fprintln(p.Out)
		}
		if s.Title != "" {
			p.Line("%s", s.Title)
		}
		p.table(columns, s.Rows, widths, true)
	}
}

func (p Printer) table(columns []Column, rows iter.Seq[[]Cell], widths []int, titles bool) {
	b := bufio.NewWriterSize(p.Out, 64<<10)
	defer b.Flush()
	if titles {
		header := make([]Cell, len(columns))
		for k, c := range columns {
			header[k] = Cell{[]string{c.Title}, Quiet}
		}
		p.row(b, header, widths)
	}
	p.rows(b, rows, widths)
}

// Rows writes rows in columns of given widths, without titles: some of a table whose others are written otherwise.
func (p Printer) Rows(rows iter.Seq[[]Cell], widths []int) {
	b := bufio.NewWriter(p.Out)
	defer b.Flush()
	p.rows(b, rows, widths)
}

func (p Printer) rows(b *bufio.Writer, rows iter.Seq[[]Cell], widths []int) {
	for row := range rows {
		p.row(b, row, widths)
	}
}

// row writes one row, as many lines high as its highest cell.
func (p Printer) row(b *bufio.Writer, cells []Cell, widths []int) {
	lines := make([][]string, len(cells))
	height := 1
	for k, c := range cells {
		switch {
		case p.Width == 0 && len(c.Lines) == 1:
			lines[k] = c.Lines
		case p.Width == 0:
			lines[k] = []string{strings.Join(c.Lines, "; ")}
		default:
			for _, l := range c.Lines {
				lines[k] = append(lines[k], strings.Split(wrap(Safe(l), widths[k]), "\n")...)
			}
		}
		height = max(height, len(lines[k]))
	}
	for h := range height {
		pending := len(p.Indent) // spaces that are only written before something
		for k := range cells {
			part := ""
			if h < len(lines[k]) {
				part = strings.TrimRight(Safe(lines[k][h]), " ")
			}
			if part != "" {
				for ; pending > 0; pending-- {
					b.WriteByte(' ')
				}
				b.WriteString(p.paint(part, cells[k].Mark))
			}
			pending += max(0, widths[k]-width(part)) + gap
		}
		b.WriteByte('\n')
	}
}

// unbroken stands for a hyphen while a text is wrapped: names and options are not broken at theirs. No safe text
// contains it, see [Safe].
const unbroken = "\ue000"

// wrap breaks at spaces where it can, and inside a word where it must. Several spaces become one.
func wrap(s string, columns int) string {
	if width(s) <= columns {
		return s
	}
	s = strings.ReplaceAll(strings.Join(brokenPaths(strings.Fields(s), columns), " "), "-", unbroken)
	lines := strings.Split(ansi.Wrap(s, columns, ""), "\n")
	for k := range len(lines) - 1 {
		lines[k] = strings.TrimRight(lines[k], " ")
	}
	return strings.ReplaceAll(strings.Join(lines, "\n"), unbroken, "-")
}

// brokenPaths breaks words that are longer than a line where a path may be broken: behind its separators. No two of the
// pieces fit one line, so that a space between them never shows.
func brokenPaths(words []string, columns int) []string {
	var all []string
	for _, word := range words {
		line := ""
		for width(word) > columns {
			n := strings.IndexAny(word, `/\`) + 1
			if n == 0 || width(line)+width(word[:n]) > columns && line == "" {
				break // no separator within a line
			}
			if width(line)+width(word[:n]) > columns {
				all, line = append(all, line), ""
			}
			line, word = line+word[:n], word[n:]
		}
		if line != "" && width(line)+width(word) > columns {
			all, line = append(all, line), ""
		}
		all = append(all, line+word)
	}
	return all
}

// styled shows a text with an attribute or a colour.
func styled(s string, attribute ansi.Attr) string {
	return ansi.SGR(attribute) + s + ansi.SGR(ansi.AttrReset)
}

func (p Printer) paint(s string, m Mark) string {
	if !p.Color || s == "" {
		return s
	}
	switch m {
	case Quiet:
		return styled(s, ansi.AttrFaint)
	case Alert:
		return styled(s, ansi.AttrMagentaForegroundColor)
	}
	return s
}

// Line writes a line of text, wrapped to the terminal.
func (p Printer) Line(format string, args ...any) {
	for k, a := range args {
		if s, ok := a.(string); ok {
			args[k] = Safe(s)
		}
	}
	s := fmt.Sprintf(p.HintedFormat(format), args...)
	if p.Width > 0 {
		s = wrap(s, p.Width-1)
	}
	for line := range strings.SplitSeq(s, "\n") {
		fmt.Fprintln(p.Out, strings.TrimRight(line, " "))
	}
}

// Bold writes a heading.
func (p Printer) Bold(s string) {
	s = Safe(s)
	if p.Width > 0 {
		s = wrap(s, p.Width-1)
	}
	for line := range strings.SplitSeq(s, "\n") {
		if p.Color {
			line = styled(line, ansi.AttrBold)
		}
		fmt.Fprintln(p.Out, line)
	}
}

// JSON writes a value for scripts.
func (p Printer) JSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := p.Out.Write(escapeJSON(b.Bytes()))
	return err
}

// escapeJSON escapes, in JSON, the characters that would act on a terminal or turn text
// around, which JSON lets stand: DEL, the C1 controls, marks of direction. They can only be in
// strings, where an escape means the same.
func escapeJSON(text []byte) []byte {
	harmless := plainLength(text)
	if harmless == len(text) {
		return text
	}
	out := make([]byte, 0, len(text)+64)
	for ; len(text) > 0; harmless = plainLength(text) {
		out, text = append(out, text[:harmless]...), text[harmless:]
		if len(text) == 0 {
			break
		}
		r, n := utf8.DecodeRune(text)
		switch {
		case !unsafe(r):
			out = append(out, text[:n]...)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		text = text[n:]
	}
	return out
}

// plainLength is how many bytes stand before the first that may be part of such a character.
func plainLength(text []byte) int {
	for k, c := range text {
		if c >= 0x7f {
			return k
		}
	}
	return len(text)
}

// JSONList writes a value whose last field is a list, one element a line: as
// readable as indenting, and much faster for thousands of elements. The head is
// an object that the list is added to under its name; tail follows it. Encode
// appends one element.
func JSONList[T any](p Printer, head any, name string, list []T, tail any, encode func([]byte, T) ([]byte,
	error)) error {
	first, err := compact(head)
	if err != nil {
		return err
	}
	last, err := compact(tail)
	if err != nil {
		return err
	}
	// The elements are encoded side by side, each worker a stretch of them.
	parts := make([][]byte, runtime.GOMAXPROCS(0))
	var group errgroup.Group
	for k := range parts {
		group.Go(func() (err error) {
			from, to := k*len(list)/len(parts), (k+1)*len(list)/len(parts)
			b := make([]byte, 0, (to-from)*800)
			for i := from; i < to && err == nil; i++ {
				if i > 0 {
					b = append(b, "  ,"...)
				} else {
					b = append(b, "   "...)
				}
				b, err = encode(b, list[i])
				b = append(b, '\n')
			}
			parts[k] = escapeJSON(b)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	fmt.Fprintf(p.Out, "%s,\n %q: [\n", escapeJSON(first[:len(first)-1]), name)
	for _, part := range parts {
		if _, err := p.Out.Write(part); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(p.Out, "],\n %s\n", escapeJSON(last[1:]))
	return err
}

func compact(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimSpace(b.Bytes()), err
}

// CSV writes rows for a sheet, RFC 4180. What a sheet would take for a formula gets an
// apostrophe before it: at the start of a cell, and behind a semicolon, where sheets of other
// languages begin a new one.
func (p Printer) CSV(header []string, rows [][]string) error {
	// The mark that tells spreadsheets that the file is UTF-8.
	if _, err := io.WriteString(p.Out, "\ufeff"); err != nil {
		return err
	}
	w := csv.NewWriter(p.Out)
	w.Write(header)
	for _, row := range rows {
		safe := make([]string, len(row))
		for k, cell := range row {
			safe[k] = formula().ReplaceAllString(Safe(cell), "$1'$2")
		}
		w.Write(safe)
	}
	w.Flush()
	return w.Error()
}

// formula finds what begins a formula: the signs of ASCII, and the wide ones of East Asia.
var formula = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(^[ \x{3000}]*|[;\x{ff1b}][ \x{3000}]*)([=+\-@\x{ff1d}\x{ff0b}\x{ff0d}\x{ff20}])`)
})
