package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/note"
	"lockback/core/store"
	"lockback/internal/view"
)

// ownCatalogueCommands are the commands for catalogues of the technician's own.
func (a *app) ownCatalogueCommands() []*cobra.Command {
	var as string
	var first bool
	export := &cobra.Command{
		Use:   "export FILE",
		Short: "Write your notes on programs as a file of the catalogue, for the shop",
		Long: `Write the notes on programs as a file in the form that docs/catalogue.md describes, to
be read through and handed on. Notes on one machine's entries stay in the record, and so
does what has a user's name in it: each is named. "-" is standard output; a file that
exists is not written over.`,
		Example: "  lockback catalogue export shop.yaml\n  lockback catalogue export - | less",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return a.exportCatalogue(args[0]) },
	}
	a.writeFlags(export)
	load := &cobra.Command{
		Use:   "import FILE",
		Short: "Take a file of the catalogue into the record",
		Long: `Take a file of the catalogue into the record. What it adds and changes, and where it
contradicts what is known already, is said before it is asked. One of the same name is
replaced, in its place; a new one comes last of your own, and with --first in front of
them. What says of itself that it is a part of the operating system is passed over: only
the catalogue that is part of lockback hides anything.`,
		Example: "  lockback catalogue import shop.yaml\n  lockback catalogue import shop.yaml --as shop --first --yes",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return a.importCatalogue(args[0], as, first) },
	}
	load.Flags().StringVar(&as, "as", "", "the catalogue's `NAME` in the record (default: the name of the file)")
	load.Flags().BoolVar(&first, "first", false, "let it come before all others of your own")
	a.writeFlags(load)
	list := &cobra.Command{
		Use:     "list",
		Short:   "List the catalogues, the one that counts first in front",
		Long:    "List what is asked about a program, in order: your notes, your own catalogues, and the catalogue that is part of lockback. The first that knows a program counts.",
		Example: "  lockback catalogue list",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return a.listCatalogues() },
	}
	remove := &cobra.Command{
		Use:     "remove NAME",
		Short:   "Take a catalogue of your own out of the record",
		Long:    "Take a catalogue of your own out of the record. The file that it came from is not touched.",
		Example: "  lockback catalogue remove shop",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return a.removeCatalogue(args[0]) },
	}
	a.writeFlags(remove)
	return []*cobra.Command{list, export, load, remove}
}

// openKnowledge opens the record for what is known of programs: no machine is needed for it.
func (a *app) openKnowledge(access store.Access) (*store.Store, error) {
	if a.store == onDisk {
		return nil, usage("catalogues and notes are kept in your own record, not in the one on a disk; leave --store disk out")
	}
	path, err := a.storePath()
	if err != nil {
		return nil, err
	}
	if a.dryRun {
		access = store.Read
	}
	st, err := store.Open(path, access)
	return st, adviseStore(err)
}

// ownCatalogues are those of the record; none where there is no record.
func (a *app) ownCatalogues() ([]*catalogue.Catalogue, error) {
	if a.store == onDisk {
		return nil, nil
	}
	st, err := a.openKnowledge(store.Read)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer st.Close()
	return a.knowledgeOf(st).own, nil
}

// entryOf is a note as an entry of a catalogue.
func entryOf(n note.Note, id string) catalogue.Entry {
	m := n.Program.Mark()
	m.Location = n.Program.System + ".*"
	e := catalogue.Entry{ID: id, KnownBy: []catalogue.Mark{m}, Role: n.Role, Verdict: n.Verdict, Note: n.Text, By: n.By, Date: n.Time.UTC().Format(time.DateOnly)}
	if e.Role == "" {
		e.Role = autostart.RoleUnknown
	}
	if e.Verdict == "" {
		e.Verdict = autostart.Unrated
	}
	return e
}

// notPlain is what an id has not.
var notPlain = regexp.MustCompile(`[^a-z0-9]+`)

