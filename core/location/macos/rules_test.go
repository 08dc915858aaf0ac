//go:build unix

package macos_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/bookmark"
	"lockback/core/format/plist"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/internal/testkit"
)

type (
	dict = map[string]any
	list = []any
)

// in is a file whose mode counts.
type in struct {
	mode    os.FileMode
	content any
}

// binaryForm is a property list in that form.
type binaryForm struct{ root any }

const (
	daemons = "/Library/LaunchDaemons/"
	agents  = "/Library/LaunchAgents/"
	home    = "/Users/ines"
	macID   = "1887C0DE-0314-4092-A653-5A17ABCDEF03"
)

// smallMac writes a small Mac of a release, with one user.
func smallMac(t *testing.T, release string, files dict) string {
	t.Helper()
	root := t.TempDir()
	all := dict{
		"/private/var/db/dslocal/nodes/Default/users/ines.plist": dict{"name": list{"ines"}, "uid": list{"501"},
			"gid": list{"20"}, "home": list{home}, "generateduid": list{"0D1F5A17-ABCD-4001-8314-000000000501"}},
		"/private/etc/.keep": "",
		"/Library/Preferences/ByHost/x." + macID + ".plist": dict{},
		"/bin/sh": "", "/usr/bin/tide": "", "/tide": "",
		"/Library/Preferences/SystemConfiguration/preferences.plist": dict{
			"System": dict{"System": dict{"ComputerName": "small-mac"}}},
	}
	if release != "" {
		all["/System/Library/CoreServices/SystemVersion.plist"] = dict{"ProductName": "macOS",
			"ProductVersion": release}
	} else {
		all["/sbin/launchd"] = ""
	}
	for name, content := range files {
		all[name] = content
	}
	for name, content := range all {
		file, mode := filepath.Join(root, name), os.FileMode(0o644)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		if i, ok := content.(in); ok {
			content, mode = i.content, i.mode
		}
		var b []byte
		switch c := content.(type) {
		case string:
			b = []byte(c)
		case []byte:
			b = c
		case binaryForm:
			doc := plist.New(c.root)
			doc.Form = plist.Binary
			var err error
			b, err = doc.Bytes()
			require.NoError(t, err, name)
		default:
			var err error
			b, err = plist.New(c).Bytes()
			require.NoError(t, err, name)
		}
		require.NoError(t, os.WriteFile(file, b, 0o644))
		require.NoError(t, os.Chmod(file, mode))
		if os.Geteuid() == 0 && strings.HasPrefix(name, home+"/") {
			require.NoError(t, os.Chown(file, 501, 20))
		}
	}
	return root
}

func job(label string, more dict) dict {
	j := dict{"Label": label, "Program": "/tide", "RunAtLoad": true}
	for k, v := range more {
		if j[k] = v; v == nil {
			delete(j, k)
		}
	}
	return j
}

// records is the database of background items, as small as it can be: plain
// values where macOS has objects.
func records(people dict) dict {
	var keys, values list
	for id, items := range people {
		keys, values = append(keys, id), append(values, items)
	}
	return dict{"$archiver": "NSKeyedArchiver", "$objects": list{"$null", dict{"itemsByUserIdentifier": plist.UID(2)},
		dict{"NS.keys": keys, "NS.objects": values}}, "$top": dict{"store": plist.UID(1)}}
}

