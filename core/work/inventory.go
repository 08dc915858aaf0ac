package work

import (
	"bytes"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/machine/files"
	"lockback/core/note"
	"lockback/core/snapshot"
	"lockback/core/store"
)

// knowledge is what the record knows of programs, whatever machine they are found on.
type knowledge struct {
	// notes are read once, when they are first asked for.
	notes func() *note.Book
	own   []*catalogue.Catalogue // in their order
}

// ahead begins to read the notes, while the machine is read. Nobody else may use the record until they were asked for.
func (k *knowledge) ahead() { go k.notes() }

// Notes are what technicians wrote down. If the record cannot be read, the session warns and has no notes.
func (s *Session) Notes() *note.Book { return s.known().notes() }

// Forget reads notes and catalogues again when they are next asked for.
func (s *Session) Forget() { s.knowledge = nil }

func (s *Session) known() *knowledge {
	if s.knowledge == nil {
		s.knowledge = s.readKnowledge()
	}
	return s.knowledge
}

func (s *Session) readKnowledge() *knowledge {
	k := &knowledge{notes: func() *note.Book { return note.NewBook(nil) }}
	if s.Record == nil {
		return k
	}
	k.notes = sync.OnceValue(func() *note.Book {
		notes, err := s.Record.Notes()
		if err != nil {
			s.desk.warn("note: the notes of the record are not used: %v", err)
			notes = nil
		}
		return note.NewBook(notes)
	})
	all, err := s.Record.Catalogues()
	if err != nil {
		s.desk.warn("note: the catalogues of the record are not used: %v", err)
		return k
	}
	for _, c := range all {
		own, err := catalogue.Decode(c.Text)
		if err != nil {
			s.desk.warn("note: the catalogue %s of the record is not used: %v", c.Name, err)
			continue
		}
		own.Name = c.Name
		k.own = append(k.own, own)
	}
	return k
}

// Inventory reads the machine, with what changes took away and what is known about its programs. A session that writes
// keeps what was found of programs with its next transaction.
func (s *Session) Inventory() inventory.Inventory { return s.read(false) }

// Measured is [Session.Inventory] with what programs cost and when they were last used.
func (s *Session) Measured() inventory.Inventory { return s.read(true) }

func (s *Session) read(measure bool) inventory.Inventory {
	if s.desk.Reading != nil {
		defer s.desk.Reading(s.Memory)()
	}
	known := s.known()
	known.ahead()
	inv := inventory.Take(s.Machine, s.Memory, known.own...)
	if measure {
		inv.Measure()
	}
	notes := known.notes()
	writes := s.Record != nil && s.access != store.Read
	if writes {
		s.Record.KeepPrograms(s.Machine.ID, s.Memory.Fresh())
	}
	inv = s.WithTaken(inv)
	if writes {
		s.Record.Saw(s.Machine.ID, time.Now(), Sightings(inv))
	}
	notes.Apply(s.Machine.OS, s.Machine.ID, inv.Entries())
	return inv
}

// WithTaken adds what changes took away. Where the record cannot tell, that is warned of, and the rest is returned.
func (s *Session) WithTaken(inv inventory.Inventory) inventory.Inventory {
	all, err := change.WithTaken(inv, recordOf(s.Record))
	if err != nil {
		s.desk.warn("lockback: what was removed earlier is not shown: %v", err)
		return inv
	}
	return all
}

// Sightings are the programs of a machine, and how many of the entries of each start. What is removed, and parts of
// the operating system, are no sign of anything.
func Sightings(inv inventory.Inventory) map[string]store.Sighting {
	all := map[string]store.Sighting{}
	for _, item := range inv.Items {
		if item.Hidden() {
			continue
		}
		p, ok := note.ProgramOf(inv.Machine.OS, &item.Entry)
		if !ok {
			continue
		}
		key := p.Key()
		s := all[key]
		if item.State == autostart.Enabled {
			s.On++
		} else {
			s.Off++
		}
		all[key] = s
	}
	return all
}

// Capture captures the machine for a comparison with the record, and keeps of the contents only those that the record
// does not have.
func (s *Session) Capture() (*snapshot.Snapshot, inventory.Inventory, error) {
	fresh := map[snapshot.Digest][]byte{}
	inv := s.Inventory()
	now, err := snapshot.Capture(inv, time.Now(), "", snapshot.Keeper{Sections: true, Keep: func(d snapshot.Digest,
		content []byte) error {
		if _, known := fresh[d]; !known && !s.Record.Has(d) {
			fresh[d] = bytes.Clone(content)
		}
		return nil
	}})
	if err == nil {
		err = files.RanOut()
	}
	if err != nil {
		return nil, inv, err
	}
	now.Figures = snapshot.FiguresOf(inv)
	now.Load = func(d snapshot.Digest) ([]byte, error) {
		if content, ok := fresh[d]; ok {
			return content, nil
		}
		return s.Record.Blob(d)
	}
	return now, inv, nil
}
