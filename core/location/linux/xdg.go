package linux

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/format/desktopentry"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// overrideFolder is where an administrator's version of a vendor's entry goes:
// of the folders for everyone it is searched first.
const overrideFolder = "/etc/xdg/autostart"

// systemAutostart lists the folders for everyone, the one that wins first: $XDG_CONFIG_DIRS as
// /etc/environment sets it, or its default, behind what sign-in scripts add, then the older places
// that desktops still read.
func systemAutostart(s *location.Survey) []string {
	dirs := addedConfigDirs(s)
	for dir := range strings.SplitSeq(s.Machine.Environment()["XDG_CONFIG_DIRS"], ":") {
		if path.IsAbs(dir) {
			dirs = append(dirs, path.Join(dir, "autostart"))
		}
	}
	if !slices.Contains(dirs, overrideFolder) && s.Machine.Environment()["XDG_CONFIG_DIRS"] == "" {
		dirs = append(dirs, overrideFolder)
	}
	if _, _, err := location.FindProgram(s, "startlxqt"); err == nil {
		dirs = append(dirs, "/etc/autostart") // LXQt sets XDG_CONFIG_DIRS=/etc:/etc/xdg:/usr/share
	}
	return append(dirs, "/usr/share/gnome/autostart", "/usr/share/autostart")
}

// setsConfigDirs finds where a script or a list of variables sets the folders of configurations.
var setsConfigDirs = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?m)^[^#\n]*\bXDG_CONFIG_DIRS=["']?([^"'\s;]+)`)
})

// addedConfigDirs are the folders of sign-in entries that scripts of the sign-in add to those of the system, as
// Debian's Xsession.d does with a folder for each session. Those that are not there are left out.
func addedConfigDirs(s *location.Survey) []string {
	var dirs []string
	add := func(dir string) {
		if dir = path.Join(dir, "autostart"); path.IsAbs(dir) && dir != overrideFolder &&
			dir != "/usr/share/autostart" && !strings.Contains(dir, "$") && !slices.Contains(dirs, dir) && has(s, dir) {
			dirs = append(dirs, dir)
		}
	}
	for _, folder := range []string{"/etc/profile.d", "/etc/X11/Xsession.d", "/etc/environment.d",
		"/usr/lib/environment.d"} {
		entries, _ := s.ReadDir(folder)
		for _, e := range entries {
			content, err := s.ReadFile(path.Join(folder, e.Name()), maxSkeleton)
			if err != nil || !strings.Contains(string(content), "XDG_CONFIG_DIRS=") {
				continue
			}
			for _, match := range setsConfigDirs().FindAllStringSubmatch(string(content), -1) {
				for dir := range strings.SplitSeq(match[1], ":") {
					if before, ok := strings.CutSuffix(strings.NewReplacer("{", "", "}", "").Replace(dir),
						"$DESKTOP_SESSION"); ok {
						for _, session := range sessionNames(s) {
							add(before + session)
						}
						continue
					}
					add(dir)
				}
			}
		}
	}
	return dirs
}

