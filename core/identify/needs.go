package identify

import (
	"cmp"
	"path"
	"strings"
	"sync"

	"lockback/core/location"
)

// serviceNeeds are the services that a Linux machine needs, whatever starts them: systemd, OpenRC, runit, sysvinit or
// D-Bus; each with the word that [catalogue.Protections] has for what a mistake would cost. The names are those of the
// projects themselves and of the packages of Debian, Alpine, Void and Gentoo, without an instance or an ending.
var serviceNeeds = sync.OnceValue(func() map[string]string {
	needs := map[string]string{}
	for what, names := range map[string]string{
		"start": "devfs sysfs procfs sysctl bootmisc modules kmod hwdrivers udev udevd eudev udev-trigger " +
			"udev-settle mdev mdevd " +
			"systemd-udevd systemd-udev-trigger systemd-journald systemd-tmpfiles-setup systemd-tmpfiles-setup-dev " +
			"systemd-modules-load systemd-remount-fs mountkernfs mountdevsubfs mountkernfs.sh mountdevsubfs.sh " +
			"tmpfiles.dev " +
			"tmpfiles.setup opentmpfiles-dev stateless cgroups org.freedesktop.systemd1",
		"disks": "localmount root rootfs fsck mount-ro mountall mountall.sh mountfs checkfs checkfs.sh checkroot " +
			"checkroot.sh " +
			"checkroot-bootclean mountnfs mountnfs.sh netmount nfsmount lvm lvm2 dmcrypt dm-crypt cryptdisks " +
			"cryptdisks-early " +
			"cryptmount mdadm mdraid zfs-import zfs-mount zfs-zed swap swapfiles multipathd iscsid device-mapper " +
			"dmeventd " +
			"systemd-fsck-root systemd-fstab-generator systemd-gpt-auto-generator systemd-cryptsetup-generator " +
			"systemd-veritysetup-generator systemd-integritysetup-generator systemd-hibernate-resume-generator " +
			"dracut-rootfs-generator org.freedesktop.UDisks2",
		"session": "dbus dbus-broker dbus-daemon messagebus elogind consolekit polkit polkitd turnstiled " +
			"org.freedesktop.PolicyKit1 org.freedesktop.login1 org.xfce.Xfconf ca.desrt.dconf org.gtk.vfs.Daemon " +
			"org.freedesktop.secrets org.gnome.keyring",
		"sign-in": "agetty getty mingetty ttys accounts-daemon accountsservice sssd nscd nslcd winbind winbindd ypbind " +
			"systemd-logind systemd-user-sessions user user-runtime-dir systemd-homed systemd-userdbd " +
			"systemd-getty-generator",
		"screen": "display-manager xdm lightdm gdm gdm3 sddm slim lxdm ly greetd emptty nodm seatd",
		"input":  "keymap keymaps loadkeys keyboard-setup keyboard-setup.sh console-setup console-setup.sh",
		"network": "networking network NetworkManager networkmanager connman connmand dhcpcd dhclient wpa_supplicant iwd " +
			"loopback net.lo ifupdown wicd systemd-networkd systemd-resolved netifrc",
		"security": "apparmor auditd nftables iptables ip6tables ufw firewall firewalld selinux",
		"remote":   "sshd ssh dropbear",
	} {
		for _, name := range strings.Fields(names) {
			needs[name] = what
		}
	}
	return needs
})

// needOf is what a Linux machine needs an entry for by the name of its service; empty if that is nothing.
func needOf(item *location.Item) string {
	switch item.Kind() {
	case location.SystemUnit, location.UserUnit, location.ManagerHook, location.InitService, location.BusService:
	default:
		return ""
	}
	name := path.Base(cmp.Or(item.SystemName, item.Name))
	if need := serviceNeeds()[name]; need != "" {
		return need
	}
	for _, ending := range []string{".service", ".socket", ".timer", ".path"} {
		name = strings.TrimSuffix(name, ending)
	}
	name, _, _ = strings.Cut(name, "@")
	if need := serviceNeeds()[name]; need != "" {
		return need
	}
	for prefix, need := range deviceNeeds {
		if strings.HasPrefix(name, prefix) {
			return need
		}
	}
	return ""
}

// deviceNeeds are the needed services of which there is one for each device, by what their names begin with:
// agetty-tty1, net.eth0.
var deviceNeeds = map[string]string{"agetty-": "sign-in", "getty-": "sign-in", "agetty.": "sign-in", "net.": "network"}
