//go:build unix

package macos_test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/mac"
	"lockback/internal/testkit"
)

// account is a record of the local directory.
func account(name, uid, home string) dict {
	return dict{"name": list{name}, "uid": list{uid}, "gid": list{"20"}, "home": list{home},
		"generateduid": list{"0D1F5A17-ABCD-4001-8314-0000000" + uid}}
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
	t.Parallel()
	const users = "/private/var/db/dslocal/nodes/Default/users/"
	const system = "/System/Library/LaunchDaemons/"
	root := smallMac(t, "14.5", dict{
		users + "helper.plist":  account("helper", "00499", "/private/var/home/helper"), // hidden by its number
		users + "_backup.plist": account("_backup", "00510", "/Users/_backup"),          // and by its name
		users + "_www.plist":    account("_www", "00070", "/Library/WebServer"),
		"/private/var/home/helper/Library/LaunchAgents/a.plist": job("hidden.number", nil),
		"/Users/_backup/Library/LaunchAgents/a.PLIST":           job("hidden.name", nil),
		"/Users/left/Library/LaunchAgents/a.plist":              job("no.account", nil),
		"/Library/LaunchDaemons/wide.plist":                     "\xff\xfe<\x00?\x00",
		system + "com.openssh.sshd.plist": dict{"Label": "com.openssh.sshd",
			"Program": "/usr/bin/tide", "Disabled": true, "RunAtLoad": true},
		system + "com.apple.xprotect.plist": job("com.apple.xprotect", nil),
		system + "com.apple.quiet.plist": dict{"Label": "com.apple.quiet",
			"Program": "/usr/bin/tide", "RunAtLoad": true},
		system + "com.apple.limited.plist": dict{"Label": "com.apple.limited",
			"Program": "/usr/bin/tide", "Disabled": true, "RunAtLoad": true},
		"/Library/LaunchDaemons/taker.plist": job("com.apple.limited", nil),
		"/private/var/db/com.apple.xpc.launchd/disabled.plist": dict{"com.openssh.sshd": false,
			"com.apple.xprotect": true},
		// An update of macOS takes programs away and leaves jobs; and who has the disk can write below /Library/Apple.
		"/Library/LaunchAgents/com.apple.gone.plist": job("com.apple.gone", dict{"Program": "/Library/Gone"}),
		"/Library/Apple/System/Library/LaunchDaemons/com.apple.own.plist": job("com.apple.own",
			dict{"Program": "/usr/bin/tide"}),
		"/Library/Apple/System/Library/LaunchDaemons/tide.plist":         job("org.gullrock.tide", nil),
		"/System/Library/QuickLook/Text.qlgenerator/Contents/Info.plist": dict{"CFBundleIdentifier": "com.apple.text"},
	})
	m, _, by := look(t, root)
	for name, want := range map[string]string{
		"hidden.number helper": "enabled", "hidden.name _backup": "enabled", "no.account left": "enabled",
		"wide": "enabled", "com.openssh.sshd": "enabled", "com.apple.xprotect": "disabled",
	} {
		require.NotNil(t, by[name], name)
		require.Equal(t, want, string(by[name].State), name)
		require.False(t, by[name].Hidden(), name)
	}
	require.Contains(t, by["com.openssh.sshd"].Problems, autostart.NotDefault)
	require.NotContains(t, by["com.apple.quiet"].Problems, autostart.NotDefault)
	require.True(t, by["com.apple.quiet"].Hidden())
	require.Equal(t, []string{autostart.TargetMissing}, by["com.apple.gone ines"].Problems)
	require.True(t, by["com.apple.own"].Hidden())
	require.False(t, by["org.gullrock.tide"].OSPart)
	require.Contains(t, by["org.gullrock.tide"].Problems, autostart.NotDefault)
	// A job that is off by its own file is not loaded, and the next file with its label runs.
	states := map[string]autostart.State{}
	_, inv, _ := look(t, root)
	for _, item := range inv.Items {
		states[item.Source.Path] = item.State
	}
	require.Equal(t, autostart.Disabled, states[system+"com.apple.limited.plist"])
	require.Equal(t, autostart.Enabled, states["/Library/LaunchDaemons/taker.plist"])
	require.ErrorIs(t, m.Writable(artifact.File("/System/Library/QuickLook/Text.qlgenerator/Contents/Info.plist"),
		artifact.Image{}, artifact.Image{}), mac.ErrSealed)
}

// One volume of the two that a Mac has is not taken for a clean machine.
func TestHalfMacs(t *testing.T) {
	t.Parallel()
	data := smallMac(t, "14.5", dict{"/Library/LaunchDaemons/a.plist": dict{"Label": "tide", "Program": "/usr/bin/tide",
		"RunAtLoad": true}, "/System/Library/CoreServices/CoreTypes.bundle/Contents/Library/x": ""})
	require.NoError(t, os.Remove(filepath.Join(data, "System/Library/CoreServices/SystemVersion.plist")))
	_, inv, by := look(t, data)
	require.Nil(t, by["tide"].Target.Exists, "it lies on the other volume")
	require.NotEmpty(t, inv.Unread)
	alone := smallMac(t, "14.5", dict{"/System/Library/LaunchDaemons/a.plist": job("com.apple.tide", nil)})
	require.NoError(t, os.RemoveAll(filepath.Join(alone, "private/var")))
	_, inv, _ = look(t, alone)
	require.Contains(t, inv.Unread[0].Reason+inv.Unread[len(inv.Unread)-1].Reason, "mount its data volume")
}

