package identify

import (
	"path"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
)

// row of the catalogue: entries whose names match, when they come from where
// only the distribution puts files.
type row struct {
	location string // a wildcard
	names    string // wildcards, separated by spaces; a .service row also means its .socket, .timer and .path
	what     string // what it is, for a person
	guards   string // what a mistake with it would cost; empty: not guarded
	part     bool   // a part of the operating system
}

// catalogue is the first guard: what a machine needs to start, to be signed in
// to, to show a screen, to take input and to reach the network and its disks.
// The names are those that the projects and the large distributions ship.
var catalogue = slices.Concat(linuxCatalogue, macCatalogue)

var linuxCatalogue = []row{
	// The init system, its parts and the bus.
	{"linux.systemd.*", "systemd-logind getty@* autovt@* serial-getty@* console-getty container-getty@* user@* user-runtime-dir@* systemd-user-sessions systemd-homed systemd-userdbd nscd sssd nslcd winbind accounts-daemon polkit polkitd", "accounts and sign-in", toSignIn, true},
	{"linux.systemd.*", "systemd-networkd systemd-networkd-wait-online systemd-resolved systemd-network-generator NetworkManager NetworkManager-* networking ifupdown-* ifup@* wpa_supplicant wpa_supplicant@* iwd connman dhcpcd dhcpcd@* dhclient* wicked* netplan-* ModemManager resolvconf nftables iptables firewalld ufw", "the network", toNetwork, true},
	{"linux.systemd.*", "systemd-cryptsetup@* systemd-fsck* systemd-remount-fs systemd-growfs* systemd-repart systemd-veritysetup@* systemd-pcr* lvm2-* lvm2 blk-availability dm-event mdadm* mdmonitor* multipathd zfs-* udisks2 cryptdisks* nfs-* rpcbind rpc-* iscsi* open-iscsi fstrim e2scrub_all e2scrub_reap xfs_scrub_all btrfs-*", "disks and file systems", toDisks, true},
	{"linux.systemd.*", "systemd-udev* systemd-hwdb-update systemd-vconsole-setup keyboard-setup console-setup kbd bluetooth bluetooth-mesh upower acpid gpm inputattach ratbagd", "devices and input", toInput, true},
	{"linux.systemd.*", "display-manager gdm gdm3 lightdm sddm lxdm xdm wdm slim greetd ly emptty plymouth*", "the display manager", toShow, true},
	{"linux.systemd.*", "dbus dbus-broker dbus-org.* dbus-daemon", "the message bus", toStart, true},
	{"linux.systemd.*", "apparmor auditd selinux-* fail2ban clamav-* usbguard", "protection", toProtect, true},
	{"linux.systemd.*", "systemd-* rescue emergency debug-shell initrd-* kmod-static-nodes proc-sys-fs-binfmt_misc modprobe@* ldconfig machine-id-commit quotaon quotacheck ostree-* dracut-* halt-local rc-local getty-static hwclock rc rcS x11-common", "the init system", toStart, true},
	{"linux.systemd.system", "cron crond anacron atd rsyslog chrony chronyd ntp ntpsec ntpd ssh sshd ssh.socket apt-daily apt-daily-upgrade dpkg-db-backup logrotate man-db dnf-makecache unattended-upgrades packagekit fwupd fwupd-refresh plocate-updatedb mlocate-updatedb alsa-restore alsa-state rtkit-daemon colord switcheroo-control power-profiles-daemon thermald haveged irqbalance kexec* cups cups-browsed avahi-daemon", "a service of the distribution", "", true},
	// The desktop session.
	{"linux.systemd.user", "dbus dbus-broker gnome-session* gnome-shell* plasma-* gnome-keyring-daemon xdg-desktop-autostart* xdg-desktop-portal* xdg-document-portal xdg-permission-store at-spi-dbus-bus graphical-session* org.gnome.* gcr-ssh-agent gpg-agent* ssh-agent dirmngr", "the desktop session", toSession, true},
	{"linux.systemd.user", "pipewire* wireplumber pulseaudio filter-chain", "sound", toSession, true},
	{"linux.systemd.user", "systemd-* xdg-user-dirs* background session app keyboxd", "a service of the distribution", "", true},
	{"linux.xdg-autostart", "org.gnome.SettingsDaemon.* gnome-keyring-* polkit-*-authentication-agent-1 polkit-kde-* at-spi-dbus-bus org.kde.plasmashell* org.kde.kded* xfsettingsd xfce4-session* mate-settings-daemon cinnamon-settings-daemon* gnome-shell* gnome-initial-setup* xdg-user-dirs* pulseaudio nm-applet im-launch ibus* fcitx* org.fcitx.* blueman", "the desktop session", toSession, true},
	// Scheduled housekeeping of the distribution.
	{"linux.cron.*", "apt-compat dpkg logrotate man-db run-parts debian-sa1 e2scrub_all e2scrub_all_cron anacron 0anacron 0hourly mlocate plocate bsdmainutils exim4-base passwd", "housekeeping of the distribution", "", true},
}

