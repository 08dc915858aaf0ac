package linux

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/desktopentry"
	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
)

// delayKey is the key by which some sessions start an entry later, in seconds.
const delayKey = "X-GNOME-Autostart-Delay"

// knowDelays are the desktops whose session managers know of that key, with one of these managers: gnome-session up to
// 48, and cinnamon-session. Later ones leave the entries to systemd, which passes the key over.
var (
	knowDelays       = []string{"GNOME", "GNOME-Flashback", "Unity", "Budgie", "X-Cinnamon"}
	delayingSessions = []string{"/usr/libexec/gnome-session-binary", "/usr/bin/cinnamon-session"}
)

// sessionsDelay reports whether all sessions of the machine know of the key.
func sessionsDelay(s *location.Survey, desktops []desktop) bool {
	if len(desktops) == 0 || !slices.ContainsFunc(delayingSessions, func(name string) bool { return has(s, name) }) {
		return false
	}
	return !slices.ContainsFunc(desktops, func(d desktop) bool { return !slices.Contains(knowDelays, d.name) })
}

// Delay writes the key where all sessions know of it; else a command that waits. Either stands where the switch would
// write: in the administrator's or the person's own file, or in a copy that comes before a vendor's.
func (h hide) Delay(m *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	var later location.Later
	content, err := contentOf(images, h.file)
	if err != nil {
		return later, err
	}
	f, err := desktopentry.Parse(content)
	if err != nil {
		return later, fmt.Errorf("%w: %w", location.ErrNoDelay, err)
	}
	command, _ := f.Get("Exec")
	argv := desktopentry.SplitExec(command)
	if len(argv) == 0 || f.Bool("DBusActivatable") {
		return later, fmt.Errorf("%w: it is started over D-Bus, not by a command", location.ErrNoDelay)
	}
	inner := location.Waiting(argv, 0)
	if h.delays {
		f.Set(delayKey, strconv.Itoa(int(d.Seconds())))
		if len(inner) != len(argv) {
			f.Set("Exec", desktopentry.Escape(desktopentry.JoinExec(inner)))
		}
	} else {
		f.Set("Exec", desktopentry.Escape(desktopentry.JoinExec(location.Waiting(inner, d))))
		if old, _ := f.Get(delayKey); old != "" {
			f.Set(delayKey, "0") // one of the two waits, and not both
		}
		later.Note = "no session here has a delay of its own that all of them know, so it waits in a shell"
	}
	file, owner := h.override(), account.User{}
	if h.user != nil {
		file, owner = h.file, *h.user
	}
	image, err := images.Image(artifact.File(file))
	if err != nil {
		return later, err
	}
	if image.Kind == artifact.Regular {
		image = image.WithContent(f.Bytes(), now)
	} else {
		image = artifact.NewFile(f.Bytes(), 0o644, owner.UID, owner.GID, now)
	}
	later.Edits = []location.Edit{{Artifact: artifact.File(file), Image: image}}
	return later, nil
}

// Delay puts a timer in front of a service: the links that start it go, and the timer starts it. Other names that it
// has stay, for sockets, D-Bus and other units ask for it by them.
func (sw unitSwitch) Delay(m *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	later := location.Later{Off: true}
	starting, other := sw.byKind()
	switch {
	case unitfile.Suffix(sw.name) != ".service":
		return later, fmt.Errorf("%w: it is not a service; its file says what it starts, and when",
			location.ErrNoDelay)
	case sw.Word() != autostart.Unlink:
		return later, fmt.Errorf("%w: other units start it, and would wait for it", location.ErrNoDelay)
	case len(starting) == 0 || len(sw.set.pulledBy(sw.name, asSet(starting))) > 0:
		return later, fmt.Errorf("%w: it is started under another name, its alias", location.ErrNoDelay)
	}
	dir, since, id := sw.set.path.config, "OnBootSec", "linux.systemd.system"
	if sw.user != nil || sw.set.path.control == "" {
		since, id = "OnStartupSec", "linux.systemd.user"
	}
	if sw.user != nil {
		dir = path.Join(sw.user.Home, personsUnits)
	}
	bare := strings.ReplaceAll(strings.TrimSuffix(sw.name, ".service"), "@", "-")
	name := bare + ".timer"
	for _, taken := range []string{path.Join(dir, name), path.Join("/usr/lib/systemd/system", name),
		path.Join("/usr/lib/systemd/user", name)} {
		if image, err := images.Image(artifact.File(taken)); err == nil && image.Kind != artifact.Absent {
			name = bare + "-later.timer"
		}
	}
	file, link := path.Join(dir, name), path.Join(dir, "timers.target.wants", name)
	for _, taken := range []string{file, link} {
		if image, err := images.Image(artifact.File(taken)); err != nil || image.Kind != artifact.Absent {
			return later, fmt.Errorf("%w: %s is in the way", location.ErrNoDelay, taken)
		}
	}
	uid, gid := sw.owner()
	timer := unitfile.New([][2]string{{"[Unit]", ""}, {"Description", unitfile.Escape("Starts " + sw.name + " later")},
		{"[Timer]", ""}, {since, span(d)}, {"AccuracySec", "1s"}, {"Unit", unitfile.Escape(sw.name)}, {"[Install]", ""},
		{"WantedBy", "timers.target"}})
	later.Made = &location.Made{Location: id, Key: name, Edits: []location.Edit{
		{Artifact: artifact.File(file), Image: artifact.NewFile(timer, 0o644, uid, gid, now)},
		{Artifact: artifact.File(link), Image: artifact.NewLink(file, uid, gid, now)},
	}}
	if sw.user != nil {
		later.Made.User = sw.user.Name
	}
	if len(other) > 0 && sw.set.aliased(sw.name) {
		later.Off = false // systemctl, too, calls it enabled by its other name
		for _, l := range starting {
			later.Edits = append(later.Edits, location.Edit{Artifact: artifact.File(l),
				Image: artifact.Image{Kind: artifact.Absent}})
		}
	}
	later.Note = "the timer " + name + " starts it"
	return later, nil
}

// byKind parts the links of a unit: those by which other units start it, and those that give it another name.
func (sw unitSwitch) byKind() (starting, other []string) {
	for _, l := range sw.links {
		if strings.HasSuffix(path.Dir(l), ".wants") || strings.HasSuffix(path.Dir(l), ".requires") ||
			strings.HasSuffix(path.Dir(l), ".upholds") {
			starting = append(starting, l)
		} else {
			other = append(other, l)
		}
	}
	return starting, other
}

func asSet(all []string) map[string]bool {
	set := map[string]bool{}
	for _, s := range all {
		set[s] = true
	}
	return set
}
