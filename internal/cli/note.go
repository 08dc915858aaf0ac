package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/note"
	"lockback/core/store"
	"lockback/internal/view"
)

// noteOptions are those of note.
type noteOptions struct {
	verdict, role, text string
	machine, remove     bool
	all                 bool
}

// noteJSON is a note for scripts.
type noteJSON struct {
	Handles   []string `json:"handles"`
	Name      string   `json:"name"`
	System    string   `json:"os"`
	KnownBy   string   `json:"known_by"`
	Proven    bool     `json:"proven"`
	Machine   string   `json:"machine"`
	Verdict   string   `json:"verdict"`
	Role      string   `json:"role"`
	Text      string   `json:"text"`
	By        string   `json:"by"`
	Time      string   `json:"time"`
	OfMachine bool     `json:"of_machine"`
}

func (a *app) noteCommand() *cobra.Command {
	var o noteOptions
	c := &cobra.Command{
		Use:   "note [SELECTOR...]",
		Short: "Write down what you know of a program, for this machine and the next",
		Long: `Write down what you know of a program: a verdict, a role, a remark. The record keeps
it, and every machine that is worked on with the same record shows it where the
program is found again: by who signed it or by its package, and where nothing proves
what it is, by the names of its file, its maker and its entry. It comes before what
the catalogue says, hides nothing, and takes no protection away.

With --machine the note is about this machine's entry only. What is not given stays
as it was noted before. Without anything to note, the notes on the entries are shown,
and without a selector all notes of the record.

The verdict is one of ` + strings.Join(autostart.Verdicts, ", ") + `; the role
one of ` + inLines(autostart.Roles) + `.`,
		Example: "  lockback note k7f3qa2 --verdict spare -m \"comes with the scanner, nobody scans\"\n  lockback note \"Fogbell Sync\" --machine -m \"needed by the till, ask Ines\"\n  lockback note k7f3qa2 --remove\n  lockback note",
		RunE: func(c *cobra.Command, words []string) error {
			given := note.Note{Verdict: o.verdict, Role: o.role, Text: strings.TrimSpace(o.text)}
			if err := given.Check(); err != nil {
				return usageError{err}
			}
			switch {
			case o.remove && !given.Empty():
				return usage("--remove takes notes away; it goes with no verdict, role or text")
			case len(words) == 0 && (o.remove || !given.Empty() || o.machine):
				return usage("name the entries that the note is about")
			case len(words) == 0:
				return a.listNotes()
			case !o.remove && given.Empty():
				return a.showNotes(words, o)
			}
			return a.writeNotes(words, o, given)
		},
	}
	f := c.Flags()
	f.StringVar(&o.verdict, "verdict", "", "what to do with it: `WORD`, see above")
	f.StringVar(&o.role, "role", "", "what it is for: `WORD`, see above")
	f.StringVarP(&o.text, "message", "m", "", "a remark in one line")
	f.BoolVar(&o.machine, "machine", false, "about this machine's entry only, not about the program")
	f.BoolVar(&o.remove, "remove", false, "take the notes away")
	f.BoolVar(&o.all, "all", false, "choose among parts of the operating system too")
	f.BoolVar(&a.dryRun, "dry-run", false, "show what would be noted and write nothing")
	return c
}

// inLines joins words with commas, in lines of a help page.
func inLines(words []string) string {
	text, at := "", len("one of ")
	for k, w := range words {
		switch {
		case k == 0:
		case at+len(w) > 76:
			text, at = text+",\n", 0
		default:
			text, at = text+", ", at+2
		}
		text, at = text+w, at+len(w)
	}
	return text
}

// openForNotes refuses the record on a disk: what technicians know is not kept there.
func (a *app) openForNotes(access store.Access) (*session, error) {
	if a.store == onDisk {
		return nil, usage("notes are kept in your own record, not in the one on a disk; leave --store disk out")
	}
	return a.open(access)
}

