package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/internal/page"
)

// newOwnCatalogueCommands are the commands for catalogues of the technician's own.
func newOwnCatalogueCommands(a *app) []*cobra.Command {
	var as string
	var first bool
	export := &cobra.Command{
		Use:   "export FILE",
		Short: "Write your notes on programs as a file of the catalogue, for the shop",
		Long: `Write the notes on programs to a file in the form that docs/catalogue.md describes, for you
to read through and hand on. Notes on one machine's entries stay in the record, and so does
everything with a user's name in it; each is named. "-" is standard output; an existing file
is never overwritten.`,
		Example: "  lockback catalogue export shop.yaml\n  lockback catalogue export - | less",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return exportCatalogue(a, args[0]) },
	}
	a.writeFlags(export)
	load := &cobra.Command{
		Use:   "import FILE",
		Short: "Take a file of the catalogue into the record",
		Long: `Import a catalogue file into the record. Before it asks, lockback says what the file adds and
changes, and where it contradicts what is known. A catalogue of the same name is replaced in
its place; a new one comes after your others, or before them with --first. Entries that call
themselves a part of the operating system are skipped: only the built-in catalogue hides
anything.`,
		Example: "  lockback catalogue import shop.yaml\n  lockback catalogue import shop.yaml --as shop --first --yes",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return importCatalogue(a, args[0], as, first) },
	}
	load.Flags().StringVar(&as, "as", "", "the catalogue's `NAME` in the record (default: the name of the file)")
	load.Flags().BoolVar(&first, "first", false, "let it come before all others of your own")
	a.writeFlags(load)
	list := &cobra.Command{
		Use:   "list",
		Short: "List the catalogues, the one that counts first in front",
		Long: `List the sources that lockback asks about a program, in order: your notes, your own
catalogues, and the built-in one. The first that knows a program counts.`,
		Example: "  lockback catalogue list",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return listCatalogues(a) },
	}
	remove := &cobra.Command{
		Use:     "remove NAME",
		Short:   "Take a catalogue of your own out of the record",
		Long:    "Remove a catalogue of your own from the record. The file it came from stays.",
		Example: "  lockback catalogue remove shop",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return removeCatalogue(a, args[0]) },
	}
	a.writeFlags(remove)
	return []*cobra.Command{list, export, load, remove}
}

// openKnowledge opens the record for what is known about programs, for reading only in a dry run.
func (a *app) openKnowledge(access store.Access) (*store.Store, error) {
	if a.dryRun {
		access = store.Read
	}
	return a.desk().OpenKnowledge(access)
}

func exportCatalogue(a *app, name string) error {
	record, err := a.openKnowledge(store.Read)
	if err != nil {
		return err
	}
	defer record.Close()
	notes, err := record.Notes()
	if err != nil {
		return work.Advise(err)
	}
	entries, stay := work.Exported(notes)
	for _, s := range stay {
		a.note("stays in the record: the note on %s: %s", s.Name, s.Why)
	}
	text := catalogue.Write(entries)
	if _, problems := catalogue.Parse(text); len(problems) > 0 {
		return fmt.Errorf("nothing was written: the file would not be read again: %w", problems[0])
	}
	if name == "-" {
		_, err := a.Out.Write(text)
		return err
	}
	if len(entries) == 0 {
		return usage("there is no note to export: the record has none on programs that can be handed on")
	}
	switch {
	case a.format == "table":
		a.page().Exported(entries)
	case !a.yes:
		a.errorPage().Exported(entries)
	}
	count := autostart.Count(len(entries), "note", "notes")
	if a.dryRun {
		a.printer().Line("%s would be written to %s; nothing was", count, name)
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Write %s to %s?", count, name)); err != nil {
		return err
	}
	if err := writeNew(name, text); err != nil {
		return fmt.Errorf("the notes were not written: %w", err)
	}
	if a.format == "table" {
		a.printer().Line("%s written to %s", count, name)
	}
	return nil
}

// writeNew writes a file that is not there yet, whole or not at all.
func writeNew(name string, text []byte) error {
	if _, err := os.Lstat(name); err == nil {
		return fmt.Errorf("%s exists already; name another file", name)
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".lockback-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(text)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	// A name that somebody made meanwhile is not written over.
	if err = os.Link(f.Name(), name); errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s exists already; name another file", name)
	} else if err != nil {
		return os.Rename(f.Name(), name) // a disk without links
	}
	return nil
}

