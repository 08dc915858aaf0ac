package work

import (
	"fmt"
	"slices"
	"time"

	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/note"
	"lockback/core/work/disclose"
)

// Noted is a note with the entries that it is about.
type Noted struct {
	note.Note
	Before  note.Note
	Handles []string
	Known   bool // there was one before
}

// About puts the items together that one note is about.
func (s *Session) About(items []*location.Item, ofMachine bool) (all []*Noted, without []*location.Item) {
	at := map[string]*Noted{}
	for _, item := range items {
		n := note.Note{Name: item.Name, Machine: s.Machine.ID, Handle: item.Handle}
		key := item.Handle
		before, known := s.Notes().On(s.Machine.ID, item.Handle)
		if !ofMachine {
			p, ok := note.ProgramOf(s.Machine.OS, &item.Entry)
			if !ok {
				without = append(without, item)
				continue
			}
			n, key = note.Note{Name: item.Name, Program: p}, p.Key()
			before, known = s.Notes().Of(p)
		}
		if at[key] == nil {
			at[key] = &Noted{Note: n, Before: before, Known: known}
			all = append(all, at[key])
		}
		at[key].Handles = append(at[key].Handles, item.Handle)
	}
	return all, without
}

// KeepNotes keeps what is given of each, over what was noted before; by is who writes it. A dry run only fills the
// notes in.
func (s *Session) KeepNotes(about []*Noted, given note.Note, by string, dryRun bool) error {
	keep := make([]note.Note, len(about))
	now := time.Now().UTC().Truncate(time.Second)
	for k, n := range about {
		n.Note.Verdict, n.Note.Role, n.Note.Text = given.Verdict, given.Role, given.Text
		n.Note.By, n.Note.Time = by, now
		n.Note = n.Note.Over(n.Before)
		n.Private = n.Private || namesUser(n.Note, s.Machine)
		if err := n.Check(); err != nil {
			return Mistake{err}
		}
		keep[k] = n.Note
	}
	if dryRun {
		return nil
	}
	if err := s.Record.KeepNotes(keep); err != nil {
		return fmt.Errorf("nothing was noted: %w", Advise(err))
	}
	return nil
}

// RemoveNotes takes away what was noted of some items.
func (s *Session) RemoveNotes(about []*Noted, dryRun bool) error {
	var gone []note.Note
	for _, n := range about {
		if n.Known {
			gone = append(gone, n.Before)
		}
	}
	if len(gone) == 0 {
		return ErrNoNote
	}
	if dryRun {
		return nil
	}
	if err := s.Record.RemoveNotes(gone); err != nil {
		return fmt.Errorf("nothing was removed: %w", Advise(err))
	}
	return nil
}

// ErrNoNote says that there is no note to remove.
var ErrNoNote = Wrong("no such note")

// namesUser reports whether a note, or what its program is recognised by, has a user's name in it.
func namesUser(n note.Note, m *machine.Machine) bool {
	return slices.ContainsFunc([]string{n.Text, n.Program.File, n.Program.Label},
		func(text string) bool { return disclose.NamesUser(text, m.Users) })
}

// NotesOn are the notes on items: those on programs, and those on this machine's entries.
func (s *Session) NotesOn(items []*location.Item) []*Noted {
	programs, _ := s.About(items, false)
	entries, _ := s.About(items, true)
	return slices.DeleteFunc(append(entries, programs...), func(n *Noted) bool { n.Note = n.Before; return !n.Known })
}
