package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// Blob returns a content by its digest, and checks that it is the one. No more memory is
// taken than the content needs.
func (s *Store) Blob(d snapshot.Digest) ([]byte, error) {
	damaged := func(what string) error {
		return fmt.Errorf("%s: %w: the content %x %s", s.Path, change.ErrDamaged, d[:4], what)
	}
	var size, packed int64
	err := s.conn.QueryRowContext(context.Background(), "SELECT size, length(data) FROM blob WHERE digest = ?",
		d[:]).Scan(&size, &packed)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, damaged("is missing")
	case err != nil:
		return nil, explain(s.Path, err)
	case size < 0 || size > maxContent || packed > size+size/64+1024:
		return nil, damaged("has an impossible size")
	}
	var data []byte
	if err := s.conn.QueryRowContext(context.Background(), "SELECT data FROM blob WHERE digest = ?",
		d[:]).Scan(&data); err != nil {
		return nil, explain(s.Path, err)
	}
	content, err := unpack(data, size)
	if err != nil || int64(len(content)) != size || sha256.Sum256(content) != [sha256.Size]byte(d) {
		return nil, damaged("does not have its checksum")
	}
	return content, nil
}

// Has reports whether the record holds a content.
func (s *Store) Has(d snapshot.Digest) bool {
	_, ok, err := s.contentSize(d)
	return ok && err == nil
}

// contentSize is the size of a content in bytes; ok is false if the record has none of
// that digest. A machine can have hundreds of thousands, so the query is prepared once.
func (s *Store) contentSize(d snapshot.Digest) (size int, ok bool, err error) {
	if s.size == nil {
		if s.size, err = s.conn.PrepareContext(context.Background(),
			"SELECT size FROM blob WHERE digest = ?"); err != nil {
			return 0, false, err
		}
	}
	err = s.size.QueryRowContext(context.Background(), d[:]).Scan(&size)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return size, err == nil, err
}

// Holds reads a change again after it was committed, step by step, and fails where the
// record does not hold all of it.
func (s *Store) Holds(c change.Change) error {
	lacks := func(what string) error {
		return fmt.Errorf("%s: %w: %s was written to it, and is not read back: %s", s.Path, change.ErrDamaged, c.Name(),
			what)
	}
	all, err := s.changes("WHERE id = ?", c.ID)
	if err != nil {
		return err
	}
	if len(all) != 1 || all[0].State != c.State || all[0].Token != c.Token || all[0].Machine != c.Machine {
		return lacks("the change")
	}
	if c.Snapshot > 0 {
		var owner string
		if err := s.conn.QueryRowContext(context.Background(), "SELECT machine FROM snapshot WHERE id = ?",
			c.Snapshot).Scan(&owner); err != nil || owner != c.Machine {
			return lacks("the snapshot before it")
		}
	}
	// Contents are asked for by their digests only.
	missing := false
	digest := func(d snapshot.Digest, content []byte) {
		size, _, err := s.contentSize(d)
		missing = missing || err != nil || size != len(content)
	}
	k := 0
	err = s.each("SELECT handles, kind, artifact, before, after FROM step WHERE change = ? ORDER BY seq", []any{c.ID},
		func(scan func(...any) error) error {
			var handles, kind, before, after string
			var name []byte
			if err := scan(&handles, &kind, &name, &before, &after); err != nil {
				return err
			}
			if k >= len(c.Steps) {
				return lacks("there are other steps")
			}
			step := c.Steps[k]
			want, err := json.Marshal(step.Handles)
			if err != nil || string(want) != handles || string(step.Artifact.Kind) != kind ||
				step.Artifact.Name != string(name) ||
				snapshot.EncodeImage(step.Before, digest) != before || snapshot.EncodeImage(step.After,
				digest) != after || missing {
				return lacks(fmt.Sprintf("step %d", k+1))
			}
			k++
			return nil
		})
	if err == nil && k != len(c.Steps) {
		err = lacks(fmt.Sprintf("%d of %d steps", len(c.Steps)-k, len(c.Steps)))
	}
	var folders, outcomes int
	if err == nil {
		err = s.conn.QueryRowContext(context.Background(), "SELECT count(*) FROM outcome WHERE change = ?",
			c.ID).Scan(&outcomes)
	}
	if err == nil && outcomes != len(c.Outcomes) {
		err = lacks("how it leaves the entries")
	}
	if err == nil {
		err = s.conn.QueryRowContext(context.Background(), "SELECT count(*) FROM folder WHERE change = ?",
			c.ID).Scan(&folders)
	}
	if err == nil && folders != len(c.Folders) {
		err = lacks("the folders")
	}
	return err
}

