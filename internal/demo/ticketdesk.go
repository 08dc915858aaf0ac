package demo

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"

	"lockback/core/format/regf"
	"lockback/core/format/shelllink"
	"lockback/core/format/windata"
)

// The people who have accounts on the ticket-desk PC. Erasmus has not signed in
// for years.
const (
	odile   = "S-1-5-21-1887042190-3141592653-2718281828-1001"
	tomas   = "S-1-5-21-1887042190-3141592653-2718281828-1002"
	erasmus = "S-1-5-21-1887042190-3141592653-2718281828-1003"
)

// hiveKey is one key of a made-up hive, with its values.
type hiveKey struct {
	path   string
	values []regf.Value
}

func at(path string, values ...regf.Value) hiveKey { return hiveKey{path, values} }

var (
	sz = regf.NewText
	ex = regf.NewExpand
	dw = regf.NewNumber
	ms = regf.NewList
)

// descriptor is a security descriptor as the system gives its own keys: full
// control for the system and the administrators, reading for all.
var descriptor = []byte{1, 0, 4, 0x80, 0x48, 0, 0, 0, 0x58, 0, 0, 0, 0, 0, 0, 0, 0x14, 0, 0, 0, 2, 0, 0x34, 0, 2, 0, 0,
	0,
	0, 2, 0x18, 0, 0x3f, 0, 0x0f, 0, 1, 2, 0, 0, 0, 0, 0, 5, 0x20, 0, 0, 0, 0x20, 2, 0, 0,
	0, 2, 0x14, 0, 0x3f, 0, 0x0f, 0, 1, 1, 0, 0, 0, 0, 0, 5, 0x12, 0, 0, 0,
	1, 2, 0, 0, 0, 0, 0, 5, 0x20, 0, 0, 0, 0x20, 2, 0, 0, 1, 1, 0, 0, 0, 0, 0, 5, 0x12, 0, 0, 0}

