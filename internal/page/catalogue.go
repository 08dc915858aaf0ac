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
	From    string `json:"catalogue"` // lockback, or what it was imported as
	System  string `json:"system"`
	ID      string `json:"id"`
	Role    string `json:"role"`
	Verdict string `json:"verdict"`
	Does    string `json:"does"`
	Without string `json:"without"`
	Setting string `json:"setting"`
	Note    string `json:"note"`
	Protect string `json:"protected"`
	OSPart  bool   `json:"os_part"`
}

// CatalogueDocument are entries of catalogues, in JSON.
type CatalogueDocument struct {
	Entries []CatalogueEntry `json:"entries"`
}

// Catalogue shows the entries of catalogues, all or those that have all the words.
func (w Writer) Catalogue(all []*catalogue.Catalogue, words []string) error {
	docs := []CatalogueEntry{}
	var shown []catalogue.Entry
	total := 0
	for _, c := range all {
		from, system := c.Name, "any"
		if slices.Contains(work.Systems, c.Name) {
			from, system = "lockback", c.Name
		}
		for _, e := range c.Entries {
			total++
			parts := []string{from, system, e.ID, e.Does, e.Without, e.Note, e.Role, e.Verdict}
			for _, m := range e.KnownBy {
				parts = append(parts, KnownBy(m))
			}
			text := strings.ToLower(strings.Join(parts, "\n"))
			has := true
			for _, word := range words {
				has = has && strings.Contains(text, strings.ToLower(word))
			}
			if has {
				docs = append(docs, CatalogueEntry{from, system, e.ID, e.Role, e.Verdict, e.Does, e.Without, e.Setting,
					e.Note, catalogue.Protections[e.Protect], e.Part})
				shown = append(shown, e)
			}
		}
	}
	switch w.Format {
	case "json":
		return w.JSON(CatalogueDocument{docs})
	case "csv":
		var rows [][]string
		for _, e := range docs {
			rows = append(rows, []string{e.From, e.System, e.ID, e.Role, e.Verdict, e.Does, e.Without, e.Setting,
				e.Note, e.Protect})
		}
		return w.CSV([]string{"catalogue", "system", "id", "role", "verdict", "does", "without", "setting", "note",
			"protected"}, rows)
	}
	for k, e := range docs {
		var lines [][]string
		for _, line := range [][]string{{e.Does, e.Without}, {e.Note}} {
			if said := slices.DeleteFunc(line, func(s string) bool { return s == "" }); len(said) > 0 {
				lines = append(lines, said)
			}
		}
		lines = append(lines, []string{"role " + e.Role + ",", "verdict " + e.Verdict})
		if e.Protect != "" {
			lines = append(lines, []string{"protected: " + e.Protect})
		}
		var marks []string
		for _, m := range shown[k].KnownBy {
			marks = append(marks, KnownBy(m))
		}
		lines = append(lines, []string{"known by " + strings.Join(marks, "; ")})
		title := e.ID + "  " + e.System
		if e.From != "lockback" {
			title = e.ID + "  of the catalogue " + e.From
		}
		w.Block(title, lines)
	}
	w.Line("%s of %s", autostart.Count(len(docs), "entry", "entries"), autostart.Count(total, "entry", "entries"))
	return nil
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
