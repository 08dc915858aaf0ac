//go:build unix

package machine

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
)

// macDisk makes a Mac's disk of files.
func macDisk(t *testing.T, files map[string]any) string {
	t.Helper()
	root := t.TempDir()
	for name, content := range files {
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
		systemVersion: map[string]any{"ProductName": "macOS", "ProductVersion": "13.6.1", "ProductBuildVersion": "22G313"},
		"Library/Preferences/SystemConfiguration/preferences.plist": map[string]any{"System": map[string]any{"System": map[string]any{"ComputerName": "The Mac", "HostName": "mac.gullrock.example"}}},
		accounts + "ines.plist":   map[string]any{"name": []any{"ines", "Ines"}, "uid": []any{"501"}, "gid": []any{"20"}, "home": []any{"/Users/ines"}, "generateduid": []any{"aaaa"}},
		accounts + "root.plist":   map[string]any{"name": []any{"root"}, "uid": []any{"0"}, "home": []any{"/var/root"}},
		accounts + "_www.plist":   map[string]any{"name": []any{"_www"}, "uid": []any{"70"}, "home": []any{"/x"}},
		accounts + "daemon.plist": map[string]any{"name": []any{"daemon"}, "uid": []any{"1"}, "home": []any{"/var/root"}},
		accounts + "odd.plist":    map[string]any{"name": []any{"odd"}, "uid": []any{"many"}},
		accounts + "broken.plist": "nonsense",
		"Users/ines/Library/Preferences/ByHost/a." + old + ".plist": "", "Users/ines/Library/Preferences/ByHost/b." + own + ".plist": "", "Library/Preferences/ByHost/c.no-id.plist": "",
		"private/etc/x": "",
	})
	earlier := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(root, "Users/ines/Library/Preferences/ByHost/a."+old+".plist"), earlier, earlier))
	m, err := Open(root)
	require.NoError(t, err)
	defer m.Close()
	require.Equal(t, []string{"macos", "macOS 13.6.1 (22G313)", "mac.gullrock.example", "1bbbbbbb-0000-4000-8000-000000000002"}, []string{m.OS, m.Version, m.Name, m.ID})
	require.Equal(t, Release{13, 6}, m.Release())
	require.Equal(t, []User{{Name: "root", UID: 0, GID: 20, Home: "/private/var/root"}, {Name: "ines", UID: 501, GID: 20, Home: "/Users/ines", UUID: "AAAA"}}, m.Users)
	require.True(t, Release{10, 9}.Before(Release{10, 10}))
	require.False(t, Release{}.Before(Release{10, 10}), "what is not known is not taken for old")

	newer, err := Open(macDisk(t, map[string]any{systemVersion: map[string]any{"ProductName": "macOS", "ProductVersion": "16.1"}}))
	require.NoError(t, err)
	defer newer.Close()
	require.Equal(t, "macOS 26.1", newer.Version, "what it tells programs made for older systems")
	require.Equal(t, Release{26, 1}, newer.Release())

	// Its data volume alone; the homes tell who there is.
	root = macDisk(t, map[string]any{accounts + "x": "", "Library/Preferences/com.apple.SoftwareUpdate.plist": map[string]any{"LastAttemptSystemVersion": "14.2 (23C64)"},
		"Users/bram/x": "", "Users/Shared/x": "", "Users/.localized": ""})
	data, err := Open(root)
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
	files := map[string]any{systemVersion: map[string]any{}, "private/etc/hosts": "h", "Applications/Übersicht.app/x": "x", "Library/Case/File": "c", "Volumes/Macintosh HD": link("/"), "Volumes/Left/behind": "",
		"usr/bin/tide": "", "usr/local/bin/fog": ""}
	m, err := Open(macDisk(t, files))
	require.NoError(t, err)
	defer m.Close()
	is := func(m *Machine, name string) string {
		_, err := m.Stat(name)
		switch {
		case err == nil:
			return "there"
		case errors.Is(err, ErrOtherDrive):
			return "elsewhere"
		case IsMissing(err):
			return "missing"
		}
		return err.Error()
	}
	for name, want := range map[string]string{
		"/etc/hosts": "there", "/private/etc/hosts": "there", "/System/Volumes/Data/Library/Case/File": "there", "/library/CASE/file": "there", "/Library/Case/File2": "missing",
		"/Applications/U\u0308bersicht.app/x": "there", "/Applications/\u00fcbersicht.APP": "there", "/Volumes/Macintosh HD/Library/Case/File": "there", "/Volumes/Left/behind": "elsewhere",
		"/Volumes/Archive/x": "elsewhere", "/Network/x": "elsewhere", "/usr/bin/tide": "there", "/nowhere/at/all": "missing", "/Library/Case/File/below": "missing",
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
	require.ErrorIs(t, err, ErrTooLarge)

	delete(files, systemVersion)
	files[accounts+"x"] = ""
	data, err := Open(macDisk(t, files))
	require.NoError(t, err)
	defer data.Close()
	for name, want := range map[string]string{"/usr/bin/other": "elsewhere", "/System/Library/x": "elsewhere", "/bin/sh": "elsewhere", "/usr/local/bin/fog": "there", "/usr/local/bin/none": "missing", "/etc/hosts": "there", "/Library/none": "missing"} {
		require.Equal(t, want, is(data, name), name)
	}
}

