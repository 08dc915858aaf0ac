// Package store is the record: one SQLite file that holds machines, snapshots,
// the contents that their images share, and changes with their journal. It is a
// [change.Record].
//
// Contents are kept once, by their SHA-256, and compressed. Every commit is
// flushed to disk before it returns. One process writes at a time; a second one
// is told so with [change.ErrInUse]. No shared memory and no second file outlives a
// commit, so the record may live on a removable disk.
package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/figures"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/program"
	"lockback/core/snapshot"
)

// Access says what a record is opened for.
type Access int

// Read needs an existing record and changes nothing in it; Write makes the
// record where there is none and keeps all others from writing until it is
// closed.
const (
	Read Access = iota
	Write
)

// Errors of the file; all others are those of [change.Record].
var (
	ErrNone    = errors.New("there is no record yet")
	ErrForeign = errors.New("the file is not a record of lockback")
	ErrNotOurs = errors.New("somebody else could have written to the record")
)

// applicationID marks the file as ours, PRAGMA application_id: "LkBk".
const applicationID = 0x4c6b426b

// migrations bring a record forward, one version each. Version n is reached by
// the first n; none is ever edited.
var migrations = []string{`
CREATE TABLE machine (id TEXT PRIMARY KEY, name TEXT NOT NULL, os TEXT NOT NULL, version TEXT NOT NULL);
CREATE TABLE blob (digest BLOB PRIMARY KEY, size INTEGER NOT NULL, data BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE snapshot (id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL REFERENCES machine, time TEXT NOT NULL,
	message TEXT NOT NULL, enabled INTEGER NOT NULL, disabled INTEGER NOT NULL, manifest BLOB NOT NULL REFERENCES blob);
CREATE TABLE change (id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL REFERENCES machine, time TEXT NOT NULL,
	kind TEXT NOT NULL, message TEXT NOT NULL, snapshot INTEGER REFERENCES snapshot, entries INTEGER NOT NULL, state TEXT NOT NULL,
	undoes INTEGER REFERENCES change);
CREATE TABLE step (change INTEGER NOT NULL REFERENCES change, seq INTEGER NOT NULL, handles TEXT NOT NULL,
	kind TEXT NOT NULL, artifact BLOB NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL, PRIMARY KEY (change, seq)) WITHOUT ROWID;
CREATE TABLE folder (change INTEGER NOT NULL REFERENCES change, artifact BLOB NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL,
	PRIMARY KEY (change, artifact)) WITHOUT ROWID;
`, `
ALTER TABLE snapshot ADD COLUMN system TEXT NOT NULL DEFAULT '';
ALTER TABLE change ADD COLUMN token TEXT NOT NULL DEFAULT '';
ALTER TABLE change ADD COLUMN root TEXT NOT NULL DEFAULT '';
ALTER TABLE change ADD COLUMN host TEXT NOT NULL DEFAULT '';
`, `
-- Contents by a number of their own: in a table without one, looking a digest up reads every
-- content on the way to it, and some are megabytes long.
CREATE TABLE blob3 (id INTEGER PRIMARY KEY, digest BLOB NOT NULL UNIQUE, size INTEGER NOT NULL, data BLOB NOT NULL);
INSERT INTO blob3 (digest, size, data) SELECT digest, size, data FROM blob;
CREATE TABLE snapshot3 (id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL REFERENCES machine, time TEXT NOT NULL,
	message TEXT NOT NULL, enabled INTEGER NOT NULL, disabled INTEGER NOT NULL, manifest BLOB NOT NULL REFERENCES blob (digest),
	system TEXT NOT NULL);
INSERT INTO snapshot3 SELECT id, machine, time, message, enabled, disabled, manifest, system FROM snapshot;
DROP TABLE snapshot;
DROP TABLE blob;
ALTER TABLE blob3 RENAME TO blob;
ALTER TABLE snapshot3 RENAME TO snapshot;
-- The kinds of a step's images, so that no query looks into their text.
ALTER TABLE step ADD COLUMN before_kind TEXT NOT NULL DEFAULT '';
ALTER TABLE step ADD COLUMN after_kind TEXT NOT NULL DEFAULT '';
UPDATE step SET before_kind = CASE WHEN json_valid(before) THEN coalesce(json_extract(before, '$.kind'), '') ELSE '' END,
	after_kind = CASE WHEN json_valid(after) THEN coalesce(json_extract(after, '$.kind'), '') ELSE '' END;
`, `
-- What was found of programs: it can be found again, so nothing refers to it.
CREATE TABLE program (machine TEXT NOT NULL, name TEXT NOT NULL, key TEXT NOT NULL, evidence BLOB NOT NULL, PRIMARY KEY (machine, name)) WITHOUT ROWID;
`, `
-- What technicians know: notes, catalogues of their own, on which machines programs were seen, and reviews that were begun.
CREATE TABLE note (id INTEGER PRIMARY KEY AUTOINCREMENT, of TEXT NOT NULL UNIQUE, program TEXT NOT NULL, machine TEXT NOT NULL, handle TEXT NOT NULL,
	name TEXT NOT NULL, verdict TEXT NOT NULL, role TEXT NOT NULL, text TEXT NOT NULL, author TEXT NOT NULL, time TEXT NOT NULL, private INTEGER NOT NULL);
CREATE TABLE catalogue (name TEXT PRIMARY KEY, position INTEGER NOT NULL, text BLOB NOT NULL, time TEXT NOT NULL);
CREATE TABLE seen (program TEXT NOT NULL, machine TEXT NOT NULL, enabled INTEGER NOT NULL, disabled INTEGER NOT NULL, time TEXT NOT NULL,
	PRIMARY KEY (program, machine)) WITHOUT ROWID;
CREATE INDEX seen_on ON seen (machine);
CREATE TABLE review (machine TEXT PRIMARY KEY, words TEXT NOT NULL, whole INTEGER NOT NULL, at TEXT NOT NULL, begun TEXT NOT NULL);
CREATE TABLE decision (machine TEXT NOT NULL, handle TEXT NOT NULL, decision TEXT NOT NULL, PRIMARY KEY (machine, handle)) WITHOUT ROWID;
`, `
-- How long changes are tried, when that was ended, and how they left their entries; and searches for a culprit that were begun.
ALTER TABLE change ADD COLUMN trial INTEGER NOT NULL DEFAULT 14;
ALTER TABLE change ADD COLUMN kept TEXT NOT NULL DEFAULT '';
CREATE TABLE outcome (change INTEGER NOT NULL REFERENCES change, state TEXT NOT NULL, handles TEXT NOT NULL, PRIMARY KEY (change, state)) WITHOUT ROWID;
CREATE TABLE search (machine TEXT PRIMARY KEY, state TEXT NOT NULL) WITHOUT ROWID;
`, `
-- In which start of the system a snapshot was taken.
ALTER TABLE snapshot ADD COLUMN boot TEXT NOT NULL DEFAULT '';
`}