// sessionNames are those of the sessions that can be chosen.
func sessionNames(s *location.Survey) []string {
	var names []string
	for _, folder := range []string{"/usr/share/xsessions", "/usr/share/wayland-sessions"} {
		entries, _ := s.ReadDir(folder)
		for _, e := range entries {
			if name, ok := strings.CutSuffix(e.Name(), ".desktop"); ok && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// readXDGAutostart follows the Desktop Application Autostart Specification: the
// files of all folders are judged by name, and a user's own file wins over
// everyone's.
func readXDGAutostart(s *location.Survey) {
	desktops := installedDesktops(s)
	delays := sessionsDelay(s, desktops)
	system := map[string]string{} // file name, to the path that wins for everyone
	below := map[string]string{}  // and to the one that would win without it
	types := map[string]fs.FileMode{}
	var order []string
	for _, dir := range systemAutostart(s) {
		for _, e := range s.Dir(dir) {
			_, taken := system[e.Name()]
			switch {
			case !strings.HasSuffix(e.Name(), ".desktop"):
			case !taken:
				system[e.Name()], types[e.Name()] = path.Join(dir, e.Name()), e.Type()
				order = append(order, e.Name())
			case below[e.Name()] == "":
				below[e.Name()] = path.Join(dir, e.Name())
			}
		}
	}
	own := map[string][]string{} // file name, to the people who have one of their own
	for _, u := range s.Machine.Users {
		dir := userAutostart(u)
		for _, e := range s.Dir(dir) {
			if strings.HasSuffix(e.Name(), ".desktop") {
				own[e.Name()] = append(own[e.Name()], u.Name)
				file := path.Join(dir, e.Name())
				addDesktopEntry(s, desktops, file, e.Type(), hide{file: file, user: &u, below: system[e.Name()],
					delays: delays}, nil)
			}
		}
	}
	for k := range s.Machine.Users {
		readSnapAutostart(s, desktops, &s.Machine.Users[k])
	}
	for _, name := range order {
		addDesktopEntry(s, desktops, system[name], types[name], hide{file: system[name], below: below[name],
			delays: delays}, own[name])
	}
}

// readSnapAutostart reports what a user's snaps start: each has a folder of its own, which snapd reads at sign-in
// ("autostart" in the documents of snapcraft). Whether it looks at a key that turns one off is not known, so that the
// switch takes the file away.
func readSnapAutostart(s *location.Survey, desktops []desktop, u *account.User) {
	for _, folder := range s.Expand(u.Home, "snap/*/current/.config/autostart", true) {
		dir := path.Join(u.Home, folder)
		for _, e := range s.Dir(dir) {
			file := path.Join(dir, e.Name())
			if full, err := s.Resolve(file); err == nil && strings.HasSuffix(e.Name(), ".desktop") {
				s.Adjusting(func(item *location.Item) {
					item.Switcher, item.Artifacts = location.Park{Artifact: artifact.File(full)}, unix.Files(full)
				}, func(s *location.Survey) {
					addDesktopEntry(s, desktops, file, e.Type(), hide{file: file, user: u},
						nil)
				})
			}
		}
	}
}

func userAutostart(u account.User) string { return path.Join(u.Home, ".config/autostart") }

// addDesktopEntry reports one file. overriddenBy are the people whose own file
// of that name takes its place.
func addDesktopEntry(s *location.Survey, desktops []desktop, file string, kind fs.FileMode, sw hide,
	overriddenBy []string) {
	item := &location.Item{
		Entry: autostart.Entry{Name: strings.TrimSuffix(path.Base(file), ".desktop"), State: autostart.Enabled,
			Source: autostart.Source{Path: file}},
		Switcher: sw,
	}
	if sw.user != nil {
		item.User = autostart.Text(sw.user.Name)
	}
	full, err := file, error(nil)
	if kind&fs.ModeSymlink != 0 {
		full, err = s.Resolve(file)
		if target, lerr := s.Readlink(file); lerr == nil && target == "/dev/null" {
			full, err = target, nil // which a mounted disk may not have
		}
	}
	item.Artifacts = func() []artifact.Artifact {
		reached := ""
		if sw.user == nil && full != file {
			// What a user's own link leads to is looked at, and never written.
			reached, _ = s.Reach(file, true)
		}
		return sw.artifacts(s.Machine.Users, reached)
	}
	if full == "/dev/null" {
		item.State, item.Mode = autostart.Disabled, "link to /dev/null"
		s.Add(path.Base(file), item)
		return
	}
	missing := false
	if kind&fs.ModeSymlink != 0 {
		_, serr := s.Stat(file)
		missing = files.IsMissing(serr)
	}
	if missing {
		item.State, item.Mode, item.Problems = autostart.Disabled, "dangling link", []string{autostart.TargetMissing}
		item.Switcher = location.NoSwitch{Why: "it is a link to nothing"}
		s.Add(path.Base(file), item)
		return
	}
	if err != nil {
		s.Skip(file, err)
		return
	}
	content, ok := s.File(file)
	if !ok {
		return
	}
	f, err := desktopentry.Parse(content)
	if err != nil {
		item.State, item.Ignored, item.Problems = autostart.Disabled, err.Error(), []string{autostart.Unparsable}
		item.Switcher = location.NoSwitch{Why: "it is no desktop entry"}
		s.Add(path.Base(file), item)
		return
	}
	describeDesktopEntry(s, desktops, f, item, overriddenBy)
	s.Add(path.Base(file), item)
}

// describeDesktopEntry fills in what the keys of the file say, and whether any session that is installed
// starts it.
func describeDesktopEntry(s *location.Survey, desktops []desktop, f *desktopentry.File, item *location.Item,
	overriddenBy []string) {
	if name, ok := f.Get("Name"); ok && name != "" {
		item.Name = strings.Clone(name) // else it would keep the whole file in memory
	}
	command, _ := f.Get("Exec")
	item.Command = strings.Clone(command)
	item.Argv = desktopentry.SplitExec(item.Command)
	item.Source.Line = f.Line("Exec")
	var modes []string
	off := func(mode string) {
		item.State = autostart.Disabled
		modes = append(modes, mode)
	}
	passedOver := false
	tryExec, _ := f.Get("TryExec")
	starts, reason, at := inSessions(desktops, f)
	switch {
	case !starts:
		off(reason)
		passedOver = reason == notApplication
	case reason != "":
		modes = append(modes, reason)
	}
	switch {
	case item.State == autostart.Disabled:
	case len(item.Argv) == 0:
		off("no command")
		passedOver = true
	case tryExec != "":
		if _, _, err := location.FindProgram(s, tryExec); files.IsMissing(err) {
			off("TryExec not found: " + tryExec)
			item.Problems = append(item.Problems, autostart.TargetMissing)
		}
	}
	for _, word := range []struct{ key, before, after string }{
		{"OnlyShowIn", "only in ", ""},
		{"NotShowIn", "not in ", ""},
		{"AutostartCondition", "if ", ""},
		{"X-KDE-autostart-condition", "if ", ""},
	} {
		if v, _ := f.Get(word.key); v != "" {
			modes = append(modes, word.before+strings.ReplaceAll(strings.TrimSuffix(v, ";"), ";", ", ")+word.after)
		}
	}
	item.Mode = strings.Join(modes, "; ")
	if passedOver {
		item.Mode, item.Ignored = "", item.Mode
		item.Problems = append(item.Problems, autostart.Ignored)
	}
	if delay, _ := f.Get("X-GNOME-Autostart-Delay"); delay != "" && delay != "0" {
		item.When = "at sign-in, after " + delay + " s"
	}
	if at != "" {
		item.When = at
	}
	var facts []location.Fact
	if v, _ := f.Get("Comment"); v != "" {
		facts = append(facts, location.Fact{Kind: autostart.FactComment, Value: strings.Clone(v), Basis: "Comment"})
	}
	for _, fact := range []struct{ key, name string }{
		{"TryExec", "only if installed"}, {"X-KDE-autostart-phase", "KDE phase"},
		{"X-GNOME-Autostart-Phase", "GNOME phase"}, {"X-systemd-skip", "left to the desktop by systemd"},
	} {
		if v, _ := f.Get(fact.key); v != "" {
			facts = append(facts, location.Fact{Name: fact.name, Value: strings.Clone(v), Basis: fact.key})
		}
	}
	if len(facts)+len(overriddenBy) == 0 {
		return
	}
	item.Facts = func() []location.Fact {
		if len(overriddenBy) > 0 {
			return append(facts[:len(facts):len(facts)], location.Fact{Name: "own file instead",
				Value: strings.Join(overriddenBy, ", "), Basis: "~/.config/autostart"})
		}
		return facts
	}
}

// hide is the switch of an XDG entry: the standard's own key, in the file where
// it is an administrator's or the person's own, else in an overriding copy.
type hide struct {
	file  string
	user  *account.User // whose file it is; nil for everyone's
	below string        // the file that would decide without this one
	// delays says that all sessions of the machine know of a key for a delay.
	delays bool
}

// artifacts lists what decides the entry: its file, what a link leads to, and
// what would switch it off for everyone or for one user.
func (h hide) artifacts(users []account.User, full string) []artifact.Artifact {
	list := []artifact.Artifact{artifact.File(h.file)}
	if h.user == nil {
		for _, other := range []string{h.override(), h.below} {
			if other != h.file && other != "" {
				list = append(list, artifact.File(other), artifact.File(path.Dir(other)),
					artifact.File(path.Dir(path.Dir(other))))
			}
		}
		for _, u := range users {
			dir := userAutostart(u)
			list = append(list, artifact.File(path.Dir(dir)), artifact.File(dir),
				artifact.File(path.Join(dir, path.Base(h.file))))
		}
	}
	if full != h.file && full != "" && full != "/dev/null" {
		list = append(list, artifact.File(full))
	}
	return list
}

// override is the file that decides for everyone: the file itself where it is
// the administrator's, a copy before it where it is a vendor's.
func (h hide) override() string {
	if strings.HasPrefix(h.file, "/etc/") {
		return h.file
	}
	return path.Join(overrideFolder, path.Base(h.file))
}

// Word is [autostart.Hide].
func (hide) Word() autostart.Switch { return autostart.Hide }

// PerUser reports whether the entry is everyone's: a file of one user's own overrides it for them.
func (h hide) PerUser() bool { return h.user == nil }

func (h hide) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case h.user == nil && want.User != nil:
		return h.write(images, want, path.Join(userAutostart(*want.User), path.Base(h.file)), *want.User, h.file)
	case h.user != nil:
		return h.write(images, want, h.file, *h.user, h.below)
	}
	original := h.below
	if h.override() != h.file {
		original = h.file
	}
	return h.write(images, want, h.override(), account.User{Name: "root"}, original)
}

// write plans the file that is to decide, for its owner. Where it does not exist
// it starts as a copy of the one it is to override.
func (h hide) write(images location.Images, want location.Want, file string, owner account.User,
	original string) ([]location.Edit, error) {
	a := artifact.File(file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	switch image.Kind {
	case artifact.Absent:
		if original == "" {
			return nil, fmt.Errorf("%s is gone; list again", file)
		}
		if want.State == autostart.Enabled {
			return nil, nil // nothing stands before the original
		}
		content, err := contentOf(images, original)
		if err != nil {
			return nil, err
		}
		image = artifact.NewFile(content, 0o644, owner.UID, owner.GID, want.Now)
	case artifact.Symlink:
		if want.State == autostart.Enabled && image.Target == "/dev/null" {
			return []location.Edit{{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}}}, nil
		}
		// The link's target may serve others: put a file in the link's place.
		content, err := contentOf(images, linkTarget(file, image.Target))
		if err != nil && want.State == autostart.Enabled {
			return nil, err
		}
		if err != nil {
			// Wherever it leads, it must be possible to switch it off.
			content = []byte("[Desktop Entry]\nType=Application\n")
		}
		image = artifact.NewFile(content, 0o644, owner.UID, owner.GID, want.Now)
	}
	f, err := desktopentry.Parse(image.Content)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", location.ErrNoSwitch, file, err)
	}
	if want.State == autostart.Disabled {
		f.Set("Hidden", "true")
	} else {
		if original != "" && isHiddenCopy(images, original, image.Content) {
			return []location.Edit{{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}}}, nil
		}
		if v, ok := f.Get("Hidden"); ok && v != "false" {
			f.Set("Hidden", "false") // whatever a session manager takes for true
		}
		if v, ok := f.Get("X-GNOME-Autostart-enabled"); ok && strings.EqualFold(v, "false") {
			f.Set("X-GNOME-Autostart-enabled", "true")
		}
	}
	return []location.Edit{{Artifact: a, Image: image.WithContent(f.Bytes(), want.Now)}}, nil
}

