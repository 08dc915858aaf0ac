package linux

import (
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/inifile"
	"lockback/core/location"
)

// kdedFolders are where the modules of KDE's daemon lie.
var kdedFolders = []string{"/usr/lib/*-linux-gnu/qt5/plugins/kf5/kded", "/usr/lib/*-linux-gnu/qt6/plugins/kf6/kded", "/usr/lib/qt/plugins/kf5/kded", "/usr/lib/qt6/plugins/kf6/kded", "/usr/lib64/qt5/plugins/kf5/kded", "/usr/lib64/qt6/plugins/kf6/kded"}

// kdedWhy is why a module has no switch: what is off is each user's.
const kdedWhy = "KDE's own settings, Background Services, turn it off for a user"

// describeKded says for whom a module of KDE's daemon is turned off: kded5rc and kded6rc have a section for it
// whose autoload is false.
func describeKded(s *location.Survey, f location.Found, item *location.Item) {
	name := strings.TrimSuffix(path.Base(f.Path), ".so")
	item.Name, item.When = name, "with KDE's daemon"
	var off []string
	for _, u := range s.Machine.Users {
		for _, file := range []string{"kded5rc", "kded6rc"} {
			content, err := s.ReadFile(path.Join(u.Home, ".config", file), 1<<20)
			if err != nil {
				continue
			}
			for _, section := range inifile.Parse(content) {
				if section.Name == "Module-"+name && section.Get("autoload") == "false" {
					off = append(off, u.Name)
				}
			}
		}
	}
	if len(off) > 0 {
		item.Mode = "not for " + autostart.Text(strings.Join(off, ", "))
	}
}