// schemas are the digests of the schema of each version, as schemaDigest makes them. A
// record with anything else in it, a trigger or a view for example, is no record:
// it could let a write succeed and keep nothing.
var schemas = []string{"", "923f6c958e9cce62b6c9d312f33279a8", "db7c742182f575d4b6f3ddf6d56e63fb",
	"9576e690ceca9e755820529b8dd204a1", "e97a9c8c833970b38bf83eb5e2769eae", "43da981e4b95d0c2721a09c5c8737a39",
	"d5a4a8837f734a2eb892acd569a18a93", "826dd2598cf24cf1ecb1b3c8bd6d7141"}

// Store is an opened record.
type Store struct {
	Path    string
	db      *sql.DB
	conn    *sql.Conn
	size    *sql.Stmt // of a content by its digest, see contentSize
	version int       // of its schema
	claim   bool      // what it says may be anybody's word
	found   []foundProgram
	seen    *machineSeen
}

// foundProgram waits for the next transaction.
type foundProgram struct {
	machine string
	program.Row
}

// Open opens the record at path. The errors of this package tell what is wrong;
// nothing of a file that is not a healthy record is ever touched. A record is believed
// only where it is ours: the file, its journal and the folders that it lies in belong to
// this process's user or to root, and nobody else may write to them, else
// it fails with [ErrNotOurs].
func Open(path string, access Access) (*Store, error) { return open(path, access, ours) }

// OpenClaim opens the record that lies on a mounted disk. Whoever had that disk may have
// made it: what it says is a claim, to be believed about that disk at most.
func OpenClaim(path string, access Access) (*Store, error) {
	s, err := open(path, access, func(string, fs.FileInfo) error { return nil })
	if s != nil {
		s.claim = true
	}
	return s, err
}

