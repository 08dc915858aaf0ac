package identify

import (
	"encoding/hex"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// macFinder finds what commands start on one Mac. It remembers what it looked up:
// every user has the same agents.
type macFinder struct {
	machine *machine.Reader
	known   sync.Map // words, to their targets
}

// findAll looks up all that an item's commands start.
func (f *macFinder) findAll(item *location.Item) {
	item.AddFacts(func() []location.Fact { return origin(f.machine, item.Target.Path) })
	runAll(item, func(args []string) ([]string, bool) { return f.opened(args, item.For) },
		func(word string, _ []string) autostart.Target { return f.look(word) })
}

// opened is what open(1) opens: an app that is named by its path, its name or its
// id, or a file, which is then what matters.
func (f *macFinder) opened(args []string, u *account.User) ([]string, bool) {
	for k := 0; k < len(args); k++ {
		switch a := args[k]; {
		case a == "-a" && k+1 < len(args):
			return f.appNamed(args[k+1], u)
		case a == "-b" && k+1 < len(args):
			return f.appWithID(args[k+1], u)
		case a == "--args":
			return nil, false
		case strings.HasPrefix(a, "-"):
			if slices.Contains([]string{"-s", "--env", "-i", "-o", "--stdin", "--stdout", "--stderr", "--arch"}, a) {
				k++
			}
		case path.IsAbs(a):
			return []string{a}, true
		default:
			return nil, false // an address, or relative to nobody knows where
		}
	}
	return nil, false
}

// appFolders are where apps lie whose path is not told.
func appFolders(u *account.User) []string {
	folders := []string{"/Applications", "/Applications/Utilities", "/System/Applications",
		"/System/Applications/Utilities", "/System/Library/CoreServices"}
	if u != nil {
		folders = append([]string{path.Join(u.Home, "Applications")}, folders...)
	}
	return folders
}

// appNamed finds an app by name. The system knows apps in other places too, so one
// that is not found may be there.
func (f *macFinder) appNamed(name string, u *account.User) ([]string, bool) {
	if path.IsAbs(name) {
		return []string{name}, true
	}
	for _, dir := range appFolders(u) {
		file := path.Join(dir, strings.TrimSuffix(name, ".app")+".app")
		if _, err := f.machine.Stat(file); err == nil {
			return []string{file}, true
		}
	}
	return nil, false
}

func (f *macFinder) appWithID(id string, u *account.User) ([]string, bool) {
	for _, dir := range appFolders(u) {
		entries, _ := f.machine.ReadDir(dir)
		for _, e := range entries {
			file := path.Join(dir, e.Name())
			if info, ok := f.info(file); ok && strings.EqualFold(info.Text("CFBundleIdentifier"), id) {
				return []string{file}, true
			}
		}
	}
	return nil, false
}

// info reads the Info.plist of a bundle.
func (f *macFinder) info(bundle string) (plist.Dict, bool) {
	content, err := f.machine.ReadFile(path.Join(bundle, "Contents/Info.plist"), files.MaxFileSize)
	if err != nil {
		return nil, false
	}
	doc, err := plist.Parse(content)
	if err != nil {
		return nil, false
	}
	return doc.Dict(), true
}

// launchdPath is where launchd looks for a program without a folder.
var launchdPath = []string{"/usr/bin", "/bin", "/usr/sbin", "/sbin"}

// look finds the file that a word means, and looks whether it is there.
func (f *macFinder) look(word string) autostart.Target {
	if t, ok := f.known.Load(word); ok {
		return t.(autostart.Target)
	}
	t := f.find(word)
	f.known.Store(word, t)
	return t
}

func (f *macFinder) find(word string) autostart.Target {
	switch {
	case strings.Contains(word, "\x00"):
		return autostart.Target{}
	case path.IsAbs(word):
		return f.there(path.Clean(word), true)
	case strings.Contains(word, "/"), word == "":
		return autostart.Target{Path: autostart.Text(word)} // relative to nobody knows where
	}
	unknown := false
	for _, dir := range append(launchdPath, "/usr/local/bin") {
		t := f.there(path.Join(dir, word), false)
		if t.Exists != nil && *t.Exists {
			return t
		}
		unknown = unknown || t.Exists == nil
	}
	t := autostart.Target{Path: autostart.Text(word)}
	if !unknown {
		t.Exists = new(bool)
	}
	return t
}

// there looks whether a file exists. A bundle is looked into for its executable.
// What is on another volume, or not ours to see, stays unknown.
func (f *macFinder) there(full string, bundles bool) autostart.Target {
	t := autostart.Target{Path: autostart.Text(full)}
	info, err := f.machine.Stat(full)
	switch {
	case err == nil && info.IsDir() && bundles:
		if i, ok := f.info(full); ok {
			if name := i.Text("CFBundleExecutable"); name != "" && !strings.Contains(name, "/") {
				return f.there(path.Join(full, "Contents/MacOS", name), false)
			}
		}
		there := path.Ext(full) != "" // a bundle without a program of its own; a plain folder starts nothing
		t.Exists = &there
	case err == nil:
		there := !info.IsDir()
		t.Exists, t.Path = &there, autostart.Text(f.machine.Canonical(full))
		if there {
			t.Size, t.Modified = info.Size(), info.ModTime().UTC()
		}
	case files.IsMissing(err):
		t.Exists = new(bool)
	}
	return t
}

// origin tells where a program was downloaded from: macOS notes it in extended
// attributes of the file or of the bundle that it is in, under the names below,
// which some file systems put a word before.
func origin(m *machine.Reader, file string) []location.Fact {
	var facts []location.Fact
	for ; len(file) > 1; file = path.Dir(file) {
		attrs, err := m.Attributes(file)
		if err != nil {
			return facts
		}
		for _, name := range slices.Sorted(maps.Keys(attrs)) {
			switch {
			case strings.HasSuffix(name, "com.apple.quarantine"):
				// Flags, the time in hexadecimal, the program that fetched it, an id.
				if parts := strings.Split(string(attrs[name]), ";"); len(parts) >= 3 {
					text := parts[2]
					if seconds, err := strconv.ParseInt(parts[1], 16, 64); err == nil && seconds > 0 &&
						seconds < 1<<40 {
						text += ", " + time.Unix(seconds, 0).UTC().Format(time.DateOnly)
					}
					facts = append(facts, location.Fact{Name: "downloaded by", Value: autostart.Text(text),
						Basis: "quarantine of " + file})
				}
			case strings.HasSuffix(name, "com.apple.metadata:kMDItemWhereFroms"):
				if doc, err := plist.Parse(attrs[name]); err == nil {
					for _, from := range plist.Dict(map[string]any{"from": doc.Root}).Texts("from") {
						if from != "" {
							facts = append(facts, location.Fact{Name: "downloaded from", Value: autostart.Text(from),
								Basis: "note on " + file})
						}
					}
				}
			case name == artifact.FlagsAttribute:
				facts = append(facts, location.Fact{Name: "file flags", Value: "0x" + hex.EncodeToString(attrs[name]),
					Basis: file})
			}
		}
		if path.Ext(file) == ".app" || !strings.Contains(file, ".app/") {
			break
		}
	}
	return facts
}

// macFolders are where only macOS itself puts programs.
var macFolders = []string{"/System/", "/usr/bin/", "/usr/sbin/", "/usr/lib/", "/usr/libexec/", "/usr/share/", "/bin/",
	"/sbin/", "/Library/Apple/"}

// inMac reports whether a program lies where only macOS has its own.
func inMac(file string) bool {
	return slices.ContainsFunc(macFolders, func(dir string) bool { return strings.HasPrefix(file, dir) })
}

// macNames are the names of an entry that is read from where only macOS puts files, and whose
// program lies in its own folders.
func macNames(item *location.Item) []string {
	e := &item.Entry
	if !item.Packaged || item.Foreign {
		return nil
	}
	switch item.Kind() {
	case location.LaunchJob:
		// A bare name is looked for in the system's own folders only.
		for t := range programsOf(item) {
			if path.IsAbs(t.Path) && !inMac(t.Path) {
				return nil
			}
		}
	case location.PeriodicScript:
	default:
		return nil
	}
	return []string{e.Name}
}
