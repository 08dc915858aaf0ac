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
	for _, tag := range []uint32{1000, 1001, 1116, 1117, 1118, 1035} {
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

var sample = map[uint32]any{1000: "tide", 1001: "1.18", 1116: []uint32{0, 1}, 1117: []string{"tide", "tide"}, 1118: []string{"/usr/bin/", "/usr/share/"}, 1035: []string{"ab", ""}}

func TestParse(t *testing.T) {
	p, err := rpmdb.Parse(header(sample))
	require.NoError(t, err)
	require.Equal(t, "tide", p.Name)
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

func FuzzDatabase(f *testing.F) {
	f.Add([]byte("SQLite format 3\x00 and more than thirty-two bytes"))
	f.Add(append([]byte("RpmP\x01\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00"), make([]byte, 4096)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		db, err := rpmdb.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		db.Having([]string{"tide"}, func(p *rpmdb.Package) { require.NotEmpty(t, p.Name) })
	})
}
