package demo

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lockback/core/format/regf"
)

// The people who have accounts on the office laptop: Odile of the ticket desk, and Tomas of the evenings.
const (
	odilesOffice = "S-1-5-21-1887042191-3141592653-2718281828-1001"
	tomasOffice  = "S-1-5-21-1887042191-3141592653-2718281828-1002"
)

// laptopMakers are whose the programs in a folder are, and who vouches for them.
var laptopMakers = []struct {
	folder string
	windowsProgram
	by signing
}{
	{"/Program Files/Fogbell/", windowsProgram{maker: "Fogbell Works", product: "Fogbell Sync", version: "3.2"},
		byMuseum},
	{"/Program Files/Shoalmark/", windowsProgram{maker: "Shoalmark Computers", product: "Shoalmark Care",
		version: "7.4"}, byMuseum},
	{"/Program Files/Dulsewick/", windowsProgram{maker: "Dulsewick Sound", product: "Dulsewick Audio Console",
		version: "2.11"}, byMuseum},
	{"/Program Files/Ternfold/", windowsProgram{maker: "Ternfold Devices", product: "Ternfold Touchpad",
		version: "19.5"}, byMuseum},
	{"/Program Files/Skerrywell/", windowsProgram{maker: "Skerrywell", product: "Skerrywell Browser", version: "124.0"},
		byMuseum},
	{"/Program Files/Gannetry/", windowsProgram{maker: "Gannetry", product: "Gannetry Chat", version: "5.1"}, byMuseum},
	{"/Program Files/Photo Shed/", windowsProgram{maker: "Photo Shed", product: "Photo Shed", version: "8"}, byNobody},
	{"/Program Files/Tidewatch/", windowsProgram{maker: "Tidewatch Instruments", product: "Tidewatch", version: "1.18"},
		byMuseum},
	{"/Program Files/Lampwick/", windowsProgram{maker: "Lampwick Labels", product: "Lampwick Labels", version: "4.0"},
		byNobody},
	{"/Program Files/Gullrock/", windowsProgram{maker: "Gullrock Lighthouse Museum", product: "Gullrock Tickets",
		version: "2.4"}, byMuseum},
	{"/Program Files (x86)/Kelpline/", windowsProgram{maker: "Kelpline Software", product: "Kelpline Assistant",
		version: "9.1"}, byMuseum},
	{"/Program Files (x86)/Marramgate/", windowsProgram{maker: "Marramgate", product: "Marramgate PDF",
		version: "23.8"}, byMuseum},
	{"/Program Files (x86)/Limpetware/", windowsProgram{maker: "Limpetware Games", product: "Limpetware Launcher",
		version: "2.90"}, byMuseum},
	{"/Program Files (x86)/Saltmarsh/", windowsProgram{maker: "Saltmarsh Ledgers", product: "Saltmarsh Ledger",
		version: "12"}, byItself},
	{"/Users/odile/AppData/Local/TideChart/", windowsProgram{maker: "Tide Chart", product: "Tide Chart",
		version: "0.9"}, byNobody},
	{"/Windows/System32/drivers/tern", windowsProgram{maker: "Ternfold Devices", product: "Ternfold Touchpad",
		version: "19.5"}, byMuseum},
	{"/Windows/System32/drivers/dulse", windowsProgram{maker: "Dulsewick Sound", product: "Dulsewick Audio",
		version: "2.11"}, byMuseum},
	{"/Windows/System32/drivers/shoal", windowsProgram{maker: "Shoalmark Computers", product: "Shoalmark Hotkeys",
		version: "7.4"}, byMuseum},
}