// findRow returns the catalogue's row for an entry.
func findRow(m *machine.Reader, item *location.Item) (row, bool) {
	e := &item.Entry
	switch m.OS {
	case "windows":
		return findWindows(m, e)
	case "macos":
		return findMac(item)
	}
	if e.Scope != autostart.ForSystem {
		return row{}, false
	}
	// A unit that calls itself systemd-something in /etc is not taken for one of the system's.
	if !item.Packaged || !vendorProgram(e) {
		return row{}, false
	}
	name := e.Name
	switch e.Location {
	case "linux.xdg-autostart":
		name = strings.TrimSuffix(path.Base(e.Source.Path), ".desktop")
	case "linux.cron.system":
		name = path.Base(e.Target.Path)
	case "linux.systemd.system", "linux.systemd.user":
		for _, suffix := range []string{".service", ".socket", ".timer", ".path"} {
			name = strings.TrimSuffix(name, suffix)
		}
	}
	return lookUp(e.Location, name, e.Name)
}

// lookUp finds the row for the names that an entry goes by. Plain names are
// looked up at once; only names with wildcards are tried one by one.
func lookUp(location string, names ...string) (row, bool) {
	best := len(catalogue)
	index := catalogueIndex()
	for _, name := range names {
		for _, k := range index.plain[name] {
			if ok, _ := path.Match(catalogue[k].location, location); ok {
				best = min(best, k)
			}
		}
		for _, w := range index.wild {
			if w.row >= best || !strings.HasPrefix(name, w.prefix) {
				continue
			}
			matches, _ := path.Match(w.pattern, name)
			if here, _ := path.Match(catalogue[w.row].location, location); matches && here {
				best = w.row
			}
		}
	}
	if best == len(catalogue) {
		return row{}, false
	}
	return catalogue[best], true
}

type wildName struct {
	prefix, pattern string
	row             int
}

// catalogueIndex is made when the first entry is looked up.
var catalogueIndex = sync.OnceValue(func() (index struct {
	plain map[string][]int
	wild  []wildName
}) {
	index.plain = map[string][]int{}
	for k, r := range catalogue {
		for pattern := range strings.FieldsSeq(r.names) {
			if at := strings.IndexAny(pattern, "*?["); at >= 0 {
				index.wild = append(index.wild, wildName{pattern[:at], pattern, k})
			} else {
				index.plain[pattern] = append(index.plain[pattern], k)
			}
		}
	}
	return index
})

// vendorProgram reports whether the program, as far as it is known, lies where
// only the distribution puts programs: a line that runs /opt/x/logrotate is not
// the system's logrotate.
func vendorProgram(e *autostart.Entry) bool {
	p := e.Target.Path
	if p == "" || p == e.Source.Path {
		return true
	}
	for _, prefix := range []string{"/usr/bin/", "/usr/sbin/", "/usr/lib/", "/usr/lib64/", "/usr/libexec/", "/usr/share/", "/bin/", "/sbin/", "/lib/", "/etc/init.d/", "/etc/rc.local", "/etc/rc.d/rc.local"} {
		if strings.HasPrefix(p, prefix) {
			return true
		}
	}
	return !path.IsAbs(p)
}
