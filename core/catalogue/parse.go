package catalogue

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
)

// Bounds of a file.
const (
	maxFile    = 8 << 20 // bytes
	maxEntries = 50_000
	maxText    = 600 // characters of a text
)

// Problem is what is wrong with a line of a catalogue's file.
type Problem struct {
	Line int
	What string
}

// Error is the problem in words, with the line.
func (p Problem) Error() string { return fmt.Sprintf("line %d: %s", p.Line, p.What) }

// Parse reads a catalogue in the form of docs/catalogue.md, and returns all that is wrong with it.
// A catalogue with problems holds the entries that are sound.
func Parse(text []byte) (*Catalogue, []Problem) {
	r := &reader{check: true}
	c := &Catalogue{}
	if len(text) > maxFile {
		r.wrong(1, "the file is larger than %d MB", maxFile>>20)
		return c, r.problems
	}
	tree, problem := fromYAML(text)
	if problem != nil {
		return c, []Problem{*problem}
	}
	r.document(tree, c)
	c.index()
	r.problems = append(r.problems, lint(c)...)
	slices.SortStableFunc(r.problems, func(a, b Problem) int { return a.Line - b.Line })
	return c, r.problems[:min(len(r.problems), maxProblems)]
}

// maxProblems is how many problems of a file are told.
const maxProblems = 1000

// reader makes entries of the tree of a file.
type reader struct {
	// check says that what is wrong with the entries is looked for: the built-in files are checked by a test.
	check    bool
	problems []Problem
	ids      map[string]int
	judged   map[string]Entry // by what they are known by
}

func (r *reader) wrong(line int, format string, args ...any) {
	if len(r.problems) < maxProblems {
		r.problems = append(r.problems, Problem{line, fmt.Sprintf(format, args...)})
	}
}

// fields visits the names and values of a table.
func (r *reader) fields(n *node, what string, visit func(name string, value *node)) bool {
	if n.kind != tableNode {
		r.wrong(n.line, "%s is not a list of names and values", what)
		return false
	}
	for k := range n.keys {
		if name := n.keys[k]; r.check && slices.ContainsFunc(n.keys[:k],
			func(o key) bool { return o.name == name.name }) {
			r.wrong(name.line, "%s has %q twice", what, name.name)
			continue
		}
		visit(n.keys[k].name, &n.items[k])
	}
	return true
}

// list visits the items of a list.
func (r *reader) list(n *node, what string, visit func(item *node)) {
	if n.kind != listNode {
		r.wrong(n.line, "%s is not a list", what)
		return
	}
	for k := range n.items {
		visit(&n.items[k])
	}
}

func (r *reader) document(n node, c *Catalogue) {
	if r.check {
		r.ids, r.judged = map[string]int{}, map[string]Entry{}
	}
	format := false
	add := func(item *node, of *Program) {
		switch e, ok := r.entry(item, of); {
		case len(c.Entries) == maxEntries:
			r.wrong(item.line, "there are more than %d entries", maxEntries)
		case ok && (!r.check || r.agrees(e)):
			c.Entries = append(c.Entries, e)
		}
	}
	r.fields(&n, "the file", func(name string, value *node) {
		switch name {
		case "format":
			if format = value.text == "1"; !format {
				r.wrong(value.line, "format %q is not known; this version of lockback reads format 1", value.text)
			}
		case "entries":
			if len(value.items) > maxEntries {
				r.wrong(value.line, "there are more than %d entries", maxEntries)
				return
			}
			r.list(value, "entries", func(item *node) { add(item, nil) })
		case "makers":
			r.list(value, "makers", func(item *node) { r.maker(item, add) })
		default:
			r.wrong(value.line, "the file has no field %q", name)
		}
	})
	if !format && len(r.problems) == 0 {
		r.wrong(1, "the file does not say its format")
	}
}

// maker reads a maker with its programs.
func (r *reader) maker(n *node, add func(item *node, of *Program)) {
	var of Program
	var programs *node
	r.fields(n, "the maker", func(name string, value *node) {
		switch name {
		case "maker":
			of.Maker = r.text(value, name)
		case "signs":
			r.list(value, name, func(item *node) { of.Signs = append(of.Signs, r.signature(item)) })
		case "signs-only":
			of.SignsOnly = r.yes(value, name)
		case "programs":
			programs = value
		default:
			r.wrong(value.line, "a maker has no field %q", name)
		}
	})
	if of.Maker == "" {
		r.wrong(n.line, "the maker has no name")
	}
	if programs == nil {
		r.wrong(n.line, "%s has no programs", of.Maker)
		return
	}
	r.list(programs, "programs", func(item *node) { add(item, &of) })
}

