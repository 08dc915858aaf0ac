package evtx_test

import (
	"bytes"
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/evtx"
	"lockback/internal/demo"
)

var written = time.Date(2026, 3, 12, 8, 5, 0, 0, time.UTC)

func sample() []byte {
	return demo.EventLog("Gullrock-Performance",
		demo.LoggedEvent{ID: 100, Time: written, Data: []demo.Datum{{Name: "BootTime", Value: uint32(48_200)},
			{Name: "Name", Value: "Überblick & Söhne"}}},
		demo.LoggedEvent{ID: 65535, Time: written.Add(time.Minute)})
}

func read(t *testing.T, b []byte) (all []evtx.Event) {
	t.Helper()
	require.NoError(t, evtx.Read(bytes.NewReader(b), int64(len(b)), func(e evtx.Event) { all = append(all, e) }))
	return all
}

func TestRead(t *testing.T) {
	want := []evtx.Event{
		{Time: written, Provider: "Gullrock-Performance", ID: 100, Data: map[string]string{"BootTime": "48200",
			"Name": "Überblick & Söhne"}},
		{Time: written.Add(time.Minute), Provider: "Gullrock-Performance", ID: 65535, Data: map[string]string{}},
	}
	require.Equal(t, want, read(t, sample()))
	// What is damaged in one record leaves the others; what is no log says so.
	b := sample()
	at := bytes.Index(b, []byte("\x0f\x01\x01\x00"))
	b[at] = 0x7f
	require.Equal(t, want[1:], read(t, b))
	require.Empty(t, read(t, sample()[:4096]))
	for _, b := range [][]byte{nil, []byte("ElfFile"), make([]byte, 4096)} {
		require.ErrorIs(t, evtx.Read(bytes.NewReader(b), int64(len(b)), nil), evtx.ErrFormat)
	}
}

// TestEveryByte changes each byte of a log: whatever it is then, reading it ends.
func TestEveryByte(t *testing.T) {
	b := sample()
	end := bytes.LastIndexFunc(b, func(r rune) bool { return r != 0 })
	for k := range end {
		for _, flip := range []byte{0x01, 0x40, 0xff} {
			b[k] ^= flip
			evtx.Read(bytes.NewReader(b), int64(len(b)), func(evtx.Event) {})
			b[k] ^= flip
		}
	}
}

// A record that goes on behind its chunk is none, whatever stands in it.
func TestRecordsEndInTheirChunk(t *testing.T) {
	b := sample()
	chunk := b[4096:]
	for k := 512 + 24; k+4 <= len(chunk); k += 4 {
		copy(chunk[k:], "\x0f\x01\x01\x00") // one beginning after another, and no end
	}
	for _, size := range []uint32{uint32(len(chunk)) - 512, uint32(len(chunk)), 1 << 31} {
		binary.LittleEndian.PutUint32(chunk[512+4:], size)
		binary.LittleEndian.PutUint32(chunk[48:], 1<<20) // where the records end, as the head says
		require.Empty(t, read(t, b))
	}
}

func FuzzRead(f *testing.F) {
	f.Add(sample())
	f.Fuzz(func(t *testing.T, b []byte) {
		evtx.Read(bytes.NewReader(b), int64(len(b)), func(e evtx.Event) { require.NotNil(t, e.Data) })
	})
}
