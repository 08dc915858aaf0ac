package demo

import (
	"crypto/md5"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// debianPackage is a package of the workshop box, and which of its files it delivered.
type debianPackage struct {
	name, version, maintainer, description string
	fields                                 string   // further ones, a line each
	files                                  []string // patterns
	changed                                string   // the one file that somebody changed since
}

const distribution = "Workshop Distribution <packages@distribution.example>"

var workshopPackages = []debianPackage{
	{name: "systemd", version: "252.22-1", maintainer: distribution, description: "system and service manager",
		fields: "Priority: important\nSection: admin\n",
		files: []string{"/usr/lib/systemd/systemd", "/sbin/init", "/usr/lib/systemd/systemd-*",
			"/usr/lib/systemd/system/systemd-*", "/usr/lib/systemd/system/*.target",
			"/usr/lib/systemd/system/*.wants/systemd-*", "/usr/lib/systemd/system/getty@.service",
			"/usr/lib/systemd/system-preset/*"}},
	{name: "dbus", version: "1.14.10-1", maintainer: distribution, description: "simple interprocess messaging system",
		fields: "Priority: standard\nSection: admin\n",
		files: []string{"/usr/lib/systemd/system/dbus.service", "/usr/lib/systemd/system/*.wants/dbus.service",
			"/usr/bin/dbus-daemon"}},
	{name: "network-manager", version: "1.42.4-1", maintainer: distribution,
		description: "network management framework", fields: "Priority: optional\nSection: net\n",
		files: []string{"/usr/lib/systemd/system/NetworkManager.service", "/usr/sbin/NetworkManager"}},
	{name: "network-manager-gnome", version: "1.30.0-2", maintainer: distribution,
		description: "network management framework (applet)", fields: "Priority: optional\nSection: gnome\n",
		files: []string{"/usr/bin/nm-applet", "/etc/xdg/autostart/nm-applet.desktop"}},
	{name: "lightdm", version: "1.26.0-8", maintainer: distribution, description: "simple display manager",
		fields: "Priority: optional\nSection: x11\nProvides: x-display-manager\n",
		files:  []string{"/usr/lib/systemd/system/lightdm.service", "/usr/sbin/lightdm"}},
	{name: "cron", version: "3.0pl1-162", maintainer: distribution, description: "process scheduling daemon",
		fields: "Priority: important\nSection: admin\n",
		files:  []string{"/usr/lib/systemd/system/cron.service", "/usr/sbin/cron", "/etc/crontab"}},
	{name: "util-linux", version: "2.38.1-5", maintainer: distribution, description: "miscellaneous system utilities",
		fields: "Essential: yes\nPriority: required\nSection: utils\n",
		files:  []string{"/sbin/agetty", "/sbin/fstrim", "/usr/lib/systemd/system/fstrim.*"}},
	{name: "libpam-modules", version: "1.5.2-6", maintainer: distribution,
		description: "Pluggable Authentication Modules for PAM", fields: "Priority: required\nSection: admin\n",
		files: []string{"/usr/lib/x86_64-linux-gnu/security/pam_*"}},
	{name: "debianutils", version: "5.7-0.5", maintainer: distribution,
		description: "miscellaneous utilities specific to this distribution",
		fields:      "Essential: yes\nPriority: required\nSection: utils\n",
		files:       []string{"/usr/bin/run-parts"}},
	{name: "logrotate", version: "3.21.0-1", maintainer: distribution, description: "log rotation utility",
		fields: "Priority: important\nSection: admin\n",
		files:  []string{"/usr/sbin/logrotate", "/etc/cron.daily/logrotate"}},
	{name: "openssh-server", version: "9.2p1-2", maintainer: distribution, description: "secure shell server",
		fields: "Priority: optional\nSection: net\n", files: []string{"/usr/sbin/sshd"}},
	{name: "kelpline-assistant", version: "9.1", maintainer: "Kelpline Software <packages@kelpline.example>",
		description: "helps with everything",
		files: []string{"/usr/lib/systemd/system/kelpline-*", "/usr/lib/systemd/system/*.wants/kelpline-*",
			"/etc/xdg/autostart/kelpline-*", "/etc/cron.d/kelpline", "/opt/kelpline/bin/*"},
		changed: "/opt/kelpline/bin/report"},
	{name: "fogbell", version: "3.2", maintainer: "Fogbell Works <packages@fogbell.example>",
		description: "keeps folders the same on all your computers",
		files:       []string{"/opt/fogbell/*", "/usr/share/autostart/fogbell-*"}},
	{name: "saltmarsh-licence", version: "12.0-3", maintainer: "Saltmarsh Ledgers <support@saltmarsh.example>",
		description: "licence service of the ledger",
		files:       []string{"/opt/saltmarsh/*", "/usr/lib/systemd/system/saltmarsh-*"}},
	{name: "lampwick-labels", version: "4.0", maintainer: "Lampwick Labels <linux@lampwick.example>",
		description: "label printing",
		files:       []string{"/opt/lampwick/bin/*", "/usr/lib/systemd/system/lampwick-*"}},
	{name: "gullrock-welcome", version: "2.4", maintainer: "Gullrock Lighthouse Museum <workshop@gullrock.example>",
		description: "welcome page of the museum",
		files:       []string{"/opt/gullrock/*", "/usr/lib/systemd/user/gullrock-*"}},
}

// delivers reports whether the package delivered a file.
func (p debianPackage) delivers(file string) bool {
	return slices.ContainsFunc(p.files, func(pattern string) bool {
		ok, _ := path.Match(pattern, file)
		return ok
	})
}

// withPackages adds dpkg's database on the pieces of a disk.
func withPackages(pieces []piece, packages []debianPackage) []piece {
	var status strings.Builder
	for _, p := range packages {
		var conffiles, sums strings.Builder
		listed := map[string]bool{"/.": true}
		for _, f := range pieces {
			if !p.delivers(f.path) {
				continue
			}
			for dir := path.Dir(f.path); dir != "/"; dir = path.Dir(dir) {
				listed[dir] = true
			}
			listed[f.path] = true
			if f.link != "" {
				continue
			}
			text := f.text
			if f.path == p.changed {
				text += "# as it was delivered\n"
			}
			sum := fmt.Sprintf("%x", md5.Sum([]byte(text)))
			if strings.HasPrefix(f.path, "/etc/") {
				fmt.Fprintf(&conffiles, " %s %s\n", f.path, sum)
			} else {
				fmt.Fprintf(&sums, "%s  %s\n", sum, f.path[1:])
			}
		}
		if p.fields == "" {
			p.fields = "Priority: extra\nSection: misc\n"
		}
		fmt.Fprintf(&status, "Package: %s\nStatus: install ok installed\n%sMaintainer: %s\nArchitecture: "+
			"amd64\nVersion: %s\n", p.name, p.fields, p.maintainer, p.version)
		if conffiles.Len() > 0 {
			fmt.Fprintf(&status, "Conffiles:\n%s", conffiles.String())
		}
		fmt.Fprintf(&status, "Description: %s\n\n", p.description)
		info := "/var/lib/dpkg/info/" + p.name
		pieces = append(pieces, file(info+".list", strings.Join(slices.Sorted(maps.Keys(listed)), "\n")+"\n"))
		if sums.Len() > 0 {
			pieces = append(pieces, file(info+".md5sums", sums.String()))
		}
	}
	return append(pieces, file("/var/lib/dpkg/status", status.String()))
}