// signature reads a name that a maker signs with: a text, or a table of it with years.
func (r *reader) signature(n *node) (s Signature) {
	if n.kind == textNode {
		s.Name = r.text(n, "the name that it signs with")
		return s
	}
	r.fields(n, "the name that it signs with", func(name string, value *node) {
		switch name {
		case "name":
			s.Name = r.text(value, name)
		case "since":
			s.Since = r.number(value, name, 1990, 2100)
		case "seen":
			s.Seen = r.text(value, name)
		case "until":
			s.Until = r.number(value, name, 1990, 2100)
		default:
			r.wrong(value.line, "a name that a maker signs with has no field %q", name)
		}
	})
	if s.Name == "" {
		r.wrong(n.line, "the name that it signs with is empty")
	}
	return s
}

// agrees fails where an earlier entry is known by the same and is judged otherwise: which of them counts should not
// hang on their order.
func (r *reader) agrees(e Entry) bool {
	before := len(r.problems)
	for _, m := range e.KnownBy {
		key := fmt.Sprintf("%q", m)
		if first, ok := r.judged[key]; ok && first.Verdict != e.Verdict {
			r.wrong(e.Line, "%q is %s, and %q in line %d, which is known by the same, is %s", e.ID, e.Verdict, first.ID,
				first.Line, first.Verdict)
		} else if !ok {
			r.judged[key] = e
		}
	}
	return len(r.problems) == before
}

// entry reads one entry, of a maker's programs where one is given; ok is false where something is wrong with it.
func (r *reader) entry(n *node, of *Program) (e Entry, ok bool) {
	before := len(r.problems)
	e.Role, e.Verdict = autostart.RoleUnknown, autostart.Unrated
	if r.check {
		e.Line = n.line
	}
	if of != nil {
		p := *of
		e.Program = &p
	}
	if !r.fields(n, "the entry", func(name string, value *node) {
		if to := e.textOf(name); to != nil {
			*to = r.text(value, name)
			return
		}
		switch {
		case name == "part":
			e.Part = r.yes(value, name)
		case name == "known-by":
			r.list(value, name, func(item *node) { e.KnownBy = append(e.KnownBy, r.mark(item)) })
		case e.Program == nil || !r.ofProgram(e.Program, name, value):
			r.wrong(value.line, "an entry has no field %q", name)
		}
	}) {
		return e, false
	}
	if r.check {
		r.checkEntry(&e)
	}
	return e, len(r.problems) == before
}

// textOf is where a field of an entry that is a text stands.
func (e *Entry) textOf(name string) *string {
	switch name {
	case "id":
		return &e.ID
	case "does":
		return &e.Does
	case "without":
		return &e.Without
	case "setting":
		return &e.Setting
	case "role":
		return &e.Role
	case "verdict":
		return &e.Verdict
	case "protect":
		return &e.Protect
	case "caution":
		return &e.Caution
	case "note":
		return &e.Note
	case "by":
		return &e.By
	case "date":
		return &e.Date
	}
	return nil
}

// ofProgram reads a field that only programs have; it fails if there is none of that name.
func (r *reader) ofProgram(p *Program, name string, value *node) bool {
	switch name {
	case "product":
		p.Product = r.text(value, name)
	case "files":
		p.Files = r.texts(value, name)
	case "shared":
		p.Shared = r.texts(value, name)
	case "packages":
		p.Packages = r.texts(value, name)
	case "bundles":
		p.Bundles = r.texts(value, name)
	case "starts":
		r.fields(value, name, func(location string, names *node) {
			p.Starts = append(p.Starts, Start{"*." + location, r.texts(names, "starts")})
		})
	case "noticed":
		p.Noticed = r.text(value, name)
	case "returns":
		p.Returns = r.text(value, name)
	case "security":
		p.Security = r.yes(value, name)
	case "delay":
		p.Delay = r.yes(value, name)
	case "business":
		p.Business = r.text(value, name)
	case "seen":
		p.Basis.Seen = r.text(value, name)
	case "documented":
		p.Basis.Documented = r.text(value, name)
	case "known":
		p.Basis.Known = r.number(value, name, 1, 3)
	default:
		return false
	}
	return true
}

