package linux

import (
	"bytes"
	"encoding/xml"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
)

// compositors are the readings of what window managers and compositors start by their own configuration. A
// program that a key is bound to does not start by itself and is no entry.
func compositors() []location.Reading {
	tiling := unix.Lines{Comments: "#", Joined: true, Section: unix.Braces, Follow: includeOf("include"),
		Describe: describeTilingExec}
	script := unix.Lines{Comments: "#", Shell: true, Describe: describeScriptLine}
	on := func(title string, files ...string) location.Runner {
		return location.Runner{Off: program{title: title, files: files}.off}
	}
	return []location.Reading{
		{Places: location.At("~/.config/i3/config", "~/.i3/config", "/etc/i3/config"), Form: tiling,
			Runner: on("i3", "i3")},
		{Places: location.At("~/.config/sway/config", "~/.sway/config", "/etc/sway/config"), Form: tiling,
			Runner: on("sway", "sway")},
		{Places: location.At("~/.config/hypr/hyprland.conf"), Form: unix.Lines{Comments: "#", Section: unix.Braces,
			Follow: includeOf("source"), Describe: describeHyprExec}, Runner: on("hyprland", "Hyprland", "hyprland")},
		{Places: location.At("~/.config/niri/config.kdl"), Form: location.Reporting{
			Form: unix.Lines{Comments: "/", Section: unix.Braces, Describe: describeNiriSpawn},
			Why:  "the file has no comments that begin with #; put // before the line",
		}, Runner: on("niri", "niri")},
		{Places: location.At("~/.config/wayfire.ini"), Form: unix.Lines{Comments: "#", Section: unix.Brackets,
			Describe: describeWayfire}, Runner: on("wayfire", "wayfire")},
		{Places: location.At("/etc/xdg/openbox/autostart", "~/.config/openbox/autostart"), Form: script,
			Runner: on("openbox", "openbox")},
		{Places: location.At("/etc/xdg/labwc/autostart", "~/.config/labwc/autostart"), Form: unix.Lines{Comments: "#",
			Shell: true, Describe: describeLabwc}, Runner: on("labwc", "labwc")},
		{Places: location.At("~/.config/bspwm/bspwmrc"), Form: script, Runner: on("bspwm", "bspwm")},
		{Places: location.At("~/.config/river/init"), Form: script, Runner: on("river", "river")},
		{Places: location.At("~/.fluxbox/startup"), Form: script, Runner: on("fluxbox", "fluxbox")},
		{Places: location.At("/etc/xdg/lxsession/*/autostart", "~/.config/lxsession/*/autostart"),
			Form: unix.Lines{Comments: "#", Describe: describeLXSession}, Runner: on("lxsession", "lxsession")},
		{Places: location.At("/etc/xdg/xfce4/xfconf/xfce-perchannel-xml/xfce4-session.xml",
			"~/.config/xfce4/xfconf/xfce-perchannel-xml/xfce4-session.xml"),
			Form: location.Code{Shows: autostart.Report, Reader: readXfceSession}, Runner: on("xfce4-session",
				"xfce4-session")},
	}
}

// includeOf makes the Follow of configurations in which a word before a path has its files read too.
func includeOf(word string) func(*location.Survey, location.Found, string) []location.Found {
	return func(s *location.Survey, f location.Found, line string) []location.Found {
		first, pattern := firstWord(strings.Replace(line, "=", " ", 1))
		if first != word || pattern == "" {
			return nil
		}
		if pattern = unquoted(strings.TrimSpace(pattern)); !path.IsAbs(pattern) && !strings.HasPrefix(pattern, "~/") &&
			!strings.HasPrefix(pattern, "$") {
			pattern = path.Join(path.Dir(f.Path), pattern)
		}
		return included(s, f, pattern)
	}
}

