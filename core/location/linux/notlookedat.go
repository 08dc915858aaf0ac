package linux

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// NotLookedAt lists the kinds of places that Linux starts things from and that are not read
// yet: a short list must not be taken for a clean machine.
func NotLookedAt() []location.Location {
	return []location.Location{
		location.NotLookedAt("linux.kernel-args", autostart.Boot, "Kernel arguments", "/proc/cmdline", "/etc/default/grub", "/etc/kernel/cmdline"),
		location.NotLookedAt("linux.initramfs", autostart.Boot, "Initial ramdisk scripts and hooks", "/etc/initramfs-tools", "/etc/dracut.conf.d", "/etc/mkinitcpio.conf"),
		location.NotLookedAt("linux.openrc", autostart.System, "OpenRC services", "/etc/runlevels", "/etc/local.d"),
		location.NotLookedAt("linux.runit", autostart.System, "runit services", "/etc/service", "/var/service"),
		location.NotLookedAt("linux.containers", autostart.System, "Containers and virtual machines that start by themselves", "docker", "podman", "libvirt", "lxc"),
		location.NotLookedAt("linux.login-shell", autostart.SignIn, "Shell start-up files", "/etc/profile.d", "~/.profile", "~/.bashrc"),
		location.NotLookedAt("linux.display-manager", autostart.SignIn, "Display manager scripts", "gdm", "lightdm", "sddm", "xdm", "greetd"),
		location.NotLookedAt("linux.kde.modules", autostart.SignIn, "Modules and scripts of KDE Plasma", "kded", "KWin"),
		location.NotLookedAt("linux.compositor", autostart.SignIn, "Start-up lines of window managers", "i3", "sway", "openbox", "Xfce"),
		location.NotLookedAt("linux.sessions", autostart.SignIn, "Desktop sessions", "/usr/share/xsessions", "/usr/share/wayland-sessions"),
		location.NotLookedAt("linux.logrotate", autostart.Schedule, "Scripts of logrotate", "/etc/logrotate.d"),
		location.NotLookedAt("linux.dbus", autostart.Event, "D-Bus services", "/usr/share/dbus-1", "~/.local/share/dbus-1"),
		location.NotLookedAt("linux.udev", autostart.Event, "udev rules", "{/etc,/run,/usr/local/lib,/usr/lib}/udev/rules.d"),
		location.NotLookedAt("linux.network-lines", autostart.Event, "Commands in settings of networks", "/etc/network/interfaces", "/etc/wireguard", "/etc/openvpn"),
		location.NotLookedAt("linux.xinetd", autostart.Event, "xinetd services", "/etc/xinetd.d"),
		location.NotLookedAt("linux.package-hooks", autostart.Event, "Package manager hooks", "/etc/apt", "/etc/kernel", "/etc/pacman.d/hooks"),
		location.NotLookedAt("linux.mail", autostart.Event, "Commands in mail aliases", "/etc/aliases", "~/.forward", "~/.procmailrc"),
		location.NotLookedAt("linux.pam", autostart.Attach, "PAM modules", "/etc/pam.d"),
		location.NotLookedAt("linux.python", autostart.Attach, "Python start-up files", ".pth files", "sitecustomize"),
		location.NotLookedAt("linux.file-manager", autostart.Attach, "File manager extensions", "nautilus", "nemo", "caja", "Thunar"),
		location.NotLookedAt("linux.sudo", autostart.Attach, "sudo plug-ins", "/etc/sudo.conf"),
		location.NotLookedAt("linux.gnome", autostart.Attach, "GNOME shell extensions", "/usr/share/gnome-shell/extensions", "~/.local/share/gnome-shell/extensions"),
		location.NotLookedAt("linux.browser", autostart.Attach, "Browser extensions", "profiles of the Chromium and Firefox families"),
	}
}
