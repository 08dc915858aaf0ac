// Package windows declares the places that a Windows desktop starts things from:
// one row of [Locations] each, with the reader that understands it. Most rows are
// one of a few kinds: values of a key, items of a list, keys that each stand for
// a DLL, names that are CLSIDs. What is peculiar has a file of its own.
package windows

import (
	"errors"
	"io/fs"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine"
)

// Roots of paths below.
const (
	cv   = machine.KeyCV
	nt   = machine.KeyNT
	ccs  = machine.KeyCCS
	ucv  = `HKCU\Software\Microsoft\Windows\CurrentVersion`
	unt  = `HKCU\Software\Microsoft\Windows NT\CurrentVersion`
	sm   = ccs + `\Control\Session Manager`
	soft = `HKLM\SOFTWARE`
)

// place is a key that was found: whose it is, and in which view.
type place struct {
	*machine.RegistryKey
	user   *machine.User
	narrow bool // the 32-bit view
}

// userName is the name in an entry's user column.
func userName(u *machine.User) string {
	if u == nil {
		return ""
	}
	return u.Name
}

// shared are keys that both views have in common, by the system's list of keys
// affected by WOW64.
var shared = []string{nt + `\Image File Execution Options`, cv + `\Policies`, cv + `\Group Policy`, nt + `\ProfileList`, soft + `\Policies`}

