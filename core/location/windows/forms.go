package windows

import (
	"cmp"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/artifact"
)

// parkedValues is the form of keys each of whose values is an entry, or each of some values that
// are named. One is turned off by taking it away.
type parkedValues struct {
	// usual is what the system has itself in some values, by their names in small letters.
	usual map[string]string
	// adjust says more of an item; nil if there is no more to say.
	adjust func(*location.Survey, *location.Item)
}

// Word is [autostart.Park].
func (parkedValues) Word() autostart.Switch { return autostart.Park }

// Read reports the values.
func (f parkedValues) Read(s *location.Survey, at []location.Place) {
	add := func(key string, item *location.Item) {
		if f.adjust != nil {
			f.adjust(s, item)
		}
		s.Add(key, item)
	}
	for _, p := range found(s, at) {
		if len(p.names) == 0 {
			for _, v := range values(s, p.Key) {
				if v.Name == "" && text(v) == "" {
					continue
				}
				add(id(p, v.Name), addValue(s, p, v, cmp.Or(v.Name, "(default)")))
			}
			continue
		}
		for _, name := range p.names {
			v, err := p.Value(name)
			if err != nil || strings.TrimSpace(text(v)) == "" {
				continue
			}
			item := addValue(s, p, v, name)
			key := id(p, name)
			if u, ok := f.usual[strings.ToLower(name)]; ok {
				if sameCommand(s, text(v), u) {
					item.Shipped, item.Switcher = true, location.NoSwitch{Why: "it is the system's own setting"}
				} else {
					item.Problems = append(item.Problems, autostart.NotDefault)
					item.Switcher = single{trim{part.Item{Key: p.Path, Value: v.Name,
						Text: strings.TrimSpace(v.Text())}, u}}
					// The system's own value, which takes its place, is another entry.
					key = id(p, name, strings.ToLower(strings.TrimSpace(v.Text())))
				}
			}
			add(key, item)
		}
	}
}

// parkedKeys is the form of keys below which each key stands for a DLL or program that one of its
// values names. The key is taken away to switch it off.
type parkedKeys struct {
	value string
	// titled says that the default value of the key is its name for people.
	titled bool
	// adjust says more of an item; nil if there is no more to say.
	adjust func(*location.Survey, *location.Item)
}

// Word is [autostart.Park].
func (parkedKeys) Word() autostart.Switch { return autostart.Park }

// Read reports the keys.
func (f parkedKeys) Read(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, k := range subkeys(s, p.Key) {
			v, err := k.Value(f.value)
			if err != nil || text(v) == "" {
				continue
			}
			at := place{Key: k, user: p.user, narrow: p.narrow}
			item := newItem(at.origin(), k.Name(), text(v))
			item.Source.Key = f.value
			a := artifact.RegistryTree(k.Path)
			item.Artifacts = artifacts(a)
			item.Switcher = location.Park{Artifact: a}
			if title := k.Text(""); f.titled && title != "" && !strings.HasPrefix(title, "@") {
				item.Name = title
			}
			if f.adjust != nil {
				f.adjust(s, item)
			}
			s.Add(id(at), item)
		}
	}
}

// lists is the form of values that hold lists, by the values' names. Items that the system has
// itself are its own parts; any other is an entry that is trimmed away.
type lists map[string]list

// list is how one value holds its items.
type list struct {
	separator string   // "" for a REG_MULTI_SZ
	usual     []string // small letters, without the system's folder
	fallback  string   // what stands there when nothing else does
	role      location.Role
	library   bool                                   // its items are libraries, whose ending may be left out
	adjust    func(*location.Survey, *location.Item) // says more of an item; nil if there is no more to say
}

// Word is [autostart.Trim].
func (lists) Word() autostart.Switch { return autostart.Trim }

// Read reports the items.
func (f lists) Read(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, name := range p.names {
			if v, err := p.Value(name); err == nil {
				readList(s, p, v, f[name])
			}
		}
	}
}

