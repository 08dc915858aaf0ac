package gvdb

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// The database in testdata was made by dconf compile of version 0.40: lists, switches and other values.
func TestParse(t *testing.T) {
	content, err := os.ReadFile("testdata/museum.dconf")
	require.NoError(t, err)
	table, err := Parse(content)
	require.NoError(t, err)
	list, ok := table.Strings("/org/gnome/shell/enabled-extensions")
	require.True(t, ok)
	require.Equal(t, []string{"tide@gullrock.example", "lamp@gullrock.example", ""}, list)
	list, ok = table.Strings("/org/gnome/shell/disabled-extensions")
	require.True(t, ok)
	require.Empty(t, list)
	list, ok = table.Strings("/org/gullrock/long")
	require.True(t, ok)
	require.Len(t, list, 40, "whose offsets have two bytes each")
	on, ok := table.Bool("/org/gnome/shell/disable-user-extensions")
	require.Equal(t, []bool{true, true}, []bool{on, ok})
	on, ok = table.Bool("/org/gullrock/off")
	require.Equal(t, []bool{false, true}, []bool{on, ok})
	_, ok = table.Bool("/org/gullrock/long")
	require.False(t, ok, "another type")
	_, ok = table.Strings("/org/gullrock/none")
	require.False(t, ok)
	for n := range content {
		_, err := Parse(content[:n])
		require.Error(t, err, "cut at %d", n)
	}
}

func FuzzParse(f *testing.F) {
	content, err := os.ReadFile("testdata/museum.dconf")
	require.NoError(f, err)
	f.Add(content)
	f.Fuzz(func(t *testing.T, content []byte) {
		table, err := Parse(content)
		if err != nil {
			return
		}
		for path := range table.values {
			table.Strings(path)
			table.Bool(path)
		}
	})
}
