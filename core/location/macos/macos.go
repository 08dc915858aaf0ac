// Package macos declares the places that a Mac starts things from: one row of
// [Locations] each, with the reader that understands it. Most of it is launchd's
// jobs (jobs.go) and bundles that other programs load (bundles.go); what several
// locations look at is read once, into a [disk].
package macos

import (
	"io/fs"
	"iter"
	"path"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/mac"
)

// disk is what the locations of one Mac share: each part is read by whichever
// location asks for it first.
type disk struct {
	jobsOnce, appsOnce, backgroundOnce sync.Once

	jobs       []*jobFolder
	apps       []*app
	appPlaces  []appPlace
	background background

	databases sync.Mutex
	database  map[string]*database // by the person's name; the system's has none
}

// releases that changed where things are.
var (
	snowLeopard = mac.Release{10, 6}  // no apps listed in loginwindow.plist
	yosemite    = mac.Release{10, 10} // launchd's new databases; no startup items, no launchd.conf
	bigSur      = mac.Release{11, 0}  // its own volume is sealed
	sequoia     = mac.Release{15, 0}  // no periodic scripts
	highSierra  = mac.Release{10, 13} // background items, a list for each user
	ventura     = mac.Release{13, 0}  // background items, one database
)

// owner tells whose entry it is: nobody's where it is for the whole machine.
func owner(u *account.User) string {
	if u == nil {
		return ""
	}
	return u.Name
}

// key identifies an entry by its place, and by what it is called there. What lies
// in a home is named from there, so that two people's differ by their names only.
func key(u *account.User, file string, rest ...string) string {
	if u != nil {
		if below, ok := strings.CutPrefix(file, u.Home+"/"); ok {
			file = "~/" + below
		}
	}
	return strings.Join(append([]string{file}, rest...), "\x00")
}

// newItem begins an item that is read from a file.
func newItem(u *account.User, name, command, file string) *location.Item {
	return &location.Item{Entry: autostart.Entry{Name: name, State: autostart.Enabled, Command: command, User: owner(u),
		Source: autostart.Source{Path: file}},
		For: u, Artifacts: artifacts(file)}
}

// artifacts makes the list of the files that decide an item.
func artifacts(files ...string) func() []artifact.Artifact {
	return func() []artifact.Artifact {
		list := make([]artifact.Artifact, len(files))
		for k, f := range files {
			list[k] = artifact.File(f)
		}
		return list
	}
}

// off says that an item does not start, and why.
func off(item *location.Item, why string) {
	item.State, item.Mode, item.Ignored = autostart.Disabled, why, ""
}

// ignored says that the system passes an item over, and why.
func ignored(item *location.Item, why string) {
	item.State, item.Mode, item.Ignored = autostart.Disabled, "", why
	item.Problems = append(item.Problems, autostart.Ignored)
}

// fixed says that an item cannot be switched, and why.
func fixed(item *location.Item, why string) {
	item.Switcher = location.NoSwitch{Why: why}
}

// parked makes an item one that is turned off by taking its file away.
func parked(item *location.Item, file string) {
	item.Switcher = location.Park{Artifact: artifact.File(file)}
}

// readPlist reads a property list and reports one that cannot be read.
func readPlist(s *location.Survey, file string) (*plist.Document, bool) {
	content, ok := s.File(file)
	if !ok {
		return nil, false
	}
	doc, err := plist.Parse(content)
	if err != nil {
		s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: err})
		return nil, false
	}
	return doc, true
}

// people are the accounts that somebody may sign in to: all but root.
func people(s *location.Survey) []*account.User {
	var list []*account.User
	for k := range s.Machine.Users {
		if u := &s.Machine.Users[k]; u.UID != 0 {
			list = append(list, u)
		}
	}
	return list
}

// root is a place of the machine's, or of a user's.
type root struct {
	path string
	user *account.User
}

// roots are the folders called Library: the system's, the machine's, and each
// person's.
func roots(s *location.Survey) []root {
	list := []root{{"/System/Library", nil}, {"/Library", nil}}
	for _, h := range homes(s) {
		list = append(list, root{path.Join(h.path, "Library"), h.user})
	}
	return list
}

// homes are the home folders of everyone, root's too.
func homes(s *location.Survey) []root {
	var list []root
	for k := range s.Machine.Users {
		u := &s.Machine.Users[k]
		list = append(list, root{u.Home, u})
	}
	return list
}

// ofSystem reports whether a file lies where only the system's own parts are.
func ofSystem(file string) bool { return strings.HasPrefix(file, "/System/") }

// named lists what in a folder ends in one of some ways, hidden names left out.
func named(s *location.Survey, dir string, endings ...string) []fs.DirEntry {
	return slices.DeleteFunc(s.Dir(dir), func(e fs.DirEntry) bool {
		return strings.HasPrefix(e.Name(), ".") || !slices.Contains(endings, strings.ToLower(path.Ext(e.Name())))
	})
}

// numbered are the lines of a file by their numbers, without blanks around them.
func numbered(content []byte) iter.Seq2[int, string] {
	return func(yield func(int, string) bool) {
		number := 0
		for line := range strings.Lines(string(content)) {
			if number++; !yield(number, strings.TrimSpace(line)) {
				return
			}
		}
	}
}
