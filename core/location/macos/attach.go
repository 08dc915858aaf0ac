package macos

import (
	"cmp"
	"encoding/json"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/authdb"
	"lockback/core/format/bookmark"
	"lockback/core/format/keyedarchive"
	"lockback/core/format/plist"
	"lockback/core/format/webextension"
	"lockback/core/location"
	"lockback/core/location/browser"
	"lockback/core/machine/account"
	"lockback/core/machine/mac"
)

// Code that is loaded into other programs, and what makes them load it.

const authorizationDatabase = "/private/var/db/auth.db"

// Where plug-ins of the authorization lie: others', and the system's own.
const (
	agentPlugIns  = "/Library/Security/SecurityAgentPlugins"
	systemPlugIns = "/System/Library/CoreServices/SecurityAgentPlugins"
)

// ownPlugIns take part in macOS' own rights; some are bundles, some built in.
var ownPlugIns = map[string]bool{"builtin": true, "loginwindow": true, "HomeDirMechanism": true, "MCXMechanism": true,
	"PKINITMechanism": true, "KerberosAgent": true,
	"CryptoTokenKit": true, "DiskUnlock": true, "FamilyControls": true, "RestartAuthorization": true, "loginKC": true,
	"ConfigurationProfiles": true, "PlatformSSO": true, "PSSOAuthPlugin": true}

// readAuthorization reports the plug-ins that take part when somebody signs in or
// asks for a right, and the steps whose plug-in is gone: those lock people out.
func readAuthorization(s *location.Survey) {
	rights := map[string][]string{}
	content, err := readDatabase(s, authorizationDatabase)
	if err == nil {
		s.Found()
		var steps []authdb.Step
		if steps, err = authdb.Parse(content); err != nil {
			err = &fs.PathError{Op: "read", Path: authorizationDatabase, Err: err}
		}
		for _, step := range steps {
			if !slices.Contains(rights[step.Plugin], step.Right) {
				rights[step.Plugin] = append(rights[step.Plugin], step.Right)
			}
		}
	}
	known := err == nil // else what is in no right cannot be told
	s.Skip(authorizationDatabase, err)
	why := "removing a step of a right by hand can lock everyone out; the program that added it can remove it"
	ours, theirs := bundlesIn(s, systemPlugIns), bundlesIn(s, agentPlugIns)
	for _, name := range slices.Sorted(maps.Keys(theirs)) {
		item := newBundle(s, nil, theirs[name], "")
		fixed(item, why)
		switch {
		case item.State == autostart.Disabled || !known:
		case len(rights[name]) == 0:
			off(item, "in no right")
		default:
			item.Mode = "for " + strings.Join(rights[name], ", ")
		}
		s.Add(key(nil, theirs[name]), item)
	}
	for _, name := range slices.Sorted(maps.Keys(rights)) {
		if ownPlugIns[name] || ours[name] != "" || theirs[name] != "" {
			continue
		}
		bundle := path.Join(agentPlugIns, name+".bundle")
		item := newItem(nil, name, bundle, authorizationDatabase)
		item.Argv, item.Mode = []string{bundle}, "for "+strings.Join(rights[name], ", ")
		fixed(item, why)
		s.Add(key(nil, authorizationDatabase, name), item)
	}
}

const folderActions = "Library/Preferences/com.apple.FolderActionsDispatcher.plist"

