package unix

import (
	"bytes"
	"fmt"
	"path"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// Overridden reports executables in an override chain: of each name the first that is there counts, and
// a link to /dev/null before a vendor's keeps it from being run.
func Overridden(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		info, err := s.Stat(f.Path)
		if err != nil || !info.Mode().IsRegular() {
			s.Skip(f.Path, err)
			return
		}
		item := &location.Item{
			Entry: autostart.Entry{Name: path.Base(f.Path), State: autostart.Enabled, Command: f.Path,
				Source: autostart.Source{Path: f.Path}},
			Artifacts: Files(f.Path),
			Argv:      []string{f.Path},
			Switcher:  unexec{f.Path},
		}
		if f.Own != "" && f.Path != f.Own {
			item.Artifacts, item.Switcher = Files(f.Own, f.Path), Masked{Own: f.Own}
		}
		if info.Mode()&0o002 != 0 {
			item.Problems = []string{autostart.Insecure}
		}
		switch {
		case f.Masked != "" && f.Masked != f.Own:
			item.State, item.Mode = autostart.Disabled, "masked by "+f.Masked
			item.Switcher = location.NoSwitch{Why: f.Masked + " masks it; take that away"}
		case f.Masked != "":
			item.State, item.Mode = autostart.Disabled, "masked"
		case info.Mode()&0o111 == 0:
			item.State, item.Mode = autostart.Disabled, "not executable"
			item.Switcher = unexec{f.Path}
		case f.Path == f.Own && f.Vendor != "":
			item.Switcher = location.NoSwitch{Why: "without it " + f.Vendor + " would run in its place"}
		}
		s.Add(f.Key, item)
	})
}

// Masked is the switch of a vendor's file: a link to /dev/null where the administrator's would stand.
type Masked struct {
	Own string
	// Content is what stands there in place of the link; nil for a link.
	Content []byte
}

// Word is [autostart.Mask].
func (Masked) Word() autostart.Switch { return autostart.Mask }

// Plan makes the link, or takes it away.
func (m Masked) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	a := artifact.File(m.Own)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	mask := artifact.NewLink("/dev/null", 0, 0, want.Now)
	masks := image.Kind == artifact.Symlink && image.Target == "/dev/null" || image.Kind == artifact.Regular &&
		len(image.Content) == 0
	if m.Content != nil {
		mask = artifact.NewFile(m.Content, 0o644, 0, 0, want.Now)
		masks = image.Kind == artifact.Regular && bytes.Equal(image.Content, m.Content)
	}
	switch {
	case want.State == autostart.Disabled && image.Kind == artifact.Absent:
		return []location.Edit{{Artifact: a, Image: mask}}, nil
	case want.State == autostart.Enabled && masks:
		return []location.Edit{{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}}}, nil
	case want.State == autostart.Disabled && masks, want.State == autostart.Enabled && image.Kind == artifact.Absent:
		return nil, nil
	}
	return nil, fmt.Errorf("%w: %s is in the way", location.ErrNoSwitch, m.Own)
}
