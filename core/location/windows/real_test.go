package windows_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/format/shelllink"
	"lockback/core/format/windata"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/review"
	"lockback/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// taskFile is a definition with the given actions.
func taskFile(actions string) string {
	return `<Task xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers><LogonTrigger/></Triggers><Actions>` + actions + `</Actions></Task>`
}

func exec(command, arguments string) string {
	return "<Exec><Command>" + command + "</Command><Arguments>" + arguments + "</Arguments></Exec>"
}

// What is the system's own is hidden, and nothing else: name, file, place and all that is run must be.
func TestNothingHides(t *testing.T) {
	t.Parallel()
	const tasks = `Windows\System32\Tasks\Microsoft\Windows\`
	service := func(image string, more ...regf.Value) []regf.Value {
		return append([]regf.Value{dw("Type", 0x20), dw("Start", 2), sz("ImagePath", image)}, more...)
	}
	dll := func(name string) []regf.Value { return []regf.Value{sz("ServiceDll", name)} }
	const svchost = `%SystemRoot%\System32\svchost.exe -k netsvcs`
	root := testkit.WindowsDisk(t, testkit.Keys{
		nt: {sz("SystemRoot", `C:\Windows`)},
		`Classes\CLSID\{00000000-0000-0000-0000-000000000001}\InprocServer32`: {sz("",
			`C:\Windows\System32\discan.dll`)},
		`Classes\CLSID\{00000000-0000-0000-0000-000000000002}\InprocServer32`: {sz("", `C:\Tide\tide.dll`)},
		nt + `\Drivers32`: {sz("msacm.good", "msadp32.acm"), sz("msacm.odd", "pallvox.acm")},
	}, testkit.Keys{
		ccs + `\Services\Schedule`:            service(svchost),
		ccs + `\Services\Schedule\Parameters`: dll(`C:\Windows\System32\schedsvc.dll`),
		ccs + `\Services\BITS`:                service(svchost),
		ccs + `\Services\BITS\Parameters`:     dll(`C:\Windows\System32\odd.dll`),
		ccs + `\Services\Themes`:              service(`C:\ProgramData\Zed\zed.exe`),
		ccs + `\Services\Themes\Parameters`:   dll(`C:\Windows\System32\themeservice.dll`),
		ccs + `\Services\Audiosrv`:            service(`C:\Tide\svchost.exe -k netsvcs`),
		ccs + `\Services\Audiosrv\Parameters`: dll(`C:\Windows\System32\audiosrv.dll`),
		ccs + `\Services\Spooler`: service(`C:\Windows\System32\spoolsv.exe`,
			sz("FailureCommand", `C:\Windows\System32\spoolsv.exe`),
			regf.Value{Name: "FailureActions", Type: regf.Binary, Data: append(append(make([]byte, 12), 1, 0, 0, 0, 0,
				0, 0, 0), 3, 0, 0, 0, 0, 0, 0, 0)}),
		ccs + `\Services\Sense`: service(
			`"C:\Program Files\Windows Defender AdvancedX\MsSense.exe"`),
		ccs + `\Services\Beep`: {dw("Type", 1), dw("Start", 1),
			sz("ImagePath", `System32\drivers\zeddrv.sys`)},
		ccs + `\Services\Null`:                     {dw("Type", 1), dw("Start", 1)},
		ccs + `\Control\SafeBoot\Minimal\Schedule`: {sz("", "Service")}, ccs + `\Control\SafeBoot\Minimal\BITS`: {sz("",
			"Service")},
	}, nil, map[string]string{
		tasks + `Defrag\ScheduledDefrag`: taskFile(exec(`%windir%\system32\defrag.exe`, "-c -h -k")),
		tasks + `Data Integrity Scan\Data Integrity Scan`: taskFile(
			`<ComHandler><ClassId>{00000000-0000-0000-0000-000000000001}</ClassId></ComHandler>`),
		tasks + `Time Synchronization\SynchronizeTime`: taskFile(exec(`%windir%\system32\sc.exe`,
			"start w32time task_started")),
		tasks + `Autochk\Proxy`: taskFile(exec(`%windir%\system32\rundll32.exe`,
			"/d acproxy.dll,PerformAutochkOperations")),
		tasks + `WDI\ResolutionHost`: taskFile(
			`<ComHandler><ClassId>{00000000-0000-0000-0000-000000000002}</ClassId></ComHandler>`),
		tasks + `USB\Usb-Notifications`: taskFile(
			`<ComHandler><ClassId>{00000000-0000-0000-0000-000000000003}</ClassId></ComHandler>`),
		tasks + `Chkdsk\ProactiveScan`: taskFile(exec(`%windir%\system32\bcdboot.exe`, "") +
			exec(`C:\Tide\tide.exe`, "")),
		tasks + `Feedback\Siuf\DmClient`:                 taskFile(exec("powershell.exe", "-enc SQBuAHYA")),
		tasks + `Windows Error Reporting\QueueReporting`: taskFile(exec(`C:\Windows\System32\odd.exe`, "")),
		tasks + `Location\Notifications`:                 taskFile(exec("mshta.exe", "http://tide.example/a")),
		tasks + `DiskCleanup\SilentCleanup`:              taskFile(exec(`%UNKNOWN%\cleanmgr.exe`, "")),
		tasks + `UPnP\UPnPHostConfig`: taskFile(exec("sc.exe",
			"create tide binPath= C:\\Tide\\tide.exe")),
		tasks + `Registry\RegIdleBackup`: taskFile("<SendEmail/>"),
		// which is gone
		tasks + `Windows Error Reporting\Other`: taskFile(exec(`C:\Windows\System32\wermgr.exe`, "-upload")),
		tasks + `Device Information\Device`:     taskFile(exec("gone.exe", "")),
		tasks + `Subscription\LicenseAcquisition`: taskFile(exec("rundll32.exe",
			`shell32.dll,ShellExec_RunDLL C:\Tide\tide.exe`)),
		tasks + `Tide\Tide`:            taskFile(exec(`C:\Windows\System32\cmd.exe`, "/c whoami")),
		`Windows\System32\svchost.exe`: "", `Windows\System32\schedsvc.dll`: "", `Windows\System32\odd.dll`: "",
		`Windows\System32\themeservice.dll`: "", `ProgramData\Zed\zed.exe`: "",
		`Windows\System32\audiosrv.dll`: "", `Tide\svchost.exe`: "", `Windows\System32\spoolsv.exe`: "",
		`Program Files\Windows Defender AdvancedX\MsSense.exe`: "", `Windows\System32\drivers\zeddrv.sys`: "",
		`Windows\System32\drivers\null.sys`: "", `Windows\System32\defrag.exe`: "", `Windows\System32\discan.dll`: "",
		`Tide\tide.dll`: "", `Tide\tide.exe`: "", `Windows\System32\bcdboot.exe`: "",
		`Windows\System32\WindowsPowerShell\v1.0\powershell.exe`: "", `Windows\System32\odd.exe`: "",
		`Windows\System32\mshta.exe`: "", `Windows\System32\sc.exe`: "", `Windows\System32\rundll32.exe`: "",
		`Windows\System32\acproxy.dll`: "", `Windows\System32\shell32.dll`: "", `Windows\System32\cmd.exe`: "",
		`Windows\System32\msadp32.acm`: "", `Windows\System32\pallvox.acm`: "",
	})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	var hidden []string
	for _, item := range inventory.Take(m, nil).Items {
		if item.OSPart {
			hidden = append(hidden, strings.TrimPrefix(item.Location, "windows.")+" "+item.Name)
		}
	}
	require.ElementsMatch(t, []string{"services Schedule", "services Spooler", "drivers Null", "safe-boot Schedule",
		"tasks ScheduledDefrag", "tasks Data Integrity Scan", "tasks SynchronizeTime",
		"tasks Proxy", "codecs msacm.good"}, hidden)
}

// cached is what the scheduler's cache has of a task's actions.
func cached(program string) regf.Value {
	b := []byte{3, 0}
	for k, text := range []string{"Author", "", program, "", ""} {
		if k == 1 {
			b = append(b, 0x66, 0x66)
		}
		wide := windata.Encode(text)
		b = append(append(b, byte(len(wide)), 0, 0, 0), wide...)
	}
	return regf.Value{Name: "Actions", Type: regf.Binary, Data: append(b, 0, 0)}
}

// States that something else than the entry decides.
func TestWhatDecides(t *testing.T) {
	t.Parallel()
	const cache = nt + `\Schedule\TaskCache\`
	root := testkit.WindowsDisk(t, testkit.Keys{
		nt:                           {sz("SystemRoot", `D:\Windows`)},
		nt + `\ProfileList\S-1-5-19`: {sz("ProfileImagePath", `D:\Windows\ServiceProfiles\LocalService`)},
		cv + `\Run`:                  {sz("Everyone's", `D:\Tide\tide.exe`)},
		cv + `\Policies\Explorer`:    {dw("DisableLocalMachineRun", 1)},
		cv:                           {sz("ProgramFilesDir", `D:\Program Files`)},
		cv + `\RunServices`:          {sz("Old", `D:\Tide\tide.exe`)},
		nt + `\Winlogon`:             {sz("Userinit", `D:\Windows\userinit.exe,D:\Tide\tide.exe,`)},
		nt + `\Winlogon\Notify\n`:    {sz("DLLName", `D:\Tide\tide.dll`)},
		`WOW6432Node\Classes`: {{Name: "SymbolicLinkValue", Type: regf.Link,
			Data: windata.Encode(`\REGISTRY\MACHINE\SOFTWARE\Classes\WOW6432Node`)}},
		`Classes\WOW6432Node\CLSID\{083863F1-70DE-11d0-BD40-00A0C911CE86}\Instance\{00000000-0000-0000-0000-00000000000A}`: {sz("CLSID", "{00000000-0000-0000-0000-00000000000A}"), sz("FriendlyName", "Narrow filter")},
		`Classes\WOW6432Node\CLSID\{00000000-0000-0000-0000-00000000000A}\InprocServer32`:                                  {sz("", `D:\Tide\tide.dll`)},
		`Classes\Protocols\Handler\tide`: {sz("CLSID",
			"{00000000-0000-0000-0000-00000000000A}")},
		cache + `Tree\Known`:         {sz("Id", "{1}")},
		cache + `Tree\Folder\Hidden`: {sz("Id", "{2}")},
		cache + `Tasks\{2}`:          {sz("Path", `\Folder\Hidden`), cached(`D:\Tide\hidden.exe`)},
		cache + `Tree\Empty`:         {sz("Id", "{3}")},
		cache + `Tree\Microsoft\Windows\Defrag\ScheduledDefrag`: {sz("Id", "{4}")},
		cache + `Tasks\{4}`: {sz("Path", `\Microsoft\Windows\Defrag\ScheduledDefrag`),
			cached(`D:\Windows\System32\defrag.exe`)},
		nt + `\SilentProcessExit\watch.exe`: {sz("MonitorProcess", `D:\Tide\tide.exe`),
			dw("ReportingMode", 1)},
		nt + `\Image File Execution Options\watch.exe`: {sz("GlobalFlag", "0x200")},
	}, testkit.Keys{
		ccs + `\Services\Failing`: {dw("Type", 0x10), dw("Start", 3),
			sz("ImagePath", `D:\Tide\tide.exe`), sz("FailureCommand", `D:\Tide\tide.exe`)},
		ccs + `\Services\tidefilter`: {dw("Type", 1), dw("Start", 3)},
		ccs + `\Control\Class\{4d36e96b-e325-11ce-bfc1-08002be10318}`: {sz("Class", "Keyboard"), {Name: "UpperFilters",
			Type: regf.MultiString, Data: windata.Encode("kbdclass\x00tidefilter\x00\x00")}},
		ccs + `\Control\Session Manager\Environment`: {sz("COR_PROFILER", `D:\Tide\tide.dll`)},
		ccs + `\Control\Session Manager`: {{Name: "BootExecute", Type: regf.MultiString,
			Data: windata.Encode("autocheck autochk /r \\??\\D:\x00\x00")}},
	}, testkit.Keys{
		`Control Panel\Desktop`: {sz("SCRNSAVE.EXE", `D:\Tide\tide.scr`), sz("ScreenSaveActive", "0")},
	}, map[string]string{
		`Windows\System32\Tasks\Known`:   taskFile(exec(`D:\Tide\known.exe`, "")),
		`Windows\System32\Tasks\Unknown`: taskFile(exec(`D:\Tide\tide.exe`, "")),
		`Tide\tide.exe`:                  "", `Tide\hidden.exe`: "", `Tide\known.exe`: "", `Tide\tide.dll`: "",
		`Tide\tide.scr`: "", `Windows\userinit.exe`: "",
		`Windows\System32\autochk.exe`: "", `Windows\System32\defrag.exe`: "",
		`Windows\System32\drivers\tidefilter.sys`: "", `Windows\System32\drivers\kbdclass.sys`: "",
	})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	inv := inventory.Take(m, nil)
	require.Empty(t, inv.Unread)
	got := map[string]string{}
	for _, item := range inv.Items {
		line := string(item.State) + "|" + item.Mode + "|" + string(item.Switch) + "|" + strings.Join(item.Problems,
			" ")
		require.Empty(t, got[item.Location+" "+item.Name], item.Name)
		got[item.Location+" "+item.Name] = line
	}
	for name, want := range map[string]string{
		"windows.run Everyone's": "disabled|a policy of the machine turns all of them off " +
			"(DisableLocalMachineRun)|report|ignored",
		"windows.run-services Old": "disabled|only Windows 95 to Me read it|report|ignored",
		"windows.winlogon n":       "disabled|not read since Windows Vista|report|ignored",
		// in the wrong folder, and the right one is not there
		"windows.winlogon userinit.exe": "enabled||report|not-default impostor",
		"windows.winlogon tide.exe":     "enabled||report|not-default",
		"windows.codecs Narrow filter":  "enabled||park|",
		"windows.open-commands tide":    "enabled|its class is not registered|report|",
		"windows.tasks Known":           "enabled||report|",
		"windows.tasks Unknown": "disabled|not registered: the scheduler's cache lacks " +
			"it|report|ignored",
		"windows.tasks Folder\\Hidden":             "enabled|its file is gone, the scheduler still has it|report|obscured",
		"windows.tasks Empty":                      "disabled|the scheduler's cache has its name only|report|ignored",
		"windows.image-options watch.exe":          "enabled||park|",
		"windows.services Failing (when it fails)": "disabled|its FailureActions do not ask for a command|report|ignored",
		"windows.class-filters tidefilter":         "enabled|above the driver of the class Keyboard|trim|",
		"windows.drivers tidefilter":               "enabled|manual|report|",
		"windows.environment-hooks COR_PROFILER":   "disabled|COR_ENABLE_PROFILING is not 1|report|ignored",
		"windows.screensaver SCRNSAVE.EXE":         "disabled|screen savers are off (ScreenSaveActive)|report|ignored",
		"windows.boot-execute autochk":             "enabled||report|",
	} {
		require.Equal(t, want, got[name], name)
	}
	for _, item := range inv.Items {
		if item.Name == "ScheduledDefrag" {
			require.False(t, item.Hidden(), "its file is gone")
		}
	}
}

// Of a plain Windows nothing is shown, missing or off; what others put beside it is.
func TestPlainWindows(t *testing.T) {
	t.Parallel()
	root := testkit.WindowsAsItIs(t, testkit.Keys{
		cv + `\Run`: {sz("Tide", `"C:\Tide\tide.exe" --tray`)},
	}, testkit.Keys{
		ccs + `\Services\TideSvc`: {dw("Type", 0x10), dw("Start", 2), sz("ImagePath", `C:\Tide\tidesvc.exe`)},
		ccs + `\Services\TideDrv`: {dw("Type", 1), dw("Start", 3), sz("ImagePath", `System32\drivers\tidedrv.sys`)},
	}, map[string]string{`Tide\tide.exe`: "", `Tide\tidesvc.exe`: "", `Windows\System32\drivers\tidedrv.sys`: ""})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	inv := inventory.Take(m, nil)
	require.Empty(t, inv.Unread)
	require.Greater(t, len(inv.Items), 800)
	var shown []string
	for _, item := range inv.Items {
		if !item.OSPart {
			shown = append(shown, strings.TrimPrefix(item.Location, "windows.")+" "+item.Name)
		}
		if item.Name == "OneDriveSetup" || item.Name == "windeploy.exe" { // what setup leaves behind
			require.Equal(t, autostart.Disabled, item.State, "%s %s", item.Location, item.Name)
			require.Subset(t, []string{autostart.Ignored}, item.Problems)
			continue
		}
		require.Empty(t, item.Problems, "%s %s", item.Location, item.Name)
		require.Equal(t, autostart.Enabled, item.State, "%s %s", item.Location, item.Name)
	}
	require.Len(t, review.Suggest(inv.Items, nil, time.Now()), 0, "nothing of a fresh system is proposed")
	require.ElementsMatch(t, []string{"run Tide", "services TideSvc", "drivers TideDrv"}, shown)
}

// What protects the machine and is off always shows, though it is a part of the system.
func TestSecurityOffShows(t *testing.T) {
	t.Parallel()
	root := testkit.WindowsAsItIs(t, nil, testkit.Keys{ccs + `\Services\mpssvc`: {dw("Start", 4)}}, nil)
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	off := 0
	for _, item := range inventory.Take(m, nil).Items {
		if item.State == autostart.Disabled && !item.Hidden() {
			off++
			require.Equal(t, "mpssvc", item.SystemName)
			require.True(t, item.OSPart)
			require.False(t, item.Hidden())
			require.Equal(t, review.Unsafe, review.Order([]*location.Item{item}, time.Now())[0].Rank)
		}
	}
	require.Equal(t, 1, off)
}

// A word for a component is no program that is missing, and a shortcut is read in the code page of its machine.
func TestWordsAndCodePages(t *testing.T) {
	t.Parallel()
	const components = `Microsoft\Active Setup\Installed Components\`
	const name = "C:\\Users\\\x91\xbe\x98Y\\tide.exe" // Shift-JIS
	link := shelllink.Link{LocalPath: `C:\Users\1234\tide.exe`}
	narrow := bytes.ReplaceAll(link.Encode(), []byte(`C:\Users\1234\tide.exe`), []byte(name))
	wide := windata.Encode(link.LocalPath)
	require.Contains(t, string(narrow), string(wide))
	at := bytes.Index(narrow, []byte{0x24, 0, 0, 0, 1, 0, 0, 0}) // the size of the header says that there is no UTF-16
	require.Positive(t, at)
	narrow[at] = 0x1c
	for _, acp := range []string{"932", "unknown"} {
		root := testkit.WindowsDisk(t, testkit.Keys{
			components + `{2C7339CF-2B09-4501-B3F3-F3508C9228ED}`: {sz("", "Themes Setup"),
				sz("StubPath", "/UserInstall")},
			components + `{89820200-ECBD-11cf-8B85-00AA005B4340}`: {sz("StubPath", "U")},
			components + `{5A17ABCD-1887-4001-8314-000000000001}`: {sz("", "Tide"),
				sz("StubPath", "/Tide")},
			`WOW6432Node\` + components + `{89820200-ECBD-11cf-8B85-00AA005B4340}`: {sz("StubPath", "U")},
		}, testkit.Keys{`ControlSet002\Control\Nls\CodePage`: {sz("ACP", acp)}}, nil, map[string]string{
			"Users\\\u592a\u90ce\\tide.exe":                                            "",
			`ProgramData\Microsoft\Windows\Start Menu\Programs\Startup\Tide Table.lnk`: string(narrow),
		})
		m, err := machine.Open(root)
		require.NoError(t, err)
		defer m.Close()
		seen := 0
		for _, item := range inventory.Take(m, nil).Items {
			require.Empty(t, item.Problems, "%s %s", item.Location, item.Name)
			switch {
			case item.Name == "Tide Table" && acp == "932":
				require.Equal(t, "C:\\Users\\\u592a\u90ce\\tide.exe", item.Target.Path)
				require.True(t, *item.Target.Exists)
				seen++
			case item.Name == "Tide Table":
				require.Nil(t, item.Target.Exists, "in an unknown code page it may be there")
				seen++
			case item.Location == "windows.active-setup":
				require.Equal(t, item.Name != "Tide", item.OSPart, item.Name)
				seen++
			}
		}
		require.Equal(t, 5, seen)
	}
}

// A script of a policy is off only where it stands nowhere any more: in the policy's file, in the registry, and in
// what the registry has of the policy that was applied last.
func TestScriptsOfPoliciesGoEverywhere(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "hivexregedit")
	const scripts = cv + `\Group Policy\Scripts\Startup\`
	const state = cv + `\Group Policy\State\Machine\Scripts\Startup\`
	root := testkit.WindowsDisk(t, testkit.Keys{
		scripts + `0`:   {sz("FileSysPath", `C:\Windows\System32\GroupPolicy\Machine`)},
		scripts + `0\0`: {sz("Script", "open.cmd")}, state + `0\0`: {sz("Script", "open.cmd")},
		scripts + `1`: {sz("FileSysPath", `\\firm\SysVol\Machine`)}, scripts + `1\0`: {sz("Script", "firm.cmd")},
		state + `1\0`: {sz("Script", "firm.cmd")},
	}, nil, nil, map[string]string{
		`Windows\System32\GroupPolicy\Machine\Scripts\scripts.ini`: "[Startup]\n0CmdLine=open.cmd\n"})
	standing := func() (keys []string) {
		for key := range testkit.ExportAll(t, root) {
			if strings.HasSuffix(key, "\x00Script") {
				keys = append(keys, key)
			}
		}
		return keys
	}
	require.Len(t, standing(), 4)
	p := testkit.Program{Root: root, Store: t.TempDir() + "/record.db"}
	p.OK(t, "disable", "open.cmd", "firm.cmd", "--yes")
	require.Empty(t, standing())
	_, byName := p.List(t)
	require.Equal(t, []string{"disabled", "disabled"}, []string{byName["open.cmd"].State, byName["firm.cmd"].State})
	p.OK(t, "enable", "open.cmd", "--yes")
	require.Len(t, standing(), 2)
	p.OK(t, "undo", "C1", "--yes")
	require.Len(t, standing(), 4)
}
