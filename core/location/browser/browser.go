// Package browser finds the extensions in people's browser profiles. The browsers keep them in
// the same way on every system; where the profiles lie, and how an extension is known, is the
// system's own:
//
//	browser.System{Join: path.Join}.Chromium(s, "Chromium", "/home/ines/.config/chromium", func(e browser.Extension) {
//		fmt.Println(e.Name, e.Mode)
//	})
package browser

import (
	"cmp"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"lockback/core/format/webextension"
	"lockback/core/location"
	"lockback/core/machine/files"
)

// System is how one operating system names things.
type System struct {
	Join func(elements ...string) string // makes a path of folders and a name
}

// Extension is one that a profile has.
type Extension struct {
	ID, Name string
	Mode     string // the browser and the version, for a person
	List     string // the folder or the file of the profile that has all of them
	Folder   string // its own; empty where it has none
	File     string // what it was read from
	Active   bool   // as far as the profile tells
	BuiltIn  bool   // it came with the browser
}

// idLength is how long the name is that Chromium gives to an extension.
const idLength = 32

// Chromium finds the extensions of all profiles in a data folder of a browser of Chromium's
// family: a folder for each, in it a folder for each version. Which of them are off, and which lie
// elsewhere, stands in the profile's settings, which the browser signs: they are read only.
func (sys System) Chromium(s *location.Survey, browser, data string, visit func(Extension)) {
	entries := s.Dir(data)
	if slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == preferences[1] }) {
		sys.chromiumProfile(s, browser, data, visit) // Opera's, which has one profile
	}
	for _, profile := range entries {
		if profile.IsDir() {
			sys.chromiumProfile(s, browser, sys.Join(data, profile.Name()), visit)
		}
	}
}

// preferences are the files of a profile that hold its settings; of an extension in both, the first counts.
var preferences = []string{"Secure Preferences", "Preferences"}

func (sys System) chromiumProfile(s *location.Survey, browser, profile string, visit func(Extension)) {
	list, found, settings := sys.Join(profile, "Extensions"), map[string]bool{}, map[string]webextension.Setting{}
	from := map[string]string{} // the file that a setting stands in
	for _, name := range preferences {
		file := sys.Join(profile, name)
		content, err := s.ReadFile(file, files.MaxImageSize)
		if err == nil {
			var more map[string]webextension.Setting
			more, err = webextension.ParsePreferences(content)
			if err != nil {
				err = &fs.PathError{Op: "read", Path: file, Err: err}
			}
			for id, setting := range more {
				if _, known := settings[id]; !known {
					settings[id], from[id] = setting, file
				}
			}
		}
		s.Skip(file, err)
	}
	tell := func(e Extension, version string) {
		// That an extension came with the browser is not believed: anyone who writes the profile can say so.
		setting := settings[e.ID]
		e.Mode, e.Active = mode(browser, version), !setting.Off
		switch {
		case setting.ByPolicy():
			e.Mode += ", forced by a policy"
		case setting.Origin == webextension.Unpacked:
			e.Mode += ", from a folder of its own"
		}
		visit(e)
	}
	for _, e := range s.Dir(list) {
		if len(e.Name()) != idLength {
			continue
		}
		versions := s.Dir(sys.Join(list, e.Name()))
		if len(versions) == 0 {
			continue
		}
		folder := sys.Join(list, e.Name(), versions[len(versions)-1].Name())
		file := sys.Join(folder, "manifest.json")
		content, ok := s.File(file)
		if !ok {
			continue
		}
		m := webextension.ParseManifest(content)
		found[e.Name()] = true
		tell(Extension{ID: e.Name(), Name: cmp.Or(m.Name, settings[e.Name()].Name, e.Name()), List: list,
			Folder: folder, File: file}, m.Version)
	}
	// What developers load lies anywhere, and so does what hides.
	for _, id := range slices.Sorted(maps.Keys(settings)) {
		setting := settings[id]
		if found[id] || setting.Origin != webextension.Unpacked || setting.Path == "" || len(id) != idLength {
			continue
		}
		e := Extension{ID: id, List: list, Folder: setting.Path, File: from[id], Name: setting.Name}
		version := setting.Version
		if content, err := s.ReadFile(sys.Join(setting.Path, "manifest.json"), files.MaxFileSize); err == nil {
			m := webextension.ParseManifest(content)
			e.File, e.Name, version = sys.Join(setting.Path, "manifest.json"), cmp.Or(m.Name, e.Name),
				cmp.Or(m.Version, version)
		}
		e.Name = cmp.Or(e.Name, id)
		tell(e, version)
	}
}

// Firefox finds the extensions of all profiles in a folder of them.
func (sys System) Firefox(s *location.Survey, profiles string, visit func(Extension)) {
	for _, profile := range s.Dir(profiles) {
		if !profile.IsDir() {
			continue
		}
		file := sys.Join(profiles, profile.Name(), "extensions.json")
		content, err := s.ReadFile(file, files.MaxImageSize)
		if err != nil {
			s.Skip(file, err)
			continue
		}
		addons, err := webextension.ParseAddons(content)
		if err != nil {
			s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: err})
			continue
		}
		for _, a := range addons {
			visit(Extension{ID: a.ID, Name: a.Name(), Mode: mode("Firefox", a.Version), List: file, File: file,
				Active: a.Active, BuiltIn: a.BuiltIn()})
		}
	}
}

// mode words which browser an extension is of, and which version it has.
func mode(browser, version string) string {
	return strings.TrimSpace(browser + " extension " + version)
}

// HostProgram is the program that the description of a native messaging host names, relative to
// the description or not; empty where it names none.
func (sys System) HostProgram(dir string, description []byte, absolute func(string) bool) string {
	program := webextension.HostPath(description)
	if program != "" && dir != "" && !absolute(program) {
		program = sys.Join(dir, program)
	}
	return program
}
