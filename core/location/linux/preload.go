package linux

import (
	"fmt"
	"path"
	"slices"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/location/unix"
)

// maxPreloads is how many libraries are listed.
const maxPreloads = 1000

// readPreload reports the libraries of ld.so.preload, ld.so(8), which the linker loads into every program.
func readPreload(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		content, ok := s.File(f.Path)
		if !ok {
			return
		}
		words := part.Words(content)
		for k, text := range words {
			if slices.Contains(words[:min(k, maxPreloads)], text) {
				continue // once more
			}
			if k == maxPreloads {
				s.Skip(f.Path, fmt.Errorf("more than %d libraries", maxPreloads))
				return
			}
			item := named(path.Base(text), text, []string{text})
			item.State, item.When, item.Source, item.Artifacts = autostart.Enabled, "loaded into every program",
				autostart.Source{Path: f.Path}, unix.Files(f.Path)
			item.Switcher = trimmed{item: part.Word{File: f.Path, Text: text}}
			s.Add(f.Key+"\x00"+text, item)
		}
	})
}

// trimmed takes one item out of a list in a file. Then only the record holds it.
type trimmed struct{ item part.Word }

// Word is [autostart.Trim].
func (trimmed) Word() autostart.Switch { return autostart.Trim }

// Removes is true.
func (trimmed) Removes() bool { return true }

// Part is the item.
func (t trimmed) Part() part.Part { return t.item }

// Plan takes the item out.
func (t trimmed) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case want.State == autostart.Enabled:
		return nil, fmt.Errorf("%w: the record brings back what was removed", location.ErrNoSwitch)
	}
	image, err := images.Image(t.item.In())
	if err != nil {
		return nil, err
	}
	without, ok, err := t.item.Without(image, want.Now)
	if err == nil && !ok {
		err = fmt.Errorf("%w: %s no longer has %s", location.ErrNoSwitch, t.item.File, t.item.Text)
	}
	if err != nil {
		return nil, err
	}
	return []location.Edit{{Artifact: t.item.In(), Image: without}}, nil
}
