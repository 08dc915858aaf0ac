package taskcache_test

import (
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/taskcache"
	"lockback/core/format/windata"
)

func text(s string) []byte {
	b := windata.Encode(s)
	return append(binary.LittleEndian.AppendUint32(nil, uint32(len(b))), b...)
}

func join(parts ...[]byte) (all []byte) {
	for _, p := range parts {
		all = append(all, p...)
	}
	return all
}

func TestActions(t *testing.T) {
	clsid := []byte{0x67, 0x45, 0x23, 0x01, 0xab, 0x89, 0xef, 0xcd, 1, 2, 3, 4, 5, 6, 7, 8}
	whole := join([]byte{3, 0}, text("Author"), []byte{0x66, 0x66}, text(""), text(`C:\Tide\tide.exe`), text("/q"),
		text(`C:\Tide`), []byte{0, 0},
		[]byte{0x77, 0x77}, text("second"), clsid, text("data"), []byte{0x99, 0x99}, text(""), text("Hello"))
	want := []taskcache.Action{{Command: `C:\Tide\tide.exe`, Arguments: "/q", Directory: `C:\Tide`},
		{ClassID: "{01234567-89AB-CDEF-0102-030405060708}", Data: "data"}, {Other: "ShowMessage"}}
	got, err := taskcache.Actions(whole)
	require.NoError(t, err)
	require.Equal(t, want, got)
	complete := 0 // between two actions nothing is missing
	for cut := range whole {
		got, err := taskcache.Actions(whole[:cut])
		require.Subset(t, want, got)
		if err == nil && len(got) < len(want) {
			complete++
		}
	}
	require.Equal(t, 3, complete)
	got, err = taskcache.Actions(join([]byte{1, 0}, []byte{0x66, 0x66}, text(""), text("a"), text(""), text("")))
	require.NoError(t, err)
	require.Equal(t, []taskcache.Action{{Command: "a"}}, got)
	_, err = taskcache.Actions([]byte{9, 0})
	require.ErrorIs(t, err, taskcache.ErrForm)
}

// The times stand behind the version, and a task that never ran has none.
func TestLastStart(t *testing.T) {
	at := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	b := make([]byte, 36)
	b[0] = 3
	require.True(t, taskcache.LastStart(b).IsZero())
	binary.LittleEndian.PutUint64(b[4:], windata.FileTime(at.Add(-time.Hour)))
	binary.LittleEndian.PutUint64(b[12:], windata.FileTime(at))
	require.Equal(t, at, taskcache.LastStart(b).UTC())
	require.Equal(t, at, taskcache.LastStart(b[:28]).UTC(), "Windows 7's")
	require.True(t, taskcache.LastStart(b[:27]).IsZero())
	b[0] = 4
	require.True(t, taskcache.LastStart(b).IsZero())
}

func FuzzActions(f *testing.F) {
	f.Add(join([]byte{3, 0}, text("Author"), []byte{0x66, 0x66}, text(""), text("a"), text("b"), text("c"),
		[]byte{0, 0}))
	f.Fuzz(func(t *testing.T, b []byte) {
		all, _ := taskcache.Actions(b)
		require.LessOrEqual(t, len(all), 32)
	})
}
