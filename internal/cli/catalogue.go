package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
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
	System  string `json:"system"`
	ID      string `json:"id"`
	Role    string `json:"role"`
	Verdict string `json:"verdict"`
	Does    string `json:"does"`
	Without string `json:"without"`
	Setting string `json:"setting"`
	Protect string `json:"protected"`
	OSPart  bool   `json:"os_part"`
}

func (a *app) catalogueCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "catalogue",
		Short: "The list of known programs: what each does, and whether it can go",
		Long: `The catalogue says of programs what they do, what is lost without them, and what a
technician would do with them. That of the operating systems and of the open-source
desktops' common applications is part of lockback.`,
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
	return c
}

// knownBy words a mark of an entry.
func knownBy(m catalogue.Mark) string {
	var words []string
	for _, pair := range []struct{ name, value string }{{"package", m.Package}, {"bundle", m.Bundle}, {"maker", m.Maker}, {"file", m.File}, {"command", m.Command}, {"name", strings.Join(m.Names, ", ")}, {"in", m.Location}} {
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
	for _, system := range systems {
		for _, e := range catalogue.Of(system).Entries {
			text := []string{system, e.ID, e.Does, e.Without, e.Role, e.Verdict}
			for _, m := range e.KnownBy {
				text = append(text, knownBy(m))
			}
			all := strings.ToLower(strings.Join(text, "\n"))
			has := true
			for _, w := range words {
				has = has && strings.Contains(all, strings.ToLower(w))
			}
			if has {
				list = append(list, catalogueEntry{system, e.ID, e.Role, e.Verdict, e.Does, e.Without, e.Setting, catalogue.Protections[e.Protect], e.Part})
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
			rows = append(rows, []string{e.System, e.ID, e.Role, e.Verdict, e.Does, e.Without, e.Setting, e.Protect})
		}
		return p.CSV([]string{"system", "id", "role", "verdict", "does", "without", "setting", "protected"}, rows)
	}
	for k, e := range list {
		lines := [][]string{{e.Does, e.Without}, {"role " + e.Role + ",", "verdict " + e.Verdict}}
		if e.Protect != "" {
			lines = append(lines, []string{"protected: " + e.Protect})
		}
		var marks []string
		for _, m := range shown[k].KnownBy {
			marks = append(marks, knownBy(m))
		}
		lines = append(lines, []string{"known by " + strings.Join(marks, "; ")})
		p.Block(e.ID+"  "+e.System, lines)
	}
	p.Line("%s of %s", view.Number(len(list), "entry", "entries"), view.Number(catalogueSize(), "entry", "entries"))
	return nil
}

func catalogueSize() int {
	n := 0
	for _, system := range systems {
		n += len(catalogue.Of(system).Entries)
	}
	return n
}

// maxCatalogue is the largest file that is checked, in bytes.
const maxCatalogue = 8 << 20

func (a *app) checkCatalogue(name string) error {
	var text []byte
	var err error
	if name == "-" {
		text, err = io.ReadAll(io.LimitReader(a.In, maxCatalogue+1))
	} else {
		text, err = readSmall(name)
	}
	if err != nil {
		return fmt.Errorf("the catalogue cannot be checked: %w", err)
	}
	c, problems := catalogue.Parse(text)
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
