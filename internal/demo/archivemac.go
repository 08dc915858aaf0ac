package demo

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"
	"time"

	"modernc.org/sqlite"

	"lockback/core/format/bookmark"
	"lockback/core/format/plist"
)

// The people who have accounts on the archive Mac. Jonas has not signed in since
// macOS 12, Annika not since 10.12.
const (
	mirela = 501
	jonas  = 502
	annika = 503
)

// The ids of the Mac and of its accounts.
const (
	macID     = "1887C0DE-0314-4092-A653-5A17ABCDEF03"
	mirelasID = "0D1F5A17-ABCD-4001-8314-000000000501"
	jonasID   = "0D1F5A17-ABCD-4002-8314-000000000502"
	annikasID = "0D1F5A17-ABCD-4003-8314-000000000503"
)

// dict is a dictionary of a property list.
type dict = map[string]any

// xmlList and binaryList are files with a property list.
func xmlList(path string, root any) piece    { return listOf(path, root, plist.XML) }
func binaryList(path string, root any) piece { return listOf(path, root, plist.Binary) }

func listOf(path string, root any, form plist.Form) piece {
	return file(path, encoded(root, form))
}

func encoded(root any, form plist.Form) string {
	doc := plist.New(root)
	doc.Form = form
	content, err := doc.Bytes()
	if err != nil {
		panic(err) // the lists are fixed, in this file
	}
	return string(content)
}

// list makes an array.
func list(items ...any) []any { return items }

func words(items ...string) []any {
	var all []any
	for _, i := range items {
		all = append(all, i)
	}
	return all
}

// launchJob is a launchd job: a label, the command, and what else it says.
func launchJob(path, label string, command []any, more dict) piece {
	root := dict{"Label": label, "ProgramArguments": command}
	for k, v := range more {
		root[k] = v
	}
	return xmlList(path, root)
}

// mach is a program of the archive Mac, signed by whoever made what it lies in.
func mach(path string) piece {
	who, team := macMaker(path)
	return file(path, string(macProgram(path[strings.LastIndexByte(path, '/')+1:], who, team, nil))).as(0o755)
}

// bundleOf is an app or plug-in: its Info.plist and its program.
func bundleOf(path, id, version string) []piece {
	name := path[strings.LastIndexByte(path, '/')+1:]
	name = name[:strings.LastIndexByte(name, '.')]
	info := dict{"CFBundleIdentifier": id, "CFBundleExecutable": name, "CFBundleName": name,
		"CFBundleShortVersionString": version, "CFBundlePackageType": "BNDL"}
	list := xmlList(path+"/Contents/Info.plist", info)
	program := path + "/Contents/MacOS/" + name
	who, team := macMaker(program)
	return []piece{list, file(program, string(macProgram(id, who, team, map[int][]byte{1: []byte(list.text)}))).as(
		0o755)}
}

// archiver puts objects into a keyed archive.
type archiver struct{ objects []any }

func newArchiver() *archiver { return &archiver{objects: []any{"$null"}} }

func (a *archiver) add(v any) plist.UID {
	a.objects = append(a.objects, v)
	return plist.UID(len(a.objects) - 1)
}

// object adds one of a class, with its fields.
func (a *archiver) object(class string, fields dict) plist.UID {
	fields["$class"] = a.add(dict{"$classname": class, "$classes": words(class, "NSObject")})
	return a.add(fields)
}

func (a *archiver) array(items ...any) plist.UID {
	return a.object("NSArray", dict{"NS.objects": items})
}

func (a *archiver) url(text string) plist.UID {
	return a.object("NSURL", dict{"NS.base": plist.UID(0), "NS.relative": a.add(text)})
}

func (a *archiver) archive(top string, root any) dict {
	return dict{"$archiver": "NSKeyedArchiver", "$version": uint64(100000), "$top": dict{top: root},
		"$objects": a.objects}
}

// item is a record of the background-items database.
type item struct {
	kind, disposition uint64
	identifier, name  string
	developer, team   string
	path              string
	embedded          []string
}

