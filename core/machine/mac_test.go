//go:build unix

package machine_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
)

// macDisk makes a Mac's disk of files.
func macDisk(t *testing.T, content map[string]any) string {
	t.Helper()
	root := t.TempDir()
	for name, content := range content {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		switch c := content.(type) {
		case string:
			require.NoError(t, os.WriteFile(file, []byte(c), 0o644))
		case link:
			require.NoError(t, os.Symlink(string(c), file))
		default:
			b, err := plist.New(c).Bytes()
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, b, 0o644))
		}
	}
	return root
}

type link string

const (
	systemVersion = "System/Library/CoreServices/SystemVersion.plist"
	accounts      = "private/var/db/dslocal/nodes/Default/users/"
)

func TestMacIdentity(t *testing.T) {
	t.Parallel()
	old, own := "0AAAAAAA-0000-4000-8000-000000000001", "1BBBBBBB-0000-4000-8000-000000000002"
	root := macDisk(t, map[string]any{
		systemVersion: map[string]any{"ProductName": "macOS", "ProductVersion": "13.6.1",
			"ProductBuildVersion": "22G313"},
		"Library/Preferences/SystemConfiguration/preferences.plist": map[string]any{"System": map[string]any{
			"System": map[string]any{"ComputerName": "The Mac", "HostName": "mac.gullrock.example"}}},
		accounts + "ines.plist": map[string]any{"name": []any{"ines", "Ines"}, "uid": []any{"501"},
			"gid": []any{"20"}, "home": []any{"/Users/ines"}, "generateduid": []any{"aaaa"}},
		accounts + "root.plist": map[string]any{"name": []any{"root"}, "uid": []any{"0"}, "home": []any{"/var/root"}},
		accounts + "_www.plist": map[string]any{"name": []any{"_www"}, "uid": []any{"70"}, "home": []any{"/x"}},
		accounts + "daemon.plist": map[string]any{"name": []any{"daemon"}, "uid": []any{"1"},
			"home": []any{"/var/root"}},
		accounts + "odd.plist":    map[string]any{"name": []any{"odd"}, "uid": []any{"many"}},
		accounts + "broken.plist": "nonsense",
		"Users/ines/Library/Preferences/ByHost/a." + old + ".plist": "", "Users/ines/Library/Preferences/ByHost/b." +
			own + ".plist": "", "Library/Preferences/ByHost/c.no-id.plist": "",
		"private/etc/x": "",
	})
	earlier := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(root, "Users/ines/Library/Preferences/ByHost/a."+old+".plist"), earlier,
		earlier))
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	require.Equal(t, []string{"macos", "macOS 13.6.1 (22G313)", "mac.gullrock.example",
		"1bbbbbbb-0000-4000-8000-000000000002"}, []string{m.OS, m.Version, m.Name, m.ID})
	require.Equal(t, mac.Release{13, 6}, m.Release())
	require.Equal(t, []account.User{{Name: "root", UID: 0, GID: 20, Home: "/private/var/root"}, {Name: "ines", UID: 501,
		GID: 20, Home: "/Users/ines", UUID: "AAAA"}}, m.Users)
	require.True(t, mac.Release{10, 9}.Before(mac.Release{10, 10}))
	require.False(t, mac.Release{}.Before(mac.Release{10, 10}), "what is not known is not taken for old")

	newer, err := machine.Open(macDisk(t, map[string]any{systemVersion: map[string]any{"ProductName": "macOS",
		"ProductVersion": "16.1"}}))
	require.NoError(t, err)
	defer newer.Close()
	require.Equal(t, "macOS 26.1", newer.Version, "what it tells programs made for older systems")
	require.Equal(t, mac.Release{26, 1}, newer.Release())

	// Its data volume alone; the homes tell who there is.
	root = macDisk(t, map[string]any{accounts + "x": "",
		"Library/Preferences/com.apple.SoftwareUpdate.plist": map[string]any{
			"LastAttemptSystemVersion": "14.2 (23C64)"},
		"Users/bram/x": "", "Users/Shared/x": "", "Users/.localized": ""})
	data, err := machine.Open(root)
	require.NoError(t, err)
	defer data.Close()
	require.Equal(t, "macOS 14.2 (23C64)", data.Version)
	require.Len(t, data.Users, 1)
	require.Equal(t, "/Users/bram", data.Users[0].Home)
}

