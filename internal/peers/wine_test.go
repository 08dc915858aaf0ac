//go:build unix

package peers

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/format/shelllink"
	"lockback/internal/testkit"
)

// wineEntries is what gets added to a fresh prefix, as its own reg imports it.
const wineEntries = `Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\Run]
"Fogbell Sync"="C:\\fogbell\\sync.exe --tray"

[HKEY_LOCAL_MACHINE\Software\Wow6432Node\Microsoft\Windows\CurrentVersion\Run]
"Kelpline Updater"="\"C:\\kelpline\\updater.exe\" /q"

[HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Run]
"Tide Chart"="C:\\tide\\chart.exe"
"Größe 灯台"="C:\\tide\\size.exe"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\RunOnce]
"Kelpline Setup"="rundll32.exe C:\\kelpline\\setup.dll,Finish"

[HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Policies\Explorer\Run]
"Tuner"="C:\\tuner\\tuner.exe"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows NT\CurrentVersion\Winlogon]
"Shell"="explorer.exe, C:\\tuner\\shell.exe"
"Userinit"="C:\\windows\\system32\\userinit.exe,C:\\tuner\\init.exe,"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows NT\CurrentVersion\Windows]
"AppInit_DLLs"="C:\\tuner\\hook.dll C:\\tuner\\second.dll"
"LoadAppInit_DLLs"=dword:00000001

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows NT\CurrentVersion\Image File Execution Options\taskmgr.exe]
"Debugger"="C:\\tuner\\task.exe"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Active Setup\Installed Components\{5A17ABCD-1887-4001-8314-000000000001}]
@="Saltmarsh first start"
"StubPath"="C:\\saltmarsh\\first.exe"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\Explorer\Browser Helper Objects\{5A17ABCD-1887-4003-8314-000000000003}]
@="Kelpline Bar"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\Explorer\ShellIconOverlayIdentifiers\Fogbell Synced]
@="{5A17ABCD-1887-4002-8314-000000000002}"

[HKEY_LOCAL_MACHINE\Software\Classes\CLSID\{5A17ABCD-1887-4002-8314-000000000002}\InprocServer32]
@="C:\\fogbell\\shell.dll"

[HKEY_LOCAL_MACHINE\Software\Classes\Directory\shellex\ContextMenuHandlers\Fogbell Menu]
@="{5A17ABCD-1887-4002-8314-000000000002}"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Command Processor]
"AutoRun"="C:\\tuner\\auto.cmd"

[HKEY_LOCAL_MACHINE\Software\Microsoft\NetSh]
"tide"="C:\\tide\\nettide.dll"

[HKEY_LOCAL_MACHINE\System\CurrentControlSet\Control\Print\Monitors\Lampwick Port]
"Driver"="lampmon.dll"

[HKEY_LOCAL_MACHINE\System\CurrentControlSet\Control\Session Manager]
"BootExecute"=hex(7):61,00,75,00,74,00,6f,00,63,00,68,00,65,00,63,00,6b,00,20,00,61,00,75,00,74,00,6f,00,63,00,68,00,6b,00,20,00,2a,00,00,00,74,00,75,00,6e,00,65,00,72,00,62,00,6f,00,6f,00,74,00,00,00,00,00

[HKEY_LOCAL_MACHINE\System\CurrentControlSet\Control\Session Manager\Environment]
"COR_PROFILER_PATH"="C:\\tuner\\profile.dll"
"COR_ENABLE_PROFILING"="1"

[HKEY_CURRENT_USER\Environment]
"UserInitMprLogonScript"="C:\\tuner\\logon.cmd"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-9-9-9-1002]
"ProfileImagePath"="C:\\users\\bram"

[HKEY_LOCAL_MACHINE\Software\Microsoft\Office\Excel\Addins\Saltmarsh.Ledger]
"LoadBehavior"=dword:00000003
"FriendlyName"="Saltmarsh Ledger"
`

