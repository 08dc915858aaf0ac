package page

import (
	"fmt"
	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/work"
	"lockback/internal/view"
	"slices"
	"strconv"
	"strings"
	"time"
)

// KnownBy words a mark of an entry.
func KnownBy(m catalogue.Mark) string {
	var words []string
	for _, pair := range []struct{ name, value string }{{"package", m.Package}, {"bundle", m.Bundle},
		{"maker", m.Maker}, {"names as its maker", m.Says}, {"file", m.File}, {"label", m.Label},
		{"command", m.Command}, {"name", strings.Join(m.Names, ", ")}, {"in", m.Location}} {
		if pair.value != "" {
			words = append(words, pair.name+" "+pair.value)
		}
	}
	return strings.Join(words, ", ")
}

// CatalogueEntry is an entry of the catalogue for scripts.
type CatalogueEntry struct {
	From     string `json:"catalogue"` // lockback, or what it was imported as
	System   string `json:"system"`
	ID       string `json:"id"`
	Product  string `json:"product"` // what people call it; of a program that people install
	Maker    string `json:"maker"`
	Role     string `json:"role"`
	Verdict  string `json:"verdict"`
	Does     string `json:"does"`
	Without  string `json:"without"`
	Noticed  string `json:"noticed"` // when its loss is noticed
	Setting  string `json:"setting"`
	Returns  string `json:"returns"`  // whether it puts its entries back
	Security bool   `json:"security"` // security fixes come through it
	Delay    bool   `json:"delay"`    // it may start later
	Business string `json:"business"` // what differs in a company
	Note     string `json:"note"`
	Protect  string `json:"protected"`
	Caution  string `json:"caution"`
	OSPart   bool   `json:"os_part"`
	KnownBy  string `json:"known_by"`
	Basis    string `json:"basis"` // how the facts of a program are known

	marks []string
	order int // among the answers to a question, the best first
}

// CatalogueDocument are entries of catalogues, in JSON.
type CatalogueDocument struct {
	Entries []CatalogueEntry `json:"entries"`
}

// catalogued is an entry of a catalogue as it is shown.
func catalogued(from, system string, e *catalogue.Entry) CatalogueEntry {
	shown := CatalogueEntry{From: from, System: system, ID: e.ID, Role: e.Role, Verdict: e.Verdict, Does: e.Does,
		Without: e.Without, Setting: e.Setting, Note: e.Note, Protect: catalogue.Protections[e.Protect],
		Caution: catalogue.Cautions[e.Caution], OSPart: e.Part}
	for _, m := range e.KnownBy {
		shown.marks = append(shown.marks, KnownBy(m))
	}
	if p := e.Program; p != nil {
		shown.Product, shown.Maker, shown.Security, shown.Delay, shown.Business = p.Product, p.Maker, p.Security,
			p.Delay, p.Business
		shown.Noticed, shown.Returns, shown.Basis = catalogue.Noticings[p.Noticed], catalogue.Returnings[p.Returns],
			p.Basis.String()
		shown.marks = append(shown.marks, programMarks(p)...)
	}
	shown.KnownBy = strings.Join(shown.marks, "; ")
	return shown
}

// programMarks word what a program is known by.
func programMarks(p *catalogue.Program) []string {
	var marks []string
	for _, s := range p.Signs {
		mark := "signed by " + s.Name
		if s.Since > 0 {
			mark += fmt.Sprintf(" since %d", s.Since)
		}
		if s.Until > 0 {
			mark += fmt.Sprintf(" until %d", s.Until)
		}
		marks = append(marks, mark)
	}
	for _, some := range []struct {
		what string
		all  []string
	}{{"package", p.Packages}, {"bundle", p.Bundles}, {"file", slices.Concat(p.Files, p.Shared)}} {
		for _, name := range some.all {
			marks = append(marks, some.what+" "+name)
		}
	}
	for _, start := range p.Starts {
		for _, name := range start.Names {
			marks = append(marks, strings.TrimPrefix(start.Location, "*.")+" "+name)
		}
	}
	return marks
}

// rank is how well an entry answers some words, the best first; negative where one of them is nowhere in it.
func (e *CatalogueEntry) rank(words []string) int {
	rank := 0
	names := strings.ToLower(strings.Join([]string{e.Product, e.Maker, e.ID}, "\n"))
	all := names + "\n" + strings.ToLower(strings.Join([]string{e.From, e.System, e.Does, e.Without, e.Note, e.Role,
		e.Verdict, e.KnownBy}, "\n"))
	for _, word := range words {
		switch {
		case slices.Contains(strings.FieldsFunc(names, func(r rune) bool { return r == ' ' || r == '\n' || r == ',' }),
			word):
		case strings.Contains(names, word):
			rank++
		case strings.Contains(all, word):
			rank += 2
		default:
			return -1
		}
	}
	return rank
}