// Machines lists the machines of the record by name.
func (s *Store) Machines() ([]change.KnownMachine, error) {
	var all []change.KnownMachine
	err := s.each("SELECT id, name, os, version FROM machine ORDER BY name, id", nil,
		func(scan func(...any) error) error {
			var m change.KnownMachine
			err := scan(&m.ID, &m.Name, &m.OS, &m.Version)
			all = append(all, m)
			return err
		})
	return all, err
}

// Snapshot loads the snapshot with that number.
func (s *Store) Snapshot(id int) (*snapshot.Snapshot, error) {
	var found *snapshot.Snapshot
	err := s.snapshots("WHERE id = ?", []any{id}, func(snap *snapshot.Snapshot, digest snapshot.Digest) error {
		text, err := s.Blob(digest)
		if err != nil {
			return err
		}
		var m manifest
		if err := json.Unmarshal(text, &m); err != nil {
			return fmt.Errorf("%s: %w: S%d: %w", s.Path, change.ErrDamaged, id, err)
		}
		snap.Unread, snap.Figures = m.Unread, m.Figures
		for _, section := range m.Sections {
			snap.Sections = append(snap.Sections, snapshot.Section{Key: section.Key, Digest: section.Digest})
		}
		found = snap
		return nil
	})
	if err == nil && found == nil {
		return nil, fmt.Errorf("snapshot S%d: %w", id, change.ErrNotFound)
	}
	return found, err
}

// Snapshots lists the snapshots of a machine, oldest first, without their
// sections.
func (s *Store) Snapshots(machine string) ([]*snapshot.Snapshot, error) {
	var all []*snapshot.Snapshot
	err := s.snapshots("WHERE machine = ? ORDER BY id", []any{machine}, func(snap *snapshot.Snapshot,
		_ snapshot.Digest) error {
		all = append(all, snap)
		return nil
	})
	return all, err
}

func (s *Store) snapshots(where string, args []any, visit func(*snapshot.Snapshot, snapshot.Digest) error) error {
	type row struct {
		snap   *snapshot.Snapshot
		digest snapshot.Digest
	}
	var rows []row
	err := s.each("SELECT id, machine, time, message, enabled, disabled, manifest, "+s.since(2, "system", "''")+", "+
		s.since(7, "boot", "''")+" FROM snapshot "+where, args, func(scan func(...any) error) error {
		snap := &snapshot.Snapshot{Load: s.Blob}
		var at string
		var digest []byte
		if err := scan(&snap.ID, &snap.Machine, &at, &snap.Message, &snap.Enabled, &snap.Disabled, &digest,
			&snap.System, &snap.Boot); err != nil {
			return err
		}
		if len(digest) != sha256.Size {
			return change.ErrDamaged
		}
		var err error
		snap.Time, err = time.Parse(time.RFC3339, at)
		rows = append(rows, row{snap, snapshot.Digest(digest)})
		return err
	})
	for _, r := range rows {
		if err == nil {
			err = visit(r.snap, r.digest)
		}
	}
	return err
}

// Change loads the change with that number, its journal included.
func (s *Store) Change(id int) (change.Change, error) {
	all, err := s.changes("WHERE id = ?", id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("change C%d: %w", id, change.ErrNotFound)
	}
	if err != nil {
		return change.Change{}, err
	}
	c := all[0]
	type texts struct{ handles, kind, before, after string }
	var names [][]byte
	var rows []texts
	err = s.each("SELECT handles, kind, artifact, before, after FROM step WHERE change = ? ORDER BY seq", []any{id},
		func(scan func(...any) error) error {
			var t texts
			var name []byte
			err := scan(&t.handles, &t.kind, &name, &t.before, &t.after)
			rows, names = append(rows, t), append(names, name)
			return err
		})
	for k, t := range rows {
		step := change.Step{Artifact: artifact.Artifact{Kind: artifact.ArtifactKind(t.kind), Name: string(names[k])}}
		if err == nil {
			step.Handles, err = decodeHandles(t.handles)
		}
		if err == nil {
			step.Before, err = snapshot.DecodeImage(t.before, s.Blob)
		}
		if err == nil {
			step.After, err = snapshot.DecodeImage(t.after, s.Blob)
		}
		c.Steps = append(c.Steps, step)
	}
	if err != nil {
		return c, err
	}
	if s.version >= 6 {
		if err := s.each("SELECT state, handles FROM outcome WHERE change = ? ORDER BY state DESC", []any{id},
			func(scan func(...any) error) error {
				var o change.Outcome
				var handles string
				err := scan(&o.State, &handles)
				if err == nil {
					o.Handles, err = decodeHandles(handles)
				}
				c.Outcomes = append(c.Outcomes, o)
				return err
			}); err != nil {
			return c, err
		}
	}
	err = s.each("SELECT artifact, before, after FROM folder WHERE change = ? ORDER BY artifact", []any{id},
		func(scan func(...any) error) error {
			var name []byte
			var before, after string
			err := scan(&name, &before, &after)
			var f change.Folder
			if err == nil {
				f.Artifact, err = containerOf(string(name))
			}
			if err == nil {
				f.Before, err = snapshot.DecodeImage(before, s.Blob)
			}
			if err == nil {
				f.After, err = snapshot.DecodeImage(after, s.Blob)
			}
			c.Folders = append(c.Folders, f)
			return err
		})
	return c, err
}

