// Package rpmdb reads the databases of rpm, the package manager of Fedora, openSUSE and their
// families: which package has a file, and what the file was when it was delivered.
//
//	for h, err := range db.Having("tidewatchd") {
//		fmt.Println(h.Name, h.Version, h.Files())
//	}
//
// Headers are in the form of "RPM Package File Structure"; the tags are those of rpmtag.h. All
// three databases are read: the one of SQLite, rpm's own (ndb), and the old one of Berkeley DB.
package rpmdb

import (
	"bytes"
	"encoding/binary"
	"errors"
	"time"
)

// Bounds.
const (
	maxHeader  = 32 << 20 // bytes
	maxEntries = 4096     // tags of one header
	maxFiles   = 1 << 20  // of one package
)

// ErrHeader says that bytes are no header of a package.
var ErrHeader = errors.New("the header of a package is damaged")

// The tags that are read.
const (
	tagName       = 1000
	tagVersion    = 1001
	tagRelease    = 1002
	tagSummary    = 1004
	tagInstalled  = 1008
	tagVendor     = 1011
	tagPackager   = 1015
	tagDigests    = 1035
	tagFlags      = 1037
	tagProvides   = 1047
	tagRequires   = 1049
	tagDirIndexes = 1116
	tagBaseNames  = 1117
	tagDirNames   = 1118
	tagAlgorithm  = 5011
)

// Package is an installed package.
type Package struct {
	Name, Version, Release, Summary, Vendor, Packager string
	Installed                                         time.Time
	// Algorithm is the digest of its files: "md5" or "sha256"; empty if it is another.
	Algorithm string

	provides, requires      []string
	names, folders, digests []string
	folderOf                []uint32
	flags                   []uint32
}

// File is a file of a package.
type File struct {
	Path string
	// Digest is that of its content, in hexadecimal; empty of what has none: folders, links.
	Digest string
	Config bool // meant to be changed
}

// Files returns the package's files with this last element of their path.
func (p *Package) Files(base string) []File {
	var all []File
	for k, name := range p.names {
		if name != base || k >= len(p.folderOf) || int(p.folderOf[k]) >= len(p.folders) {
			continue
		}
		f := File{Path: p.folders[p.folderOf[k]] + name}
		if k < len(p.digests) {
			f.Digest = p.digests[k]
		}
		if k < len(p.flags) {
			f.Config = p.flags[k]&1 != 0
		}
		all = append(all, f)
	}
	return all
}

// Parse reads a header as databases hold it, without the magic number before it.
func Parse(b []byte) (*Package, error) {
	if len(b) < 8 || len(b) > maxHeader {
		return nil, ErrHeader
	}
	count, size := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])
	if count > maxEntries || 8+16*int64(count)+int64(size) > int64(len(b)) {
		return nil, ErrHeader
	}
	store := b[8+16*count:][:size]
	h := header{store: store, entries: map[uint32]entry{}}
	for k := range count {
		e := b[8+16*k:]
		h.entries[binary.BigEndian.Uint32(e)] = entry{binary.BigEndian.Uint32(e[4:]), binary.BigEndian.Uint32(e[8:]),
			binary.BigEndian.Uint32(e[12:])}
	}
	p := &Package{Name: h.text(tagName), Version: h.text(tagVersion), Release: h.text(tagRelease),
		Summary: h.text(tagSummary), Vendor: h.text(tagVendor), Packager: h.text(tagPackager),
		names: h.texts(tagBaseNames), folders: h.texts(tagDirNames), digests: h.texts(tagDigests),
		provides: h.texts(tagProvides), requires: h.texts(tagRequires),
		folderOf: h.numbers(tagDirIndexes), flags: h.numbers(tagFlags)}
	if p.Name == "" {
		return nil, ErrHeader
	}
	if at := h.numbers(tagInstalled); len(at) > 0 {
		p.Installed = time.Unix(int64(at[0]), 0).UTC()
	}
	switch algorithm := h.numbers(tagAlgorithm); {
	case len(algorithm) == 0 || algorithm[0] == 1:
		p.Algorithm = "md5"
	case algorithm[0] == 8:
		p.Algorithm = "sha256"
	}
	return p, nil
}

type entry struct{ kind, at, count uint32 }

type header struct {
	store   []byte
	entries map[uint32]entry
}

// Types of values.
const (
	typeInt32  = 4
	typeText   = 6
	typeTexts  = 8
	typeI18N   = 9
	sizeOfInt  = 4
	noneOfText = "\x00"
)

func (h header) text(tag uint32) string {
	e := h.entries[tag]
	if e.kind != typeText && e.kind != typeI18N || int64(e.at) >= int64(len(h.store)) {
		return ""
	}
	word, _, _ := bytes.Cut(h.store[e.at:], []byte(noneOfText))
	return string(word)
}

func (h header) texts(tag uint32) []string {
	e := h.entries[tag]
	if e.kind != typeTexts || int64(e.at) > int64(len(h.store)) || e.count > maxFiles {
		return nil
	}
	var all []string
	rest := h.store[e.at:]
	for range e.count {
		word, more, ok := bytes.Cut(rest, []byte(noneOfText))
		if !ok {
			break
		}
		all, rest = append(all, string(word)), more
	}
	return all
}

func (h header) numbers(tag uint32) []uint32 {
	e := h.entries[tag]
	if e.kind != typeInt32 || e.count > maxFiles || int64(e.at)+sizeOfInt*int64(e.count) > int64(len(h.store)) {
		return nil
	}
	all := make([]uint32, e.count)
	for k := range all {
		all[k] = binary.BigEndian.Uint32(h.store[int(e.at)+sizeOfInt*k:])
	}
	return all
}
