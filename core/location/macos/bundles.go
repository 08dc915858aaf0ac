package macos

import (
	"bytes"
	"cmp"
	"io/fs"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
)

// bundle is a folder that macOS takes for one thing: an app, a plug-in, a driver.
type bundle struct {
	path     string
	infoFile string   // its Info.plist, which makes it one
	more     []string // others of its kind, which count where the first is gone
	info     plist.Dict
	missing  bool // it has no Info.plist
	err      error
}

// infoPlaces are where a bundle's Info.plist may lie: in bundles of today, of iOS'
// kind, and older ones. The one for this system alone comes first.
var infoPlaces = []string{"Contents/Info-macos.plist", "Contents/Info.plist", "Info.plist", "Support Files/Info.plist",
	"Resources/Info.plist"}

// bundleAt reads a bundle.
func bundleAt(s *location.Survey, dir string) bundle {
	b := bundle{path: dir, infoFile: path.Join(dir, infoPlaces[1]), missing: true}
	for _, place := range infoPlaces {
		content, err := s.ReadFile(path.Join(dir, place), files.MaxFileSize)
		if files.IsMissing(err) {
			continue
		}
		if !b.missing {
			b.more = append(b.more, path.Join(dir, place))
			continue
		}
		b.infoFile, b.missing = path.Join(dir, place), false
		if b.err = err; err == nil {
			var doc *plist.Document
			if doc, b.err = plist.Parse(content); b.err == nil {
				b.info = doc.Dict()
			}
		}
		if place != infoPlaces[0] {
			break
		}
	}
	return b
}

// executable is the program of a bundle; empty where it names none.
func (b bundle) executable() string {
	name := b.info.Text("CFBundleExecutable")
	if name == "" || strings.Contains(name, "/") {
		return ""
	}
	if path.Base(path.Dir(b.infoFile)) == "Contents" {
		return path.Join(b.path, "Contents/MacOS", name)
	}
	return path.Join(b.path, name)
}

// newBundle is the item of a bundle that other programs load. To switch it off, its
// Info.plist is taken away: without one it is a folder like any other, and all
// else of it stays where it is.
func newBundle(s *location.Survey, u *account.User, dir, mode string) *location.Item {
	b := bundleAt(s, dir)
	base := path.Base(dir)
	name := strings.TrimSuffix(base, path.Ext(base))
	item := newItem(u, name, b.executable(), b.infoFile)
	if program := path.Join(dir, "Contents/MacOS", name); b.missing && exists(s, program) {
		item.Command = program // most have the bundle's name
	}
	item.Mode, item.Source.Key = mode, b.info.Text("CFBundleIdentifier")
	if item.Command != "" {
		item.Argv = []string{item.Command}
	}
	if parked(item, b.infoFile); len(b.more) > 0 {
		all := []artifact.Artifact{artifact.File(b.infoFile)}
		for _, file := range b.more {
			all = append(all, artifact.File(file))
		}
		item.Switcher = location.ParkAll(all)
		item.Artifacts = func() []artifact.Artifact { return all }
	}
	switch {
	case b.missing:
		off(item, strings.TrimPrefix(mode+", without its Info.plist", ", "))
	case b.err != nil:
		s.Skip(b.infoFile, &fs.PathError{Op: "read", Path: b.infoFile, Err: b.err})
		item.Problems = append(item.Problems, autostart.Unparsable)
	}
	if v := b.info.Text("CFBundleShortVersionString"); v != "" {
		item.AddFacts(func() []location.Fact { return []location.Fact{{Name: "version", Value: v, Basis: b.infoFile}} })
	}
	item.Shipped = ofSystem(dir)
	if item.Shipped && !s.Machine.Release().Before(bigSur) {
		fixed(item, "it is on macOS's sealed volume")
	}
	return item
}

// bundles is the form of folders whose bundles other programs load.
type bundles struct {
	endings string // of the names that count, separated by spaces
	mode    string
	role    location.Role
}

