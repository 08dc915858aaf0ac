package linux

import (
	"path"
	"slices"
	"strings"

	"lockback/core/format/inifile"
	"lockback/core/location"
)

// kdedFolders are where the modules of KDE's daemon lie.
var kdedFolders = []string{"/usr/lib/*-linux-gnu/qt5/plugins/kf5/kded", "/usr/lib/*-linux-gnu/qt6/plugins/kf6/kded",
	"/usr/lib/qt/plugins/kf5/kded", "/usr/lib/qt6/plugins/kf6/kded", "/usr/lib64/qt5/plugins/kf5/kded",
	"/usr/lib64/qt6/plugins/kf6/kded"}

// kdedWhy is why a module has no switch: what is off is each user's.
const kdedWhy = "KDE's own settings, Background Services, turn it off for a user"

// describeKded says for whom a module of KDE's daemon is turned off: kded5rc and kded6rc have a section for it
// whose autoload is false.
func describeKded(s *location.Survey, f location.Found, item *location.Item) {
	name := strings.TrimSuffix(path.Base(f.Path), ".so")
	item.Name, item.When = name, "with KDE's daemon"
	off := s.Shared("modules of KDE's daemon that are off", func() any { return kdedOff(s) }).(map[string][]string)[name]
	if len(off) > 0 {
		item.Mode = "not for " + namesOf(off)
	}
}

// kdedOff are the modules that users have turned off, to their names.
func kdedOff(s *location.Survey) map[string][]string {
	off := map[string][]string{}
	for _, u := range s.Machine.Users {
		for _, file := range []string{"kded5rc", "kded6rc"} {
			content, err := s.ReadFile(path.Join(u.Home, ".config", file), 1<<20)
			if err != nil {
				continue
			}
			for _, section := range inifile.Parse(content) {
				module, ok := strings.CutPrefix(section.Name, "Module-")
				if ok && section.Get("autoload") == "false" && !slices.Contains(off[module], u.Name) {
					off[module] = append(off[module], u.Name)
				}
			}
		}
	}
	return off
}