// maxProblemsNamed is how many problems of a file an import names.
const maxProblemsNamed = 10

func importCatalogue(a *app, file, as string, first bool) error {
	c, problems, err := parseCatalogue(a, file)
	if err != nil {
		return err
	}
	for k, p := range problems {
		if k == maxProblemsNamed {
			a.note("and %d more; lockback catalogue check names all", len(problems)-k)
			break
		}
		a.note("%s:%d: %s", file, p.Line, p.What)
	}
	if len(problems) > 0 {
		return usage("nothing was imported: in %s, %s", file, autostart.Count(len(problems), "thing is wrong",
			"things are wrong"))
	}
	if as == "" {
		as = strings.ToLower(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)))
	}
	if err := work.CheckCatalogueName(as); err != nil {
		return err
	}
	record, err := a.openKnowledge(store.Write)
	if a.dryRun && errors.Is(err, store.ErrNone) {
		record, err = nil, nil
	}
	if err != nil {
		return err
	}
	if record != nil {
		defer record.Close()
	}
	plan, err := a.desk().PlanImport(record, c, as, first)
	if errors.Is(err, work.ErrNoEntries) {
		return usage("nothing was imported: %s has no entries to import", file)
	}
	if err != nil {
		return err
	}
	w := a.page()
	if a.format != "table" {
		w = a.errorPage()
	}
	if a.format == "table" || !a.yes && !a.dryRun {
		w.Import(file, plan)
	}
	if a.dryRun {
		if a.format == "json" {
			return a.page().ImportJSON(plan, false)
		}
		a.note("nothing was imported")
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Import %s as the catalogue %s?", autostart.Count(plan.Entries, "entry", "entries"),
		as)); err != nil {
		return err
	}
	if err := plan.Carry(record); err != nil {
		return fmt.Errorf("nothing was imported: %w", err)
	}
	if a.format == "json" {
		return a.page().ImportJSON(plan, true)
	}
	w.Line("imported; lockback catalogue list shows the order")
	return nil
}

func listCatalogues(a *app) error {
	record, err := a.openKnowledge(store.Read)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return err
	}
	all := []page.CatalogueItem{{Name: "notes"}}
	if err == nil {
		defer record.Close()
		notes, err := record.Notes()
		if err != nil {
			return work.Advise(err)
		}
		all[0].Entries = len(notes)
		catalogues, err := record.Catalogues()
		if err != nil {
			return work.Advise(err)
		}
		for _, c := range catalogues {
			own, err := catalogue.Decode(c.Text)
			if err != nil {
				return fmt.Errorf("the catalogue %s of the record cannot be read: %w; lockback catalogue remove %s "+
					"takes it out", c.Name, err, c.Name)
			}
			all = append(all, page.CatalogueItem{Name: c.Name, Entries: len(own.Entries),
				Imported: c.Time.UTC().Format(time.RFC3339)})
		}
	}
	shipped := 0
	for _, c := range work.ShippedCatalogues() {
		shipped += len(c.Entries)
	}
	return a.page().Catalogues(append(all, page.CatalogueItem{Name: "lockback", Entries: shipped}))
}

func removeCatalogue(a *app, name string) error {
	st, err := a.openKnowledge(store.Write)
	if err != nil {
		return err
	}
	defer st.Close()
	all, err := st.Catalogues()
	if err != nil {
		return work.Advise(err)
	}
	at := slices.IndexFunc(all, func(c store.Catalogue) bool { return c.Name == name })
	if at < 0 {
		var names []string
		for _, c := range all {
			names = append(names, c.Name)
		}
		return usage("the record has no catalogue %q%s", name, autostart.Suggest(name, names))
	}
	if a.dryRun {
		a.note("the catalogue %s would be removed from the record; nothing was", name)
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Remove the catalogue %s from the record?", name)); err != nil {
		return err
	}
	if err := st.SetCatalogues(slices.Delete(all, at, at+1)); err != nil {
		return fmt.Errorf("nothing was removed: %w", work.Advise(err))
	}
	a.note("the catalogue %s is removed from the record", name)
	return nil
}
