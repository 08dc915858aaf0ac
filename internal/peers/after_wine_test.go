//go:build linux

package peers

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// On the running Windows of Wine: what is added really starts with the next start of the prefix, a shortcut is read by
// another reader, what is removed is gone from the registry and comes back as it was, and check knows of the restart
// and of what came back.
func TestAfterTheRestartUnderWine(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "lnkinfo")
	w := testkit.NewWine(t)
	require.NoError(t, os.MkdirAll(filepath.Join(w.Drive, "tide"), 0o755))
	w.Build(t, "./internal/peers/tideservice", "tide/svc.exe")
	const shell = `C:\windows\system32\cmd.exe`
	w.Lockback(t, "snapshot", "-m", "as found")
	before, user := w.Registry(t), filepath.Base(userFolder(t, w))
	w.Lockback(t, "add", "--name", "Tide run", "--at", "sign-in", "--yes", "--", shell, "/c", `echo run> C:\tide\run`)
	w.Lockback(t, "add", "--name", "Tide link", "--at", "sign-in", "--as", "shortcut", "--for", user, "--yes", "--",
		shell, "/c", `echo link> C:\tide\link`)
	w.Lockback(t, "add", "--name", "Tide service", "--at", "startup", "--as", "service", "--yes", "--",
		`C:\tide\svc.exe`)
	// Wine starts what lies in the Startup folder of the user who signs in, and skips everyone's.
	link := filepath.Join(w.Drive, "users", user, "AppData/Roaming/Microsoft/Windows/Start "+
		"Menu/Programs/StartUp/Tide link.lnk")
	info := testkit.Shell(t, "lnkinfo '"+link+"'")
	require.Contains(t, info, shell)
	require.Contains(t, info, `/c "echo link> C:\tide\link"`)

	type document struct {
		Restarts struct {
			Known bool
			Count int
		}
		Findings []struct{ Kind, Name, Change string }
		Trials   []struct{ Restarted *bool }
	}
	check := func(code int) (d document) {
		t.Helper()
		r := w.Run(t, "wine", `C:\lockback.exe`, "check", "--format", "json")
		require.Equal(t, code, r.Code, r.Out+r.Err)
		require.NoError(t, json.Unmarshal([]byte(r.Out), &d), r.Out)
		return d
	}
	d := check(0)
	require.True(t, d.Restarts.Known)
	require.Zero(t, d.Restarts.Count)
	require.Equal(t, false, *d.Trials[2].Restarted)
	time.Sleep(time.Second) // the record has whole seconds
	w.Settle(t)
	w.Restart(t)
	for _, mark := range []string{"run", "link", "started"} {
		require.Eventually(t, func() bool {
			_, err := os.Stat(filepath.Join(w.Drive, "tide", mark))
			return err == nil
		}, 3*time.Minute, 200*time.Millisecond, mark)
	}
	d = check(0)
	require.Equal(t, 1, d.Restarts.Count)
	require.Equal(t, true, *d.Trials[2].Restarted)

	// The service starts later; a task cannot be had for the other two where the scheduler does not register it.
	w.Lockback(t, "delay", "Tide service", "2m", "--yes")
	require.Contains(t, strings.Join(lines(w.Registry(t)), "\n"),
		`Services\tide-service] "DelayedAutostart"=dword:00000001`)
	w.Lockback(t, "undo", "--yes")

	w.Lockback(t, "disable", "Tide run", "Tide link", "Tide service", "--yes")
	off := w.Registry(t)
	w.Lockback(t, "remove", "Tide run", "Tide link", "Tide service", "--now", "-m", "to see", "--yes")
	gone := strings.Join(lines(w.Registry(t)), "\n")
	require.NotContains(t, gone, "Tide run")
	require.NotContains(t, gone, `Services\tide-service`)
	require.NoFileExists(t, link)
	w.Lockback(t, "undo", "--yes")
	require.Empty(t, testkit.Changed(off, w.Registry(t)))
	w.Lockback(t, "remove", "Tide run", "Tide link", "Tide service", "--now", "-m", "to see", "--yes")
	w.Lockback(t, "enable", "Tide run", "Tide link", "Tide service", "--yes")
	require.Equal(t, "enabled", w.List(t)["Tide service"].State)

	// Its program takes Windows' word away and is on again.
	w.Lockback(t, "disable", "Tide run", "--yes")
	w.OK(t, "wine", "reg", "delete", `HKLM\Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run`,
		"/v", "Tide run", "/f")
	d = check(3)
	require.Equal(t, "put-back", d.Findings[0].Kind)
	require.Equal(t, "Tide run", d.Findings[0].Name)

	w.Lockback(t, "restore", "S1", "--yes")
	require.Empty(t, testkit.Changed(before, w.Registry(t)))
	require.NoFileExists(t, link)
}

// lines are the keys and values of a registry.
func lines(registry map[string]string) []string {
	var all []string
	for name, value := range registry {
		all = append(all, name+value)
	}
	return all
}