// readFolderActions reports the scripts that run when something is put into a
// folder. They stand in an archive inside the property list.
func (d *disk) readFolderActions(s *location.Survey) {
	for _, h := range homes(s) {
		file := path.Join(h.path, folderActions)
		doc, ok := readPlist(s, file)
		if !ok {
			continue
		}
		data := doc.Dict().Data("folderActions")
		if data == nil {
			continue
		}
		archive, err := openArchive(data, file)
		if err != nil {
			s.Skip(file, err)
			continue
		}
		whole, set := doc.Dict()["folderActionsEnabled"].(bool)
		for _, action := range archive.Top("root").List() {
			folder := placeOf(action, "folderBookmark", "bookmark", "folderURL")
			for _, script := range action.Field("scripts").List() {
				target := placeOf(script, "scriptBookmark", "bookmark", "scriptURL")
				name := cmp.Or(script.Field("name").Text(), path.Base(target))
				item := newItem(h.user, name, target, file)
				item.When = "when something is put into " + cmp.Or(folder, "a folder that cannot be told")
				if target != "" {
					item.Argv = []string{target}
				} else {
					item.Problems = append(item.Problems, autostart.Unparsable)
				}
				for _, o := range []keyedarchive.Object{action, script} {
					if f := o.Field("enabled"); f.Exists() && !f.Bool() {
						off(item, "not enabled")
					}
				}
				switch {
				case set && !whole:
					off(item, "folder actions are off")
				case d.databaseOf(s, h.user).off["com.apple.FolderActionsDispatcher"]:
					off(item, "the job that runs them is disabled in launchd's database")
				}
				fixed(item, "only Folder Actions Setup changes its list")
				s.Add(key(h.user, file, folder, target, name), item)
			}
		}
	}
}

// placeOf is the path that one of an object's fields tells: a bookmark, or a URL.
func placeOf(o keyedarchive.Object, fields ...string) string {
	for _, name := range fields {
		f := o.Field(name)
		if place, err := bookmark.Parse(bookmarkOf(f)); err == nil {
			return place.Path
		}
		if file := fileOf(f.Text()); file != "" {
			return file
		}
	}
	return ""
}

// preload is the variable that makes dyld(1) load a library into a program.
const preload = "DYLD_INSERT_LIBRARIES"

// readEnvironment reports libraries that jobs and apps are told to load, and what
// a user's sessions were given by older systems.
func (d *disk) readEnvironment(s *location.Survey) {
	why := "it belongs to another entry; turn that off instead"
	add := func(u *account.User, owner, libraries, file string) {
		for lib := range strings.SplitSeq(libraries, ":") {
			if lib == "" {
				continue
			}
			item := newItem(u, path.Base(lib), preload+"="+libraries, file)
			item.Mode, item.Argv, item.Source.Key = "loaded into "+owner, []string{lib}, preload
			fixed(item, why)
			s.Add(key(u, file, lib), item)
		}
	}
	for _, f := range d.jobFolders(s) {
		if f.there {
			s.Found()
		}
		for _, j := range f.files {
			add(f.user, j.job.Label, j.job.Environment[preload], j.path)
		}
	}
	for _, a := range d.applications(s) {
		if a.err != nil {
			s.Skip(path.Join(a.path, "Contents/Info.plist"), a.err)
		}
		if !holds(a.info, preload) {
			continue
		}
		if doc, err := plist.Parse(a.info); err == nil {
			add(a.user, path.Base(a.path), doc.Dict().Dict("LSEnvironment").Text(preload),
				path.Join(a.path, "Contents/Info.plist"))
		}
	}
	for _, h := range homes(s) {
		file := path.Join(h.path, ".MacOSX/environment.plist")
		doc, ok := readPlist(s, file)
		if !ok {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(doc.Dict())) {
			value := doc.Dict().Text(name)
			item := newItem(h.user, name, name+"="+value, file)
			item.Source.Key = name
			if name == preload {
				item.Argv = []string{value}
			}
			fixed(item, "the user's own setting; change it in the file")
			if !s.Machine.Release().Before(mac.Release{10, 8}) {
				ignored(item, "not read since OS X 10.8")
			}
			s.Add(key(h.user, file, name), item)
		}
	}
}