// wineNames are the entries that the file above makes, and those of files, a
// service and a task, by location.
var wineNames = map[string][]string{
	"windows.run":      {"Fogbell Sync", "Kelpline Updater", "Tide Chart", "Größe 灯台", "Bram's Notes"},
	"windows.run-once": {"Kelpline Setup"}, "windows.run-policy": {"Tuner"},
	"windows.winlogon": {"shell.exe", "init.exe"}, "windows.app-init-dlls": {"hook.dll", "second.dll"},
	"windows.image-options": {"taskmgr.exe"},
	"windows.active-setup":  {"Saltmarsh first start"}, "windows.explorer": {"Kelpline Bar", "Fogbell Synced"},
	"windows.shell-extensions":  {"Fogbell Menu"},
	"windows.command-processor": {"AutoRun"}, "windows.netsh": {"tide"}, "windows.print": {"Lampwick Port"},
	"windows.boot-execute":      {"tunerboot"},
	"windows.environment-hooks": {"COR_PROFILER_PATH"}, "windows.logon-script": {"logon.cmd"},
	"windows.office-addins":  {"Saltmarsh Ledger"},
	"windows.startup-folder": {"Gullrock Tickets", "evening"}, "windows.services": {"Tidewatch"},
	"windows.tasks": {`Kelpline\Update`}, "windows.powershell-profile": {"profile.ps1"},
}

const wineTask = `<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo><Author>Kelpline</Author></RegistrationInfo>
  <Triggers><LogonTrigger><Enabled>true</Enabled></LogonTrigger></Triggers>
  <Principals><Principal id="Author"><LogonType>InteractiveToken</LogonType></Principal></Principals>
  <Settings><Enabled>true</Enabled></Settings>
  <Actions Context="Author"><Exec><Command>C:\kelpline\updater.exe</Command></Exec></Actions>
</Task>`

func wide(text string) []byte {
	b := []byte{0xff, 0xfe}
	for _, r := range text {
		b = append(b, byte(r), byte(r>>8))
	}
	return b
}

// wineState is everything of the prefix that a restore must bring back: the
// registry as its own reg exports it, and the trees of files.
func wineState(t *testing.T, w testkit.Wine) (map[string]string, testkit.Picture) {
	registry := w.Registry(t)
	home := "users/" + filepath.Base(userFolder(t, w))
	tree := testkit.Tree(t, w.Drive, "ProgramData/lockback", home+"/AppData/Local/lockback", home+"/Temp",
		home+"/AppData/Local/Temp", "windows/temp")
	for name, line := range tree {
		// The record's own folder shows in the times of the folders above it,
		// and what is written goes into new files, which drive C's file system
		// sees in the folder's time only.
		tree[name] = finer.ReplaceAllString(line, "$1")
		if strings.HasPrefix(line, "d") {
			tree[name] = "folder"
		}
		if name == "tide/started" || name == "users/bram/NTUSER.DAT" { // a hive is compared by what is in it
			delete(tree, name)
		}
	}
	return registry, tree
}

// finer is what a time of the disk has beyond the 100 nanoseconds of Windows.
var finer = regexp.MustCompile(`(mtime=\d+)\d\d\b`)