func (r *reader) checkEntry(e *Entry) {
	if e.ID == "" {
		r.wrong(e.Line, "the entry has no id")
	} else if first := r.ids[e.ID]; first > 0 {
		r.wrong(e.Line, "line %d already has the id %q", first, e.ID)
	} else {
		r.ids[e.ID] = e.Line
	}
	if e.Does == "" && e.Note == "" && e.Verdict == autostart.Unrated {
		r.wrong(e.Line, "%q does not say what it does", e.ID)
	}
	if e.Date != "" {
		if _, err := time.Parse(time.DateOnly, e.Date); err != nil {
			r.wrong(e.Line, "the date of %q is %q; a day is written as 2026-11-26", e.ID, e.Date)
		}
	}
	if len(e.KnownBy) == 0 && e.Program == nil {
		r.wrong(e.Line, "%q does not say what it is known by", e.ID)
	}
	oneOf := func(field, word string, words []string) {
		if !slices.Contains(words, word) {
			r.wrong(e.Line, "the %s of %q is %q; it is one of %s", field, e.ID, word, strings.Join(words, ", "))
		}
	}
	oneOf("role", e.Role, autostart.Roles)
	oneOf("verdict", e.Verdict, autostart.Verdicts)
	if e.Protect != "" {
		oneOf("protection", e.Protect, slices.Sorted(maps.Keys(Protections)))
	}
	if e.Caution != "" {
		oneOf("caution", e.Caution, slices.Sorted(maps.Keys(Cautions)))
	}
	if p := e.Program; p != nil {
		if p.Noticed != "" {
			oneOf("noticed", p.Noticed, slices.Sorted(maps.Keys(Noticings)))
		}
		if p.Returns != "" {
			oneOf("returns", p.Returns, slices.Sorted(maps.Keys(Returnings)))
		}
	}
	if slices.Contains(leadingOff, e.Verdict) && !e.Part && slices.ContainsFunc(e.KnownBy, Mark.onOneName) {
		r.wrong(e.Line, "%q is %s by a name alone, which anybody can give: it needs a package, a maker or a "+
			"bundle, or two of file, says and label", e.ID, e.Verdict)
	}
}

func (r *reader) text(n *node, what string) string {
	if n.kind != textNode {
		r.wrong(n.line, "%s is not text", what)
		return ""
	}
	if len(n.text) > maxText {
		r.wrong(n.line, "%s has more than %d characters", what, maxText)
		return ""
	}
	return n.text
}

// texts reads a list of texts, or a text with blanks between them.
func (r *reader) texts(n *node, what string) []string {
	if n.kind == textNode {
		return strings.Fields(n.text)
	}
	all := make([]string, 0, len(n.items))
	r.list(n, what, func(item *node) { all = append(all, r.text(item, "one of "+what)) })
	return all
}

func (r *reader) yes(n *node, what string) bool {
	if n.text != "true" && n.text != "false" {
		r.wrong(n.line, "%s must be true or false", what)
	}
	return n.text == "true"
}

func (r *reader) number(n *node, what string, least, most int) int {
	number, err := strconv.Atoi(n.text)
	if err != nil || number < least || number > most {
		r.wrong(n.line, "%s is %q; it is a number from %d to %d", what, n.text, least, most)
		return 0
	}
	return number
}

func (r *reader) mark(n *node) (m Mark) {
	r.fields(n, "what it is known by", func(name string, value *node) {
		switch name {
		case "location":
			m.Location = r.text(value, name)
		case "package":
			m.Package = r.text(value, name)
		case "bundle":
			m.Bundle = r.text(value, name)
		case "maker":
			m.Maker = r.text(value, name)
		case "file":
			m.File = r.text(value, name)
		case "command":
			m.Command = r.text(value, name)
		case "says":
			m.Says = r.text(value, name)
		case "label":
			m.Label = r.text(value, name)
		case "names":
			m.Names = r.texts(value, name)
		case "runs":
			m.Runs = r.texts(value, name)
		default:
			r.wrong(value.line, "nothing is known by %q", name)
		}
	})
	if len(m.Names) == 0 && m.onName() && m.File == "" && m.Command == "" && m.Says == "" && m.Label == "" {
		r.wrong(n.line, "nothing is said of what it is known by")
	}
	return m
}
