// Package store is the record: one SQLite file that holds machines, snapshots,
// the contents that their images share, and changes with their journal. It is a
// [change.Record].
//
// Contents are kept once, by their SHA-256, and compressed. Every commit is flushed to disk before
// it returns. One process writes at a time, and others read meanwhile; both wait for each other
// up to [Patience], then they get [change.ErrInUse]. No shared memory and no second file outlives a
// commit, so the record may live on a removable disk.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"lockback/core/change"
	"lockback/core/program"
)

// Access says what a record is opened for.
type Access int

// Read needs an existing record and changes nothing in it. Write makes the record where there is none; each
// transaction waits for other writers. Exclusive is Write that holds the record from the start, see [Store.Hold].
const (
	Read Access = iota
	Write
	Exclusive
)

// Errors of the file; all others are those of [change.Record].
var (
	ErrNone    = errors.New("there is no record yet")
	ErrForeign = errors.New("the file is not a record of lockback")
	ErrNotOurs = errors.New("somebody else could have written to the record")
)

// applicationID marks the file as ours, PRAGMA application_id: "LkBk".
const applicationID = 0x4c6b426b

// Store is an opened record.
type Store struct {
	Path    string
	file    *os.File // of a writer, for its lock
	held    bool
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
	real, err := inRealFolder(path, access != Read)
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
	s := &Store{Path: path}
	if access != Read {
		// SQLite would fall back to reading without a word.
		if s.file, err = os.OpenFile(real, os.O_RDWR, 0); err != nil {
			return nil, explain(path, err)
		}
		if err := s.Hold(); err != nil {
			s.Close()
			return nil, err
		}
	}
	err = s.open(real, access, access != Read)
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
	if access == Write {
		if err := s.Release(); err != nil {
			s.Close()
			return nil, explain(path, err)
		}
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
	pragmas := []string{fmt.Sprintf("PRAGMA busy_timeout = %d", Patience.Milliseconds()), // first: others read the file
		"PRAGMA trusted_schema = OFF", "PRAGMA cell_size_check = ON", "PRAGMA foreign_keys = OFF",
		"PRAGMA temp_store = MEMORY", "PRAGMA cache_size = -4096"}
	if access != Read {
		// Pages that are written before the commit would shut readers out until it is done: 64 MB wait for it.
		pragmas = append(pragmas, "PRAGMA journal_mode = DELETE", "PRAGMA synchronous = EXTRA", "PRAGMA fullfsync = ON",
			"PRAGMA cache_spill = 16384")
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
	// Foreign keys are off until here: a table that others refer to is made again by taking it
	// away first.
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
	if s.file != nil { // after SQLite: closing it releases the locks of the process
		s.held = false
		errs = append(errs, s.file.Close())
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
// its author could make us believe anything about the disk's programs.
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