// describeTilingExec makes the item of a line of i3 or sway that starts something: exec and exec_always,
// alone or as a block of commands. Bindings and rules for windows stand behind other words.
func describeTilingExec(s *location.Survey, f location.Found, line string) *location.Item {
	word, command := firstWord(line)
	switch {
	case f.Section == "" && (word == "exec" || word == "exec_always"):
	case f.Section == "{exec" || f.Section == "{exec_always":
		word, command = strings.TrimPrefix(f.Section, "{"), line
	default:
		return nil
	}
	command = strings.TrimSpace(strings.TrimPrefix(command, "--no-startup-id"))
	if command == "" {
		return nil
	}
	item := sessionItem(command)
	if word == "exec_always" {
		item.When = "at sign-in, and when the window manager reads its settings again"
	}
	insteadOf(s, f, item)
	return item
}

// sessionItem is the item of a command that a session starts.
func sessionItem(command string) *location.Item {
	item := shellItem(unquoted(command), "")
	if strings.HasPrefix(item.Command, "$") {
		item.Argv = nil // a variable of the configuration
	}
	return item
}

// insteadOf says who has a configuration of their own in place of the system's.
func insteadOf(s *location.Survey, f location.Found, item *location.Item) {
	if f.User != nil || !strings.HasPrefix(f.Path, "/etc/") {
		return
	}
	own := strings.TrimPrefix(strings.TrimPrefix(f.Path, "/etc/"), "xdg/")
	whose := ownersOf(s, path.Join(".config", own), "."+own)
	if len(whose.names) > 0 && whose.all {
		item.State, item.Mode, item.Ignored = autostart.Disabled, "", "everyone has a configuration of their own"
	} else if len(whose.names) > 0 {
		item.Mode = "not for " + namesOf(whose.names)
	}
}

// owners are the users who have a file of their own, and whether all have who are no administrators.
type owners struct {
	names []string
	all   bool
}

// ownersOf finds who has one of some files below the home; of many lines of one file it is asked once.
func ownersOf(s *location.Survey, files ...string) owners {
	return s.Shared("who has "+strings.Join(files, " or "), func() any {
		whose := owners{all: true}
		for _, u := range s.Machine.Users {
			switch {
			case slices.ContainsFunc(files, func(file string) bool { return has(s, path.Join(u.Home, file)) }):
				whose.names = append(whose.names, u.Name)
			case u.UID != 0:
				whose.all = false
			}
		}
		return whose
	}).(owners)
}

// maxUsersNamed is how many users are named one by one.
const maxUsersNamed = 5

// namesOf names users.
func namesOf(users []string) string {
	if more := len(users) - maxUsersNamed; more > 0 {
		return autostart.Text(strings.Join(users[:maxUsersNamed], ", ")) + " and " + strconv.Itoa(more) + " more"
	}
	return autostart.Text(strings.Join(users, ", "))
}

// describeHyprExec makes the item of a line of hyprland that starts something.
func describeHyprExec(_ *location.Survey, f location.Found, line string) *location.Item {
	key, command, ok := strings.Cut(line, "=")
	when, starts := map[string]string{"exec-once": "",
		"exec":  "at sign-in, and when the compositor reads its settings again",
		"execr": "at sign-in, and when the compositor reads its settings again", "execr-once": "",
		"exec-shutdown": "at sign-out"}[strings.TrimSpace(key)]
	if command = strings.TrimSpace(command); !ok || !starts || command == "" || f.Section != "" {
		return nil
	}
	if strings.HasPrefix(command, "[") { // rules for its window
		if _, behind, ok := strings.Cut(command, "]"); ok {
			command = strings.TrimSpace(behind)
		}
	}
	item := sessionItem(command)
	item.When = when
	return item
}

// describeNiriSpawn makes the item of a node of niri that starts something. What /- stands before is none.
func describeNiriSpawn(_ *location.Survey, f location.Found, line string) *location.Item {
	word, rest := firstWord(line)
	if f.Section != "" || word != "spawn-at-startup" && word != "spawn-sh-at-startup" {
		return nil
	}
	var argv []string
	for k, text := range strings.Split(rest, `"`) {
		if k%2 == 1 {
			argv = append(argv, text)
		}
	}
	if len(argv) == 0 {
		return nil
	}
	item := named(path.Base(argv[0]), strings.Join(argv, " "), argv)
	if word == "spawn-sh-at-startup" {
		item = sessionItem(argv[0])
	}
	return item
}