// Catalogue shows the entries of catalogues, all or those that have all the words: first those that are called so.
func (w Writer) Catalogue(all []*catalogue.Catalogue, words []string) error {
	docs := []CatalogueEntry{}
	total := 0
	lower := make([]string, len(words))
	for k, word := range words {
		lower[k] = strings.ToLower(word)
	}
	for _, c := range all {
		from, system := c.Name, "any"
		if slices.Contains(catalogue.Systems, c.Name) {
			from, system = "lockback", c.Name
		}
		for k := range c.Entries {
			total++
			e := catalogued(from, system, &c.Entries[k])
			if rank := e.rank(lower); rank >= 0 {
				e.order = rank
				docs = append(docs, e)
			}
		}
	}
	slices.SortStableFunc(docs, func(a, b CatalogueEntry) int {
		return a.order - b.order
	})
	switch w.Format {
	case "json":
		return w.JSON(CatalogueDocument{docs})
	case "csv":
		var rows [][]string
		for _, e := range docs {
			rows = append(rows, []string{e.From, e.System, e.ID, e.Product, e.Maker, e.Role, e.Verdict, e.Does,
				e.Without,
				e.Noticed, e.Setting, e.Returns, e.Business, e.Note, e.Protect, e.Caution, e.KnownBy, e.Basis})
		}
		return w.CSV([]string{"catalogue", "system", "id", "product", "maker", "role", "verdict", "does", "without",
			"noticed", "setting", "returns", "business", "note", "protected", "caution", "known_by", "basis"}, rows)
	}
	for _, e := range docs {
		w.catalogueEntry(e)
	}
	w.Line("%s of %s", autostart.Count(len(docs), "entry", "entries"), autostart.Count(total, "entry", "entries"))
	return nil
}

// maxMarks is how many of the names that an entry is known by are shown, without --verbose.
const maxMarks = 4

// catalogueEntry shows one entry: what it is, whether it can go, and what it is known by.
func (w Writer) catalogueEntry(e CatalogueEntry) {
	said := func(texts ...string) []string {
		return slices.DeleteFunc(texts, func(s string) bool { return s == "" })
	}
	prefixed := func(prefix, text string) string {
		if text == "" {
			return ""
		}
		return prefix + text
	}
	var lines [][]string
	for _, line := range [][]string{said(e.Does, prefixed("Without it: ", e.Without), e.Noticed), said(e.Note)} {
		if len(line) > 0 {
			lines = append(lines, line)
		}
	}
	decides := said("verdict "+e.Verdict, "role "+e.Role, prefixed("protected: ", e.Protect),
		prefixed("think twice: ", e.Caution), prefixed("own setting: ", e.Setting), e.Returns,
		prefixed("in a company: ", strings.TrimSuffix(e.Business, ".")), e.Basis)
	for k := range decides[:len(decides)-1] {
		decides[k] += ";"
	}
	marks := e.marks
	if more := len(marks) - maxMarks; more > 1 && !w.Verbose {
		marks = append(slices.Clone(marks[:maxMarks]), fmt.Sprintf("and %d more (--verbose lists them)", more))
	}
	for k := range max(0, len(marks)-1) {
		marks[k] += ";"
	}
	if len(marks) > 0 {
		marks = append([]string{"known by " + marks[0]}, marks[1:]...)
	}
	title := e.ID + "  " + e.System
	switch {
	case e.From != "lockback":
		title = e.ID + "  of the catalogue " + e.From
	case e.Product != "":
		title = e.Product + ", " + e.Maker + "  (" + e.ID + ", " + e.System + ")"
	}
	w.Block(title, append(lines, decides, marks))
}

// CatalogueProblem is something that is wrong with a file of a catalogue.
type CatalogueProblem struct {
	Line int    `json:"line"`
	What string `json:"what"`
}

// CatalogueProblemsDocument is what is wrong with a file of a catalogue, in JSON.
type CatalogueProblemsDocument struct {
	Entries  int                `json:"entries"`
	Problems []CatalogueProblem `json:"problems"`
}

