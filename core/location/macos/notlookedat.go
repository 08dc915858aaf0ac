package macos

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// NotLookedAt lists the kinds of places that macOS starts things from and that are not read
// yet: a short list must not be taken for a clean machine.
func NotLookedAt() []location.Location {
	return []location.Location{
		location.NotLookedAt("macos.boot-tasks", autostart.Boot, "Boot tasks of launchd", "/private/etc/rc.server", "/private/etc/rc.cdrom", "/private/etc/rc.netboot"),
		location.NotLookedAt("macos.ssh-commands", autostart.SignIn, "Commands forced by ssh", "/private/etc/ssh/sshd_config", "~/.ssh/authorized_keys"),
		location.NotLookedAt("macos.services", autostart.Event, "Services, Quick Actions and alarms", "~/Library/Services"),
		location.NotLookedAt("macos.printing", autostart.Event, "Printer back ends and filters", "/usr/libexec/cups"),
		location.NotLookedAt("macos.app-extensions", autostart.Attach, "App extensions", "extensions (.appex) inside apps"),
		location.NotLookedAt("macos.dock-tiles", autostart.Attach, "Dock tile plug-ins", "plug-ins (.docktileplugin) inside apps"),
		location.NotLookedAt("macos.sudo", autostart.Attach, "sudo plug-ins", "/private/etc/sudo.conf"),
	}
}
