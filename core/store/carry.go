package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"

	"lockback/core/change"
	"lockback/core/snapshot"
)

// carried are the tables that hold what belongs to one machine, in the order in which they refer
// to each other, and which rows are the machine's.
var carried = []struct{ table, columns, where string }{
	{"machine", "id, name, os, version", "id = ?"},
	{"snapshot", "id, machine, time, message, enabled, disabled, manifest, system, boot", "machine = ? ORDER BY id"},
	{"change", "id, machine, time, kind, message, snapshot, entries, state, undoes, token, root, host, trial, kept",
		"machine = ? ORDER BY id"},
	{"outcome", "change, state, handles", "change IN (SELECT id FROM change WHERE machine = ?)"},
	{"step", "change, seq, handles, kind, artifact, before, after, before_kind, after_kind",
		"change IN (SELECT id FROM change WHERE machine = ?)"},
	{"folder", "change, artifact, before, after", "change IN (SELECT id FROM change WHERE machine = ?)"},
	{"search", "machine, state", "machine = ?"},
	{"mark", "machine, kind, value", "machine = ?"},
}

// ErrNotEmpty says that a record to carry into holds something already.
var ErrNotEmpty = errors.New("the record holds something already")

// Carry copies all that the record has of one machine, and nothing else, into an empty record:
// numbers stay what they are. It fails with [ErrNotEmpty], and with [change.ErrDamaged] where a
// content is not what it should be. Both records must have been opened for writing.
func (s *Store) Carry(to *Store, machine string) error {
	if have, err := to.Machines(); err != nil {
		return err
	} else if len(have) > 0 {
		return fmt.Errorf("%s: %w", to.Path, ErrNotEmpty)
	}
	return to.Update(func(t change.Tx) error {
		tx := t.(*Tx)
		contents, err := s.contentsOf(machine)
		if err != nil {
			return err
		}
		for _, d := range contents {
			content, err := s.Blob(d)
			if err != nil {
				return err
			}
			tx.addBlob(d, content)
		}
		for _, c := range carried {
			if err := s.copyRows(tx, c.table, c.columns, c.where, machine); err != nil {
				return err
			}
		}
		return tx.err
	})
}

// copyRows copies rows of a table as they are.
func (s *Store) copyRows(tx *Tx, table, columns, where, machine string) error {
	n := strings.Count(columns, ",") + 1
	insert := "INSERT INTO " + table + " (" + columns + ") VALUES (" + strings.TrimSuffix(strings.Repeat("?, ", n),
		", ") + ")"
	return s.each("SELECT "+columns+" FROM "+table+" WHERE "+where, []any{machine},
		func(scan func(...any) error) error {
			row, at := make([]any, n), make([]any, n)
			for k := range row {
				at[k] = &row[k]
			}
			if err := scan(at...); err != nil {
				return err
			}
			tx.exec(insert, row...)
			return tx.err
		})
}

// digestText finds the digests of contents in the text of images.
var digestText = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[0-9a-f]{64}`) })

// contentsOf lists the contents that the snapshots and changes of a machine name.
func (s *Store) contentsOf(machine string) ([]snapshot.Digest, error) {
	var all []snapshot.Digest
	known := map[snapshot.Digest]bool{}
	add := func(d snapshot.Digest) bool {
		if known[d] || !s.Has(d) {
			return false
		}
		known[d] = true
		all = append(all, d)
		return true
	}
	named := func(text string) {
		for _, word := range digestText().FindAllString(text, -1) {
			var d snapshot.Digest
			if n, err := hex.Decode(d[:], []byte(word)); n == len(d) && err == nil {
				add(d)
			}
		}
	}
	var manifests []snapshot.Digest
	if err := s.snapshots("WHERE machine = ?", []any{machine}, func(_ *snapshot.Snapshot, d snapshot.Digest) error {
		manifests = append(manifests, d)
		return nil
	}); err != nil {
		return nil, err
	}
	for _, d := range manifests {
		if !add(d) {
			continue // two snapshots of the same state
		}
		text, err := s.Blob(d)
		if err != nil {
			return nil, err
		}
		var m manifest
		if err := json.Unmarshal(text, &m); err != nil {
			return nil, fmt.Errorf("%s: %w: %w", s.Path, change.ErrDamaged, err)
		}
		for _, section := range m.Sections {
			if !add(section.Digest) {
				continue
			}
			text, err := s.Blob(section.Digest)
			if err != nil {
				return nil, err
			}
			named(string(text))
		}
	}
	for _, table := range []string{"step", "folder"} {
		if err := s.each("SELECT before, after FROM "+table+
			" WHERE change IN (SELECT id FROM change WHERE machine = ?)", []any{machine},
			func(scan func(...any) error) error {
				var before, after string
				err := scan(&before, &after)
				named(before)
				named(after)
				return err
			}); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Verify reads every content of the record and checks it against its digest, and lets SQLite check
// its own structure. It returns how many contents there are, and fails with [change.ErrDamaged].
func (s *Store) Verify() (contents int, err error) {
	var said string
	row := s.conn.QueryRowContext(context.Background(), "PRAGMA integrity_check(1)")
	if err := row.Scan(&said); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, explain(s.Path, err)
	}
	if said != "ok" {
		return 0, fmt.Errorf("%s: %w: %s", s.Path, change.ErrDamaged, said)
	}
	var all []snapshot.Digest
	if err := s.each("SELECT digest FROM blob ORDER BY id", nil, func(scan func(...any) error) error {
		var d []byte
		if err := scan(&d); err != nil {
			return err
		}
		if len(d) != len(snapshot.Digest{}) {
			return fmt.Errorf("%s: %w: a content has no digest", s.Path, change.ErrDamaged)
		}
		all = append(all, snapshot.Digest(d))
		return nil
	}); err != nil {
		return 0, err
	}
	for _, d := range all {
		if _, err := s.Blob(d); err != nil {
			return 0, err
		}
	}
	return len(all), nil
}