// noted is a note with the entries that it is about.
type notedEntries struct {
	note.Note
	before  note.Note
	handles []string
	known   bool // there was one
}

// about puts the items together that one note is about.
func (s *session) about(items []*location.Item, ofMachine bool) (all []*notedEntries, without []*location.Item) {
	at := map[string]*notedEntries{}
	for _, item := range items {
		n := note.Note{Name: item.Name, Machine: s.machine.ID, Handle: item.Handle}
		key := item.Handle
		before, known := s.knowledge.notes().On(s.machine.ID, item.Handle)
		if !ofMachine {
			p, ok := note.ProgramOf(s.machine.OS, &item.Entry)
			if !ok {
				without = append(without, item)
				continue
			}
			n, key = note.Note{Name: item.Name, Program: p}, p.Key()
			before, known = s.knowledge.notes().Of(p)
		}
		if at[key] == nil {
			at[key] = &notedEntries{Note: n, before: before, known: known}
			all = append(all, at[key])
		}
		at[key].handles = append(at[key].handles, item.Handle)
	}
	return all, without
}

func (a *app) writeNotes(words []string, o noteOptions, given note.Note) error {
	access := store.Write
	if a.dryRun {
		access = store.Read
	}
	s, err := a.openForNotes(access)
	if err != nil {
		return err
	}
	defer s.close()
	inv := s.inventory()
	c, err := a.choose(s.machine, inv, s.store, words, scope{all: o.all})
	if err != nil {
		return err
	}
	about, without := s.about(c.items, o.machine)
	switch {
	case o.remove:
		err = s.removeNotes(about, c.items)
	case len(about) == 0:
		return usage("nothing was noted: nothing tells the program of %s on another machine, only its place; note --machine keeps it of this entry", summary(without, ""))
	default:
		err = s.keepNotes(about, given)
	}
	if err != nil {
		return err
	}
	for _, item := range without {
		if !o.remove {
			a.note("left out: %s  %s: nothing tells its program on another machine, only its place; note --machine keeps it of this entry", item.Handle, item.Name)
		}
	}
	done := "noted"
	if o.remove {
		done = "removed"
		about = slices.DeleteFunc(about, func(n *notedEntries) bool { n.Note = n.before; return !n.known })
	}
	return a.printNotes(s.machine, about, done)
}

// keepNotes keeps what is given of each, over what was noted before.
func (s *session) keepNotes(about []*notedEntries, given note.Note) error {
	keep := make([]note.Note, len(about))
	now := time.Now().UTC().Truncate(time.Second)
	for k, n := range about {
		n.Note.Verdict, n.Note.Role, n.Note.Text = given.Verdict, given.Role, given.Text
		n.Note.By, n.Note.Time = s.author(), now
		n.Note = n.Note.Over(n.before)
		n.Private = n.Private || tells(n.Note, s.machine)
		if err := n.Check(); err != nil {
			return usageError{err}
		}
		keep[k] = n.Note
	}
	if s.dryRun {
		return nil
	}
	if err := s.store.KeepNotes(keep); err != nil {
		return fmt.Errorf("nothing was noted: %w", adviseStore(err))
	}
	return nil
}

// removeNotes takes away what was noted of some items.
func (s *session) removeNotes(about []*notedEntries, items []*location.Item) error {
	var gone []note.Note
	for _, n := range about {
		if n.known {
			gone = append(gone, n.before)
		}
	}
	if len(gone) == 0 {
		return usage("there is no note on %s to remove; lockback note shows all", summary(items, ""))
	}
	if s.dryRun {
		return nil
	}
	if err := s.store.RemoveNotes(gone); err != nil {
		return fmt.Errorf("nothing was removed: %w", adviseStore(err))
	}
	return nil
}

// tells reports whether a note, or what its program is recognised by, has a user's name in it.
func tells(n note.Note, m *machine.Machine) bool {
	return slices.ContainsFunc([]string{n.Text, n.Program.File, n.Program.Label}, func(text string) bool { return tellsUser(text, m.Users) })
}