// Touched visits the steps of a change without their images.
func (s *Store) Touched(id int, visit func(seq int, handles []string, a artifact.Artifact)) error {
	return s.each("SELECT seq, handles, kind, artifact FROM step WHERE change = ? ORDER BY seq", []any{id},
		func(scan func(...any) error) error {
			var seq int
			var text, kind string
			var name []byte
			if err := scan(&seq, &text, &kind, &name); err != nil {
				return err
			}
			handles, err := decodeHandles(text)
			if err == nil {
				visit(seq, handles, artifact.Artifact{Kind: artifact.ArtifactKind(kind), Name: string(name)})
			}
			return err
		})
}

// Step loads one step of a change, or fails with [change.ErrNotFound].
func (s *Store) Step(id, seq int) (change.Step, error) {
	var step change.Step
	var handles, kind, before, after string
	var name []byte
	row := s.conn.QueryRowContext(context.Background(),
		"SELECT handles, kind, artifact, before, after FROM step WHERE change = ? AND seq = ?", id, seq)
	if err := row.Scan(&handles, &kind, &name, &before, &after); errors.Is(err, sql.ErrNoRows) {
		return step, fmt.Errorf("step %d of C%d: %w", seq, id, change.ErrNotFound)
	} else if err != nil {
		return step, explain(s.Path, err)
	}
	step.Artifact = artifact.Artifact{Kind: artifact.ArtifactKind(kind), Name: string(name)}
	var err error
	if step.Handles, err = decodeHandles(handles); err == nil {
		step.Before, err = snapshot.DecodeImage(before, s.Blob)
	}
	if err == nil {
		step.After, err = snapshot.DecodeImage(after, s.Blob)
	}
	return step, err
}

// Removals visits what the changes of a machine that stand took away, whether they
// switched it off or restored an earlier state, the newest
// first: of a machine with a history there are many, and most are back.
func (s *Store) Removals(id string, visit func(change.Removal) error) error {
	before, after := s.since(3, "step.before_kind", kindOf("step.before")), s.since(3, "step.after_kind",
		kindOf("step.after"))
	return s.each(`SELECT change.id, change.kind, change.snapshot, step.handles, step.kind, step.artifact, `+after+` = ? FROM change JOIN step ON step.change = change.id
		WHERE change.machine = ? AND change.kind <> ? AND change.state = ? AND `+before+` <> ? AND `+after+` IN (?, ?, ?)
		ORDER BY change.id DESC, step.seq`, []any{artifact.Absent, id, change.Enable, change.Done, artifact.Absent, artifact.Absent, artifact.Value, artifact.Regular}, func(scan func(...any) error) error {
		var (
			r       change.Removal
			handles string
			kind    artifact.ArtifactKind
			name    []byte
		)
		if err := scan(&r.Change, &r.Kind, &r.Snapshot, &handles, &kind, &name, &r.Whole); err != nil {
			return err
		}
		r.Artifact = artifact.Artifact{Kind: kind, Name: string(name)}
		var err error
		if r.Handles, err = decodeHandles(handles); err != nil {
			return err
		}
		return visit(r)
	})
}

// decodeHandles reads a list of handles; room for all is made at once, because one table can have a
// hundred thousand.
func decodeHandles(text string) ([]string, error) {
	handles := make([]string, 0, 1+strings.Count(text, `","`))
	err := json.Unmarshal([]byte(text), &handles)
	return handles, err
}

// kindOf is the kind of an image in records of before version 3, which do not have it apart.
func kindOf(column string) string {
	return "CASE WHEN json_valid(" + column + ") THEN coalesce(json_extract(" + column + ", '$.kind'), '') ELSE '' END"
}