// How a Mac names its files: links at the top, another case, accents in another
// form, other volumes.
func TestMacNames(t *testing.T) {
	t.Parallel()
	disk := map[string]any{systemVersion: map[string]any{}, "private/etc/hosts": "h",
		"Applications/Übersicht.app/x": "x", "Library/Case/File": "c", "Volumes/Macintosh HD": link("/"),
		"Volumes/Left/behind": "",
		"usr/bin/tide":        "", "usr/local/bin/fog": ""}
	m, err := machine.Open(macDisk(t, disk))
	require.NoError(t, err)
	defer m.Close()
	is := func(m *machine.Machine, name string) string {
		_, err := m.Stat(name)
		switch {
		case err == nil:
			return "there"
		case errors.Is(err, files.ErrOtherDrive):
			return "elsewhere"
		case files.IsMissing(err):
			return "missing"
		}
		return err.Error()
	}
	for name, want := range map[string]string{
		"/etc/hosts": "there", "/private/etc/hosts": "there", "/System/Volumes/Data/Library/Case/File": "there",
		"/library/CASE/file": "there", "/Library/Case/File2": "missing",
		"/Applications/U\u0308bersicht.app/x": "there", "/Applications/\u00fcbersicht.APP": "there",
		"/Volumes/Macintosh HD/Library/Case/File": "there", "/Volumes/Left/behind": "elsewhere",
		"/Volumes/Archive/x": "elsewhere", "/Network/x": "elsewhere", "/usr/bin/tide": "there",
		"/nowhere/at/all": "missing", "/Library/Case/File/below": "missing",
	} {
		require.Equal(t, want, is(m, name), name)
	}
	require.Equal(t, "/Library/Case/File", m.Canonical("/library/case/FILE"))
	require.Equal(t, "/private/etc/hosts", m.Canonical("/etc/hosts"))
	content, info, err := m.ReadFileInfo("/library/case/FILE", 10)
	require.NoError(t, err)
	require.Equal(t, "c", string(content))
	require.EqualValues(t, 1, info.Size())
	_, _, err = m.ReadFileInfo("/library/case/FILE", 0)
	require.ErrorIs(t, err, files.ErrTooLarge)

	delete(disk, systemVersion)
	disk[accounts+"x"] = ""
	data, err := machine.Open(macDisk(t, disk))
	require.NoError(t, err)
	defer data.Close()
	for name, want := range map[string]string{"/usr/bin/other": "elsewhere", "/System/Library/x": "elsewhere",
		"/bin/sh": "elsewhere", "/usr/local/bin/fog": "there", "/usr/local/bin/none": "missing", "/etc/hosts": "there",
		"/Library/none": "missing"} {
		require.Equal(t, want, is(data, name), name)
	}
}

// Who may write what, on the running Mac and on its disk.
func TestWhoWritesWhat(t *testing.T) {
	t.Parallel()
	root := macDisk(t, map[string]any{systemVersion: map[string]any{"ProductVersion": "14.0"}, accounts +
		"ines.plist": map[string]any{"name": []any{"ines"}, "uid": []any{"501"}, "home": []any{"/Users/ines"}}})
	disk, err := machine.Open(root)
	require.NoError(t, err)
	defer disk.Close()
	live, err := machine.OpenRunningMac(root, silent{})
	require.NoError(t, err)
	defer live.Close()
	ines, ok := live.UserNamed("ines")
	require.True(t, ok)
	item := mac.LoginItemOf(ines, "/Applications/Tide: the app.app")
	for _, row := range []struct {
		artifact   artifact.Artifact
		live, disk bool
	}{
		{artifact.File("/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm"), true, false},
		{artifact.File("/Users/ines/Library/Application " +
			"Support/com.apple.backgroundtaskmanagementagent/backgrounditems.btm"), true, false},
		{artifact.File("/private/var/db/com.apple.xpc.launchd/disabled.plist"), false, false},
		{artifact.File("/private/etc/rc.local"), false, false}, {item, false, true},
	} {
		require.Equal(t, []bool{row.live, row.disk}, []bool{live.Managed(row.artifact), disk.Managed(row.artifact)},
			row.artifact.Name)
	}
	_, err = disk.Image(item)
	require.ErrorIs(t, err, mac.ErrNoLoginItems)
	_, err = live.Image(item)
	require.Error(t, err, "nobody answers")
	require.ErrorIs(t, live.Writable(artifact.File("/System/Library/x"), artifact.Image{}, artifact.Image{}),
		mac.ErrProtected)
	require.Error(t, live.Writable(artifact.File("/private/var/db/com.apple.xpc.launchd"+"/disabled.plist"),
		artifact.Image{}, artifact.Image{}))
	parent, has := item.Parent()
	require.False(t, has, parent)
	again, err := artifact.ParseID(item.ID())
	require.NoError(t, err)
	require.Equal(t, item, again)
}

// silent are programs that do not answer.
type silent struct{}

func (silent) Run(string, ...string) ([]byte, error) { return nil, errors.New("no answer") }