// views returns the path of a key in the 64-bit and in the 32-bit view. Only
// what lies below SOFTWARE has two.
func views(path string) []string {
	for _, s := range shared {
		if strings.HasPrefix(path, s) {
			return []string{path}
		}
	}
	for _, root := range []string{`HKLM\SOFTWARE\`, `HKCU\Software\`} {
		if rest, ok := strings.CutPrefix(path, root); ok {
			return []string{path, root + `WOW6432Node\` + rest}
		}
	}
	return []string{path}
}

// places opens a key in both views, and for every person where it begins with
// HKCU. That it is absent is no failure.
func places(s *location.Survey, paths ...string) []place {
	var found []place
	for _, path := range paths {
		for view, path := range views(path) {
			rest, personal := strings.CutPrefix(path, `HKCU`)
			if !personal {
				if k := key(s, path); k != nil {
					found = append(found, place{k, nil, view == 1})
				}
				continue
			}
			for n := range s.Machine.Users {
				u := &s.Machine.Users[n]
				if k := key(s, `HKU\`+u.SID+rest); k != nil {
					found = append(found, place{k, u, view == 1})
				}
			}
		}
	}
	return found
}

// key opens one key. That it is absent is no failure; that it cannot be read is
// reported.
func key(s *location.Survey, path string) *machine.RegistryKey {
	k, err := s.Machine.Key(path)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			// A hive that cannot be opened is named once, not each of its keys.
			if hive, ok := machine.HiveOf(err); ok {
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
func values(s *location.Survey, k *machine.RegistryKey) []regf.Value {
	v, err := k.Values()
	s.Skip(k.Path, err)
	return v
}

// subkeys opens the keys below one and reports those that cannot be read.
func subkeys(s *location.Survey, k *machine.RegistryKey) []*machine.RegistryKey {
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
	user   *machine.User
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
func artifacts(list ...machine.Artifact) func() []machine.Artifact {
	return func() []machine.Artifact { return list }
}

// addValue reports a value as an entry that is switched off by taking it away.
func addValue(s *location.Survey, p place, v regf.Value, name string) *location.Item {
	item := newItem(p.origin(), name, text(v))
	item.Source.Key = v.Name
	a := machine.RegistryValue(p.Path, v.Name)
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

// parkedValues reads keys each of whose values is an entry.
func parkedValues(paths ...string) func(*location.Survey) {
	return func(s *location.Survey) {
		for _, p := range places(s, paths...) {
			for _, v := range values(s, p.RegistryKey) {
				if v.Name == "" && text(v) == "" {
					continue
				}
				name := v.Name
				if name == "" {
					name = "(default)"
				}
				s.Add(id(p, v.Name), addValue(s, p, v, name))
			}
		}
	}
}

// namedValues reads single values of keys. A value that the system has itself is
// passed over: usual gives what that is, for some names in small letters.
func namedValues(usual map[string]string, names []string, paths ...string) func(*location.Survey) {
	return func(s *location.Survey) {
		for _, p := range places(s, paths...) {
			for _, name := range names {
				v, err := p.Value(name)
				if err != nil || strings.TrimSpace(text(v)) == "" {
					continue
				}
				item := addValue(s, p, v, name)
				key := id(p, name)
				if u, ok := usual[strings.ToLower(name)]; ok {
					if sameCommand(s, text(v), u) {
						item.OSPart, item.Switcher = true, location.NoSwitch{Why: "it is the system's own setting"}
					} else {
						item.Problems = append(item.Problems, autostart.NotDefault)
						item.Switcher = single{trim{part.Item{Key: p.Path, Value: v.Name, Text: strings.TrimSpace(v.Text())}, u}}
						// The system's own value, which takes its place, is another entry.
						key = id(p, name, strings.ToLower(strings.TrimSpace(v.Text())))
					}
				}
				s.Add(key, item)
			}
		}
	}
}

// sameCommand compares commands as far as only their spelling differs: case,
// quotes, variables and the system's folder.
func sameCommand(s *location.Survey, a, b string) bool {
	norm := func(t string) string {
		t = strings.ToLower(s.Machine.Expand(t, nil))
		t = strings.ReplaceAll(strings.Trim(t, ` ,"`), `"`, "")
		t = strings.TrimPrefix(t, strings.ToLower(s.Machine.Windows())+`\system32\`)
		return strings.TrimPrefix(t, strings.ToLower(s.Machine.Windows())+`\`)
	}
	return norm(a) == norm(b)
}

// subkeyDLLs reads keys below which each key stands for a DLL or program that
// one of its values names. The key is taken away to switch it off.
func subkeyDLLs(value string, paths ...string) func(*location.Survey) {
	return func(s *location.Survey) {
		for _, p := range places(s, paths...) {
			for _, k := range subkeys(s, p.RegistryKey) {
				v, err := k.Value(value)
				if err != nil || text(v) == "" {
					continue
				}
				at := place{k, p.user, p.narrow}
				item := newItem(at.origin(), k.Name(), text(v))
				item.Source.Key = value
				a := machine.RegistryTree(k.Path)
				item.Artifacts = artifacts(a)
				item.Switcher = location.Park{Artifact: a}
				s.Add(id(at), item)
			}
		}
	}
}

// listItems reads values that hold lists. Items that the system has itself are
// its own parts; any other is an entry that is trimmed away.
type list struct {
	paths     []string
	value     string
	separator string   // "" for a REG_MULTI_SZ
	usual     []string // small letters, without the system's folder
	fallback  string
	guarded   string
}

func listItems(rows ...list) func(*location.Survey) {
	return func(s *location.Survey) {
		for _, row := range rows {
			for _, p := range places(s, row.paths...) {
				v, err := p.Value(row.value)
				if err != nil {
					continue
				}
				readList(s, p, v, row)
			}
		}
	}
}

func readList(s *location.Survey, p place, v regf.Value, row list) {
	for _, word := range part.SplitList(v, row.separator) {
		item := newItem(p.origin(), word, word)
		item.Source.Key = v.Name
		item.Guarded = row.guarded
		item.Artifacts = artifacts(machine.RegistryValue(p.Path, v.Name))
		item.Switcher = trim{part.Item{Key: p.Path, Value: v.Name, Text: word, Separators: row.separator}, row.fallback}
		item.Name = shortName(word)
		for _, u := range row.usual {
			if sameCommand(s, word, u) {
				item.OSPart, item.Guarded = true, needed
				if row.fallback != "" {
					item.Switcher = location.NoSwitch{Why: "it is the system's own, and what stays when all else is taken out"}
				}
				break
			}
		}
		if len(row.usual) > 0 && !item.OSPart {
			item.Problems = append(item.Problems, autostart.NotDefault)
		}
		s.Add(id(p, v.Name, strings.ToLower(word)), item)
	}
}

// needed guards what a session cannot do without.
const needed = "needed to start or to sign in"

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
		if cut == len(word) && !machine.OnDrive(word) {
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

// single is the switch of a value that names one thing only, and is all the entry's.
type single struct{ trim }

// Part is none.
func (single) Part() part.Part { return nil }

// adjusting is [location.Survey.Adjusting] for a reader.
func adjusting(adjust func(*location.Item), read func(*location.Survey)) func(*location.Survey) {
	return func(s *location.Survey) { s.Adjusting(adjust, read) }
}

// report makes a reader's items ones that are not switched.
func report(why string, read func(*location.Survey)) func(*location.Survey) {
	return adjusting(func(item *location.Item) { item.Switcher = location.NoSwitch{Why: why} }, read)
}

// byProgram names a reader's items by their programs.
func byProgram(read func(*location.Survey)) func(*location.Survey) {
	return adjusting(func(item *location.Item) { item.Name = shortName(item.Command) }, read)
}

// guard makes a reader's items guarded.
func guard(cost string, read func(*location.Survey)) func(*location.Survey) {
	return adjusting(func(item *location.Item) { item.Guarded = cost }, read)
}

// all runs several readers for one location.
func all(readers ...func(*location.Survey)) func(*location.Survey) {
	return func(s *location.Survey) {
		for _, read := range readers {
			read(s)
		}
	}
}
