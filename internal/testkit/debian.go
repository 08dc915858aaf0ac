package testkit

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// roots are the systems that are made of a bare Debian, by what is installed in them: "forms" has the programs that
// act on each kind of place, so that each can be seen to start something and not to; "sysv" starts with
// sysvinit; "desktop" has a desktop's and a server's worth of units, sign-in entries and cron jobs; the
// others are whole desktops of some gigabytes, with what is recommended for them.
var roots = map[string]struct {
	packages    string
	recommended bool
}{
	"desktop": {
		"network-manager lightdm cups avahi-daemon bluez openssh-server rsyslog logrotate man-db anacron chrony " +
			"apache2 nginx-light at-spi2-core gnome-keyring policykit-1-gnome network-manager-gnome xdg-user-dirs " +
			"pulseaudio pipewire " +
			"wireplumber unattended-upgrades udisks2 upower smartmontools sysstat syncthing mpd mdadm lvm2 " +
			"nfs-common samba systemd-resolved dbus-x11 ifupdown", false},
	"forms":  {"ifupdown xinetd incron anacron runit python3-minimal udev kmod", false},
	"judges": {"at i3-wm sway openbox lightdm fish openrc openbsd-inetd update-inetd xvfb x11-utils", false},
	"sysv":   {"sysvinit-core systemd- cron openssh-server dbus", false},
	// Systems of other inits, with what a desktop needs on the way to a sign-in.
	"openrc": {"openrc sysvinit-core systemd- cron rsyslog openssh-server dbus elogind libpam-elogind ifupdown " +
		"network-manager udev", false},
	"runit": {"runit-init getty-run systemd- cron rsyslog openssh-server dbus elogind libpam-elogind " +
		"ifupdown udev", false},
	"xfce":   {"task-xfce-desktop gimp- gimp-data- libgimp2.0-", true},
	"gnome":  {"gnome-core", true},
	"plasma": {"plasma-desktop sddm", true},
}

// Debian returns a fresh copy of a real Debian system: "bare", which boots, or one of those that are made of it. The
// originals are made once, with debootstrap from the mirror that this system's apt is set up with, and kept in the
// folder LOCKBACK_PEERS_CACHE or below the user's cache folder.
func Debian(t testing.TB, kind string) string {
	t.Helper()
	original, root := DebianToRead(t, kind), filepath.Join(t.TempDir(), kind)
	Copy(t, original, root)
	return root
}

// DebianToRead is a real Debian system that all tests share: nobody writes to it.
func DebianToRead(t testing.TB, kind string) string {
	t.Helper()
	NeedRoot(t, "a real Debian system")
	Need(t, "debootstrap", "apt-get", "chroot")
	return debianOriginal(t, kind)
}

// making holds a lock for each system that is made of a Debian: tests that run side by side want the same one.
var making sync.Map

// debianOriginal is the folder of a system, which is made where it is not there yet.
func debianOriginal(t testing.TB, kind string) string {
	t.Helper()
	cache := os.Getenv("LOCKBACK_PEERS_CACHE")
	if cache == "" {
		dir, err := os.UserCacheDir()
		require.NoError(t, err)
		cache = filepath.Join(dir, "lockback-peers")
	}
	lock, _ := making.LoadOrStore(kind, new(sync.Mutex))
	lock.(*sync.Mutex).Lock()
	defer lock.(*sync.Mutex).Unlock()
	require.NoError(t, os.MkdirAll(cache, 0o755))
	original := filepath.Join(cache, kind)
	if _, err := os.Stat(original); err == nil {
		return original
	}
	made := original + ".part"
	require.NoError(t, os.RemoveAll(made))
	if kind == "bare" {
		mirror := Shell(t, `apt-get indextargets --format '$(RELEASE) $(REPO_URI)' 'Created-By: Packages' | grep `+
			`-v -e -updates -e -security | sort -u | head -n 1`)
		f := strings.Fields(mirror)
		require.Len(t, f, 2, "apt knows no mirror: %q", mirror)
		Shell(t, "debootstrap --variant=minbase "+
			"--include=systemd,systemd-sysv,dbus,cron,libpam-systemd,dbus-user-session "+f[0]+" "+made+" "+f[1])
	} else {
		Copy(t, debianOriginal(t, "bare"), made)
		Shell(t, "cp /etc/resolv.conf "+made+"/etc/resolv.conf")
		options := map[bool]string{false: "--no-install-recommends"}[roots[kind].recommended]
		// Nothing is started where packages are configured, and they find what they look for. What is made is lost with
		// the folder, so dpkg need not flush each file.
		Shell(t, "printf '#!/bin/sh\\nexit 101\\n' > "+made+"/usr/sbin/policy-rc.d; chmod 755 "+made+
			"/usr/sbin/policy-rc.d; echo force-unsafe-io > "+made+"/etc/dpkg/dpkg.cfg.d/lockback-tests")
		Shell(t, "unshare --mount sh -ec 'for d in proc sys dev; do mount --rbind /$d "+made+"/$d; done; chroot "+made+
			" sh -c \"unset TMPDIR; apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq "+options+" "+
			roots[kind].packages+" && apt-get clean\"'")
		Shell(t, "rm "+made+"/usr/sbin/policy-rc.d "+made+"/etc/dpkg/dpkg.cfg.d/lockback-tests")
	}
	require.NoError(t, os.Rename(made, original))
	return original
}

// Shell runs a command line and returns what it printed.
func Shell(t testing.TB, line string) string {
	t.Helper()
	cmd := exec.Command("sh", "-ec", line)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := cmd.CombinedOutput()
	tail := string(out)
	if len(tail) > 2000 {
		tail = tail[len(tail)-2000:]
	}
	require.NoError(t, err, "%s\n%s", line, tail)
	return string(out)
}
