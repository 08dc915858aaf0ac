package linux

import (
	"path"
	"slices"
	"strings"

	"lockback/core/location"
	"lockback/core/location/unix"
)

// displayManagers are the readings of what starts with the screen on which people sign in, by the manuals of
// gdm, lightdm, sddm, xdm and greetd. Only one of them starts on a machine.
func displayManagers() []location.Reading {
	lightdm, sddm, greetd := dmOff("lightdm"), dmOff("sddm"), dmOff("greetd")
	vendors := "it is the vendor's; override it with a file of the same name in /etc"
	return []location.Reading{
		{Places: location.At("/etc/lightdm/lightdm.conf"), Form: lightDMSettings,
			Runner: location.Runner{Off: lightdm}},
		{Places: withSuffix(".conf", "/etc/lightdm/lightdm.conf.d", "/etc/xdg/lightdm/lightdm.conf.d"),
			Form: lightDMSettings, Runner: location.Runner{Off: lightdm}},
		{Places: withSuffix(".conf", "/usr/share/lightdm/lightdm.conf.d"),
			Form: location.Reporting{Form: lightDMSettings, Why: vendors}, Runner: location.Runner{Off: lightdm}},
		{Places: slices.Concat(location.At("/etc/sddm.conf"), withSuffix(".conf", "/etc/sddm.conf.d")),
			Form: sddmSettings, Runner: location.Runner{Off: sddm}},
		{Places: withSuffix(".conf", "/usr/lib/sddm/sddm.conf.d"), Form: location.Reporting{Form: sddmSettings,
			Why: vendors}, Runner: location.Runner{Off: sddm}},
		{Places: location.At("/etc/X11/xdm/Xsetup", "/etc/X11/xdm/Xstartup", "/etc/X11/xdm/Xreset"),
			Form: unix.Executables{}, Runner: location.Runner{Off: dmOff("xdm")}},
		{Places: location.At("/etc/greetd/config.toml"), Form: unix.Lines{Comments: "#", Section: unix.Brackets,
			Describe: describeGreetd}, Runner: location.Runner{Off: greetd}},
		{Places: withSuffix(".desktop", "/usr/share/gdm/greeter/autostart"), Form: location.Reporting{
			Form: unix.Lines{Comments: "#", Section: unix.Brackets, Describe: describeGreeter},
			Why:  "it is the vendor's, and part of the screen on which people sign in",
		}, Runner: location.Runner{Off: dmOff("gdm", "gdm3")}},
	}
}

// gdmFolders are where gdm looks for scripts; only Default and names of displays count.
var gdmFolders = []string{"/etc/gdm3/Init", "/etc/gdm3/PostLogin", "/etc/gdm3/PreSession", "/etc/gdm3/PostSession",
	"/etc/gdm/Init", "/etc/gdm/PostLogin", "/etc/gdm/PreSession", "/etc/gdm/PostSession"}

func gdmAccepts(name string) bool { return name == "Default" || strings.HasPrefix(name, ":") }

// gdmTime is when gdm runs what is in one of its folders.
func gdmTime(dir string) string {
	return map[string]string{"Init": "before the sign-in screen", "PostLogin": "when somebody has signed in",
		"PreSession": "before a session begins", "PostSession": "after a session ended"}[path.Base(dir)]
}

// dmOff makes a test whether a display manager, by its names, is not the one that starts.
func dmOff(names ...string) func(*location.Survey) string {
	return func(s *location.Survey) string {
		chosen := ""
		if content, err := s.ReadFile("/etc/X11/default-display-manager", 4<<10); err == nil {
			chosen = path.Base(strings.TrimSpace(string(content)))
		} else if target, err := s.Readlink("/etc/systemd/system/display-manager.service"); err == nil {
			chosen = strings.TrimSuffix(path.Base(target), ".service")
		}
		if chosen != "" && chosen != "." && !slices.Contains(names, chosen) {
			return "another display manager starts: " + chosen
		}
		return program{title: names[0], files: names}.off(s)
	}
}

// settings is the form of a file in sections, some keys of which name a command; each with when it runs.
func settings(keys map[string]string, sections ...string) unix.Lines {
	return unix.Lines{Comments: "#;", Section: unix.Brackets, Describe: func(_ *location.Survey, f location.Found,
		line string) *location.Item {
		key, command, ok := strings.Cut(line, "=")
		when := keys[strings.TrimSpace(key)]
		if command = strings.TrimSpace(command); !ok || when == "" || command == "" || !slices.ContainsFunc(sections,
			func(s string) bool { return strings.HasPrefix(f.Section, "["+s) }) {
			return nil
		}
		return shellItem(command, when)
	}}
}

var (
	lightDMSettings = settings(map[string]string{"display-setup-script": "before the sign-in screen",
		"display-stopped-script": "when the screen is closed", "greeter-setup-script": "before the sign-in screen",
		"session-setup-script": "before a session begins", "session-cleanup-script": "after a session ended"}, "Seat",
		"SeatDefaults")
	sddmSettings = settings(map[string]string{"DisplayCommand": "before the sign-in screen",
		"DisplayStopCommand": "when the screen is closed"}, "X11", "XDisplay")
)

// describeGreetd makes the item of the line of greetd(5) that starts a session by itself. The other one starts
// the screen on which people sign in.
func describeGreetd(_ *location.Survey, f location.Found, line string) *location.Item {
	key, value, ok := strings.Cut(line, "=")
	if !ok || strings.TrimSpace(key) != "command" {
		return nil
	}
	item := shellItem(unquoted(strings.TrimSpace(value)), "at startup, signed in by itself")
	switch f.Section {
	case "[initial_session]":
	case "[default_session]":
		item.When, item.Role = "with the sign-in screen", location.SignInStep
		item.Switcher = location.NoSwitch{Why: "people sign in with it"}
	default:
		return nil
	}
	return item
}

// describeGreeter makes the item of the line of a desktop entry that starts with gdm's own screen.
func describeGreeter(_ *location.Survey, f location.Found, line string) *location.Item {
	return execOf(f, line, "[Desktop Entry]", "with the sign-in screen")
}