// exported are the notes that go into a file as entries, and those that stay, with the reason.
func exported(notes []note.Note) (entries []catalogue.Entry, stay [][2]string) {
	used := map[string]int{}
	for _, n := range notes {
		switch {
		case n.Machine != "":
			stay = append(stay, [2]string{n.Name, "it is about one machine's entry"})
			continue
		case n.Private:
			stay = append(stay, [2]string{n.Name, "a user's name is in it"})
			continue
		case n.Verdict == "" && n.Text == "":
			stay = append(stay, [2]string{n.Name, "it says no more than a role"})
			continue
		}
		id := strings.Trim(notPlain.ReplaceAllString(strings.ToLower(n.Name), "-"), "-")
		if id == "" {
			id = "program"
		}
		if used[id]++; used[id] > 1 {
			id = fmt.Sprintf("%s-%d", id, used[id])
		}
		entries = append(entries, entryOf(n, id))
	}
	return entries, stay
}

func (a *app) exportCatalogue(name string) error {
	st, err := a.openKnowledge(store.Read)
	if err != nil {
		return err
	}
	defer st.Close()
	notes, err := st.Notes()
	if err != nil {
		return adviseStore(err)
	}
	entries, stay := exported(notes)
	for _, s := range stay {
		a.note("stays in the record: the note on %s: %s", s[0], s[1])
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
	if a.format == "table" || !a.yes {
		p := a.printer()
		if a.format != "table" {
			p.Out = a.Err
		}
		for _, e := range entries {
			what, who := view.NoteWords(autostart.Note{Text: e.Note, Verdict: noUnrated(e.Verdict), Role: noUnknown(e.Role), By: e.By, Proven: true})
			p.Block(e.ID, [][]string{{what}, {"written " + who}, {"known by " + knownBy(e.KnownBy[0])}})
		}
		p.Line("")
	}
	if a.dryRun {
		a.printer().Line("%s would be written to %s; nothing was", view.Number(len(entries), "note", "notes"), name)
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Write %s to %s?", view.Number(len(entries), "note", "notes"), name)); err != nil {
		return err
	}
	if err := writeNew(name, text); err != nil {
		return fmt.Errorf("the notes were not written: %w", err)
	}
	if a.format == "table" {
		a.printer().Line("%s written to %s", view.Number(len(entries), "note", "notes"), name)
	}
	return nil
}

func noUnrated(verdict string) string {
	if verdict == autostart.Unrated {
		return ""
	}
	return verdict
}

func noUnknown(role string) string {
	if role == autostart.RoleUnknown {
		return ""
	}
	return role
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

// catalogueName is what a catalogue may be called in the record.
var catalogueName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// importJSON is what an import does, for scripts.
type importJSON struct {
	Catalogue   string   `json:"catalogue"`
	Added       []string `json:"added"`
	Changed     []string `json:"changed"`
	Removed     []string `json:"removed"`
	Passed      []string `json:"passed_over"`
	Contradicts []string `json:"contradicts"`
	Imported    bool     `json:"imported"`
}

func (a *app) importCatalogue(file, as string, first bool) error {
	c, problems, err := a.parseFile(file)
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
		return usage("nothing was imported: in %s, %s", file, view.Number(len(problems), "thing is wrong", "things are wrong"))
	}
	if as == "" {
		as = strings.ToLower(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)))
	}
	if !catalogueName.MatchString(as) || slices.Contains(append(systems, "lockback"), as) {
		return usage("a catalogue cannot be called %q: a name has small letters, digits and hyphens; give one with --as", as)
	}
	st, err := a.openKnowledge(store.Write)
	if a.dryRun && errors.Is(err, store.ErrNone) {
		st, err = nil, nil
	}
	if err != nil {
		return err
	}
	var all []store.Catalogue
	if st != nil {
		defer st.Close()
		if all, err = st.Catalogues(); err != nil {
			return adviseStore(err)
		}
	}
	told := importJSON{Catalogue: as, Added: []string{}, Changed: []string{}, Removed: []string{}, Passed: []string{}, Contradicts: []string{}}
	c.Entries = slices.DeleteFunc(c.Entries, func(e catalogue.Entry) bool {
		if e.Part {
			told.Passed = append(told.Passed, e.ID)
		}
		return e.Part
	})
	if len(c.Entries) == 0 {
		return usage("nothing was imported: %s has no entries to import", file)
	}
	known := a.knowledgeOf(st)
	at := slices.IndexFunc(all, func(other store.Catalogue) bool { return other.Name == as })
	before := map[string]catalogue.Entry{}
	if at >= 0 {
		if old, err := catalogue.Decode(all[at].Text); err == nil {
			for _, e := range old.Entries {
				before[e.ID] = e
			}
		}
	}
	var others []*catalogue.Catalogue
	for _, o := range known.own {
		if o.Name != as {
			others = append(others, o)
		}
	}
	for _, e := range c.Entries {
		e.Line = 0
		old, was := before[e.ID]
		delete(before, e.ID)
		switch {
		case !was:
			told.Added = append(told.Added, e.ID)
		case !bytes.Equal((&catalogue.Catalogue{Entries: []catalogue.Entry{old}}).Encode(), (&catalogue.Catalogue{Entries: []catalogue.Entry{e}}).Encode()):
			told.Changed = append(told.Changed, e.ID)
		}
		told.Contradicts = append(told.Contradicts, contradictions(e, others, known.notes())...)
	}
	for id := range before {
		told.Removed = append(told.Removed, id)
	}
	slices.Sort(told.Removed)
	now := store.Catalogue{Name: as, Text: c.Encode(), Time: time.Now()}
	switch {
	case at >= 0 && !first:
		all[at] = now
	case at >= 0:
		all = slices.Insert(slices.Delete(all, at, at+1), 0, now)
	case first:
		all = slices.Insert(all, 0, now)
	default:
		all = append(all, now)
	}
	p := a.printer()
	if a.format != "table" {
		p.Out = a.Err
	}
	if a.format == "table" || !a.yes && !a.dryRun {
		p.Line("%s: %s as the catalogue %s", file, view.Number(len(c.Entries), "entry", "entries"), as)
		for _, w := range []struct {
			what string
			ids  []string
		}{{"adds", told.Added}, {"changes", told.Changed}, {"removes", told.Removed}, {"passes over, as parts of the operating system,", told.Passed}} {
			if len(w.ids) > 0 {
				p.Line("%s %d: %s", w.what, len(w.ids), idsInShort(w.ids))
			}
		}
		for _, text := range told.Contradicts {
			p.Line("contradicts: %s", text)
		}
	}
	if a.dryRun {
		if a.format == "json" {
			return a.printer().JSON(told)
		}
		a.note("nothing was imported")
		return nil
	}
	if err := a.confirm(fmt.Sprintf("Import %s as the catalogue %s?", view.Number(len(c.Entries), "entry", "entries"), as)); err != nil {
		return err
	}
	if err := st.SetCatalogues(all); err != nil {
		return fmt.Errorf("nothing was imported: %w", adviseStore(err))
	}
	told.Imported = true
	if a.format == "json" {
		return a.printer().JSON(told)
	}
	p.Line("imported; lockback catalogue list shows the order")
	return nil
}

