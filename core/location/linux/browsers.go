package linux

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/webextension"
	"lockback/core/location"
	"lockback/core/location/browser"
	"lockback/core/location/unix"
	"lockback/core/machine/artifact"
)

// chromium are the browsers that keep extensions as Chromium does, with their folders below ~/.config.
var chromium = []struct{ name, folder string }{
	{"Chromium", "chromium"}, {"Chrome", "google-chrome"}, {"Chrome", "google-chrome-beta"}, {"Edge", "microsoft-edge"},
	{"Brave", "BraveSoftware/Brave-Browser"}, {"Vivaldi", "vivaldi"}, {"Opera", "opera"},
}

// configFolders are where programs keep their settings below a home: themselves, and as flatpaks and snaps.
var configFolders = []string{".config", ".var/app/*/config", "snap/*/common", "snap/*/current/.config"}

// firefoxFolders are where the profiles of Firefox's family lie below a home.
var firefoxFolders = []string{".mozilla/firefox", ".librewolf", ".waterfox", ".thunderbird",
	".var/app/*/.mozilla/firefox", "snap/*/common/.mozilla/firefox"}

var browsers = browser.System{Join: path.Join}

// Why extensions are not switched.
const browserWhy = "an extension is turned off in the browser itself, which rewrites its list"

// readBrowsers reports the extensions in people's profiles.
func readBrowsers(s *location.Survey, _ []location.Place) {
	for k := range s.Machine.Users {
		u := &s.Machine.Users[k]
		add := func(e browser.Extension, key string) {
			item := named(e.Name, "", nil)
			item.User, item.For, item.Mode, item.Shipped = autostart.Text(u.Name), u, e.Mode, e.BuiltIn
			item.State, item.Source = autostart.Enabled, autostart.Source{Path: e.File}
			if e.List == e.File {
				item.Source.Key = e.ID
			}
			if !e.Active {
				item.State = autostart.Disabled
			}
			item.Artifacts, item.Switcher = unix.Files(), location.NoSwitch{Why: browserWhy}
			s.Add("~"+strings.TrimPrefix(key, u.Home), item)
		}
		for _, pattern := range configFolders {
			for _, config := range s.Expand(u.Home, pattern, true) {
				for _, b := range chromium {
					data := path.Join(u.Home, config, b.folder)
					if !has(s, data) {
						continue
					}
					browsers.Chromium(s, b.name, data, func(e browser.Extension) { add(e, path.Join(e.List, e.ID)) })
				}
			}
		}
		for _, pattern := range firefoxFolders {
			for _, folder := range s.Expand(u.Home, pattern, true) {
				if profiles := path.Join(u.Home, folder); has(s, profiles) {
					browsers.Firefox(s, profiles, func(e browser.Extension) { add(e, e.List+"\x00"+e.ID) })
				}
			}
		}
	}
}

// hostFolders are where programs that extensions may start are described, by the documents of the two
// families; vendorsHosts are those of packages.
var vendorsHosts = []string{"/usr/lib/mozilla/native-messaging-hosts", "/usr/lib64/mozilla/native-messaging-hosts",
	"/usr/share/mozilla/native-messaging-hosts"}

var hostFolders = []string{"/etc/chromium/native-messaging-hosts", "/etc/opt/chrome/native-messaging-hosts",
	"/etc/opt/edge/native-messaging-hosts",
	"~/.mozilla/native-messaging-hosts", "~/.var/app/*/config/*/NativeMessagingHosts",
	"~/snap/*/common/*/NativeMessagingHosts"}

// ownHosts are the folders of the browsers of Chromium's family below a home.
func ownHosts() []string {
	var folders []string
	for _, b := range chromium {
		folders = append(folders, "~/.config/"+b.folder+"/NativeMessagingHosts")
	}
	return folders
}

// describeHost says which program a description names.
func describeHost(s *location.Survey, f location.Found, item *location.Item) {
	item.Name, item.Mode, item.When, item.Argv = strings.TrimSuffix(path.Base(f.Path), ".json"),
		"native messaging host", "when an extension asks for it", nil
	content, err := s.ReadFile(f.Path, 1<<20)
	if err != nil {
		s.Skip(f.Path, err)
		return
	}
	if item.Command = browsers.HostProgram("", content, path.IsAbs); item.Command == "" {
		item.Problems = append(item.Problems, autostart.Unparsable)
		return
	}
	item.Argv = []string{item.Command}
}

// policyFiles are where policies of browsers stand.
var policyFiles = slices.Concat(withSuffix(".json", "/etc/chromium/policies/managed",
	"/etc/opt/chrome/policies/managed", "/etc/opt/edge/policies/managed", "/etc/brave/policies/managed"),
	location.At("/etc/firefox/policies/policies.json", "/usr/lib/firefox/distribution/policies.json",
		"/usr/lib/firefox-esr/distribution/policies.json", "/usr/share/firefox/distribution/policies.json"))

// readPolicies reports the extensions that a policy installs, which nobody can turn off in the browser.
func readPolicies(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		content, ok := s.File(f.Path)
		if !ok {
			return
		}
		forced, err := webextension.ParsePolicy(content)
		if err != nil {
			item := named(path.Base(f.Path), "", nil)
			item.State, item.Source, item.Artifacts, item.Problems = autostart.Enabled, autostart.Source{Path: f.Path},
				unix.Files(f.Path), []string{autostart.Unparsable}
			item.Switcher = location.Park{Artifact: artifact.File(f.Path)}
			s.Add(f.Key, item)
			return
		}
		for _, e := range forced {
			name := cmp.Or(e.ID, e.From)
			item := named(name, e.From, nil)
			item.State, item.Mode, item.Source, item.Artifacts = autostart.Enabled, "forced by a policy",
				autostart.Source{Path: f.Path}, unix.Files(f.Path)
			item.When, item.Switcher = "loaded into the browser",
				location.NoSwitch{Why: "the file has other settings too; take the extension out of it"}
			s.Add(f.Key+"\x00"+name, item)
		}
	})
}
