//go:build unix

package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/internal/testkit"
)

// ticketDesk builds the museum's Windows computer.
func ticketDesk(t testing.TB) testkit.Program {
	t.Helper()
	return museum(t, "ticket-desk-pc")
}

// museum builds one of the museum's computers.
func museum(t testing.TB, name string) testkit.Program { t.Helper(); return testkit.Museum(t, name) }

// settled makes the hive that a power cut left behind whole, so that what
// follows can be compared.
func settled(t testing.TB, p testkit.Program) testkit.Program {
	p.OK(t, "disable", "Fogbell Notes", "--yes")
	p.OK(t, "undo", "--yes")
	return p
}

// diskState is the whole disk as others see it: every key and value of every
// hive as hivexregedit reads them, and every other file, to its time.
func diskState(t testing.TB, root string) map[string]string {
	state := testkit.ExportAll(t, root)
	hives := map[string]bool{}
	for _, h := range testkit.Hives(t, root) {
		rel, _ := filepath.Rel(root, h)
		hives[rel] = true
	}
	for name, line := range testkit.Tree(t, root) {
		if !hives[name] && name != "." {
			state["file "+name] = line
		}
	}
	return state
}

func TestTicketDesk(t *testing.T) {
	t.Parallel()
	p := settled(t, ticketDesk(t))
	before := diskState(t, p.Root)
	require.Contains(t, p.OK(t, "disable", "Fogbell", "--dry-run"), "FogbellSynced stops too: its class is blocked")
	list, byName := p.List(t, "--all")
	for name, want := range map[string]testkit.Entry{
		"Fogbell Sync": {Location: "windows.run", State: "enabled",
			Target: target(`C:\Program Files\Fogbell\Fogbell Sync.exe`, true)},
		"Lampwick Label Helper": {Location: "windows.run", State: "disabled",
			Mode: "off in Windows' own startup settings", Target: target(`C:\Program Files\Lampwick\LabelHelper.exe`,
				true)},
		"Kelpline Updater": {Location: "windows.run", State: "enabled",
			Target: target(`C:\Program Files (x86)\Kelpline\updater.exe`, true)},
		"Backup to drive/odile": {Location: "windows.run", State: "enabled", Target: testkit.Entry{}.Target},
		// from the log of a hive that was not closed
		"Kelpline Assistant/tomas": {Location: "windows.run", State: "enabled",
			Target: target(`C:\Program Files (x86)\Kelpline\assistant.exe`, true)},
		"Oldplotter Monitor/erasmus": {Location: "windows.run", State: "enabled",
			Target: target(`C:\oldplotter\monitor.exe`, false), Problems: []string{"target-missing"}},
		"!Kelpline Setup": {Location: "windows.run-once", State: "enabled",
			Target: target(`C:\Program Files\Kelpline\setup.dll`, true)},
		"Gullrock Tickets": {Location: "windows.startup-folder", State: "enabled",
			Target: target(`C:\Program Files\Gullrock\tickets.exe`, true)},
		"Brinecast Überblick/odile": {Location: "windows.startup-folder", State: "enabled",
			Target: target(`C:\Program Files\Brinecast\Überblick.exe`, false), Problems: []string{"target-missing"}},
		"tuner.exe": {Location: "windows.winlogon", State: "enabled",
			Target: target(`C:\ProgramData\tuner\tuner.exe`, true), Problems: []string{"not-default"}},
		"taskmgr.exe": {Location: "windows.image-options", State: "enabled",
			Mode: "whenever it is started, instead of it", Target: target(`C:\ProgramData\tuner\tuner.exe`, true),
			Problems: []string{"not-default"}},
		"Lampwick label spool": {Location: "windows.services", State: "enabled",
			Mode: "manual, on a trigger", Target: target(`C:\Program Files\Lampwick\spool.dll`, true)},
		"Kelpline Update Service (kupdate)": {Location: "windows.services", State: "enabled",
			Mode: "automatic, delayed", Target: target(`C:\Program Files (x86)\Kelpline\service.exe`, true)},
		"Tidewatch tide gauge reader": {Location: "windows.services", State: "enabled", Mode: "automatic",
			Target: target(`C:\Program Files\Tidewatch\tidewatch.exe`, true)},
		`Kelpline\Update`: {Location: "windows.tasks", State: "enabled", Mode: "every day, again every 1 h",
			Target: target(`C:\Program Files (x86)\Kelpline\updater.exe`, true)},
		`Lampwick\Calibrate`: {Location: "windows.tasks", State: "disabled", Mode: "damaged: it does not run",
			Problems: []string{"unparsable"}},
		"hook.dll": {Location: "windows.app-init-dlls", State: "disabled", Mode: "LoadAppInit_DLLs is 0",
			Target: testkit.Entry{}.Target, Problems: []string{"not-default"}},
		"Kelpline Bar": {Location: "windows.explorer", State: "enabled",
			Target: target(`C:\Program Files (x86)\Kelpline\bar.dll`, true)},
		"org.gullrock.tickets": {Location: "windows.browser", State: "enabled", Mode: "native messaging host",
			Target: target(`C:\Program Files\Gullrock\tickets-host.exe`, true)},
		"Disk Driver": {Location: "windows.drivers", State: "enabled", Mode: "at the very start",
			Target: target(`C:\Windows\System32\drivers\disk.sys`, true), OSPart: true},
	} {
		got, ok := byName[name]
		require.True(t, ok, name)
		require.Equal(t, []any{want.Location, want.State, want.Mode, want.OSPart}, []any{got.Location, got.State,
			got.ModeOrTime(), got.OSPart}, name)
		if want.Target.Path != "" {
			require.Equal(t, want.Target, got.Target, name)
		} else if name != "hook.dll" && name != `Lampwick\Calibrate` { // another drive, a short name: it may be there
			require.Nil(t, got.Target.Exists, name)
		}
		for _, problem := range want.Problems {
			if name != "hook.dll" {
				require.Contains(t, got.Problems, problem, name)
			}
		}
	}
	require.Empty(t, list.Unread)

	p.OK(t, "snapshot")
	p.OK(t, "disable", "location=windows.*", "--all", "--guarded", "--yes")
	off := testkit.ExportAll(t, p.Root)
	software, odile := "Windows/System32/config/SOFTWARE: ", "Users/odile/NTUSER.DAT: "
	const approved = `Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\`
	for name, want := range map[string]string{ // as another program reads it
		software + approved + `Run\` + "\x00Brinecast":                      "3:03000000",
		software + approved + `Run32\` + "\x00Kelpline Updater":             "3:03000000",
		software + approved + `StartupFolder\` + "\x00Gullrock Tickets.lnk": "3:03000000",
		odile + `Software\` + approved + `Run\` + "\x00Tide Chart":          "3:03000000",
		software + `Microsoft\Windows NT\CurrentVersion\Winlogon\` +
			"\x00Shell": testkit.Digest(1, regf.TextData("explorer.exe")),
		software + `Microsoft\Office\Excel\Addins\Saltmarsh.Ledger\` + "\x00LoadBehavior":    "4:02000000",
		"Windows/System32/config/SYSTEM: " + `ControlSet001\Services\kupdate\` + "\x00Start": "4:04000000",
		"Windows/System32/config/SYSTEM: " + `ControlSet001\Control\Session Manager\` +
			"\x00BootExecute": testkit.Digest(7, regf.ListData([]string{"autocheck autochk *"})),
	} {
		require.True(t, strings.HasPrefix(off[name], want), "%q is %q", name, off[name])
	}
	for _, gone := range []string{software + `Microsoft\Windows\CurrentVersion\RunOnce\` + "\x00!Kelpline Setup",
		software + `Microsoft\NetSh\` + "\x00tide",
		software + `Microsoft\Windows\CurrentVersion\Explorer\ShellIconOverlayIdentifiers\ FogbellSynced\`} {
		require.NotContains(t, off, gone)
	}
	after, _ := p.List(t, "--all")
	require.Len(t, after.Entries, len(list.Entries), "what is off stays in the list")
	fixed := map[string]bool{} // a filter driver can be switched once no list names it
	for _, e := range list.Entries {
		fixed[e.Handle] = e.Switch == "report"
	}
	for _, e := range after.Entries {
		if e.Switch != "report" && !fixed[e.Handle] {
			require.Equal(t, "disabled", e.State, "%s %s", e.Location, e.Name)
		}
	}
	// What was taken away comes back by itself as well.
	p.OK(t, "enable", "!Kelpline Setup", "tuner.exe", "tide", "Fogbell", "FogbellSynced", "--yes")
	p.OK(t, "restore", "S"+fmt.Sprint(3), "--yes")
	require.Empty(t, testkit.Changed(before, diskState(t, p.Root)))
	p.OK(t, "compare", "S3")
}

func target(path string, exists bool) (t struct {
	Path   string
	Exists *bool
}) {
	t.Path, t.Exists = path, &exists
	return t
}

// TestTicketDeskKilledAtEveryStep kills the program at each point of changes to
// several hives and files, and the recovery too.
func TestTicketDeskKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	change := []string{"disable", "Gullrock Tickets", "Tide Chart", "kupdate", "Kelpline Update*", "tuner.exe",
		"FogbellSynced", "profile.ps1", "Fogbell", "--yes"}
	change = append(change[:3], change[4:]...)
	done := settled(t, ticketDesk(t))
	before := diskState(t, done.Root)
	done.OK(t, change...)
	after := diskState(t, done.Root)
	require.Greater(t, len(testkit.Changed(before, after)), 10)
	interrupted, hives := 0, map[string]bool{}
	for k, w := range wrecks(t, settled(t, ticketDesk(t)), 1, change...) {
		if !w.before {
			interrupted++
		}
		if strings.Contains(w.point, "hive") {
			hives[w.point] = true
		}
		t.Run(w.point, func(t *testing.T) {
			t.Parallel()
			wholeRecord(t, w.Program)
			switch {
			case w.before:
			case k%2 == 1:
				w.OK(t, "recover", "--finish", "--yes")
				now := diskState(t, w.Root)
				for _, name := range testkit.Changed(after, now) { // the times of the two runs differ
					if !strings.Contains(name, "StartupApproved") {
						require.Equal(t, times.ReplaceAllString(after[name], ""), times.ReplaceAllString(now[name], ""),
							name)
					}
				}
				w.OK(t, "undo", lastChange(t, w.Program), "--yes")
			default:
				crash(t, w.Program, 1+w.n%5, "recover", "--yes")
				w.OK(t, "recover", "--yes")
			}
			require.Empty(t, testkit.Changed(before, diskState(t, w.Root)))
		})
	}
	require.Greater(t, interrupted, 20)
	require.Len(t, hives, 6, "before and after each of three hives is written")
}

// TestWindowsRefusals: what must not be written is refused with the reason, and
// can be read all the same.
func TestWindowsRefusals(t *testing.T) {
	t.Parallel()
	entries := func(p testkit.Program) int {
		list, _ := p.List(t, "--all")
		return len(list.Entries)
	}
	t.Run("hibernated", func(t *testing.T) {
		p := settled(t, ticketDesk(t))
		whole := entries(p)
		require.NoError(t, os.WriteFile(filepath.Join(p.Root, "hiberfil.sys"), append([]byte("HIBR"),
			make([]byte, 4096)...), 0o644))
		before := diskState(t, p.Root)
		p.Fails(t, 1, "hibernated", "disable", "Fogbell Sync", "--yes")
		require.Empty(t, testkit.Changed(before, diskState(t, p.Root)))
		require.Equal(t, whole, entries(p))
		require.NoError(t, os.WriteFile(filepath.Join(p.Root, "hiberfil.sys"), make([]byte, 4096), 0o644)) // it woke up
		p.OK(t, "disable", "Fogbell Sync", "--yes")
	})
	t.Run("a log that cannot be applied", func(t *testing.T) {
		p := ticketDesk(t)
		log := filepath.Join(p.Root, "Users/tomas/ntuser.dat.LOG1")
		content, err := os.ReadFile(log)
		require.NoError(t, err)
		content[700] ^= 1
		require.NoError(t, os.WriteFile(log, content, 0o644))
		_, byName := p.List(t)
		require.Contains(t, byName, "Fogbell Notes/tomas")
		require.NotContains(t, byName, "Kelpline Assistant/tomas")
		p.Fails(t, 1, "was not closed cleanly", "disable", "Fogbell Notes", "--yes")
		p.OK(t, "disable", "Fogbell Sync", "--yes") // other hives are sound
		list, _ := p.List(t)
		require.Len(t, list.Unread, 1)
		require.Contains(t, list.Unread[0].Reason, "not closed cleanly")
	})
	t.Run("damaged hives", func(t *testing.T) {
		p := settled(t, ticketDesk(t))
		whole := entries(p)
		hive := filepath.Join(p.Root, "Windows/System32/config/SOFTWARE")
		content, err := os.ReadFile(hive)
		require.NoError(t, err)
		for at := 5000; at < len(content); at += 997 { // one bit here and there
			broken := bytes.Clone(content)
			broken[at] ^= 0x10
			require.NoError(t, os.WriteFile(hive, broken, 0o644))
			p.OK(t, "list", "--all")
		}
		require.NoError(t, os.WriteFile(hive, content[:len(content)/2], 0o644))
		p.OK(t, "list", "--all")
		p.Fails(t, 1, "", "snapshot")
		require.NoError(t, os.WriteFile(hive, content, 0o644))
		require.Equal(t, whole, entries(p))
	})
	t.Run("not a hive at all", func(t *testing.T) {
		p := settled(t, ticketDesk(t))
		require.NoError(t, os.WriteFile(filepath.Join(p.Root, "Users/odile/NTUSER.DAT"), []byte("nonsense"), 0o644))
		list, _ := p.List(t)
		require.NotEmpty(t, list.Unread)
		require.Contains(t, fmt.Sprint(list.Unread), "not a registry hive")
	})
	t.Run("another name for the same file", func(t *testing.T) {
		p := settled(t, ticketDesk(t))
		system := filepath.Join(p.Root, "Windows/System32")
		require.NoError(t, os.Rename(system, filepath.Join(p.Root, "Windows/SYSTEM32")))
		require.NoError(t, os.Rename(filepath.Join(p.Root, "Windows"), filepath.Join(p.Root, "WINDOWS")))
		_, byName := p.List(t, "--all")
		require.True(t, *byName["Saltmarsh licence key"].Target.Exists)
		require.Equal(t, `C:\WINDOWS\SYSTEM32\drivers\saltkey.sys`, byName["Saltmarsh licence key"].Target.Path)
		p.OK(t, "disable", "Fogbell Sync", "--yes")
	})
}

// A disk that is worked on while another hand changes it.
func TestWindowsConflict(t *testing.T) {
	t.Parallel()
	p := settled(t, ticketDesk(t))
	code, errs := in(p, func(point string) {
		if point == "before the journal" {
			hive := filepath.Join(p.Root, "Windows/System32/config/SYSTEM")
			content, err := os.ReadFile(hive)
			require.NoError(t, err)
			h, err := regf.Open(bytes.NewReader(content), int64(len(content)))
			require.NoError(t, err)
			k, err := h.Key(`ControlSet001\Services\kupdate`)
			require.NoError(t, err)
			require.NoError(t, h.SetValue(k, regf.NewNumber("Start", 3)))
			h.Seal(time.Now())
			var b bytes.Buffer
			_, err = h.WriteTo(&b)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(hive, b.Bytes(), 0o644))
		}
	}, "disable", "Kelpline Update Service (kupdate)", "--yes")
	require.Equal(t, 5, code, errs)
}

// A subscription of the management service shows what its consumer runs, and is found by it. Its maker is not known,
// whatever of the system's the command begins with: the store's form is not documented.
func TestWhatAConsumerRuns(t *testing.T) {
	t.Parallel()
	p := ticketDesk(t)
	list, _ := p.List(t, "castersvc.exe", "location=windows.wmi")
	require.Len(t, list.Entries, 1)
	require.Contains(t, list.Entries[0].Command, `"C:\Program Files\Brinecast\castersvc.exe" /radio`)
	name := filepath.Join(p.Root, "Windows/System32/wbem/Repository/OBJECTS.DATA")
	store, err := os.ReadFile(name)
	require.NoError(t, err)
	old, with := `"C:\Program Files\Brinecast\castersvc.exe" /radio`, `C:\Windows\System32\cmd.exe /c C:\tide.exe      `
	with += strings.Repeat(" ", len(old)-len(with))
	require.Contains(t, string(store), old)
	require.NoError(t, os.WriteFile(name, []byte(strings.ReplaceAll(string(store), old, with)), 0o644))
	list, _ = p.List(t, "--all", "location=windows.wmi")
	e := list.Entries[0]
	require.Contains(t, e.Command, `cmd.exe /c C:\tide.exe`)
	require.Empty(t, e.Maker.Name)
	require.False(t, e.OSPart)
	require.Equal(t, `C:\tide.exe`, e.Target.Path)
}