// CatalogueProblems tells what is wrong with a file of a catalogue.
func (w Writer) CatalogueProblems(name string, entries int, problems []catalogue.Problem) error {
	switch w.Format {
	case "json":
		docs := []CatalogueProblem{}
		for _, p := range problems {
			docs = append(docs, CatalogueProblem{p.Line, autostart.Text(p.What)})
		}
		return w.JSON(CatalogueProblemsDocument{entries, docs})
	case "csv":
		var rows [][]string
		for _, p := range problems {
			rows = append(rows, []string{strconv.Itoa(p.Line), p.What})
		}
		return w.CSV([]string{"line", "what"}, rows)
	}
	if len(problems) == 0 {
		w.Line("%s: sound, %s", name, autostart.Count(entries, "entry", "entries"))
	}
	for _, p := range problems {
		w.Line("%s:%d: %s", name, p.Line, view.Safe(p.What))
	}
	return nil
}

// ImportDocument is what an import of a catalogue does, in JSON.
type ImportDocument struct {
	Catalogue   string   `json:"catalogue"`
	Added       []string `json:"added"`
	Changed     []string `json:"changed"`
	Removed     []string `json:"removed"`
	Passed      []string `json:"passed_over"`
	Contradicts []string `json:"contradicts"`
	Imported    bool     `json:"imported"`
}

// ImportJSON writes what an import does, or did.
func (w Writer) ImportJSON(i work.Import, imported bool) error {
	return w.JSON(ImportDocument{i.Name, i.Added, i.Changed, i.Removed, i.Passed, i.Contradicts, imported})
}

// maxIDs is how many entries of a kind are named.
const maxIDs = 12

// Import tells what an import of a file does.
func (w Writer) Import(file string, i work.Import) {
	w.Line("%s: %s as the catalogue %s", file, autostart.Count(i.Entries, "entry", "entries"), i.Name)
	for _, some := range []struct {
		what string
		ids  []string
	}{{"adds", i.Added}, {"changes", i.Changed}, {"removes",
		i.Removed}, {"passes over, as parts of the operating system,", i.Passed}} {
		ids := strings.Join(some.ids[:min(len(some.ids), maxIDs)], ", ")
		if more := len(some.ids) - maxIDs; more > 0 {
			ids += fmt.Sprintf(" and %d more", more)
		}
		if ids != "" {
			w.Line("%s %d: %s", some.what, len(some.ids), ids)
		}
	}
	for _, text := range i.Contradicts {
		w.Line("contradicts: %s", text)
	}
}

// CatalogueItem is a catalogue in the order in which they are asked.
type CatalogueItem struct {
	Name     string `json:"name"`
	Entries  int    `json:"entries"`
	Imported string `json:"imported"`
}

// CataloguesDocument are catalogues in their order, in JSON.
type CataloguesDocument struct {
	Catalogues []CatalogueItem `json:"catalogues"`
}

// Catalogues lists catalogues, the one that counts first in front.
func (w Writer) Catalogues(all []CatalogueItem) error {
	switch w.Format {
	case "json":
		return w.JSON(CataloguesDocument{all})
	case "csv":
		var rows [][]string
		for _, c := range all {
			rows = append(rows, []string{c.Name, strconv.Itoa(c.Entries), c.Imported})
		}
		return w.CSV([]string{"name", "entries", "imported"}, rows)
	}
	what := map[string]string{"notes": "what lockback note wrote down", "lockback": "part of the program"}
	for k, c := range all {
		about := what[c.Name]
		if at, err := time.Parse(time.RFC3339, c.Imported); err == nil {
			about = "imported on " + autostart.Minute(at)
		}
		w.Line("%d  %s: %s, %s", k+1, c.Name, autostart.Count(c.Entries, "entry", "entries"), about)
	}
	w.Line("")
	w.Line("the first that knows a program counts")
	return nil
}

// Exported lists notes that go into a file.
func (w Writer) Exported(entries []catalogue.Entry) {
	unless := func(word, unknown string) string {
		if word == unknown {
			return ""
		}
		return word
	}
	for _, e := range entries {
		what, who := view.NoteWords(autostart.Note{Text: e.Note, Verdict: unless(e.Verdict, autostart.Unrated),
			Role: unless(e.Role, autostart.RoleUnknown), By: e.By, Proven: true})
		w.Block(e.ID, [][]string{{what}, {"written " + who}, {"known by " + KnownBy(e.KnownBy[0])}})
	}
	w.Line("")
}
