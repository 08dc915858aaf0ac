package windows

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// Locations lists every location of Windows that Lock Back reads.
func Locations() []location.Location {
	const (
		start  = location.AtNextStart
		signIn = location.AtNextSignIn
	)
	return []location.Location{
		{ID: "windows.run", Stage: autostart.SignIn, Switch: autostart.Approve, Effect: signIn,
			Where: []string{cv + `\Run`, ucv + `\Run`}, Read: readRun},
		{ID: "windows.run-once", Stage: autostart.SignIn, Switch: autostart.Park, Effect: signIn,
			Where: []string{cv + `\RunOnce`, cv + `\RunOnceEx`, ucv + `\RunOnce`, ucv + `\RunOnceEx`}, Read: readRunOnce},
		{ID: "windows.run-policy", Stage: autostart.SignIn, Switch: autostart.Park, Effect: signIn,
			Where: []string{cv + `\Policies\Explorer\Run`, ucv + `\Policies\Explorer\Run`},
			Read:  parkedValues(cv+`\Policies\Explorer\Run`, ucv+`\Policies\Explorer\Run`)},
		{ID: "windows.run-services", Stage: autostart.System, Switch: autostart.Park, Effect: start,
			Where: []string{cv + `\RunServices`, cv + `\RunServicesOnce`, ucv + `\RunServices`, ucv + `\RunServicesOnce`},
			Read:  parkedValues(cv+`\RunServices`, cv+`\RunServicesOnce`, ucv+`\RunServices`, ucv+`\RunServicesOnce`)},
		{ID: "windows.startup-folder", Stage: autostart.SignIn, Switch: autostart.Approve, Effect: signIn,
			Where: []string{"the Startup folder of everybody and of each person, as User Shell Folders names it"}, Read: readStartupFolders},
		{ID: "windows.packaged-app", Stage: autostart.SignIn, Switch: autostart.StateValue, Effect: signIn,
			Where: []string{`HKCU\Software\Classes\` + appData}, Read: readPackagedApps},
		{ID: "windows.winlogon", Stage: autostart.SignIn, Switch: autostart.Trim, Effect: signIn,
			Where: []string{nt + `\Winlogon`, unt + `\Winlogon`}, Read: all(
				listItems(
					list{paths: []string{nt + `\Winlogon`, unt + `\Winlogon`}, value: "Shell", separator: ",", usual: []string{"explorer.exe"}, fallback: "explorer.exe"},
					list{paths: []string{nt + `\Winlogon`}, value: "Userinit", separator: ",", usual: []string{"userinit.exe", "userinit"}, fallback: `C:\Windows\system32\userinit.exe,`},
					list{paths: []string{nt + `\Winlogon`}, value: "VmApplet", separator: ",", usual: []string{"systempropertiesperformance.exe /pagefile", "rundll32 shell32", `control_rundll "sysdm.cpl"`}},
					list{paths: []string{nt + `\Winlogon`, unt + `\Winlogon`}, value: "Taskman", separator: ","},
					list{paths: []string{nt + `\Winlogon`}, value: "AppSetup", separator: ","},
					list{paths: []string{nt + `\Winlogon`}, value: "GinaDLL", separator: ",", usual: []string{"msgina.dll"}},
				),
				subkeyDLLs("DLLName", nt+`\Winlogon\Notify`),
				readAlternateShells,
			)},
		{ID: "windows.logon-script", Stage: autostart.SignIn, Switch: autostart.Park, Effect: signIn,
			Where: []string{`HKCU\Environment: UserInitMprLogonScript`, `C:\Windows\System32\GroupPolicy\*\Scripts`, cv + `\Group Policy\Scripts`}, Read: readLogonScripts},
		{ID: "windows.active-setup", Stage: autostart.SignIn, Switch: autostart.Park, Effect: signIn,
			Where: []string{soft + `\Microsoft\Active Setup\Installed Components`}, Read: readActiveSetup},
		{ID: "windows.load-run", Stage: autostart.SignIn, Switch: autostart.Trim, Effect: signIn,
			Where: []string{nt + `\Windows: Load, Run`, unt + `\Windows: Load, Run`}, Read: listItems(
				list{paths: []string{nt + `\Windows`, unt + `\Windows`}, value: "Load", separator: ","},
				list{paths: []string{nt + `\Windows`, unt + `\Windows`}, value: "Run", separator: ","},
			)},
		{ID: "windows.safe-boot", Stage: autostart.Boot, Switch: autostart.Report, Effect: start,
			Where: []string{ccs + `\Control\SafeBoot`}, Read: report("safe mode is what repairs a machine; a mistake here leaves nothing to repair it with", readSafeBoot)},
		{ID: "windows.services", Stage: autostart.System, Switch: autostart.StartType, Effect: start,
			Where: []string{ccs + `\Services`}, Read: readServices},
		{ID: "windows.drivers", Stage: autostart.Boot, Switch: autostart.StartType, Effect: start,
			Where: []string{ccs + `\Services`}, Read: readDrivers},
		{ID: "windows.boot-execute", Stage: autostart.Boot, Switch: autostart.Trim, Effect: start,
			Where: []string{sm + `: BootExecute, SetupExecute, Execute, S0InitialCommand`}, Read: listItems(
				list{paths: []string{sm}, value: "BootExecute", usual: []string{"autocheck autochk *", "autocheck autochk /q /v *", "autocheck autochk /m /p \\??\\c:"}, fallback: "autocheck autochk *"},
				list{paths: []string{sm}, value: "SetupExecute"}, list{paths: []string{sm}, value: "Execute"}, list{paths: []string{sm}, value: "S0InitialCommand"},
			)},
		{ID: "windows.pending-moves", Stage: autostart.Boot, Switch: autostart.Report, Effect: start,
			Where: []string{sm + `: PendingFileRenameOperations`}, Read: readPendingMoves},
		{ID: "windows.known-dlls", Stage: autostart.Attach, Switch: autostart.Report, Effect: start,
			Where: []string{sm + `\KnownDLLs`}, Read: report("these are loaded into every program; a missing one stops the machine", readKnownDLLs)},
		{ID: "windows.app-cert-dlls", Stage: autostart.Attach, Switch: autostart.Park, Effect: start,
			Where: []string{sm + `\AppCertDlls`}, Read: parkedValues(sm + `\AppCertDlls`)},
		{ID: "windows.app-init-dlls", Stage: autostart.Attach, Switch: autostart.Trim, Effect: signIn,
			Where: []string{nt + `\Windows: AppInit_DLLs`}, Read: readAppInit},
		{ID: "windows.image-options", Stage: autostart.Attach, Switch: autostart.Park, Effect: location.Immediately,
			Where: []string{nt + `\Image File Execution Options`, nt + `\SilentProcessExit`}, Read: readImageOptions},
		{ID: "windows.lsa", Stage: autostart.Attach, Switch: autostart.Trim, Effect: start,
			Where: []string{ccs + `\Control\Lsa`, ccs + `\Control\SecurityProviders`}, Read: listItems(
				list{paths: []string{lsa}, value: "Authentication Packages", usual: []string{"msv1_0"}, guarded: toSignIn},
				list{paths: []string{lsa}, value: "Notification Packages", usual: []string{"scecli", "rassfm", "kdcsvc"}, guarded: toSignIn},
				list{paths: []string{lsa, lsa + `\OSConfig`}, value: "Security Packages", usual: []string{"", `""`, "kerberos", "msv1_0", "schannel", "wdigest", "tspkg", "pku2u", "livessp", "cloudap"}, guarded: toSignIn},
				list{paths: []string{ccs + `\Control\SecurityProviders`}, value: "SecurityProviders", separator: ",", usual: []string{"credssp.dll", "schannel.dll", "digest.dll", "msapsspc.dll", "msnsspc.dll", "pwdssp.dll"}, guarded: toSignIn},
			)},
		{ID: "windows.credential-providers", Stage: autostart.Attach, Switch: autostart.StateValue, Effect: signIn,
			Where: []string{cv + `\Authentication`}, Read: guard(toSignIn, readCredentialProviders)},
		{ID: "windows.network-providers", Stage: autostart.Attach, Switch: autostart.Trim, Effect: signIn,
			Where: []string{ccs + `\Control\NetworkProvider\Order`}, Read: readNetworkProviders},
		{ID: "windows.winsock", Stage: autostart.Attach, Switch: autostart.Report, Effect: start,
			Where: []string{ccs + `\Services\WinSock2\Parameters`}, Read: readWinsock},
		{ID: "windows.print", Stage: autostart.Attach, Switch: autostart.Park, Effect: start,
			Where: []string{ccs + `\Control\Print: Monitors, Providers, Environments`}, Read: readPrint},
		{ID: "windows.time-providers", Stage: autostart.Attach, Switch: autostart.StateValue, Effect: start,
			Where: []string{ccs + `\Services\W32Time\TimeProviders`}, Read: readTimeProviders},
		{ID: "windows.netsh", Stage: autostart.Attach, Switch: autostart.Park, Effect: location.Immediately,
			Where: []string{soft + `\Microsoft\NetSh`}, Read: parkedValues(soft + `\Microsoft\NetSh`)},
		{ID: "windows.boot-verify", Stage: autostart.System, Switch: autostart.Park, Effect: start,
			Where: []string{ccs + `\Control\BootVerificationProgram: ImagePath`, ccs + `\Control: ServiceControlManagerExtension`}, Read: byProgram(all(
				namedValues(nil, []string{"ImagePath"}, ccs+`\Control\BootVerificationProgram`),
				namedValues(map[string]string{"servicecontrolmanagerextension": "scext.dll"}, []string{"ServiceControlManagerExtension"}, ccs+`\Control`)))},
		{ID: "windows.terminal-server", Stage: autostart.SignIn, Switch: autostart.Trim, Effect: signIn,
			Where: []string{terminal + `\Wds\rdpwd: StartupPrograms`, terminal + `\WinStations\*: InitialProgram`}, Read: readTerminalServer},
		{ID: "windows.explorer", Stage: autostart.Attach, Switch: autostart.Park, Effect: signIn,
			Where: []string{cv + `: ShellServiceObjectDelayLoad, ShellServiceObjects, ShellExecuteHooks, SharedTaskScheduler, ShellIconOverlayIdentifiers, Browser Helper Objects`}, Read: readExplorer},
		{ID: "windows.shell-extensions", Stage: autostart.Attach, Switch: autostart.StateValue, Effect: signIn,
			Where: []string{soft + `\Classes\{*,Directory,Folder,Drive,AllFilesystemObjects,...}\ShellEx`}, Read: readShellExtensions},
		{ID: "windows.open-commands", Stage: autostart.Attach, Switch: autostart.Report, Effect: location.Immediately,
			Where: []string{soft + `\Classes\{exefile,comfile,batfile,cmdfile,...}\shell\open\command`, soft + `\Classes\Protocols`}, Read: readOpenCommands},
		{ID: "windows.codecs", Stage: autostart.Attach, Switch: autostart.Park, Effect: location.Immediately,
			Where: []string{nt + `\Drivers32`, soft + `\Classes\CLSID\` + directShow + `\Instance`}, Read: readCodecs},
		{ID: "windows.office-addins", Stage: autostart.Attach, Switch: autostart.StateValue, Effect: location.Immediately,
			Where: []string{soft + `\Microsoft\Office\*\Addins`, `HKCU\Software\Microsoft\Office\*\Addins`, "XLSTART and STARTUP folders"}, Read: readOffice},
		{ID: "windows.browser", Stage: autostart.Attach, Switch: autostart.Report, Effect: location.Immediately,
			Where: []string{"profiles and policies of the Chromium and Firefox families", soft + `\Microsoft\Internet Explorer`}, Read: readBrowsers},
		{ID: "windows.command-processor", Stage: autostart.Event, Switch: autostart.Park, Effect: location.Immediately,
			Where: []string{soft + `\Microsoft\Command Processor: AutoRun`, `HKCU\Software\Microsoft\Command Processor: AutoRun`},
			Read:  namedValues(nil, []string{"AutoRun"}, soft+`\Microsoft\Command Processor`, `HKCU\Software\Microsoft\Command Processor`)},
		{ID: "windows.powershell-profile", Stage: autostart.Event, Switch: autostart.Park, Effect: location.Immediately,
			Where: []string{"profile.ps1 of the system and of each person"}, Read: readPowerShellProfiles},
		{ID: "windows.screensaver", Stage: autostart.Event, Switch: autostart.Park, Effect: signIn,
			Where: []string{`HKCU\Control Panel\Desktop: SCRNSAVE.EXE`}, Read: namedValues(nil, []string{"SCRNSAVE.EXE"}, `HKCU\Control Panel\Desktop`)},
		{ID: "windows.environment-hooks", Stage: autostart.Attach, Switch: autostart.Park, Effect: signIn,
			Where: []string{sm + `\Environment`, `HKCU\Environment`}, Read: readEnvironment},
		{ID: "windows.amsi", Stage: autostart.Attach, Switch: autostart.Report, Effect: location.Immediately,
			Where: []string{soft + `\Microsoft\AMSI\Providers`}, Read: report("it is what security software looks at scripts with", readAMSI)},
		{ID: "windows.telemetry-controller", Stage: autostart.Schedule, Switch: autostart.Park, Effect: location.AtNextRun,
			Where: []string{nt + `\AppCompatFlags\TelemetryController`}, Read: readTelemetry},
		{ID: "windows.tasks", Stage: autostart.Schedule, Switch: autostart.TaskEnabled, Effect: location.AtNextRun,
			Where: []string{`C:\Windows\System32\Tasks`}, Read: readTasks},
		{ID: "windows.tasks-legacy", Stage: autostart.Schedule, Switch: autostart.Park, Effect: location.AtNextRun,
			Where: []string{`C:\Windows\Tasks`}, Read: readJobs},
		{ID: "windows.wmi", Stage: autostart.Event, Switch: autostart.Report, Effect: start,
			Where: []string{`C:\Windows\System32\wbem\Repository\OBJECTS.DATA`}, Read: readWMI},
		{ID: "windows.setup", Stage: autostart.Boot, Switch: autostart.Report, Effect: start,
			Where: []string{`HKLM\SYSTEM\Setup: CmdLine, SetupType`}, Read: readSetup},
		{ID: "windows.firmware-boot", Stage: autostart.Boot, Switch: autostart.Report, Effect: start,
			Where: []string{`HKLM\BCD00000000\Objects`}, Read: readBootEntries},
	}
}

const (
	lsa      = ccs + `\Control\Lsa`
	terminal = ccs + `\Control\Terminal Server`
	toSignIn = "needed to sign in"
)