// describeWayfire makes the item of a line in the section of what wayfire starts.
func describeWayfire(_ *location.Survey, f location.Found, line string) *location.Item {
	name, command, ok := strings.Cut(line, "=")
	name, command = strings.TrimSpace(name), strings.TrimSpace(command)
	if !ok || f.Section != "[autostart]" || command == "" || name == "autostart_wf_shell" {
		return nil
	}
	item := sessionItem(command)
	item.Name = name
	return item
}

// setsUp are commands in the start-up scripts of sessions that only set something and end.
var setsUp = []string{"export", "set", "unset", ".", "source", "alias", "cd", "exit", "test", "[", "[[", "echo",
	"printf", "trap", "umask", "sleep", "wait", "true", ":", "bspc", "riverctl", "xset", "xsetroot", "xrdb",
	"setxkbmap", "dbus-update-activation-environment"}

// describeScriptLine makes the item of a command in the start-up script of a session.
func describeScriptLine(_ *location.Survey, f location.Found, line string) *location.Item {
	if rest, ok := strings.CutPrefix(line, "riverctl spawn "); ok {
		return sessionItem(rest)
	}
	command := strings.TrimSpace(strings.TrimSuffix(line, "&"))
	name := programName(command)
	if slices.Contains(setsUp, name) {
		return nil
	}
	item := sessionItem(command)
	if rest, ok := strings.CutPrefix(command, "exec "); ok {
		item.Name, item.Role = programName(rest), location.Session
		item.Switcher = location.NoSwitch{Why: "the script goes on as this program: it is the session itself"}
	}
	return item
}

// describeLabwc is describeScriptLine for labwc, which reads a user's own file in place of the system's.
func describeLabwc(s *location.Survey, f location.Found, line string) *location.Item {
	item := describeScriptLine(s, f, line)
	if item != nil {
		insteadOf(s, f, item)
	}
	return item
}

// describeLXSession makes the item of a line of LXDE's list; with @ before it the program is started again when
// it ends.
func describeLXSession(s *location.Survey, f location.Found, line string) *location.Item {
	item := sessionItem(strings.TrimPrefix(line, "@"))
	insteadOf(s, f, item)
	return item
}

// readXfceSession reports the programs that a session of Xfce starts before all others, by its settings.
func readXfceSession(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		content, ok := s.File(f.Path)
		if !ok {
			return
		}
		clients, err := xfceClients(content)
		if err != nil {
			s.Skip(f.Path, &fs.PathError{Op: "read", Path: f.Path, Err: err})
		}
		for _, argv := range clients {
			if len(argv) == 0 {
				continue
			}
			item := named(path.Base(argv[0]), strings.Join(argv, " "), argv)
			item.State, item.Source, item.Artifacts = autostart.Enabled, autostart.Source{Path: f.Path},
				unix.Files(f.Path)
			item.Role = location.Session
			item.Switcher = location.NoSwitch{Why: "the session is made of it; Xfce's own settings, Session and " +
				"Startup, change it"}
			if f.User != nil {
				item.User, item.For = autostart.Text(f.User.Name), f.User
			}
			s.Add(f.Key+"\x00"+item.Command, item)
		}
	})
}

// xfceClients are the commands of Client0_Command and its like in settings of xfconf, an XML of nested
// properties. It fails where that is damaged, and returns what stands before.
func xfceClients(content []byte) ([][]string, error) {
	var clients [][]string
	decoder := xml.NewDecoder(bytes.NewReader(content))
	decoder.Strict = true
	in := false
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			return clients, nil
		}
		if err != nil {
			return clients, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			value := func(name string) string {
				for _, a := range t.Attr {
					if a.Name.Local == name {
						return a.Value
					}
				}
				return ""
			}
			switch name := value("name"); {
			case t.Name.Local == "property":
				in = strings.HasPrefix(name, "Client") && strings.HasSuffix(name, "_Command")
				if in {
					clients = append(clients, nil)
				}
			case t.Name.Local == "value" && in && value("value") != "":
				clients[len(clients)-1] = append(clients[len(clients)-1], value("value"))
			}
		case xml.EndElement:
			if t.Name.Local == "property" {
				if in && len(clients[len(clients)-1]) == 0 {
					clients = clients[:len(clients)-1]
				}
				in = false
			}
		}
	}
}
