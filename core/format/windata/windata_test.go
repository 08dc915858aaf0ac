package windata

import (
	"encoding/binary"
	"testing"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// What is no pair of surrogates is kept as it is; all else is as another decoder has it.
func FuzzText(f *testing.F) {
	f.Add([]byte("a\x00\xe4\x00\x3d\xd8\x00\xde\x00\x00rest"))
	f.Add([]byte{0x00, 0xd8, 0x41, 0x00, 0x00, 0xdc, 7})
	f.Fuzz(func(t *testing.T, b []byte) {
		text := Decode(b)
		require.Equal(t, b[:len(b)&^1], Encode(text))
		require.Equal(t, b[:len(b)&^1], Swap(Swap(b)))
		valid := Valid(text)
		require.Len(t, valid, len(text))
		require.True(t, utf8.ValidString(valid))
		units := make([]uint16, len(b)/2)
		for k := range units {
			units[k] = binary.LittleEndian.Uint16(b[2*k:])
		}
		require.Equal(t, string(utf16.Decode(units)), valid)
		require.NotContains(t, Text(b), "\x00")
	})
}

func TestTimes(t *testing.T) {
	// 1970 and a day of 2026, as the documents of FILETIME count them.
	require.Equal(t, uint64(116444736000000000), FileTime(time.Unix(0, 0)))
	day := time.Date(2026, 3, 14, 9, 26, 53, 589793200, time.UTC)
	require.Equal(t, day, Time(FileTime(day)))
	require.True(t, Time(0).IsZero())
	require.True(t, Time(1<<63).IsZero())
	require.Zero(t, FileTime(time.Time{}))
}