// laptopFiles are the programs of the office laptop, with how each describes itself.
var laptopFiles = [][2]string{
	{"/Program Files/Fogbell/Fogbell Sync.exe", "Keeps folders the same on all your computers"},
	{"/Program Files/Fogbell/service.exe", "Fogbell Sync, service"},
	{"/Program Files/Fogbell/notes.exe", "Fogbell Notes"},
	{"/Program Files/Fogbell/shell64.dll", "Fogbell Sync, signs on folders"},
	{"/Program Files/Shoalmark/care.exe", "Shoalmark Care"},
	{"/Program Files/Shoalmark/caresvc.exe", "Shoalmark Care, service"},
	{"/Program Files/Shoalmark/hotkeys.exe", "Special keys of Shoalmark laptops"},
	{"/Program Files/Shoalmark/battery.exe", "Shoalmark battery limits"},
	{"/Program Files/Shoalmark/welcome.exe", "Shoalmark Welcome"},
	{"/Program Files/Dulsewick/console.exe", "Dulsewick sound settings"},
	{"/Program Files/Dulsewick/audiosvc.exe", "Dulsewick Audio, service"},
	{"/Program Files/Ternfold/touch.exe", "Touchpad gestures"},
	{"/Program Files/Ternfold/touchsvc.exe", "Touchpad gestures, service"},
	{"/Program Files/Skerrywell/browser.exe", "Skerrywell Browser"},
	{"/Program Files/Skerrywell/update.exe", "Skerrywell Update"},
	{"/Program Files/Gannetry/chat.exe", "Gannetry Chat"},
	{"/Program Files/Gannetry/meeting.exe", "Gannetry Chat, meetings"},
	{"/Program Files/Photo Shed/shed.exe", "Photo Shed"},
	{"/Program Files/Photo Shed/importer.exe", "Photo Shed, camera import"},
	{"/Program Files/Photo Shed/menu.dll", "Photo Shed, menu"},
	{"/Program Files/Tidewatch/tidewatch.exe", "Reads the tide gauge"},
	{"/Program Files/Lampwick/LabelHelper.exe", "Lampwick label helper"},
	{"/Program Files/Lampwick/spool.exe", "Lampwick label queue"},
	{"/Program Files/Gullrock/tickets.exe", "Gullrock Tickets"},
	{"/Program Files (x86)/Kelpline/updater.exe", "Kelpline Updater"},
	{"/Program Files (x86)/Kelpline/service.exe", "Kelpline Update Service"},
	{"/Program Files (x86)/Kelpline/assistant.exe", "Kelpline Assistant"},
	{"/Program Files (x86)/Marramgate/quick.exe", "Marramgate PDF, quick start"},
	{"/Program Files (x86)/Marramgate/update.exe", "Marramgate Update"},
	{"/Program Files (x86)/Marramgate/preview.dll", "Marramgate PDF, preview"},
	{"/Program Files (x86)/Limpetware/launcher.exe", "Limpetware Launcher"},
	{"/Program Files (x86)/Limpetware/service.exe", "Limpetware Launcher, service"},
	{"/Program Files (x86)/Saltmarsh/tray.exe", "Saltmarsh Ledger, notices"},
	{"/Program Files (x86)/Saltmarsh/licence.exe", "Saltmarsh Ledger, licence"},
	{"/Users/odile/AppData/Local/TideChart/tidechart.exe", "Tide Chart"},
	{"/Windows/System32/drivers/terntouch.sys", "Touchpad driver"},
	{"/Windows/System32/drivers/dulseaudio.sys", "Sound driver"},
	{"/Windows/System32/drivers/shoalkeys.sys", "Driver of the special keys"},
	{"/Windows/System32/lampmon.dll", "Lampwick port"},
}

// laptopProgram is one of these programs, signed by its maker. Kelpline's assistant was changed after that.
func laptopProgram(path, description string) piece {
	p := windowsProgram{description: description, driver: strings.HasSuffix(path, ".sys")}
	for _, row := range laptopMakers {
		if !strings.HasPrefix(path, row.folder) {
			continue
		}
		p.maker, p.product, p.version = row.maker, row.product, row.version
		image := row.by.sign(row.maker, p.image())
		if strings.HasSuffix(path, "/assistant.exe") {
			image[0x210] ^= 1
		}
		return file(path, string(image))
	}
	return file(path, string(p.image()))
}

