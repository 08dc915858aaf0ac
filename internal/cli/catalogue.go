package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/work"
)

func newCatalogueCommand(a *app) *cobra.Command {
	c := &cobra.Command{
		Use:   "catalogue",
		Short: "The list of known programs: what each does, and whether it can go",
		Long: `The catalogue says what programs do, what is lost without them, and what a technician would
do with them. The built-in one covers the operating systems and some thousand programs that
people install on them. You can import catalogues of your own into the record; they come
before the built-in one, in the order that catalogue list shows. Notes come before all.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(&cobra.Command{
		Use:   "show [WORD...]",
		Short: "Show entries of the catalogue, all or those that have all the words",
		Long: `Show what the catalogue says: all entries, or those in which every word occurs, in any part:
product, maker, file, service, task, package, role, verdict, or the description. Entries that
are called so come first. --verbose lists everything that an entry is known by.`,
		Example: "  lockback catalogue show teams\n  lockback catalogue show windows spare telemetry\n  lockback " +
			"catalogue show gupdate",
		RunE: func(_ *cobra.Command, words []string) error { return showCatalogue(a, words) },
	}, &cobra.Command{
		Use:   "check FILE",
		Short: "Check a file of the catalogue, with the line of whatever is wrong",
		Long: `Check a file in the form that docs/catalogue.md describes. It names everything that is wrong,
with its line, and changes nothing. "-" is standard input.`,
		Example: "  lockback catalogue check our-programs.yaml",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return checkCatalogue(a, args[0]) },
	})
	c.AddCommand(newOwnCatalogueCommands(a)...)
	return c
}

func showCatalogue(a *app, words []string) error {
	own, err := a.desk().OwnCatalogues()
	if err != nil {
		a.note("note: the catalogues of the record are not shown: %v", err)
	}
	return a.page().Catalogue(append(own, work.ShippedCatalogues()...), words)
}

// maxCatalogue is the largest file that is checked, in bytes.
const maxCatalogue = 8 << 20

// parseCatalogue reads a file of a catalogue, and all that is wrong with it.
func parseCatalogue(a *app, name string) (*catalogue.Catalogue, []catalogue.Problem, error) {
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

func checkCatalogue(a *app, name string) error {
	c, problems, err := parseCatalogue(a, name)
	if err != nil {
		return err
	}
	if err := a.page().CatalogueProblems(name, len(c.Entries), problems); err != nil || len(problems) == 0 {
		return err
	}
	return fmt.Errorf("%s: %s", name, autostart.Count(len(problems), "thing is wrong", "things are wrong"))
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
		return nil, fmt.Errorf("%s is not a file", name)
	case info.Size() > maxCatalogue:
		return nil, fmt.Errorf("%s is larger than %d MB", name, maxCatalogue>>20)
	}
	return os.ReadFile(name)
}
