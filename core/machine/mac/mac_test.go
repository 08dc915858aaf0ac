//go:build unix

package mac

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

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
	require.False(t, sameOverrides(on, map[string]any{"a": true, "c": false}, byFile),
		"its file says that it is disabled")
	require.True(t, sameOverrides(on, map[string]any{"a": true, "c": true}, byFile))
}

// A refusal of a running Mac names what stands behind it.
func TestProtection(t *testing.T) {
	t.Parallel()
	live, err := files.Open(t.TempDir(), true)
	require.NoError(t, err)
	defer live.Close()
	live.SetNaming(names{})
	disk, err := files.Open(t.TempDir(), false)
	require.NoError(t, err)
	defer disk.Close()
	disk.SetNaming(names{})
	refused := &fs.PathError{Op: "open", Path: "x", Err: syscall.EPERM}
	for name, want := range map[string]error{"/System/Library/x": ErrProtected, "/usr/bin/x": ErrProtected,
		"/usr/local/x": ErrFullAccess, "/Users/ines/Library/Safari/x": ErrFullAccess, backgroundItems +
			"/x": ErrProtected} {
		require.ErrorIs(t, live.Naming().Refusal(name, refused, true), want, name)
		require.ErrorIs(t, live.Explain(name, refused), ErrFullAccess, "it may be read with full access: %s", name)
	}
	denied := &fs.PathError{Op: "open", Path: "x", Err: syscall.EACCES}
	require.Equal(t, denied, live.Explain("/System/x", denied), "a matter of rights")
	require.Equal(t, refused, disk.Explain("/System/x", refused), "a mounted disk is protected by nobody")
	require.NoError(t, live.Explain("/System/x", nil))
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

// Which file is the database of which domain: of a running Mac alone.
func TestLaunchdDomains(t *testing.T) {
	t.Parallel()
	live, disk := &System{tools: systemTools{}}, &System{}
	for name, domain := range map[string]string{"disabled.plist": "system", "disabled.501.plist": "user/501",
		"disabled.x.plist": "", "other.plist": "", "disabled": ""} {
		got, _, ok := live.launchdDomain(artifact.File(launchdState + "/" + name))
		require.Equal(t, domain != "", ok, name)
		if ok {
			require.Equal(t, domain, got)
		}
		_, _, ok = disk.launchdDomain(artifact.File(launchdState + "/" + name))
		require.False(t, ok)
	}
	live.Users = []account.User{{Name: "ines"}}
	u, program, err := live.loginItem(LoginItemOf(live.Users[0], "/Applications/Tide: the app.app"))
	require.NoError(t, err)
	require.Equal(t, []string{"ines", "/Applications/Tide: the app.app"}, []string{u.Name, program})
}

// The id of the Mac is that in the names of the preferences which were written last.
func TestPlatformUUID(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	dir := filepath.Join(root, byHost)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	old, new := "1887C0DE-0314-4092-A653-5A17ABCDEF03", "0887C0DE-0314-4092-A653-5A17ABCDEF03"
	for id, written := range map[string]time.Time{old: time.Unix(1_700_000_000, 0), new: time.Unix(1_800_000_000, 0)} {
		name := filepath.Join(dir, "com.apple.loginwindow."+id+".plist")
		require.NoError(t, os.WriteFile(name, nil, 0o644))
		require.NoError(t, os.Chtimes(name, written, written))
	}
	f, err := files.Open(root, false)
	require.NoError(t, err)
	require.Equal(t, strings.ToLower(new), (&System{files: f}).platformUUID())
}
