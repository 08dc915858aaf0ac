package linux

import (
	"errors"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/inifile"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/account"
)

// Files that are no entries and still decide what starts: a planted file, a user who is let in by nobody, an image
// that brings units.

// lingerFolder has a file for each user whose own units start with the machine, loginctl(1).
const lingerFolder = "/var/lib/systemd/linger"

// lingering marks the units of a user that start with the machine, and not at sign-in.
func lingering(s *location.Survey, u account.User) func(*location.Item) {
	return func(item *location.Item) {
		file := path.Join(lingerFolder, u.Name)
		if !has(s, file) {
			return
		}
		item.AddFacts(func() []location.Fact {
			return []location.Fact{{Name: "starts without sign-in", Value: "with the machine, because the user " +
				"lingers (loginctl disable-linger " + autostart.Text(u.Name) + " ends that)", Basis: file}}
		})
		if item.When == "" && item.Stage == "" {
			item.When = "at startup, without a sign-in"
		}
	}
}

// imageFolders are where images of system extensions lie, systemd-sysext(8), portablectl(1).
var imageFolders = []string{"/etc/extensions", "/run/extensions", "/var/lib/extensions", "/usr/local/lib/extensions",
	"/var/lib/confexts", "/run/confexts", "/usr/local/lib/confexts", "/var/lib/portables", "/etc/portables"}

var errImage = errors.New("an image that can bring units of its own; lockback does not look at those")

// skipImages reports the images that can bring units.
func skipImages(s *location.Survey) {
	for _, folder := range imageFolders {
		entries, _ := s.ReadDir(folder)
		for _, e := range entries {
			s.Skip(path.Join(folder, e.Name()), errImage)
		}
	}
}

// signsIn tells whom a display manager lets in without being asked, by the settings of each.
func signsIn(s *location.Survey, name string) []location.Fact {
	var facts []location.Fact
	for _, dm := range []struct {
		units         []string
		files         []string
		sections, key string
	}{
		{[]string{"lightdm.service"}, []string{"/etc/lightdm/lightdm.conf.d/*.conf", "/etc/lightdm/lightdm.conf"},
			"Seat", "autologin-user"},
		{[]string{"gdm.service", "gdm3.service"}, []string{"/etc/gdm3/daemon.conf", "/etc/gdm3/custom.conf",
			"/etc/gdm/custom.conf"}, "daemon", "AutomaticLogin"},
		{[]string{"sddm.service"}, []string{"/etc/sddm.conf.d/*.conf", "/etc/sddm.conf"}, "Autologin", "User"},
		{[]string{"greetd.service"}, []string{"/etc/greetd/config.toml"}, "initial_session", "user"},
	} {
		if !slices.Contains(dm.units, name) {
			continue
		}
		for _, pattern := range dm.files {
			for _, file := range s.Expand("/", pattern, false) {
				content, err := s.ReadFile(file, 1<<20)
				if err != nil {
					continue
				}
				for _, section := range inifile.Parse(content) {
					if user := section.Get(dm.key); user != "" && strings.HasPrefix(section.Name, dm.sections) &&
						!strings.EqualFold(section.Get("AutomaticLoginEnable"), "false") {
						facts = append(facts, location.Fact{Name: "signs in by itself", Value: autostart.Text(user),
							Basis: file})
					}
				}
			}
		}
	}
	return facts
}

// tmpfilesPlaces are those of tmpfiles.d(5): of each name the first counts.
var tmpfilesPlaces = location.Chain("tmpfiles.d", ".conf")

// planted are the files that a list of systemd-tmpfiles makes at each start, if they are missing or with its own
// content, to the list that says so: types f, w, C and L of tmpfiles.d(5).
func planted(s *location.Survey) map[string]string {
	return s.Shared("files that are planted", func() any {
		files := map[string]string{}
		s.Each(tmpfilesPlaces, func(f location.Found) {
			if f.Masked != "" {
				return
			}
			unix.Lines{Comments: "#"}.EachLine(s, f, func(line string) {
				fields := strings.Fields(line)
				if len(fields) > 1 && strings.Contains("fwCL", fields[0][:1]) && path.IsAbs(fields[1]) {
					files[path.Clean(unquoted(fields[1]))] = f.Path
				}
			})
		})
		return files
	}).(map[string]string)
}

// comesBack says about an entry whose file is planted that it comes back at the next start.
func comesBack(s *location.Survey, item *location.Item) {
	list, ok := planted(s)[item.Source.Path]
	if !ok {
		return
	}
	item.AddFacts(func() []location.Fact {
		return []location.Fact{{Name: "comes back", Value: "every start of the machine makes it again",
			Basis: list}}
	})
	if item.Mode == "" {
		item.Mode = "made again at each start by " + list
	}
}
