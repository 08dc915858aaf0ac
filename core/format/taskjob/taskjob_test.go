package taskjob_test

import (
	"encoding/binary"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"lockback/core/format/taskjob"
)

// job writes a job by the tables of MS-TSCH 2.4.
func job(flags uint32, texts ...string) []byte {
	b := make([]byte, 70)
	binary.LittleEndian.PutUint16(b, 0x0400)
	binary.LittleEndian.PutUint16(b[2:], 1)
	binary.LittleEndian.PutUint16(b[20:], 70)
	binary.LittleEndian.PutUint32(b[48:], flags)
	for k, v := range []uint16{2026, 3, 6, 14, 9, 26, 53, 0} {
		binary.LittleEndian.PutUint16(b[52+2*k:], v)
	}
	for _, text := range texts {
		units := append(utf16.Encode([]rune(text)), 0)
		b = binary.LittleEndian.AppendUint16(b, uint16(len(units)))
		for _, u := range units {
			b = binary.LittleEndian.AppendUint16(b, u)
		}
	}
	binary.LittleEndian.PutUint16(b[22:], uint16(len(b)))
	return append(b, 2, 0)
}

func TestJob(t *testing.T) {
	b := job(0, `C:\Kelpline\updater.exe`, "/q", `C:\Kelpline`, "odile", "keeps it fresh")
	j, err := taskjob.Parse(b)
	require.NoError(t, err)
	require.Equal(t, `C:\Kelpline\updater.exe`, j.Program)
	require.Equal(t, "/q", j.Arguments)
	require.Equal(t, "keeps it fresh", j.Comment)
	require.Equal(t, 2, j.Triggers)
	require.Equal(t, 2026, j.LastRun.Year())
	require.False(t, j.Disabled)
	off, err := taskjob.Parse(job(4, "a", "", "", "", ""))
	require.NoError(t, err)
	require.True(t, off.Disabled)
	for n := range b[:len(b)-2] {
		_, err := taskjob.Parse(b[:n])
		require.ErrorIs(t, err, taskjob.ErrNotJob)
	}
}

func FuzzJob(f *testing.F) {
	f.Add(job(4, "a", "b", "c", "d", "e"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if j, err := taskjob.Parse(b); err == nil {
			require.LessOrEqual(t, len(j.Program), 4*len(b))
		}
	})
}
