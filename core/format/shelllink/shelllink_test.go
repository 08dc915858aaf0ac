package shelllink_test

import (
	"encoding/binary"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/shelllink"
)

var sample = shelllink.Link{LocalPath: `C:\Program Files\Fogbell\Überblick 灯台.exe`, Arguments: `--tray "two words"`,
	WorkingDir:  `C:\Program Files\Fogbell`,
	Description: "Fogbell", Icon: `C:\Fogbell.ico`, Volume: "Gullrock", Serial: 0x18870314, Machine: "ticket-desk",
	Size: 171, Show: 7,
	Created: time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC), Modified: time.Date(2026, 3, 14, 9, 26, 54, 0, time.UTC)}

func TestRoundTrip(t *testing.T) {
	l, err := shelllink.Parse(sample.Encode())
	require.NoError(t, err)
	require.Equal(t, sample, *l)
	require.Equal(t, sample.LocalPath, l.Target())
}

// block is one of the blocks behind a link's texts.
func block(signature uint32, data []byte) []byte {
	b := binary.LittleEndian.AppendUint32(nil, uint32(8+len(data)))
	return append(binary.LittleEndian.AppendUint32(b, signature), data...)
}

func TestEnvironmentGoesFirst(t *testing.T) {
	l := shelllink.Link{LocalPath: `C:\old.exe`}
	b := l.Encode()
	data := make([]byte, 780)
	copy(data, `%ProgramFiles%\x.exe`)
	for k, c := range []byte(`%ProgramFiles%\new.exe`) {
		data[260+2*k] = c
	}
	got, err := shelllink.Parse(append(b[:len(b)-4], block(0xa0000001, data)...))
	require.NoError(t, err)
	require.Equal(t, `%ProgramFiles%\new.exe`, got.Target())
}

// TestItemList reads a target that only the shell's own items spell: a drive, a
// folder with a long name beside its short one, and a file in UTF-16.
func TestItemList(t *testing.T) {
	item := func(b ...byte) []byte { return append(binary.LittleEndian.AppendUint16(nil, uint16(len(b)+2)), b...) }
	long := []byte{26, 0, 3, 0, 4, 0, 0xef, 0xbe, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}
	for _, c := range "Program Files" {
		long = append(long, byte(c), 0)
	}
	folder := append([]byte{0x31, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x10, 0}, "PROGRA~1\x00\x00"...)
	folder = append(append(folder, long...), 0, 0, 14, 0)
	wide := []byte{0x36, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x20, 0}
	for _, c := range "x.exe" {
		wide = append(wide, byte(c), 0)
	}
	var list []byte
	for _, i := range [][]byte{item(append([]byte{0x1f, 0x50}, make([]byte, 16)...)...),
		item(append([]byte{0x2f}, "C:\\\x00"...)...), item(folder...), item(append(wide, 0, 0)...)} {
		list = append(list, i...)
	}
	list = append(list, 0, 0)
	head := sample.Encode()[:0x4c]
	binary.LittleEndian.PutUint32(head[20:], 1)
	got, err := shelllink.Parse(append(append(head, binary.LittleEndian.AppendUint16(nil, uint16(len(list)))...),
		list...))
	require.NoError(t, err)
	require.Equal(t, `C:\Program Files\x.exe`, got.Target())
}

// narrowLink is a link whose path is in the code page of a machine alone, as older programs write it.
func narrowLink(path string) []byte {
	volume := append(binary.LittleEndian.AppendUint32(nil, 17), make([]byte, 13)...)
	b := binary.LittleEndian.AppendUint32(nil, uint32(28+len(volume)+len(path)+2))
	for _, n := range []int{28, 1, 28, 28 + len(volume), 0, 28 + len(volume) + len(path) + 1} {
		b = binary.LittleEndian.AppendUint32(b, uint32(n))
	}
	b = append(append(append(b, volume...), path...), 0, 0)
	head := sample.Encode()[:0x4c]
	binary.LittleEndian.PutUint32(head[20:], 2)
	return append(append(head, b...), 0, 0, 0, 0)
}

// A path in a code page is read in that of the machine; in one that is not known, only what all of the west share.
func TestCodePages(t *testing.T) {
	const name = "C:\\Users\\\x91\xbe\x98Y\\tide.exe" // Shift-JIS
	page := func(b []byte) (string, bool) {
		return strings.ReplaceAll(string(b), "\x91\xbe\x98Y", "\u592a\u90ce"), true
	}
	l, err := shelllink.ParseIn(narrowLink(name), page)
	require.NoError(t, err)
	require.Equal(t, "C:\\Users\\\u592a\u90ce\\tide.exe", l.Target())
	require.False(t, l.Uncertain)
	for _, page := range []func([]byte) (string, bool){nil, func([]byte) (string, bool) { return "", false }} {
		l, err = shelllink.ParseIn(narrowLink(name), page)
		require.NoError(t, err)
		require.True(t, l.Uncertain)
		l.IDList = `C:\the list knows it`
		require.Equal(t, l.IDList, l.Target())
	}
	l, err = shelllink.Parse(narrowLink(`C:\plain.exe`))
	require.NoError(t, err)
	require.Equal(t, `C:\plain.exe`, l.Target())
	require.False(t, l.Uncertain)
}

func TestDamaged(t *testing.T) {
	_, err := shelllink.Parse([]byte("L\x00\x00\x00"))
	require.ErrorIs(t, err, shelllink.ErrNotLink)
	b := sample.Encode()
	for n := range b {
		l, err := shelllink.Parse(b[:n])
		require.True(t, l != nil || err != nil)
	}
}

func FuzzLink(f *testing.F) {
	f.Add(sample.Encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		if l, _ := shelllink.Parse(b); l != nil {
			l.Target()
			again, err := shelllink.Parse((&shelllink.Link{LocalPath: l.LocalPath}).Encode())
			require.NoError(t, err)
			require.Equal(t, len(again.LocalPath) == 0, len(l.LocalPath) == 0)
		}
	})
}