// showNotes shows the notes on entries.
func (a *app) showNotes(words []string, o noteOptions) error {
	s, err := a.openForNotes(store.Read)
	if err != nil {
		return err
	}
	defer s.close()
	inv := s.inventory()
	c, err := a.choose(s.machine, inv, s.store, words, scope{all: o.all, anywhere: true})
	if err != nil {
		return err
	}
	programs, _ := s.about(c.items, false)
	entries, _ := s.about(c.items, true)
	all := slices.DeleteFunc(append(entries, programs...), func(n *notedEntries) bool { n.Note = n.before; return !n.known })
	return a.printNotes(s.machine, all, "")
}

// listNotes shows all notes of the record.
func (a *app) listNotes() error {
	s, err := a.openForNotes(store.Read)
	if err != nil {
		return err
	}
	defer s.close()
	notes, err := s.store.Notes()
	if err != nil {
		return adviseStore(err)
	}
	all := make([]*notedEntries, len(notes))
	for k, n := range notes {
		all[k] = &notedEntries{Note: n}
		if n.Machine != "" {
			all[k].handles = []string{n.Handle}
		}
	}
	return a.printNotes(nil, all, "")
}

// printNotes prints notes, of a machine or of all.
func (a *app) printNotes(m *machine.Machine, notes []*notedEntries, done string) error {
	p := a.printer()
	list := make([]noteJSON, len(notes))
	for k, n := range notes {
		list[k] = noteJSON{Handles: notNil(n.handles), Name: n.Name, System: n.Program.System, Machine: n.Machine, Verdict: n.Verdict, Role: n.Role, Text: n.Text, By: n.By, Time: n.Time.UTC().Format(time.RFC3339), OfMachine: n.Machine != ""}
		if n.Machine == "" {
			list[k].KnownBy, list[k].Proven = n.Program.String(), n.Program.Proven()
		}
	}
	switch a.format {
	case "json":
		return p.JSON(struct {
			Notes   []noteJSON `json:"notes"`
			Written bool       `json:"written"`
		}{list, done != "" && !a.dryRun})
	case "csv":
		rows := make([][]string, len(list))
		for k, n := range list {
			rows[k] = []string{strings.Join(n.Handles, " "), n.Name, n.System, n.KnownBy, n.Machine, n.Verdict, n.Role, n.Text, n.By, n.Time}
		}
		return p.CSV([]string{"handles", "name", "os", "known_by", "machine", "verdict", "role", "text", "by", "time"}, rows)
	}
	if m != nil {
		p.Line("%s", heading(describe(m)))
		p.Line("")
	}
	for k, n := range notes {
		if k > 0 {
			p.Line("")
		}
		what, who := view.NoteWords(autostart.Note{Text: n.Text, Verdict: n.Verdict, Role: n.Role, By: n.By, Time: n.Time, Proven: true})
		title := n.Name
		if len(n.handles) > 0 {
			title += "  " + strings.Join(n.handles, " ")
		}
		lines := [][]string{{what}, {"written " + who}}
		switch {
		case n.Machine != "" && m == nil:
			lines = append(lines, []string{"of the machine " + n.Machine + " only"})
		case n.Machine != "":
			lines = append(lines, []string{"of this machine's entry only"})
		default:
			lines = append(lines, []string{"found again by " + n.Program.String()})
		}
		if done == "noted" && n.known {
			before, _ := view.NoteWords(autostart.Note{Text: n.before.Text, Verdict: n.before.Verdict, Role: n.before.Role})
			lines = append(lines, []string{"before: " + before})
		}
		p.Block(title, lines)
	}
	if len(notes) > 0 {
		p.Line("")
	}
	text := view.Number(len(notes), "note", "notes")
	switch {
	case a.dryRun && done != "":
		text = "would be " + done + ": " + text + "; nothing was written"
	case done != "":
		text = done + ": " + text
	}
	p.Line("%s", text)
	return nil
}
