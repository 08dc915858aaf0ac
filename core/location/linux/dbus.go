package linux

import (
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/artifact"
)

// Where dbus-daemon(1) looks for the services of its two buses, the first place first. Of a name that
// several have, the first counts.
var (
	systemBus = []string{"/usr/local/share/dbus-1/system-services", "/usr/share/dbus-1/system-services",
		"/lib/dbus-1/system-services", "/var/lib/snapd/dbus-1/system-services"}
	sessionBus = []string{"~/.local/share/dbus-1/services", "~/.local/share/flatpak/exports/share/dbus-1/services",
		"/usr/local/share/dbus-1/services", "/usr/share/dbus-1/services",
		"/var/lib/flatpak/exports/share/dbus-1/services", "/var/lib/snapd/dbus-1/services"}
)

// readBus reports the services of a bus: files that say what is started when something asks for a name.
func readBus(s *location.Survey, places []location.Place) {
	first := map[string]string{} // a user and a name, to the file that counts
	s.Each(places, func(f location.Found) {
		content, ok := s.File(f.Path)
		if !ok || path.Ext(f.Path) != ".service" {
			return
		}
		service := unitfile.Parse(content)
		name, exec := service.Last(busSection, "Name"), service.Last(busSection, "Exec")
		item := named(name, exec, strings.Fields(exec))
		item.State, item.Source, item.Artifacts, item.When = autostart.Enabled, autostart.Source{Path: f.Path},
			unix.Files(f.Path), "when something asks for "+name
		user := ""
		if f.User != nil {
			user = f.User.Name
			item.User, item.For = autostart.Text(user), f.User
		}
		unit := service.Last(busSection, "SystemdService")
		other := first[user+"\x00"+name]
		if other == "" {
			other = first["\x00"+name]
		}
		switch dir := path.Dir(f.Path); {
		case name == "" || exec == "" && unit == "":
			item.Name, item.When, item.Problems = path.Base(f.Path), "", []string{autostart.Unparsable}
			item.Switcher = location.NoSwitch{Why: "it is not understood"}
		case f.User != nil && !strings.Contains(f.Path, "/flatpak/"), strings.HasPrefix(dir, "/usr/local/"):
			item.Switcher = location.Park{Artifact: artifact.File(f.Path)}
		case strings.Contains(f.Path, "/flatpak/"):
			item.Switcher = location.NoSwitch{Why: "flatpak makes it for an app; remove the app"}
		case unit != "" && path.Base(exec) == "false":
			item.Switcher = location.NoSwitch{Why: "systemd starts it as " + autostart.Text(unit) + "; turn that off"}
			item.Argv = nil
		default:
			item.Artifacts = unix.Files(busOverride(f.Path), f.Path)
			item.Switcher = busSwitch{busOverride(f.Path), name}
		}
		if unit != "" {
			item.Mode = "by " + unit
		}
		if strings.HasPrefix(string(content), busMark) {
			first[user+"\x00"+name] = f.Path
			return // ours, before another one
		}
		if other != "" {
			item.State, item.Mode, item.Ignored = autostart.Disabled, "", other+" comes before it"
			if busOverride(f.Path) != other {
				item.Switcher = location.NoSwitch{Why: other + " comes before it"}
			} else if isBusMark(s, other) {
				item.Mode, item.Ignored = "overridden", ""
			}
		} else {
			first[user+"\x00"+name] = f.Path
		}
		s.Add(f.Key, item)
	})
}

const (
	busSection = "D-BUS Service"
	// busMark begins the file that stands before a vendor's and starts nothing.
	busMark = "# lockback:off\n"
)

// busOverride is where a file stands before a vendor's of the same bus.
func busOverride(file string) string {
	return path.Join("/usr/local/share/dbus-1", path.Base(path.Dir(file)), path.Base(file))
}

func isBusMark(s *location.Survey, file string) bool {
	content, err := s.ReadFile(file, 4<<10)
	return err == nil && strings.HasPrefix(string(content), busMark)
}

// busSwitch puts a file before that of a vendor which has the name and starts nothing.
type busSwitch struct{ own, name string }

// Word is [autostart.Mask].
func (busSwitch) Word() autostart.Switch { return autostart.Mask }

// Plan makes the file, or takes it away.
func (b busSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	content := []byte(busMark + "[" + busSection + "]\nName=" + b.name + "\nExec=/bin/false\n")
	return unix.Masked{Own: b.own, Content: content}.Plan(images, want)
}