func readList(s *location.Survey, p place, v regf.Value, row list) {
	// What stands there when nothing else does has to be there, unless the list has it and keeps it: nobody
	// could sign in without it.
	row.fallback = s.Machine.Expand(row.fallback, nil)
	missing := ""
	words := part.SplitList(v, row.separator)
	own := slices.ContainsFunc(words, func(word string) bool {
		return slices.ContainsFunc(row.usual, func(u string) bool { return sameCommand(s, word, u) })
	})
	if file := strings.Trim(row.fallback, ","); !own && artifact.OnDrive(file) {
		if _, err := s.Machine.Stat(file); err != nil {
			missing = file
		}
	}
	for _, word := range words {
		item := newItem(p.origin(), word, word)
		if row.library && !strings.ContainsAny(word, `.\"`) && word != "" {
			item.CommandLine = word + ".dll"
		}
		item.Source.Key = v.Name
		item.Role = row.role
		item.Artifacts = artifacts(artifact.RegistryValue(p.Path, v.Name))
		item.Switcher = trim{part.Item{Key: p.Path, Value: v.Name, Text: word, Separators: row.separator}, row.fallback}
		item.Name = shortName(word)
		for _, u := range row.usual {
			if sameCommand(s, word, u) {
				item.Shipped, item.Role = true, location.Session
				if row.fallback != "" {
					item.Switcher = location.NoSwitch{Why: "it is the system's own, and what stays when all else " +
						"is taken out"}
				}
				break
			}
		}
		if missing != "" {
			item.Switcher = location.NoSwitch{Why: missing + " is not there, which would be left to sign in with"}
		}
		if len(row.usual) > 0 && !item.Shipped {
			item.Problems = append(item.Problems, autostart.NotDefault)
		}
		if row.adjust != nil {
			row.adjust(s, item)
		}
		s.Add(id(p, v.Name, strings.ToLower(word)), item)
	}
}

// single is the switch of a value that names one thing only, and is all the entry's.
type single struct{ trim }

// Part is none.
func (single) Part() part.Part { return nil }

// reported is a form whose entries are not switched, for a reason.
type reported struct {
	location.Form
	why string
}

// Word is [autostart.Report].
func (reported) Word() autostart.Switch { return autostart.Report }

// Read reports what the form finds.
func (f reported) Read(s *location.Survey, at []location.Place) {
	s.Adjusting(func(item *location.Item) { item.Switcher = location.NoSwitch{Why: f.why} },
		func(s *location.Survey) { f.Form.Read(s, at) })
}

// byProgram names an item by its program.
func byProgram(_ *location.Survey, item *location.Item) { item.Name = shortName(item.Command) }

// classKeys is the form of keys whose subkeys are classes, by their own name or by their default
// value. One is turned off by taking its key away.
type classKeys struct {
	// adjust says more of an item; nil if there is no more to say.
	adjust func(*location.Survey, *location.Item)
}

// Word is [autostart.Park].
func (classKeys) Word() autostart.Switch { return autostart.Park }

// Read reports the classes.
func (f classKeys) Read(s *location.Survey, at []location.Place) {
	eachClassKey(s, at, func(p place, item *location.Item, _ string) {
		parkKey(p, item)
		if f.adjust != nil {
			f.adjust(s, item)
		}
	})
}

// parkKey makes an item one that is turned off by taking its key away.
func parkKey(p place, item *location.Item) {
	a := artifact.RegistryTree(p.Path)
	item.Artifacts, item.Switcher = artifacts(a), location.Park{Artifact: a}
}

// eachClassKey reports classes that stand in keys of their own. What decides an item is made by
// decide.
func eachClassKey(s *location.Survey, at []location.Place, decide func(place, *location.Item, string)) {
	for _, p := range found(s, at) {
		for _, k := range subkeys(s, p.Key) {
			at := place{Key: k, user: p.user, narrow: p.narrow}
			clsid := k.Text("")
			if !isCLSID(clsid) {
				clsid = k.Name()
			}
			if !isCLSID(clsid) {
				continue
			}
			name := k.Name()
			if isCLSID(name) {
				name = k.Text("")
			}
			item := newClassItem(s, at, clsid, strings.TrimSpace(name))
			decide(at, item, clsid)
			s.Add(id(at), item)
		}
	}
}

// classValues is the form of keys whose values name classes: by their name, or by their data. One
// is turned off by taking its value away.
type classValues struct {
	// adjust says more of an item; nil if there is no more to say.
	adjust func(*location.Survey, *location.Item)
}

// Word is [autostart.Park].
func (classValues) Word() autostart.Switch { return autostart.Park }

// Read reports the classes.
func (f classValues) Read(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, v := range values(s, p.Key) {
			clsid, name := text(v), v.Name
			if !isCLSID(clsid) {
				clsid, name = v.Name, text(v)
			}
			if !isCLSID(clsid) {
				continue
			}
			item := newClassItem(s, p, clsid, name)
			item.Source.Key = v.Name
			a := artifact.RegistryValue(p.Path, v.Name)
			item.Artifacts, item.Switcher = artifacts(a), location.Park{Artifact: a}
			if f.adjust != nil {
				f.adjust(s, item)
			}
			s.Add(id(p, v.Name), item)
		}
	}
}