// Latest finds the image that the last change of a machine which stands brought an artifact
// to; ok is false where none did.
func (s *Store) Latest(id string) (find func(artifact.Artifact) (i artifact.Image, ok bool, err error), err error) {
	type place struct{ change, seq int32 }
	last := map[artifact.Artifact]place{}
	err = s.each(`SELECT step.kind, step.artifact, change.id, step.seq FROM change JOIN step ON step.change = change.id
		WHERE change.machine = ? AND change.state = ? ORDER BY change.id, step.seq`, []any{id, change.Done}, func(scan func(...any) error) error {
		var kind string
		var name []byte
		var at place
		err := scan(&kind, &name, &at.change, &at.seq)
		last[artifact.Artifact{Kind: artifact.ArtifactKind(kind), Name: string(name)}] = at
		return err
	})
	return func(a artifact.Artifact) (i artifact.Image, ok bool, err error) {
		at, ok := last[a]
		if !ok {
			return i, false, nil
		}
		var after string
		row := s.conn.QueryRowContext(context.Background(), "SELECT after FROM step WHERE change = ? AND seq = ?",
			at.change, at.seq)
		if err := row.Scan(&after); err != nil {
			return i, false, explain(s.Path, err)
		}
		i, err = snapshot.DecodeImage(after, s.Blob)
		return i, true, err
	}, err
}

// StepsOn visits the steps that changes of a machine which stand took on an artifact, oldest
// first.
func (s *Store) StepsOn(id string, a artifact.Artifact, visit func(before, after artifact.Image)) error {
	var texts [][2]string
	err := s.each(`SELECT step.before, step.after FROM change JOIN step ON step.change = change.id
		WHERE change.machine = ? AND change.state = ? AND step.kind = ? AND step.artifact = ? ORDER BY change.id, step.seq`,
		[]any{id, change.Done, a.Kind, []byte(a.Name)}, func(scan func(...any) error) error {
			var t [2]string
			err := scan(&t[0], &t[1])
			texts = append(texts, t)
			return err
		})
	for _, t := range texts {
		var images [2]artifact.Image
		for k := range images {
			if err == nil {
				images[k], err = snapshot.DecodeImage(t[k], s.Blob)
			}
		}
		if err == nil {
			visit(images[0], images[1])
		}
	}
	return err
}

// Decisions tells how the changes of a machine which stand left its entries.
func (s *Store) Decisions(id string) (map[string]change.Decision, error) {
	all := map[string]change.Decision{}
	if s.version < 6 {
		return all, nil
	}
	err := s.each(`SELECT change.id, outcome.state, outcome.handles FROM change JOIN outcome ON outcome.change = change.id
		WHERE change.machine = ? AND change.state = ? ORDER BY change.id`, []any{id, change.Done}, func(scan func(...any) error) error {
		var owner int
		var state autostart.State
		var text string
		if err := scan(&owner, &state, &text); err != nil {
			return err
		}
		handles, err := decodeHandles(text)
		for _, h := range handles {
			d := change.Decision{Change: owner, State: state}
			if d.IsOff() {
				d.Off = append(all[h].Off, owner)
			}
			all[h] = d
		}
		return err
	})
	return all, err
}

// Changes lists the changes of a machine, oldest first, without their journals.
func (s *Store) Changes(machine string) ([]change.Change, error) {
	return s.changes("WHERE machine = ? ORDER BY id", machine)
}

// Interrupted lists the changes of a machine that were begun and neither finished nor
// taken back nor given up, oldest first, without their journals.
func (s *Store) Interrupted(machine string) ([]change.Change, error) {
	return s.changes("WHERE machine = ? AND state = 'interrupted' ORDER BY id", machine)
}

func (s *Store) changes(where string, args ...any) ([]change.Change, error) {
	var all []change.Change
	err := s.each(
		"SELECT id, machine, time, kind, message, coalesce(snapshot, 0), entries, state, coalesce(undoes, 0), "+
			s.since(2, "token, root, host", "'', '', ''")+", "+s.since(6, "trial, kept", "14, ''")+", "+
			s.since(7, "coalesce((SELECT boot FROM snapshot WHERE snapshot.id = change.snapshot), '')", "''")+
			" FROM change "+where, args, func(scan func(...any) error) error {
			var c change.Change
			var at, kept string
			if err := scan(&c.ID, &c.Machine, &at, &c.Kind, &c.Message, &c.Snapshot, &c.Entries, &c.State, &c.Undoes,
				&c.Token, &c.Root, &c.Host, &c.Trial, &kept, &c.Boot); err != nil {
				return err
			}
			var err error
			c.Time, err = time.Parse(time.RFC3339, at)
			if err == nil && kept != "" {
				c.Kept, err = time.Parse(time.RFC3339, kept)
			}
			all = append(all, c)
			return err
		})
	return all, err
}
