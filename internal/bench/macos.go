package bench

import (
	"fmt"
	"strings"

	"lockback/core/format/plist"
)

// MacSize is how much a made-up Mac's disk holds.
type MacSize struct {
	Jobs  int // launchd jobs: of the system, of the machine, and of each user
	Apps  int // each with a helper inside
	Users int
}

// LargeMac is the size that the promises on speed are given for.
var LargeMac = MacSize{Jobs: 1500, Apps: 400, Users: 5}

// BuildMac makes a Mac's disk of that size in an existing folder.
func BuildMac(root string, size MacSize) error {
	b := builder{root: root}
	list := func(name string, form plist.Form, root map[string]any) {
		doc := plist.New(root)
		doc.Form = form
		content, err := doc.Bytes()
		if err != nil && b.err == nil {
			b.err = err
		}
		b.file(name, string(content))
	}
	texts := func(words ...string) []any {
		var all []any
		for _, w := range words {
			all = append(all, w)
		}
		return all
	}
	list("System/Library/CoreServices/SystemVersion.plist", plist.XML, map[string]any{"ProductName": "macOS",
		"ProductVersion": "14.4"})
	b.file("private/etc/hosts", "")
	for u := range size.Users {
		list(fmt.Sprintf("private/var/db/dslocal/nodes/Default/users/person%d.plist", u), plist.Binary,
			map[string]any{"name": texts(fmt.Sprintf("person%d", u)), "uid": texts(fmt.Sprint(501 + u)),
				"gid": texts("20"), "home": texts(fmt.Sprintf("/Users/person%d", u)),
				"generateduid": texts(fmt.Sprintf("0D1F5A17-ABCD-4001-8314-%012d", u))})
		list(
			fmt.Sprintf(
				"Users/person%d/Library/Preferences/ByHost/com.apple.loginwindow.1887C0DE-0314-4092-A653-5A17ABCDEF03.plist", u), plist.Binary,
			map[string]any{"TALAppsToRelaunchAtLogin": []any{map[string]any{"Path": "/Applications/Tide 1.app"}}})
	}
	folders := []string{"System/Library/LaunchDaemons", "System/Library/LaunchAgents", "Library/LaunchDaemons",
		"Library/LaunchAgents"}
	for k := range size.Jobs {
		folder := folders[k%2] // two thirds are the system's
		if k%3 == 2 {
			folder = folders[2+k%2]
			if k%6 == 5 {
				folder = fmt.Sprintf("Users/person%d/Library/LaunchAgents", k%size.Users)
			}
		}
		job := map[string]any{"Label": fmt.Sprintf("org.gullrock.tide.%d", k),
			"ProgramArguments": texts(fmt.Sprintf("/usr/local/libexec/tide%d", k%50), "--gauge", fmt.Sprint(k)),
			"RunAtLoad":        k%2 == 0, "KeepAlive": map[string]any{"SuccessfulExit": false},
			"ProcessType": "Background", "EnablePressuredExit": true,
			"MachServices": map[string]any{fmt.Sprintf("org.gullrock.tide.%d.port", k): true,
				fmt.Sprintf("org.gullrock.tide.%d.xpc", k): true}, "StandardErrorPath": "/dev/null",
			"POSIXSpawnType": "Adaptive"}
		list(fmt.Sprintf("%s/org.gullrock.tide.%d.plist", folder, k), []plist.Form{plist.XML, plist.Binary}[k/2%2], job)
	}
	for k := range 50 {
		b.file(fmt.Sprintf("usr/local/libexec/tide%d", k), "x")
	}
	off := map[string]any{}
	for k := range 60 {
		off[fmt.Sprintf("org.gullrock.tide.%d", k*7)] = k%2 == 0
	}
	list("private/var/db/com.apple.xpc.launchd/disabled.plist", plist.XML, off)
	for u := range size.Users {
		list(fmt.Sprintf("private/var/db/com.apple.xpc.launchd/disabled.%d.plist", 501+u), plist.XML, off)
	}
	var keys, values []any
	for u := range size.Users {
		var records []any
		for k := range size.Apps / 2 {
			app := fmt.Sprintf("file:///Applications/Tide%%20%d.app", k)
			records = append(records, map[string]any{"identifier": fmt.Sprintf("2.org.gullrock.app.%d", k),
				"name": fmt.Sprintf("Tide %d", k), "developerName": "Tidewatch", "teamIdentifier": "TIDE000000",
				"type": uint64(2), "disposition": uint64(0xb), "url": app, "executablePath": app +
					"/Contents/MacOS/Tide"},
				map[string]any{"identifier": fmt.Sprintf("4.org.gullrock.helper.%d", k), "name": "Helper",
					"type": uint64(4), "disposition": uint64(0xb), "url": "Contents/Library/LoginItems/Helper.app"})
		}
		keys, values = append(keys, fmt.Sprintf("0D1F5A17-ABCD-4001-8314-%012d", u)), append(values, records)
	}
	list("private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm", plist.Binary,
		map[string]any{"$archiver": "NSKeyedArchiver", "$top": map[string]any{"store": plist.UID(1)},
			"$objects": []any{"$null", map[string]any{"itemsByUserIdentifier": plist.UID(2)},
				map[string]any{"NS.keys": keys, "NS.objects": values}}})
	for k := range size.Apps {
		app := fmt.Sprintf("Applications/Tide %d.app/Contents/", k)
		list(app+"Info.plist", []plist.Form{plist.XML, plist.Binary}[k%2],
			map[string]any{"CFBundleIdentifier": fmt.Sprintf("org.gullrock.app.%d", k), "CFBundleExecutable": "Tide",
				"CFBundleName":               fmt.Sprintf("Tide %d", k),
				"CFBundleShortVersionString": "1.0", "NSHumanReadableCopyright": strings.Repeat("made up ", 20),
				"CFBundleURLTypes": []any{map[string]any{"CFBundleURLSchemes": texts("tide", "fog")}},
				"CFBundleDocumentTypes": []any{map[string]any{"CFBundleTypeExtensions": texts("tide"),
					"CFBundleTypeRole": "Editor"}, map[string]any{"CFBundleTypeExtensions": texts("fog"),
					"CFBundleTypeRole": "Viewer"}}})
		b.file(app+"MacOS/Tide", "x")
		if k%2 == 0 {
			list(app+"Library/LoginItems/Helper.app/Contents/Info.plist", plist.XML,
				map[string]any{"CFBundleIdentifier": fmt.Sprintf("org.gullrock.helper.%d", k/2),
					"CFBundleExecutable": "Helper"})
			b.file(app+"Library/LoginItems/Helper.app/Contents/MacOS/Helper", "x")
		} else {
			list(app+fmt.Sprintf("Library/LaunchAgents/org.gullrock.agent.%d.plist", k), plist.XML,
				map[string]any{"Label": fmt.Sprintf("org.gullrock.agent.%d", k), "BundleProgram": "Contents/MacOS/Tide",
					"RunAtLoad": true})
		}
	}
	return b.err
}
