package macos

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/bookmark"
	"lockback/core/format/plist"
	"lockback/core/machine/account"
)

func TestPathsOfRecords(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"file:///Applications/Tide%20Table.app/": "/Applications/Tide Table.app",
		"/usr/local/bin/x":                       "/usr/local/bin/x", "file://localhost/x": "/x",
		"Contents/Library/x": "", "https://gullrock.example/x": "", "%zz": "", "": "", "file:///a/../b": "/b",
	} {
		require.Equal(t, want, fileOf(text), text)
	}
}

func TestWhoseRecords(t *testing.T) {
	t.Parallel()
	u := &account.User{Name: "ines", UID: 501, UUID: "AAAA"}
	b := background{same: func(name string) string { return name }, records: []record{
		{person: "BBBB", path: "/x", kind: typeAgent, name: "another's"}, {person: "AAAA", path: "/x", kind: typeAgent,
			name: "hers"},
		{person: "AAAA", path: "/x", kind: typeApp, name: "no job"}, {person: "", path: "/y", kind: typeDaemon,
			name: "nobody's"}, {person: "BBBB", path: "/z", kind: typeDaemon, name: "a daemon"},
	}, byPath: map[string][]int{"/x": {0, 1, 2}, "/y": {3}, "/z": {4}}}
	r, ok := b.forFile("/x", u)
	require.True(t, ok)
	require.Equal(t, "hers", r.name)
	_, ok = b.forFile("/x", &account.User{UID: 502, UUID: "CCCC"})
	require.False(t, ok)
	_, ok = b.forFile("/y", nil)
	require.False(t, ok)
	r, ok = b.forFile("/z", nil)
	require.True(t, ok, "a daemon runs for all, whoever allowed it")
	require.Equal(t, "a daemon", r.name)
	require.Equal(t, "FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE", idsOf(nil)[0])
	require.Equal(t, "FFFFEEEE-DDDD-CCCC-BBBB-AAAA000001F5", idsOf(u)[1])
}

// FuzzDatabases: the lists of background and login items, of every release.
func FuzzDatabases(f *testing.F) {
	add := func(root any) {
		doc := plist.New(root)
		doc.Form = plist.Binary
		b, err := doc.Bytes()
		require.NoError(f, err)
		f.Add(b)
	}
	place := bookmark.Encode(bookmark.Place{Path: "/Applications/Tide.app", VolumePath: "/"})
	add(map[string]any{"$archiver": "NSKeyedArchiver", "$top": map[string]any{"store": plist.UID(1)},
		"$objects": []any{"$null", map[string]any{"itemsByUserIdentifier": plist.UID(2)},
			map[string]any{"NS.keys": []any{"AAAA"},
				"NS.objects": []any{[]any{map[string]any{"name": "x", "type": uint64(2), "bookmark": place,
					"url": plist.UID(0)}}}}}})
	add(map[string]any{"$archiver": "NSKeyedArchiver", "$top": map[string]any{"backgroundItems": plist.UID(1)},
		"$objects": []any{"$null", map[string]any{"allContainers": []any{plist.UID(2), plist.UID(1)}},
			map[string]any{"internalItems": []any{map[string]any{"bookmark": place}}}}})
	f.Fuzz(func(t *testing.T, b []byte) {
		records, _, err := parseBackground(b, "x")
		for _, r := range records {
			if err != nil || strings.HasPrefix(r.path, "//") {
				t.Fatal("a record of a database that cannot be read")
			}
			_ = r.facts()
		}
		if archive, err := openArchive(b, "x"); err == nil {
			parseAgentDatabase(archive)
		}
	})
}