// fill makes keys and their values in a hive.
func fill(h *regf.Hive, keys []hiveKey) error {
	for _, k := range keys {
		key, err := h.Root()
		for name := range strings.SplitSeq(k.path, `\`) {
			if err != nil {
				return err
			}
			if name == "" {
				continue
			}
			sub, serr := key.Subkey(name)
			if serr != nil {
				sub, serr = h.CreateKey(key, name, nil, asFound)
			}
			key, err = sub, serr
		}
		for _, v := range k.values {
			if err == nil {
				err = h.SetValue(key, v)
			}
		}
		if err != nil {
			return fmt.Errorf("key %s: %w", k.path, err)
		}
	}
	return nil
}

// hiveOf writes a hive with some keys.
func hiveOf(keys ...hiveKey) string {
	h := regf.Create(descriptor, asFound)
	if err := fill(h, keys); err != nil {
		panic(err) // the keys are fixed, in this file
	}
	h.Seal(asFound)
	var b bytes.Buffer
	if _, err := h.WriteTo(&b); err != nil {
		panic(err)
	}
	return b.String()
}

// interrupted makes a hive whose last edits stand in its log only, as a power
// cut leaves it.
func interrupted(file string, keys ...hiveKey) (hive, log string) {
	h, err := regf.Open(strings.NewReader(file), int64(len(file)))
	if err == nil {
		err = fill(h, keys)
	}
	var a, b bytes.Buffer
	if err == nil {
		err = h.WriteInterrupted(&a, &b)
	}
	if err != nil {
		panic(err)
	}
	return a.String(), b.String()
}

// wideText is UTF-16 with its mark, as Windows writes tasks and policies.
func wideText(text string) string {
	b := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(strings.ReplaceAll(text, "\n", "\r\n"))) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return string(b)
}

func task(path, author, trigger, command, arguments, enabled string) string {
	return wideText(`<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo>
    <Author>` + author + `</Author>
    <URI>` + path + `</URI>
  </RegistrationInfo>
  <Triggers>
    ` + trigger + `
  </Triggers>
  <Principals>
    <Principal id="Author">
      <UserId>S-1-5-18</UserId>
    </Principal>
  </Principals>
  <Settings>
    <Enabled>` + enabled + `</Enabled>
  </Settings>
  <Actions Context="Author">
    <Exec>
      <Command>` + command + `</Command>
      <Arguments>` + arguments + `</Arguments>
    </Exec>
  </Actions>
</Task>
`)
}

// consumer is an object of the store of the management service: the length of its heap, and its texts in it.
func consumer(texts ...string) string {
	heap := ""
	for _, text := range texts {
		heap += "\x00" + text + "\x00"
	}
	return string(binary.LittleEndian.AppendUint32(nil, uint32(len(heap))|1<<31)) + heap
}

// job is a scheduled task of the older kind.
func job(texts ...string) string {
	b := make([]byte, 70)
	b[2], b[20] = 1, 70
	for _, text := range texts {
		units := append(utf16.Encode([]rune(text)), 0)
		b = binary.LittleEndian.AppendUint16(b, uint16(len(units)))
		for _, u := range units {
			b = binary.LittleEndian.AppendUint16(b, u)
		}
	}
	binary.LittleEndian.PutUint16(b[22:], uint16(len(b)))
	return string(append(b, 1, 0))
}

// approval is a value of StartupApproved.
func approval(name string, off time.Time) regf.Value {
	data := make([]byte, 12)
	data[0] = 2
	if !off.IsZero() {
		data[0] = 3
		binary.LittleEndian.PutUint64(data[4:], windata.FileTime(off))
	}
	return regf.Value{Name: name, Type: regf.Binary, Data: data}
}

// deskPrograms are whose the programs in a folder are, and how they are signed.
var deskPrograms = []struct {
	folder string
	windowsProgram
	by      signing
	spoiled string // the one file that somebody changed after it was signed
}{
	{"/Program Files/Fogbell/", windowsProgram{maker: "Fogbell Works", product: "Fogbell Sync", version: "3.2"},
		byMuseum, ""},
	{"/Program Files/Tidewatch/", windowsProgram{maker: "Tidewatch Instruments", product: "Tidewatch", version: "1.18"},
		byMuseum, ""},
	{"/Program Files/Gullrock/", windowsProgram{maker: "Gullrock Lighthouse Museum", product: "Gullrock Tickets",
		version: "2.4"}, byMuseum, ""},
	{"/Program Files (x86)/Kelpline/", windowsProgram{maker: "Kelpline Software", product: "Kelpline Assistant",
		version: "9.1"}, byMuseum, "assistant.exe"},
	{"/Program Files/Kelpline/", windowsProgram{maker: "Kelpline Software", product: "Kelpline Assistant",
		version: "9.1"}, byMuseum, ""},
	{"/Program Files (x86)/Saltmarsh/", windowsProgram{maker: "Saltmarsh Ledgers", product: "Saltmarsh Ledger",
		version: "12"}, byItself, ""},
	{"/Program Files/Lampwick/", windowsProgram{maker: "Lampwick Labels", product: "Lampwick Label Helper",
		version: "4.0"}, byNobody, ""},
	{"/Users/odile/AppData/Local/TideChart/", windowsProgram{maker: "Tide Chart", product: "Tide Chart",
		version: "0.9"}, byNobody, ""},
}

// signing is who vouches for a signature.
type signing int

const (
	byNobody signing = iota // not signed
	byMuseum                // by the authority that the museum's computers believe
	byItself                // by the maker's own certificate
)

// sign signs a maker's program, if anybody vouches for it.
func (by signing) sign(maker string, image []byte) []byte {
	if by == byNobody {
		return image
	}
	who := signerFor(maker)
	if by == byItself {
		who = selfSigner(maker)
	}
	signed, err := who.signed(image)
	if err != nil {
		panic(err) // nothing in it comes from outside
	}
	return signed
}

// started is how the desktop counts a program that a user starts: its name with the letters turned,
// how often, and when last.
func started(name string, count uint32, last time.Time) regf.Value {
	turned := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return 'a' + (r-'a'+13)%26
		case r >= 'A' && r <= 'Z':
			return 'A' + (r-'A'+13)%26
		}
		return r
	}, name)
	data := make([]byte, 72)
	binary.LittleEndian.PutUint32(data[4:], count)
	binary.LittleEndian.PutUint64(data[60:], windata.FileTime(last))
	return regf.Value{Name: turned, Type: regf.Binary, Data: data}
}

// startupTrace is what Windows measured in the first minutes after a sign-in.
func startupTrace(processes ...[3]string) string {
	text := "<?xml version=\"1.0\" encoding=\"UTF-16\"?>\r\n<StartupData>\r\n"
	for k, p := range processes {
		text += fmt.Sprintf("<Process Name=\"%s\" PID=\"%d\" "+
			"StartedInTraceSec=\"%d.250\"><StartTime>2026/03/13:08:01:%02d.5</StartTime><CommandLine><![CDATA[\"%s\"]]></CommandLine>"+
			"<DiskUsage Units=\"bytes\">%s</DiskUsage><CpuUsage Units=\"us\">%s</CpuUsage></Process>\r\n", p[0],
			4000+4*k, k, k, p[0], p[1], p[2])
	}
	return "\xff\xfe" + wideText(text+"</StartupData>\r\n")
}

// exe is a program of the ticket-desk PC.
func exe(path string) piece {
	var p windowsProgram
	p.driver = strings.HasSuffix(path, ".sys")
	if strings.HasSuffix(path, ".cmd") {
		return file(path, "@rem made up for the Gullrock Lighthouse Museum\r\n")
	}
	name := path[strings.LastIndexByte(path, '/')+1:]
	for _, row := range deskPrograms {
		if !strings.HasPrefix(path, row.folder) {
			continue
		}
		p = row.windowsProgram
		p.description = row.product
		if part := strings.TrimSuffix(name, ".exe"); part != row.product {
			p.description += ", " + part
		}
		image := row.by.sign(row.maker, p.image())
		if name == row.spoiled {
			image[0x210] ^= 1
		}
		return file(path, string(image))
	}
	p.description = path // no two are the same
	return file(path, string(p.image()))
}

func shortcut(target, arguments, dir string) string {
	l := shelllink.Link{LocalPath: target, Arguments: arguments, WorkingDir: dir, Machine: "ticket-desk",
		Volume: "Gullrock", Serial: 0x18870314, Created: asFound, Modified: asFound, Size: 171}
	return string(l.Encode())
}

func svc(name, display, image string, kind, start uint32, more ...regf.Value) hiveKey {
	return at(`ControlSet001\Services\`+name, append([]regf.Value{sz("DisplayName", display), ex("ImagePath", image),
		dw("Type", kind), dw("Start", start), dw("ErrorControl", 1), sz("ObjectName", "LocalSystem")}, more...)...)
}

// cachedAction is what the scheduler's cache keeps of a task that starts a program.
func cachedAction(program, arguments string) []byte {
	b := []byte{3, 0}
	for k, text := range []string{"Author", "", program, arguments, ""} {
		if k == 1 {
			b = append(b, 0x66, 0x66)
		}
		wide := windata.Encode(text)
		b = append(binary.LittleEndian.AppendUint32(b, uint32(len(wide))), wide...)
	}
	return append(b, 0, 0)
}

// failureActions are what the service manager does each time that a service fails: 1 restarts it, 3 runs its
// command.
func failureActions(kinds ...uint32) []byte {
	b := binary.LittleEndian.AppendUint32(make([]byte, 12), uint32(len(kinds)))
	b = binary.LittleEndian.AppendUint32(b, 20)
	for _, kind := range kinds {
		b = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(b, kind), 60_000)
	}
	return b
}

// ticketDeskPC is the Windows computer at the museum's ticket desk.
func ticketDeskPC() []piece {
	const (
		cv     = `Microsoft\Windows\CurrentVersion\`
		nt     = `Microsoft\Windows NT\CurrentVersion\`
		config = "/Windows/System32/config/"
		menu   = "/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup/"
		tasks  = "/Windows/System32/Tasks/"
		host   = `%SystemRoot%\System32\svchost.exe -k netsvcs -p`
	)
	profile := func(sid, name string) hiveKey {
		return at(nt+`ProfileList\`+sid, ex("ProfileImagePath", `%SystemDrive%\Users\`+name), dw("State", 0))
	}
	software := hiveOf(
		at(`Microsoft\Cryptography`, sz("MachineGuid", "1887c0de-6011-40c4-9a3e-0314092653aa")),
		at(nt, sz("ProductName", "Windows 10 Pro"), sz("DisplayVersion", "22H2"), sz("CurrentBuild", "19045"),
			dw("UBR", 4170), dw("InstallDate", 1684483200), sz("SystemRoot", `C:\Windows`)),
		at(nt+`ProfileList`, ex("ProfilesDirectory", `%SystemDrive%\Users`),
			ex("ProgramData", `%SystemDrive%\ProgramData`), ex("Public", `%SystemDrive%\Users\Public`)),
		at(nt+`ProfileList\S-1-5-18`, ex("ProfileImagePath", `%systemroot%\system32\config\systemprofile`)),
		profile(odile, "odile"), profile(tomas, "tomas"), profile(erasmus, "erasmus"),
		at(cv, sz("ProgramFilesDir", `C:\Program Files`), sz("ProgramFilesDir (x86)", `C:\Program Files (x86)`),
			sz("CommonFilesDir", `C:\Program Files\Common Files`)),
		at(cv+`Explorer\User Shell Folders`, ex("Common Startup", `%ProgramData%\Microsoft\Windows\Start `+
			`Menu\Programs\Startup`)),

		// What was installed.
		at(cv+`Uninstall\Kelpline`, sz("DisplayName", "Kelpline Assistant"), sz("Publisher", "Kelpline Software"),
			sz("DisplayVersion", "9.1"), sz("InstallDate", "20240229"),
			sz("InstallLocation", `C:\Program Files (x86)\Kelpline`),
			sz("UninstallString", `"C:\Program Files (x86)\Kelpline\uninstall.exe" /ask`)),
		at(cv+`Uninstall\Gullrock Tickets`, sz("DisplayName", "Gullrock Tickets"),
			sz("Publisher", "Gullrock Lighthouse Museum"), sz("DisplayVersion", "2.4"), sz("InstallDate", "20230519"),
			sz("InstallLocation", `C:\Program Files\Gullrock`),
			sz("UninstallString", `"C:\Program Files\Gullrock\remove.exe"`)),

		// Whom it believes.
		at(`Microsoft\SystemCertificates\ROOT\Certificates\`+thumbprint(museumRoot()), stored(museumRoot())),

		// Sign-in.
		at(cv+`Run`, sz("SecurityHealth", `%windir%\system32\SecurityHealthSystray.exe`),
			sz("Fogbell Sync", `"C:\Program Files\Fogbell\Fogbell Sync.exe" --tray`),
			sz("Lampwick Label Helper", `C:\Program Files\Lampwick\LabelHelper.exe /min`),
			sz("Brinecast", `"C:\Program Files\Brinecast\caster.exe" -autostart`)),
		at(cv+`RunOnce`, sz("!Kelpline Setup", `rundll32.exe "C:\Program Files\Kelpline\setup.dll",Finish`)),
		at(cv+`RunServices`, sz("Brinecast Helper", `C:\Program Files\Brinecast\helper.exe`)),
		at(cv+`Policies\Explorer\Run`, sz("1", `C:\ProgramData\tuner\tuner.exe`)),
		at(cv+`Explorer\StartupApproved\Run`, approval("Fogbell Sync", time.Time{}), approval("Lampwick Label Helper",
			time.Date(2025, 11, 2, 16, 20, 0, 0, time.UTC))),
		at(`WOW6432Node\`+cv+`Run`, sz("Kelpline Updater", `C:\Program Files (x86)\Kelpline\updater.exe /quiet`),
			sz("Saltmarsh Tray", `"C:\Program Files (x86)\Saltmarsh\tray.exe"`)),
		at(`WOW6432Node\Classes`, regf.Value{Name: "SymbolicLinkValue", Type: regf.Link,
			Data: windata.Encode(`\Registry\Machine\SOFTWARE\Classes\WOW6432Node`)}),
		at(`Classes\WOW6432Node\CLSID\{5A17ABCD-1887-4003-8314-000000000003}\InprocServer32`,
			sz("", `C:\Program Files (x86)\Kelpline\bar.dll`)),
		at(nt+`Winlogon`, sz("Shell", `explorer.exe, C:\ProgramData\tuner\tuner.exe /shell`),
			sz("Userinit", `C:\Windows\system32\userinit.exe,`),
			sz("VmApplet", `SystemPropertiesPerformance.exe /pagefile`)),
		at(nt+`Winlogon\Notify\tidenotify`, ex("DLLName", `C:\Program Files\Tidewatch\notify.dll`)),
		at(nt+`Windows`, sz("AppInit_DLLs", `C:\PROGRA~1\OLDHOO~1\hook.dll`), dw("LoadAppInit_DLLs", 0)),
		at(`Microsoft\Active Setup\Installed Components\{2C7339CF-2B09-4501-B3F3-F3508C9228ED}`, sz("", "Themes Setup"),
			ex("StubPath",
				`%SystemRoot%\system32\regsvr32.exe /s /n /i:/UserInstall %SystemRoot%\system32\themeui.dll`),
			dw("IsInstalled", 1)),
		at(`Microsoft\Active Setup\Installed Components\{5A17ABCD-1887-4001-8314-000000000001}`,
			sz("", "Saltmarsh first start"), sz("StubPath", `"C:\Program Files (x86)\Saltmarsh\firststart.exe" /user`),
			dw("IsInstalled", 1)),

		// Code in other programs.
		at(nt+`Image File Execution Options\taskmgr.exe`, sz("Debugger", `C:\ProgramData\tuner\tuner.exe /task`)),
		at(nt+`Image File Execution Options\ticketdesk.exe`, dw("GlobalFlag", 0)),
		at(cv+`Explorer\ShellIconOverlayIdentifiers\ FogbellSynced`, sz("", "{5A17ABCD-1887-4002-8314-000000000002}")),
		at(`Classes\CLSID\{5A17ABCD-1887-4002-8314-000000000002}`, sz("", "Fogbell overlay")),
		at(`Classes\CLSID\{5A17ABCD-1887-4002-8314-000000000002}\InprocServer32`,
			sz("", `C:\Program Files\Fogbell\shell64.dll`), sz("ThreadingModel", "Apartment")),
		at(`Classes\*\shellex\ContextMenuHandlers\Fogbell`, sz("", "{5A17ABCD-1887-4002-8314-000000000002}")),
		at(`Classes\Directory\shellex\ContextMenuHandlers\Sharing`, sz("", "{F81E9010-6EA4-11CE-A7FF-00AA003CA9F6}")),
		at(`Classes\CLSID\{F81E9010-6EA4-11CE-A7FF-00AA003CA9F6}\InprocServer32`,
			ex("", `%SystemRoot%\system32\ntshrui.dll`)),
		at(`WOW6432Node\`+cv+`Explorer\Browser Helper Objects\{5A17ABCD-1887-4003-8314-000000000003}`,
			sz("", "Kelpline Bar")),
		at(`Classes\exefile\shell\open\command`, sz("", `"%1" %*`)),
		at(cv+`Authentication\Credential Providers\{60b78e88-ead8-445c-9cfd-0b87f74ea6cd}`, sz("", "PasswordProvider")),
		at(`Classes\CLSID\{60b78e88-ead8-445c-9cfd-0b87f74ea6cd}\InprocServer32`,
			ex("", `%SystemRoot%\system32\credprovs.dll`)),
		at(nt+`Drivers32`, sz("midimapper", "midimap.dll"),
			sz("vidc.bell", `C:\Program Files\Brinecast\bellcodec.dll`)),
		at(`Microsoft\NetSh`, sz("2", "ifmon.dll"), sz("tide", `C:\Program Files\Tidewatch\nettide.dll`)),
		at(`Microsoft\Office\Excel\Addins\Saltmarsh.Ledger`, dw("LoadBehavior", 3),
			sz("FriendlyName", "Saltmarsh Ledger"),
			sz("Manifest", `file:///C:/Program Files (x86)/Saltmarsh/ledger.vsto|vstolocal`)),
		at(`Google\Chrome\NativeMessagingHosts\org.gullrock.tickets`,
			sz("", `C:\Program Files\Gullrock\tickets-host.json`)),
		at(`Microsoft\Command Processor`, sz("AutoRun", "")),
		at(`Microsoft\AMSI\Providers\{5A17ABCD-1887-4005-8314-000000000005}`, sz("", "Saltmarsh script check")),
		at(`Classes\CLSID\{5A17ABCD-1887-4005-8314-000000000005}\InprocServer32`,
			sz("", `C:\Program Files (x86)\Saltmarsh\check.dll`)),
		at(nt+`AppCompatFlags\TelemetryController\Kelpline`,
			sz("Command", `"C:\Program Files (x86)\Kelpline\updater.exe" /telemetry`)),
		at(nt+`AeDebug`, sz("Debugger", `"C:\Program Files\Brinecast\crash.exe" -p %ld -e %ld`), sz("Auto", "1")),
		at(nt+`Accessibility\ATs\narrator`, ex("StartExe", `%SystemRoot%\System32\Narrator.exe`)),
		at(nt+`Accessibility\ATs\brinecast_reader`, sz("StartExe", `C:\Program Files\Brinecast\reader.exe`),
			sz("ApplicationName", "Brinecast Reader")),
		at(nt+`AppCompatFlags\InstalledSDB\{5A17ABCD-1887-4006-8314-000000000006}`,
			sz("DatabasePath", `C:\Windows\AppPatch\Custom\Custom64\{5A17ABCD-1887-4006-8314-000000000006}.sdb`),
			sz("DatabaseDescription", "Gullrock tickets")),
		at(nt+`AppCompatFlags\Custom\tickets.exe`, regf.Value{Name: "{5A17ABCD-1887-4006-8314-000000000006}.sdb",
			Type: regf.QWord, Data: make([]byte, 8)}),
		at(nt+`Winlogon\GPExtensions\{42B5FAAE-6536-11d2-AE5A-0000F87571E3}`, sz("", "Scripts"),
			sz("DllName", "gpscript.dll")),
		at(nt+`Winlogon\GPExtensions\{5A17ABCD-1887-4007-8314-000000000007}`, sz("", "Saltmarsh licences"),
			sz("DllName", `C:\Program Files (x86)\Saltmarsh\policy.dll`)),
		at(`Classes\batfile\shell\open\command`, sz("", `C:\ProgramData\tuner\tuner.exe "%1" %*`)),

		// Scheduled.
		at(nt+`Schedule\TaskCache\Tree\Kelpline\Update`, sz("Id", "{5A17ABCD-1887-4101-8314-000000000101}"),
			dw("Index", 3)),
		at(nt+`Schedule\TaskCache\Tasks\{5A17ABCD-1887-4101-8314-000000000101}`, sz("Path", `\Kelpline\Update`),
			regf.Value{Name: "Hash", Type: regf.Binary, Data: bytes.Repeat([]byte{0x5a}, 32)},
			regf.Value{Name: "DynamicInfo", Type: regf.Binary, Data: make([]byte, 36)}),
		at(nt+`Schedule\TaskCache\Plain\{5A17ABCD-1887-4101-8314-000000000101}`),
		at(nt+`Schedule\TaskCache\Tree\Fogbell Start`, sz("Id", "{5A17ABCD-1887-4101-8314-000000000102}"),
			dw("Index", 2)),
		at(nt+`Schedule\TaskCache\Tree\Brinecast Report`, sz("Id", "{5A17ABCD-1887-4101-8314-000000000103}"),
			dw("Index", 3)),
		at(nt+`Schedule\TaskCache\Tree\Lampwick\Calibrate`, sz("Id", "{5A17ABCD-1887-4101-8314-000000000104}"),
			dw("Index", 3)),
		at(nt+`Schedule\TaskCache\Tree\Microsoft\Windows\Defrag\ScheduledDefrag`,
			sz("Id", "{5A17ABCD-1887-4101-8314-000000000105}"), dw("Index", 4)),
		at(nt+`Schedule\TaskCache\Tree\Saltmarsh Touch`, sz("Id", "{5A17ABCD-1887-4101-8314-000000000106}"),
			dw("Index", 3)),
		at(nt+`Schedule\TaskCache\Tasks\{5A17ABCD-1887-4101-8314-000000000106}`, sz("Path", `\Saltmarsh Touch`),
			sz("Author", "Saltmarsh"),
			regf.Value{Name: "Actions", Type: regf.Binary,
				Data: cachedAction(`C:\Program Files (x86)\Saltmarsh\touch.exe`, "/quiet")}),
	)
	system := hiveOf(
		at(`Select`, dw("Current", 1), dw("Default", 1), dw("Failed", 0), dw("LastKnownGood", 1)),
		at(`Setup`, dw("SetupType", 0), sz("CmdLine", `C:\Windows\Setup\kelpline.exe /finish`)),
		at(`ControlSet001\Control\Session Manager\AppCertDlls`, sz("tuner", `C:\ProgramData\tuner\cert.dll`)),
		at(`ControlSet001\Control\BootVerificationProgram`, ex("ImagePath", `%ProgramFiles%\Tidewatch\bootok.exe`)),
		at(`ControlSet001\Control\Terminal Server\Wds\rdpwd`,
			sz("StartupPrograms", `rdpclip,C:\ProgramData\tuner\rdp.exe`)),
		at(`ControlSet001\Control\Terminal Server\WinStations\RDP-Tcp`,
			sz("InitialProgram", `C:\Program Files\Gullrock\kiosk.exe`)),
		at(`ControlSet001\Control\ComputerName\ComputerName`, sz("ComputerName", "TICKET-DESK")),
		at(`ControlSet001\Control\Session Manager`, ms("BootExecute", "autocheck autochk *",
			`tunerboot \??\C:\ProgramData\tuner`), ms("PendingFileRenameOperations", `\??\C:\Windows\Temp\kelp1.tmp`,
			"")),
		at(`ControlSet001\Control\Session Manager\Environment`, ex("windir", `%SystemRoot%`), sz("OS", "Windows_NT"),
			sz("COR_PROFILER", "{5A17ABCD-1887-4004-8314-000000000004}"), sz("COR_ENABLE_PROFILING", "1")),
		at(`ControlSet001\Control\Session Manager\KnownDLLs`, sz("kernel32", "kernel32.dll"),
			ex("DllDirectory", `%SystemRoot%\System32`)),
		at(`ControlSet001\Control\Lsa`, ms("Authentication Packages", "msv1_0"), ms("Notification Packages", "scecli"),
			ms("Security Packages", `""`)),
		at(`ControlSet001\Control\NetworkProvider\Order`, sz("ProviderOrder", "RDPNP,LanmanWorkstation,webclient")),
		at(`ControlSet001\Control\Print\Monitors\Local Port`, sz("Driver", "localspl.dll")),
		at(`ControlSet001\Control\Print\Monitors\Lampwick Port`, sz("Driver", "lampmon.dll")),
		at(`ControlSet001\Control\SafeBoot`, sz("AlternateShell", "cmd.exe")),
		svc("W32Time", "@%SystemRoot%\\system32\\w32time.dll,-200", `%SystemRoot%\system32\svchost.exe -k LocalService`,
			0x20, 3),
		at(`ControlSet001\Services\W32Time\Parameters`, ex("ServiceDll", `%systemroot%\system32\w32time.dll`)),
		at(`ControlSet001\Services\W32Time\TimeProviders\NtpClient`, ex("DllName", `%systemroot%\system32\w32time.dll`),
			dw("Enabled", 1)),
		svc("Dnscache", "@%SystemRoot%\\System32\\dnsapi.dll,-101", host, 0x20, 2),
		at(`ControlSet001\Services\Dnscache\Parameters`, ex("ServiceDll", `%SystemRoot%\System32\dnsrslvr.dll`)),
		svc("WinDefend", "@%ProgramFiles%\\Windows Defender\\MpAsDesc.dll,-310",
			`"C:\ProgramData\Microsoft\Windows Defender\Platform\4.18\MsMpEng.exe"`, 0x10, 2),
		svc("Spooler", "@%systemroot%\\system32\\spoolsv.exe,-1", `%SystemRoot%\System32\spoolsv.exe`, 0x110, 2),
		svc("kupdate", "Kelpline Update Service (kupdate)", `"C:\Program Files (x86)\Kelpline\service.exe" /svc`, 0x10,
			2, dw("DelayedAutostart", 1), sz("Description", "Keeps Kelpline programs up to date.")),
		svc("TideSvc", "Tidewatch tide gauge reader", `C:\Program Files\Tidewatch\tidewatch.exe --port 8099`, 0x10, 2,
			sz("FailureCommand", `C:\Program Files\Tidewatch\report.exe /failed`),
			regf.Value{Name: "FailureActions", Type: regf.Binary, Data: failureActions(1, 3)}),
		svc("brinecast", "Brinecast screen caster", `"C:\Program Files\Brinecast\castersvc.exe"`, 0x10, 2),
		svc("lampspool", "Lampwick label spool", host, 0x20, 3),
		at(`ControlSet001\Services\lampspool\Parameters`, ex("ServiceDll", `%ProgramFiles%\Lampwick\spool.dll`)),
		at(`ControlSet001\Services\lampspool\TriggerInfo\0`, dw("Type", 1), dw("Action", 1)),
		svc("oldplotter", "Plotter queue", `C:\oldplotter\queue.exe`, 0x10, 4),
		svc("disk", "@disk.inf,%disk_ServiceDesc%;Disk Driver", `\SystemRoot\System32\drivers\disk.sys`, 1, 0),
		svc("saltkey", "Saltmarsh licence key", `\??\C:\Windows\System32\drivers\saltkey.sys`, 1, 2),
		svc("kbdclass", "@keyboard.inf,%kbdclass.SvcDesc%;Keyboard Class Driver",
			`\SystemRoot\System32\drivers\kbdclass.sys`, 1, 3),
		svc("saltscan", "Saltmarsh badge reader", `\??\C:\Windows\System32\drivers\saltscan.sys`, 1, 3),
		at(`ControlSet001\Control\Class\{4d36e96b-e325-11ce-bfc1-08002be10318}`, sz("Class", "Keyboard"),
			ms("UpperFilters", "saltscan", "kbdclass")),
		at(`ControlSet001\Services\WinSock2\Parameters\NameSpace_Catalog5\Catalog_Entries64\000000000001`,
			ex("LibraryPath", `%SystemRoot%\system32\napinsp.dll`),
			sz("DisplayString", `@%SystemRoot%\system32\napinsp.dll,-1000`)),
	)
	const ucv = `Software\Microsoft\Windows\CurrentVersion\`
	folders := at(ucv+`Explorer\User Shell Folders`,
		ex("Startup", `%USERPROFILE%\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup`),
		ex("Personal", `%USERPROFILE%\Documents`))
	odileHive := hiveOf(folders,
		at(ucv+`Run`, sz("Tide Chart", `C:\Users\odile\AppData\Local\TideChart\tidechart.exe --corner`),
			sz("Speed\u202eexe.rotS", `powershell -NoProfile -EncodedCommand SQBuAHYAZQBuAHQAZQBkAA==`),
			sz("Backup to drive", `E:\Backup\backup.exe /now`)),
		at(ucv+`Explorer\StartupApproved\Run`, approval("Tide Chart", time.Time{})),
		at(`Software\Microsoft\Windows NT\CurrentVersion\Windows`, sz("Load", `C:\oldplotter\spool.exe`)),
		at(`Software\Microsoft\Command Processor`, sz("AutoRun", `C:\ProgramData\tuner\auto.cmd`)),
		at(`Software\Microsoft\Windows NT\CurrentVersion\Accessibility`, sz("Configuration", "brinecast_reader")),
		at(`Control Panel\Desktop`, sz("SCRNSAVE.EXE", `C:\Windows\system32\Lighthouse.scr`)),
		at(`Environment`, ex("TEMP", `%USERPROFILE%\AppData\Local\Temp`)),
		at(ucv+`Explorer\UserAssist\{CEBFF5CD-ACE2-4F4F-9178-9926F41749EA}\Count`,
			started(`{6D809377-6AF0-444B-8957-A3773F02200E}\Fogbell\Fogbell Sync.exe`, 41, time.Date(2026, 3, 12, 8, 5,
				0, 0, time.UTC)),
			started(`{7C5A40EF-A0FB-4BFC-874A-C0F2E0B9FA8E}\Kelpline\assistant.exe`, 2, time.Date(2024, 1, 19, 15, 30,
				0, 0, time.UTC)),
			started(`C:\Users\odile\AppData\Local\TideChart\tidechart.exe`, 7, time.Date(2025, 6, 2, 10, 0, 0, 0,
				time.UTC))))
	tomasHive, tomasLog := interrupted(hiveOf(folders,
		at(ucv+`Run`, sz("Fogbell Notes", `"C:\Program Files\Fogbell\notes.exe" --hidden`)),
		at(ucv+`Policies\System`, sz("Shell", `"C:\Program Files\Gullrock\evening-desk.exe" --full-screen`)),
		at(`Environment`, sz("UserInitMprLogonScript", `%USERPROFILE%\evening.cmd`))),
		at(ucv+`Run`, sz("Kelpline Assistant", `"C:\Program Files (x86)\Kelpline\assistant.exe" --tray`)))
	classes := hiveOf(
		at(
			`Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\SystemAppData\Gullrock.Welcome_1887tickets\WelcomeStartup`, dw("State", 2), dw("UserEnabledStartupOnce", 1)))
	logon := `<LogonTrigger><Enabled>true</Enabled></LogonTrigger>`
	daily := `<CalendarTrigger><StartBoundary>2026-01-01T06:00:00</StartBoundary><Repetition><Interval>PT1H</Interval></Repetition><ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay></CalendarTrigger>`
	damaged := task(`\Lampwick\Calibrate`, "Lampwick", daily, `C:\Program Files\Lampwick\calibrate.exe`, "", "true")
	boot := hiveOf(at(`Objects\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\Description`, dw("Type", 0x10100002)),
		at(`Objects\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\Elements\12000002`, sz("Element", `\bootmgr`)),
		at(`Objects\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\Elements\12000004`, sz("Element", "Windows Boot Manager")),
		at(`Objects\{18870314-0926-11f1-8314-000000000001}\Description`, dw("Type", 0x10200003)),
		at(`Objects\{18870314-0926-11f1-8314-000000000001}\Elements\12000002`, sz("Element", `\tuner\load.efi`)),
		at(`Objects\{18870314-0926-11f1-8314-000000000001}\Elements\12000004`, sz("Element", "Tuner")))
	subscription := strings.Repeat("\x00", 500) + `CommandLineEventConsumer.Name="Tuner at seven"` + "\x00\x00" +
		`__EventFilter.Name="Seven"` + strings.Repeat("\x00", 500) + consumer("CommandLineEventConsumer",
		`"C:\Program Files\Brinecast\castersvc.exe" /radio`, "Tuner at seven") + strings.Repeat("\x00", 500)
	pieces := []piece{
		file("/Boot/BCD", boot), file("/Windows/System32/wbem/Repository/OBJECTS.DATA", subscription),
		file("/Windows/Tasks/Brinecast Nightly.job", job(`C:\Program Files\Brinecast\nightly.exe`, "/old", "", "odile",
			"")),
		file(config+"SOFTWARE", software), file(config+"SYSTEM", system), file(config+"DEFAULT",
			hiveOf(at(`Software`))),
		file("/Users/odile/NTUSER.DAT", odileHive), file("/Users/odile/AppData/Local/Microsoft/Windows/UsrClass.dat",
			classes),
		file("/Users/tomas/NTUSER.DAT", tomasHive), file("/Users/tomas/ntuser.dat.LOG1", tomasLog),
		file("/Users/tomas/ntuser.dat.LOG2", ""),
		file("/Users/erasmus/NTUSER.DAT",
			hiveOf(folders, at(ucv+`Run`, sz("Oldplotter Monitor", `C:\oldplotter\monitor.exe`)))),

		file("/ProgramData/Microsoft/Windows/Start Menu/Programs/Startup/Gullrock Tickets.lnk",
			shortcut(`C:\Program Files\Gullrock\tickets.exe`, "--full-screen", `C:\Program Files\Gullrock`)),
		file("/ProgramData/Microsoft/Windows/Start Menu/Programs/Startup/desktop.ini", "[.ShellClassInfo]\r\n"),
		file("/Users/odile"+menu+"Brinecast Überblick.lnk", shortcut(`C:\Program Files\Brinecast\Überblick.exe`, "",
			`C:\Program Files\Brinecast`)),
		file("/Users/odile"+menu+"timetable.url", "[InternetShortcut]\r\nURL=https://gullrock.example/timetable\r\n"),
		file("/Users/tomas"+menu+"evening.cmd", "@start \"\" \"C:\\Program Files\\Gullrock\\evening.exe\"\r\n"),
		file("/Users/odile/Documents/WindowsPowerShell/profile.ps1", "# nothing yet\r\n"),
		file("/Windows/System32/GroupPolicy/Machine/Scripts/scripts.ini",
			wideText("\n[Startup]\n0CmdLine=C:\\Program Files\\Gullrock\\opening.cmd\n0Parameters=/quiet\n")),

		file(tasks+"Kelpline/Update", task(`\Kelpline\Update`, "Kelpline", daily,
			`C:\Program Files (x86)\Kelpline\updater.exe`, "/scheduled", "true")),
		file(tasks+"Fogbell Start", task(`\Fogbell Start`, "Fogbell", logon,
			`"C:\Program Files\Fogbell\Fogbell Sync.exe"`, "--elevated", "true")),
		file(tasks+"Brinecast Report", task(`\Brinecast Report`, "Brinecast", daily,
			`C:\Program Files\Brinecast\report.exe`, "", "false")),
		file(tasks+"Lampwick/Calibrate", damaged[:len(damaged)/2]),
		file(tasks+"Microsoft/Windows/Defrag/ScheduledDefrag", task(`\Microsoft\Windows\Defrag\ScheduledDefrag`,
			"Microsoft Corporation", "", `%windir%\system32\defrag.exe`, "-c -h -k", "true")),
		file(
			"/Windows/System32/wdi/LogFiles/StartupInfo/S-1-5-21-1887042190-3141592653-2718281828-1001_StartupInfo1.xml", startupTrace(
				[3]string{`C:\Program Files\Fogbell\Fogbell Sync.exe`, "48758784", "2350000"},
				[3]string{`C:\Users\odile\AppData\Local\TideChart\tidechart.exe`, "6291456", "410000"},
				[3]string{`C:\Program Files (x86)\Kelpline\updater.exe`, "125829120", "5120000"},
				[3]string{`C:\Program Files (x86)\Saltmarsh\tray.exe`, "9437184", "90000"})),
		file("/Windows/System32/winevt/Logs/Microsoft-Windows-Diagnostics-Performance%4Operational.evtx",
			string(EventLog("Microsoft-Windows-Diagnostics-Performance",
				LoggedEvent{ID: 100, Time: lastStart.Add(-48 * time.Hour), Data: []Datum{{"BootTime", uint32(74_100)},
					{"MainPathBootTime", uint32(31_400)}, {"BootPostBootTime", uint32(42_700)}}},
				LoggedEvent{ID: 100, Time: lastStart, Data: []Datum{{"BootTime", uint32(96_300)},
					{"MainPathBootTime", uint32(38_900)}, {"BootKernelInitTime", uint32(24)}, {"BootDriverInitTime",
						uint32(1_870)},
					{"BootDevicesInitTime", uint32(2_410)}, {"BootUserProfileProcessingTime", uint32(3_020)},
					{"BootExplorerInitTime", uint32(4_750)}, {"BootPostBootTime", uint32(57_400)}}},
				LoggedEvent{ID: 101, Time: lastStart, Data: []Datum{{"Name", "updater.exe"},
					{"TotalTime", uint32(21_350)}, {"DegradationTime", uint32(16_350)},
					{"Path", `C:\Program Files (x86)\Kelpline\updater.exe`}}},
				LoggedEvent{ID: 103, Time: lastStart, Data: []Datum{{"Name", "kupdate"}, {"TotalTime", uint32(12_480)},
					{"DegradationTime", uint32(9_480)}, {"Path", `C:\Program Files (x86)\Kelpline\service.exe`}}}))),
		file("/Program Files/Gullrock/tickets-host.json",
			`{"name": "org.gullrock.tickets", "path": "tickets-host.exe", "type": "stdio"}`),
	}
	for _, path := range []string{
		"/Windows/explorer.exe", "/Windows/System32/userinit.exe", "/Windows/System32/svchost.exe",
		"/Windows/System32/SecurityHealthSystray.exe", "/Windows/System32/rundll32.exe",
		"/Windows/System32/w32time.dll", "/Windows/System32/dnsrslvr.dll", "/Windows/System32/spoolsv.exe",
		"/Windows/System32/localspl.dll", "/Windows/System32/lampmon.dll",
		"/Windows/System32/drivers/disk.sys", "/Windows/System32/drivers/saltkey.sys",
		"/Windows/System32/drivers/saltscan.sys", "/Windows/System32/drivers/kbdclass.sys",
		"/Windows/System32/Narrator.exe", "/Windows/System32/gpscript.dll",
		"/Program Files/Brinecast/reader.exe", "/Program Files (x86)/Saltmarsh/policy.dll",
		"/Program Files (x86)/Saltmarsh/touch.exe", "/Program Files/Gullrock/evening-desk.exe",
		"/Windows/AppPatch/Custom/Custom64/{5A17ABCD-1887-4006-8314-000000000006}.sdb", "/Windows/System32/cmd.exe",
		"/Windows/System32/autochk.exe", "/Windows/System32/ifmon.dll",
		"/Windows/System32/themeui.dll", "/Windows/System32/regsvr32.exe", "/Windows/System32/ntshrui.dll",
		"/Windows/System32/credprovs.dll", "/Windows/System32/midimap.dll",
		"/Windows/System32/napinsp.dll", "/Windows/System32/defrag.exe", "/Windows/System32/kernel32.dll",
		"/Windows/System32/Lighthouse.scr", "/Windows/System32/msv1_0.dll",
		"/Windows/System32/scecli.dll", "/Windows/System32/ntlanman.dll",
		"/Windows/System32/SystemPropertiesPerformance.exe",
		"/Windows/System32/WindowsPowerShell/v1.0/powershell.exe",
		"/ProgramData/Microsoft/Windows Defender/Platform/4.18/MsMpEng.exe",
		"/Program Files/Fogbell/Fogbell Sync.exe", "/Program Files/Fogbell/shell64.dll",
		"/Program Files/Fogbell/notes.exe",
		"/Program Files/Lampwick/LabelHelper.exe", "/Program Files/Lampwick/spool.dll",
		"/Program Files/Tidewatch/tidewatch.exe", "/Program Files/Tidewatch/notify.dll",
		"/Program Files/Tidewatch/nettide.dll", "/Program Files/Tidewatch/report.exe",
		"/Program Files/Gullrock/tickets.exe", "/Program Files/Gullrock/tickets-host.exe",
		"/Program Files/Gullrock/opening.cmd",
		"/Program Files/Kelpline/setup.dll", "/Program Files (x86)/Kelpline/updater.exe",
		"/Program Files (x86)/Kelpline/service.exe", "/Program Files (x86)/Kelpline/bar.dll",
		"/Program Files (x86)/Kelpline/assistant.exe",
		"/Program Files (x86)/Saltmarsh/tray.exe", "/Program Files (x86)/Saltmarsh/firststart.exe",
		"/ProgramData/tuner/tuner.exe", "/oldplotter/queue.exe",
		"/Users/odile/AppData/Local/TideChart/tidechart.exe",
	} {
		pieces = append(pieces, exe(path))
	}
	// The label printer's parts have no signature of their own: a catalogue lists them.
	var listed [][]byte
	for _, p := range pieces {
		if p.path == "/Windows/System32/lampmon.dll" || p.path == "/Program Files/Lampwick/spool.dll" {
			listed = append(listed, []byte(p.text))
		}
	}
	catalogue, err := signerFor("Lampwick Labels").catalogue(listed...)
	if err != nil {
		panic(err) // nothing in it comes from outside
	}
	return append(pieces, file("/Windows/System32/CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}/lampwick.cat",
		string(catalogue)))
}
