package macos_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine"
)

// account is a record of the local directory.
func account(name, uid, home string) dict {
	return dict{"name": list{name}, "uid": list{uid}, "gid": list{"20"}, "home": list{home}, "generateduid": list{"0D1F5A17-ABCD-4001-8314-0000000" + uid}}
}

// look opens a Mac and lists it, by name and user.
func look(t *testing.T, root string) (*machine.Machine, inventory.Inventory, map[string]*autostart.Entry) {
	t.Helper()
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	inv := inventory.Take(m, nil)
	by := map[string]*autostart.Entry{}
	for _, item := range inv.Items {
		name := item.Name
		if item.User != "" {
			name += " " + item.User
		}
		by[name] = &item.Entry
	}
	return m, inv, by
}

// What hides on Macs that somebody made to hide it, and what must not be called off or on.
func TestRealMacs(t *testing.T) {
	const users = "/private/var/db/dslocal/nodes/Default/users/"
	const system = "/System/Library/LaunchDaemons/"
	root := mac(t, "14.5", dict{
		users + "helper.plist":  account("helper", "00499", "/private/var/home/helper"), // hidden by its number
		users + "_backup.plist": account("_backup", "00510", "/Users/_backup"),          // and by its name
		users + "_www.plist":    account("_www", "00070", "/Library/WebServer"),
		"/private/var/home/helper/Library/LaunchAgents/a.plist":          job("hidden.number", nil),
		"/Users/_backup/Library/LaunchAgents/a.PLIST":                    job("hidden.name", nil),
		"/Users/left/Library/LaunchAgents/a.plist":                       job("no.account", nil),
		"/Library/LaunchDaemons/wide.plist":                              "\xff\xfe<\x00?\x00",
		system + "com.openssh.sshd.plist":                                dict{"Label": "com.openssh.sshd", "Program": "/usr/bin/tide", "Disabled": true, "RunAtLoad": true},
		system + "com.apple.xprotect.plist":                              job("com.apple.xprotect", nil),
		system + "com.apple.quiet.plist":                                 dict{"Label": "com.apple.quiet", "Program": "/usr/bin/tide", "RunAtLoad": true},
		system + "com.apple.limited.plist":                               dict{"Label": "com.apple.limited", "Program": "/usr/bin/tide", "Disabled": true, "RunAtLoad": true},
		"/Library/LaunchDaemons/taker.plist":                             job("com.apple.limited", nil),
		"/private/var/db/com.apple.xpc.launchd/disabled.plist":           dict{"com.openssh.sshd": false, "com.apple.xprotect": true},
		"/System/Library/QuickLook/Text.qlgenerator/Contents/Info.plist": dict{"CFBundleIdentifier": "com.apple.text"},
	})
	m, _, by := look(t, root)
	for name, want := range map[string]string{
		"hidden.number helper": "enabled", "hidden.name _backup": "enabled", "no.account left": "enabled", "wide": "enabled", "com.openssh.sshd": "enabled", "com.apple.xprotect": "disabled",
	} {
		require.NotNil(t, by[name], name)
		require.Equal(t, want, string(by[name].State), name)
		require.False(t, by[name].Hidden(), name)
	}
	require.Contains(t, by["com.openssh.sshd"].Problems, autostart.NotDefault)
	require.NotContains(t, by["com.apple.quiet"].Problems, autostart.NotDefault)
	require.True(t, by["com.apple.quiet"].Hidden())
	// A job that is off by its own file is not loaded, and the next file with its label runs.
	states := map[string]autostart.State{}
	_, inv, _ := look(t, root)
	for _, item := range inv.Items {
		states[item.Source.Path] = item.State
	}
	require.Equal(t, autostart.Disabled, states[system+"com.apple.limited.plist"])
	require.Equal(t, autostart.Enabled, states["/Library/LaunchDaemons/taker.plist"])
	require.ErrorIs(t, m.Writable(machine.File("/System/Library/QuickLook/Text.qlgenerator/Contents/Info.plist"), machine.Image{}, machine.Image{}), machine.ErrSealed)
}

// One volume of the two that a Mac has is not taken for a clean machine.
func TestHalfMacs(t *testing.T) {
	data := mac(t, "14.5", dict{"/Library/LaunchDaemons/a.plist": dict{"Label": "tide", "Program": "/usr/bin/tide", "RunAtLoad": true}, "/System/Library/CoreServices/CoreTypes.bundle/Contents/Library/x": ""})
	require.NoError(t, os.Remove(filepath.Join(data, "System/Library/CoreServices/SystemVersion.plist")))
	_, inv, by := look(t, data)
	require.Nil(t, by["tide"].Target.Exists, "it lies on the other volume")
	require.NotEmpty(t, inv.Unread)
	alone := mac(t, "14.5", dict{"/System/Library/LaunchDaemons/a.plist": job("com.apple.tide", nil)})
	require.NoError(t, os.RemoveAll(filepath.Join(alone, "private/var")))
	_, inv, _ = look(t, alone)
	require.Contains(t, inv.Unread[0].Reason+inv.Unread[len(inv.Unread)-1].Reason, "mount its data volume")
}