// maxProblemsNamed is how many problems of a file an import names, maxIDs how many entries of a kind.
const (
	maxProblemsNamed = 10
	maxIDs           = 12
)

func idsInShort(ids []string) string {
	if len(ids) <= maxIDs {
		return strings.Join(ids, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(ids[:maxIDs], ", "), len(ids)-maxIDs)
}

// goes reports whether a verdict leads to switching off, stays whether it speaks against that.
func goes(verdict string) bool { return verdict == "spare" || verdict == "hostile" }

func stays(verdict string) bool { return verdict == "essential" || verdict == "useful" }

// contradictions say where an entry judges what is known already the other way round.
func contradictions(e catalogue.Entry, others []*catalogue.Catalogue, notes *note.Book) []string {
	against := func(verdict string) bool {
		return goes(e.Verdict) && stays(verdict) || stays(e.Verdict) && goes(verdict)
	}
	var all []string
	say := func(format string, args ...any) {
		if text := fmt.Sprintf("%s is %s, and ", e.ID, e.Verdict) + fmt.Sprintf(format, args...); !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	for _, m := range e.KnownBy {
		s := subjectLike(m)
		for _, system := range systems {
			if m.Location != "" && !strings.HasPrefix(m.Location, system+".") && !strings.HasPrefix(m.Location, "*") {
				continue
			}
			s.Location = strings.NewReplacer("*", "", "?", "").Replace(m.Location)
			if s.Location == "" || s.Location == system+"." {
				s.Location = system + ".systemd.system"
			}
			if o := catalogue.Of(system).Find(s); o != nil {
				switch {
				case against(o.Verdict):
					say("%s of lockback's own catalogue is %s", o.ID, o.Verdict)
				case goes(e.Verdict) && o.Protect != "":
					say("%s of lockback's own catalogue is protected, which it stays: %s", o.ID, catalogue.Protections[o.Protect])
				}
			}
			for _, c := range others {
				if o := c.Find(s); o != nil && against(o.Verdict) {
					say("%s of the catalogue %s is %s", o.ID, c.Name, o.Verdict)
				}
			}
			p := note.Program{System: system, Maker: m.Maker, Package: m.Package, Says: m.Says, File: strings.ToLower(m.File), Label: strings.ToLower(m.Label)}
			if n, ok := notes.Of(p); ok && against(n.Verdict) {
				say("your note on %s says %s", n.Name, n.Verdict)
			}
		}
	}
	return all
}

// subjectLike is what a mark would recognise.
func subjectLike(m catalogue.Mark) catalogue.Subject {
	s := catalogue.Subject{Bundle: m.Bundle, Maker: m.Maker, Says: m.Says, File: m.File, Label: m.Label, Command: m.Command, Names: m.Names}
	if m.Package != "" {
		s.Packages = []string{m.Package}
	}
	if len(m.Runs) > 0 {
		s.Runs = [][]string{m.Runs}
	}
	return s
}

func (a *app) listCatalogues() error {
	st, err := a.openKnowledge(store.Read)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return err
	}
	type catalogueJSON struct {
		Name     string `json:"name"`
		Entries  int    `json:"entries"`
		Imported string `json:"imported"`
	}
	list := []catalogueJSON{{Name: "notes"}}
	if err == nil {
		defer st.Close()
		notes, err := st.Notes()
		if err != nil {
			return adviseStore(err)
		}
		list[0].Entries = len(notes)
		all, err := st.Catalogues()
		if err != nil {
			return adviseStore(err)
		}
		for _, c := range all {
			own, err := catalogue.Decode(c.Text)
			if err != nil {
				return fmt.Errorf("the catalogue %s of the record cannot be read: %w; lockback catalogue remove %s takes it out", c.Name, err, c.Name)
			}
			list = append(list, catalogueJSON{c.Name, len(own.Entries), c.Time.UTC().Format(time.RFC3339)})
		}
	}
	shipped := 0
	for _, c := range shippedCatalogues() {
		shipped += len(c.Entries)
	}
	list = append(list, catalogueJSON{Name: "lockback", Entries: shipped})
	p := a.printer()
	switch a.format {
	case "json":
		return p.JSON(struct {
			Catalogues []catalogueJSON `json:"catalogues"`
		}{list})
	case "csv":
		var rows [][]string
		for _, c := range list {
			rows = append(rows, []string{c.Name, fmt.Sprint(c.Entries), c.Imported})
		}
		return p.CSV([]string{"name", "entries", "imported"}, rows)
	}
	what := map[string]string{"notes": "what lockback note wrote down", "lockback": "part of the program"}
	for k, c := range list {
		about := what[c.Name]
		if at, err := time.Parse(time.RFC3339, c.Imported); err == nil {
			about = "imported on " + local(at)
		}
		p.Line("%d  %s: %s, %s", k+1, c.Name, view.Number(c.Entries, "entry", "entries"), about)
	}
	p.Line("")
	p.Line("the first that knows a program counts")
	return nil
}

func (a *app) removeCatalogue(name string) error {
	st, err := a.openKnowledge(store.Write)
	if err != nil {
		return err
	}
	defer st.Close()
	all, err := st.Catalogues()
	if err != nil {
		return adviseStore(err)
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
		return fmt.Errorf("nothing was removed: %w", adviseStore(err))
	}
	a.note("the catalogue %s is removed from the record", name)
	return nil
}
