package identify

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine"
)

// Where a program was downloaded from stands in extended attributes of its bundle.
// A mounted disk shows them with a word before their names.
func TestOriginOfAProgram(t *testing.T) {
	root := t.TempDir()
	app := filepath.Join(root, "Applications/Tide.app")
	require.NoError(t, os.MkdirAll(filepath.Join(app, "Contents/MacOS"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "System/Library/CoreServices"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "System/Library/CoreServices/SystemVersion.plist"),
		[]byte("{}"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(app, "Contents/MacOS/Tide"), nil, 0o755))
	err := unix.Setxattr(app, "user.com.apple.quarantine", []byte("0083;65f2c1ad;Harbour Browser;5A17ABCD"), 0)
	if errors.Is(err, unix.ENOTSUP) {
		t.Skip("this file system has no extended attributes")
	}
	require.NoError(t, err)
	doc := plist.New([]any{"https://gullrock.example/tide.dmg", "", "https://gullrock.example/"})
	doc.Form = plist.Binary
	froms, err := doc.Bytes()
	require.NoError(t, err)
	require.NoError(t, unix.Setxattr(app, "user.com.apple.metadata:kMDItemWhereFroms", froms, 0))
	require.NoError(t, unix.Setxattr(filepath.Join(root, "Applications"), "user.com.apple.quarantine",
		[]byte("0;0;not the app's;"), 0))
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	require.Equal(t, []location.Fact{
		{Name: "downloaded from", Value: "https://gullrock.example/tide.dmg", Basis: "note on /Applications/Tide.app"},
		{Name: "downloaded from", Value: "https://gullrock.example/", Basis: "note on /Applications/Tide.app"},
		{Name: "downloaded by", Value: "Harbour Browser, 2024-03-14", Basis: "quarantine of /Applications/Tide.app"},
	}, origin(m.Reader(nil), "/Applications/Tide.app/Contents/MacOS/Tide"))
	require.Empty(t, origin(m.Reader(nil), "/none"))
	for _, odd := range []string{"", ";", "a;b", "0;zz;x", "0;ffffffffffffffff;x;y"} {
		require.NoError(t, unix.Setxattr(app, "user.com.apple.quarantine", []byte(odd), 0))
		origin(m.Reader(nil), "/Applications/Tide.app")
	}
}