// backgroundItems is the database of macOS 13 and later.
func backgroundItems(people []string, items map[string][]item) dict {
	a := newArchiver()
	var keys, values []any
	for _, id := range people {
		var records []any
		for _, i := range items[id] {
			embedded := []any{}
			for _, e := range i.embedded {
				embedded = append(embedded, a.add(e))
			}
			developer := any(plist.UID(0))
			if i.developer != "" {
				developer = a.add(i.developer)
			}
			escaped := strings.NewReplacer(" ", "%20", "Ü", "%C3%9C").Replace(i.path)
			records = append(records, a.object("ItemRecord", dict{"identifier": a.add(i.identifier),
				"name": a.add(i.name), "developerName": developer, "teamIdentifier": a.add(i.team),
				"type": i.kind, "disposition": i.disposition, "url": a.url("file://" + escaped),
				"generation": uint64(1), "items": a.array(embedded...)}))
		}
		keys, values = append(keys, a.add(id)), append(values, a.array(records...))
	}
	store := a.object("Storage", dict{"itemsByUserIdentifier": a.object("NSDictionary",
		dict{"NS.keys": keys, "NS.objects": values})})
	root := a.archive("store", store)
	root["$top"].(dict)["version"] = uint64(13)
	return root
}

// agentItems is the list of a person in macOS 10.13 to 12.
func agentItems(places ...bookmark.Place) dict {
	a := newArchiver()
	var items []any
	for _, p := range places {
		mark := a.object("Bookmark", dict{"data": bookmark.Encode(p)})
		items = append(items, a.object("BackgroundLoginItem", dict{"bookmark": mark, "isHidden": false}))
	}
	container := a.object("BackgroundItemContainer", dict{"internalItems": a.array(items...)})
	return a.archive("backgroundItems", a.object("BackgroundItems", dict{"allContainers": a.array(container),
		"version": uint64(2)}))
}

// folderAction is the list of scripts that run when something is put into a
// folder.
func folderAction(folder, script string) dict {
	a := newArchiver()
	mark := func(path string) plist.UID {
		return a.object("Bookmark", dict{"data": bookmark.Encode(bookmark.Place{Path: path, Volume: "Macintosh HD",
			VolumePath: "/", Created: asFound, VolumeCreated: asFound})})
	}
	one := a.object("FAScript", dict{"name": a.add(script[strings.LastIndexByte(script, '/')+1:]), "enabled": true,
		"scriptBookmark": mark(script)})
	action := a.object("FAFolderAction", dict{"folderBookmark": mark(folder), "enabled": true, "scripts": a.array(one)})
	return dict{"folderActionsEnabled": true, "folderActions": []byte(encoded(a.archive("root", a.array(action)),
		plist.Binary))}
}

// rights is an authorization database: what takes part in signing in.
func rights(mechanisms ...string) string {
	conn, err := (&sqlite.Driver{}).Open(":memory:")
	if err != nil {
		panic(err)
	}
	defer conn.Close()
	run := func(query string, args ...driver.Value) {
		var named []driver.NamedValue
		for k, a := range args {
			named = append(named, driver.NamedValue{Ordinal: k + 1, Value: a})
		}
		if _, err := conn.(driver.ExecerContext).ExecContext(context.Background(), query, named); err != nil {
			panic(err) // the statements are fixed, in this file
		}
	}
	run(`CREATE TABLE rules (id INTEGER PRIMARY KEY, name TEXT)`)
	run(`CREATE TABLE mechanisms (id INTEGER PRIMARY KEY, plugin TEXT, param TEXT, privileged INTEGER)`)
	run(`CREATE TABLE mechanisms_map (r_id INTEGER, m_id INTEGER, ord INTEGER)`)
	run(`INSERT INTO rules VALUES (1, 'system.login.console')`)
	for k, m := range mechanisms {
		plugin, param, _ := strings.Cut(m, ":")
		run(`INSERT INTO mechanisms VALUES (?, ?, ?, 0)`, int64(k+1), plugin, param)
		run(`INSERT INTO mechanisms_map VALUES (1, ?, ?)`, int64(k+1), int64(k))
	}
	content, err := conn.(interface{ Serialize() ([]byte, error) }).Serialize()
	if err != nil {
		panic(err)
	}
	return string(content)
}

