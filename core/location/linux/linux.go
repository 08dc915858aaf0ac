// Package linux declares the places that a Linux desktop starts things from:
// one row of [Locations] each. Most rows are places and a form; what is peculiar
// has a file of its own, named after what it reads.
package linux

import (
	"slices"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine"
)

// Locations lists every location of Linux that Lock Back reads.
func Locations() []location.Location {
	return []location.Location{
		{
			ID: "linux.modules", Title: "Kernel modules", Stage: autostart.Boot, Effect: location.AtNextStart, Role: location.Module,
			Places: slices.Concat(location.At("/etc/modules", "/etc/initramfs-tools/modules"), location.Chain("modules-load.d", ".conf")),
			Form:   unix.Lines{Comments: "#;", Describe: describeModule, Key: moduleKey},
		},
		{
			ID: "linux.modprobe", Title: "Commands run when a module is loaded", Stage: autostart.Boot, Effect: location.AtNextStart, Role: location.Module,
			Places: location.Chain("modprobe.d", ".conf"),
			Form:   unix.Lines{Comments: "#", Describe: describeModprobe},
		},
		{
			ID: "linux.binfmt", Title: "Interpreters for kinds of programs", Stage: autostart.Boot, Effect: location.AtNextStart,
			Places: location.Chain("binfmt.d", ".conf"),
			Form:   unix.Lines{Comments: "#;", Describe: describeBinfmt},
			Runner: location.Runner{Off: otherInit},
		},
		{
			ID: "linux.systemd.generators", Title: "systemd generators", Stage: autostart.Boot, Effect: location.AtNextStart,
			Places: generators("system-generators", "system-environment-generators", "user-generators", "user-environment-generators"),
			Form:   location.Code{Shows: autostart.Mask, Others: []autostart.Switch{autostart.Unexec}, Reader: unix.Overridden},
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.cloud-init", Title: "Boot scripts of cloud-init", Stage: autostart.Boot, Effect: location.AtNextStart,
			Places: location.In("/var/lib/cloud/scripts/per-boot"),
			Form:   unix.Executables{},
			Runner: location.Runner{Off: cloudInit.off},
		},
		{
			ID: "linux.systemd.system", Title: "systemd units", Common: "of the system", Stage: autostart.System, Effect: location.AtNextStart,
			Places: location.Packaged(location.In(systemUnits.places()...), "/usr/lib/systemd/system", "/lib/systemd/system"),
			Tells:  location.Tells{Daemon: machine.ServiceManager},
			Form:   location.Code{Shows: autostart.Unlink, Others: []autostart.Switch{autostart.Mask}, Reader: location.Alone(readSystemUnits)},
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.rc-local", Title: "Start script rc.local", Stage: autostart.System, Effect: location.AtNextStart,
			Places: location.At("/etc/rc.local", "/etc/rc.d/rc.local"),
			Form:   unix.Executables{},
		},
		{
			ID: "linux.quadlet", Title: "Container units (quadlets)", Common: "of the system", Stage: autostart.System, Effect: location.AtNextStart,
			Places: location.In("/etc/containers/systemd", "/usr/share/containers/systemd", "~/.config/containers/systemd"),
			Form:   unix.WholeFiles{Accepts: anyMachine(quadletAccepts), Adjust: describeQuadlet}, Runner: location.Runner{Off: podman.off},
		},
		{
			ID: "linux.sysv", Title: "SysV init scripts", Stage: autostart.System, Effect: location.AtNextStart,
			Places: rcPlaces(),
			Form:   location.Code{Shows: autostart.Rename, Reader: readSysV},
			Runner: location.Runner{Off: noRunlevels, Fixed: true},
		},
		{
			ID: "linux.inittab", Title: "inittab", Stage: autostart.System, Effect: location.AtNextStart, Role: location.Session,
			Places: location.At("/etc/inittab"),
			Form:   unix.Lines{Comments: "#", Describe: describeInittab},
			Runner: location.Runner{Off: onlyUnder("sysvinit", "busybox", "OpenRC"), Fixed: true},
		},
		{
			ID: "linux.systemd.user", Title: "systemd user units", Common: "for everyone", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In(append(userUnits.places(), "~/.config/systemd/user.control", "~/.config/systemd/user", "~/.local/share/systemd/user")...),
				"/usr/lib/systemd/user", "/lib/systemd/user"),
			Tells: location.Tells{Daemon: machine.ServiceManager, Everyone: true},
			Form:  location.Code{Shows: autostart.Unlink, Others: []autostart.Switch{autostart.Mask}, Reader: location.Alone(readUserUnits)},
			// Without systemd as the first process, nobody starts a manager for each user.
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.xdg-autostart", Title: "Autostart folder", Common: "for everyone", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(location.In("~/.config/autostart", "/etc/xdg/autostart", "/usr/share/gnome/autostart", "/usr/share/autostart"),
				"/etc/xdg/autostart", "/usr/share/gnome/autostart", "/usr/share/autostart"),
			Tells: location.Tells{Daemon: machine.ServiceManager, Everyone: true}, // its generator makes units of them
			Form:  location.Code{Shows: autostart.Hide, Reader: location.Alone(readXDGAutostart)},
		},
		{
			ID: "linux.x-session", Title: "X session scripts", Common: "for everyone", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.Packaged(slices.Concat(location.In("/etc/X11/Xsession.d", "/etc/X11/xinit/xinitrc.d"), location.At("~/.xsession", "~/.xsessionrc", "~/.xinitrc", "~/.xprofile")), "/etc/X11/Xsession.d", "/etc/X11/xinit/xinitrc.d"),
			Form:   unix.WholeFiles{Accepts: xsessionAccepts},
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
			ID: "linux.motd", Title: "Message-of-the-day scripts", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.In("/etc/update-motd.d"),
			Form:   unix.Executables{Accepts: anyMachine(lsbAccepts)},
		},
		{
			ID: "linux.ssh-rc", Title: "SSH sign-in script", Common: "for everyone", Stage: autostart.SignIn, Effect: location.AtNextSignIn,
			Places: location.At("/etc/ssh/sshrc", "~/.ssh/rc"),
			Form:   unix.WholeFiles{Adjust: describeRC},
			Runner: location.Runner{Off: sshServer},
		},
		{
			ID: "linux.cron.system", Title: "Crontabs", Common: "of the system", Stage: autostart.Schedule, Effect: location.WithinMinute,
			Places: location.Packaged(slices.Concat(location.At("/etc/crontab"), location.In("/etc/cron.d")), "/etc/crontab", "/etc/cron.d"),
			Form:   unix.Crontabs{Accepts: cronAccepts, Ignored: cronIgnores},
			Runner: location.Runner{Off: cronDaemon.off},
		},
		{
			ID: "linux.cron.user", Title: "Crontab", Stage: autostart.Schedule, Effect: location.WithinMinute,
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
			Form:   unix.Lines{Comments: "#", Describe: describeAnacron},
			Runner: location.Runner{Off: anacronProgram.off},
		},
		{
			ID: "linux.cron.periodic", Title: "Hourly to monthly cron folders", Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.Packaged(location.In(periodicFolders...), periodicFolders...),
			Form:   unix.Executables{Accepts: periodicAccepts, When: period},
		},
		{
			ID: "linux.systemd.hooks", Title: "Sleep and shutdown hooks of systemd", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.Packaged(location.In("/usr/lib/systemd/system-sleep", "/usr/lib/systemd/system-shutdown"), "/usr/lib/systemd/system-sleep", "/usr/lib/systemd/system-shutdown"),
			Form:   unix.Executables{When: hookTime},
			Runner: location.Runner{Off: otherInit, Fixed: true},
		},
		{
			ID: "linux.network-hooks", Title: "Network hooks", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.Packaged(location.In(dispatcherFolders...), dispatcherFolders...),
			Form:   unix.Executables{Accepts: anyMachine(dispatcherAccepts), When: networkTime}, Runner: location.Runner{Off: networkManager.off},
			Also: []location.Reading{
				{Places: location.Packaged(location.In(ifupdownFolders...), ifupdownFolders...), Form: unix.Executables{Accepts: anyMachine(runPartsAccepts), When: interfaceTime}, Runner: location.Runner{Off: ifupdown.off}},
				{Places: location.In(networkdFolders...), Form: unix.Executables{When: networkTime}, Runner: location.Runner{Off: dispatcher.off}},
				{Places: location.Packaged(location.In(pppFolders...), pppFolders...), Form: unix.Executables{Accepts: anyMachine(runPartsAccepts), When: pppTime}, Runner: location.Runner{Off: pppDaemon.off}},
				// Read by dhclient's own script, whatever their rights are, dhclient-script(8).
				{Places: location.Packaged(location.In(dhclientFolders...), dhclientFolders...), Form: unix.WholeFiles{Accepts: anyMachine(runPartsAccepts), Adjust: onLease}, Runner: location.Runner{Off: dhclient.off}},
			},
		},
		{
			ID: "linux.power-hooks", Title: "Power hooks", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.Packaged(location.In("/etc/acpi/events"), "/etc/acpi/events"),
			Form:   unix.Lines{Comments: "#", Describe: describeACPI}, Runner: location.Runner{Off: acpiDaemon.off},
			Also: []location.Reading{{Places: location.In("/etc/pm/sleep.d", "/etc/pm/power.d"), Form: unix.Executables{When: powerTime}, Runner: location.Runner{Off: pmUtils.off}}},
		},
		{
			ID: "linux.incron", Title: "incron tables", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.In("/etc/incron.d", "/var/spool/incron"),
			Form:   unix.Lines{Comments: "#", Describe: describeIncron},
			Runner: location.Runner{Off: incronDaemon.off},
		},
		{
			ID: "linux.inetd", Title: "inetd services", Stage: autostart.Event, Effect: location.AtNextRun,
			Places: location.Packaged(location.At("/etc/inetd.conf"), "/etc/inetd.conf"),
			Form:   unix.Lines{Comments: "#", Describe: describeInetd, OffMark: "#<off># ", OffBy: "update-inetd"},
			Runner: location.Runner{Off: inetdDaemon.off},
		},
		{
			ID: "linux.preload", Title: "Preloaded libraries", Stage: autostart.Attach, Effect: location.Immediately,
			Places: location.At("/etc/ld.so.preload"),
			Form:   unix.Lines{Comments: "#", Describe: describePreload},
		},
		{
			ID: "linux.environment", Title: "Environment variables that load code", Common: "for everyone", Stage: autostart.Attach, Effect: location.AtNextSignIn,
			Places: slices.Concat(location.At("/etc/environment"), location.Chain("environment.d", ".conf"), ofHomes("~/.config/environment.d", ".conf")),
			Form:   unix.Lines{Comments: "#", Describe: describeVariable},
			Also:   []location.Reading{{Places: location.At("/etc/security/pam_env.conf"), Form: unix.Lines{Comments: "#", Describe: describePAMVariable}}},
		},
	}
}
