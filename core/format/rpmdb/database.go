package rpmdb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"lockback/core/format/sqlitefile"
)

// Bounds of one search.
const (
	maxTime  = 2 * time.Second
	maxFound = 4096 // packages
)

// ErrKind means that a file is not one of the supported databases.
var ErrKind = errors.New("not a database of rpm that is read")

// Database finds packages by the last elements of their files' paths, and knows which of them need which.
type Database interface {
	// Having visits the packages that have a file of one of these names, each once.
	Having(names []string, visit func(*Package)) error
	// Needs visits every package.
	Needs(visit func(Needs)) error
}

// Needs is what a package offers to others, its own name included, and what it needs of them. Versions are left out.
// A need is the name of a package, of something that packages provide, or the path of a file.
type Needs struct {
	Package            string
	Provides, Requires []string
}

// walker is a database of which every header is read: its indexes are files of their own that may be out of date.
type walker interface {
	headers(visit func(header []byte)) error
}

// walked answers from all headers.
type walked struct{ walker }

func (w walked) Having(names []string, visit func(*Package)) error {
	wanted := setOf(names)
	return w.headers(func(header []byte) { visitHaving(header, wanted, visit) })
}

func (w walked) Needs(visit func(Needs)) error {
	return w.headers(func(header []byte) {
		if p, err := Parse(header); err == nil {
			visit(Needs{p.Name, p.provides, p.requires})
		}
	})
}

// Open tells which kind of database a file is.
func Open(r io.ReaderAt, size int64) (Database, error) {
	head := make([]byte, 32)
	if n, _ := r.ReadAt(head, 0); n < len(head) {
		return nil, ErrKind
	}
	switch {
	case string(head[:16]) == sqlitefile.Magic:
		return sqliteDatabase{r, size}, nil
	case string(head[:4]) == "RpmP":
		return walked{ownDatabase{r, size, head}}, nil
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
	db, err := sqlitefile.Open(d.r, d.size)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrKind, err)
	}
	defer db.Close()
	if err := db.Tables("Packages", "Basenames"); err != nil {
		return fmt.Errorf("%w: %w", ErrKind, err)
	}
	seen := map[int64]bool{}
	for _, base := range names {
		found, err := db.Rows(`SELECT hnum FROM Basenames WHERE key = ? LIMIT ?`, base, int64(maxFound))
		if err != nil {
			return err
		}
		for _, row := range found {
			number, ok := row[0].(int64)
			if !ok || seen[number] || len(seen) > maxFound {
				continue
			}
			seen[number] = true
			blobs, err := db.Rows(`SELECT blob FROM Packages WHERE hnum = ? AND length(blob) <= ?`, number,
				int64(maxHeader))
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

// maxNeeds is how many needs of all packages are read: a large system has 100,000.
const maxNeeds = 1 << 18

// Needs asks the indexes of names, which are smaller than the headers by far.
func (d sqliteDatabase) Needs(visit func(Needs)) error {
	db, err := sqlitefile.Open(d.r, d.size)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrKind, err)
	}
	defer db.Close()
	if err := db.Tables("Name", "Providename", "Requirename"); err != nil {
		return fmt.Errorf("%w: %w", ErrKind, err)
	}
	all := map[int64]*Needs{}
	for _, index := range []struct {
		table string
		add   func(*Needs, string)
	}{
		{"Name", func(n *Needs, name string) { n.Package = name }},
		{"Providename", func(n *Needs, name string) { n.Provides = append(n.Provides, name) }},
		{"Requirename", func(n *Needs, name string) { n.Requires = append(n.Requires, name) }},
	} {
		rows, err := db.Rows(`SELECT hnum, key FROM `+index.table+` LIMIT ?`, int64(maxNeeds))
		if err != nil {
			return err
		}
		for _, row := range rows {
			number, _ := row[0].(int64)
			name, _ := row[1].(string)
			if all[number] == nil {
				all[number] = &Needs{}
			}
			index.add(all[number], name)
		}
	}
	for _, number := range slices.Sorted(maps.Keys(all)) {
		if n := all[number]; n.Package != "" {
			visit(*n)
		}
	}
	return nil
}

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

func (d ownDatabase) headers(visit func(header []byte)) error {
	pages := binary.LittleEndian.Uint32(d.head[12:])
	if pages == 0 || pages > maxPages {
		return ErrKind
	}
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
		at, count := int64(binary.LittleEndian.Uint32(slots[8:]))*blockSize,
			int64(binary.LittleEndian.Uint32(slots[12:]))*blockSize
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
		visit(blob[16:][:length])
	}
	return nil
}
