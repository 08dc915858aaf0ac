package linux

import (
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
)

// periodicFolders are run by /etc/crontab, anacron or timers, with run-parts(8).
var periodicFolders = []string{"/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly"}

func readPeriodic(s *location.Survey) {
	for _, dir := range periodicFolders {
		for _, e := range s.Dir(dir) {
			if !runPartsAccepts(e.Name()) {
				continue
			}
			addScript(s, path.Join(dir, e.Name()), strings.TrimPrefix(path.Ext(dir), "."))
		}
	}
}

// runPartsAccepts is the rule of run-parts(8) without options: letters, digits,
// underscores and hyphens. It leaves out what package managers and editors put
// beside a script.
func runPartsAccepts(name string) bool {
	for _, c := range []byte(name) {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-') {
			return false
		}
	}
	return name != ""
}

// readScripts reads single scripts that the system runs when they may be run.
// Distributions link one of the places to another; the file counts once.
func readScripts(files ...string) func(*location.Survey) {
	return func(s *location.Survey) {
		done := map[string]bool{}
		for _, file := range files {
			full, err := s.Resolve(file)
			if err != nil {
				s.Skip(file, err)
				continue
			}
			if !done[full] {
				done[full] = true
				addScript(s, file, "")
			}
		}
	}
}

// addScript reports an executable file as one entry. What is not executable does
// not start: that is also how the switch leaves it.
func addScript(s *location.Survey, file, schedule string) {
	info, err := s.Stat(file)
	if err != nil {
		if link, lerr := s.Lstat(file); lerr == nil && link.Mode()&fs.ModeSymlink != 0 && machine.IsMissing(err) {
			target, _ := s.Readlink(file)
			s.Add(file, &location.Item{
				Entry: autostart.Entry{
					Name: path.Base(file), State: autostart.Disabled, Mode: "dangling link", Command: file, Switch: autostart.Report,
					Source: autostart.Source{Path: file}, Problems: []string{autostart.TargetMissing},
				},
				Artifacts: files(file),
				Argv:      []string{target},
				Switcher:  location.NoSwitch{Why: fmt.Sprintf("it is a link to %s, which does not exist", target)},
			})
			return
		}
		s.Skip(file, err)
		return
	}
	if !info.Mode().IsRegular() {
		if info.IsDir() {
			return
		}
		s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: machine.ErrNotRegular})
		return
	}
	full, err := s.Resolve(file)
	if err != nil {
		s.Skip(file, err)
		return
	}
	item := &location.Item{
		Entry: autostart.Entry{
			Name: path.Base(file), State: autostart.Enabled, Mode: schedule, Command: file,
			Source: autostart.Source{Path: file},
		},
		Artifacts: files(file),
		Argv:      []string{full},
		Switcher:  unexec{file},
	}
	if info.Mode()&0o111 == 0 {
		item.State = autostart.Disabled
		item.Mode = strings.TrimSpace(schedule + " not executable")
	}
	if info.Mode()&0o022 != 0 && info.Mode()&0o002 != 0 {
		item.Problems = []string{autostart.Insecure}
	}
	s.Add(file, item)
}

// linkMark begins the file that takes the place of a link while it is off.
const linkMark = "# lockback:off link to "

// unexec is the switch of a script that the system runs only when it is
// executable. Of a link the target may serve others, so a file that is not
// executable takes the link's place and remembers where it led.
type unexec struct{ file string }

func (u unexec) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	a := machine.File(u.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	remembered, isMark := strings.CutPrefix(string(image.Content), linkMark)
	switch {
	case want.State == autostart.Disabled && image.Kind == machine.Symlink:
		image = machine.NewFile([]byte(linkMark+strconv.Quote(image.Target)+"\n"), 0o644, image.UID, image.GID, want.Now)
	case image.Kind != machine.Regular:
		return nil, fmt.Errorf("%w: %s is no longer a file", location.ErrNoSwitch, u.file)
	case want.State == autostart.Disabled:
		image.Mode &^= 0o111
	case isMark:
		target, err := strconv.Unquote(strings.TrimSpace(remembered))
		if err != nil {
			return nil, fmt.Errorf("%w: %s does not say which link it stands for", location.ErrNoSwitch, u.file)
		}
		image = machine.NewLink(target, image.UID, image.GID, want.Now)
	default:
		// Whoever may read it may run it: the bits that chmod +x gives.
		image.Mode |= image.Mode & 0o444 >> 2
	}
	return []location.Edit{{Artifact: a, Image: image}}, nil
}

// files makes the list of artifacts that these files are.
func files(names ...string) func() []machine.Artifact {
	return func() []machine.Artifact {
		list := make([]machine.Artifact, len(names))
		for k, name := range names {
			list[k] = machine.File(name)
		}
		return list
	}
}