func TestRunningWindowsOfWine(t *testing.T) {
	t.Parallel()
	w := testkit.NewWine(t)
	put := func(name string, content []byte) {
		file := filepath.Join(w.Drive, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, content, 0o644))
	}
	put("entries.reg", wide(wineEntries))
	put("task.xml", wide(wineTask))
	put("tide/placeholder", nil)
	w.Build(t, "./internal/peers/tideservice", "tide/svc.exe")
	link := shelllink.Link{LocalPath: `C:\tide\svc.exe`, Arguments: "--full-screen"}
	put("ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/Gullrock Tickets.lnk", link.Encode())
	user := filepath.Base(userFolder(t, w))
	put("users/"+user+"/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/StartUp/evening.cmd", []byte("@exit\r\n"))
	put("windows/system32/WindowsPowerShell/v1.0/profile.ps1", []byte("# nothing\r\n"))
	// Somebody who is not signed in: the hive file is all there is.
	put("users/bram/NTUSER.DAT", testkit.Hive(t,
		testkit.Keys{`Software\Microsoft\Windows\CurrentVersion\Run`: {regf.NewText("Bram's Notes",
			`C:\tide\svc.exe`)}}))
	bram := filepath.Join(w.Drive, "users/bram/NTUSER.DAT")
	asFound := testkit.Export(t, bram)
	w.OK(t, "wine", "sc", "create", "TideSvc", "binPath=", `C:\tide\svc.exe`, "start=", "auto", "DisplayName=",
		"Tidewatch")
	// It stays on: when it has started, the other has, or does not.
	w.OK(t, "wine", "sc", "create", "TideThere", "binPath=", `C:\tide\svc.exe there`, "start=", "auto")
	require.Eventually(t, func() bool { // the scheduler takes a moment to come up
		return w.Run(t, "wine", "schtasks", "/create", "/tn", `\Kelpline\Update`, "/xml", `C:\task.xml`, "/f").Code == 0
	}, 5*time.Minute, time.Second)
	started := func(want int) int {
		w.Settle(t)
		mark, there := filepath.Join(w.Drive, "tide/started"), filepath.Join(w.Drive, "tide/there")
		os.Remove(mark)
		os.Remove(there)
		w.Restart(t)
		require.Eventually(t, func() bool {
			b, _ := os.ReadFile(mark)
			_, err := os.Stat(there)
			return err == nil && strings.Count(string(b), "started") >= want
		}, 5*time.Minute, 200*time.Millisecond)
		time.Sleep(2 * time.Second)
		b, _ := os.ReadFile(mark)
		os.Remove(mark)
		os.Remove(there)
		return strings.Count(string(b), "started")
	}
	require.Equal(t, 1, started(1), "the service starts")
	// A start of the prefix uses up what runs once, so that comes behind it.
	w.OK(t, "wine", "reg", "import", `C:\entries.reg`)

	var handles []string
	byName := w.List(t)
	find := func(byName map[string]testkit.Entry, location, name string) testkit.Entry {
		for key, e := range byName {
			if e.Location == location && (key == name || strings.HasPrefix(key, name+"/")) {
				return e
			}
		}
		require.Fail(t, "no such entry", "%s %s", location, name)
		return testkit.Entry{}
	}
	for location, names := range wineNames {
		for _, name := range names {
			e := find(byName, location, name)
			require.Equal(t, "enabled", e.State, "%s %s", location, name)
			handles = append(handles, e.Handle)
		}
	}
	slices.Sort(handles)
	registry, tree := wineState(t, w)
	require.Contains(t, w.Lockback(t, "snapshot"), "S1")
	w.Lockback(t, append([]string{"disable", "--guarded", "--yes"}, handles...)...)

	// The prefix's own programs agree.
	off := strings.Join(slices.Sorted(maps.Keys(w.Registry(t))), "\n")
	for _, gone := range []string{`"Kelpline Setup"=`, `"Tuner"=`, `C:\\tuner\\shell.exe`, `C:\\tuner\\init.exe`,
		`hook.dll`, `second.dll`, `"Debugger"="C:\\tuner`, `C:\\saltmarsh`, "Lampwick Port", "logon.cmd"} {
		require.NotContains(t, off, gone)
	}
	require.Contains(t, off, `"Fogbell Sync"=hex:03,`)
	require.Contains(t, off, `"Shell"="explorer.exe"`)
	require.Contains(t, off, `Services\TideSvc] "Start"=dword:00000004`)
	require.Contains(t, testkit.Export(t, bram),
		`Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run\`+"\x00Bram's Notes")
	content, err := os.ReadFile(filepath.Join(w.Drive, "windows/system32/tasks/Kelpline/Update"))
	require.NoError(t, err)
	require.Contains(t, string(content), "<Enabled>false</Enabled>")
	byName = w.List(t)
	for location, names := range wineNames {
		for _, name := range names {
			require.Equal(t, "disabled", find(byName, location, name).State, "%s %s", location, name)
		}
	}
	require.Zero(t, started(0), "the service stays off over a start of the prefix")

	w.Lockback(t, "restore", "S1", "--yes")
	w.Lockback(t, "compare", "S1")
	again, treeAgain := wineState(t, w)
	require.Empty(t, testkit.Changed(registry, again))
	require.Equal(t, asFound, testkit.Export(t, bram))
	require.Empty(t, testkit.Differences(tree, treeAgain))
	require.Equal(t, 1, started(1), "the service starts again")

	// The other commands, as they are.
	w.Lockback(t, "locations")
	w.Lockback(t, "history")
	w.Lockback(t, "disable", "Tide Chart", "--yes")
	w.Lockback(t, "undo", "--yes")
	require.Contains(t, w.Lockback(t, "show", "Tidewatch"), "TideSvc")
	require.Equal(t, 2, w.Run(t, "wine", `C:\lockback.exe`, "show", "nobody").Code)
}

// userFolder is the folder of the person that the prefix belongs to.
func userFolder(t *testing.T, w testkit.Wine) string {
	t.Helper()
	folders, err := filepath.Glob(filepath.Join(w.Drive, "users/*"))
	require.NoError(t, err)
	for _, f := range folders {
		if base := filepath.Base(f); base != "Public" && base != "bram" {
			return f
		}
	}
	require.Fail(t, "no person")
	return ""
}

// A fresh Windows of Wine has nothing suspicious in it: whatever is not signed there, nothing is.
func TestFreshWineHasNoFalseAlarms(t *testing.T) {
	t.Parallel()
	w := testkit.NewWine(t)
	for name, e := range w.List(t, "--all") {
		for _, problem := range []string{autostart.Unsigned, autostart.SignatureInvalid, autostart.Changed,
			autostart.Impostor, autostart.OddPlace, autostart.Obscured, autostart.Twice} {
			require.NotContains(t, e.Problems, problem, "%s: %s", name, e.Target.Path)
		}
	}
}

// installerPackage is the source of a package of the Windows Installer with one program.
const installerPackage = `<?xml version="1.0" encoding="utf-8"?>
<Wix xmlns="http://schemas.microsoft.com/wix/2006/wi">
  <Product Name="Saltmarsh Ledger" Id="*" UpgradeCode="5A17ABCD-1887-4201-8314-000000000201" Language="1033" Codepage="1252" Version="12.1.0" Manufacturer="Saltmarsh Ledgers">
    <Package Id="*" Description="Ledger" Manufacturer="Saltmarsh Ledgers" InstallerVersion="200" Languages="1033" Compressed="yes" SummaryCodepage="1252"/>
    <Media Id="1" Cabinet="ledger.cab" EmbedCab="yes"/>
    <Directory Id="TARGETDIR" Name="SourceDir"><Directory Id="ProgramFilesFolder" Name="PFiles"><Directory Id="Salt" Name="Salt">
      <Component Id="Tray" Guid="5A17ABCD-1887-4202-8314-000000000202"><File Id="TrayEXE" Name="tray.exe" DiskId="1" Source="tray.exe" KeyPath="yes"/></Component>
    </Directory></Directory></Directory>
    <Feature Id="Complete" Level="1"><ComponentRef Id="Tray"/></Feature>
  </Product>
</Wix>
`

// TestInstalledByTheInstaller lets the prefix's own Windows Installer install a program, and looks
// at what the list says about it: whose it is, from when, and that nothing is said once it is gone.
func TestInstalledByTheInstaller(t *testing.T) {
	t.Parallel()
	w := testkit.NewWine(t)
	testkit.Need(t, "wixl")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tray.exe"), []byte("MZ"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ledger.wxs"), []byte(installerPackage), 0o644))
	testkit.Shell(t, "cd "+dir+" && wixl -o ledger.msi ledger.wxs")
	w.OK(t, "wine", "msiexec", "/i", `Z:`+strings.ReplaceAll(dir, "/", `\`)+`\ledger.msi`, "/qn")
	const tray = `C:\Program Files (x86)\Salt\tray.exe`
	w.OK(t, "wine", "reg", "add", `HKLM\Software\Microsoft\Windows\CurrentVersion\Run`, "/v", "Ledger", "/d",
		`"`+tray+`"`, "/f")
	e := w.List(t)["Ledger"]
	require.Equal(t, autostart.Maker{Name: "Saltmarsh Ledgers", Basis: autostart.ByReceipt}, e.Maker)
	require.Equal(t, "Saltmarsh Ledger 12.1.0", e.Product.Name+" "+e.Product.Version)
	require.Equal(t, time.Now().Format(time.DateOnly), e.Product.Installed)
	w.OK(t, "wine", "msiexec", "/x", `Z:`+strings.ReplaceAll(dir, "/", `\`)+`\ledger.msi`, "/qn")
	require.NoError(t, os.MkdirAll(filepath.Join(w.Drive, "Program Files (x86)/Salt"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.Drive, "Program Files (x86)/Salt/tray.exe"), []byte("MZ"), 0o644))
	require.Empty(t, w.List(t)["Ledger"].Product.Name)
}

// What bears a name with a zero character in it, which no other program shows, is in the list of a running
// Windows, is switched and comes back; a key of such a name is named as one that cannot be looked into.
func TestNamesWithAZero(t *testing.T) {
	t.Parallel()
	w := testkit.NewWine(t)
	w.Build(t, "./internal/peers/zeronames", "tide/names.exe")
	require.NoError(t, os.WriteFile(filepath.Join(w.Drive, "tide/zero.exe"), []byte("MZ"), 0o644))
	w.OK(t, "wine", `C:\tide\names.exe`)
	state := func() map[string]string {
		found := map[string]string{}
		for _, e := range w.List(t, "--all") {
			if e.Target.Path == `C:\tide\zero.exe` {
				found[e.Location] = e.State
			}
		}
		return found
	}
	require.Equal(t, map[string]string{"windows.run": "enabled"}, state())
	require.Contains(t, w.Lockback(t, "list", "--all"), "zero character")
	w.Lockback(t, "disable", "command=*zero.exe*", "--yes")
	require.Equal(t, map[string]string{"windows.run": "disabled"}, state())
	w.Lockback(t, "undo", "--yes")
	require.Equal(t, map[string]string{"windows.run": "enabled"}, state())
}

// A program on another drive that is built in is looked at on a running Windows, and decided on.
func TestProgramsOnAnotherDrive(t *testing.T) {
	t.Parallel()
	w := testkit.NewWine(t)
	drive := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(drive, "tide.exe"), []byte("MZ"), 0o644))
	require.NoError(t, os.Symlink(drive, filepath.Join(w.Prefix, "dosdevices/d:")))
	for name, program := range map[string]string{"There": `D:\tide.exe`, "Gone": `D:\gone.exe`,
		"Elsewhere": `Q:\tide.exe`} {
		w.OK(t, "wine", "reg", "add", `HKLM\Software\Microsoft\Windows\CurrentVersion\Run`, "/v", name, "/d", program,
			"/f")
	}
	list, yes, no := w.List(t), true, false
	for name, want := range map[string]*bool{"There": &yes, "Gone": &no, "Elsewhere": nil} {
		require.Equal(t, want, list[name].Target.Exists, name)
	}
	// A review of the running registry, line by line, with the line ends of Windows.
	require.NoError(t, os.WriteFile(filepath.Join(w.Drive, "answers.txt"),
		[]byte("go There\r\nnote spare: nobody sails\r\ndisable\r\ngo Gone\r\ndisable\r\noverview\r\napply\r\ny\r\n"),
		0o600))
	out := w.OK(t, "wine", "cmd", "/c", `C:\lockback.exe review --plain < C:\answers.txt`)
	for _, words := range []string{"There: off", "other machines know it by its file tide.exe", "2 to turn off, 0 to turn on",
		"C1 done: 2 entries changed"} {
		require.Contains(t, out, words)
	}
	list = w.List(t)
	require.Equal(t, []string{"disabled", "disabled", "enabled"}, []string{list["There"].State, list["Gone"].State,
		list["Elsewhere"].State})
	require.Equal(t, "nobody sails", list["There"].Notes[0].Text)
	w.Lockback(t, "undo", "--yes")
	require.Equal(t, "enabled", w.List(t)["There"].State)
}

// A change of a running Windows that ends by TerminateProcess at any of its points is taken back, or finished and
// then taken back, and nothing differs.
func TestKilledUnderWine(t *testing.T) {
	t.Parallel()
	w := testkit.NewWine(t)
	w.Build(t, "./internal/peers/killed", "killed.exe")
	require.NoError(t, os.MkdirAll(filepath.Join(w.Drive, "tide"), 0o755))
	w.Build(t, "./internal/peers/tideservice", "tide/svc.exe")
	profile := filepath.Join(w.Drive, "windows/system32/WindowsPowerShell/v1.0/profile.ps1")
	require.NoError(t, os.MkdirAll(filepath.Dir(profile), 0o755))
	require.NoError(t, os.WriteFile(profile, []byte("# nothing\r\n"), 0o644))
	w.OK(t, "wine", "sc", "create", "TideSvc", "binPath=", `C:\tide\svc.exe`, "start=", "demand", "DisplayName=",
		"Tidewatch")
	for key, value := range map[string][2]string{`HKLM\Software\Microsoft\Windows\CurrentVersion\Run`: {"Fogbell Sync",
		`C:\tide\svc.exe`}, `HKLM\Software\Microsoft\Command Processor`: {"AutoRun", `C:\tide\auto.cmd`},
		`HKLM\Software\Microsoft\Windows NT\CurrentVersion\Winlogon`: {"Shell", `explorer.exe, C:\tide\shell.exe`}} {
		w.OK(t, "wine", "reg", "add", key, "/v", value[0], "/d", value[1], "/f")
	}
	require.Contains(t, w.Lockback(t, "snapshot"), "S1")
	points := 0
	for n := 1; ; n++ {
		w.Env = []string{"LOCKBACK_TEST_CRASH_AT=" + strconv.Itoa(n)}
		r := w.Run(t, "wine", `C:\killed.exe`, "disable", "Tidewatch", "Fogbell Sync", "AutoRun", "shell.exe",
			"profile.ps1", "--guarded", "--yes")
		if r.Code == 0 {
			w.Env = nil
			w.Lockback(t, "undo", "--yes")
			break
		}
		w.Env = nil
		require.Equal(t, 9, r.Code, "%s%s", r.Out, r.Err)
		points++
		settle := []string{"recover", "--yes"}
		if n%2 == 0 {
			settle = append(settle, "--finish")
		}
		// Before anything was written down there is nothing to settle.
		if r := w.Run(t, "wine", append([]string{`C:\lockback.exe`}, settle...)...); r.Code == 0 && n%2 == 0 {
			w.Lockback(t, "undo", "--yes")
		} else {
			require.True(t, r.Code == 0 || strings.Contains(r.Err, "no interrupted change waits"), "%d: %s%s", n, r.Out,
				r.Err)
		}
		w.Lockback(t, "compare", "S1")
	}
	require.Greater(t, points, 12)
}