// One table of paths is read directly and folder by folder, and both agree.
func TestDirectAgrees(t *testing.T) {
	t.Parallel()
	root := macDisk(t, map[string]any{systemVersion: map[string]any{}, "a/b/c/file": "content", "a/link": link("b"), "a/out": link("../../../../../../etc"), "a/loop": link("loop"), "a/b/abs": link("/a/b/c/file"), "a/b/dangling": link("nowhere"),
		"many/1": "", "many/2": "", "many/3": "", "many/4": "", "many/5": "", "many/6": "", "many/7": "", "many/8": "", "many/9": "nine", "many/link": link("9")})
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "a/pipe"), 0o644))
	type seen struct {
		content, stat, list string
	}
	look := func(m *Machine, name string) (s seen) {
		word := func(err error) string {
			switch {
			case err == nil:
				return ""
			case IsMissing(err):
				return "missing"
			case errors.Is(err, ErrNotRegular):
				return "not regular"
			}
			return "error"
		}
		b, err := m.ReadFile(name, 100)
		s.content = string(b) + word(err)
		info, err := m.Stat(name)
		if s.stat = word(err); err == nil {
			s.stat = info.Mode().String() + strings.Trim(info.Name(), "./") + info.ModTime().UTC().String()
		}
		entries, err := m.ReadDir(name)
		s.list = word(err)
		for _, e := range entries {
			s.list += " " + e.Name() + e.Type().String()
		}
		return s
	}
	results := map[bool]map[string]seen{}
	for _, slow := range []bool{true, false} {
		withoutDirect(slow, func() {
			m, err := Open(root)
			require.NoError(t, err)
			defer m.Close()
			_, err = m.ReadDir("/many") // it is kept open from here on
			require.NoError(t, err)
			results[slow] = map[string]seen{}
			for _, name := range []string{"/", "/a/b/c/file", "/a/b/c", "/a/link/c/file", "/a/link", "/a/out/passwd", "/a/loop", "/a/b/abs", "/a/b/dangling", "/a/pipe", "/none", "/a/none/x", "/a/b/c/file/x", "/A/B/C/FILE", "/a/../a/b", "/many/9", "/many/link", "/many/none", "/many", "relative"} {
				results[slow][name] = look(m, name)
			}
		})
	}
	require.Equal(t, results[true], results[false])
	require.Equal(t, "content", results[false]["/a/b/abs"].content)
	require.Equal(t, "missing", results[false]["/a/out/passwd"].content)
	require.Equal(t, "not regular", results[false]["/a/pipe"].content)
}

func TestDisabledServices(t *testing.T) {
	t.Parallel()
	require.Equal(t, map[string]any{"a.b": true, "with \"quotes\" => x": false, "new": true, "on": false, "bare": true}, parseDisabled(`
	disabled services = {
		"a.b" => true
		"with "quotes" => x" => false
		"new" => disabled
		"on" => enabled
		bare => disabled
		"odd" => perhaps
		garbage
	}
	login item associations = {
		"other" => disabled
	}
`))
	require.Empty(t, parseDisabled(""))
	on := map[string]any{"a": true, "b": false}
	require.True(t, sameOverrides(on, map[string]any{"a": true, "c": false}, nil))
	require.False(t, sameOverrides(on, map[string]any{"a": true, "b": true}, nil))
	require.False(t, sameOverrides(on, nil, nil))
	byFile := map[string]bool{"c": true}
	require.False(t, sameOverrides(on, map[string]any{"a": true, "c": false}, byFile), "its file says that it is disabled")
	require.True(t, sameOverrides(on, map[string]any{"a": true, "c": true}, byFile))
}