// chromium are the browsers that keep extensions as Chromium does, with their
// folders below Application Support.
var chromium = []struct {
	name, folder string
	domain       string // of its policies
}{
	{"Chrome", "Google/Chrome", "com.google.Chrome"}, {"Chrome Beta", "Google/Chrome Beta", "com.google.Chrome.beta"},
	{"Chrome Canary", "Google/Chrome Canary", "com.google.Chrome.canary"},
	{"Edge", "Microsoft Edge", "com.microsoft.Edge"}, {"Chromium", "Chromium", "org.chromium.Chromium"},
	{"Brave", "BraveSoftware/Brave-Browser", "com.brave.Browser"},
	{"Vivaldi", "Vivaldi", "com.vivaldi.Vivaldi"}, {"Opera", "com.operasoftware.Opera", "com.operasoftware.Opera"},
	{"Arc", "Arc/User Data", "company.thebrowser.Browser"},
}

// hostFolders are where native messaging hosts are described, for everyone and
// below a home.
func hostFolders() []string {
	folders := []string{"Library/Google/Chrome/NativeMessagingHosts", "Library/Microsoft/Edge/NativeMessagingHosts",
		"Library/Application Support/Mozilla/NativeMessagingHosts"}
	for _, b := range chromium {
		folders = append(folders, path.Join("Library/Application Support", b.folder, "NativeMessagingHosts"))
	}
	return folders
}

const browserWhy = "an extension is turned off in the browser itself, which rewrites its list"

var browsers = browser.System{Join: path.Join}

// readHosts reports the programs that extensions may start.
func readHosts(s *location.Survey) {
	for _, h := range append([]root{{"/", nil}}, homes(s)...) {
		for _, folder := range hostFolders() {
			dir := path.Join(h.path, folder)
			for _, e := range named(s, dir, ".json") {
				file := path.Join(dir, e.Name())
				content, ok := s.File(file)
				if !ok {
					continue
				}
				item := newItem(h.user, strings.TrimSuffix(e.Name(), ".json"), webextension.HostPath(content), file)
				item.Mode = "native messaging host"
				if program := browsers.HostProgram(dir, content, path.IsAbs); program != "" {
					item.Argv = []string{program}
				} else {
					item.Problems = append(item.Problems, autostart.Unparsable)
				}
				parked(item, file)
				s.Add(key(h.user, file), item)
			}
		}
	}
}

func readBrowsers(s *location.Survey) {
	for _, h := range homes(s) {
		support := path.Join(h.path, "Library/Application Support")
		for _, b := range chromium {
			browsers.Chromium(s, b.name, path.Join(support, b.folder), func(e browser.Extension) {
				addExtension(s, h.user, e, key(h.user, path.Join(e.List, e.ID)))
			})
		}
		browsers.Firefox(s, path.Join(support, "Firefox/Profiles"), func(e browser.Extension) {
			addExtension(s, h.user, e, key(h.user, e.List, e.ID))
		})
		for _, file := range safariLists {
			readSafari(s, h.user, path.Join(h.path, file))
		}
	}
}

func addExtension(s *location.Survey, u *account.User, e browser.Extension, key string) {
	item := newItem(u, e.Name, "", e.File)
	item.Mode, item.Shipped = e.Mode, e.BuiltIn
	if e.List == e.File {
		item.Source.Key = e.ID
	}
	if !e.Active {
		item.State = autostart.Disabled
	}
	fixed(item, browserWhy)
	s.Add(key, item)
}

// firefoxPolicies are where Firefox finds policies beside its managed preferences: in the app.
const (
	firefoxPolicies = "/Applications/Firefox.app/Contents/Resources/distribution/policies.json"
	firefoxDomain   = "org.mozilla.firefox"
)