// judge fails where a file or folder of a record cannot be believed.
type judge func(path string, info fs.FileInfo) error

// ours judges files of our own, and the folders above them.
func ours(path string, info fs.FileInfo) error {
	if err := alone(path, info, false); err != nil {
		return err
	}
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		info, err := os.Lstat(dir)
		if err != nil {
			return err
		}
		if err := alone(dir, info, dir != filepath.Dir(path)); err != nil {
			return err
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

func open(path string, access Access, trust judge) (*Store, error) {
	real, err := inRealFolder(path, access == Write)
	switch {
	case errors.Is(err, fs.ErrNotExist) && access == Read:
		return nil, fmt.Errorf("%s: %w", path, ErrNone)
	case err != nil:
		return nil, explain(path, err)
	}
	info, err := os.Lstat(real)
	switch {
	case errors.Is(err, fs.ErrNotExist) && access == Read:
		return nil, fmt.Errorf("%s: %w", path, ErrNone)
	case errors.Is(err, fs.ErrNotExist):
		if info, err = makeFile(real); err != nil {
			return nil, explain(path, err)
		}
	case err != nil:
		return nil, explain(path, err)
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, fmt.Errorf("%s: %w: it is a link; name the file that it leads to", path, ErrForeign)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s: %w: it is not a file", path, ErrForeign)
	}
	if err := trust(real, info); err != nil {
		return nil, explain(path, err)
	}
	if err := besides(real, trust); err != nil {
		return nil, explain(path, err)
	}
	if access == Write {
		// SQLite would fall back to reading without a word.
		f, err := os.OpenFile(real, os.O_RDWR, 0)
		if err != nil {
			return nil, explain(path, err)
		}
		f.Close()
	}
	s := &Store{Path: path}
	err = s.open(real, access, access == Write)
	var se *sqlite.Error
	if access == Read && errors.As(err, &se) && se.Code() == sqlite3.SQLITE_READONLY_ROLLBACK {
		// A commit was cut short: reading it first takes it back.
		s.Close()
		s = &Store{Path: path}
		err = s.open(real, access, true)
	}
	if err != nil {
		s.Close()
		return nil, explain(path, err)
	}
	return s, nil
}

// inRealFolder is the path of a record with no link in the way to its folder, which is
// made where it is missing and may be made.
func inRealFolder(path string, make bool) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	dir := filepath.Dir(abs)
	if make {
		if err := makeFolders(dir); err != nil {
			return "", err
		}
	}
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return "", err
	}
	return filepath.Join(dir, filepath.Base(abs)), nil
}

// makeFile makes an empty record that only its owner can read. What lies in its place,
// a link to nowhere for example, is not touched.
func makeFile(path string) (fs.FileInfo, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	return info, errors.Join(err, f.Close())
}

// besides looks at what SQLite would open beside a record: a journal that is no file would
// let it wait for ever, and one of somebody else's would be played into the record.
func besides(path string, trust judge) error {
	for _, suffix := range []string{"-journal", "-wal", "-shm"} {
		info, err := os.Lstat(path + suffix)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err == nil && !info.Mode().IsRegular():
			err = fmt.Errorf("%w: %s%s is not a file; remove it", ErrForeign, filepath.Base(path), suffix)
		case err == nil:
			err = trust(path+suffix, info)
		}
		if err != nil {
			return err
		}
	}
	// Bytes 18 and 19 of a database say how it is written, "Database File Format" of SQLite,
	// 1.3.3. Ours never has a write-ahead log, which is a second file.
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 20)
	if _, err := io.ReadFull(f, head); err == nil && string(head[:16]) == "SQLite format 3\x00" &&
		(head[18] != 1 || head[19] != 1) {
		return fmt.Errorf("%w: it is written in another way than records are", ErrForeign)
	}
	return nil
}

