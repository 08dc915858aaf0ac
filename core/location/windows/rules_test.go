package windows_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/internal/testkit"
)

const (
	cv  = `Microsoft\Windows\CurrentVersion`
	nt  = `Microsoft\Windows NT\CurrentVersion`
	ccs = `ControlSet002`
)

var (
	sz = regf.NewText
	dw = regf.NewNumber
)

func approved(name string, first byte) regf.Value {
	return regf.Value{Name: name, Type: regf.Binary, Data: append([]byte{first}, make([]byte, 11)...)}
}

// What the rules of Windows make of small machines: for each entry its state, its
// mode and its switch.
func TestRules(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name                   string
		software, system, ines testkit.Keys
		files                  map[string]string
		want                   map[string]string // location and name, to "state|mode|switch"
	}{
		{name: "approval", software: testkit.Keys{
			cv + `\Run`: {sz("on", "a"), sz("off", "a"), sz("off by policy", "a"),
				sz("odd", "a"), sz("unsaid", "a")},
			cv + `\Explorer\StartupApproved\Run`: {approved("on", 2), approved("OFF", 3), approved("off by policy",
				7), {Name: "odd", Type: regf.Binary}},
			`WOW6432Node\` + cv + `\Run`:           {sz("narrow", "a")},
			cv + `\Explorer\StartupApproved\Run32`: {approved("narrow", 3)},
		}, ines: testkit.Keys{
			`Software\` + cv + `\Run`:                            {sz("hers", "a")},
			`Software\` + cv + `\Explorer\StartupApproved\Run`:   {approved("hers", 3)},
			`Software\` + cv + `\Explorer\StartupApproved\Run32`: {approved("hers", 2)},
		}, want: map[string]string{
			"windows.run on":            "enabled||approve",
			"windows.run off":           "disabled|off in Windows' own startup settings|approve",
			"windows.run off by policy": "disabled|off in Windows' own startup settings|approve",
			"windows.run odd":           "enabled||approve", "windows.run unsaid": "enabled||approve",
			"windows.run narrow": "disabled|off in Windows' own startup settings|approve",
			"windows.run hers":   "disabled|off in Windows' own startup settings|approve",
		}},
		{name: "browsers, a user's data outside of their home",
			ines: testkit.Keys{`Environment`: {sz("APPDATA", `C:\D`), sz("LOCALAPPDATA", `C:\`)}},
			files: map[string]string{
				`D\Mozilla\Firefox\Profiles\p\extensions.json`:                                             `{"addons": [{"id": "f@x", "active": true, "version": "3"}, {"id": "off@x", "active": false}]}`,
				`Chromium\User Data\Default\Extensions\abcdefghijklmnopabcdefghijklmnop\2.0\manifest.json`: `{"name": "Tide", "version": "2.0"}`,
				`Chromium\User Data\Default\Extensions\short\2.0\manifest.json`:                            `{"name": "Other", "version": "2.0"}`,
			}, want: map[string]string{
				"windows.browser Tide":  "enabled|Chromium extension 2.0|report",
				"windows.browser f@x":   "enabled|Firefox extension 3|report",
				"windows.browser off@x": "disabled|Firefox extension|report"}},
		{name: "extensions that are off, from elsewhere or forced",
			ines: testkit.Keys{`Environment`: {sz("LOCALAPPDATA", `C:\`), sz("APPDATA", `C:\D`)},
				`Software\Policies\Chromium\ExtensionInstallForcelist`: {sz("1", "aaaa;https://a.example")},
			}, software: testkit.Keys{
				`Policies\Google\Chrome`: {sz("ExtensionSettings",
					`{"*":{"installation_mode":"blocked"},"bbbb":{"installation_mode":"force_installed","update_url":"https://b.example"}}`)},
				`Policies\Microsoft\Edge\ExtensionSettings\cccc`: {sz("installation_mode", "normal_installed"),
					sz("update_url", "https://c.example")},
				`Policies\Microsoft\Edge\ExtensionSettings\dddd`: {sz("installation_mode", "allowed")},
				`Policies\Mozilla\Firefox`: {regf.NewList("ExtensionSettings", `{"e@x":`,
					`{"installation_mode":"force_installed"}}`)},
				`Policies\Mozilla\Firefox\Extensions\Install`: {sz("1", "https://f.example/f.xpi")},
			}, files: map[string]string{
				`Program Files\Mozilla Firefox\distribution\policies.json`:                               `{"policies":{"ExtensionSettings":{"g@x":{"installation_mode":"force_installed","install_url":"https://g.example"}}}}`,
				`Chromium\User Data\Default\Extensions\abcdefghijklmnopabcdefghijklmnoa\1\manifest.json`: `{"name": "Off by reasons", "version": "1"}`,
				`Chromium\User Data\Default\Extensions\abcdefghijklmnopabcdefghijklmnob\1\manifest.json`: `{"name": "Off by state", "version": "1"}`,
				`Chromium\User Data\Default\Extensions\abcdefghijklmnopabcdefghijklmnoc\1\manifest.json`: `{"name": "On", "version": "1"}`,
				`Chromium\User Data\Default\Extensions\abcdefghijklmnopabcdefghijklmnod\1\manifest.json`: `{"name": "Policy", "version": "1"}`,
				`Elsewhere\manifest.json`:                                                                   `{"name": "Unpacked", "version": "7"}`,
				`Chromium\User Data\Default\Secure Preferences`:                                             `{"extensions":{"settings":{"abcdefghijklmnopabcdefghijklmnoa":{"disable_reasons":[1],"location":1},"abcdefghijklmnopabcdefghijklmnob":{"state":0},"abcdefghijklmnopabcdefghijklmnoc":{"state":1,"disable_reasons":0,"location":5},"abcdefghijklmnopabcdefghijklmnod":{"location":7},"abcdefghijklmnopabcdefghijklmnoe":{"location":4,"path":"C:\\Elsewhere"},"abcdefghijklmnopabcdefghijklmnof":{"location":5,"path":"C:\\Own"},"abcdefghijklmnopabcdefghijklmnog":"odd"}}}`,
				`Chromium\User Data\Default\Preferences`:                                                    `{"extensions":{"settings":{"abcdefghijklmnopabcdefghijklmnoc":{"state":0}}}}`,
				`D\Opera Software\Opera Stable\Preferences`:                                                 `{}`,
				`D\Opera Software\Opera Stable\Extensions\abcdefghijklmnopabcdefghijklmnoa\1\manifest.json`: `{"name": "Of the one profile", "version": "1"}`,
			}, want: map[string]string{
				"windows.browser aaaa":                    "enabled|forced by a policy|report",
				"windows.browser bbbb":                    "enabled|forced by a policy|report",
				"windows.browser cccc":                    "enabled|forced by a policy|report",
				"windows.browser e@x":                     "enabled|forced by a policy|report",
				"windows.browser https://f.example/f.xpi": "enabled|forced by a policy|report",
				"windows.browser g@x":                     "enabled|forced by a policy|report",
				"windows.browser Off by reasons":          "disabled|Chromium extension 1|report",
				"windows.browser Off by state":            "disabled|Chromium extension 1|report",
				"windows.browser On":                      "enabled|Chromium extension 1|report",
				"windows.browser Policy":                  "enabled|Chromium extension 1, forced by a policy|report",
				"windows.browser Unpacked":                "enabled|Chromium extension 7, from a folder of its own|report",
				"windows.browser Of the one profile":      "enabled|Opera extension 1|report"}},
		{name: "safe mode", system: testkit.Keys{ccs + `\Control\SafeBoot`: {sz("AlternateShell", `C:\tide.exe`)}},
			want: map[string]string{"windows.safe-boot AlternateShell": "enabled||report not-default"}},
		{name: "safe mode as it is", system: testkit.Keys{ccs + `\Control\SafeBoot`: {sz("AlternateShell", `cmd.exe`)}},
			want: map[string]string{"windows.safe-boot AlternateShell": "enabled||report"}},
		{name: "before Windows 8", software: testkit.Keys{
			nt: {sz("CurrentBuild", "7601")}, cv + `\Run`: {sz("tide", "a")},
			cv + `\Explorer\StartupApproved\Run`: {approved("tide", 3)},
		}, want: map[string]string{"windows.run tide": "enabled||park"}},
		{name: "services", system: testkit.Keys{
			ccs + `\Services\auto`: {dw("Type", 0x10), dw("Start", 2), sz("ImagePath", `C:\a.exe`),
				dw("DelayedAutostart", 1)},
			ccs + `\Services\manual`: {dw("Type", 0x20), dw("Start", 3), sz("ImagePath", `C:\a.exe`)},
			ccs + `\Services\off`: {dw("Type", 0x110), dw("Start", 4), sz("DisplayName", "Off duty"),
				sz("ImagePath", `C:\a.exe`)},
			ccs + `\Services\person`:         {dw("Type", 0x60), dw("Start", 2), sz("ImagePath", `C:\a.exe`)},
			ccs + `\Services\person_`:        {dw("Type", 0xe0), dw("Start", 2), sz("ImagePath", `C:\a.exe`)},
			ccs + `\Services\driver`:         {dw("Type", 2), dw("Start", 0)},
			ccs + `\Services\adapter`:        {dw("Type", 4), dw("Start", 2)},
			ccs + `\Services\nothing`:        {sz("ImagePath", `C:\a.exe`)},
			`ControlSet001\Services\earlier`: {dw("Type", 0x10), dw("Start", 2), sz("ImagePath", `C:\a.exe`)},
		}, want: map[string]string{
			"windows.services auto":     "enabled|automatic, delayed|start-type",
			"windows.services manual":   "enabled|manual|start-type",
			"windows.services Off duty": "disabled|disabled|start-type",
			"windows.services person":   "enabled|automatic, for each user|start-type",
			"windows.drivers driver":    "enabled|at the very start|start-type",
		}},
		{name: "lists", software: testkit.Keys{
			nt + `\Winlogon`: {sz("Shell", "explorer.exe"), sz("Userinit", `C:\Windows\system32\USERINIT.exe,`),
				sz("Taskman", `C:\t.exe`)},
			nt + `\Windows`: {sz("AppInit_DLLs", ""), dw("LoadAppInit_DLLs", 1)},
		}, ines: testkit.Keys{`Software\` + nt +
			`\Windows`: {sz("Load", `C:\l.exe, "C:\m, n.exe"`)}}, want: map[string]string{
			"windows.winlogon explorer.exe": "enabled||report", "windows.winlogon USERINIT.exe": "enabled||report",
			"windows.winlogon t.exe": "enabled||trim",
			"windows.load-run l.exe": "enabled||trim", "windows.load-run m, n.exe": "enabled||trim",
		}},
		{name: "packaged apps and add-ins", software: testkit.Keys{
			`Microsoft\Office\Word\Addins\Tide.One`:   {dw("LoadBehavior", 3)},
			`Microsoft\Office\Word\Addins\Tide.Two`:   {dw("LoadBehavior", 2)},
			`Microsoft\Office\Word\Addins\Tide.Three`: {sz("LoadBehavior", "3")},
		}, want: map[string]string{
			"windows.office-addins Tide.One": "enabled|at start|state-value",
			"windows.office-addins Tide.Two": "disabled|not loaded at start|state-value",
		}},
		{name: "what Office has turned off itself, and what it opens", software: testkit.Keys{
			`Microsoft\Office\Word\Addins\Tide.Crashed`: {dw("LoadBehavior", 3)},
			`Microsoft\Office\Word\Addins\Tide.Hers`:    {dw("LoadBehavior", 3)},
			`Microsoft\Office\Word\Addins\Tide.On`:      {dw("LoadBehavior", 3)},
			`Classes\Tide.Crashed\CLSID`: {sz("",
				"{5A17ABCD-1887-4001-8314-000000000001}")},
			`Classes\CLSID\{5A17ABCD-1887-4001-8314-000000000001}\InprocServer32`: {sz("", `C:\Tide\Crashed.dll`)},
		}, ines: testkit.Keys{
			`Software\Microsoft\Office\Word\Addins\Tide.Hers`: {dw("LoadBehavior", 2),
				sz("FriendlyName", "Hers")},
			`Software\Microsoft\Office\16.0\Word\Resiliency\DisabledItems`: {{Name: "1A2B", Type: regf.Binary,
				Data: append(make([]byte, 12), regf.TextData("c:\\tide\\crashed.dll\x00tide table")...)},
				{Name: "short", Type: regf.Binary, Data: []byte{1}}},
			`Software\Microsoft\Office\16.0\Excel\Options`: {sz("OPEN", `/R "chosen.xlam"`),
				sz("AltStartup", `C:\More`), sz("Open Files", "x")},
			`Software\Microsoft\Office\15.0\Excel\Options`: {sz("OPEN", `C:\first.xla`), sz("OPEN1", `C:\second.xla`)},
		}, files: map[string]string{
			`Users\ines\AppData\Roaming\Microsoft\AddIns\chosen.xlam`: "",
			`Users\ines\AppData\Roaming\Microsoft\AddIns\left.xlam`:   "", `More\each.xlsx`: "",
			`Program Files\Microsoft Office\root\Office16\XLSTART\all.xlsb`:  "",
			`Program Files (x86)\Microsoft Office\Office14\STARTUP\all.dotm`: "",
			`Program Files\Microsoft Office\root\OfficeX\XLSTART\none.xlsb`:  "",
		}, want: map[string]string{
			"windows.office-addins Tide.Crashed": "disabled|turned off by Office after a crash|report",
			"windows.office-addins Tide.Hers":    "enabled|at start, not for ines|state-value",
			"windows.office-addins Tide.On":      "enabled|at start|state-value",
			"windows.office-addins Hers":         "disabled|not loaded at start|state-value",
			"windows.office-addins chosen.xlam":  "enabled|opened when Excel starts|park",
			"windows.office-addins first.xla":    "enabled|opened when Excel starts|report",
			"windows.office-addins second.xla":   "enabled|opened when Excel starts|report",
			"windows.office-addins left.xlam":    "disabled|not opened: Excel's options do not name it|report",
			"windows.office-addins each.xlsx":    "enabled||park", "windows.office-addins all.xlsb": "enabled||park",
			"windows.office-addins all.dotm": "enabled||park",
		}},
		{name: "what Office has turned off for one user of two", software: testkit.Keys{
			nt + `\ProfileList\S-1-5-21-1-2-3-1002`:  {sz("ProfileImagePath", `C:\Users\bram`)},
			`Microsoft\Office\Excel\Addins\Tide.One`: {dw("LoadBehavior", 3)},
		}, ines: testkit.Keys{`Software\Microsoft\Office\16.0\Excel\Resiliency\DisabledItems`: {{Name: "1",
			Type: regf.Binary, Data: append(make([]byte, 12), regf.TextData("tide.one")...)}}},
			files: map[string]string{`Users\bram\NTUSER.DAT`: string(testkit.Hive(t, testkit.Keys{`Software`: nil}))},
			want: map[string]string{"windows.office-addins Tide.One": "enabled|at start, turned off by Office " +
				"after a crash for ines|state-value"}},
		{name: "a policy of several scripts", software: testkit.Keys{
			cv + `\Group Policy\Scripts\Startup\0`:   {sz("FileSysPath", `C:\Windows\System32\GroupPolicy\Machine`)},
			cv + `\Group Policy\Scripts\Startup\0\0`: {sz("Script", "open.cmd")},
			cv + `\Group Policy\Scripts\Startup\0\1`: {sz("Script", "more.cmd")},
		}, files: map[string]string{
			`Windows\System32\GroupPolicy\Machine\Scripts\scripts.ini`: "[Startup]\n0CmdLine=open.cmd\n"},
			want: map[string]string{"windows.logon-script open.cmd": "enabled||report",
				"windows.logon-script more.cmd": "enabled||report"}},
		{name: "scripts of policies, in their files and in the registry", software: testkit.Keys{
			cv + `\Group Policy\Scripts\Startup\0`: {sz("FileSysPath",
				`C:\Windows\System32\GroupPolicy\Machine`)},
			cv + `\Group Policy\Scripts\Startup\0\0`: {sz("Script", "open.cmd")},
			cv + `\Group Policy\Scripts\Startup\1`: {sz("FileSysPath",
				`\\firm\SysVol\firm\Policies\{1}\Machine`)},
			cv + `\Group Policy\Scripts\Startup\1\0`:               {sz("Script", "firm.cmd"), sz("Parameters", "/q")},
			cv + `\Group Policy\State\Machine\Scripts\Startup\0\0`: {sz("Script", "open.cmd")},
			cv + `\Group Policy\State\Machine\Scripts\Startup\1\0`: {sz("Script", "another.cmd")},
			cv + `\Group Policy\Scripts\Shutdown\0`: {sz("FileSysPath",
				`C:\Windows\System32\GroupPolicy\Machine`)},
			cv + `\Group Policy\Scripts\Shutdown\0\0`: {sz("Script", "file-is-gone.cmd")},
		}, ines: testkit.Keys{
			`Software\` + cv + `\Group Policy\Scripts\Logon\0`: {sz("FileSysPath",
				`C:\WINDOWS\System32\GroupPolicyUsers\S-1-5-21-1-2-3-1001\User`)},
			`Software\` + cv + `\Group Policy\Scripts\Logon\0\0`: {sz("Script", `C:\hers.cmd`)},
		}, files: map[string]string{
			`Windows\System32\GroupPolicy\Machine\Scripts\scripts.ini`:                       "[Startup]\n0CmdLine=open.cmd\n0Parameters=\n",
			`Windows\System32\GroupPolicyUsers\S-1-5-21-1-2-3-1001\User\Scripts\scripts.ini`: "[Logon]\n0CmdLine=C:\\hers.cmd\n",
			`Windows\System32\GroupPolicyUsers\S-1-5-32-544\User\Scripts\psscripts.ini`:      "[Logon]\n0CmdLine=C:\\admins.ps1\n",
		}, want: map[string]string{
			"windows.logon-script open.cmd": "enabled||park", "windows.logon-script firm.cmd": "enabled||park",
			"windows.logon-script file-is-gone.cmd": "enabled|at shutdown|park",
			"windows.logon-script hers.cmd":         "enabled||park",
			"windows.logon-script admins.ps1":       "enabled|for administrators|park",
		}},
		{name: "what new users get", software: testkit.Keys{
			nt + `\ProfileList`: {regf.NewExpand("Default", `%SystemDrive%\Users\Default`)},
		}, files: map[string]string{
			`Users\Default\NTUSER.DAT`: string(testkit.Hive(t,
				testkit.Keys{`Software\` + cv + `\Run`: {sz("Tide", `C:\Tide\tide.exe`)}})),
			`Users\Default\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup\fog.cmd`: "",
		}, want: map[string]string{
			"windows.run Tide": "enabled||approve", "windows.startup-folder fog": "enabled||approve"}},
		{name: "places that are rarely used", software: testkit.Keys{
			`Policies\Microsoft\Windows NT\Terminal Services`: {sz("InitialProgram",
				`C:\Tide\kiosk.exe`)},
			`Microsoft\CTF\LangBarAddin\{5A17ABCD-1887-4001-8314-000000000002}`: {sz("FilePath",
				`C:\Tide\bar.dll`), dw("Enable", 1)},
			`Microsoft\CTF\LangBarAddin\{5A17ABCD-1887-4001-8314-000000000003}`: {sz("FilePath",
				`C:\Tide\off.dll`), dw("Enable", 0)},
			`Microsoft\Internet Explorer\Extensions\{5A17ABCD-1887-4001-8314-000000000004}`: {sz("ButtonText", "Tide"),
				sz("Exec", `C:\Tide\button.exe`)},
			`Classes\lnkfile\shellex\IconHandler`: {sz("",
				"{5A17ABCD-1887-4001-8314-000000000005}")},
			`Classes\CLSID\{5A17ABCD-1887-4001-8314-000000000005}`:                {sz("", "Tide icons")},
			`Classes\CLSID\{5A17ABCD-1887-4001-8314-000000000005}\InprocServer32`: {sz("", `C:\Tide\icons.dll`)},
		}, system: testkit.Keys{
			ccs + `\Control\Session Manager\SubSystems`: {sz("Windows", `%SystemRoot%\system32\csrss.exe `+
				`ObjectDirectory=\Windows ServerDll=basesrv,1 ServerDll=tidesrv:Start,3`), sz("Kmode",
				`\SystemRoot\System32\win32k.sys`), sz("Debug", ""), sz("Posix", `C:\Tide\posix.exe`)},
			ccs + `\Control\Session Manager`:      {sz("BootShell", `C:\Tide\shell.exe`)},
			ccs + `\Services\WinSock2\Parameters`: {sz("AutodialDLL", `C:\Tide\dial.dll`)},
			ccs + `\Services\TideSvc`: {regf.NewList("Environment", "COR_ENABLE_PROFILING=1",
				`COR_PROFILER_PATH=C:\Tide\profile.dll`, "OTHER=x")},
			ccs + `\Services\FogSvc`: {regf.NewList("Environment",
				`CORECLR_PROFILER_PATH=C:\Tide\profile.dll`)},
			ccs + `\Services\TideSvc\Performance`: {sz("Library", `C:\Tide\count.dll`)},
			ccs + `\Services\FogSvc\Performance`: {sz("Library", `C:\Tide\count.dll`),
				dw("Disable Performance Counters", 1)},
			ccs + `\Control\LsaExtensionConfig\LsaSrv`: {regf.NewList("Extensions", "lsadb.dll", "tide.dll")},
			ccs + `\Services\NTDS`:                     {sz("LsaDbExtPt", `C:\Tide\db.dll`)},
			ccs + `\Control\Keyboard Layouts\E0010411`: {sz("Ime File", "tide.ime")},
		}, want: map[string]string{
			"windows.terminal-server kiosk.exe":                      "enabled||park",
			"windows.explorer bar.dll":                               "enabled|language bar|state-value",
			"windows.explorer off.dll":                               "disabled|not enabled|state-value",
			"windows.explorer tide.ime":                              "enabled|input method|report",
			"windows.browser Tide":                                   "enabled|a button of Internet Explorer|park",
			"windows.shell-extensions Tide icons":                    "enabled||state-value",
			"windows.boot-execute Windows subsystem":                 "enabled||report not-default",
			"windows.boot-execute Kmode subsystem":                   "enabled||report",
			"windows.boot-execute Posix subsystem":                   "enabled||report not-default",
			"windows.boot-execute shell.exe":                         "enabled||report not-default",
			"windows.winsock dial.dll":                               "enabled||report not-default",
			"windows.environment-hooks COR_PROFILER_PATH of TideSvc": "enabled||trim",
			"windows.environment-hooks CORECLR_PROFILER_PATH of FogSvc": "disabled|CORECLR_ENABLE_PROFILING is not " +
				"1|report",
			"windows.services TideSvc (counters)": "enabled|when a program reads counters|state-value",
			"windows.services FogSvc (counters)":  "disabled|not loaded (Disable Performance Counters)|state-value",
			"windows.lsa lsadb.dll":               "enabled||report",
			"windows.lsa tide.dll":                "enabled||report not-default",
			"windows.lsa db.dll":                  "enabled||report not-default",
		}},
		{name: "open commands and names", software: testkit.Keys{
			`Classes\txtfile\shell\open\command`:  {sz("", `C:\ProgramData\Zed\notepad.exe %1`)},
			`Classes\vbsfile\shell\open\command`:  {sz("", `C:\Windows\System32\wscript.exe C:\hook.vbs "%1" %*`)},
			`Classes\exefile\shell\open\command`:  {sz("", `"%1" %*`), sz("IsolatedCommand", `"%1" %*`)},
			`Classes\exefile\shell\runas\command`: {sz("", `C:\zed.exe "%1"`)},
			`Classes\.exe`:                        {sz("", "zedfile")}, `Classes\zedfile\shell\open\command`: {sz("",
				`C:\zed.exe "%1"`)}, `Classes\.bat`: {sz("", "batfile")}, `Classes\regfile\shell\open\command`: {sz("",
				`regedit.exe "%1"`)},
		}, system: testkit.Keys{
			ccs + `\Services\vas`: {dw("Type", 0x10), dw("Start", 3), sz("ImagePath", `C:\a.exe`),
				sz("DisplayName", "@oem12.inf,%x%;Vintrel Audio Service")},
			ccs + `\Control\NetworkProvider\Order`: {sz("ProviderOrder", "Oxcombe Drive")},
		}, want: map[string]string{
			"windows.open-commands txtfile":                    "enabled|opens every such file|report not-default",
			"windows.open-commands vbsfile":                    "enabled|opens every such file|report not-default",
			"windows.open-commands exefile (as administrator)": "enabled|opens every such file|report not-default",
			"windows.open-commands .exe files":                 "enabled|opens every such file|report not-default",
			"windows.services Vintrel Audio Service":           "enabled|manual|start-type",
			"windows.network-providers Oxcombe Drive":          "enabled||trim not-default",
		}},
		{name: "image options", software: testkit.Keys{
			nt + `\Image File Execution Options\a.exe`: {sz("Debugger", "x.exe")},
			nt + `\Image File Execution Options\b.exe`: {sz("VerifierDlls", "x.dll")},
			nt + `\Image File Execution Options\c.exe`: {sz("VerifierDlls", "x.dll"),
				dw("GlobalFlag", 0x100)},
			nt + `\Image File Execution Options\d.exe`: {dw("UseFilter", 1)},
			nt + `\Image File Execution Options\d.exe\0`: {sz("FilterFullPath", `C:\d.exe`),
				sz("Debugger", "x.exe")},
			nt + `\SilentProcessExit\e.exe`: {sz("MonitorProcess", "x.exe"),
				dw("ReportingMode", 1)},
			nt + `\Image File Execution Options\e.exe`: {dw("GlobalFlag", 0x200)},
			// both views have it in common
			`WOW6432Node\` + nt + `\Image File Execution Options\a.exe`: {sz("Debugger", "x.exe")},
		}, want: map[string]string{
			"windows.image-options a.exe":            "enabled|whenever it is started, instead of it|park not-default",
			"windows.image-options b.exe":            "disabled|GlobalFlag does not ask for it|park",
			"windows.image-options c.exe":            "enabled|loaded into it|park",
			`windows.image-options d.exe (C:\d.exe)`: "enabled|whenever it is started, instead of it|park not-default",
			"windows.image-options e.exe":            "enabled|when it exits|park",
		}},
		{name: "files", files: map[string]string{
			`Windows\System32\GroupPolicy\User\Scripts\scripts.ini`:                                "[Logon]\n0CmdLine=one.cmd\n1CmdLine=C:\\two.cmd\n1Parameters=/q\n[Logoff]\n",
			`Users\ines\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup\desktop.ini`: "",
			`Users\ines\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup\x.lnk`:       "no link",
			`Users\ines\AppData\Roaming\Microsoft\Excel\XLSTART\book.xlsb`:                         "",
			`Users\ines\AppData\Roaming\Microsoft\Excel\XLSTART\~$book.xlsb`:                       "",
			`Users\ines\Documents\PowerShell\profile.ps1`:                                          "",
			`Users\ines\Documents\PowerShell\other.ps1`:                                            "",
			`Windows\Tasks\broken.job`:                                                             "x",
		}, want: map[string]string{
			"windows.logon-script one.cmd": "enabled||report", "windows.logon-script two.cmd": "enabled||report",
			"windows.startup-folder x":               "enabled||approve",
			"windows.office-addins book.xlsb":        "enabled||park",
			"windows.powershell-profile profile.ps1": "enabled||park", "windows.tasks-legacy broken": "enabled||park",
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := testkit.WindowsDisk(t, c.software, c.system, c.ines, c.files)
			m, err := machine.Open(root)
			require.NoError(t, err)
			defer m.Close()
			inv := inventory.Take(m, nil)
			require.Empty(t, inv.Unread)
			got := map[string]string{}
			for _, item := range inv.Items {
				words := []string{string(item.State), testkit.ModeOrTime(item.Entry), string(item.Switch)}
				got[item.Location+" "+item.Name] = strings.Join(words, "|")
				if slices.Contains(item.Problems, autostart.NotDefault) {
					got[item.Location+" "+item.Name] += " not-default"
				}
				// Each that can be switched gives edits, for its own artifacts.
				edits, err := item.Plan(m, location.Want{State: autostart.Disabled, Now: time.Unix(1773480413, 0)})
				if item.Switch == autostart.Report {
					require.ErrorIs(t, err, location.ErrNoSwitch)
				} else if item.State == autostart.Enabled {
					require.NoError(t, err, item.Name)
					require.NotEmpty(t, edits, item.Name)
				}
				_, err = item.Plan(m, location.Want{State: autostart.Disabled,
					User: &account.User{Name: "somebody else"}})
				require.Error(t, err, "for one user only")
			}
			require.Equal(t, c.want, got)
			testkit.Need(t, "hivexregedit")
			testkit.ComeAndGo(t, root, func() map[string]string { return testkit.ExportAll(t, root) })
		})
	}
}