// Paths and keys of the office laptop.
const (
	cv     = `Microsoft\Windows\CurrentVersion\`
	nt     = `Microsoft\Windows NT\CurrentVersion\`
	ucv    = `Software\Microsoft\Windows\CurrentVersion\`
	config = "/Windows/System32/config/"
	menu   = "/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup/"
	tasks  = "/Windows/System32/Tasks/"
	host   = `%SystemRoot%\System32\svchost.exe -k netsvcs -p`
	files  = `C:\Program Files\`
	files6 = `C:\Program Files (x86)\`
)

// laptopSoftware is what is installed on the office laptop, and what starts of it for everyone.
func laptopSoftware() []hiveKey {
	profile := func(sid, name string) hiveKey {
		return at(nt+`ProfileList\`+sid, ex("ProfileImagePath", `%SystemDrive%\Users\`+name), dw("State", 0))
	}
	installed := func(name, maker, version, day, remove string) hiveKey {
		return at(cv+`Uninstall\`+name, sz("DisplayName", name), sz("Publisher", maker), sz("DisplayVersion", version),
			sz("InstallDate", day), sz("UninstallString", remove))
	}
	class := func(id, name, library string) []hiveKey {
		return []hiveKey{at(`Classes\CLSID\`+id, sz("", name)), at(`Classes\CLSID\`+id+`\InprocServer32`,
			sz("", library), sz("ThreadingModel", "Apartment"))}
	}
	const overlay, preview, shed = "{5A17ABCD-1888-4001-8314-000000000001}", "{5A17ABCD-1888-4002-8314-000000000002}",
		"{5A17ABCD-1888-4003-8314-000000000003}"
	keys := []hiveKey{
		at(`Microsoft\Cryptography`, sz("MachineGuid", "1888c0de-6011-40c4-9a3e-0314092653ab")),
		at(nt, sz("ProductName", "Windows 10 Pro"), sz("DisplayVersion", "23H2"), sz("CurrentBuild", "22631"),
			dw("UBR", 3447), dw("InstallDate", 1715000000), sz("SystemRoot", `C:\Windows`)),
		at(nt+`ProfileList`, ex("ProfilesDirectory", `%SystemDrive%\Users`),
			ex("ProgramData", `%SystemDrive%\ProgramData`), ex("Public", `%SystemDrive%\Users\Public`)),
		profile(odilesOffice, "odile"), profile(tomasOffice, "tomas"),
		at(cv, sz("ProgramFilesDir", `C:\Program Files`), sz("ProgramFilesDir (x86)", `C:\Program Files (x86)`)),
		at(`Microsoft\SystemCertificates\ROOT\Certificates\`+thumbprint(museumRoot()), stored(museumRoot())),
		installed("Kelpline Assistant", "Kelpline Software", "9.1", "20250229", files6+`Kelpline\uninstall.exe`),
		installed("Gullrock Tickets", "Gullrock Lighthouse Museum", "2.4", "20240519", files+`Gullrock\remove.exe`),
		installed("Photo Shed", "Photo Shed", "8", "20250704", files+`Photo Shed\remove.exe`),
		at(cv+`Run`, sz("SecurityHealth", `%windir%\system32\SecurityHealthSystray.exe`),
			sz("Ternfold Touchpad", `"`+files+`Ternfold\touch.exe" -silent`),
			sz("Dulsewick Console", `"`+files+`Dulsewick\console.exe" /s`),
			sz("Shoalmark Hotkeys", `"`+files+`Shoalmark\hotkeys.exe"`),
			sz("Shoalmark Care", `"`+files+`Shoalmark\care.exe" /tray`),
			sz("Fogbell Sync", `"`+files+`Fogbell\Fogbell Sync.exe" --tray`),
			sz("Lampwick Label Helper", files+`Lampwick\LabelHelper.exe /min`),
			sz("Brinecast", `"`+files+`Brinecast\caster.exe" -autostart`)),
		at(cv+`RunOnce`, sz("Marramgate Cleanup", `"`+files6+`Marramgate\update.exe" /cleanup`)),
		at(`WOW6432Node\`+cv+`Run`, sz("Kelpline Updater", files6+`Kelpline\updater.exe /quiet`),
			sz("Saltmarsh Notices", `"`+files6+`Saltmarsh\tray.exe"`),
			sz("Marramgate Quick Start", `"`+files6+`Marramgate\quick.exe"`),
			sz("Limpetware Overlay", `"`+files6+`Limpetware\launcher.exe" /overlay`)),
		at(cv+`Explorer\StartupApproved\Run`, approval("Fogbell Sync", time.Time{}),
			approval("Shoalmark Care", time.Date(2025, 11, 2, 16, 20, 0, 0, time.UTC))),
		at(nt+`Winlogon`, sz("Shell", "explorer.exe"), sz("Userinit", `C:\Windows\system32\userinit.exe,`)),
		at(cv+`Explorer\ShellIconOverlayIdentifiers\FogbellSynced`, sz("", overlay)),
		at(`Classes\Directory\shellex\ContextMenuHandlers\Fogbell`, sz("", overlay)),
		at(`Classes\*\shellex\ContextMenuHandlers\Marramgate`, sz("", preview)),
		at(`Classes\*\shellex\ContextMenuHandlers\Photo Shed`, sz("", shed)),
		at(`Microsoft\Office\Excel\Addins\Saltmarsh.Ledger`, dw("LoadBehavior", 3),
			sz("FriendlyName", "Saltmarsh Ledger"),
			sz("Manifest", `file:///C:/Program Files (x86)/Saltmarsh/ledger.vsto|vstolocal`)),
	}
	keys = append(keys, class(overlay, "Fogbell signs", files+`Fogbell\shell64.dll`)...)
	keys = append(keys, class(preview, "Marramgate preview", files6+`Marramgate\preview.dll`)...)
	keys = append(keys, class(shed, "Photo Shed menu", files+`Photo Shed\menu.dll`)...)
	return keys
}

