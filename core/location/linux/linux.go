// Package linux declares the places that a Linux desktop starts things from:
// one row of [Locations] each, with the reader that understands it. The readers
// stand in files of their own, named after what they read.
package linux

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// Locations lists every location of Linux that Lock Back reads.
func Locations() []location.Location {
	return []location.Location{
		{
			ID: "linux.systemd.system", Stage: autostart.System, Switch: autostart.Unlink, Effect: location.AtNextStart,
			Where: systemUnits.places(),
			Read:  readSystemUnits,
		},
		{
			ID: "linux.rc-local", Stage: autostart.System, Switch: autostart.Unexec, Effect: location.AtNextStart,
			Where: []string{"/etc/rc.local", "/etc/rc.d/rc.local"},
			Read:  readScripts("/etc/rc.local", "/etc/rc.d/rc.local"),
		},
		{
			ID: "linux.systemd.user", Stage: autostart.SignIn, Switch: autostart.Unlink, Effect: location.AtNextSignIn,
			Where: append(userUnits.places(), "~/.config/systemd/user", "~/.local/share/systemd/user"),
			Read:  readUserUnits,
		},
		{
			ID: "linux.xdg-autostart", Stage: autostart.SignIn, Switch: autostart.Hide, Effect: location.AtNextSignIn,
			Where: []string{"~/.config/autostart", "/etc/xdg/autostart", "/usr/share/gnome/autostart", "/usr/share/autostart"},
			Read:  readXDGAutostart,
		},
		{
			ID: "linux.cron.system", Stage: autostart.Schedule, Switch: autostart.Comment, Effect: location.WithinMinute,
			Where: []string{"/etc/crontab", "/etc/cron.d"},
			Read:  readSystemCrontabs,
		},
		{
			ID: "linux.cron.user", Stage: autostart.Schedule, Switch: autostart.Comment, Effect: location.WithinMinute,
			Where: userCrontabs,
			Read:  readUserCrontabs,
		},
		{
			ID: "linux.cron.periodic", Stage: autostart.Schedule, Switch: autostart.Unexec, Effect: location.AtNextRun,
			Where: periodicFolders,
			Read:  readPeriodic,
		},
	}
}
