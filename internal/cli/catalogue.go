package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/internal/view"
)

// systems are the operating systems that have a catalogue.
var systems = []string{"linux", "windows", "macos"}

// catalogueEntry is an entry of the catalogue for scripts.
type catalogueEntry struct {
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

func (a *app) catalogueCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "catalogue",
		Short: "The list of known programs: what each does, and whether it can go",
		Long: `The catalogue says of programs what they do, what is lost without them, and what a
technician would do with them. That of the operating systems and of the open-source
desktops' common applications is part of lockback. Catalogues of your own are imported
into the record and come before it, in the order that catalogue list shows; notes come
before all of them.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(&cobra.Command{
		Use:   "show [WORD...]",
		Short: "Show entries of the catalogue, all or those that have all the words",
		Long: `Show what the catalogue says: all entries, or those in which every word occurs: in
the id, in what it does, in what it is known by, or as role or verdict.`,
		Example: "  lockback catalogue show\n  lockback catalogue show windows spare telemetry\n  lockback catalogue show printer",
		RunE:    func(_ *cobra.Command, words []string) error { return a.showCatalogue(words) },
	}, &cobra.Command{
		Use:   "check FILE",
		Short: "Check a file of the catalogue, with the line of whatever is wrong",
		Long: `Check a file in the form that docs/catalogue.md describes. All that is wrong is named,
each with its line; nothing is changed. "-" is standard input.`,
		Example: "  lockback catalogue check our-programs.yaml",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return a.checkCatalogue(args[0]) },
	})
	c.AddCommand(a.ownCatalogueCommands()...)
	return c
}

// knownBy words a mark of an entry.
func knownBy(m catalogue.Mark) string {
	var words []string
	for _, pair := range []struct{ name, value string }{{"package", m.Package}, {"bundle", m.Bundle}, {"maker", m.Maker}, {"names as its maker", m.Says}, {"file", m.File}, {"label", m.Label}, {"command", m.Command}, {"name", strings.Join(m.Names, ", ")}, {"in", m.Location}} {
		if pair.value != "" {
			words = append(words, pair.name+" "+pair.value)
		}
	}
	return strings.Join(words, ", ")
}

func (a *app) showCatalogue(words []string) error {
	p := a.printer()
	list := []catalogueEntry{}
	var shown []catalogue.Entry
	own, err := a.ownCatalogues()
	if err != nil {
		a.note("note: the catalogues of the record are not shown: %v", err)
	}
	total := 0
	for _, c := range append(own, shippedCatalogues()...) {
		from, system := c.Name, "any"
		if slices.Contains(systems, c.Name) {
			from, system = "lockback", c.Name
		}
		for _, e := range c.Entries {
			total++
			text := []string{from, system, e.ID, e.Does, e.Without, e.Note, e.Role, e.Verdict}
			for _, m := range e.KnownBy {
				text = append(text, knownBy(m))
			}
			all := strings.ToLower(strings.Join(text, "\n"))
			has := true
			for _, w := range words {
				has = has && strings.Contains(all, strings.ToLower(w))
			}
			if has {
				list = append(list, catalogueEntry{from, system, e.ID, e.Role, e.Verdict, e.Does, e.Without, e.Setting, e.Note, catalogue.Protections[e.Protect], e.Part})
				shown = append(shown, e)
			}
		}
	}
	switch a.format {
	case "json":
		return p.JSON(struct {
			Entries []catalogueEntry `json:"entries"`
		}{list})
	case "csv":
		var rows [][]string
		for _, e := range list {
			rows = append(rows, []string{e.From, e.System, e.ID, e.Role, e.Verdict, e.Does, e.Without, e.Setting, e.Note, e.Protect})
		}
		return p.CSV([]string{"catalogue", "system", "id", "role", "verdict", "does", "without", "setting", "note", "protected"}, rows)
	}
	for k, e := range list {
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
			marks = append(marks, knownBy(m))
		}
		lines = append(lines, []string{"known by " + strings.Join(marks, "; ")})
		title := e.ID + "  " + e.System
		if e.From != "lockback" {
			title = e.ID + "  of the catalogue " + e.From
		}
		p.Block(title, lines)
	}
	p.Line("%s of %s", view.Number(len(list), "entry", "entries"), view.Number(total, "entry", "entries"))
	return nil
}

// shippedCatalogues are those that are part of the program, by the names of their systems.
func shippedCatalogues() []*catalogue.Catalogue {
	var all []*catalogue.Catalogue
	for _, system := range systems {
		all = append(all, &catalogue.Catalogue{Name: system, Entries: catalogue.Of(system).Entries})
	}
	return all
}

// maxCatalogue is the largest file that is checked, in bytes.
const maxCatalogue = 8 << 20

// parseFile reads a file of a catalogue, and all that is wrong with it.
func (a *app) parseFile(name string) (*catalogue.Catalogue, []catalogue.Problem, error) {
	var text []byte
	var err error
	if name == "-" {
		text, err = io.ReadAll(io.LimitReader(a.In, maxCatalogue+1))
	} else {
		text, err = readSmall(name)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the catalogue cannot be read: %w", err)
	}
	c, problems := catalogue.Parse(text)
	return c, problems, nil
}

func (a *app) checkCatalogue(name string) error {
	c, problems, err := a.parseFile(name)
	if err != nil {
		return err
	}
	if a.format == "json" {
		type problemJSON struct {
			Line int    `json:"line"`
			What string `json:"what"`
		}
		list := []problemJSON{}
		for _, p := range problems {
			list = append(list, problemJSON{p.Line, autostart.Text(p.What)})
		}
		if err := a.printer().JSON(struct {
			Entries  int           `json:"entries"`
			Problems []problemJSON `json:"problems"`
		}{len(c.Entries), list}); err != nil {
			return err
		}
	}
	if a.format == "csv" {
		var rows [][]string
		for _, p := range problems {
			rows = append(rows, []string{strconv.Itoa(p.Line), p.What})
		}
		if err := a.printer().CSV([]string{"line", "what"}, rows); err != nil {
			return err
		}
	}
	if len(problems) == 0 {
		if a.format == "table" {
			a.printer().Line("%s: sound, %s", name, view.Number(len(c.Entries), "entry", "entries"))
		}
		return nil
	}
	if a.format == "table" {
		for _, p := range problems {
			a.printer().Line("%s:%d: %s", name, p.Line, view.Safe(p.What))
		}
	}
	return fmt.Errorf("%s: %s", name, view.Number(len(problems), "thing is wrong", "things are wrong"))
}

// readSmall reads a file that a person names.
func readSmall(name string) ([]byte, error) {
	info, err := os.Stat(name)
	switch {
	case err != nil:
		var pe *fs.PathError
		if errors.As(err, &pe) {
			return nil, fmt.Errorf("%s: %w", name, pe.Err)
		}
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is no file", name)
	case info.Size() > maxCatalogue:
		return nil, fmt.Errorf("%s is larger than %d MB", name, maxCatalogue>>20)
	}
	return os.ReadFile(name)
}
