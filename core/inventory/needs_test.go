//go:build unix

package inventory_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine"
)

// What a machine cannot be without is protected whatever starts it, and without any database of packages: with OpenRC,
// runit, sysvinit and systemd. What is nobody's need is not.
func TestNeedsOfEveryInitSystem(t *testing.T) {
	const needed = "dbus udevd localmount elogind lightdm NetworkManager sshd agetty-tty1"
	for name, files := range map[string]func(service string) map[string]string{
		"openrc": func(s string) map[string]string {
			return map[string]string{"sbin/openrc": "", "etc/init.d/" + s: "#!/sbin/openrc-run\ncommand=/usr/bin/" + s +
				"\n",
				"etc/runlevels/default/" + s: "-> /etc/init.d/" + s}
		},
		"runit": func(s string) map[string]string {
			return map[string]string{"usr/bin/runsvdir": "", "etc/sv/" + s + "/run": "#!/bin/sh\nexec /usr/bin/" + s +
				"\n",
				"etc/runit/runsvdir/default/" + s: "-> /etc/sv/" + s, "var/service": "-> /etc/runit/runsvdir/default"}
		},
		"sysvinit": func(s string) map[string]string {
			return map[string]string{"sbin/init": "", "etc/inittab": "id:2:initdefault:\n", "etc/init.d/" +
				s: "#!/bin/sh\n",
				"etc/rc2.d/S01" + s: "-> ../init.d/" + s}
		},
		"systemd": func(s string) map[string]string {
			return map[string]string{"usr/lib/systemd/systemd": "",
				"etc/systemd/system/" + s + ".service": "[Service]\nExecStart=/usr/bin/" + s +
					"\n[Install]\nWantedBy=" +
					"multi-user.target\n", "etc/systemd/system/multi-user.target.wants/" + s +
					".service": "-> /etc/systemd/system/" +
					s + ".service"}
		},
	} {
		root := t.TempDir()
		put := func(name, text string) {
			file := filepath.Join(root, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			if target, link := strings.CutPrefix(text, "-> "); link {
				os.Remove(file)
				require.NoError(t, os.Symlink(target, file))
				return
			}
			require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
		}
		put("etc/os-release", "ID=gullrock\n")
		for _, service := range append(strings.Fields(needed), "tided", "mpd") {
			for name, text := range files(service) {
				put(name, text)
			}
		}
		m, err := machine.Open(root)
		require.NoError(t, err)
		defer m.Close()
		protected, free := map[string]bool{}, map[string]bool{}
		for _, item := range inventory.Take(m, nil).Items {
			service := strings.TrimSuffix(item.Name, ".service")
			protected[service] = protected[service] || item.Guarded != ""
			free[service] = free[service] || item.Guarded == ""
		}
		for _, service := range strings.Fields(needed) {
			require.True(t, protected[service] && !free[service], "%s: %s", name, service)
		}
		for _, service := range []string{"tided", "mpd"} {
			require.True(t, free[service] && !protected[service], "%s: %s", name, service)
		}
	}
}

// A system that has all its programs in a store accuses none of them; on another, a store is an odd place for the
// system's names.
func TestStoresAccuseNobody(t *testing.T) {
	for id, accused := range map[string]bool{"nixos": false, "debian": true} {
		root := t.TempDir()
		write := func(name, text string) {
			file := filepath.Join(root, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
		}
		const units, daemon = "nix/store/0a-units/", "nix/store/1b-dbus/bin/dbus-daemon"
		write("etc/os-release", "ID="+id+"\n")
		write(daemon, "#!/bin/sh\n")
		write(units+"dbus.service", "[Service]\nExecStart=/"+daemon+" --system\n")
		write(units+"multi-user.target", "[Unit]\nDescription=People\nWants=dbus.service\n")
		require.NoError(t, os.Symlink("multi-user.target", filepath.Join(root, units, "default.target")))
		require.NoError(t, os.Mkdir(filepath.Join(root, "etc/systemd"), 0o755))
		require.NoError(t, os.Symlink("/"+strings.TrimSuffix(units, "/"), filepath.Join(root, "etc/systemd/system")))
		m, err := machine.Open(root)
		require.NoError(t, err)
		defer m.Close()
		seen := false
		for _, item := range inventory.Take(m, nil).Items {
			if item.Name == "dbus.service" {
				seen = true
				require.Equal(t, accused, slices.Contains(item.Problems, autostart.Impostor), id)
				require.False(t, item.OSPart, id)
			}
		}
		require.True(t, seen, id)
	}
}