// isHiddenCopy reports whether a file is nothing but a switched-off copy of the
// one it overrides, so that taking it away is what switches on.
func isHiddenCopy(images location.Images, original string, content []byte) bool {
	source, err := contentOf(images, original)
	if err != nil {
		return false
	}
	f, err := desktopentry.Parse(source)
	if err != nil {
		return false
	}
	f.Set("Hidden", "true")
	return string(f.Bytes()) == string(content)
}

// contentOf reads a file that everyone may read through the plan's images,
// following links: what a user's link leads to may be none of their business.
func contentOf(images location.Images, file string) ([]byte, error) {
	for range 8 {
		image, err := images.Image(artifact.File(file))
		if err != nil {
			return nil, err
		}
		switch image.Kind {
		case artifact.Regular:
			if image.Mode&0o004 == 0 {
				return nil, fmt.Errorf("%w: not every user may read %s, so it is not copied", location.ErrNoSwitch,
					file)
			}
			return image.Content, nil
		case artifact.Symlink:
			file = linkTarget(file, image.Target)
		default:
			return nil, fmt.Errorf("%w: %s is %s", location.ErrNoSwitch, file, image.Kind)
		}
	}
	return nil, fmt.Errorf("%w: %s: too many links", location.ErrNoSwitch, file)
}

// linkTarget is the path that a link leads to.
func linkTarget(link, target string) string {
	if path.IsAbs(target) {
		return path.Clean(target)
	}
	return path.Join(path.Dir(link), target)
}