// laptopTasks are its scheduled tasks: the keys of the scheduler's cache, and the files.
func laptopTasks() (keys []hiveKey, scheduled []piece) {
	daily := `<CalendarTrigger><StartBoundary>2026-01-01T06:00:00</StartBoundary><Repetition><Interval>PT1H</Interval>` +
		`</Repetition><ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay></CalendarTrigger>`
	logon := `<LogonTrigger><Enabled>true</Enabled></LogonTrigger>`
	for k, t := range [][5]string{
		{`Kelpline\Update`, "Kelpline Software", daily, files6 + `Kelpline\updater.exe`, "/scheduled"},
		{`Skerrywell\Update Machine`, "Skerrywell", daily, files + `Skerrywell\update.exe`, "/machine"},
		{`Skerrywell\Update at Sign-in`, "Skerrywell", logon, files + `Skerrywell\update.exe`, "/user"},
		{`Shoalmark\Care Scan`, "Shoalmark Computers", daily, files + `Shoalmark\care.exe`, "/scan"},
		{`Shoalmark\Welcome`, "Shoalmark Computers", logon, files + `Shoalmark\welcome.exe`, ""},
		{`Marramgate\Update`, "Marramgate", daily, files6 + `Marramgate\update.exe`, "/check"},
		{`Gannetry Chat Update`, "Gannetry", logon, files + `Gannetry\chat.exe`, "/update"},
		{`Photo Shed\Update`, "Photo Shed", daily, files + `Photo Shed\shed.exe`, "/update"},
		{`Limpetware\Report`, "Limpetware Games", daily, files6 + `Limpetware\launcher.exe`, "/report"},
	} {
		id := "{5A17ABCD-1888-4101-8314-0000000001" + string(rune('0'+k/10)) + string(rune('0'+k%10)) + "}"
		keys = append(keys, at(nt+`Schedule\TaskCache\Tree\`+t[0], sz("Id", id), dw("Index", 3)))
		enabled := "true"
		if strings.HasSuffix(t[0], "Welcome") {
			enabled = "false"
		}
		scheduled = append(scheduled, file(tasks+strings.ReplaceAll(t[0], `\`, "/"),
			task(`\`+t[0], t[1], t[2], t[3], t[4], enabled)))
	}
	return keys, scheduled
}

// laptopSystem is its hive SYSTEM: services and drivers.
func laptopSystem() []hiveKey {
	system := []hiveKey{
		at(`Select`, dw("Current", 1), dw("Default", 1), dw("Failed", 0), dw("LastKnownGood", 1)),
		at(`Setup`, dw("SetupType", 0)),
		at(`ControlSet001\Control\ComputerName\ComputerName`, sz("ComputerName", "OFFICE-LAPTOP")),
		at(`ControlSet001\Control\Session Manager`, ms("BootExecute", "autocheck autochk *")),
		at(`ControlSet001\Control\Session Manager\Environment`, ex("windir", `%SystemRoot%`), sz("OS", "Windows_NT")),
		at(`ControlSet001\Control\Print\Monitors\Local Port`, sz("Driver", "localspl.dll")),
		at(`ControlSet001\Control\Print\Monitors\Lampwick Port`, sz("Driver", "lampmon.dll")),
		at(`ControlSet001\Control\SafeBoot`, sz("AlternateShell", "cmd.exe")),
		svc("Dnscache", "@%SystemRoot%\\System32\\dnsapi.dll,-101", host, 0x20, 2),
		at(`ControlSet001\Services\Dnscache\Parameters`, ex("ServiceDll", `%SystemRoot%\System32\dnsrslvr.dll`)),
		svc("WinDefend", "@%ProgramFiles%\\Windows Defender\\MpAsDesc.dll,-310",
			`"C:\ProgramData\Microsoft\Windows Defender\Platform\4.18\MsMpEng.exe"`, 0x10, 2),
		svc("Spooler", "@%systemroot%\\system32\\spoolsv.exe,-1", `%SystemRoot%\System32\spoolsv.exe`, 0x110, 2),
		at(`ControlSet001\Control\Class\{4d36e96f-e325-11ce-bfc1-08002be10318}`, sz("Class", "Mouse"),
			ms("UpperFilters", "terntouch", "mouclass")),
	}
	for _, s := range []struct {
		name, display, image string
		kind, start          uint32
		delayed              bool
	}{
		{"kupdate", "Kelpline Update Service (kupdate)", `"` + files6 + `Kelpline\service.exe" /svc`, 0x10, 2, true},
		{"FogbellSync", "Fogbell Sync Service", `"` + files + `Fogbell\service.exe"`, 0x10, 2, false},
		{"ShoalCare", "Shoalmark Care Service", `"` + files + `Shoalmark\caresvc.exe"`, 0x10, 2, false},
		{"ShoalBattery", "Shoalmark Battery Limits", `"` + files + `Shoalmark\battery.exe" -service`, 0x10, 2, false},
		{"DulseAudio", "Dulsewick Audio Service", `"` + files + `Dulsewick\audiosvc.exe"`, 0x10, 2, false},
		{"TernTouch", "Ternfold Touchpad Service", `"` + files + `Ternfold\touchsvc.exe"`, 0x10, 2, false},
		{"skupdate", "Skerrywell Update Service (skupdate)", `"` + files + `Skerrywell\update.exe" /svc`, 0x10, 2,
			true},
		{"skupdatem", "Skerrywell Update Service (skupdatem)", `"` + files + `Skerrywell\update.exe" /medsvc`, 0x10, 3,
			false},
		{"MarramUpdate", "Marramgate Update Service", `"` + files6 + `Marramgate\update.exe" /svc`, 0x10, 2, false},
		{"LimpetService", "Limpetware Service", `"` + files6 + `Limpetware\service.exe"`, 0x10, 3, false},
		{"SaltLicence", "Saltmarsh Licence Service", `"` + files6 + `Saltmarsh\licence.exe"`, 0x10, 2, false},
		{"GannetMeet", "Gannetry Meeting Helper", `"` + files + `Gannetry\meeting.exe" /service`, 0x10, 2, false},
		{"PhotoWatch", "Photo Shed Camera Watch", `"` + files + `Photo Shed\importer.exe" /watch`, 0x10, 2, false},
		{"TideSvc", "Tidewatch tide gauge reader", files + `Tidewatch\tidewatch.exe --port 8099`, 0x10, 2, false},
		{"lampspool", "Lampwick Label Queue", `"` + files + `Lampwick\spool.exe"`, 0x10, 2, false},
		{"brinecast", "Brinecast screen caster", `"` + files + `Brinecast\castersvc.exe"`, 0x10, 2, false},
		{"FogbellIndex", "Fogbell Index Service", `"` + files + `Fogbell\service.exe" /index`, 0x10, 3, false},
		{"saltkey", "Saltmarsh licence key", `\??\C:\Windows\System32\drivers\saltkey.sys`, 1, 2, false},
		{"mouclass", "@msmouse.inf,%mouclass.SvcDesc%;Mouse Class Driver", `\SystemRoot\System32\drivers\mouclass.sys`,
			1,
			3, false},
		{"terntouch", "Ternfold Touchpad Driver", `\SystemRoot\System32\drivers\terntouch.sys`, 1, 3, false},
		{"dulseaudio", "Dulsewick Audio Driver", `\SystemRoot\System32\drivers\dulseaudio.sys`, 1, 3, false},
		{"shoalkeys", "Shoalmark Hotkey Driver", `\SystemRoot\System32\drivers\shoalkeys.sys`, 1, 3, false},
	} {
		var more []regf.Value
		if s.delayed {
			more = append(more, dw("DelayedAutostart", 1))
		}
		system = append(system, svc(s.name, s.display, s.image, s.kind, s.start, more...))
	}
	return system
}

// laptopUsers are the hives of its people.
func laptopUsers() (odileHive, tomasHive string) {
	folders := at(ucv+`Explorer\User Shell Folders`,
		ex("Startup", `%USERPROFILE%\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup`),
		ex("Personal", `%USERPROFILE%\Documents`))
	odileHive = hiveOf(folders, at(ucv+`Run`,
		sz("Tide Chart", `C:\Users\odile\AppData\Local\TideChart\tidechart.exe --corner`),
		sz("Skerrywell Browser", `"`+files+`Skerrywell\browser.exe" --background`),
		sz("Limpetware Launcher", `"`+files6+`Limpetware\launcher.exe" -silent`),
		sz("Gannetry Chat", `"`+files+`Gannetry\chat.exe" --tray`),
		sz("Photo Shed", `"`+files+`Photo Shed\shed.exe" /hidden`),
		sz("Speed", `powershell -NoProfile -EncodedCommand SQBuAHYAZQBuAHQAZQBkAA==`)),
		at(ucv+`Explorer\UserAssist\{CEBFF5CD-ACE2-4F4F-9178-9926F41749EA}\Count`,
			started(`{6D809377-6AF0-444B-8957-A3773F02200E}\Fogbell\Fogbell Sync.exe`, 41, time.Date(2026, 3, 12, 8, 5,
				0, 0, time.UTC)),
			started(`{7C5A40EF-A0FB-4BFC-874A-C0F2E0B9FA8E}\Limpetware\launcher.exe`, 2, time.Date(2024, 1, 19, 15, 30,
				0, 0, time.UTC))))
	tomasHive = hiveOf(folders, at(ucv+`Run`, sz("Fogbell Notes", `"`+files+`Fogbell\notes.exe" --hidden`),
		sz("Kelpline Assistant", `"`+files6+`Kelpline\assistant.exe" --tray`),
		sz("Gannetry Chat", `"`+files+`Gannetry\chat.exe" --tray`)))
	return odileHive, tomasHive
}

// laptopLogs are what Windows measured and wrote down at its last start.
func laptopLogs() []piece {
	return []piece{
		file("/Windows/System32/wdi/LogFiles/StartupInfo/"+odilesOffice+"_StartupInfo1.xml", startupTrace(
			[3]string{files + `Fogbell\Fogbell Sync.exe`, "48758784", "2350000"},
			[3]string{files + `Gannetry\chat.exe`, "188743680", "6900000"},
			[3]string{files + `Photo Shed\shed.exe`, "31457280", "1240000"},
			[3]string{files6 + `Limpetware\launcher.exe`, "94371840", "3480000"},
			[3]string{files6 + `Marramgate\quick.exe`, "12582912", "320000"},
			[3]string{files6 + `Kelpline\updater.exe`, "125829120", "5120000"},
			[3]string{files6 + `Saltmarsh\tray.exe`, "9437184", "90000"})),
		file("/Windows/System32/winevt/Logs/Microsoft-Windows-Diagnostics-Performance%4Operational.evtx",
			string(EventLog("Microsoft-Windows-Diagnostics-Performance",
				LoggedEvent{ID: 100, Time: lastStart, Data: []Datum{{"BootTime", uint32(84_600)},
					{"MainPathBootTime", uint32(36_200)}, {"BootPostBootTime", uint32(48_400)}}},
				LoggedEvent{ID: 101, Time: lastStart, Data: []Datum{{"Name", "updater.exe"},
					{"TotalTime", uint32(21_350)}, {"DegradationTime", uint32(16_350)},
					{"Path", files6 + `Kelpline\updater.exe`}}},
				LoggedEvent{ID: 103, Time: lastStart, Data: []Datum{{"Name", "kupdate"}, {"TotalTime", uint32(12_480)},
					{"DegradationTime", uint32(9_480)}, {"Path", files6 + `Kelpline\service.exe`}}}))),
		file(systemLog, string(EventLog(kernelGeneral, LoggedEvent{ID: 12, Time: lastStart}))),
	}
}

// officeLaptop is a laptop as a technician meets it: what its maker put on it, what its people installed, leftovers,
// an updater that is slow, and something that nobody knows.
func officeLaptop() []piece {
	cached, pieces := laptopTasks()
	odileHive, tomasHive := laptopUsers()
	pieces = append(pieces,
		file(config+"SOFTWARE", hiveOf(append(laptopSoftware(), cached...)...)),
		file(config+"SYSTEM", hiveOf(laptopSystem()...)),
		file(config+"DEFAULT", hiveOf(at(`Software`))),
		file("/Users/odile/NTUSER.DAT", odileHive), file("/Users/tomas/NTUSER.DAT", tomasHive),
		file("/ProgramData/Microsoft/Windows/Start Menu/Programs/Startup/Gullrock Tickets.lnk",
			shortcut(files+`Gullrock\tickets.exe`, "--full-screen", files+"Gullrock")),
		file("/Users/odile"+menu+"Photo Shed Import.lnk", shortcut(files+`Photo Shed\importer.exe`, "",
			files+"Photo Shed")),
		file("/Users/tomas"+menu+"Evening Tickets.lnk", shortcut(files+`Gullrock\tickets.exe`, "--evening",
			files+"Gullrock")),
		file("/Users/odile"+menu+"Brinecast Viewer.lnk", shortcut(files+`Brinecast\viewer.exe`, "", files+"Brinecast")))
	pieces = append(pieces, laptopLogs()...)
	for _, p := range laptopFiles {
		pieces = append(pieces, laptopProgram(p[0], p[1]))
	}
	for _, path := range []string{"/Windows/explorer.exe", "/Windows/System32/userinit.exe",
		"/Windows/System32/svchost.exe", "/Windows/System32/SecurityHealthSystray.exe",
		"/Windows/System32/dnsrslvr.dll", "/Windows/System32/spoolsv.exe", "/Windows/System32/localspl.dll",
		"/Windows/System32/cmd.exe", "/Windows/System32/autochk.exe", "/Windows/System32/drivers/mouclass.sys",
		"/Windows/System32/drivers/saltkey.sys",
		"/Windows/System32/WindowsPowerShell/v1.0/powershell.exe",
		"/ProgramData/Microsoft/Windows Defender/Platform/4.18/MsMpEng.exe"} {
		pieces = append(pieces, exe(path))
	}
	return pieces
}

// The log in which Windows notes its starts, event 12 of its kernel.
const (
	systemLog     = "/Windows/System32/winevt/Logs/System.evtx"
	kernelGeneral = "Microsoft-Windows-Kernel-General"
)

// UpdaterIsBack notes a restart of the office laptop, at which Kelpline's service turned its updater on again.
func UpdaterIsBack(root string) error {
	if err := editHive(root, "SOFTWARE", at(cv+`Explorer\StartupApproved\Run32`,
		approval("Kelpline Updater", time.Time{}))); err != nil {
		return err
	}
	return RestartLaptop(root)
}

// SecondLaptop makes a laptop that has the same on it as the office laptop, and a name and an id of its own.
func SecondLaptop(root string) error {
	if err := BuildMachine("office-laptop", root); err != nil {
		return err
	}
	if err := editHive(root, "SOFTWARE", at(`Microsoft\Cryptography`,
		sz("MachineGuid", "1889c0de-6011-40c4-9a3e-0314092653ac"))); err != nil {
		return err
	}
	return editHive(root, "SYSTEM", at(`ControlSet001\Control\ComputerName\ComputerName`,
		sz("ComputerName", "SHOP-LAPTOP")))
}

// editHive sets values in a hive of a machine.
func editHive(root, hive string, keys ...hiveKey) error {
	name := filepath.Join(root, "Windows/System32/config", hive)
	before, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	h, err := regf.Open(bytes.NewReader(before), int64(len(before)))
	if err != nil {
		return err
	}
	if err := fill(h, keys); err != nil {
		return err
	}
	h.Seal(time.Now())
	var after bytes.Buffer
	if _, err := h.WriteTo(&after); err != nil {
		return err
	}
	return os.WriteFile(name, after.Bytes(), 0o644)
}

// RestartLaptop notes a restart of the office laptop in its log. Where there are several, each is a minute later than
// the one before: what takes weeks happens in a second.
func RestartLaptop(root string) error {
	name := filepath.Join(root, systemLog)
	later := time.Now().Add(time.Minute)
	if info, err := os.Stat(name); err == nil && info.ModTime().After(time.Now()) {
		later = info.ModTime().Add(time.Minute)
	}
	log := EventLog(kernelGeneral, LoggedEvent{ID: 12, Time: lastStart}, LoggedEvent{ID: 12, Time: later})
	if err := os.WriteFile(name, log, 0o644); err != nil {
		return err
	}
	return os.Chtimes(name, later, later)
}