// Word is [autostart.Park].
func (bundles) Word() autostart.Switch { return autostart.Park }

// Read reports the bundles.
func (b bundles) Read(s *location.Survey, places []location.Place) {
	for _, p := range places {
		b.read(s, nil, p.Path)
	}
}

func (b bundles) read(s *location.Survey, u *account.User, dir string) {
	for _, e := range named(s, dir, strings.Fields(b.endings)...) {
		item := newBundle(s, u, path.Join(dir, e.Name()), b.mode)
		item.Role = b.role
		s.Add(key(u, path.Join(dir, e.Name())), item)
	}
}

// plugIns are the folders in a Library whose bundles other programs load, with
// the endings that count.
var plugIns = []struct {
	folder string
	bundles
}{
	{"Address Book Plug-Ins", bundles{".bundle", "address book plug-in", location.NoRole}},
	{"Audio/Plug-Ins/Components", bundles{".component", "sound unit", location.NoRole}},
	{"Audio/Plug-Ins/HAL", bundles{".driver .plugin", "sound driver", location.Sound}},
	{"ColorPickers", bundles{".colorpicker", "colour picker", location.NoRole}},
	{"Contextual Menu Items", bundles{".plugin", "context menu item", location.NoRole}},
	{"CoreMediaIO/Plug-Ins/DAL", bundles{".plugin", "camera driver", location.Camera}},
	{"Input Methods", bundles{".app .bundle .component", "input method", location.InputMode}},
	{"InputManagers", bundles{".bundle", "input manager, loaded into every app", location.NoRole}},
	{"Internet Plug-Ins", bundles{".plugin .webplugin .bundle", "web plug-in", location.NoRole}},
	{"Mail/Bundles", bundles{".mailbundle", "mail plug-in", location.NoRole}},
	{"PreferencePanes", bundles{".prefpane", "settings pane", location.NoRole}},
	{"QuickLook", bundles{".qlgenerator", "preview generator", location.NoRole}},
	{"QuickTime", bundles{".component", "media component", location.NoRole}},
	{"Screen Savers", bundles{".saver", "screen saver", location.NoRole}},
	{"ScriptingAdditions", bundles{".osax", "scripting addition", location.NoRole}},
	{"Spotlight", bundles{".mdimporter", "search importer", location.NoRole}},
}

// lastLoaded are the folders whose plug-ins of others macOS does not load any more, with the first release that
// does not.
var lastLoaded = map[string]struct {
	since mac.Release
	words string
}{
	"Contextual Menu Items":    {mac.Release{10, 6}, "Mac OS X 10.6"},
	"InputManagers":            {mac.Release{10, 7}, "Mac OS X 10.7"},
	"ScriptingAdditions":       {mac.Release{10, 14}, "macOS 10.14"},
	"Internet Plug-Ins":        {mac.Release{11, 0}, "macOS 11"},
	"Mail/Bundles":             {mac.Release{14, 0}, "macOS 14"},
	"CoreMediaIO/Plug-Ins/DAL": {mac.Release{14, 1}, "macOS 14.1"},
	"QuickLook":                {mac.Release{15, 0}, "macOS 15"},
}

// plugInPlaces words the folders.
func plugInPlaces() string {
	var folders []string
	for _, p := range plugIns {
		folders = append(folders, p.folder)
	}
	return "in {/System/Library, /Library, ~/Library}: " + strings.Join(folders, ", ")
}

func readPlugIns(s *location.Survey) {
	for _, r := range roots(s) {
		present := map[string]bool{}
		for _, e := range s.Dir(r.path) {
			present[strings.ToLower(e.Name())] = true // a Mac's disk takes names in any case for the same
		}
		for _, p := range plugIns {
			if top, _, _ := strings.Cut(p.folder, "/"); !present[strings.ToLower(top)] {
				continue
			}
			s.Adjusting(func(item *location.Item) {
				if last, ok := lastLoaded[p.folder]; ok && !s.Machine.Release().Before(last.since) &&
					s.Machine.Release() != (mac.Release{}) && !item.Shipped {
					ignored(item, "not loaded since "+last.words)
				}
			}, func(s *location.Survey) { p.read(s, r.user, path.Join(r.path, p.folder)) })
		}
	}
}