// What the rules of macOS make of small machines: for each entry its state, its
// mode and its switch.
func TestRules(t *testing.T) {
	t.Parallel()
	oldList := dict{"SessionItems": dict{"CustomListItems": list{dict{"Name": "Old",
		"Alias": bookmark.EncodeAlias(bookmark.Place{Path: "/Applications/Old.app", VolumePath: "/"})}}}}
	agentList := dict{"$archiver": "NSKeyedArchiver", "$top": dict{"backgroundItems": plist.UID(1)},
		"$objects": list{"$null", dict{"allContainers": list{plist.UID(2)}},
			dict{"internalItems": list{plist.UID(3)}},
			dict{"bookmark": bookmark.Encode(bookmark.Place{Path: "/Applications/Newer.app", VolumePath: "/"})}}}
	const (
		support    = home + "/Library/Application Support/"
		agentFile  = support + "com.apple.backgroundtaskmanagementagent/backgrounditems.btm"
		oldFile    = home + "/Library/Preferences/com.apple.loginitems.plist"
		background = "/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v"
		state      = "/private/var/db/com.apple.xpc.launchd/"
		oldState   = "/private/var/db/launchd.db/com.apple.launchd"
		windowFile = "/Library/Preferences/com.apple.loginwindow.plist"
		notRun     = "disabled|ignored: not read since OS X 10.10|"
		byDatabase = "disabled|disabled in launchd's database|override"
		inSettings = "disabled|turned off in System Settings|"
		appList    = "AutoLaunchedApplicationDictionary"
		extension  = "|report"
	)
	profile := support + "Chromium/Default/Extensions/abcdefghijklmnopabcdefghijklmnop/"
	for _, c := range []struct {
		name, release string
		files         dict
		want          map[string]string // location and name, to "state|mode|switch"
		unread        int
	}{
		{name: "what launchd loads", release: "12.1", files: dict{
			daemons + "a.plist": job("on", nil), daemons + "b.plist": job("off", nil),
			daemons + "c.plist": job("asked back", dict{"Disabled": true}),
			daemons + "d.plist": job("off by itself", dict{"Disabled": true}),
			daemons + "e.plist": binaryForm{job("binary", nil)},
			daemons + "f.plist": `{ Label = text; Program = "/tide"; }`,
			daemons + "g.plist": dict{"Program": "/tide"}, daemons + "h.plist": dict{"Label": "idle"},
			daemons + "i.plist": in{0o666, job("open", nil)}, daemons + "j.plist.bak": job("backup", nil),
			daemons + ".k.plist": job("hidden", nil), daemons + "l.plist": job("on", nil), "/System" + daemons +
				"z.plist": job("twice", nil), daemons + "m.plist": job("twice", nil),
			daemons + "n.plist": "<plist><dict><key>Label</key>", daemons + "o.plist": job("hour",
				dict{"RunAtLoad": nil, "StartInterval": uint64(3600)}),
			state + "disabled.plist": dict{"off": true, "asked back": false, "other": true, "odd": "text"},
		}, want: map[string]string{
			"macos.launch-daemons on": "enabled||override", "macos.launch-daemons off": byDatabase,
			"macos.launch-daemons asked back":    "enabled||override",
			"macos.launch-daemons off by itself": "disabled|disabled in its own file|override",
			"macos.launch-daemons binary":        "enabled||override",
			"macos.launch-daemons text":          "enabled|only when asked for|override",
			"macos.launch-daemons g":             "disabled|ignored: it has no Label|report",
			"macos.launch-daemons idle":          "disabled|ignored: it names no program|report",
			"macos.launch-daemons open":          "disabled|ignored: others may write to it|report",
			// the system's own is loaded first
			"macos.launch-daemons on#2":    "disabled|ignored: another file has its label|report",
			"macos.launch-daemons twice":   "disabled|ignored: another file has its label|report",
			"macos.launch-daemons twice#2": "enabled||override",
			"macos.launch-daemons n": "enabled|lockback cannot parse its file; launchd may still " +
				"read it|report unparsable", "macos.launch-daemons hour": "enabled|every 1 h|override",
		}},
		{name: "whom an agent concerns", release: "14.0", files: dict{
			agents + "a.plist": job("all", nil), agents + "b.plist": job("window",
				dict{"LimitLoadToSessionType": list{"LoginWindow"}}), agents + "c.plist": job("both",
				dict{"LimitLoadToSessionType": list{"LoginWindow", "Aqua"}}),
			"/Library/Apple/System" + agents + "x.plist": job("from an update", nil),
			home + agents + "d.plist":                    job("own", nil), home + agents + "e.plist": job("all", nil),
			state + "disabled.501.plist": dict{"own": true}, state + "disabled.plist": dict{"all": true},
		}, want: map[string]string{
			"macos.launch-agents all ines":            "enabled||override",
			"macos.launch-agents window":              "enabled|at the login window, at startup|report",
			"macos.launch-agents both ines":           "enabled||override",
			"macos.launch-agents from an update ines": "enabled||override",
			"macos.launch-agents own ines":            byDatabase,
			"macos.launch-agents all ines#2":          "disabled|ignored: another file has its label|report",
		}},
		{name: "10.9", release: "10.9.5", files: dict{
			daemons + "a.plist": job("off", nil), daemons + "b.plist": job("on", nil), home + agents +
				"c.plist": job("hers", nil),
			oldState + "/overrides.plist": dict{"off": dict{"Disabled": true}}, oldState +
				".peruser.501/overrides.plist": binaryForm{dict{"hers": dict{"Disabled": true}}},
			state + "disabled.plist":                             dict{"on": true},
			"/Library/StartupItems/Tide/StartupParameters.plist": `{ Description = "the tide"; Provides = ("Tide"); }`,
			"/Library/StartupItems/Tide/Tide":                    "", "/Library/StartupItems/Empty/Empty": "",
			"/Library/StartupItems/Odd/StartupParameters.plist": "nonsense",
			"/private/etc/rc.local":                             "",
			"/private/etc/launchd.conf": "# limits\nlimit maxfiles 512\n#lockback:off " +
				"setenv A b\n\nbsexec 1 /tide\n",
			oldFile: oldList, agentFile: agentList,
			"/private/etc/emond.d/rules/one.plist": list{dict{"name": "bell", "enabled": true, "eventTypes": list{"a",
				"b"}, "actions": list{dict{"type": "Log"}, dict{"command": "/tide", "arguments": list{"x"}}}}},
			"/private/etc/emond.d/rules/two.plist": list{dict{"name": "first", "enabled": true},
				dict{"enabled": false}}, "/private/var/db/emondClients/any": "",
		}, want: map[string]string{
			"macos.launch-daemons off": byDatabase, "macos.launch-daemons on": "enabled||override",
			"macos.launch-agents hers ines": byDatabase,
			"macos.startup-items Tide":      "enabled||park",
			"macos.startup-items Empty":     "disabled|without its StartupParameters.plist|park",
			"macos.startup-items Odd": "disabled|ignored: its StartupParameters.plist cannot be read|park " +
				"unparsable",
			"macos.rc rc.local": "enabled||park", "macos.rc limit maxfiles 512": "enabled||comment",
			"macos.rc setenv A b": "disabled||comment", "macos.rc bsexec 1 /tide": "enabled||comment",
			"macos.login-items Old ines": "enabled||report", "macos.emond bell": "enabled|on a, b|park",
			"macos.emond first": "enabled|on |report", "macos.emond two 2": "disabled|not enabled in its file|report",
		}},
		{name: "10.10 and later", release: "10.15.7", files: dict{
			"/Library/StartupItems/Tide/StartupParameters.plist": dict{"Provides": list{"Tide"}},
			"/private/etc/rc.local":                              "", "/private/etc/launchd.conf": "umask 0\n",
			home + "/.launchd.conf": "umask 0\n", "/private/etc/rc.common": "",
			agentFile: agentList, oldFile: oldList, "/private/etc/emond.d/rules/one.plist": list{dict{"name": "bell",
				"enabled": true}},
		}, want: map[string]string{
			"macos.startup-items Tide": notRun + "park",
			"macos.rc rc.local":        "disabled|ignored: not run since OS X 10.10|park", "macos.rc umask 0": notRun +
				"comment", "macos.rc umask 0 ines": "disabled|ignored: launchd never read a user's own|comment",
			"macos.rc rc.common":           "disabled|ignored: only read by other scripts, never run|park",
			"macos.login-items Newer ines": "enabled||report",
			"macos.emond bell":             "disabled|the event monitor does not run|park",
		}},
		{name: "an unknown release reads what is there", files: dict{daemons + "a.plist": job("off", nil), oldState +
			"/overrides.plist": dict{"off": dict{"Disabled": true}}, oldFile: oldList}, want: map[string]string{
			"macos.launch-daemons off": byDatabase, "macos.login-items Old ines": "enabled||report",
		}},
		{name: "background items", release: "13.2", files: dict{
			background + "4.btm": binaryForm{
				records(dict{"0D1F5A17-ABCD-4001-8314-000000000501": list{dict{"name": "Stale", "type": uint64(2),
					"disposition": uint64(3), "url": "file:///Applications/Stale.app"}}})},
			background + "13.btm": binaryForm{records(dict{"FFFFEEEE-DDDD-CCCC-BBBB-AAAA000001F5": list{
				dict{"name": "Opens", "type": uint64(2), "disposition": uint64(0xb),
					"url": "file:///Applications/Opens%20it.app/", "identifier": "2.org.opens"},
				dict{"name": "Forbidden", "type": uint64(2), "disposition": uint64(0x9),
					"url": "file:///Applications/F.app"},
				dict{"name": "Container", "type": uint64(2), "disposition": uint64(0xa),
					"url": "file:///Applications/C.app", "items": list{"4.org.helper"}},
				dict{"name": "Deep", "type": uint64(2), "disposition": uint64(0xa), "identifier": "2.org.deep",
					"url": "file:///Users/Shared/Deep.app", "items": list{"8.org.below"}},
				dict{"name": "below", "type": uint64(8), "disposition": uint64(0xb), "identifier": "8.org.below",
					"container": "2.org.deep", "url": "Contents/Library/LaunchAgents/z.plist"},
				dict{"name": "Gone", "type": uint64(2), "disposition": uint64(0xa),
					"url": "file:///Applications/G.app"},
				dict{"name": "helper", "type": uint64(4), "disposition": uint64(0xb), "identifier": "4.org.helper"},
				dict{"name": "other", "type": uint64(4), "disposition": uint64(0xa), "identifier": "4.org.other"},
				dict{"name": "agent", "type": uint64(0x10008), "disposition": uint64(0x9), "url": "file://" + home +
					agents + "a.plist"},
			}, "FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE": list{
				dict{"name": "daemon", "type": uint64(0x10), "disposition": uint64(0xb), "identifier": "16.inner",
					"url": "file:///Applications/C.app/Contents/Library/LaunchDaemons/d.plist"},
			}})},
			home + agents + "a.plist": job("agent", nil), oldFile: oldList,
			"/Users/Shared/Deep.app/Contents/Library/LaunchAgents/z.plist": dict{"Label": "below",
				"Program": "/tide"},
			"/Applications/C.app/Contents/Info.plist": dict{
				"CFBundleIdentifier": "org.c"},
			"/Applications/C.app/Contents/Library/LoginItems/Helper.app/Contents/Info.plist": dict{
				"CFBundleIdentifier": "org.helper", "CFBundleExecutable": "h"},
			"/Applications/C.app/Contents/Library/LoginItems/Other.app/Contents/Info.plist": binaryForm{
				dict{"CFBundleIdentifier": "org.other"}},
			"/Applications/C.app/Contents/Library/LoginItems/Unused.app/Contents/Info.plist": dict{
				"CFBundleIdentifier": "org.unused"},
			"/Applications/C.app/Contents/Library/LoginItems/Broken.app/x": "",
			"/Applications/C.app/Contents/Library/LaunchDaemons/d.plist": dict{"Label": "inner",
				"BundleProgram": "Contents/MacOS/d", "KeepAlive": true},
			"/Applications/C.app/Contents/Library/LaunchAgents/e.plist": dict{"Label": "overridden",
				"Program": "/tide"},
			"/Applications/Suite/Deep.app/Contents/Library/LaunchAgents/f.plist": "nonsense",
			home + "/Applications/Hers.app/Contents/Library/LaunchAgents/g.plist": dict{"Label": "hers",
				"Program": "/tide"},
			state + "disabled.501.plist": dict{"overridden": true},
		}, want: map[string]string{
			"macos.login-items Opens ines": "enabled||report", "macos.login-items Forbidden ines": inSettings +
				"report", "macos.login-items Gone ines": inSettings + "report",
			"macos.launch-agents agent ines":  inSettings + "override",
			"macos.embedded-jobs Helper ines": "enabled||override", "macos.embedded-jobs Other ines": inSettings +
				"override",
			"macos.embedded-jobs Unused":          "disabled|not registered by its app|report",
			"macos.embedded-jobs Broken":          "disabled|not registered by its app|report unparsable",
			"macos.embedded-jobs inner":           "enabled|kept running|override",
			"macos.embedded-jobs overridden ines": byDatabase,
			"macos.embedded-jobs f":               "disabled|not registered by its app|report unparsable",
			"macos.embedded-jobs below ines":      "enabled|only when asked for|override",
			"macos.embedded-jobs hers ines":       "disabled|not registered by its app|override",
		}},
		{name: "what the list of 13 says of a user, and what no longer counts", release: "14.0", files: dict{
			background + "13.btm": binaryForm{records(dict{"0D1F5A17-ABCD-4001-8314-000000000501": list{
				dict{"name": "Quiet", "type": uint64(2), "disposition": uint64(0xf),
					"url": "file:///Applications/Quiet.app/"},
				dict{"name": "Note", "type": uint64(1), "disposition": uint64(3), "url": "file:///Users/ines/note.txt"},
				dict{"name": "Maker", "type": uint64(0x20), "disposition": uint64(3)},
				dict{"name": "agent", "type": uint64(0x10008), "disposition": uint64(1),
					"url": "file:///USERS/ines/Library/launchagents/A.plist"},
			}})},
			home + agents + "a.plist": job("agent", nil), agentFile: binaryForm{agentList},
		}, want: map[string]string{
			"macos.login-items Quiet ines": "enabled|hidden|report", "macos.login-items Note ines": "enabled||report",
			"macos.launch-agents agent ines": inSettings + "override",
		}},
		{name: "an empty list is a list", release: "14.0", files: dict{
			background + "13.btm": binaryForm{records(dict{"0D1F5A17-ABCD-4001-8314-000000000501": list{}})},
			agentFile:             binaryForm{agentList}, daemons + "a.plist": job("there", nil),
		}, want: map[string]string{"macos.launch-daemons there": "enabled||override"}},
		{name: "jobs that not every Mac loads, and kinds of sessions", release: "14.0", unread: 0, files: dict{
			daemons + "a.plist": job("limited", dict{"LimitLoadToHardware": dict{"machine": list{"x"}}}),
			daemons + "b.plist": job("limited", nil), daemons + "c.plist": job("limited", nil),
			agents + "a.plist": job("both", dict{"LimitLoadToSessionType": "Background"}),
			agents + "b.plist": job("both", nil),
			daemons + "activity.plist": job("activity", dict{"RunAtLoad": nil,
				"LaunchEvents": dict{"com.apple.xpc.activity": dict{"tide": dict{"Interval": uint64(7200)}}}}),
			daemons + "padded.plist":                                    strings.Repeat(" ", 1<<20+1),
			"/System/Cryptexes/OS/System/Library/LaunchDaemons/x.plist": job("com.apple.cryptic", nil),
			"/private/etc/pam.d/sudo": "auth sufficient pam_permit.so\nauth " +
				"required pam_opendirectory.so\nsession required pam_permit.so\n",
			"/private/etc/pam.d/passwd":                                   "auth required pam_permit.so\n",
			"/Library/Screen Savers/S.saver/Contents/Info.plist":          dict{"CFBundleExecutable": "a"},
			"/Library/Screen Savers/S.saver/Contents/Info-macos.plist":    dict{"CFBundleExecutable": "b"},
			"/Library/OpenDirectory/Modules/M.bundle/Contents/Info.plist": dict{},
			home + "/Library/Preferences/com.apple.FolderActionsDispatcher.plist": dict{"folderActionsEnabled": true,
				"folderActions": archived(list{dict{"folderURL": "file:///Users/ines/In",
					"scripts": list{dict{"scriptURL": "file:///s.scpt", "name": "s"}}}})},
			state + "disabled.501.plist": dict{"com.apple.FolderActionsDispatcher": true},
		}, want: map[string]string{
			"macos.launch-daemons limited":    "enabled|on some Macs only|override",
			"macos.launch-daemons limited#2":  "enabled||override",
			"macos.launch-daemons limited#3":  "disabled|ignored: another file has its label|report",
			"macos.launch-agents both ines":   "enabled||override",
			"macos.launch-agents both ines#2": "enabled||override",
			"macos.launch-daemons activity":   "enabled|about every 2 h|override",
			"macos.launch-daemons padded": "enabled|lockback cannot parse its file; launchd may still " +
				"read it|report unparsable", "macos.launch-daemons com.apple.cryptic": "enabled||override",
			"macos.pam pam_permit": "enabled|for sudo|report", "macos.plug-ins S": "enabled|screen saver|park",
			"macos.directory-services M":  "enabled|directory service|park",
			"macos.folder-actions s ines": "disabled|the job that runs them is disabled in launchd's database|report",
		}},
		{name: "hooks, and what opens again", release: "14.0", files: dict{
			"/private/var/root" + windowFile: dict{"LoginHook": "/tide now", "LogoutHook": "/gone",
				appList: list{dict{"Path": "/Applications/A.app", "Hide": true}, dict{"Odd": "x"}}}, home +
				windowFile: dict{"LoginHook": "/tide"},
			"/private/var/db/dslocal/nodes/Default/users/root.plist": dict{"name": list{"root"}, "uid": list{"0"},
				"home": list{"/var/root", "/private/var/root"}},
			home + "/Library/Preferences/ByHost/com.apple.loginwindow." + macID +
				".plist": binaryForm{dict{"TALAppsToRelaunchAtLogin": list{dict{"Path": "/Applications/B.app"},
				dict{"Path": "/Applications/D.app", "Hide": uint64(1)}}}},
			home +
				"/Library/Preferences/ByHost/com.apple.loginwindow.00000000-0000-0000-0000-000000000000.plist.lockfile": "",
			"/Library/Managed Preferences/ines/com.apple.loginitems.managed.plist": dict{appList +
				"-managed": list{dict{"Path": "/Applications/M.app"}}},
			"/private/var/db/ConfigurationProfiles/Store/p.mobileconfig": dict{"PayloadContent": list{
				dict{"PayloadType": "other"}, dict{"PayloadType": "com.apple.loginitems.managed",
					appList + "-managed": list{dict{"Path": "/Applications/P.app"}}}}},
		}, want: map[string]string{
			"macos.login-hooks LoginHook":      "enabled|before sign-in, as root|park",
			"macos.login-hooks LogoutHook":     "enabled|after sign-out, as root|park",
			"macos.login-hooks LoginHook ines": "disabled|ignored: hooks are read from root's preferences only|park",
			"macos.login-hooks A root":         "enabled|hidden|trim", "macos.login-hooks " + appList +
				" 2 root": "enabled||trim unparsable", "macos.reopen B ines": "enabled|open at the last sign-out|trim",
			"macos.reopen D ines":              "enabled|open at the last sign-out, hidden|trim",
			"macos.managed-login-items M ines": "enabled|managed|report",
			"macos.managed-login-items P":      "enabled|managed|report",
		}},
		{name: "by the clock", release: "14.0", files: dict{
			"/private/etc/crontab":      "@daily root /tide\n",
			"/private/var/at/tabs/ines": "5 * * * * /tide \"a b\"\n#lockback:off 6 * * * * '/Library/My Tide/tide' -q\n", "/private/var/at/tabs/tmp.123": "1 * * * * /x\n",
			"/private/var/at/jobs/a0000101c4be3a": "#!/bin/sh\ncd / || {\n\texit 1\n}\n/tide --once\n",
			"/private/var/at/jobs/.SEQ":           "1", "/private/var/at/jobs/axxxxx01c4be3a": "",
			state + "disabled.plist": dict{"com.apple.atrun": false},
			"/private/etc/periodic.conf": "daily_local=\"/etc/daily.local /usr/local/tide.local\" # " +
				"ours\nlocal_periodic=\"/opt/periodic relative\"\n#weekly_local=/x\n", "/private/etc/daily.local": "",
			"/usr/local/tide.local": "", "/private/etc/weekly.local": "",
			"/opt/periodic/monthly/one": in{0o755, ""}, "/private/etc/periodic/daily/two": in{0o644, ""},
			"/usr/local/etc/periodic/weekly/three": in{0o755, ""},
		}, want: map[string]string{
			"macos.cron tide":             "enabled|every day at 00:00|comment",
			"macos.cron tide ines":        "enabled|every hour at minute 5|comment",
			"macos.cron tide ines#2":      "disabled|commented out|comment",
			"macos.at at job 1":           "enabled|once, at 2026-05-31 20:10 UTC|park",
			"macos.periodic daily.local":  "enabled|every day|park",
			"macos.periodic tide.local":   "enabled|every day|park",
			"macos.periodic weekly.local": "enabled|every week|park",
			"macos.periodic one":          "enabled|every month|unexec",
			"macos.periodic two":          "disabled|not executable|unexec",
			"macos.periodic three":        "enabled|every week|unexec",
		}},
		{name: "bundles", release: "14.0", unread: 1, files: dict{
			"/Library/Extensions/A.kext/Contents/Info.plist": dict{"CFBundleIdentifier": "org.a",
				"CFBundleExecutable": "A"}, "/Library/Extensions/B.kext/x": "", "/Library/Extensions/C.txt": "",
			"/Library/Spotlight/D.mdimporter/Contents/Info.plist":       dict{},
			home + "/Library/Screen Savers/E.saver/Contents/Info.plist": dict{},
			"/Library/QuickLook/F.QLGenerator/Info.plist":               dict{"CFBundleExecutable": "F"},
			"/Library/Input Methods/G.app/Contents/Info.plist":          "nonsense",
			"/Library/Audio/Plug-Ins/HAL/H.driver/Contents/Info.plist": dict{
				"CFBundleExecutable": "../../../tide"},
			"/Library/DirectoryServices/PlugIns/I.dsplug/Contents/Info.plist": dict{},
			"/Library/SystemExtensions/db.plist": dict{
				"extensions": list{dict{"identifier": "on", "state": "activated_enabled"}, dict{"identifier": "off",
					"state": "terminated_waiting_to_uninstall_on_reboot"}, dict{}, "x"}},
			"/Library/Security/SecurityAgentPlugins/J.bundle/Contents/Info.plist": dict{},
		}, want: map[string]string{
			"macos.kernel-extensions A":   "enabled|kernel extension|park",
			"macos.kernel-extensions B":   "disabled|kernel extension, without its Info.plist|park",
			"macos.plug-ins D":            "enabled|search importer|park",
			"macos.plug-ins E ines":       "enabled|screen saver|park",
			"macos.plug-ins F":            "enabled|preview generator|park",
			"macos.plug-ins G":            "enabled|input method|park unparsable",
			"macos.plug-ins H":            "enabled|sound driver|park",
			"macos.directory-services I":  "enabled|directory service|park",
			"macos.system-extensions on":  "enabled|activated enabled|report",
			"macos.system-extensions off": "disabled|terminated waiting to uninstall on reboot|report",
			"macos.authorization J":       "enabled||report", // without the database of rights it cannot be told
		}},
		{name: "browsers that are told what to load", release: "14.0", unread: 1, files: dict{
			"/Library/Managed Preferences/com.google.Chrome.plist": dict{
				"ExtensionInstallForcelist": list{"aaaa;https://a.example"}, "HomepageLocation": "x"},
			"/Library/Managed Preferences/ines/com.microsoft.Edge.plist": dict{"ExtensionSettings": dict{
				"bbbb": dict{"installation_mode": "force_installed"}, "*": dict{"installation_mode": "blocked"}}},
			"/Library/Managed Preferences/com.brave.Browser.plist": dict{"ExtensionSettings": true},
			"/Library/Preferences/org.mozilla.firefox.plist": dict{
				"EnterprisePoliciesEnabled": true, "Extensions": dict{"Install": list{"https://f.example/f.xpi"}}},
			"/Applications/Firefox.app/Contents/Resources/distribution/policies.json": `{"policies":{"ExtensionSettings":{"g@x":{"installation_mode":"normal_installed","install_url":"https://g.example"}}}}`,
			"/Library/Application Support/Google/Chrome/External Extensions/cccc.json": `{"external_update_url": ` +
				`"https://c.example"}`,
			support + "BraveSoftware/Brave-Browser/NativeMessagingHosts/org.v.json": `{"path": "/tide"}`,
			profile +
				"1.0/manifest.json": `{"name": "Tide", "version": "1.0"}`,
			support +
				"Chromium/Default/Secure Preferences": `{"extensions":{"settings":{"abcdefghijklmnopabcdefghijklmnop":{"disable_reasons":[8192]}}}}`,
		}, want: map[string]string{
			"macos.browser aaaa":                    "enabled|forced by a policy|report",
			"macos.browser bbbb ines":               "enabled|forced by a policy|report",
			"macos.browser https://f.example/f.xpi": "enabled|forced by a policy|report",
			"macos.browser g@x":                     "enabled|forced by a policy|report",
			"macos.browser cccc":                    "enabled|Chrome extension, installed from outside|park",
			"macos.browser org.v ines":              "enabled|native messaging host|park",
			"macos.browser Tide ines":               "disabled|Chromium extension 1.0" + extension,
		}},
		{name: "kernel extensions that somebody allowed, and that nobody did", release: "13.0", files: dict{
			"/Library/Extensions/Allowed.kext/Contents/Info.plist":    dict{"CFBundleIdentifier": "org.allowed"},
			"/Library/Extensions/Refused.kext/Contents/Info.plist":    dict{"CFBundleIdentifier": "org.refused"},
			"/Library/Extensions/Unknown.kext/Contents/Info.plist":    dict{"CFBundleIdentifier": "org.unknown"},
			"/System/Library/Extensions/Own.kext/Contents/Info.plist": dict{"CFBundleIdentifier": "org.refused"},
			extensionPolicy: testkit.Database(t, "CREATE TABLE kext_policy (team_id TEXT, bundle_id TEXT, allowed "+
				"BOOLEAN, developer_name TEXT, flags INTEGER, PRIMARY KEY (team_id, bundle_id))",
				"INSERT INTO kext_policy VALUES ('A', 'org.allowed', 0, '', 0), ('B', 'org.allowed', 1, '', 0), "+
					"('A', 'org.refused', 0, '', 4)"),
		}, want: map[string]string{
			"macos.kernel-extensions Allowed": "enabled|kernel extension, allowed|park",
			"macos.kernel-extensions Refused": "disabled|kernel extension, not allowed in System Settings|park",
			"macos.kernel-extensions Unknown": "enabled|kernel extension|park",
			"macos.kernel-extensions Own":     "enabled|kernel extension|report",
		}},
		{name: "in other programs", release: "14.0", files: dict{
			daemons + "a.plist": job("hooked",
				dict{"EnvironmentVariables": dict{"DYLD_INSERT_LIBRARIES": "/a.dylib:/tide"}}),
			"/Applications/B.app/Contents/Info.plist": binaryForm{
				dict{"LSEnvironment": dict{"DYLD_INSERT_LIBRARIES": "/b.dylib"}}},
			"/Applications/C.app/Contents/Info.plist": dict{"Note": "DYLD_INSERT_LIBRARIES"},
			home + "/.MacOSX/environment.plist":       dict{"A": "b"},
			"/private/etc/zprofile": "# shipped\nif [ -x /usr/libexec/path_helper ]; " +
				"then\n\teval `/usr/libexec/path_helper -s`\nfi\n", "/private/etc/zshrc": "/tide &\n",
			home + "/.config/fish/config.fish": "a\nb\n", home + "/.ssh/rc": "", "/private/etc/ssh/sshrc": "",
			"/private/etc/sudo.conf": "# Plugin x y\nPlugin sudoers_policy sudoers.so\nPath askpass /opt/ask\nPath " +
				"other /x\n" +
				"Plugin tide_policy tide.so\n",
			"/private/etc/pam.d/sudo": "auth sufficient pam_tid.so\nauth include x\nauth optional " +
				"/opt/pam_tide.so.2\n# auth optional pam_x.so\nauth required pam_other.so\n",
			profile + "1.0/manifest.json":                  `{"name": "First", "version": "1.0"}`,
			profile + "2.0/manifest.json":                  `{"name": "__MSG_x__", "version": "2.0"}`,
			support + "Chromium/Default/Extensions/Temp/x": "",
			support + "Firefox/Profiles/p/extensions.json": `{"addons": [{"id": "f@x", "active": false, ` +
				`"version": "3"}]}`,
			home + "/Library/Safari/Extensions/Extensions.plist": dict{"Installed Extensions": list{
				dict{"Archive File Name": "Tide.safariextz", "Enabled": true}}},
			support + "Mozilla/NativeMessagingHosts/org.t.json":                     `{"path": "tide-host"}`,
			"/Library/Application Support/Chromium/NativeMessagingHosts/org.u.json": `{"name": 5}`,
			home + "/Library/Preferences/com.apple.FolderActionsDispatcher.plist": dict{"folderActionsEnabled": false,
				"folderActions": archived(list{dict{"folderURL": "file:///Users/ines/In",
					"scripts": list{dict{"scriptURL": "file:///s.scpt", "name": "s"}, dict{"name": "lost"}}}})},
		}, want: map[string]string{
			"macos.launch-daemons hooked":                         "enabled||override",
			"macos.environment a.dylib":                           "enabled|loaded into hooked|report",
			"macos.environment tide":                              "enabled|loaded into hooked|report",
			"macos.environment b.dylib":                           "enabled|loaded into B.app|report",
			"macos.environment A ines":                            "disabled|ignored: not read since OS X 10.8|report",
			"macos.login-shell zprofile":                          "enabled|3 commands|report",
			"macos.login-shell zshrc":                             "enabled|1 command|report",
			"macos.login-shell config.fish ines":                  "enabled|2 commands|report",
			"macos.ssh-rc rc ines":                                "enabled|when somebody connects over ssh|park",
			"macos.ssh-rc sshrc":                                  "enabled|when somebody connects over ssh|park",
			"macos.sudo askpass":                                  "enabled||report",
			"macos.sudo tide_policy":                              "enabled||report",
			"macos.pam pam_tide":                                  "enabled|for sudo|report",
			"macos.pam pam_other":                                 "enabled|for sudo|report",
			"macos.browser abcdefghijklmnopabcdefghijklmnop ines": "enabled|Chromium extension 2.0" + extension,
			"macos.browser f@x ines":                              "disabled|Firefox extension 3" + extension,
			"macos.browser Tide ines":                             "enabled|Safari extension" + extension,
			"macos.browser org.t ines":                            "enabled|native messaging host|park",
			"macos.browser org.u":                                 "enabled|native messaging host|park unparsable",
			"macos.folder-actions s ines":                         "disabled|folder actions are off|report",
			"macos.folder-actions lost ines":                      "disabled|folder actions are off|report unparsable",
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := smallMac(t, c.release, c.files)
			m, err := machine.Open(root)
			require.NoError(t, err)
			inv := inventory.Take(m, nil)
			m.Close()
			got, seen := map[string]string{}, map[string]int{}
			for _, i := range inv.Items {
				key := strings.TrimSpace(i.Location + " " + i.Name + " " + i.User)
				if seen[key]++; seen[key] > 1 {
					key += fmt.Sprintf("#%d", seen[key])
				}
				got[key] = fmt.Sprintf("%s|%s|%s", i.State, testkit.ModeOrTime(i.Entry), i.Switch)
				if slices.Contains(i.Problems, autostart.Unparsable) {
					got[key] += " unparsable"
				}
				if strings.HasSuffix(i.Source.Path, "environment.plist") {
					require.Equal(t, i.Name, i.Source.Key, "the variable in the list")
				}
			}
			if os.Geteuid() != 0 { // everything is the copier's: whose a file is does not count
				delete(c.want, "macos.launch-daemons open")
				delete(got, "macos.launch-daemons open")
			}
			require.Equal(t, c.want, got)
			require.Len(t, inv.Unread, c.unread, "%v", inv.Unread)
			comeAndGo(t, root)
		})
	}
}

