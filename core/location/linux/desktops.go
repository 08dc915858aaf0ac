package linux

import (
	"path"
	"slices"
	"strings"

	"lockback/core/format/desktopentry"
	"lockback/core/location"
	"lockback/core/machine/files"
)

// desktop is a session that somebody can choose when they sign in, and how its session manager
// judges the entries of the autostart folders: each reads the same keys in its own way.
type desktop struct {
	name  string   // as a person knows it
	names []string // of its DesktopNames, which OnlyShowIn and NotShowIn are held against
	judge judgement
}

// judgement tells why a session manager does not start an entry at sign-in; empty where it does. At
// another time it may: when says at which.
type judgement func(f *desktopentry.File) (off, when string)

// sessionFolders hold the sessions that sign-in screens offer.
var sessionFolders = []string{"/usr/share/xsessions", "/usr/share/wayland-sessions", "/usr/local/share/xsessions",
	"/usr/local/share/wayland-sessions"}

// managers are the session managers whose rules were seen, by the name of their desktop. What they
// do was tried with the programs themselves: xfce4-session 4.18, gnome-session 43, the generator of
// systemd 252 for Plasma.
var managers = map[string]judgement{"XFCE": xfceJudges, "GNOME": gnomeJudges, "KDE": generatorJudges}

// installedDesktops are the sessions of a machine, each desktop once; one that nothing is known of
// where no sign-in screen would offer any.
func installedDesktops(s *location.Survey) []desktop {
	var all []desktop
	for _, dir := range sessionFolders {
		entries, err := s.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), ".desktop") {
				continue
			}
			content, err := s.ReadFile(path.Join(dir, e.Name()), files.MaxFileSize)
			if err != nil {
				continue
			}
			f, err := desktopentry.Parse(content)
			if err != nil || f.Bool("Hidden") {
				continue
			}
			if try, _ := f.Get("TryExec"); try != "" {
				if _, _, err := location.FindProgram(s, try); files.IsMissing(err) {
					continue
				}
			}
			text, _ := f.Get("DesktopNames")
			d := desktop{names: strings.FieldsFunc(text, func(r rune) bool { return r == ';' || r == ':' })}
			if len(d.names) == 0 {
				continue // what it is called when it runs is not told
			}
			d.name = strings.Clone(d.names[len(d.names)-1]) // the most general comes last: GNOME-Classic:GNOME
			for _, name := range d.names {
				if judge := managers[name]; judge != nil {
					d.judge = judge
				}
			}
			if d.judge == nil {
				d.judge = standardJudges
			}
			if !slices.ContainsFunc(all, func(other desktop) bool { return slices.Equal(other.names, d.names) }) {
				all = append(all, d)
			}
		}
	}
	if len(all) == 0 {
		all = []desktop{{judge: unknownJudges}}
	}
	return all
}

// shows tells why a desktop skips an entry that is for others; empty where it does not.
func (d desktop) shows(f *desktopentry.File) string {
	if len(d.names) == 0 {
		return "" // which it would be is not known
	}
	in := func(key string) (named, ours bool) {
		list, _ := f.Get(key)
		for name := range strings.SplitSeq(list, ";") {
			if name != "" {
				named, ours = true, ours || slices.Contains(d.names, name)
			}
		}
		return named, ours
	}
	// Xfce's own settings turn an entry on in spite of it.
	override, _ := f.Get("X-XFCE-Autostart-Override")
	overridden := strings.EqualFold(override, "true") && slices.Contains(d.names, "XFCE")
	if named, ours := in("OnlyShowIn"); named && !ours && !overridden {
		return "for other desktops"
	}
	if _, ours := in("NotShowIn"); ours {
		return "for other desktops"
	}
	return ""
}

// unknownJudges are the rules where no session is installed that could be asked: the specification's,
// and the key that most desktops write.
func unknownJudges(f *desktopentry.File) (off, when string) {
	kind, _ := f.Get("Type")
	enabled, _ := f.Get("X-GNOME-Autostart-enabled")
	switch {
	case f.Bool("Hidden"):
		return "Hidden=true", ""
	case strings.EqualFold(enabled, "false"):
		return "off in the desktop's settings", ""
	case kind != "Application":
		return notApplication, ""
	}
	return "", ""
}

