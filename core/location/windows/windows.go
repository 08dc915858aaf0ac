// Package windows declares the places that a Windows desktop starts things from:
// one row of [Locations] each, with the reader that understands it. Most rows are
// one of a few kinds: values of a key, items of a list, keys that each stand for
// a DLL, names that are CLSIDs. What is peculiar has a file of its own.
package windows

import (
	"errors"
	"io/fs"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// Roots of paths below.
const (
	cv   = registry.KeyCV
	nt   = registry.KeyNT
	ccs  = registry.KeyCCS
	ucv  = `HKCU\Software\Microsoft\Windows\CurrentVersion`
	unt  = `HKCU\Software\Microsoft\Windows NT\CurrentVersion`
	sm   = ccs + `\Control\Session Manager`
	soft = `HKLM\SOFTWARE`
)

// place is a key that was found: whose it is, in which view, and which of its values are meant.
type place struct {
	*registry.Key
	user   *account.User
	narrow bool // the 32-bit view
	names  []string
}

// userName is the name in an entry's user column.
func userName(u *account.User) string {
	if u == nil {
		return ""
	}
	return u.Name
}

// shared are keys that both views have in common, by Microsoft's list "Registry Keys Affected by WOW64".
var shared = []string{nt + `\Image File Execution Options`, nt + `\Print`, nt + `\ProfileList`, cv + `\Policies`,
	cv + `\Group Policy`, cv + `\PreviewHandlers`, cv + `\Setup`,
	soft + `\Policies`, soft + `\Clients`, soft + `\RegisteredApplications`, soft + `\Microsoft\SystemCertificates`,
	soft + `\Microsoft\OLE`, soft + `\Microsoft\CTF\TIP`}

// splitClasses are the only keys below Classes of which there are two: the one for 32-bit programs stands
// in Classes\WOW6432Node, where WOW6432Node\Classes leads as well.
var splitClasses = []string{"CLSID", "DirectShow", "Interface", "Media Type", "MediaFoundation"}

// views returns the path of a key in the 64-bit and in the 32-bit view. Only
// what lies below SOFTWARE has two.
func views(path string) []string {
	for _, s := range shared {
		if strings.HasPrefix(path, s) {
			return []string{path}
		}
	}
	for _, root := range []string{`HKLM\SOFTWARE\Classes\`, `HKCU\Software\Classes\`} {
		rest, ok := strings.CutPrefix(path, root)
		if !ok {
			continue
		}
		if first, _, _ := strings.Cut(rest, `\`); slices.Contains(splitClasses, first) {
			return []string{path, root + `WOW6432Node\` + rest}
		}
		return []string{path}
	}
	for _, root := range []string{`HKLM\SOFTWARE\`, `HKCU\Software\`} {
		if rest, ok := strings.CutPrefix(path, root); ok {
			return []string{path, root + `WOW6432Node\` + rest}
		}
	}
	return []string{path}
}

// places opens keys, see [found].
func places(s *location.Survey, paths ...string) []place { return found(s, location.At(paths...)) }

// found opens keys in both views, and for every user where one begins with HKCU. That one is
// absent is no failure.
func found(s *location.Survey, at []location.Place) []place {
	var found []place
	for _, p := range at {
		for view, path := range views(p.Path) {
			rest, personal := strings.CutPrefix(path, `HKCU`)
			if !personal {
				if k := key(s, path); k != nil {
					found = append(found, place{Key: k, narrow: view == 1, names: p.Values})
				}
				continue
			}
			for n := range s.Machine.Users {
				u := &s.Machine.Users[n]
				if k := key(s, `HKU\`+u.SID+rest); k != nil {
					found = append(found, place{Key: k, user: u, narrow: view == 1, names: p.Values})
				}
			}
		}
	}
	return found
}

// key opens one key. That it is absent is no failure; that it cannot be read is
// reported.
func key(s *location.Survey, path string) *registry.Key {
	k, err := s.Machine.Key(path)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			// A hive that cannot be opened is named once, not each of its keys.
			if hive, ok := registry.HiveOf(err); ok {
				path = hive
			}
			s.Skip(path, err)
		}
		return nil
	}
	s.Found()
	return k
}

// values reads the values of a key and reports those that cannot be read.
func values(s *location.Survey, k *registry.Key) []regf.Value {
	v, err := k.Values()
	s.Skip(k.Path, err)
	return v
}

// subkeys opens the keys below one and reports those that cannot be read.
func subkeys(s *location.Survey, k *registry.Key) []*registry.Key {
	keys, err := k.Subkeys()
	s.Skip(k.Path, err)
	return keys
}

// text words a value for a person: texts as they are, the rest by its type.
func text(v regf.Value) string {
	if v.Type == regf.MultiString {
		return strings.Join(v.Strings(), ", ")
	}
	if v.IsText() {
		return v.Text()
	}
	return v.String()
}

// origin is what an item comes from: a key, or a file, and whose it is.
type origin struct {
	path   string
	user   *account.User
	narrow bool // a 32-bit program loads it
}

// origin is the place as the origin of an item.
func (p place) origin() origin { return origin{p.Path, p.user, p.narrow} }

// newItem begins an item.
func newItem(from origin, name, command string) *location.Item {
	return &location.Item{
		Entry: autostart.Entry{
			Name: name, State: autostart.Enabled, Command: command, User: userName(from.user),
			Source: autostart.Source{Path: from.path},
		},
		CommandLine: command, For: from.user, Narrow: from.narrow,
	}
}

// artifacts makes the list of what decides an item.
func artifacts(list ...artifact.Artifact) func() []artifact.Artifact {
	return func() []artifact.Artifact { return list }
}

// addValue reports a value as an entry that is turned off by taking it away.
func addValue(s *location.Survey, p place, v regf.Value, name string) *location.Item {
	item := newItem(p.origin(), name, text(v))
	item.Source.Key = v.Name
	a := artifact.RegistryValue(p.Path, v.Name)
	item.Artifacts = artifacts(a)
	item.Switcher = location.Park{Artifact: a}
	if !v.IsText() {
		item.CommandLine, item.Problems = "", []string{autostart.Unparsable}
	}
	return item
}

// id is what identifies an item of a place: the key without its user, so that
// the same entry of two people differs by its user only, and one of a running
// and a mounted machine is the same.
func id(p place, rest ...string) string {
	path := p.Path
	if p.user != nil {
		path = strings.TrimPrefix(path, `HKU\`+p.user.SID)
	}
	return strings.ToLower(path + "\x00" + strings.Join(rest, "\x00"))
}

// sameCommand compares commands as far as only their spelling differs: case, quotes, variables, and the
// folder of a program that Windows has in just that folder.
func sameCommand(s *location.Survey, a, b string) bool { return normal(s, a) == normal(s, b) }

// besideSystem are the programs of Windows that lie in its own folder; all others lie in System32.
var besideSystem = []string{"explorer.exe", "regedit.exe", "notepad.exe", "hh.exe", "splwow64.exe"}

// normal is a command in the one spelling that all of the same meaning have in common.
func normal(s *location.Survey, command string) string {
	windows := strings.ToLower(s.Machine.Windows())
	t := strings.ToLower(s.Machine.Expand(command, nil))
	t = strings.ReplaceAll(strings.Trim(t, ` ,"`), `"`, "")
	for _, prefix := range []string{`\??\`, `\\?\`} {
		t = strings.TrimPrefix(t, prefix)
	}
	if rest, ok := strings.CutPrefix(t, `\systemroot\`); ok {
		t = windows + `\` + rest
	} else if strings.HasPrefix(t, `system32\`) {
		t = windows + `\` + t
	}
	program, _, _ := strings.Cut(t, " ")
	switch {
	case strings.ContainsAny(program, `\/:%`):
	case slices.Contains(besideSystem, program):
		t = windows + `\` + t
	default:
		t = windows + `\system32\` + t
	}
	return t
}

// normalProgram is the program of a command in that spelling; it has no blanks in its path.
func normalProgram(s *location.Survey, command string) string {
	program, _, _ := strings.Cut(normal(s, command), " ")
	return program
}

// endings are what a program's name in a command ends in.
var endings = []string{".exe", ".com", ".bat", ".cmd", ".dll", ".vbs", ".js", ".ps1", ".scr", ".cpl"}

// shortName names an item of a list by its program, without folder and options.
func shortName(word string) string {
	word = strings.TrimSpace(word)
	program := word
	if quoted, ok := strings.CutPrefix(word, `"`); ok {
		program, _, _ = strings.Cut(quoted, `"`)
	} else {
		cut := len(word)
		lower := windata.LowerASCII(word)
		for _, ending := range endings {
			if k := strings.Index(lower, ending+" "); k >= 0 {
				cut = min(cut, k+len(ending))
			}
		}
		if cut == len(word) && !artifact.OnDrive(word) {
			if k := strings.IndexByte(word, ' '); k > 0 {
				cut = k
			}
		}
		program = word[:cut]
	}
	if name := program[strings.LastIndexByte(program, '\\')+1:]; name != "" {
		return name
	}
	return word
}