// What lies where it cannot be looked at is unknown, and never missing.
func TestElsewhereIsUnknown(t *testing.T) {
	t.Parallel()
	root := smallMac(t, "14.5", dict{
		"/Library/LaunchDaemons/a.plist": job("behind a link",
			dict{"Program": "/opt/tide/bin/tide"}),
		"/Library/LaunchDaemons/b.plist": job("second fork",
			dict{"Program": "/tide/..namedfork/rsrc"}),
		"/Library/LaunchDaemons/c.plist": job("by number", dict{"Program": "/.vol/16777220/2/tide"}),
		"/Library/LaunchDaemons/d.plist": job("cryptex", dict{"Program": "/System/Cryptexes/App/usr/bin/tide"}),
		"/Library/LaunchDaemons/e.plist": job("another root", dict{"Program": "/bin/tide",
			"RootDirectory": "/opt/jail"}),
		"/Library/LaunchDaemons/f.plist": job("not in that root", dict{"Program": "/bin/sh",
			"RootDirectory": "/opt/jail"}),
		"/Library/LaunchDaemons/g.plist": job("gone", dict{"Program": "/opt/gone"}),
		"/opt/jail/bin/tide":             "",
		"/Library/SystemExtensions/x/org.tide.systemextension/Contents/MacOS/tide": "",
		"/Library/SystemExtensions/x/org.tide.systemextension/Contents/Info.plist": dict{"CFBundleExecutable": "tide"},
		"/Library/SystemExtensions/db.plist": dict{"extensions": list{dict{"identifier": "org.tide",
			"state": "activated_enabled", "originPath": "/Applications/Moved.app/x",
			"stagedBundleURL": dict{"relative": "file:///Library/SystemExtensions/x/org.tide.systemextension/"}}}},
		"/private/var/db/ConfigurationProfiles/Store/ConfigProfiles.binary": "\x00",
	})
	for link, target := range map[string]string{"opt/tide": "/Volumes/Archive/tide",
		"System/Cryptexes": "/System/Volumes/Preboot/Cryptexes"} {
		require.NoError(t, os.Symlink(target, filepath.Join(root, link)))
	}
	_, inv, by := look(t, root)
	for name, want := range map[string]string{"behind a link": "unknown", "second fork": "unknown",
		"by number": "unknown", "cryptex": "unknown", "another root": "there", "not in that root": "missing",
		"gone": "missing", "org.tide": "there"} {
		is := "unknown"
		if exists := by[name].Target.Exists; exists != nil {
			is = map[bool]string{true: "there", false: "missing"}[*exists]
		}
		require.Equal(t, want, is, name)
		require.Equal(t, want == "missing", slices.Contains(by[name].Problems, autostart.TargetMissing), name)
	}
	unread := func() (paths []string) {
		for _, u := range inv.Unread {
			paths = append(paths, u.Path)
		}
		return paths
	}
	require.ElementsMatch(t, []string{"/System/Cryptexes/App", "/System/Cryptexes/OS",
		"/private/var/db/ConfigurationProfiles/Store/ConfigProfiles.binary"}, unread())

	// A home on another volume is one line, not one for each place in it.
	require.NoError(t, os.RemoveAll(filepath.Join(root, home)))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "Users"), 0o755))
	require.NoError(t, os.Symlink("/Volumes/Homes/ines", filepath.Join(root, home)))
	_, inv, _ = look(t, root)
	require.ElementsMatch(t, []string{"/System/Cryptexes/App", "/System/Cryptexes/OS",
		"/private/var/db/ConfigurationProfiles/Store/ConfigProfiles.binary", home}, unread())
	require.Contains(t, inv.Unread[len(inv.Unread)-1].Reason, "the volume Homes")
}

// A step that stands in the log of the database of rights counts: without it a plug-in that decides about
// sign-in would be in no right.
func TestRightsInTheLog(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "auth.db")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	defer db.Close()
	for _, statement := range []string{"PRAGMA journal_mode = wal",
		"CREATE TABLE rules (id INTEGER PRIMARY KEY, name TEXT)",
		"CREATE TABLE mechanisms (id INTEGER PRIMARY KEY, plugin TEXT, param TEXT, privileged INTEGER)",
		"CREATE TABLE mechanisms_map (r_id INTEGER, m_id INTEGER, ord INTEGER)",
		"INSERT INTO rules VALUES (1, 'system.login.console')", "INSERT INTO mechanisms VALUES (1, 'builtin', 'x', 0)",
		"INSERT INTO mechanisms_map VALUES (1, 1, 0)",
		"PRAGMA wal_checkpoint(RESTART)", "INSERT INTO mechanisms VALUES (2, 'Badge', 'ask', 1)",
		"INSERT INTO mechanisms_map VALUES (1, 2, 1)"} {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	log, err := os.ReadFile(file + "-wal")
	require.NoError(t, err)
	const badge = "/Library/Security/SecurityAgentPlugins/Badge.bundle/Contents/Info.plist"
	for _, withLog := range []bool{false, true} {
		files := dict{"/private/var/db/auth.db": content, badge: dict{"CFBundleIdentifier": "org.badge"}}
		want := "in no right"
		if withLog {
			files["/private/var/db/auth.db-wal"], want = log, "for system.login.console"
		}
		_, _, by := look(t, smallMac(t, "14.5", files))
		require.Equal(t, want, by["Badge"].Mode)
	}
}

