// Package sqlitefile asks questions of SQLite databases that other programs wrote, on machines that
// are not trusted: nothing is written, no file beside the database is opened, and an answer has an
// end.
//
//	db, err := sqlitefile.Open(file, size)
//	defer db.Close()
//	rows, err := db.Rows("SELECT blob FROM Packages WHERE hnum = ?", int64(3))
//
// What stands in a log beside the database, and was not written into it yet, is not seen; [WithLog] puts it in.
package sqlitefile

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"modernc.org/sqlite"
	"modernc.org/sqlite/vfs"
)

// maxTime is how long a database may take for all its answers.
const maxTime = 2 * time.Second

// ErrFormat says that a file is no database, or has not the tables that are asked for.
var ErrFormat = errors.New("not a database of SQLite with the tables that are wanted")

// Magic is what the file of a database begins with.
const Magic = "SQLite format 3\x00"

// DB is an opened database. It is for one goroutine.
type DB struct {
	conn   driver.Conn
	files  *vfs.FS
	ctx    context.Context
	cancel context.CancelFunc
}

// Open opens the database in a file of some size.
func Open(r io.ReaderAt, size int64) (*DB, error) {
	head := make([]byte, len(Magic))
	if n, _ := r.ReadAt(head, 0); n < len(head) || string(head) != Magic {
		return nil, ErrFormat
	}
	name, files, err := vfs.New(oneFile{r, size})
	if err != nil {
		return nil, err
	}
	conn, err := (&sqlite.Driver{}).Open("file:" + onlyFile + "?mode=ro&immutable=1&vfs=" + name)
	if err != nil {
		files.Close()
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), maxTime)
	return &DB{conn, files, ctx, cancel}, nil
}

// Close lets the database go.
func (db *DB) Close() {
	db.cancel()
	db.conn.Close()
	db.files.Close()
}

// Tables fails with [ErrFormat] where not all of these names are those of tables: a view could be a
// program that never ends.
func (db *DB) Tables(names ...string) error {
	for _, name := range names {
		found, err := db.Rows(`SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = ? AND sql NOT `+
			`LIKE 'CREATE VIRTUAL%'`, name)
		if err != nil || len(found) != 1 || found[0][0] != int64(1) {
			return errors.Join(ErrFormat, err)
		}
	}
	return nil
}

// Rows asks a question and returns all rows of the answer. Whoever asks limits how many there are.
func (db *DB) Rows(query string, args ...any) ([][]driver.Value, error) {
	named := make([]driver.NamedValue, len(args))
	for k, a := range args {
		named[k] = driver.NamedValue{Ordinal: k + 1, Value: a}
	}
	found, err := db.conn.(driver.QueryerContext).QueryContext(db.ctx, query, named)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var all [][]driver.Value
	for {
		row := make([]driver.Value, len(found.Columns()))
		switch err := found.Next(row); {
		case errors.Is(err, io.EOF):
			return all, nil
		case err != nil:
			return nil, err
		}
		for k, v := range row {
			if b, ok := v.([]byte); ok {
				row[k] = append([]byte(nil), b...)
			}
		}
		all = append(all, row)
	}
}

// oneFile is a file system with the database alone in it.
type oneFile struct {
	r    io.ReaderAt
	size int64
}

// onlyFile is what the database is called there.
const onlyFile = "database.sqlite"

// Open opens the database, whatever it is called; its log is not there.
func (o oneFile) Open(name string) (fs.File, error) {
	if !strings.HasSuffix(name, onlyFile) {
		return nil, fs.ErrNotExist
	}
	return &openedFile{SectionReader: io.NewSectionReader(o.r, 0, o.size)}, nil
}

// openedFile is the database as it is read. That it is written with a log, which is not there, is
// kept from the reader: bytes 18 and 19, "Database File Format" of SQLite, 1.3.3.
type openedFile struct{ *io.SectionReader }

func (f *openedFile) Read(b []byte) (int, error) {
	at, _ := f.Seek(0, io.SeekCurrent)
	n, err := f.SectionReader.Read(b)
	patch(b[:n], at)
	return n, err
}

// ReadAt is Read at a place.
func (f *openedFile) ReadAt(b []byte, at int64) (int, error) {
	n, err := f.SectionReader.ReadAt(b, at)
	patch(b[:n], at)
	return n, err
}

func patch(b []byte, at int64) {
	for _, place := range []int64{18, 19} {
		if k := place - at; k >= 0 && k < int64(len(b)) && b[k] == 2 {
			b[k] = 1
		}
	}
}

func (f *openedFile) Close() error               { return nil }
func (f *openedFile) Stat() (fs.FileInfo, error) { return fileInfo{f.Size()}, nil }

// fileInfo is what SQLite asks of a file: its size.
type fileInfo struct{ size int64 }

func (i fileInfo) Name() string       { return onlyFile }
func (i fileInfo) Size() int64        { return i.size }
func (i fileInfo) Mode() fs.FileMode  { return 0o444 }
func (i fileInfo) ModTime() time.Time { return time.Time{} }
func (i fileInfo) IsDir() bool        { return false }
func (i fileInfo) Sys() any           { return nil }
