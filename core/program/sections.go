package program

import (
	"strings"

	"lockback/core/format/dpkg"
)

// sectionRoles are what packages of Debian's sections are for, where a section has one purpose
// (Debian Policy Manual, 2.4).
var sectionRoles = map[string]string{"sound": "sound", "mail": "messaging", "net": "network", "comm": "network",
	"kernel": "device", "video": "media", "graphics": "media", "editors": "office", "text": "office"}

// providedRoles are what packages are for that provide one of Debian's virtual packages (its list
// virtual-package-names-list).
var providedRoles = map[string]string{
	"x-display-manager": "display", "mail-transport-agent": "messaging", "imap-server": "messaging",
	"time-daemon": "system", "cron-daemon": "system", "system-log-daemon": "system",
	"notification-daemon": "helper", "polkit-1-auth-agent": "security", "x-screensaver": "security",
	"ssh-server": "network", "httpd": "network", "ftp-server": "network", "inet-superserver": "network",
	"sound-server": "sound", "default-dbus-session-bus": "system", "pulseaudio": "sound",
}

// packageRole is what a package is for: what it provides says more than its section.
func packageRole(p dpkg.Package) string {
	for name := range dpkg.Names(p.Get("Provides")) {
		if role := providedRoles[name]; role != "" {
			return role
		}
	}
	section := p.Get("Section")
	return sectionRoles[section[strings.LastIndexByte(section, '/')+1:]]
}