const systemExtensions = "/Library/SystemExtensions/db.plist"

func readSystemExtensions(s *location.Survey) {
	doc, ok := readPlist(s, systemExtensions)
	if !ok {
		return
	}
	for _, d := range doc.Dict().Dicts("extensions") {
		id := d.Text("identifier")
		if id == "" {
			continue
		}
		// What runs is the copy that macOS took of it; the app may have been moved or replaced since.
		runs := cmp.Or(fileOf(d.Text("stagedBundleURL")), fileOf(d.Dict("stagedBundleURL").Text("relative")),
			d.Text("originPath"))
		item := newItem(nil, id, runs, systemExtensions)
		item.Source.Key, item.Mode = id, strings.ReplaceAll(d.Text("state"), "_", " ")
		if runs != "" {
			item.Argv = []string{runs}
		}
		if d.Text("state") != "activated_enabled" {
			off(item, item.Mode)
		}
		var facts []location.Fact
		for _, row := range []struct{ name, value string }{{"team", d.Text("teamID")},
			{"extends", strings.Join(d.Texts("categories"), ", ")}, {"inside", d.Dict("container").Text("bundlePath")},
			{"brought along at", d.Text("originPath")}} {
			if row.value != "" {
				facts = append(facts, location.Fact{Name: row.name, Value: row.value, Basis: systemExtensions})
			}
		}
		item.AddFacts(func() []location.Fact { return facts })
		fixed(item, "its own app removes it, or the system when that app goes")
		s.Add(key(nil, systemExtensions, id, d.Dict("bundleVersion").Text("CFBundleVersion")), item)
	}
}

// readStartupItems reports what ran before launchd took over: a folder with a
// program of the same name and a description.
func readStartupItems(s *location.Survey, at []location.Place) {
	for _, p := range at {
		for _, e := range s.Dir(p.Path) {
			if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			folder := path.Join(p.Path, e.Name())
			file := path.Join(folder, "StartupParameters.plist")
			program := path.Join(folder, e.Name())
			item := newItem(nil, e.Name(), program, file)
			item.Argv, item.Shipped = []string{program}, ofSystem(folder)
			item.Switcher = location.Park{Artifact: artifact.File(file)}
			content, err := s.ReadFile(file, files.MaxFileSize)
			doc, perr := plist.Parse(content)
			switch {
			case files.IsMissing(err):
				off(item, "without its StartupParameters.plist")
			case err != nil:
				s.Skip(file, err)
				continue
			case perr != nil:
				ignored(item, "its StartupParameters.plist cannot be read")
				item.Problems = append(item.Problems, autostart.Unparsable)
			case !s.Machine.Release().Before(yosemite):
				ignored(item, "not read since OS X 10.10")
			default:
				description := doc.Dict().Text("Description")
				item.AddFacts(func() []location.Fact {
					return []location.Fact{{Kind: autostart.FactDescription, Value: description, Basis: file}}
				})
			}
			s.Add(key(nil, folder), item)
		}
	}
}

// bundlesIn tells which bundles of a folder are there, by their names without
// ending.
func bundlesIn(s *location.Survey, dir string) map[string]string {
	there := map[string]string{}
	for _, e := range named(s, dir, ".bundle") {
		there[strings.TrimSuffix(e.Name(), path.Ext(e.Name()))] = path.Join(dir, e.Name())
	}
	return there
}

// holds reports whether an Info.plist may hold a key: names of keys are plain
// letters in both forms, so most files need no further reading.
func holds(content []byte, key string) bool { return bytes.Contains(content, []byte(key)) }
