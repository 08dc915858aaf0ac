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
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/artifact"
)

// sysvFolders hold a folder of links for each runlevel, of Debian's family and of others.
var sysvFolders = []string{"/etc", "/etc/rc.d"}

// sysvLink is what a link of a runlevel is called: S starts the script, K stops it; the number says when.
var sysvLink = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^([SK])([0-9][0-9])(.+)$`) })

// rcLink is one link of a runlevel.
type rcLink struct {
	dir, level, number, script string
	starts                     bool
}

// at is the path of the link as one that starts its script, or as one that does not.
func (l rcLink) at(starts bool) string {
	letter := "K"
	if starts {
		letter = "S"
	}
	return path.Join(l.dir, letter+l.number+l.script)
}

// rcPlaces are the folders of the runlevels in which a machine runs, and of what comes before them.
func rcPlaces() []location.Place {
	var places []location.Place
	for _, dir := range sysvFolders {
		for _, level := range []string{"S", "2", "3", "4", "5"} {
			places = append(places, location.In(path.Join(dir, "rc"+level+".d"))...)
		}
	}
	return places
}

// readSysV reports the scripts that links of runlevels start: under an init that follows them those of
// its default runlevel, under systemd those for which its generator makes a unit,
// systemd-sysv-generator(8).
func readSysV(s *location.Survey, places []location.Place) {
	links := map[string][]rcLink{}
	var names []string
	seen := map[string]bool{} // in Fedora's family /etc/rc2.d is a link to the one in /etc/rc.d
	for _, p := range places {
		full, err := s.Resolve(p.Path)
		if err != nil || seen[full] {
			s.Skip(p.Path, err)
			continue
		}
		seen[full] = true
		for _, e := range s.Dir(p.Path) {
			m := sysvLink().FindStringSubmatch(e.Name())
			if m == nil || e.Type()&fs.ModeSymlink == 0 {
				continue
			}
			if links[m[3]] == nil {
				names = append(names, m[3])
			}
			level := strings.TrimSuffix(strings.TrimPrefix(path.Base(p.Path), "rc"), ".d")
			links[m[3]] = append(links[m[3]], rcLink{p.Path, level, m[2], m[3], m[1] == "S"})
		}
	}
	slices.Sort(names)
	bySystemd := otherInit(s) == ""
	level := defaultRunlevel(s)
	for _, name := range names {
		if item := sysvItem(s, name, links[name], bySystemd, level); item != nil {
			s.Add(name, item)
		}
	}
}

// defaultRunlevel is what inittab(5) says, 2 as Debian defines it where it says nothing.
func defaultRunlevel(s *location.Survey) string {
	content, _ := s.ReadFile("/etc/inittab", 1<<20)
	for line := range strings.Lines(string(content)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); len(f) > 2 && f[2] == "initdefault" &&
			!strings.HasPrefix(f[0], "#") {
			return f[1]
		}
	}
	return "2"
}

func sysvItem(s *location.Survey, name string, links []rcLink, bySystemd bool, level string) *location.Item {
	script := path.Join("/etc/init.d", name)
	if full, err := s.Resolve(links[0].at(links[0].starts)); err == nil {
		script = full
	}
	unit := strings.TrimSuffix(name, ".sh") + ".service"
	if bySystemd {
		if exists, _ := unitStarts(s, unit, "/run/systemd/generator.late"); exists {
			return nil // the unit takes the script's place, and is an entry of its own
		}
	}
	item := &location.Item{
		Entry: autostart.Entry{Name: name, State: autostart.Disabled, Command: script,
			Source: autostart.Source{Path: script}},
		Artifacts: func() []artifact.Artifact {
			names := []string{script}
			for _, l := range links {
				names = append(names, l.at(true), l.at(false))
			}
			return unix.Files(names...)()
		},
		Argv:     []string{script},
		Switcher: renamed{links},
	}
	var levels []string
	for _, l := range links {
		follows := l.level == level || l.level == "S"
		if bySystemd {
			follows = l.level != "S"
		}
		if l.starts && follows {
			item.State = autostart.Enabled
		}
		if l.starts {
			levels = append(levels, l.level)
		}
	}
	switch info, err := s.Stat(script); {
	case err != nil:
		s.Skip(script, err)
		item.State, item.Mode = autostart.Disabled, "dangling link"
		item.Problems = []string{autostart.TargetMissing}
	case info.Mode()&0o111 == 0:
		item.State, item.Mode = autostart.Disabled, "not executable"
	case item.State == autostart.Disabled && len(levels) > 0 && bySystemd:
		item.Mode, item.Ignored = "", "systemd does not read rcS.d"
		item.Problems = []string{autostart.Ignored}
		item.Switcher = location.NoSwitch{Why: "systemd does not read rcS.d"}
	case item.State == autostart.Disabled && len(levels) > 0:
		item.Mode = "only in runlevel " + strings.Join(levels, ", ")
	case item.State == autostart.Disabled:
		item.Mode = "off in every runlevel"
	}
	return item
}

// renamed is the switch of the links of runlevels: S becomes K and K becomes S, with their numbers, as
// update-rc.d(8) does it.
type renamed struct{ links []rcLink }

// Word is [autostart.Rename].
func (renamed) Word() autostart.Switch { return autostart.Rename }

// Plan renames the links.
func (r renamed) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	on := want.State == autostart.Enabled
	var edits []location.Edit
	for _, l := range r.links {
		from, to := artifact.File(l.at(!on)), artifact.File(l.at(on))
		was, err := images.Image(from)
		if err != nil {
			return nil, err
		}
		if was.Kind != artifact.Symlink {
			continue
		}
		there, err := images.Image(to)
		if err != nil {
			return nil, err
		}
		if there.Kind != artifact.Absent {
			return nil, fmt.Errorf("%w: both %s and %s are there", location.ErrNoSwitch, from.Name, to.Name)
		}
		edits = append(edits, location.Edit{Artifact: to, Image: was}, location.Edit{Artifact: from,
			Image: artifact.Image{Kind: artifact.Absent}})
	}
	return edits, nil
}
