package cli

import (
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/note"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/internal/page"
)

// noteOptions are those of note.
type noteOptions struct {
	verdict, role, text string
	machine, remove     bool
	all                 bool
}

func newNoteCommand(a *app) *cobra.Command {
	var o noteOptions
	c := &cobra.Command{
		Use:   "note [SELECTOR...]",
		Short: "Write down what you know of a program, for this machine and the next",
		Long: `Write down what you know about a program: a verdict, a role, a remark. The record keeps it
and shows it on every machine with the same program, which it knows again by its signer or
package, or, where nothing proves what it is, by the names of its file, maker and entry.
Your note comes before the catalogue, hides nothing, and takes no protection away.

With --machine the note is about this machine's entry only. What you leave out stays as you
noted it before. Without anything to note, note shows the notes on the entries; without a
selector, all notes in the record.

The verdict is one of ` + strings.Join(autostart.Verdicts, ", ") + `; the role
one of ` + inLines(autostart.Roles) + `.`,
		Example: "  lockback note k7f3qa2 --verdict spare -m \"comes with the scanner, nobody scans\"\n  lockback " +
			"note \"Fogbell Sync\" --machine -m \"needed by the till, ask Ines\"\n  lockback note k7f3qa2 " +
			"--remove\n  lockback note",
		RunE: func(c *cobra.Command, words []string) error {
			given := note.Note{Verdict: o.verdict, Role: o.role, Text: strings.TrimSpace(o.text)}
			if err := given.Check(); err != nil {
				return usage("%w", err)
			}
			switch {
			case o.remove && !given.Empty():
				return usage("--remove takes notes away; it goes with no verdict, role or text")
			case len(words) == 0 && (o.remove || !given.Empty() || o.machine):
				return usage("name the entries that the note is about")
			case len(words) == 0:
				return listNotes(a)
			case !o.remove && given.Empty():
				return showNotes(a, words, o)
			}
			return writeNotes(a, words, o, given)
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
	if a.store == work.OnDisk {
		return nil, usage("notes are kept in your own record, not in the one on a disk; leave --store disk out")
	}
	return a.open(access)
}

func writeNotes(a *app, words []string, o noteOptions, given note.Note) error {
	access := store.Write
	if a.dryRun {
		access = store.Read
	}
	s, err := a.openForNotes(access)
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	c, err := s.Choose(inv, words, work.Scope{All: o.all})
	if err != nil {
		return err
	}
	about, without := s.About(c.Items, o.machine)
	switch {
	case o.remove:
		if err = s.RemoveNotes(about, a.dryRun); errors.Is(err, work.ErrNoNote) {
			err = usage("%s has no note to remove; lockback note shows all", page.Summary(c.Items, ""))
		}
	case len(about) == 0:
		return usage("nothing was noted: only its place identifies the program of %s, so other machines would not "+
			"know it; note "+
			"--machine keeps it of this entry", page.Summary(without, ""))
	default:
		err = s.KeepNotes(about, given, a.author(), a.dryRun)
	}
	if err != nil {
		return err
	}
	for _, item := range without {
		if !o.remove {
			a.note("left out: %s  %s: only its place identifies its program, so other machines would not know it; "+
				"note --machine "+
				"keeps it of this entry", item.Handle, item.Name)
		}
	}
	done := "noted"
	if o.remove {
		done = "removed"
		about = slices.DeleteFunc(about, func(n *work.Noted) bool { n.Note = n.Before; return !n.Known })
	}
	return a.page().WriteNotes(s.Machine, about, done, a.dryRun)
}

// showNotes shows the notes on entries.
func showNotes(a *app, words []string, o noteOptions) error {
	s, err := a.openForNotes(store.Read)
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	c, err := s.Choose(inv, words, work.Scope{All: o.all, Anywhere: true})
	if err != nil {
		return err
	}
	return a.page().WriteNotes(s.Machine, s.NotesOn(c.Items), "", false)
}

// listNotes shows all notes of the record.
func listNotes(a *app) error {
	s, err := a.openForNotes(store.Read)
	if err != nil {
		return err
	}
	defer s.Close()
	notes, err := s.Record.Notes()
	if err != nil {
		return work.Advise(err)
	}
	all := make([]*work.Noted, len(notes))
	for k, n := range notes {
		all[k] = &work.Noted{Note: n}
		if n.Machine != "" {
			all[k].Handles = []string{n.Handle}
		}
	}
	return a.page().WriteNotes(nil, all, "", false)
}