// A refusal of a running Mac names what stands behind it.
func TestProtection(t *testing.T) {
	t.Parallel()
	live := &Files{names: macNames{}, live: true}
	refused := &fs.PathError{Op: "open", Path: "x", Err: syscall.EPERM}
	for name, want := range map[string]error{"/System/Library/x": ErrProtected, "/usr/bin/x": ErrProtected, "/usr/local/x": ErrFullAccess, "/Users/ines/Library/Safari/x": ErrFullAccess, backgroundItems + "/x": ErrProtected} {
		require.ErrorIs(t, live.refused(name, refused), want, name)
		require.ErrorIs(t, live.protection(name, refused), ErrFullAccess, "it may be read with full access: %s", name)
	}
	denied := &fs.PathError{Op: "open", Path: "x", Err: syscall.EACCES}
	require.Equal(t, denied, live.protection("/System/x", denied), "a matter of rights")
	require.Equal(t, refused, (&Files{names: macNames{}}).protection("/System/x", refused), "a mounted disk is protected by nobody")
	require.NoError(t, live.protection("/System/x", nil))
}

// The system's own programs: what they print, what they say when they fail.
func TestSystemTools(t *testing.T) {
	t.Parallel()
	tools := systemTools{time.Minute}
	out, err := tools.Run("/bin/sh", "-c", "echo out; echo said >&2")
	require.NoError(t, err)
	require.Equal(t, "out\n", string(out))
	_, err = tools.Run("/bin/sh", "-c", "echo Could not find >&2; echo service >&2; exit 3")
	require.EqualError(t, err, "sh: Could not find service")
	_, err = tools.Run("/nonexistent/launchctl")
	require.Error(t, err)
	// One that hangs is left, with what it started.
	began := time.Now()
	_, err = systemTools{100 * time.Millisecond}.Run("/bin/sh", "-c", "sleep 60 & wait")
	require.ErrorContains(t, err, "did not answer within 100ms")
	require.Less(t, time.Since(began), 30*time.Second)
}

// Who may write what, on the running Mac and on its disk.
func TestWhoWritesWhat(t *testing.T) {
	t.Parallel()
	root := macDisk(t, map[string]any{systemVersion: map[string]any{"ProductVersion": "14.0"}, accounts + "ines.plist": map[string]any{"name": []any{"ines"}, "uid": []any{"501"}, "home": []any{"/Users/ines"}}})
	disk, err := Open(root)
	require.NoError(t, err)
	defer disk.Close()
	live, err := OpenRunningMac(root, silent{})
	require.NoError(t, err)
	defer live.Close()
	ines, ok := live.UserNamed("ines")
	require.True(t, ok)
	item := LoginItemOf(ines, "/Applications/Tide: the app.app")
	for _, row := range []struct {
		artifact   Artifact
		live, disk bool
	}{
		{File("/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm"), true, false},
		{File("/Users/ines/Library/Application Support/com.apple.backgroundtaskmanagementagent/backgrounditems.btm"), true, false},
		{File("/private/var/db/com.apple.xpc.launchd/disabled.plist"), false, false}, {File("/private/etc/rc.local"), false, false}, {item, false, true},
	} {
		require.Equal(t, []bool{row.live, row.disk}, []bool{live.Managed(row.artifact), disk.Managed(row.artifact)}, row.artifact.Name)
	}
	for name, domain := range map[string]string{"disabled.plist": "system", "disabled.501.plist": "user/501", "disabled.x.plist": "", "other.plist": "", "disabled": ""} {
		got, _, ok := live.launchdDomain(File(launchdState + "/" + name))
		require.Equal(t, domain != "", ok, name)
		if ok {
			require.Equal(t, domain, got)
		}
		_, _, ok = disk.launchdDomain(File(launchdState + "/" + name))
		require.False(t, ok)
	}
	u, program, err := live.loginItem(item)
	require.NoError(t, err)
	require.Equal(t, []string{"ines", "/Applications/Tide: the app.app"}, []string{u.Name, program})
	_, err = disk.Image(item)
	require.ErrorIs(t, err, ErrNoLoginItems)
	_, err = live.Image(item)
	require.Error(t, err, "nobody answers")
	require.ErrorIs(t, live.Writable(File("/System/Library/x"), Image{}, Image{}), ErrProtected)
	require.Error(t, live.Writable(File(launchdState+"/disabled.plist"), Image{}, Image{}))
	parent, has := item.Parent()
	require.False(t, has, parent)
	again, err := ParseID(item.ID())
	require.NoError(t, err)
	require.Equal(t, item, again)
}

// silent are programs that do not answer.
type silent struct{}

func (silent) Run(string, ...string) ([]byte, error) { return nil, errors.New("no answer") }
