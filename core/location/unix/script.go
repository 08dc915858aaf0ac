package unix

import (
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// Script reports an executable file as one entry. What is not executable does
// not start: that is also how the switch leaves it. When words when it runs; empty if the
// location says it all.
func Script(s *location.Survey, file, when string) {
	script(s, location.Found{Path: file, Key: file}, when)
}

// script is Script of a file that may lie in a home.
func script(s *location.Survey, f location.Found, when string) {
	file := f.Path
	info, err := s.Stat(file)
	if err != nil {
		if link, lerr := s.Lstat(file); lerr == nil && link.Mode()&fs.ModeSymlink != 0 && files.IsMissing(err) {
			target, _ := s.Readlink(file)
			s.Add(f.Key, &location.Item{
				Entry: autostart.Entry{
					User: userOf(f), Name: path.Base(file), State: autostart.Disabled, When: when,
					Mode: "dangling link", Command: file,
					Source: autostart.Source{Path: file}, Problems: []string{autostart.TargetMissing},
				},
				Artifacts: Files(file),
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
		s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: files.ErrNotRegular})
		return
	}
	full, err := s.Resolve(file)
	if err != nil {
		s.Skip(file, err)
		return
	}
	item := &location.Item{
		Entry: autostart.Entry{
			User: userOf(f), Name: path.Base(file), State: autostart.Enabled, When: when, Command: file,
			Source: autostart.Source{Path: file},
		},
		Artifacts: Files(file),
		Argv:      []string{full},
		Switcher:  unexec{file},
	}
	if info.Mode()&0o111 == 0 {
		item.State, item.Mode = autostart.Disabled, "not executable"
	}
	if info.Mode()&0o022 != 0 && info.Mode()&0o002 != 0 {
		item.Problems = []string{autostart.Insecure}
	}
	item.For = f.User
	s.Add(f.Key, item)
}

// userOf is whose file it is; empty for one of the whole machine.
func userOf(f location.Found) string {
	if f.User == nil {
		return ""
	}
	return autostart.Text(f.User.Name)
}

// Every words how often what is called hourly, daily, weekly or monthly is run.
var Every = map[string]string{"15min": "every 15 minutes", "hourly": "every hour", "daily": "every day",
	"weekly": "every week", "monthly": "every month"}

// linkMark begins the file that takes the place of a link while it is off.
const linkMark = "# lockback:off link to "

// unexec is the switch of a script that the system runs only when it is
// executable. Of a link the target may serve others, so a file that is not
// executable takes the link's place and remembers where it led.
type unexec struct{ file string }

// Word is [autostart.Unexec].
func (unexec) Word() autostart.Switch { return autostart.Unexec }

func (u unexec) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	a := artifact.File(u.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	remembered, isMark := strings.CutPrefix(string(image.Content), linkMark)
	switch {
	case want.State == autostart.Disabled && image.Kind == artifact.Symlink:
		image = artifact.NewFile([]byte(linkMark+strconv.Quote(image.Target)+"\n"), 0o644, image.UID, image.GID,
			want.Now)
	case image.Kind != artifact.Regular:
		return nil, fmt.Errorf("%w: %s is no longer a file", location.ErrNoSwitch, u.file)
	case want.State == autostart.Disabled:
		image.Mode &^= 0o111
	case isMark:
		target, err := strconv.Unquote(strings.TrimSpace(remembered))
		if err != nil {
			return nil, fmt.Errorf("%w: %s does not say which link it stands for", location.ErrNoSwitch, u.file)
		}
		image = artifact.NewLink(target, image.UID, image.GID, want.Now)
	default:
		// Whoever may read it may run it: the bits that chmod +x gives.
		image.Mode |= image.Mode & 0o444 >> 2
	}
	return []location.Edit{{Artifact: a, Image: image}}, nil
}

// Files makes the list of artifacts that these files are.
func Files(names ...string) func() []artifact.Artifact {
	return func() []artifact.Artifact {
		list := make([]artifact.Artifact, len(names))
		for k, name := range names {
			list[k] = artifact.File(name)
		}
		return list
	}
}
