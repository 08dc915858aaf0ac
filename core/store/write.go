package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/figures"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// Tx is a transaction: all of it is recorded, or nothing.
type Tx struct {
	store *Store
	err   error
}

// Update runs do in a transaction and flushes it to disk.
func (s *Store) Update(do func(change.Tx) error) error {
	if !s.held {
		if err := s.Hold(); err != nil {
			return err
		}
		defer s.Release()
	}
	tx := &Tx{store: s}
	tx.exec("BEGIN IMMEDIATE")
	if tx.err == nil {
		if err := do(tx); err != nil && tx.err == nil {
			tx.err = err
		}
	}
	if tx.err == nil {
		for _, p := range s.found {
			tx.exec("INSERT INTO program VALUES (?, ?, ?, ?) ON CONFLICT (machine, name) DO UPDATE SET key = "+
				"excluded.key, evidence = excluded.evidence", p.machine, p.Name, p.Key, p.Evidence)
		}
		if s.seen != nil {
			tx.writeSeen(s.seen)
		}
		tx.exec("COMMIT")
	}
	if tx.err == nil {
		s.found, s.seen = nil, nil
	}
	if tx.err != nil {
		s.conn.ExecContext(context.Background(), "ROLLBACK")
	}
	return explain(s.Path, tx.err)
}

func (tx *Tx) exec(query string, args ...any) int {
	if tx.err != nil {
		return 0
	}
	result, err := tx.store.conn.ExecContext(context.Background(), query, args...)
	if err != nil {
		tx.err = err
		return 0
	}
	id, _ := result.LastInsertId()
	return int(id)
}

// AddMachine records what a machine calls itself now.
func (tx *Tx) AddMachine(m *machine.Machine) error {
	tx.exec("INSERT INTO machine VALUES (?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET name = excluded.name, os = "+
		"excluded.os, version = excluded.version",
		m.ID, m.Name, m.OS, m.Version)
	return tx.err
}

// Keeper keeps the contents and sections of a capture, each once.
func (tx *Tx) Keeper() snapshot.Keeper {
	return snapshot.Keeper{Sections: true, Keep: func(d snapshot.Digest, content []byte) error {
		tx.addBlob(d, content)
		return tx.err
	}}
}

// addBlob keeps content once.
func (tx *Tx) addBlob(d snapshot.Digest, content []byte) {
	if tx.err != nil {
		return
	}
	if _, have, err := tx.store.contentSize(d); err != nil {
		tx.err = err
	} else if !have {
		tx.exec("INSERT INTO blob (digest, size, data) VALUES (?, ?, ?)", d[:], len(content),
			encoder().EncodeAll(content, nil))
	}
}

// manifest is what a snapshot consists of.
type manifest struct {
	Sections []manifestSection  `json:"sections"`
	Unread   []autostart.Unread `json:"unread"`
	Figures  []figures.Figure   `json:"figures,omitempty"`
}

type manifestSection struct {
	Key    string          `json:"key"`
	Digest snapshot.Digest `json:"digest"`
}

// AddSnapshot records a capture that was made with [Tx.Keeper], and gives it its number.
func (tx *Tx) AddSnapshot(s *snapshot.Snapshot) error {
	m := manifest{Unread: s.Unread, Figures: s.Figures}
	for _, section := range s.Sections {
		m.Sections = append(m.Sections, manifestSection{section.Key, section.Digest})
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	d := snapshot.Digest(sha256.Sum256(text))
	tx.addBlob(d, text)
	s.ID = tx.exec("INSERT INTO snapshot (machine, time, message, enabled, disabled, manifest, system, boot) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		s.Machine, s.Time.Format(time.RFC3339), s.Message, s.Enabled, s.Disabled, d[:], s.System, s.Boot)
	return tx.err
}

// AddChange records a change with its whole journal, and gives it its number.
func (tx *Tx) AddChange(c *change.Change) error {
	var undoes, base any
	if c.Undoes > 0 {
		undoes = c.Undoes
	}
	if c.Snapshot > 0 {
		base = c.Snapshot
	}
	c.ID = tx.exec("INSERT INTO change (machine, time, kind, message, snapshot, entries, state, undoes, token, "+
		"root, host, trial) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		c.Machine, c.Time.Format(time.RFC3339), c.Kind, c.Message, base, c.Entries, c.State, undoes, c.Token, c.Root,
		c.Host, c.Trial)
	for _, o := range c.Outcomes {
		handles, err := json.Marshal(o.Handles)
		if err != nil {
			return err
		}
		tx.exec("INSERT INTO outcome VALUES (?, ?, ?)", c.ID, o.State, string(handles))
	}
	keep := func(d snapshot.Digest, content []byte) { tx.addBlob(d, content) }
	for k, s := range c.Steps {
		handles, err := json.Marshal(s.Handles)
		if err != nil {
			return err
		}
		before, after := snapshot.EncodeImage(s.Before, keep), snapshot.EncodeImage(s.After, keep)
		tx.exec("INSERT INTO step VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", c.ID, k, string(handles), s.Artifact.Kind,
			[]byte(s.Artifact.Name), before, after, s.Before.Kind, s.After.Kind)
	}
	for _, f := range c.Folders {
		tx.exec("INSERT INTO folder VALUES (?, ?, ?, ?)", c.ID, containerName(f.Artifact),
			snapshot.EncodeImage(f.Before, keep), snapshot.EncodeImage(f.After, keep))
	}
	return tx.err
}

// containerName is how a container stands in the journal: a folder by its path, a
// registry key by its id.
func containerName(a artifact.Artifact) []byte {
	if a.Kind == artifact.FileArtifact {
		return []byte(a.Name)
	}
	return []byte(a.ID())
}

func containerOf(name string) (artifact.Artifact, error) {
	if strings.HasPrefix(name, string(artifact.KeyArtifact)+":") {
		return artifact.ParseID(name)
	}
	return artifact.File(name), nil
}

// SetState records how far a change got.
func (tx *Tx) SetState(id int, state change.State) error {
	tx.exec("UPDATE change SET state = ? WHERE id = ?", state, id)
	return tx.err
}

// Keep records when the trial of a change was ended.
func (tx *Tx) Keep(id int, at time.Time) error {
	tx.exec("UPDATE change SET kept = ? WHERE id = ?", at.UTC().Format(time.RFC3339), id)
	return tx.err
}
