// Package linux declares the places that a Linux desktop starts things from:
// one row of [Locations] each. Most rows are places and a form; what is peculiar
// has a file of its own, named after what it reads.
package linux

import (
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine"
)

// Locations lists every location of Linux that Lock Back reads.
func Locations() []location.Location {
	table := rows()
	for k := range table {
		table[k].Adjust = comesBack
	}
	return table
}

func rows() []location.Location {
	managers := compositors()
	return []location.Location{
		{
			ID: "linux.modules", Title: "Kernel modules", Stage: autostart.Boot, Effect: location.AtNextStart,
			Role: location.Module,
			Places: slices.Concat(location.At("/etc/modules", "/etc/initramfs-tools/modules"),
				location.Chain("modules-load.d", ".conf")),
			Form: unix.Lines{Comments: "#;", Describe: describeModule, Key: moduleKey},
		},
		{
			ID: "linux.kernel-args", Fleeting: typedIn, Title: "Kernel arguments", Stage: autostart.Boot,
			Effect: location.AtNextStart,
			Places: slices.Concat(kernelArgsPlaces, location.InWords("the arguments of the running kernel")),
			Form:   location.Code{Shows: autostart.Report, Reader: readKernelArgs},
		},
		{
			ID: "linux.modprobe", Title: "Commands run when a module is loaded", Stage: autostart.Boot,
			Effect: location.AtNextStart, Role: location.Module,
			Places: location.Chain("modprobe.d", ".conf"),
			Form:   unix.Lines{Comments: "#", Joined: true, Describe: describeModprobe},
		},
		{
			ID: "linux.binfmt", Title: "Interpreters for kinds of programs", Stage: autostart.Boot,
			Effect: location.AtNextStart,
			Places: location.Chain("binfmt.d", ".conf"),
			Form:   unix.Lines{Comments: "#;", Describe: describeBinfmt},
			Runner: location.Runner{Off: otherInit},
		},
		{
			ID: "linux.initramfs", Title: "Initial ramdisk scripts and hooks", Stage: autostart.Boot,
			Effect: location.AtNextStart,
			Places: location.In(ramdiskFolders("/etc")...),
			Form: location.Reporting{Form: unix.Executables{Accepts: ramdiskAccepts, When: ramdiskTime},
				Why: ramdiskWhy},
			Also: ramdiskReadings(),
		},
		{
			ID: "linux.systemd.generators", Kind: location.ManagerHook, Title: "systemd generators",
			Stage: autostart.Boot, Effect: location.AtNextStart,
			Places: generators("system-generators", "system-environment-generators", "user-generators",
				"user-environment-generators"),
			Form: location.Code{Shows: autostart.Mask, Others: []autostart.Switch{autostart.Unexec},
				Reader: unix.Overridden},
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.cloud-init", Title: "Boot scripts of cloud-init", Stage: autostart.Boot,
			Effect: location.AtNextStart,
			Places: location.In("/var/lib/cloud/scripts/per-boot"),
			Form:   unix.Executables{},
			Runner: location.Runner{Off: cloudInit.off},
		},
		{
			ID: "linux.systemd.system", Fleeting: untilRestart, Kind: location.SystemUnit, Title: "systemd units",
			Common: "of the system", Stage: autostart.System, Effect: location.AtNextStart,
			Places: location.Packaged(location.In(systemUnits.places()...), "/usr/lib/systemd/system",
				"/lib/systemd/system"),
			Notify: location.Notify{Daemon: machine.ServiceManager},
			Form: location.Code{Shows: autostart.Unlink, Others: []autostart.Switch{autostart.Mask},
				Reader: location.Alone(readSystemUnits)},
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.rc-local", FixedNames: true, Title: "Start script rc.local", Stage: autostart.System,
			Effect: location.AtNextStart,
			Places: location.At("/etc/rc.local", "/etc/rc.d/rc.local"),
			Form:   unix.Executables{},
		},
		{
			ID: "linux.quadlet", Title: "Container units (quadlets)", Common: "of the system", Stage: autostart.System,
			Effect: location.AtNextStart,
			Places: location.In("/etc/containers/systemd", "/usr/share/containers/systemd",
				"~/.config/containers/systemd"),
			Form:   unix.WholeFiles{Accepts: anyMachine(quadletAccepts), Adjust: describeQuadlet},
			Runner: location.Runner{Off: podman.off},
		},
		{
			ID: "linux.sysv", Kind: location.InitService, HandedOver: true, Title: "SysV init scripts",
			Stage:  autostart.System,
			Effect: location.AtNextStart,
			Places: rcPlaces(),
			Form:   location.Code{Shows: autostart.Rename, Reader: readSysV},
			Runner: location.Runner{Off: noRunlevels, Fixed: true},
		},
		{
			ID: "linux.openrc", Kind: location.InitService, HandedOver: true, Title: "OpenRC services",
			Stage:  autostart.System,
			Effect: location.AtNextStart,
			Places: location.In("/etc/runlevels", "/etc/init.d"),
			Form:   openRCServices, Runner: location.Runner{Off: noOpenRC, Fixed: true},
			Also: []location.Reading{{Places: withSuffix(".start", "/etc/local.d"), Form: unix.Executables{}}},
		},
		{
			ID: "linux.runit", Kind: location.InitService, HandedOver: true, Title: "runit services",
			Stage:  autostart.System,
			Effect: location.AtNextStart,
			Places: location.In(runitFolders...),
			Form:   location.Code{Shows: autostart.DownFile, Reader: readRunit},
			Runner: location.Runner{Off: runsvdir.off},
		},
		{
			ID: "linux.containers", HandedOver: true, Title: "Containers and virtual machines", Stage: autostart.System,
			Effect: location.AtNextStart,
			Places: location.In(dockerContainers),
			Form:   location.Code{Shows: autostart.Report, Reader: readDocker},
			Runner: location.Runner{Off: dockerDaemon.off},
			Also: slices.Concat(libvirtReadings(), []location.Reading{
				{Places: location.At("/var/lib/lxc/*/config", "~/.local/share/lxc/*/config"),
					Form: unix.Lines{Comments: "#", Describe: describeLXC}, Runner: location.Runner{Off: lxcTools.off}},
			}),
		},
		{
			ID: "linux.inittab", FixedNames: true, Title: "inittab", Stage: autostart.System,
			Effect: location.AtNextStart, Role: location.Session,
			Places: location.At("/etc/inittab"),
			Form:   unix.Lines{Comments: "#", Describe: describeInittab},
			Runner: location.Runner{Off: onlyUnder("sysvinit", "busybox", "OpenRC"), Fixed: true},
		},
		{
			ID: "linux.systemd.user", Fleeting: untilRestart, Kind: location.UserUnit, Title: "systemd user units",
			Common: "for everyone", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In(append(userUnits.places(), "~/.config/systemd/user.control",
				"~/.config/systemd/user", "~/.local/share/systemd/user")...),
				"/usr/lib/systemd/user", "/lib/systemd/user"),
			Notify: location.Notify{Daemon: machine.ServiceManager, Everyone: true},
			Form: location.Code{Shows: autostart.Unlink, Others: []autostart.Switch{autostart.Mask},
				Reader: location.Alone(readUserUnits)},
			// Without systemd as the first process, nobody starts a manager for each user.
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.xdg-autostart", Kind: location.DesktopFile, Title: "Autostart folder", Common: "for everyone",
			Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In("~/.config/autostart", "/etc/xdg/autostart",
				"/usr/share/gnome/autostart", "/usr/share/autostart", "~/snap/*/current/.config/autostart"),
				"/etc/xdg/autostart", "/usr/share/gnome/autostart", "/usr/share/autostart"),
			// its generator makes units of them
			Notify: location.Notify{Daemon: machine.ServiceManager, Everyone: true},
			Form: location.Code{Shows: autostart.Hide, Others: []autostart.Switch{autostart.Park},
				Reader: location.Alone(readXDGAutostart)},
		},
		{
			ID: "linux.display-manager", Title: "Sign-in screen scripts", Stage: autostart.SignIn,
			Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In(gdmFolders...), gdmFolders...),
			Form:   unix.Executables{Accepts: anyMachine(gdmAccepts), When: gdmTime},
			Runner: location.Runner{Off: dmOff("gdm", "gdm3")},
			Also:   displayManagers(),
		},
		{
			ID: "linux.sessions", Title: "Desktop sessions", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Role: location.Session,
			Places: location.Packaged(withSuffix(".desktop", "/usr/share/xsessions", "/usr/share/wayland-sessions"),
				"/usr/share/xsessions", "/usr/share/wayland-sessions"),
			Form: location.Reporting{Form: unix.Lines{Comments: "#", Section: unix.Brackets, Describe: describeSession},
				Why: "somebody chooses it at sign-in"},
		},
		{
			ID: "linux.compositor", Title: "Start-up lines of window managers", Common: "for everyone",
			Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: managers[0].Places,
			Form:   managers[0].Form, Runner: managers[0].Runner,
			Also: managers[1:],
		},
		{
			ID: "linux.login-shell", FixedNames: true, Title: "Shell start-up files", Common: "for everyone",
			Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In(shellFolders...), "/etc/profile.d", "/etc/bash_completion.d",
				"/etc/fish/conf.d"),
			Form: shellScripts,
			Also: []location.Reading{{Places: shellFiles, Form: shellStartUps}},
		},
		{
			ID: "linux.x-session", FixedNames: true, Title: "X session scripts", Common: "for everyone",
			Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(slices.Concat(location.In("/etc/X11/Xsession.d", "/etc/X11/xinit/xinitrc.d"),
				location.At("~/.xsession", "~/.xsessionrc", "~/.xinitrc", "~/.xprofile")), "/etc/X11/Xsession.d",
				"/etc/X11/xinit/xinitrc.d"),
			Form: unix.WholeFiles{Accepts: xsessionAccepts},
		},
		{
			ID: "linux.kde", Title: "KDE Plasma scripts", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.In("~/.config/plasma-workspace/env"),
			Form:   unix.WholeFiles{Accepts: anyMachine(shellScript)},
			Also: []location.Reading{
				{Places: location.In("~/.config/plasma-workspace/shutdown"), Form: unix.Executables{When: atSignOut}},
				{Places: location.In("~/.config/autostart-scripts"), Form: unix.Executables{}},
			},
		},
		{
			ID: "linux.kde.modules", Title: "Modules and scripts of KDE Plasma", Common: "for everyone",
			Stage: autostart.Attach, Effect: location.AtNextSignIn,
			Places: location.Packaged(withSuffix(".so", kdedFolders...), kdedFolders...),
			Form:   location.Reporting{Form: unix.WholeFiles{Adjust: describeKded}, Why: kdedWhy},
			Also: []location.Reading{{Places: location.In("/usr/share/kwin/scripts", "~/.local/share/kwin/scripts"),
				Form: kwinScripts}},
		},
		{
			ID: "linux.motd", Title: "Message-of-the-day scripts", Stage: autostart.SignIn,
			Effect: location.AtNextSignIn,
			Places: location.In("/etc/update-motd.d"),
			Form:   unix.Executables{Accepts: anyMachine(lsbAccepts)},
		},
		{
			ID: "linux.ssh-rc", FixedNames: true, Title: "SSH sign-in script", Common: "for everyone",
			Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.At("/etc/ssh/sshrc", "~/.ssh/rc"),
			Form:   unix.WholeFiles{Adjust: describeRC},
			Runner: location.Runner{Off: sshServer},
		},
		{
			ID: "linux.cron.system", Kind: location.CronLine, Title: "Crontabs", Common: "of the system",
			Stage: autostart.Schedule, Effect: location.WithinMinute,
			Places: location.Packaged(slices.Concat(location.At("/etc/crontab"), location.In("/etc/cron.d")),
				"/etc/crontab", "/etc/cron.d"),
			Form:   unix.Crontabs{Accepts: cronAccepts, Ignored: cronIgnores},
			Runner: location.Runner{Off: cronDaemon.off},
		},
		{
			ID: "linux.cron.user", Kind: location.CronLine, Title: "Crontab", Stage: autostart.Schedule,
			Effect: location.WithinMinute,
			Places: location.In(userCrontabs...),
			Form:   unix.Crontabs{Accepts: notHidden, Ignored: cronIgnores, Personal: true},
			Runner: location.Runner{Off: cronDaemon.off},
		},
		{
			ID: "linux.at", Title: "Jobs of at", Stage: autostart.Schedule, Effect: location.WithinMinute,
			Places: location.In("/var/spool/cron/atjobs", "/var/spool/atjobs", "/var/spool/at"),
			Form:   unix.WholeFiles{Accepts: anyMachine(atAccepts), Adjust: describeAt},
			Runner: location.Runner{Off: atDaemon.off},
		},
		{
			ID: "linux.anacron", Title: "anacron jobs", Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.Packaged(location.At("/etc/anacrontab"), "/etc/anacrontab"),
			Form:   unix.Lines{Comments: "#", Joined: true, Describe: describeAnacron},
			Runner: location.Runner{Off: anacronProgram.off},
		},
		{
			ID: "linux.cron.periodic", Kind: location.CronFolder, Title: "Hourly to monthly cron folders",
			Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.Packaged(location.In(periodicFolders...), periodicFolders...),
			Form:   unix.Executables{Accepts: periodicAccepts, When: period},
			// Of Alpine, whose crond has busybox run them: names as Debian's run-parts takes them.
			Also: []location.Reading{{Places: location.Packaged(location.In(busyboxFolders...), busyboxFolders...),
				Form:   unix.Executables{Accepts: anyMachine(runPartsAccepts), When: busyboxPeriod},
				Runner: location.Runner{Off: cronDaemon.off}}},
		},
		{
			ID: "linux.logrotate", Title: "Scripts of logrotate", Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.Packaged(slices.Concat(location.At("/etc/logrotate.conf"),
				location.In("/etc/logrotate.d")), "/etc/logrotate.conf", "/etc/logrotate.d"),
			Form:   location.Reporting{Form: logrotateScripts(), Why: "the script belongs to a log; change the file"},
			Runner: location.Runner{Off: logrotate.off},
		},
		{
			ID: "linux.dbus", Kind: location.BusService, Title: "D-Bus services", Common: "for everyone",
			Stage:  autostart.Event,
			Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In(sessionBus...), "/usr/share/dbus-1/services"),
			Form:   location.Code{Shows: autostart.Mask, Others: []autostart.Switch{autostart.Park}, Reader: readBus},
			Also: []location.Reading{{Places: location.Packaged(location.In(systemBus...),
				"/usr/share/dbus-1/system-services"), Form: location.Code{Shows: autostart.Mask,
				Others: []autostart.Switch{autostart.Park}, Reader: readBus}}},
		},
		{
			ID: "linux.udev", Title: "udev rules", Stage: autostart.Event, Effect: location.AtNextStart,
			Role:   location.Device,
			Places: location.Chain("udev/rules.d", ".rules"),
			Form: location.Code{Shows: autostart.Comment, Others: []autostart.Switch{autostart.Mask},
				Reader: readRules},
		},
		{
			ID: "linux.systemd.hooks", Kind: location.ManagerHook, Title: "Sleep and shutdown hooks of systemd",
			Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.Packaged(location.In("/usr/lib/systemd/system-sleep", "/usr/lib/systemd/system-shutdown"),
				"/usr/lib/systemd/system-sleep", "/usr/lib/systemd/system-shutdown"),
			Form:   unix.Executables{When: hookTime},
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.network-hooks", Title: "Network hooks", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.Packaged(location.In(dispatcherFolders...), dispatcherFolders...),
			Form:   unix.Executables{Accepts: anyMachine(dispatcherAccepts), When: networkTime},
			Runner: location.Runner{Off: networkManager.off},
			Also: []location.Reading{
				{Places: location.Packaged(location.In(ifupdownFolders...), ifupdownFolders...),
					Form:   unix.Executables{Accepts: anyMachine(runPartsAccepts), When: interfaceTime},
					Runner: location.Runner{Off: ifupdown.off}},
				{Places: location.In(networkdFolders...), Form: unix.Executables{When: networkTime},
					Runner: location.Runner{Off: dispatcher.off}},
				{Places: location.Packaged(location.In(pppFolders...), pppFolders...),
					Form:   unix.Executables{Accepts: anyMachine(runPartsAccepts), When: pppTime},
					Runner: location.Runner{Off: pppDaemon.off}},
				// Read by dhclient's own script, whatever their rights are, dhclient-script(8).
				{Places: location.Packaged(location.In(dhclientFolders...), dhclientFolders...),
					Form:   unix.WholeFiles{Accepts: anyMachine(runPartsAccepts), Adjust: onLease},
					Runner: location.Runner{Off: dhclient.off}},
			},
		},
		{
			ID: "linux.network-lines", Title: "Commands in settings of networks", Stage: autostart.Event,
			Effect: location.AtNextRun,
			Places: location.At("/etc/network/interfaces"),
			Form:   unix.Lines{Comments: "#", Joined: true, Follow: interfacesSource, Describe: describeInterface},
			Runner: location.Runner{Off: ifupdown.off},
			Also: []location.Reading{
				{Places: withSuffix(".conf", "/etc/wireguard"), Form: unix.Lines{Comments: "#", Section: unix.Brackets,
					Describe: describeTunnel}, Runner: location.Runner{Off: wgQuick.off}},
				{Places: withSuffix(".conf", "/etc/openvpn", "/etc/openvpn/client", "/etc/openvpn/server"),
					Form:   unix.Lines{Comments: "#;", Describe: describeOpenVPN},
					Runner: location.Runner{Off: openVPN.off}},
			},
		},
		{
			ID: "linux.power-hooks", Title: "Power hooks", Stage: autostart.Event, Effect: location.AtNextStart,
			Places: location.Packaged(location.In("/etc/acpi/events"), "/etc/acpi/events"),
			Form:   unix.Lines{Comments: "#", Describe: describeACPI}, Runner: location.Runner{Off: acpiDaemon.off},
			Also: []location.Reading{{Places: location.In("/etc/pm/sleep.d", "/etc/pm/power.d"),
				Form: unix.Executables{When: powerTime}, Runner: location.Runner{Off: pmUtils.off}}},
		},
		{
			ID: "linux.incron", Title: "incron tables", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.In("/etc/incron.d", "/var/spool/incron"),
			Form:   unix.Lines{Comments: "#", Describe: describeIncron},
			Runner: location.Runner{Off: incronDaemon.off},
		},
		{
			ID: "linux.inetd", Title: "inetd services", Stage: autostart.Event, Effect: location.AtNextStart,
			Places: location.Packaged(location.At("/etc/inetd.conf"), "/etc/inetd.conf"),
			Form:   unix.Lines{Comments: "#", Describe: describeInetd, OffMark: "#<off># ", OffBy: "update-inetd"},
			Runner: location.Runner{Off: inetdDaemon.off},
		},
		{
			ID: "linux.xinetd", Title: "xinetd services", Stage: autostart.Event, Effect: location.AtNextStart,
			Places: location.Packaged(slices.Concat(location.At("/etc/xinetd.conf"), location.In("/etc/xinetd.d")),
				"/etc/xinetd.conf", "/etc/xinetd.d"),
			Form:   location.Code{Shows: autostart.StateValue, Reader: readXinetd},
			Runner: location.Runner{Off: xinetdDaemon.off},
		},
		{
			ID: "linux.package-hooks", Title: "Package manager hooks", Stage: autostart.Event,
			Effect: location.AtNextRun,
			Places: location.Packaged(slices.Concat(location.At("/etc/apt/apt.conf"),
				location.In("/etc/apt/apt.conf.d")), "/etc/apt/apt.conf.d"),
			Form: location.Reporting{Form: unix.Lines{Comments: "#", Accepts: aptAccepts, Section: aptBlocks,
				Describe: describeAptHook}, Why: hookWhy}, Runner: location.Runner{Off: apt.off},
			Also: packageHooks(),
		},
		{
			ID: "linux.mail", Title: "Commands in mail aliases", Common: "of the system", Stage: autostart.Event,
			Effect: location.AtNextRun,
			Places: location.At("/etc/aliases"),
			Form:   unix.Lines{Comments: "#", Describe: describeAlias}, Runner: location.Runner{Off: mailServer.off},
			Also: []location.Reading{
				{Places: location.At("~/.forward"), Form: unix.Lines{Comments: "#", Describe: describeForward}},
				{Places: location.At("~/.procmailrc"), Form: unix.Lines{Comments: "#", Describe: describeRecipe},
					Runner: location.Runner{Off: procmail.off}},
			},
		},
		{
			ID: "linux.pam", Title: "PAM modules", Stage: autostart.Attach, Effect: location.AtNextUse,
			Role:   location.SignInStep,
			Places: location.In("/etc/pam.d"),
			Form: location.Reporting{Form: pamModules{unix.Lines{Comments: "#", Joined: true}},
				Why: "after a mistake there nobody can sign in"},
			Also: []location.Reading{{Places: location.At("/etc/pam.conf"), Runner: location.Runner{Off: pamFolder},
				Form: location.Reporting{Form: pamModules{unix.Lines{Comments: "#", Joined: true}},
					Why: "after a mistake there nobody can sign in"}}},
		},
		{
			ID: "linux.preload", Title: "Preloaded libraries", Stage: autostart.Attach, Effect: location.AtNextUse,
			Places: location.At("/etc/ld.so.preload"),
			Form:   location.Code{Shows: autostart.Trim, Reader: readPreload},
		},
		{
			ID: "linux.environment", Title: "Environment variables that load code", Common: "for everyone",
			Stage: autostart.Attach, Effect: location.AtNextSignIn,
			Places: slices.Concat(location.At("/etc/environment"), location.Chain("environment.d", ".conf"),
				ofHomes("~/.config/environment.d", ".conf")),
			Form: unix.Lines{Comments: "#", Describe: describeVariable},
			Also: []location.Reading{{Places: location.At("/etc/security/pam_env.conf"), Form: unix.Lines{Comments: "#",
				Describe: describePAMVariable}}},
		},
		{
			ID: "linux.python", Title: "Python start-up files", Common: "for everyone", Stage: autostart.Attach,
			Effect: location.AtNextUse,
			Places: withSuffix(".pth", ownPython...),
			Form:   unix.Lines{Comments: "#", Describe: describePython},
			Also:   pythonReadings(),
		},
		{
			ID: "linux.file-manager", Title: "File manager extensions", Common: "for everyone", Stage: autostart.Attach,
			Effect: location.AtNextSignIn,
			Places: withSuffix(".py", ofHome(fileManagerFolders)...),
			Form:   unix.WholeFiles{Adjust: atLoad("loaded into the file manager")},
			Also: []location.Reading{{Places: withSuffix(".py", fileManagerFolders...),
				Form: location.Reporting{Form: unix.WholeFiles{Adjust: atLoad("loaded into the file manager")},
					Why: packagesFile}}},
		},
		{
			ID: "linux.sudo", Title: "sudo plug-ins", Stage: autostart.Attach, Effect: location.AtNextUse,
			Role:   location.SignInStep,
			Places: location.At("/etc/sudo.conf"),
			Form: location.Reporting{Form: unix.Lines{Comments: "#", Joined: true, Describe: describeSudo},
				Why: "after a mistake there nobody can use sudo"},
		},
		{
			ID: "linux.gnome", Title: "Extensions of GNOME and Cinnamon", Common: "for everyone",
			Stage: autostart.Attach, Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In("/usr/share/gnome-shell/extensions",
				"~/.local/share/gnome-shell/extensions"), "/usr/share/gnome-shell/extensions"),
			Form: shellExtensions,
			Also: []location.Reading{{Places: location.In("/usr/share/cinnamon", "~/.local/share/cinnamon"),
				Form: cinnamonExtensions}},
		},
		{
			ID: "linux.browser", Title: "Browser extensions", Common: "for everyone", Stage: autostart.Attach,
			Effect: location.AtNextSignIn,
			Places: location.In("~/.config", "~/.mozilla", "~/.var/app", "~/snap"),
			Form: location.Code{Shows: autostart.Report, Others: []autostart.Switch{autostart.Park},
				Reader: readBrowsers},
			Also: []location.Reading{
				{Places: withSuffix(".json", slices.Concat(hostFolders, ownHosts())...),
					Form: unix.WholeFiles{Adjust: describeHost}},
				{Places: withSuffix(".json", vendorsHosts...),
					Form: location.Reporting{Form: unix.WholeFiles{Adjust: describeHost}, Why: packagesFile}},
				{Places: policyFiles, Form: location.Code{Shows: autostart.Report, Reader: readPolicies}},
			},
		},
	}
}

// typedIn reports whether a kernel argument is of this start only: somebody typed it in.
func typedIn(e *autostart.Entry) bool { return e.Source.Path == "/proc/cmdline" }

// untilRestart reports whether a unit is as it is until the next restart only, by systemd's word for its state,
// systemctl(1).
func untilRestart(e *autostart.Entry) bool {
	return strings.HasSuffix(e.Mode, "-runtime") || e.Mode == "generated" || e.Mode == "transient"
}
