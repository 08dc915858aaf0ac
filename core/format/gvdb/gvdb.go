// Package gvdb reads the databases of dconf: a hash table of paths and values of GVariant, in one
// file, as gvdb-format.h of GLib defines it. Nothing is written.
//
//	t, err := gvdb.Parse(content)
//	t.Strings("/org/gnome/shell/enabled-extensions") // [tide@gullrock.example]
package gvdb

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrFormat says that a file is not a database of dconf, or a damaged one.
var ErrFormat = errors.New("not a database of dconf")

// The sizes of what a file is made of, and what begins it on machines whose numbers begin with their
// last byte, as all do that run desktops.
const (
	signature  = "GVariant"
	headerSize = 24 // signature, version, options, and where the root lies
	itemSize   = 24
	noParent   = 0xffffffff
	maxKeys    = 20_000 // a desktop has some hundreds
	maxName    = 512    // bytes of a whole key
	maxDepth   = 64     // of a key in others
)

// Table is the values of a database by their paths.
type Table struct{ values map[string][]byte }

// Parse reads a database.
func Parse(content []byte) (*Table, error) {
	if len(content) < headerSize || string(content[:8]) != signature {
		return nil, ErrFormat
	}
	root, ok := span(content, content[16:24])
	if !ok || len(root) < 8 {
		return nil, fmt.Errorf("%w: its root lies outside of it", ErrFormat)
	}
	blooms, buckets := uint64(binary.LittleEndian.Uint32(root)&(1<<27-1)), uint64(binary.LittleEndian.Uint32(root[4:]))
	begin := 8 + 4*blooms + 4*buckets
	if begin > uint64(len(root)) {
		return nil, fmt.Errorf("%w: its table lies outside of it", ErrFormat)
	}
	items := root[begin:]
	n := len(items) / itemSize
	if n > maxKeys {
		return nil, fmt.Errorf("%w: it has %d keys", ErrFormat, n)
	}
	t := &Table{values: map[string][]byte{}}
	for k := range n {
		item := items[k*itemSize:][:itemSize]
		if item[14] != 'v' {
			continue
		}
		name, ok := key(content, items, uint32(k), 0)
		value, inside := span(content, item[16:24])
		if !ok || !inside {
			return nil, fmt.Errorf("%w: a key or a value lies outside of it", ErrFormat)
		}
		t.values[name] = value
	}
	return t, nil
}

// span is the part of a file that a pointer is to: its first byte, and that behind its last.
func span(content, pointer []byte) ([]byte, bool) {
	start, end := binary.LittleEndian.Uint32(pointer), binary.LittleEndian.Uint32(pointer[4:])
	if start > end || uint64(end) > uint64(len(content)) {
		return nil, false
	}
	return content[start:end], true
}

// key is the whole name of an item: that of its parent, and its own.
func key(content, items []byte, k uint32, depth int) (string, bool) {
	if uint64(k) >= uint64(len(items)/itemSize) || depth > maxDepth {
		return "", false
	}
	item := items[int(k)*itemSize:][:itemSize]
	parent := binary.LittleEndian.Uint32(item[4:])
	start, size := uint64(binary.LittleEndian.Uint32(item[8:])), uint64(binary.LittleEndian.Uint16(item[12:]))
	if start+size > uint64(len(content)) || size > maxName {
		return "", false
	}
	own := string(content[start : start+size])
	if parent == noParent {
		return own, true
	}
	above, ok := key(content, items, parent, depth+1)
	return above + own, ok && len(above)+len(own) <= maxName
}

// value is what stands at a path where it has a type: a variant is its bytes, a zero, and the type.
func (t *Table) value(path, kind string) ([]byte, bool) {
	v, ok := t.values[path]
	if !ok {
		return nil, false
	}
	content, ok := bytes.CutSuffix(v, append([]byte{0}, kind...))
	return content, ok
}

// Bool is the truth value at a path; ok is false if there is none.
func (t *Table) Bool(path string) (value, ok bool) {
	content, ok := t.value(path, "b")
	return ok && len(content) == 1 && content[0] == 1, ok
}

// Strings are the texts of a list at a path; ok is false if there is none. Behind the texts, each of
// which ends with a zero, stands where each of them ends, in as many bytes as the length of all needs
// ("GVariant Specification", 2.3.6 and 2.5).
func (t *Table) Strings(path string) (list []string, ok bool) {
	content, ok := t.value(path, "as")
	if !ok || len(content) == 0 {
		return nil, ok
	}
	width := 1
	switch {
	case len(content) > 0xffff:
		width = 4
	case len(content) > 0xff:
		width = 2
	}
	offset := func(at int) int {
		switch width {
		case 1:
			return int(content[at])
		case 2:
			return int(binary.LittleEndian.Uint16(content[at:]))
		}
		return int(binary.LittleEndian.Uint32(content[at:]))
	}
	if len(content) < width {
		return nil, false
	}
	offsets := offset(len(content) - width)
	if offsets > len(content)-width {
		return nil, false
	}
	begin := 0
	for at := offsets; at+width <= len(content); at += width {
		end := offset(at)
		if end <= begin || end > offsets {
			return nil, false
		}
		list = append(list, string(content[begin:end-1]))
		begin = end
	}
	return list, true
}