// A location that was looked at is there, even if nothing is in it.
func TestWhatIsThere(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		files dict
		want  location.Status
	}{{dict{}, location.Absent}, {dict{"/Library/LaunchDaemons/a.plist": job("a", nil)}, location.Empty}} {
		m, err := machine.Open(smallMac(t, "14.5", c.files))
		require.NoError(t, err)
		for _, r := range inventory.Take(m, nil).Locations {
			if r.ID == "macos.environment" {
				require.Equal(t, c.want, r.Status)
			}
		}
		m.Close()
	}
}

// A folder of an app's helpers that cannot be read is reported.
func TestHelpersThatCannotBeRead(t *testing.T) {
	t.Parallel()
	root := smallMac(t, "14.5", dict{"/Applications/A.app/Contents/Info.plist": dict{"CFBundleIdentifier": "a"},
		"/Applications/A.app/Contents/Library/x": "x"})
	require.NoError(t, os.Symlink("LaunchAgents",
		filepath.Join(root, "Applications/A.app/Contents/Library/LaunchAgents")))
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	unread := inventory.Take(m, nil).Unread
	require.True(t, slices.ContainsFunc(unread, func(u autostart.Unread) bool {
		return u.Path == "/Applications/A.app/Contents/Library/LaunchAgents"
	}), "%v", unread)
}

const extensionPolicy = "/private/var/db/SystemPolicyConfiguration/KextPolicy"

// archived is a keyed archive with one object at its top.
func archived(root any) []byte {
	doc := plist.New(dict{"$archiver": "NSKeyedArchiver", "$objects": list{"$null", root},
		"$top": dict{"root": plist.UID(1)}})
	doc.Form = plist.Binary
	b, err := doc.Bytes()
	if err != nil {
		panic(err)
	}
	return b
}

// comeAndGo switches everything off and brings the machine back to the byte.
func comeAndGo(t *testing.T, root string) {
	testkit.ComeAndGo(t, root, func() map[string]string { return testkit.Tree(t, root) })
}