func account(name, realName string, uid int, home, id string) piece {
	text := fmt.Sprint(uid)
	return binaryList("/private/var/db/dslocal/nodes/Default/users/"+name+".plist", dict{"name": words(name),
		"realname": words(realName), "uid": words(text), "gid": words("20"),
		"home": words(home), "shell": words("/bin/zsh"), "generateduid": words(id)}).as(0o600)
}

// archiveMac is the Mac in the museum's archive.
func archiveMac() []piece {
	const (
		daemons  = "/Library/LaunchDaemons/"
		agents   = "/Library/LaunchAgents/"
		support  = "/Library/Application Support/"
		launchd  = "/private/var/db/com.apple.xpc.launchd/"
		core     = "/System/Library/CoreServices/"
		prefs    = "/Library/Preferences/"
		byHost   = prefs + "ByHost/"
		fogbell  = "/Applications/Fogbell Sync.app"
		kelpline = support + "Kelpline/"
	)
	hd := func(path string) bookmark.Place {
		return bookmark.Place{Path: path, Volume: "Macintosh HD", VolumePath: "/",
			VolumeUUID: "5A17ABCD-1887-4000-8314-0000000000D1", Created: asFound, VolumeCreated: time.Date(2021, 11, 2,
				16, 20, 0, 0, time.UTC)}
	}
	archive := bookmark.Place{Path: "/Volumes/Archive/Catalogue.app", Volume: "Archive", VolumePath: "/Volumes/Archive",
		Created: asFound, VolumeCreated: asFound}
	load := dict{"RunAtLoad": true}
	pieces := []piece{
		link("/etc", "private/etc"), link("/var", "private/var"), link("/tmp", "private/tmp"),
		file("/private/tmp/.keep", ""),
		xmlList(core+"SystemVersion.plist", dict{"ProductName": "macOS", "ProductVersion": "14.4.1",
			"ProductBuildVersion": "23E224"}),
		xmlList(prefs+"SystemConfiguration/preferences.plist",
			dict{"System": dict{"System": dict{"ComputerName": "Archive Mac"},
				"Network": dict{"HostNames": dict{"LocalHostName": "archive-mac"}}}}),
		account("root", "System Administrator", 0, "/var/root", "FFFFEEEE-DDDD-CCCC-BBBB-AAAA00000000"),
		account("mirela", "Mirela", mirela, "/Users/mirela", mirelasID), account("jonas", "Jonas", jonas,
			"/Users/jonas", jonasID), account("annika", "Annika", annika, "/Users/annika", annikasID),
		account("_spotlight", "Spotlight", 89, "/var/empty", "FFFFEEEE-DDDD-CCCC-BBBB-AAAA00000059"),

		// Parts of the system.
		// The museum's own authority, which this Mac was told to trust.
		xmlList("/Library/Security/Trust Settings/Admin.plist", dict{"trustVersion": uint64(1),
			"trustList": dict{thumbprint(museumRoot()): dict{
				"trustSettings": list(dict{"kSecTrustSettingsResult": uint64(1)})}}}),

		launchJob("/System"+daemons+"com.apple.configd.plist", "com.apple.configd", words("/usr/libexec/configd"),
			dict{"KeepAlive": true}),
		launchJob("/System"+daemons+"com.apple.WindowServer.plist", "com.apple.WindowServer",
			words("/System/Library/CoreServices/WindowServer"), dict{"RunAtLoad": true}),
		launchJob("/System"+daemons+"com.apple.atrun.plist", "com.apple.atrun", words("/usr/libexec/atrun"),
			dict{"StartInterval": uint64(30), "Disabled": true}),
		launchJob("/System"+daemons+"com.apple.periodic-daily.plist", "com.apple.periodic-daily",
			words("/usr/libexec/periodic-wrapper", "daily"), dict{"StartInterval": uint64(86400)}),
		launchJob("/System"+agents+"com.apple.Dock.plist", "com.apple.Dock.agent",
			words(core+"Dock.app/Contents/MacOS/Dock"), dict{"KeepAlive": dict{"SuccessfulExit": false}}),
		mach("/usr/libexec/configd"), mach(core + "WindowServer"), mach("/usr/libexec/atrun"),
		mach("/usr/libexec/periodic-wrapper"), mach(core + "Dock.app/Contents/MacOS/Dock"), mach("/bin/sh"),
		mach("/usr/bin/open"),

		// Daemons.
		launchJob(daemons+"org.kelpline.updater.plist", "org.kelpline.updater", words(kelpline+"updater", "--quiet"),
			dict{"RunAtLoad": true, "StartInterval": uint64(3600)}),
		launchJob(daemons+"org.kelpline.telemetry.plist", "org.kelpline.telemetry", words(kelpline+"updater",
			"--telemetry"), dict{"StartCalendarInterval": list(dict{"Hour": uint64(4), "Minute": uint64(12)},
			dict{"Hour": uint64(16), "Minute": uint64(12)})}),
		launchJob(daemons+"org.brinecast.helper.plist", "org.brinecast.helper",
			words("/Library/PrivilegedHelperTools/org.brinecast.helper"), dict{"KeepAlive": true}),
		binaryList(daemons+"org.saltmarsh.licence.plist", dict{"Label": "org.saltmarsh.licence", "Program": support +
			"Saltmarsh/licenced", "MachServices": dict{"org.saltmarsh.licence": true}}),
		launchJob(daemons+"org.tidewatch.gauge.plist", "org.tidewatch.gauge", words("/bin/sh", "-c",
			"test -x /usr/local/bin/tidewatch && exec /usr/local/bin/tidewatch --gauge"),
			dict{"WatchPaths": words("/Users/Shared/gauge")}),
		launchJob(daemons+"org.gullrock.backup.plist", "org.gullrock.backup", words("/Volumes/Archive/bin/backup",
			"--all"), dict{"StartCalendarInterval": dict{"Weekday": uint64(1), "Hour": uint64(2),
			"Minute": uint64(30)}}),
		launchJob(daemons+"org.oldplotter.monitor.plist", "org.oldplotter.monitor", words(support+"Oldplotter/monitor"),
			load),
		launchJob(daemons+"org.oldplotter.spool.plist", "org.oldplotter.spool", words(support+"Oldplotter/spool"),
			load).as(0o666),
		file(daemons+"org.saltmarsh.broken.plist", "<?xml version=\"1.0\"?>\n<plist "+
			"version=\"1.0\"><dict><key>Label</key><string>org.saltmarsh.bro"),
		mach(kelpline + "updater"), mach(support + "Saltmarsh/licenced"), mach("/usr/local/bin/tidewatch"),
		mach(support + "Oldplotter/monitor"), mach(support + "Oldplotter/spool"),
		xmlList(launchd+"disabled.plist", dict{"org.oldplotter.monitor": true, "com.apple.atrun": true,
			"com.apple.ftpd": true}),

		// Agents.
		launchJob(agents+"org.fogbell.sync.plist", "org.fogbell.sync", words(fogbell+"/Contents/MacOS/Fogbell Sync",
			"--agent"), dict{"RunAtLoad": true, "KeepAlive": dict{"SuccessfulExit": false}}),
		launchJob(agents+"org.gullrock.welcome.plist", "org.gullrock.welcome", words("/usr/bin/open", "-g", "-a",
			"Gullrock Welcome"), load),
		launchJob(agents+"org.lampwick.labels.plist", "org.lampwick.labels",
			words("/Applications/Lampwick Labels.app/Contents/MacOS/Lampwick Labels"), load),
		launchJob(agents+"org.lampwick.labels 2.plist", "org.lampwick.labels",
			words("/Applications/Old Lampwick.app/Contents/MacOS/labels"), load),
		launchJob(agents+"org.gullrock.notice.plist", "org.gullrock.notice", words("/usr/local/bin/notice"),
			dict{"RunAtLoad": true, "LimitLoadToSessionType": "LoginWindow"}),
		mach("/usr/local/bin/notice"),
		launchJob("/Users/mirela"+agents+"com.apple.speedkeeper.plist", "com.apple.speedkeeper",
			words("/Users/mirela/Library/.speed/keeper", "-q"),
			dict{"RunAtLoad": true, "KeepAlive": true,
				"EnvironmentVariables": dict{"DYLD_INSERT_LIBRARIES": "/Users/mirela/Library/.speed/hook.dylib"}}).of(
			mirela),
		mach("/Users/mirela/Library/.speed/keeper").of(mirela),
		launchJob("/Users/mirela"+agents+"org.kelpline.assistant.plist", "org.kelpline.assistant",
			words("/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"),
			load).of(mirela),
		launchJob("/Users/mirela"+agents+"org.gullrock.Übersicht der Gezeiten.plist",
			"org.gullrock.Übersicht der Gezeiten", words("/usr/bin/osascript", "/Users/mirela/Documents/Gezeiten.scpt"),
			dict{"StartInterval": uint64(900)}).of(mirela),
		file("/Users/mirela/Documents/Gezeiten.scpt", "FasdUAS 1.101.10").of(mirela), mach("/usr/bin/osascript"),
		launchJob("/Users/jonas"+agents+"org.brinecast.screens.plist", "org.brinecast.screens",
			words("/Applications/Brinecast.app/Contents/MacOS/Brinecast", "--screens"), load).of(jonas),
		launchJob("/Users/jonas"+agents+"org.tidewatch.notes.plist", "org.tidewatch.notes",
			words("/usr/local/bin/tidewatch", "--notes"), load).of(jonas),
		binaryList(launchd+"disabled.502.plist", dict{"org.tidewatch.notes": true, "org.fogbell.quick": false}),

		// What apps bring along, and the lists of what opens at sign-in.
		xmlList(fogbell+"/Contents/Library/LaunchAgents/org.fogbell.quick.plist", dict{"Label": "org.fogbell.quick",
			"BundleProgram": "Contents/MacOS/quick", "RunAtLoad": true}),
		mach(fogbell + "/Contents/MacOS/quick"),
		binaryList("/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm",
			backgroundItems([]string{"FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE", mirelasID}, map[string][]item{
				"FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE": {
					{kind: 0x10010, disposition: 0xb, identifier: "16.org.kelpline.updater", name: "updater",
						developer: "Kelpline Software", team: "KELP1NE000", path: daemons +
							"org.kelpline.updater.plist"},
					{kind: 0x10010, disposition: 0x9, identifier: "16.org.kelpline.telemetry", name: "updater",
						developer: "Kelpline Software", team: "KELP1NE000", path: daemons +
							"org.kelpline.telemetry.plist"},
				},
				mirelasID: {
					{kind: 0x2, disposition: 0xb, identifier: "2.org.gullrock.catalogue", name: "Gullrock Catalogue",
						developer: "Gullrock Lighthouse Museum", path: "/Applications/Gullrock Catalogue.app"},
					{kind: 0x2, disposition: 0xb, identifier: "2.org.brinecast.app", name: "Brinecast",
						developer: "Brinecast", path: "/Applications/Brinecast.app"},
					{kind: 0x2, disposition: 0xa, identifier: "2.org.fogbell.sync", name: "Fogbell Sync",
						developer: "Fogbell", path: fogbell, embedded: []string{"4.org.fogbell.helper",
							"8.org.fogbell.quick"}},
					{kind: 0x4, disposition: 0xb, identifier: "4.org.fogbell.helper", name: "Fogbell Helper",
						developer: "Fogbell", path: fogbell + "/Contents/Library/LoginItems/Fogbell Helper.app"},
					{kind: 0x8, disposition: 0x9, identifier: "8.org.fogbell.quick", name: "Fogbell Sync",
						developer: "Fogbell", path: fogbell + "/Contents/Library/LaunchAgents/org.fogbell.quick.plist"},
					{kind: 0x10008, disposition: 0xb, identifier: "8.org.kelpline.assistant",
						name: "Kelpline Assistant", developer: "Kelpline Software", team: "KELP1NE000",
						path: "/Users/mirela" + agents + "org.kelpline.assistant.plist"},
					{kind: 0x2, disposition: 0x2, identifier: "2.org.tidewatch.table", name: "Tide Table",
						developer: "Tidewatch", path: "/Applications/Tide Table.app"},
				}})),
		binaryList(
			"/Users/jonas/Library/Application Support/com.apple.backgroundtaskmanagementagent/backgrounditems.btm",
			agentItems(hd("/Applications/Tide Table.app"), archive)).of(jonas),
		binaryList("/Users/annika"+prefs+"com.apple.loginitems.plist",
			dict{"SessionItems": dict{"Controller": "CustomListItems", "CustomListItems": list(
				dict{"Name": "Lampwick Labels", "Alias": bookmark.EncodeAlias(hd("/Applications/Lampwick Labels.app"))},
				dict{"Name": "Oldplotter", "Alias": bookmark.EncodeAlias(hd("/Applications/Oldplotter.app")),
					"CustomItemProperties": dict{"com.apple.LSSharedFileList.ItemIsHidden": true}},
				dict{"Name": "Cut short",
					"Alias": bookmark.EncodeAlias(hd("/Applications/Cut short.app"))[:160]})}}).of(annika),
		xmlList("/private/var/root"+prefs+"com.apple.loginwindow.plist",
			dict{"LoginHook": "/usr/local/bin/gullrock-sign-in", "GuestEnabled": false, "lastUserName": "mirela"}),
		file("/usr/local/bin/gullrock-sign-in", "#!/bin/sh\nlogger signed in\n").as(0o755),
		binaryList("/Users/mirela"+byHost+"com.apple.loginwindow."+macID+".plist",
			dict{"TALAppsToRelaunchAtLogin": list(
				dict{"BackgroundState": uint64(2), "BundleID": "org.gullrock.catalogue", "Hide": false,
					"Path": "/Applications/Gullrock Catalogue.app"},
				dict{"BackgroundState": uint64(2), "BundleID": "org.tidewatch.table", "Hide": true,
					"Path": "/Applications/Tide Table.app"})}).of(mirela),
		binaryList(prefs+"ByHost/com.apple.windowserver."+macID+".plist", dict{"DisplayResolutionEnabled": true}),
		xmlList("/Library/Managed Preferences/com.apple.loginitems.managed.plist",
			dict{"AutoLaunchedApplicationDictionary-managed": list(dict{"Path": "/Applications/Gullrock Welcome.app",
				"Hide": false})}),

		// By the clock.
		file("/private/var/at/tabs/mirela", "# the reading room\n*/30 * * * * /Users/mirela/bin/index "+
			"--quiet\n#lockback is not here yet\n0 7 * * 1 \""+kelpline+"updater\" --weekly\n").as(0o600),
		file("/Users/mirela/bin/index", "#!/bin/sh\n").as(0o755).of(mirela),
		file("/private/var/at/jobs/a0000701c4be3a", "#!/bin/sh\n# atrun uid=501 gid=20\n# mail mirela 0\numask "+
			"22\ncd /Users/mirela || {\n\t echo 'Execution directory inaccessible' >&2\n\t exit "+
			"1\n}\n/Users/mirela/bin/index --once\n").as(0o700).of(mirela),
		file("/private/etc/periodic/daily/110.clean-tmps", "#!/bin/sh\n").as(0o755),
		file("/usr/local/etc/periodic/weekly/500.gullrock-index", "#!/bin/sh\n/Users/mirela/bin/index --all\n").as(
			0o755),

		// What macOS no longer reads.
		file("/private/etc/rc.local", "#!/bin/sh\n/usr/local/bin/tidewatch &\n"),
		file("/private/etc/launchd.conf", "# limits\nlimit maxfiles 4096\n"),
		xmlList("/Library/StartupItems/Oldplotter/StartupParameters.plist", dict{"Description": "Oldplotter spooler",
			"Provides": words("Oldplotter")}),
		file("/Library/StartupItems/Oldplotter/Oldplotter", "#!/bin/sh\n").as(0o755),
		xmlList("/private/etc/emond.d/rules/gullrock.plist", list(dict{"name": "door bell", "enabled": true,
			"eventTypes": words("auth.authenticate"),
			"actions": list(dict{"type": "RunCommand", "command": "/usr/local/bin/notice",
				"arguments": words("--bell")})})),

		// Code in other programs.
		xmlList("/Library/SystemExtensions/db.plist",
			dict{"extensions": list(dict{"identifier": "org.saltmarsh.netfilter", "teamID": "SALT000000",
				"state": "activated_enabled", "categories": words("com.apple.system_extension.network_extension"),
				"originPath": "/Applications/Saltmarsh.app/Contents/Library/SystemExtensions/org.saltmarsh.netfilter.systemextension", "bundleVersion": dict{"CFBundleVersion": "7"}})}),
		file("/private/var/db/auth.db", rights("builtin:policy-banner", "loginwindow:login", "GullrockBadge:check",
			"OldBadge:check", "builtin:login-success")),
		xmlList("/Users/mirela/.MacOSX/environment.plist", dict{"GULLROCK_ARCHIVE": "/Volumes/Archive"}).of(mirela),
		file("/private/etc/zprofile", "# System-wide profile for interactive zsh(1) login shells.\n\nif [ -x "+
			"/usr/libexec/path_helper ]; then\n\teval `/usr/libexec/path_helper -s`\nfi\n"),
		file("/Users/mirela/.zshrc", "export PATH=$HOME/bin:$PATH\n").of(mirela),
		file("/Users/mirela/.ssh/rc", "#!/bin/sh\n").of(mirela),
		file("/private/etc/pam.d/sudo", "# sudo: auth account password session\nauth       sufficient     "+
			"pam_smartcard.so\nauth       optional       /usr/local/lib/pam/pam_badge.so\nauth       required      "+
			" pam_opendirectory.so\naccount    required       pam_permit.so\n"),
		mach("/usr/local/lib/pam/pam_badge.so"),
		file("/Library/Google/Chrome/NativeMessagingHosts/org.gullrock.catalogue.json",
			`{"name": "org.gullrock.catalogue", "path": "/Applications/Gullrock `+
				`Catalogue.app/Contents/MacOS/Gullrock Catalogue", "type": "stdio"}`),
		binaryList(
			"/Users/mirela/Library/Containers/com.apple.Safari/Data/Library/Safari/WebExtensions/Extensions.plist",
			dict{"org.kelpline.shopper (KELP1NE000)": dict{"Enabled": true},
				"org.gullrock.cite (GULL000000)": dict{"Enabled": false}}).of(mirela),
		binaryList("/Users/annika"+prefs+"com.apple.FolderActionsDispatcher.plist", folderAction("/Users/annika/Scans",
			"/Library/Scripts/Folder Action Scripts/rename scans.scpt")).of(annika),
		file("/Library/Scripts/Folder Action Scripts/rename scans.scpt", "FasdUAS 1.101.10"),
		file("/private/etc/rc.server", "#!/bin/sh\n/usr/local/bin/tidewatch --early\n").as(0o755),
		file("/private/etc/ssh/sshd_config", "# This is the system-wide "+
			"configuration.\nSubsystem\tsftp\t/usr/libexec/sftp-server\nMatch User jonas\n\tForceCommand "+
			"/usr/local/bin/visitors --ssh\n"),
		file("/Users/mirela/.ssh/authorized_keys", "# the scanner\ncommand=\"/Users/mirela/bin/index --from "+
			"scanner\",no-pty ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGullrockScanner scanner\n").as(0o600).of(mirela),
		xmlList("/Users/mirela/Library/Services/Scan a drawing.workflow/Contents/Info.plist",
			dict{"NSServices": list(dict{"NSMessage": "runWorkflowAsService"})}).of(mirela),
		mach("/usr/local/bin/visitors"), mach("/usr/libexec/cups/backend/lampwick"),
		xmlList("/Applications/Gullrock Catalogue.app/Contents/PlugIns/Preview.appex/Contents/Info.plist",
			dict{"CFBundleIdentifier": "org.gullrock.catalogue.preview", "CFBundleExecutable": "Preview",
				"NSExtension": dict{"NSExtensionPointIdentifier": "com.apple.quicklook.preview"}}),
		mach("/Applications/Gullrock Catalogue.app/Contents/PlugIns/Preview.appex/Contents/MacOS/Preview"),
		xmlList("/Applications/Lampwick Queue.app/Contents/Info.plist", dict{"CFBundleIdentifier": "org.lampwick.queue",
			"CFBundleExecutable": "Lampwick Queue", "NSDockTilePlugIn": "Queue.docktileplugin"}),
		mach("/Applications/Lampwick Queue.app/Contents/MacOS/Lampwick Queue"),
		xmlList("/Applications/Lampwick Queue.app/Contents/PlugIns/Queue.docktileplugin/Contents/Info.plist",
			dict{"CFBundleIdentifier": "org.lampwick.queue.tile", "CFBundleExecutable": "Queue"}),
		mach("/Applications/Lampwick Queue.app/Contents/PlugIns/Queue.docktileplugin/Contents/MacOS/Queue"),
		file("/private/etc/sudo.conf", "# plug-ins\nPlugin badge_approval /usr/local/lib/pam/pam_badge.so\n"),
	}
	for _, b := range []struct {
		path, id, version string
		owner             int
	}{
		{fogbell, "org.fogbell.sync", "5.2", 0}, {fogbell + "/Contents/Library/LoginItems/Fogbell Helper.app",
			"org.fogbell.helper", "5.2", 0},
		{"/Applications/Gullrock Welcome.app", "org.gullrock.welcome", "1.0", 0},
		{"/Applications/Gullrock Catalogue.app", "org.gullrock.catalogue", "3.1", 0},
		{"/Applications/Tide Table.app", "org.tidewatch.table", "2.0", 0}, {"/Applications/Lampwick Labels.app",
			"org.lampwick.labels", "8.4", 0},
		{"/Users/mirela/Applications/Kelpline Assistant.app", "org.kelpline.assistant", "11.0", mirela},
		{"/Library/Extensions/SaltmarshKey.kext", "org.saltmarsh.key", "4.0.2", 0},
		{"/Library/Security/SecurityAgentPlugins/GullrockBadge.bundle", "org.gullrock.badge", "1.3", 0},
		{"/Library/DirectoryServices/PlugIns/Harbour.dsplug", "org.gullrock.harbour", "1.0", 0},
		{"/Library/QuickLook/Fogbell.qlgenerator", "org.fogbell.preview", "5.2", 0},
		{"/Library/Input Methods/Runes.app", "org.gullrock.runes", "1.0", 0},
		{"/Library/Audio/Plug-Ins/HAL/Brinecast Sound.driver", "org.brinecast.sound", "2.1", 0},
		{"/Users/jonas/Library/Internet Plug-Ins/Brinecast Viewer.plugin", "org.brinecast.viewer", "2.1", jonas},
		{"/Users/mirela/Library/PreferencePanes/Kelpline.prefPane", "org.kelpline.pane", "11.0", mirela},
		{"/System/Library/Spotlight/Application.mdimporter", "com.apple.application", "1.0", 0},
	} {
		for _, p := range bundleOf(b.path, b.id, b.version) {
			pieces = append(pieces, p.of(b.owner))
		}
	}
	return pieces
}
