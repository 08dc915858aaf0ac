package windows

import (
	"iter"
	"path"
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

// Behaviours of an add-in, as the maker's documents number them.
var addinBehaviours = map[uint64]string{0: "unloaded", 1: "loaded by hand", 2: "not loaded at start", 3: "at start",
	8: "on demand", 9: "on demand, loaded", 16: "at the next start of the program only"}

// officeFolders are where files are opened from when an application starts.
var officeFolders = []string{`%APPDATA%\Microsoft\Excel\XLSTART`, `%APPDATA%\Microsoft\Word\STARTUP`, addIns}

// chosenFolders are the settings by which a user has files opened from one more folder.
var chosenFolders = []struct{ key, value string }{{`Excel\Options`, "AltStartup"}, {`Word\Options`, "STARTUP-PATH"}}

func readOffice(s *location.Survey, at []location.Place) {
	for _, root := range found(s, at) {
		for _, app := range subkeys(s, root.Key) {
			list, err := app.Subkey("Addins")
			if err != nil {
				continue
			}
			for _, k := range subkeys(s, list) {
				behaviour, ok := k.Number("LoadBehavior")
				if !ok {
					continue
				}
				p := place{Key: k, user: root.user, narrow: root.narrow}
				name := k.Text("FriendlyName")
				if name == "" {
					name = k.Name()
				}
				item := newItem(p.origin(), name, k.Text("Manifest"))
				item.CommandLine = ""
				if clsid := progID(s, p, k.Name()); clsid != "" && item.Command == "" {
					c := classOf(s, p, clsid)
					item.Command, item.CommandLine = c.library, `"`+c.library+`"`
				}
				item.Mode = addinBehaviours[behaviour]
				item.Source.Key = "LoadBehavior"
				item.Artifacts = artifacts(artifact.RegistryValue(k.Path, "LoadBehavior"))
				item.Switcher = number{key: k.Path, name: "LoadBehavior", on: 3, off: 2}
				officesOwnWord(s, item, app.Name(), k.Name())
				if !loadedAtStart(behaviour) {
					item.State = autostart.Disabled
				}
				s.Add(id(p), item)
			}
		}
	}
}

// officeVersions are the keys below Software\Microsoft\Office that are versions, with the key of a user.
func officeVersions(s *location.Survey, u *account.User) (keys []*registry.Key) {
	k, err := s.Machine.Key(`HKU\` + u.SID + `\Software\Microsoft\Office`)
	if err != nil {
		return nil
	}
	for _, v := range subkeys(s, k) {
		if strings.Trim(v.Name(), "0123456789.") == "" {
			keys = append(keys, v)
		}
	}
	return keys
}

// officesOwnWord says about an add-in for whom Office does not load it: whose program turned it off after it had
// crashed, and who has a setting of their own for it. Where that is the user of the entry, or every user, it is off.
func officesOwnWord(s *location.Survey, item *location.Item, app, name string) {
	var crashed, own []string
	concerned := 0
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		if !strings.HasPrefix(u.SID, "S-1-5-21-") || item.For != nil && item.For != u {
			continue
		}
		concerned++
		if disabledByOffice(s, u, app, name, strings.Trim(item.CommandLine, `"`)) {
			crashed = append(crashed, u.Name)
			continue
		}
		k, err := s.Machine.Key(`HKU\` + u.SID + `\Software\Microsoft\Office\` + app + `\Addins\` + name)
		if item.For != nil || err != nil {
			continue
		}
		if behaviour, known := k.Number("LoadBehavior"); known && !loadedAtStart(behaviour) {
			own = append(own, u.Name)
		}
	}
	const byOffice = "turned off by Office after a crash"
	switch {
	case len(crashed) > 0 && len(crashed) == concerned:
		passedOver(item, byOffice)
	case len(crashed) > 0:
		item.Mode += ", " + byOffice + " for " + strings.Join(crashed, ", ")
	}
	if len(own) > 0 {
		item.Mode += ", not for " + strings.Join(own, ", ")
	}
}

// loadedAtStart reports whether a LoadBehavior has an add-in loaded when its program starts.
func loadedAtStart(behaviour uint64) bool { return behaviour == 3 || behaviour == 9 || behaviour == 16 }

// disabledByOffice reports whether an Office program has an add-in on its list of items that it turned off: values
// with three numbers, and the file and the name of the item behind them, in small letters.
func disabledByOffice(s *location.Survey, u *account.User, app, name, library string) bool {
	const numbers = 12
	for _, version := range officeVersions(s, u) {
		list, err := s.Machine.Key(version.Path + `\` + app + `\Resiliency\DisabledItems`)
		if err != nil {
			continue
		}
		for _, v := range values(s, list) {
			if len(v.Data) < numbers {
				continue
			}
			for _, text := range strings.Split(windata.Decode(v.Data[numbers:]), "\x00") {
				if text != "" && (strings.EqualFold(text, library) || strings.EqualFold(text, name)) {
					return true
				}
			}
		}
	}
	return false
}

// readOpened reports what Excel opens when it starts: values OPEN, OPEN1 and so on, with options before a file, which
// is looked for among the user's add-ins where it has no folder.
func readOpened(s *location.Survey) {
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		for p, all := range opens(s, u) {
			for _, v := range all {
				item := addValue(s, p, v, v.Name)
				file := openedFile(v.Text())
				if !strings.ContainsAny(file, `\:`) {
					file = s.Machine.Expand(addIns, u) + `\` + file
				}
				item.Name, item.CommandLine, item.Mode = shortName(`"`+file+`"`), `"`+file+`"`,
					"opened when Excel starts"
				if len(all) > 1 {
					item.Switcher = location.NoSwitch{Why: "Excel numbers what it opens, and stops at a number " +
						"that is missing; take it out in Excel's list of add-ins"}
				}
				s.Add(id(p, v.Name, strings.ToLower(v.Text())), item)
			}
		}
	}
}

// addIns is where Office looks for what a user can choose as an add-in.
const addIns = `%APPDATA%\Microsoft\AddIns`

// isOpen reports whether a value of Excel's options is one of those that name a file.
func isOpen(name string) bool {
	number, ok := strings.CutPrefix(strings.ToUpper(name), "OPEN")
	return ok && strings.Trim(number, "0123456789") == ""
}

// openedFile is the file of such a value, behind its options: /R "C:\x.xlam".
func openedFile(text string) string {
	text = strings.TrimSpace(text)
	for strings.HasPrefix(text, "/") {
		_, text, _ = strings.Cut(text, " ")
		text = strings.TrimSpace(text)
	}
	return strings.Trim(text, `"`)
}

// opened are the names, in small letters, of the files that Excel opens for a user.
func opened(s *location.Survey, u *account.User) map[string]bool {
	names := map[string]bool{}
	for _, all := range opens(s, u) {
		for _, v := range all {
			names[strings.ToLower(shortName(`"`+openedFile(v.Text())+`"`))] = true
		}
	}
	return names
}

// opens are a user's values of Excel's options that name a file, for each version of Office.
func opens(s *location.Survey, u *account.User) iter.Seq2[place, []regf.Value] {
	return func(yield func(place, []regf.Value) bool) {
		for _, version := range officeVersions(s, u) {
			k, err := s.Machine.Key(version.Path + `\Excel\Options`)
			if err != nil {
				continue
			}
			all := slices.DeleteFunc(values(s, k), func(v regf.Value) bool { return !isOpen(v.Name) || !v.IsText() })
			if !yield(place{Key: k, user: u}, all) {
				return
			}
		}
	}
}

// officeTest names what Office loads for a test of its own, which a desktop has no use for.
func officeTest(_ *location.Survey, item *location.Item) { item.Name = "Office test" }

func readOfficeFolders(s *location.Survey) {
	for _, programs := range []string{`%ProgramFiles%`, `%ProgramFiles(x86)%`} {
		for _, below := range []string{`\Microsoft Office`, `\Microsoft Office\root`} {
			office := s.Machine.Canonical(s.Machine.Expand(programs, nil) + below)
			for _, e := range s.Dir(office) {
				if number, ok := strings.CutPrefix(strings.ToLower(e.Name()), "office"); !ok || number == "" ||
					strings.Trim(number, "0123456789") != "" {
					continue
				}
				for _, name := range []string{"XLSTART", "STARTUP"} {
					readParkedFiles(s, nil, s.Machine.Canonical(office+`\`+e.Name()+`\`+name), nil)
				}
			}
		}
	}
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		chosen := opened(s, u)
		for _, dir := range officeFolders {
			s.Adjusting(func(item *location.Item) {
				ending := strings.ToLower(path.Ext(item.Name))
				if dir == addIns && slices.Contains(excelAddIns, ending) && !chosen[strings.ToLower(item.Name)] {
					passedOver(item, "not opened: Excel's options do not name it")
				}
			}, func(s *location.Survey) { readParkedFiles(s, u, s.Machine.Canonical(s.Machine.Expand(dir, u)), nil) })
		}
		for _, version := range officeVersions(s, u) {
			for _, c := range chosenFolders {
				if k, err := s.Machine.Key(version.Path + `\` + c.key); err == nil {
					if dir := s.Machine.Expand(k.Text(c.value), u); artifact.OnDrive(dir) {
						readParkedFiles(s, u, s.Machine.Canonical(strings.TrimRight(dir, `\`)), nil)
					}
				}
			}
		}
	}
}

// excelAddIns are the endings of add-ins of Excel's.
var excelAddIns = []string{".xla", ".xlam", ".xll"}
