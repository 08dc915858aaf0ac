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
		location.NotLookedAt("linux.modprobe", autostart.Boot, "Commands run when a module is loaded", "{/etc,/run,/usr/local/lib,/usr/lib}/modprobe.d"),
		location.NotLookedAt("linux.binfmt", autostart.Boot, "Interpreters for kinds of programs", "{/etc,/run,/usr/local/lib,/usr/lib}/binfmt.d"),
		location.NotLookedAt("linux.initramfs", autostart.Boot, "Initial ramdisk scripts and hooks", "/etc/initramfs-tools", "/etc/dracut.conf.d", "/etc/mkinitcpio.conf"),
		location.NotLookedAt("linux.systemd.generators", autostart.Boot, "systemd generators", "{/run,/etc,/usr/local/lib,/usr/lib}/systemd/{system,user}-generators"),
		location.NotLookedAt("linux.cloud-init", autostart.Boot, "Boot scripts of cloud-init", "/var/lib/cloud/scripts/per-boot"),
		location.NotLookedAt("linux.quadlet", autostart.System, "Container units (quadlets)", "/etc/containers/systemd", "~/.config/containers/systemd"),
		location.NotLookedAt("linux.sysv", autostart.System, "SysV init scripts", "/etc/rc?.d"),
		location.NotLookedAt("linux.inittab", autostart.System, "inittab", "/etc/inittab"),
		location.NotLookedAt("linux.openrc", autostart.System, "OpenRC services", "/etc/runlevels", "/etc/local.d"),
		location.NotLookedAt("linux.runit", autostart.System, "runit services", "/etc/service", "/var/service"),
		location.NotLookedAt("linux.containers", autostart.System, "Containers and virtual machines that start by themselves", "docker", "podman", "libvirt", "lxc"),
		location.NotLookedAt("linux.login-shell", autostart.SignIn, "Shell start-up files", "/etc/profile.d", "~/.profile", "~/.bashrc"),
		location.NotLookedAt("linux.x-session", autostart.SignIn, "X session scripts", "/etc/X11/Xsession.d", "~/.xsessionrc", "~/.xprofile"),
		location.NotLookedAt("linux.display-manager", autostart.SignIn, "Display manager scripts", "gdm", "lightdm", "sddm", "xdm", "greetd"),
		location.NotLookedAt("linux.kde", autostart.SignIn, "KDE Plasma scripts and modules", "~/.config/autostart-scripts", "~/.config/plasma-workspace"),
		location.NotLookedAt("linux.compositor", autostart.SignIn, "Start-up lines of window managers", "i3", "sway", "openbox", "Xfce"),
		location.NotLookedAt("linux.sessions", autostart.SignIn, "Desktop sessions", "/usr/share/xsessions", "/usr/share/wayland-sessions"),
		location.NotLookedAt("linux.anacron", autostart.Schedule, "anacron jobs", "/etc/anacrontab"),
		location.NotLookedAt("linux.at", autostart.Schedule, "Jobs of at", "/var/spool/cron/atjobs"),
		location.NotLookedAt("linux.logrotate", autostart.Schedule, "Scripts of logrotate", "/etc/logrotate.d"),
		location.NotLookedAt("linux.systemd.hooks", autostart.Event, "Sleep and shutdown hooks of systemd", "/usr/lib/systemd/system-sleep", "/usr/lib/systemd/system-shutdown"),
		location.NotLookedAt("linux.dbus", autostart.Event, "D-Bus services", "/usr/share/dbus-1", "~/.local/share/dbus-1"),
		location.NotLookedAt("linux.udev", autostart.Event, "udev rules", "{/etc,/run,/usr/local/lib,/usr/lib}/udev/rules.d"),
		location.NotLookedAt("linux.network-hooks", autostart.Event, "Network hooks", "/etc/NetworkManager/dispatcher.d", "/etc/network"),
		location.NotLookedAt("linux.power-hooks", autostart.Event, "Power hooks", "/etc/acpi/events", "/etc/pm"),
		location.NotLookedAt("linux.incron", autostart.Event, "incron tables", "/etc/incron.d", "/var/spool/incron"),
		location.NotLookedAt("linux.inetd", autostart.Event, "inetd and xinetd services", "/etc/inetd.conf", "/etc/xinetd.d"),
		location.NotLookedAt("linux.package-hooks", autostart.Event, "Package manager hooks", "/etc/apt", "/etc/kernel", "/etc/pacman.d/hooks"),
		location.NotLookedAt("linux.mail", autostart.Event, "Commands in mail aliases", "/etc/aliases", "~/.forward", "~/.procmailrc"),
		location.NotLookedAt("linux.pam", autostart.Attach, "PAM modules", "/etc/pam.d"),
		location.NotLookedAt("linux.preload", autostart.Attach, "Preloaded libraries", "/etc/ld.so.preload"),
		location.NotLookedAt("linux.environment", autostart.Attach, "Environment variables that load code", "/etc/environment", "/etc/environment.d", "~/.config/environment.d"),
		location.NotLookedAt("linux.python", autostart.Attach, "Python start-up files", ".pth files", "sitecustomize"),
		location.NotLookedAt("linux.file-manager", autostart.Attach, "File manager extensions", "nautilus", "nemo", "caja", "Thunar"),
		location.NotLookedAt("linux.sudo", autostart.Attach, "sudo plug-ins", "/etc/sudo.conf"),
		location.NotLookedAt("linux.gnome", autostart.Attach, "GNOME shell extensions", "/usr/share/gnome-shell/extensions", "~/.local/share/gnome-shell/extensions"),
		location.NotLookedAt("linux.browser", autostart.Attach, "Browser extensions", "profiles of the Chromium and Firefox families"),
	}
}
