package macos

import (
	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine"
)

// Locations lists every location of macOS that Lock Back reads.
func Locations() []location.Location {
	const (
		start  = location.AtNextStart
		signIn = location.AtNextSignIn
		use    = location.AtNextUse
	)
	d := &disk{database: map[string]*database{}}
	return []location.Location{
		{ID: "macos.kernel-extensions", Title: "Kernel extensions", Stage: autostart.Boot, Effect: start, Role: location.Device,
			Places: location.In("/Library/Extensions", "/System/Library/Extensions"), Form: location.Code{Shows: autostart.Park, Reader: readKernelExtensions}},
		{ID: "macos.system-extensions", Title: "System extensions", Stage: autostart.Boot, Effect: start, Role: location.Device,
			Places: location.At(systemExtensions), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readSystemExtensions)}},
		{ID: "macos.boot-tasks", FixedNames: true, Title: "Boot tasks of launchd", Stage: autostart.Boot, Effect: start,
			Places: location.At("/private/etc/rc.server", "/private/etc/rc.cdrom", "/private/etc/rc.netboot", "/private/etc/rc.installer_cleanup", kernelArguments),
			Form:   location.Code{Shows: autostart.Park, Reader: location.Alone(readBootTasks)}},
		{ID: "macos.launch-daemons", Kind: location.LaunchJob, Title: "LaunchDaemons", Stage: autostart.System, Effect: start,
			Places: location.Packaged(location.At("/System/Library/LaunchDaemons", "/Library/Apple/System/Library/LaunchDaemons", "/Library/LaunchDaemons"),
				"/System/Library/LaunchDaemons", "/Library/Apple/System/Library/LaunchDaemons"), Form: location.Code{Shows: autostart.Override, Reader: location.Alone(d.readDaemons)}},
		{ID: "macos.startup-items", HandedOver: true, Title: "StartupItems", Stage: autostart.System, Effect: start,
			Places: location.At("/Library/StartupItems", "/System/Library/StartupItems"), Form: location.Code{Shows: autostart.Park, Reader: readStartupItems}},
		{ID: "macos.rc", FixedNames: true, Title: "Start scripts of the system", Stage: autostart.System, Effect: start,
			Places: location.At("/private/etc/rc.local", "/private/etc/rc.common", "/private/etc/rc.shutdown.local"), Form: location.Code{Shows: autostart.Park, Reader: readRC},
			Also: []location.Reading{{Places: location.At("/private/etc/launchd.conf", "~/.launchd.conf"),
				Form: unix.Lines{Comments: "#", Describe: describeSetting, Ignored: ignoresSettings}}}},
		{ID: "macos.launch-agents", Kind: location.LaunchJob, Title: "LaunchAgents", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn,
			Places: location.Packaged(location.At("/System/Library/LaunchAgents", "/Library/Apple/System/Library/LaunchAgents", "/Library/LaunchAgents", "~/Library/LaunchAgents"),
				"/System/Library/LaunchAgents", "/Library/Apple/System/Library/LaunchAgents"), Form: location.Code{Shows: autostart.Override, Reader: location.Alone(d.readAgents)}},
		{ID: "macos.embedded-jobs", Title: "Helpers inside apps", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn,
			Places: location.Told("Contents/Library/{LaunchAgents,LaunchDaemons,LoginItems} of the apps in /Applications and ~/Applications"), Form: location.Code{Shows: autostart.Override, Reader: location.Alone(d.readEmbedded)}},
		{ID: "macos.login-items", Title: "Login items", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn, Notify: location.Notify{Daemon: machine.Preferences},
			Places: location.At(backgroundFolder, "~/"+agentDatabase, "~/"+oldLoginItems), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(d.readLoginItems)}},
		{ID: "macos.login-hooks", Title: "Login and logout hooks", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn, Notify: location.Notify{Daemon: machine.Preferences},
			Places: location.At("/Library/Preferences/com.apple.loginwindow.plist", "~/Library/Preferences/com.apple.loginwindow.plist", "~/Library/Preferences/loginwindow.plist"), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(readLoginHooks)}},
		{ID: "macos.reopen", Title: "Apps reopened at sign-in", Stage: autostart.SignIn, Effect: signIn, Notify: location.Notify{Daemon: machine.Preferences},
			Places: location.At("~/Library/Preferences/ByHost/com.apple.loginwindow.*.plist"), Form: location.Code{Shows: autostart.Trim, Reader: location.Alone(readReopen)}},
		{ID: "macos.managed-login-items", Title: "Managed login items", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn,
			Places: location.At(managedFolder, profileFolder), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readManaged)}},
		{ID: "macos.login-shell", FixedNames: true, Title: "Shell start-up files", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn,
			Places: location.At(append(shellFiles("/private/etc/", systemShellFiles), shellFiles("~/", userShellFiles)...)...), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readShellFiles)}},
		{ID: "macos.ssh-rc", FixedNames: true, Title: "SSH sign-in script", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn,
			Places: location.At("/private/etc/ssh/sshrc", "~/.ssh/rc"), Form: unix.WholeFiles{Adjust: describeRC}},
		{ID: "macos.ssh-commands", Title: "Commands forced by ssh", Common: "for everyone", Stage: autostart.SignIn, Effect: signIn,
			Places: location.At("/private/etc/ssh/sshd_config", "/private/etc/ssh/sshd_config.d", "/private/etc/ssh/ssh_config", "~/.ssh/config", "~/.ssh/authorized_keys"),
			Form:   location.Code{Shows: autostart.Report, Reader: location.Alone(readSSHCommands)}},
		{ID: "macos.cron", Kind: location.CronLine, Title: "Crontab", Common: "of the system", Stage: autostart.Schedule, Effect: location.WithinMinute,
			Places: location.At("/private/etc/crontab"), Form: unix.Crontabs{}, Runner: location.Runner{Off: d.cronIsOff},
			Also: []location.Reading{{Places: location.In(cronTabs), Form: unix.Crontabs{Accepts: isCronTab, Personal: true}}}},
		{ID: "macos.at", Title: "Jobs of at", Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.At(atJobs), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(d.readAt)}},
		{ID: "macos.periodic", Kind: location.PeriodicScript, Title: "Daily to monthly scripts", Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.Packaged(location.At("/private/etc/periodic/daily", "/private/etc/periodic/weekly", "/private/etc/periodic/monthly", "/usr/local/etc/periodic", "/private/etc/periodic.conf"),
				"/private/etc/periodic/daily", "/private/etc/periodic/weekly", "/private/etc/periodic/monthly"), Form: location.Code{Shows: autostart.Unexec, Reader: location.Alone(readPeriodic)}, Runner: location.Runner{Off: d.periodicIsOff}},
		{ID: "macos.emond", Title: "Rules of the event monitor", Stage: autostart.Event, Effect: start,
			Places: location.At(emondRules, emondClients), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(readEmond)}},
		{ID: "macos.folder-actions", Purpose: "helper", Title: "Folder actions", Stage: autostart.Event, Effect: signIn, Notify: location.Notify{Daemon: machine.Preferences},
			Places: location.At("~/" + folderActions), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(d.readFolderActions)}},
		{ID: "macos.services", Title: "Services and quick actions", Common: "for everyone", Stage: autostart.Event, Effect: signIn,
			Places: location.At("/Library/Services", "~/Library/Services"), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(readServices)}},
		{ID: "macos.printing", Title: "Printer back ends and filters", Stage: autostart.Event, Effect: use,
			Places: location.At("/usr/libexec/cups/backend", "/usr/libexec/cups/filter"), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readPrinting)}},
		{ID: "macos.app-extensions", Title: "App extensions", Common: "for everyone", Stage: autostart.Attach, Effect: use,
			Places: location.At("/Applications", "~/Applications"), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(d.readAppExtensions)}},
		{ID: "macos.dock-tiles", Title: "Dock tile plug-ins", Common: "for everyone", Stage: autostart.Attach, Effect: use,
			Places: location.At("/Applications", "~/Applications"), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(d.readDockTiles)}},
		{ID: "macos.sudo", Title: "sudo plug-ins", Stage: autostart.Attach, Effect: use, Role: location.SignInStep,
			Places: location.At("/private/etc/sudo.conf"), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readSudo)}},
		{ID: "macos.authorization", Title: "Plug-ins of the sign-in window", Stage: autostart.Attach, Effect: signIn, Role: location.SignInStep,
			Places: location.At("/Library/Security/SecurityAgentPlugins", authorizationDatabase), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readAuthorization)}},
		{ID: "macos.browser", Title: "Browser extensions", Common: "for everyone", Stage: autostart.Attach, Effect: use,
			Places: location.Told("profiles of the Chromium and Firefox families, Safari's list"), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readBrowsers)},
			Also: []location.Reading{{Places: location.Told("folders of native messaging hosts"), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(readHosts)}},
				{Places: location.At(managedFolder, firefoxPolicies), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(readForced)}},
				{Places: location.At(externalFolders()...), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(readExternal)}}}},
		{ID: "macos.directory-services", Title: "Directory service plug-ins", Stage: autostart.Attach, Effect: start, Role: location.SignInStep,
			Places: location.In("/Library/DirectoryServices/PlugIns", "/Library/OpenDirectory/Modules"), Form: bundles{endings: ".dsplug .daplug .xpc .bundle", mode: "directory service"}},
		{ID: "macos.environment", Title: "Preloaded libraries", Common: "for everyone", Stage: autostart.Attach, Effect: signIn,
			Places: append(location.Told("DYLD_INSERT_LIBRARIES of jobs and apps"), location.At("~/.MacOSX/environment.plist")...), Form: location.Code{Shows: autostart.Report, Reader: location.Alone(d.readEnvironment)}},
		{ID: "macos.pam", Title: "PAM modules", Stage: autostart.Attach, Effect: use, Role: location.SignInStep,
			Places: location.At("/private/etc/pam.d"), Form: location.Code{Shows: autostart.Report, Reader: readPAM}},
		{ID: "macos.plug-ins", Title: "Plug-ins", Common: "for everyone", Stage: autostart.Attach, Effect: use,
			Places: location.Told(plugInPlaces()), Form: location.Code{Shows: autostart.Park, Reader: location.Alone(readPlugIns)}},
	}
}
