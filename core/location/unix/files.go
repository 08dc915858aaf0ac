package unix

import (
	"path"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// WholeFiles is the form of files each of which is an entry, run by a shell whatever its
// rights are. One is turned off by taking it away.
type WholeFiles struct {
	// Accepts says which names of a folder count; all where nil.
	Accepts func(s *location.Survey, name string) bool
	// Adjust says more of an item; nil if there is no more to say.
	Adjust func(s *location.Survey, f location.Found, item *location.Item)
}

// Word is [autostart.Park].
func (WholeFiles) Word() autostart.Switch { return autostart.Park }

// Read reports the files of the places.
func (w WholeFiles) Read(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		if f.Dir != "" && w.Accepts != nil && !w.Accepts(s, path.Base(f.Path)) {
			return
		}
		info, err := s.Stat(f.Path)
		if err != nil {
			s.Skip(f.Path, err)
			return
		}
		if info.IsDir() {
			return
		}
		item := &location.Item{
			Entry: autostart.Entry{Name: path.Base(f.Path), State: autostart.Enabled, Command: f.Path,
				Source: autostart.Source{Path: f.Path}},
			Artifacts: Files(f.Path),
			Argv:      []string{f.Path},
			Switcher:  location.Park{Artifact: artifact.File(f.Path)},
		}
		if f.User != nil {
			item.User, item.For = autostart.Text(f.User.Name), f.User
		}
		if info.Mode()&0o002 != 0 {
			item.Problems = []string{autostart.Insecure}
		}
		if w.Adjust != nil {
			w.Adjust(s, f, item)
		}
		s.Add(f.Key, item)
	})
}

// Executables is the form of scripts and programs that the system runs when they may be run.
type Executables struct {
	// Accepts says which names of a folder count; all where nil.
	Accepts func(s *location.Survey, name string) bool
	// When words when those of a folder run; nil if the location says it all.
	When func(dir string) string
}

// Word is [autostart.Unexec].
func (Executables) Word() autostart.Switch { return autostart.Unexec }

// Read reports the executables of the places.
func (x Executables) Read(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		if f.Dir != "" && x.Accepts != nil && !x.Accepts(s, path.Base(f.Path)) {
			return
		}
		when := ""
		if x.When != nil {
			when = x.When(f.Dir)
		}
		script(s, f, when)
	})
}
