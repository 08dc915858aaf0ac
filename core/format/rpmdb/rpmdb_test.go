package rpmdb_test

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/rpmdb"
)

// header makes a header of texts, lists of texts and numbers by their tags.
func header(values map[uint32]any) []byte {
	var index, store []byte
	for _, tag := range []uint32{1000, 1001, 1004, 1116, 1117, 1118, 1035} {
		v, ok := values[tag]
		if !ok {
			continue
		}
		var kind, count uint32
		for len(store)%4 != 0 {
			store = append(store, 0)
		}
		at := uint32(len(store))
		switch v := v.(type) {
		case string:
			kind, count = 6, 1
			store = append(append(store, v...), 0)
		case translated:
			kind, count = 9, 1
			store = append(append(store, v...), 0)
		case []string:
			kind, count = 8, uint32(len(v))
			for _, s := range v {
				store = append(append(store, s...), 0)
			}
		case []uint32:
			kind, count = 4, uint32(len(v))
			for _, n := range v {
				store = binary.BigEndian.AppendUint32(store, n)
			}
		}
		for _, n := range []uint32{tag, kind, at, count} {
			index = binary.BigEndian.AppendUint32(index, n)
		}
	}
	b := binary.BigEndian.AppendUint32(nil, uint32(len(index)/16))
	b = binary.BigEndian.AppendUint32(b, uint32(len(store)))
	return append(append(b, index...), store...)
}

// translated is a text of which a header has one for each language.
type translated string

var sample = map[uint32]any{1000: "tide", 1001: "1.18", 1004: translated("tide tables"), 1116: []uint32{0, 1}, 1117: []string{"tide", "tide"},
	1118: []string{"/usr/bin/", "/usr/share/"}, 1035: []string{"ab", ""}}

func TestParse(t *testing.T) {
	p, err := rpmdb.Parse(header(sample))
	require.NoError(t, err)
	require.Equal(t, "tide", p.Name)
	require.Equal(t, "tide tables", p.Summary)
	require.Equal(t, []rpmdb.File{{Path: "/usr/bin/tide", Digest: "ab"}, {Path: "/usr/share/tide"}}, p.Files("tide"))
	_, err = rpmdb.Parse([]byte("\xff\xff\xff\xff\xff\xff\xff\xff"))
	require.ErrorIs(t, err, rpmdb.ErrHeader)
}

func FuzzHeader(f *testing.F) {
	f.Add(header(sample))
	f.Fuzz(func(t *testing.T, b []byte) {
		if p, err := rpmdb.Parse(b); err == nil {
			p.Files("tide")
		}
	})
}

// berkeley makes a database of Berkeley DB with two pages after the first: one with a package's
// number and what stands for its header, and one that holds a value in part, and leads to itself.
func berkeley(item []byte) []byte {
	const page = 1024
	b := make([]byte, 3*page)
	binary.LittleEndian.PutUint32(b[12:], 0x061561)
	binary.LittleEndian.PutUint32(b[20:], page)
	items := b[page:]
	items[25] = 13
	binary.LittleEndian.PutUint16(items[20:], 2)
	binary.LittleEndian.PutUint16(items[26:], page-5)
	copy(items[page-5:], "\x01\x01\x00\x00\x00")
	binary.LittleEndian.PutUint16(items[28:], uint16(page-5-len(item)))
	copy(items[page-5-len(item):], item)
	more := b[2*page:]
	more[25] = 7
	binary.LittleEndian.PutUint32(more[16:], 2)
	binary.LittleEndian.PutUint16(more[22:], 10)
	return b
}

func itemHere(value []byte) []byte { return append([]byte{1}, value...) }

var elsewhere = []byte("\x03\x00\x00\x00\x02\x00\x00\x00\x00\x04\x00\x00") // 1,024 bytes from page 2 on

func TestBerkeley(t *testing.T) {
	for _, c := range []struct {
		item []byte
		want []string
	}{{itemHere(header(sample)), []string{"tide"}}, {elsewhere, nil}, {[]byte{2}, nil}, {itemHere([]byte("x")), nil}} {
		b := berkeley(c.item)
		db, err := rpmdb.Open(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		var found []string
		require.NoError(t, db.Having([]string{"tide"}, func(p *rpmdb.Package) { found = append(found, p.Name) }))
		require.Equal(t, c.want, found)
		require.NoError(t, db.Having([]string{"ebb"}, func(p *rpmdb.Package) { t.Error("none has it") }))
	}
	none := func(at int, value byte, item []byte) {
		b := berkeley(item)
		b[at] = value
		db, err := rpmdb.Open(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		require.NoError(t, db.Having([]string{"tide"}, func(p *rpmdb.Package) { t.Error("it is none") }))
	}
	none(1024+25, 5, itemHere(header(sample))) // a page of another kind
	none(2*1024+22, 0, elsewhere)              // a ring of pages with nothing on them has an end
}

func FuzzDatabase(f *testing.F) {
	f.Add([]byte("SQLite format 3\x00 and more than thirty-two bytes"))
	f.Add(berkeley(itemHere(header(sample))))
	f.Add(berkeley(elsewhere))
	f.Add(append([]byte("RpmP\x01\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00"), make([]byte, 4096)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		db, err := rpmdb.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		db.Having([]string{"tide"}, func(p *rpmdb.Package) { require.NotEmpty(t, p.Name) })
	})
}
