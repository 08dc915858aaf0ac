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
			ID: "linux.cron.periodic", Title: "Hourly to monthly cron folders", Stage: autostart.Schedule, Effect: location.AtNextRun,
			Places: location.Packaged(location.In(periodicFolders...), periodicFolders...),
			Form:   unix.Executables{Accepts: periodicAccepts, When: period},
		},
	}
}
