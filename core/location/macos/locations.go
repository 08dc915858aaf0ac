package macos

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// Locations lists every location of macOS that Lock Back reads.
func Locations() []location.Location {
	const (
		start  = location.AtNextStart
		signIn = location.AtNextSignIn
		use    = location.Immediately
	)
	d := &disk{database: map[string]*database{}}
	return []location.Location{
		{ID: "macos.kernel-extensions", Stage: autostart.Boot, Switch: autostart.Park, Effect: start,
			Where: []string{"/Library/Extensions", "/System/Library/Extensions"}, Read: readKernelExtensions},
		{ID: "macos.system-extensions", Stage: autostart.Boot, Switch: autostart.Report, Effect: start,
			Where: []string{systemExtensions}, Read: readSystemExtensions},
		{ID: "macos.launch-daemons", Stage: autostart.System, Switch: autostart.Override, Effect: start,
			Where: []string{"/System/Library/LaunchDaemons", "/Library/Apple/System/Library/LaunchDaemons", "/Library/LaunchDaemons"}, Read: d.readDaemons},
		{ID: "macos.startup-items", Stage: autostart.System, Switch: autostart.Park, Effect: start,
			Where: []string{"/Library/StartupItems", "/System/Library/StartupItems"}, Read: readStartupItems},
		{ID: "macos.rc", Stage: autostart.System, Switch: autostart.Park, Effect: start,
			Where: []string{"/private/etc/rc.local", "/private/etc/rc.common", "/private/etc/launchd.conf", "~/.launchd.conf"}, Read: readRC},
		{ID: "macos.launch-agents", Stage: autostart.SignIn, Switch: autostart.Override, Effect: signIn,
			Where: []string{"/System/Library/LaunchAgents", "/Library/Apple/System/Library/LaunchAgents", "/Library/LaunchAgents", "~/Library/LaunchAgents"}, Read: d.readAgents},
		{ID: "macos.embedded-jobs", Stage: autostart.SignIn, Switch: autostart.Override, Effect: signIn,
			Where: []string{"Contents/Library/{LaunchAgents,LaunchDaemons,LoginItems} of the apps in /Applications and ~/Applications"}, Read: d.readEmbedded},
		{ID: "macos.login-items", Stage: autostart.SignIn, Switch: autostart.Report, Effect: signIn,
			Where: []string{backgroundFolder, "~/" + agentDatabase, "~/" + oldLoginItems}, Read: d.readLoginItems},
		{ID: "macos.login-hooks", Stage: autostart.SignIn, Switch: autostart.Park, Effect: signIn,
			Where: []string{"/Library/Preferences/com.apple.loginwindow.plist", "~/Library/Preferences/com.apple.loginwindow.plist", "~/Library/Preferences/loginwindow.plist"}, Read: readLoginHooks},
		{ID: "macos.reopen", Stage: autostart.SignIn, Switch: autostart.Trim, Effect: signIn,
			Where: []string{"~/Library/Preferences/ByHost/com.apple.loginwindow.*.plist"}, Read: readReopen},
		{ID: "macos.managed-login-items", Stage: autostart.SignIn, Switch: autostart.Report, Effect: signIn,
			Where: []string{managedFolder, profileFolder}, Read: readManaged},
		{ID: "macos.login-shell", Stage: autostart.SignIn, Switch: autostart.Report, Effect: signIn,
			Where: append(shellFiles("/private/etc/", systemShellFiles), shellFiles("~/", userShellFiles)...), Read: readShellFiles},
		{ID: "macos.ssh-rc", Stage: autostart.SignIn, Switch: autostart.Park, Effect: signIn,
			Where: []string{"/private/etc/ssh/sshrc", "~/.ssh/rc"}, Read: readSSH},
		{ID: "macos.cron", Stage: autostart.Schedule, Switch: autostart.Comment, Effect: location.WithinMinute,
			Where: []string{"/private/etc/crontab", cronTabs}, Read: readCron},
		{ID: "macos.at", Stage: autostart.Schedule, Switch: autostart.Park, Effect: location.AtNextRun,
			Where: []string{atJobs}, Read: d.readAt},
		{ID: "macos.periodic", Stage: autostart.Schedule, Switch: autostart.Unexec, Effect: location.AtNextRun,
			Where: []string{"/private/etc/periodic/{daily,weekly,monthly}", "/usr/local/etc/periodic", "/private/etc/periodic.conf"}, Read: readPeriodic},
		{ID: "macos.emond", Stage: autostart.Event, Switch: autostart.Park, Effect: start,
			Where: []string{emondRules, emondClients}, Read: readEmond},
		{ID: "macos.folder-actions", Stage: autostart.Event, Switch: autostart.Report, Effect: signIn,
			Where: []string{"~/" + folderActions}, Read: readFolderActions},
		{ID: "macos.authorization", Stage: autostart.Attach, Switch: autostart.Report, Effect: signIn,
			Where: []string{"/Library/Security/SecurityAgentPlugins", authorizationDatabase}, Read: readAuthorization},
		{ID: "macos.browser", Stage: autostart.Attach, Switch: autostart.Report, Effect: use,
			Where: []string{"profiles of the Chromium and Firefox families, Safari's list, folders of native messaging hosts"}, Read: readBrowsers},
		{ID: "macos.directory-services", Stage: autostart.Attach, Switch: autostart.Park, Effect: start,
			Where: []string{"/Library/DirectoryServices/PlugIns"}, Read: readDirectoryServices},
		{ID: "macos.environment", Stage: autostart.Attach, Switch: autostart.Report, Effect: signIn,
			Where: []string{"DYLD_INSERT_LIBRARIES of jobs and apps", "~/.MacOSX/environment.plist"}, Read: d.readEnvironment},
		{ID: "macos.pam", Stage: autostart.Attach, Switch: autostart.Report, Effect: use,
			Where: []string{"/private/etc/pam.d"}, Read: readPAM},
		{ID: "macos.plug-ins", Stage: autostart.Attach, Switch: autostart.Park, Effect: use,
			Where: []string{plugInPlaces()}, Read: readPlugIns},
	}
}
