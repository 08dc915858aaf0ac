package store

import (
	"encoding/json"
	"fmt"
	"time"

	"lockback/core/change"
	"lockback/core/note"
)

// What technicians know of programs is kept for all machines of the record, and is never carried onto a disk: it is
// the shop's. Of a record that is a claim nothing of it is believed.

// Notes are all notes of the record.
func (s *Store) Notes() ([]note.Note, error) {
	if s.claim || s.version < 5 {
		return nil, nil
	}
	var all []note.Note
	err := s.each("SELECT program, machine, handle, name, verdict, role, text, author, time, private FROM note "+
		"ORDER BY time, id", nil, func(scan func(...any) error) error {
		var n note.Note
		var program, at string
		if err := scan(&program, &n.Machine, &n.Handle, &n.Name, &n.Verdict, &n.Role, &n.Text, &n.By, &at,
			&n.Private); err != nil {
			return err
		}
		var err error
		if n.Machine == "" {
			n.Program, err = note.ParseProgram(program)
		}
		if err == nil {
			n.Time, err = time.Parse(time.RFC3339, at)
		}
		if err != nil {
			return fmt.Errorf("%w: a note: %w", change.ErrDamaged, err)
		}
		all = append(all, n)
		return nil
	})
	return all, err
}

// noteKey is what there is one note of: a program, or an entry of a machine.
func noteKey(n note.Note) string {
	if n.Machine != "" {
		return "entry\x1f" + n.Machine + "\x1f" + n.Handle
	}
	return "program\x1f" + n.Program.Key()
}

// KeepNotes keeps notes; one of the same program, or entry, is replaced.
func (s *Store) KeepNotes(notes []note.Note) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		for _, n := range notes {
			tx.exec("DELETE FROM note WHERE of = ?", noteKey(n))
			tx.exec("INSERT INTO note (of, program, machine, handle, name, verdict, role, text, author, time, "+
				"private) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
				noteKey(n), n.Program.Text(), n.Machine, n.Handle, n.Name, n.Verdict, n.Role, n.Text, n.By,
				n.Time.UTC().Format(time.RFC3339), n.Private)
		}
		return tx.err
	})
}

// RemoveNotes takes notes away.
func (s *Store) RemoveNotes(notes []note.Note) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		for _, n := range notes {
			tx.exec("DELETE FROM note WHERE of = ?", noteKey(n))
		}
		return tx.err
	})
}

// Sighting is a program on a machine, as it was when that was last looked at.
type Sighting struct {
	Program string // [note.Program.Key]
	Machine change.KnownMachine
	// On and Off are how many of its entries start, and do not.
	On, Off int
	Time    time.Time
}

// Saw remembers which programs a machine has, with the next transaction, instead of what was seen there before.
func (s *Store) Saw(machine string, at time.Time, programs map[string]Sighting) {
	if !s.claim {
		s.seen = &machineSeen{machine, at, programs}
	}
}

// machineSeen waits for the next transaction.
type machineSeen struct {
	machine  string
	at       time.Time
	programs map[string]Sighting
}

// writeSeen is the part of a transaction that keeps what was seen.
func (tx *Tx) writeSeen(m *machineSeen) {
	tx.exec("DELETE FROM seen WHERE machine = ?", m.machine)
	for key, p := range m.programs {
		tx.exec("INSERT INTO seen (program, machine, enabled, disabled, time) VALUES (?, ?, ?, ?, ?)", key, m.machine,
			p.On, p.Off, m.at.UTC().Format(time.RFC3339))
	}
}

// SawNow remembers it at once, in a transaction of its own.
func (s *Store) SawNow(machine string, at time.Time, programs map[string]Sighting) error {
	s.Saw(machine, at, programs)
	return s.Update(func(change.Tx) error { return nil })
}

// Seen is where a program was seen, the latest first: on all machines of the record but one.
func (s *Store) Seen(program, without string) ([]Sighting, error) {
	if s.claim || s.version < 5 {
		return nil, nil
	}
	var all []Sighting
	err := s.each(`SELECT machine.id, machine.name, machine.os, machine.version, seen.enabled, seen.disabled, seen.time FROM seen JOIN machine ON machine.id = seen.machine
		WHERE seen.program = ? AND seen.machine <> ? ORDER BY seen.time DESC, machine.name, machine.id`, []any{program, without}, func(scan func(...any) error) error {
		g := Sighting{Program: program}
		var at string
		err := scan(&g.Machine.ID, &g.Machine.Name, &g.Machine.OS, &g.Machine.Version, &g.On, &g.Off, &at)
		if err == nil {
			g.Time, err = time.Parse(time.RFC3339, at)
		}
		all = append(all, g)
		return err
	})
	return all, err
}

// Spread is on how many machines a program was seen, on how many of them it was kept, and off.
type Spread struct {
	Machines, Kept, Off int
	Last                time.Time
}