// readForced reports the extensions that an administrator's policy or another program gives to a browser.
func readForced(s *location.Survey) {
	add := func(u *account.User, file string, forced []webextension.Forced, err error) {
		if err != nil {
			s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: err})
		}
		for _, e := range forced {
			name := cmp.Or(e.ID, e.From)
			item := newItem(u, name, e.From, file)
			item.Source.Key, item.Mode = name, "forced by a policy"
			fixed(item, "a policy installs it; remove it from the policy")
			s.Add(key(u, file, name), item)
		}
	}
	managed := func(u *account.User, folder, domain string) {
		file := path.Join(folder, domain+".plist")
		if doc, ok := readPlist(s, file); ok {
			forced, err := webextension.ParsePolicy(policyJSON(doc.Dict()))
			add(u, file, forced, err)
		}
	}
	domains := []string{firefoxDomain}
	for _, b := range chromium {
		domains = append(domains, b.domain)
	}
	for _, domain := range domains {
		managed(nil, managedFolder, domain)
		for _, u := range people(s) {
			managed(u, path.Join(managedFolder, u.Name), domain)
		}
	}
	managed(nil, "/Library/Preferences", firefoxDomain)
	if content, ok := s.File(firefoxPolicies); ok {
		forced, err := webextension.ParsePolicy(content)
		add(nil, firefoxPolicies, forced, err)
	}
}

// policyJSON are the policies of a property list that install extensions, as the browsers' other systems have
// them.
func policyJSON(d plist.Dict) []byte {
	own := map[string]any{}
	for _, name := range []string{"ExtensionInstallForcelist", "ExtensionSettings", "Extensions"} {
		if v, ok := d[name]; ok {
			own[name] = v
		}
	}
	content, err := json.Marshal(own)
	if err != nil {
		return []byte("{")
	}
	return content
}

// externalFolders are where such files lie.
func externalFolders() []string {
	var folders []string
	for _, b := range chromium {
		folder := "/Library/Application Support/" + b.folder + "/External Extensions"
		folders = append(folders, folder, "~"+folder)
	}
	return folders
}

// readExternal reports the files by which programs offer an extension to Chromium's browsers: they load it where
// the user agrees.
func readExternal(s *location.Survey) {
	for _, h := range append([]root{{"/", nil}}, homes(s)...) {
		for _, b := range chromium {
			dir := path.Join(h.path, "Library/Application Support", b.folder, "External Extensions")
			for _, e := range named(s, dir, ".json") {
				file := path.Join(dir, e.Name())
				content, ok := s.File(file)
				if !ok {
					continue
				}
				item := newItem(h.user, strings.TrimSuffix(e.Name(), path.Ext(e.Name())),
					webextension.ExternalFrom(content), file)
				item.Mode = b.name + " extension, installed from outside"
				parked(item, file)
				s.Add(key(h.user, file), item)
			}
		}
	}
}

// safariLists are Safari's lists of extensions below a home: of its own old kind, of those that are
// apps, and of the web's kind.
var safariLists = []string{"Library/Safari/Extensions/Extensions.plist",
	"Library/Containers/com.apple.Safari/Data/Library/Safari/AppExtensions/Extensions.plist",
	"Library/Containers/com.apple.Safari/Data/Library/Safari/WebExtensions/Extensions.plist"}

func readSafari(s *location.Survey, u *account.User, file string) {
	doc, ok := readPlist(s, file)
	if !ok {
		return
	}
	add := func(e browser.Extension, id string) {
		e.Mode, e.File, e.List = "Safari extension", file, file
		addExtension(s, u, e, key(u, file, id))
	}
	for _, d := range doc.Dict().Dicts("Installed Extensions") {
		name := cmp.Or(d.Text("Archive File Name"), d.Text("Bundle Directory Name"))
		add(browser.Extension{Name: strings.TrimSuffix(name, path.Ext(name)), Active: d.Bool("Enabled")}, name)
	}
	for _, id := range slices.Sorted(maps.Keys(doc.Dict())) {
		if d := doc.Dict().Dict(id); d != nil {
			// The bundle's id, with its maker's team behind it.
			name, _, _ := strings.Cut(id, " (")
			add(browser.Extension{ID: id, Name: name, Active: !d.Has("Enabled") || d.Bool("Enabled")}, id)
		}
	}
}
