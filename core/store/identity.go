package store

import (
	"lockback/core/change"
	"lockback/core/machine"
)

// Identity is a machine that the record knows, with all marks it was ever seen with.
type Identity struct {
	ID, Name string
	Marks    []machine.Mark
}

// Identities are the machines of the record whose systems have an id, in the order in which they came: the first has
// the id itself, others were made from the same image.
func (s *Store) Identities(systemID string) ([]Identity, error) {
	var all []Identity
	at := map[string]int{}
	err := s.each("SELECT id, name FROM machine WHERE id = ?1 OR substr(id, 1, length(?1) + 1) = ?1 || '~' "+
		"ORDER BY length(id), id", []any{systemID}, func(scan func(...any) error) error {
		var i Identity
		err := scan(&i.ID, &i.Name)
		at[i.ID] = len(all)
		all = append(all, i)
		return err
	})
	if err != nil || s.version < 8 {
		return all, err
	}
	err = s.each("SELECT machine, kind, value FROM mark WHERE machine = ?1 OR substr(machine, 1, length(?1) + 1) = "+
		"?1 || '~' ORDER BY machine, kind, value", []any{systemID}, func(scan func(...any) error) error {
		var id string
		var mark machine.Mark
		err := scan(&id, &mark.Kind, &mark.Value)
		if k, known := at[id]; known {
			all[k].Marks = append(all[k].Marks, mark)
		}
		return err
	})
	return all, err
}

// Recognise keeps that a machine has these marks, with a transaction of its own.
func (s *Store) Recognise(m *machine.Machine, marks []machine.Mark) error {
	return s.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		if err := tx.AddMachine(m); err != nil {
			return err
		}
		for _, mark := range marks {
			tx.exec("INSERT OR IGNORE INTO mark VALUES (?, ?, ?)", m.ID, mark.Kind, mark.Value)
		}
		return tx.err
	})
}