// Spreads are where all programs were seen, by their keys, on all machines of the record but one.
func (s *Store) Spreads(without string) (map[string]Spread, error) {
	all := map[string]Spread{}
	if s.claim || s.version < 5 {
		return all, nil
	}
	err := s.each("SELECT program, count(*), sum(enabled > 0), max(time) FROM seen WHERE machine <> ? GROUP BY program",
		[]any{without}, func(scan func(...any) error) error {
			var key, at string
			var p Spread
			err := scan(&key, &p.Machines, &p.Kept, &at)
			if err == nil {
				p.Last, err = time.Parse(time.RFC3339, at)
			}
			p.Off = p.Machines - p.Kept
			all[key] = p
			return err
		})
	return all, err
}

// Catalogue is a catalogue of the technician's own, as its file has it.
type Catalogue struct {
	Name string
	Text []byte
	Time time.Time // when it was imported
}

// Catalogues are the catalogues of the record, the one that comes first in front.
func (s *Store) Catalogues() ([]Catalogue, error) {
	if s.claim || s.version < 5 {
		return nil, nil
	}
	var all []Catalogue
	err := s.each("SELECT name, text, time FROM catalogue ORDER BY position, name", nil,
		func(scan func(...any) error) error {
			var c Catalogue
			var at string
			err := scan(&c.Name, &c.Text, &at)
			if err == nil {
				c.Time, err = time.Parse(time.RFC3339, at)
			}
			all = append(all, c)
			return err
		})
	return all, err
}

// SetCatalogues keeps just these catalogues, in this order.
func (s *Store) SetCatalogues(all []Catalogue) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		tx.exec("DELETE FROM catalogue")
		for k, c := range all {
			tx.exec("INSERT INTO catalogue (name, position, text, time) VALUES (?, ?, ?, ?)", c.Name, k, c.Text,
				c.Time.UTC().Format(time.RFC3339))
		}
		return tx.err
	})
}

// Review is a review of a machine that was begun: what was decided so far, and where it stands.
type Review struct {
	Words     []string // the selector that it was begun with
	All       bool     // with parts of the operating system
	At        string   // the handle of the entry that is looked at
	Begun     time.Time
	Decisions map[string]string // by handle
}

// Review is the review of a machine that was begun; ok is false if there is none.
func (s *Store) Review(machine string) (r Review, ok bool, err error) {
	if s.claim || s.version < 5 {
		return r, false, nil
	}
	err = s.each("SELECT words, whole, at, begun FROM review WHERE machine = ?", []any{machine},
		func(scan func(...any) error) error {
			var words, begun string
			err := scan(&words, &r.All, &r.At, &begun)
			if err == nil {
				err = json.Unmarshal([]byte(words), &r.Words)
			}
			if err == nil {
				r.Begun, err = time.Parse(time.RFC3339, begun)
			}
			ok = true
			return err
		})
	if err != nil || !ok {
		return r, false, err
	}
	r.Decisions = map[string]string{}
	err = s.each("SELECT handle, decision FROM decision WHERE machine = ?", []any{machine},
		func(scan func(...any) error) error {
			var handle, decision string
			err := scan(&handle, &decision)
			r.Decisions[handle] = decision
			return err
		})
	return r, err == nil, err
}

// BeginReview keeps a new review of a machine, instead of one that was there.
func (s *Store) BeginReview(machine string, r Review) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		words, err := json.Marshal(r.Words)
		if err != nil {
			return err
		}
		tx.exec("DELETE FROM decision WHERE machine = ?", machine)
		tx.exec("DELETE FROM review WHERE machine = ?", machine)
		tx.exec("INSERT INTO review (machine, words, whole, at, begun) VALUES (?, ?, ?, ?, ?)", machine, string(words),
			r.All, r.At, r.Begun.UTC().Format(time.RFC3339))
		return tx.err
	})
}

// Decide keeps decisions of a machine's review, and which entry is looked at; an empty decision takes one back.
func (s *Store) Decide(machine, at string, decisions map[string]string) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		tx.exec("UPDATE review SET at = ? WHERE machine = ?", at, machine)
		for handle, d := range decisions {
			tx.exec("DELETE FROM decision WHERE machine = ? AND handle = ?", machine, handle)
			if d != "" {
				tx.exec("INSERT INTO decision (machine, handle, decision) VALUES (?, ?, ?)", machine, handle, d)
			}
		}
		return tx.err
	})
}

// Search is a search for a culprit on a machine that was begun, as core/culprit writes it; empty if there is
// none.
func (s *Store) Search(machine string) (state string, err error) {
	if s.version < 6 {
		return "", nil
	}
	err = s.each("SELECT state FROM search WHERE machine = ?", []any{machine},
		func(scan func(...any) error) error { return scan(&state) })
	return state, err
}

// KeepSearch keeps how far a search is; an empty state ends it.
func (s *Store) KeepSearch(machine, state string) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		tx.exec("DELETE FROM search WHERE machine = ?", machine)
		if state != "" {
			tx.exec("INSERT INTO search (machine, state) VALUES (?, ?)", machine, state)
		}
		return tx.err
	})
}

// EndReview takes the review of a machine away.
func (s *Store) EndReview(machine string) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		tx.exec("DELETE FROM decision WHERE machine = ?", machine)
		tx.exec("DELETE FROM review WHERE machine = ?", machine)
		return tx.err
	})
}