// standardJudges are the rules of the specification, for desktops whose manager was not seen. What it
// leaves open starts: it harms less to say that something starts.
func standardJudges(f *desktopentry.File) (off, when string) {
	kind, ok := f.Get("Type")
	switch {
	case f.Bool("Hidden"):
		return "Hidden=true", ""
	case ok && kind != "Application":
		return notApplication, ""
	}
	return "", ""
}

// xfceJudges is xfce4-session: its own reader takes true, on and yes for true in any case, and wants
// no Type, but none other. What runs at another time than sign-in stands in RunHook.
func xfceJudges(f *desktopentry.File) (off, when string) {
	if kind, ok := f.Get("Type"); ok && kind != "Application" {
		return notApplication, ""
	}
	if value, _ := f.Get("Hidden"); slices.ContainsFunc([]string{"true", "on", "yes"},
		func(word string) bool { return strings.EqualFold(value, word) }) {
		return "Hidden=true", ""
	}
	switch hook, _ := f.Get("RunHook"); hook {
	case "", "0":
		return "", ""
	case "1":
		return "", "at sign-out"
	}
	return "", "at another time than sign-in"
}

// notApplication says why the system skips an entry whose type is not Application.
const notApplication = "not of the type Application"

// gnomeJudges is gnome-session: GLib's reader takes true and 1, and wants a Type; what its settings
// turned off, and what it leaves to the user's units, it does not start.
func gnomeJudges(f *desktopentry.File) (off, when string) {
	kind, _ := f.Get("Type")
	value, _ := f.Get("Hidden")
	enabled, isSet := f.Get("X-GNOME-Autostart-enabled")
	systemd, _ := f.Get("X-GNOME-HiddenUnderSystemd")
	switch {
	case value == "true" || value == "1":
		return "Hidden=true", ""
	case kind != "Application":
		return notApplication, ""
	case isSet && (enabled == "false" || enabled == "0"):
		return "off in the desktop's settings", ""
	case systemd == "true":
		return "left to a user unit of systemd", ""
	}
	return "", ""
}

// generatorJudges is the generator that makes user units of the entries, systemd-xdg-autostart-generator(8),
// for desktops that let systemd start them: systemd's booleans, and what it leaves to others.
func generatorJudges(f *desktopentry.File) (off, when string) {
	value, _ := f.Get("Hidden")
	skip, _ := f.Get("X-systemd-skip")
	phase, _ := f.Get("X-GNOME-Autostart-Phase")
	kind, _ := f.Get("Type")
	yes := func(text string) bool {
		return slices.Contains([]string{"1", "yes", "y", "true", "t", "on"}, strings.ToLower(text))
	}
	switch {
	case yes(value):
		return "Hidden=true", ""
	case yes(skip):
		return "left to the desktop by systemd", ""
	case kind != "Application":
		return notApplication, ""
	case phase != "":
		return "for a phase of GNOME's start", ""
	}
	return "", ""
}

// inSessions judges an entry for each session that is installed. off says why none starts it, else
// where it does not; at says when it is started, where that is not at sign-in.
func inSessions(desktops []desktop, f *desktopentry.File) (starts bool, off, at string) {
	var reasons, offIn []string
	for _, d := range desktops {
		why := d.shows(f)
		when := ""
		if why == "" {
			why, when = d.judge(f)
		}
		switch {
		case why != "":
			if !slices.Contains(reasons, why) {
				reasons = append(reasons, why)
			}
			offIn = append(offIn, d.name)
		case when != "":
			starts, at = true, when+" ("+d.name+")"
		default:
			starts = true
		}
	}
	switch {
	case !starts:
		return false, strings.Join(reasons, "; "), ""
	case len(offIn) > 0:
		slices.Sort(offIn)
		return true, strings.Join(reasons, "; ") + " in " + strings.Join(slices.Compact(offIn), ", "), at
	}
	return true, "", at
}