func (s *Store) open(real string, access Access, writable bool) error {
	// The place is given as a URI so that no character of it means anything
	// to SQLite.
	place := url.URL{Scheme: "file", OmitHost: true, Path: filepath.ToSlash(real)}
	if place.Path[0] != '/' {
		place.Path = "/" + place.Path
	}
	q := url.Values{"mode": {"ro"}}
	if writable {
		q.Set("mode", "rw")
	}
	place.RawQuery = q.Encode()
	db, err := sql.Open("sqlite", place.String())
	if err != nil {
		return err
	}
	s.db = db
	if s.conn, err = db.Conn(context.Background()); err != nil {
		return err
	}
	pragmas := []string{"PRAGMA trusted_schema = OFF", "PRAGMA cell_size_check = ON", "PRAGMA foreign_keys = OFF",
		"PRAGMA temp_store = MEMORY", "PRAGMA cache_size = -4096"}
	if access == Write {
		pragmas = append(pragmas, "PRAGMA locking_mode = EXCLUSIVE", "PRAGMA journal_mode = DELETE",
			"PRAGMA synchronous = EXTRA", "PRAGMA fullfsync = ON")
	}
	for _, p := range pragmas {
		if _, err := s.conn.ExecContext(context.Background(), p); err != nil {
			return err
		}
	}
	if s.version, err = s.check(); err != nil || access == Read {
		return err
	}
	return s.migrate()
}

// check checks that the file is a record with the schema of one, and returns the
// version of that.
func (s *Store) check() (int, error) {
	var app, version, tables int
	row := s.conn.QueryRowContext(context.Background(),
		"SELECT (SELECT application_id FROM pragma_application_id), (SELECT user_version FROM "+
			"pragma_user_version), (SELECT count(*) FROM sqlite_schema)")
	if err := row.Scan(&app, &version, &tables); err != nil {
		return 0, err
	}
	switch {
	case app == 0 && version == 0 && tables == 0:
		return 0, nil
	case app != applicationID:
		return 0, ErrForeign
	case version > len(migrations):
		return 0, fmt.Errorf("%w: it has version %d, this lockback knows %d", change.ErrNewer, version, len(migrations))
	}
	digest, err := schemaDigest(s.conn)
	if err != nil {
		return 0, err
	}
	if version < 1 || digest != schemas[version] {
		return 0, fmt.Errorf("%w: its tables are not those of a record", ErrForeign)
	}
	return version, nil
}

// schemaDigest is the SHA-256 of all that a database's schema holds: tables, indexes,
// views and triggers.
func schemaDigest(conn *sql.Conn) (string, error) {
	rows, err := conn.QueryContext(context.Background(),
		"SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_schema ORDER BY type, name")
	if err != nil {
		return "", err
	}
	defer rows.Close()
	h := sha256.New()
	for rows.Next() {
		var part [4]string
		if err := rows.Scan(&part[0], &part[1], &part[2], &part[3]); err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%q\n", part)
	}
	return hex.EncodeToString(h.Sum(nil)[:16]), rows.Err()
}

func (s *Store) migrate() error {
	ctx := context.Background()
	// Foreign keys are off until here: a table that others refer to is made anew by taking it
	// away first. Taking the lock now, and keeping it, is what makes this the only writer.
	if _, err := s.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		return err
	}
	script := ""
	for k := s.version; k < len(migrations); k++ {
		script += migrations[k] + fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d;", applicationID,
			k+1)
	}
	if script != "" {
		if _, err := s.conn.ExecContext(ctx, script); err != nil {
			s.conn.ExecContext(ctx, "ROLLBACK")
			return err
		}
	}
	if _, err := s.conn.ExecContext(ctx, "COMMIT"); err != nil {
		return err
	}
	s.version = len(migrations)
	_, err := s.conn.ExecContext(ctx, "PRAGMA foreign_keys = ON")
	return err
}

// since is a column that records have from a version on, and what stands for it before.
func (s *Store) since(version int, column, before string) string {
	if s.version < version {
		return before
	}
	return column
}

// Close releases the record.
func (s *Store) Close() error {
	var errs []error
	if s.size != nil {
		errs = append(errs, s.size.Close())
	}
	if s.conn != nil {
		errs = append(errs, s.conn.Close())
	}
	if s.db != nil {
		errs = append(errs, s.db.Close())
	}
	return errors.Join(errs...)
}

// explain turns SQLite's and the file system's errors into ours.
func explain(path string, err error) error {
	if err == nil {
		return nil
	}
	kind := error(nil)
	var se *sqlite.Error
	switch {
	case errors.As(err, &se):
		switch se.Code() & 0xff {
		case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
			kind = change.ErrInUse
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_ERROR:
			kind = change.ErrDamaged
		case sqlite3.SQLITE_FULL:
			kind = change.ErrFull
		case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN:
			kind = change.ErrReadOnly
		}
	case errors.Is(err, fs.ErrPermission):
		kind = change.ErrRights
	case isFull(err):
		kind = change.ErrFull
	case isReadOnly(err):
		kind = change.ErrReadOnly
	}
	if kind == nil || errors.Is(err, kind) || errors.Is(err, ErrNotOurs) {
		return fmt.Errorf("%s: %w", path, err)
	}
	return fmt.Errorf("%s: %w (%v)", path, kind, err)
}