// What protects the Mac and is off always shows, though it is a part of the system; what else is off does not.
func TestSecurityOffShows(t *testing.T) {
	t.Parallel()
	_, inv, _ := look(t, testkit.MacAsItIs(t, map[string]any{
		"/private/var/db/com.apple.xpc.launchd/disabled.plist": map[string]any{"com.apple.alf": true,
			"com.apple.ftpd": true}}))
	var shown []string
	for _, item := range inv.Items {
		if item.State == autostart.Disabled && !item.Hidden() {
			shown = append(shown, item.Name)
			require.True(t, item.OSPart)
		}
	}
	require.Equal(t, []string{"com.apple.alf"}, shown)
}

// Of a plain Mac nothing is shown, missing, or off but what a fresh one has off; each of its jobs is protected
// unless it is known to be harmless. What others put beside them is shown, once where it is everyone's.
func TestPlainMac(t *testing.T) {
	t.Parallel()
	_, inv, _ := look(t, testkit.MacAsItIs(t, nil))
	require.Empty(t, inv.Unread)
	require.Greater(t, len(inv.Items), 1000)
	free, off := map[string]bool{}, map[string]bool{}
	for _, item := range inv.Items {
		require.True(t, item.Hidden(), "%s %s", item.Location, item.Name)
		require.Empty(t, item.Problems, "%s %s", item.Location, item.Name)
		if item.Guarded == "" && strings.HasPrefix(item.Location, "macos.launch-") {
			free[item.Name] = true
			require.NotEmpty(t, item.Entry.Facts().Description, "%s is neither protected nor known", item.Name)
		}
		if item.State == autostart.Disabled {
			off[item.Name] = true
		}
	}
	for _, label := range []string{"com.apple.MobileFileIntegrity", "com.apple.coreservices.launchservicesd",
		"com.apple.watchdogd", "com.apple.mobile.keybagd", "com.apple.powerd", "com.apple.lsd",
		"com.apple.containermanagerd_system",
		"com.apple.thermalmonitord", "com.apple.secinitd", "com.apple.taskgated", "com.apple.logind",
		"com.apple.driverkitd", "com.apple.usbd", "com.apple.sysextd", "com.apple.pluginkit.pkd",
		"com.apple.imklaunchagent", "com.apple.xpc.smd"} {
		require.False(t, free[label], label)
	}
	require.Len(t, off, 21, "%v", off)
	require.True(t, off["com.openssh.sshd"])

	background := "/private/var/db/com.apple.xpc.launchd/disabled"
	root := testkit.MacAsItIs(t, dict{
		"/Library/LaunchAgents/org.tide.plist": job("org.tide", dict{"Program": "/opt/tide"}),
		"/Library/LaunchDaemons/org.fog.plist": job("org.fog", dict{"Program": "/opt/fog"}),
		"/Library/LaunchDaemons/com.apple.cunning.plist": job("com.apple.cunning",
			dict{"Program": "/usr/libexec/amfid"}),
		"/private/var/db/dslocal/nodes/Default/users/admin.plist": account("admin", "00498", "/private/var/home/admin"),
		"/private/var/home/admin/Library/LaunchAgents/x.plist":    job("org.hidden", nil),
		"/opt/tide": "", "/opt/fog": "", "/tide": "",
		background + ".plist": dict{"com.openssh.sshd": false, "com.apple.atrun": false, "com.apple.alf": true,
			"org.fog": true},
		background + ".502.plist": dict{"com.apple.Siri.agent": true},
	})
	_, inv, _ = look(t, root)
	entries := make([]*autostart.Entry, 0, len(inv.Items))
	for _, item := range inv.Items {
		entries = append(entries, &item.Entry)
	}
	var shown []string
	for _, e := range autostart.OnceForEveryone(entries, entries) {
		if !e.Hidden() {
			shown = append(shown, strings.TrimSpace(fmt.Sprintf("%s %s %s", e.State, e.Name, e.User)))
		}
	}
	require.ElementsMatch(t, []string{"enabled org.tide", "disabled org.fog", "enabled com.apple.cunning",
		"enabled org.hidden admin",
		"enabled com.openssh.sshd", "disabled com.apple.alf", "enabled com.apple.atrun",
		"disabled com.apple.Siri.agent bram"}, shown)
}
