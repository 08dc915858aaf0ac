package inifile_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/inifile"
)

func TestSections(t *testing.T) {
	text := "lost=1\r\n[Startup]\r\n0CmdLine = \"C:\\a b.cmd\" \r\n; 1CmdLine=x\r\n0Parameters=/q\r\n[Empty]\r\nno " +
		"key\r\n"
	wide := []byte{0xff, 0xfe}
	for _, c := range text {
		wide = append(wide, byte(c), 0)
	}
	for _, b := range [][]byte{[]byte(text), wide, append([]byte{0xef, 0xbb, 0xbf}, text...)} {
		s := inifile.Parse(b)
		require.Len(t, s, 2)
		require.Equal(t, `C:\a b.cmd`, s[0].Get("0cmdline"))
		require.Equal(t, inifile.Key{Name: "0Parameters", Value: "/q", Line: 5}, s[0].Keys[1])
		require.Empty(t, s[1].Keys)
	}
	require.Equal(t, "ü", inifile.Parse([]byte("[x]\na=\xfc"))[0].Get("a"))
}

func FuzzSections(f *testing.F) {
	f.Add([]byte("[a]\nb=c\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, s := range inifile.Parse(b) {
			for _, k := range s.Keys {
				require.Positive(t, k.Line)
			}
		}
	})
}
