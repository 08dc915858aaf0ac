package linux

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/artifact"
)

// linked is the form of things that a folder describes and that start where another folder has a link to them:
// services of OpenRC, machines and networks of libvirt.
type linked struct {
	from   string   // the folder that describes them
	suffix string   // of their names
	links  []string // the folders of links; * stands for the names in a folder
	usual  string   // the folder that gets the link of one that is turned on
	when   func(folder string) string
	title  string // before the name; empty for none
}

// Word is [autostart.Unlink].
func (linked) Word() autostart.Switch { return autostart.Unlink }

// Read reports what is described, and links that lead to nothing.
func (l linked) Read(s *location.Survey, _ []location.Place) {
	var folders []string
	for _, pattern := range l.links {
		folders = append(folders, s.Expand("/", pattern, true)...)
	}
	in := map[string][]string{} // a name, to the folders that have a link of it
	for _, folder := range folders {
		for _, e := range s.Dir(folder) {
			if isLink(s, path.Join(folder, e.Name())) && strings.HasSuffix(e.Name(), l.suffix) {
				in[e.Name()] = append(in[e.Name()], folder)
			}
		}
	}
	if !slices.ContainsFunc(folders, func(folder string) bool { return has(s, folder) }) {
		return // nothing follows such links here
	}
	described := map[string]bool{}
	var names []string
	for _, e := range s.Dir(l.from) {
		if info, err := s.Stat(path.Join(l.from, e.Name())); err == nil && info.Mode().IsRegular() &&
			strings.HasSuffix(e.Name(), l.suffix) && (l.suffix != "" || info.Mode()&0o111 != 0) {
			described[e.Name()] = true
			names = append(names, e.Name())
		}
	}
	for name := range in {
		if !described[name] {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		file := path.Join(l.from, name)
		short := strings.TrimSuffix(name, l.suffix)
		item := named(l.title+short, file, []string{file})
		if l.suffix != "" {
			item.Argv = nil
		}
		sw := linkSwitch{target: file, name: name, folders: slices.Clone(folders), usual: l.usual,
			described: described[name]}
		if !slices.Contains(sw.folders, sw.usual) {
			sw.folders = append(sw.folders, sw.usual)
		}
		item.State, item.Source, item.Switcher = autostart.Enabled, autostart.Source{Path: file}, sw
		files := []string{}
		for _, folder := range sw.folders {
			files = append(files, path.Join(folder, name))
		}
		if described[name] {
			files = append(files, file)
		} else {
			item.Source.Path, item.Mode, item.Problems = path.Join(in[name][0], name), "dangling link",
				[]string{autostart.TargetMissing}
		}
		if len(in[name]) == 0 {
			item.State = autostart.Disabled
		} else if l.when != nil {
			var words []string
			for _, folder := range in[name] {
				words = append(words, l.when(folder))
			}
			item.When = strings.Join(words, ", ")
		}
		item.Artifacts = unix.Files(files...)
		s.Add(file, item)
	}
}

// linkSwitch takes the links away, or makes the usual one.
type linkSwitch struct {
	target, name string
	folders      []string
	usual        string
	described    bool
}

// Word is [autostart.Unlink].
func (linkSwitch) Word() autostart.Switch { return autostart.Unlink }

// Removes reports whether nothing is left once the links are gone.
func (l linkSwitch) Removes() bool { return !l.described }

// Plan returns the edits.
func (l linkSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	var edits []location.Edit
	on := false
	for _, folder := range l.folders {
		a := artifact.File(path.Join(folder, l.name))
		image, err := images.Image(a)
		if err != nil {
			return nil, err
		}
		switch {
		case image.Kind == artifact.Absent:
		case image.Kind != artifact.Symlink:
			return nil, fmt.Errorf("%w: %s is not a link", location.ErrNoSwitch, a.Name)
		case want.State == autostart.Disabled:
			edits = append(edits, location.Edit{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}})
		default:
			on = true
		}
	}
	switch {
	case want.State == autostart.Disabled || on:
		return edits, nil
	case !l.described:
		return nil, fmt.Errorf("%w: %s is not there", location.ErrNoSwitch, l.target)
	}
	return []location.Edit{{Artifact: artifact.File(path.Join(l.usual, l.name)), Image: artifact.NewLink(l.target, 0, 0,
		want.Now)}}, nil
}

// openRCServices are the scripts of OpenRC and its runlevels, rc-update(8).
var openRCServices = linked{from: "/etc/init.d", links: []string{"/etc/runlevels/*"}, usual: "/etc/runlevels/default",
	when: func(folder string) string { return "in runlevel " + path.Base(folder) }}

// libvirtOf are the machines, networks or stores of libvirt, which start with it where autostart has a link to
// them, virsh(1).
func libvirtOf(folder, title string) linked {
	return linked{from: folder, suffix: ".xml", links: []string{folder + "/autostart"}, usual: folder + "/autostart",
		title: title,
		when:  func(string) string { return "with libvirt, at startup" }}
}