// maxEvidence is how many bytes of evidence on one file are believed.
const maxEvidence = 1 << 16

// Programs are what was found of a machine's programs. Of a record that is a claim there are none:
// whoever made it would say what is to be believed of the disk's programs.
func (s *Store) Programs(machine string) ([]program.Row, error) {
	if s.claim || s.version < 4 {
		return nil, nil
	}
	var all []program.Row
	err := s.each("SELECT name, key, evidence FROM program WHERE machine = ? AND length(evidence) <= ?",
		[]any{machine, maxEvidence}, func(scan func(...any) error) error {
			var r program.Row
			err := scan(&r.Name, &r.Key, &r.Evidence)
			all = append(all, r)
			return err
		})
	return all, err
}

// KeepPrograms keeps what was found of a machine's programs, with the next transaction: it is
// worth none of its own.
func (s *Store) KeepPrograms(machine string, rows []program.Row) {
	for _, r := range rows {
		if len(r.Evidence) <= maxEvidence {
			s.found = append(s.found, foundProgram{machine, r})
		}
	}
}

// Tx is a transaction: all of it is recorded, or nothing.
type Tx struct {
	store *Store
	err   error
}

// Update runs do in a transaction and flushes it to disk.
func (s *Store) Update(do func(change.Tx) error) error {
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
	var undoes, of any
	if c.Undoes > 0 {
		undoes = c.Undoes
	}
	if c.Snapshot > 0 {
		of = c.Snapshot
	}
	c.ID = tx.exec("INSERT INTO change (machine, time, kind, message, snapshot, entries, state, undoes, token, "+
		"root, host, trial) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		c.Machine, c.Time.Format(time.RFC3339), c.Kind, c.Message, of, c.Entries, c.State, undoes, c.Token, c.Root,
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

// contentSize is the size of a content in bytes; ok is false where the record has none of
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
		var of string
		if err := s.conn.QueryRowContext(context.Background(), "SELECT machine FROM snapshot WHERE id = ?",
			c.Snapshot).Scan(&of); err != nil || of != c.Machine {
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
		var of int
		var state autostart.State
		var text string
		if err := scan(&of, &state, &text); err != nil {
			return err
		}
		handles, err := decodeHandles(text)
		for _, h := range handles {
			d := change.Decision{Change: of, State: state}
			if d.IsOff() {
				d.Off = append(all[h].Off, of)
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

// each runs a query and visits its rows.
func (s *Store) each(query string, args []any, visit func(scan func(...any) error) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), queryLimit)
	defer cancel()
	rows, err := s.conn.QueryContext(ctx, query, args...)
	if err != nil {
		return explain(s.Path, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := visit(rows.Scan); err != nil {
			return explain(s.Path, err)
		}
	}
	return explain(s.Path, rows.Err())
}

// Bounds of what a damaged or hostile record can make us do: of one content, in bytes
// (files are recorded up to 16 MB, and sections are divided), and for one query.
const (
	maxContent = 64 << 20
	queryLimit = 2 * time.Minute
)

// encoder is made when it is first needed: most runs need none.
var encoder = sync.OnceValue(func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20),
		zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // the options are constants
	}
	return e
})

// decoders are kept for the next content. One serves one content at a time, and two records may be read side by side.
var decoders = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxContent))
	if err != nil {
		panic(err)
	}
	return d
}}

// unpack unpacks a content of a known size. What says that it is larger is not begun.
func unpack(data []byte, size int64) ([]byte, error) {
	var head zstd.Header
	if err := head.Decode(data); err != nil {
		return nil, err
	}
	if head.HasFCS && head.FrameContentSize != uint64(size) || head.WindowSize > maxContent {
		return nil, errors.New("another size than the record says")
	}
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	if err := d.Reset(bytes.NewReader(data)); err != nil {
		return nil, err
	}
	content := make([]byte, size)
	if _, err := io.ReadFull(d, content); err != nil && size > 0 {
		return nil, err
	}
	if n, err := d.Read(make([]byte, 1)); n > 0 || err != io.EOF {
		return nil, errors.New("more than the record says")
	}
	return content, nil
}
