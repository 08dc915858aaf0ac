package rpmdb

import (
	"context"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"modernc.org/sqlite"
	"modernc.org/sqlite/vfs"
)

// Bounds of one search.
const (
	maxTime  = 5 * time.Second
	maxFound = 4096 // packages
)

// ErrKind says that a file is none of the databases that are read.
var ErrKind = errors.New("not a database of rpm that is read")

// Database finds packages by the last elements of their files' paths.
type Database interface {
	// Having visits the packages that have a file of one of these names, each once.
	Having(names []string, visit func(*Package)) error
}

// Open tells which kind of database a file is.
func Open(r io.ReaderAt, size int64) (Database, error) {
	head := make([]byte, 32)
	if n, _ := r.ReadAt(head, 0); n < len(head) {
		return nil, ErrKind
	}
	switch {
	case string(head[:16]) == "SQLite format 3\x00":
		return sqliteDatabase{r, size}, nil
	case string(head[:4]) == "RpmP":
		return ownDatabase{r, size, head}, nil
	}
	if d, ok := openBerkeley(r, size, head); ok {
		return d, nil
	}
	return nil, ErrKind
}

// sqliteDatabase is rpmdb.sqlite: headers in the table Packages, and an index of the names of files.
type sqliteDatabase struct {
	r    io.ReaderAt
	size int64
}

// Having asks the index, and then for the headers.
func (d sqliteDatabase) Having(names []string, visit func(*Package)) error {
	name, files, err := vfs.New(oneFile(d))
	if err != nil {
		return err
	}
	defer files.Close()
	conn, err := (&sqlite.Driver{}).Open("file:rpmdb.sqlite?mode=ro&immutable=1&vfs=" + name)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrKind, err)
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(context.Background(), maxTime)
	defer cancel()
	// The names must be those of tables: a view could be a program that never ends.
	tables, err := rows(ctx, conn, `SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name IN ('Packages', 'Basenames') AND sql NOT LIKE 'CREATE VIRTUAL%'`)
	if err != nil || len(tables) != 1 || tables[0][0] != int64(2) {
		return errors.Join(ErrKind, err)
	}
	seen := map[int64]bool{}
	for _, base := range names {
		found, err := rows(ctx, conn, `SELECT hnum FROM Basenames WHERE key = ? LIMIT ?`, base, int64(maxFound))
		if err != nil {
			return err
		}
		for _, row := range found {
			number, ok := row[0].(int64)
			if !ok || seen[number] || len(seen) > maxFound {
				continue
			}
			seen[number] = true
			blobs, err := rows(ctx, conn, `SELECT blob FROM Packages WHERE hnum = ? AND length(blob) <= ?`, number, int64(maxHeader))
			if err != nil {
				return err
			}
			for _, b := range blobs {
				if content, ok := b[0].([]byte); ok {
					if p, err := Parse(content); err == nil {
						visit(p)
					}
				}
			}
		}
	}
	return nil
}

// rows asks a question and returns all rows of the answer.
func rows(ctx context.Context, conn driver.Conn, query string, args ...any) ([][]driver.Value, error) {
	named := make([]driver.NamedValue, len(args))
	for k, a := range args {
		named[k] = driver.NamedValue{Ordinal: k + 1, Value: a}
	}
	found, err := conn.(driver.QueryerContext).QueryContext(ctx, query, named)
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

// Open opens the database, whatever it is called; its log is not there.
func (o oneFile) Open(name string) (fs.File, error) {
	if !strings.HasSuffix(name, "rpmdb.sqlite") {
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

func (i fileInfo) Name() string       { return "rpmdb.sqlite" }
func (i fileInfo) Size() int64        { return i.size }
func (i fileInfo) Mode() fs.FileMode  { return 0o444 }
func (i fileInfo) ModTime() time.Time { return time.Time{} }
func (i fileInfo) IsDir() bool        { return false }
func (i fileInfo) Sys() any           { return nil }

// ownDatabase is Packages.db of rpm's own kind, lib/backend/ndb/rpmpkg.c: a table of slots, each
// with the place of a package's header in blocks of 16 bytes.
type ownDatabase struct {
	r    io.ReaderAt
	size int64
	head []byte
}

// Numbers of that file.
const (
	slotSize  = 16
	blockSize = 16
	pageSize  = 4096
	maxPages  = 4096 // of slots: a million packages
)

// Having reads all headers: the index of names is a file of its own that may be out of date.
func (d ownDatabase) Having(names []string, visit func(*Package)) error {
	pages := binary.LittleEndian.Uint32(d.head[12:])
	if pages == 0 || pages > maxPages {
		return ErrKind
	}
	wanted := setOf(names)
	slots := make([]byte, int(pages)*pageSize)
	if n, _ := d.r.ReadAt(slots, 0); n < len(slots) {
		return fmt.Errorf("%w: it is cut off", ErrKind)
	}
	until := time.Now().Add(maxTime)
	for slots = slots[2*slotSize:]; len(slots) >= slotSize; slots = slots[slotSize:] {
		if string(slots[:4]) != "Slot" || binary.LittleEndian.Uint32(slots[4:]) == 0 {
			continue
		}
		if time.Now().After(until) {
			return errTooLong
		}
		at, count := int64(binary.LittleEndian.Uint32(slots[8:]))*blockSize, int64(binary.LittleEndian.Uint32(slots[12:]))*blockSize
		if count > maxHeader || at+count > d.size || count < 16 {
			continue
		}
		blob := make([]byte, count)
		if n, _ := d.r.ReadAt(blob, at); n < len(blob) || string(blob[:4]) != "BlbS" {
			continue
		}
		length := int64(binary.LittleEndian.Uint32(blob[12:]))
		if 16+length > count {
			continue
		}
		visitHaving(blob[16:][:length], wanted, visit)
	}
	return nil
}
