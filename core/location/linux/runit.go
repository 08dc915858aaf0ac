package linux

import (
	"fmt"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// runitFolders are where runsvdir(8) looks for services, by distribution; most are links to each other, some
// through /run, which a disk does not have.
var runitFolders = []string{"/etc/service", "/var/service", "/service", "/etc/runit/runsvdir/current",
	"/etc/runit/runsvdir/default"}

var runsvdir = program{"runit", []string{"runsvdir"}, []string{"runit.service", "runsvdir.service",
	"runit-run.service"}}

// readRunit reports the services of runit: folders with a program run in them. One with a file down in it is
// not started, runsv(8).
func readRunit(s *location.Survey, _ []location.Place) {
	seen := map[string]bool{}
	for _, folder := range runitFolders {
		if full, err := s.Resolve(folder); err != nil || seen[full] {
			continue
		} else {
			seen[full] = true
		}
		for _, e := range s.Dir(folder) {
			service := path.Join(folder, e.Name())
			info, err := s.Stat(service)
			if strings.HasPrefix(e.Name(), ".") || err == nil && !info.IsDir() {
				continue
			}
			full, rerr := s.Resolve(service)
			if err == nil && rerr == nil {
				if seen[full] {
					continue
				}
				seen[full] = true
			}
			run := path.Join(service, "run")
			item := named(e.Name(), run, []string{path.Join(full, "run")})
			item.State, item.Source = autostart.Enabled, autostart.Source{Path: service}
			switch {
			case err != nil && !files.IsMissing(err):
				s.Skip(service, err)
				continue
			case err != nil || rerr != nil:
				item.State, item.Mode, item.Problems = autostart.Disabled, "dangling link",
					[]string{autostart.TargetMissing}
				item.Argv, item.Artifacts, item.Switcher = []string{run}, unix.Files(service),
					location.NoSwitch{Why: "it is a link that leads nowhere"}
			default:
				sw := downFile{path.Join(full, "down")}
				item.Artifacts, item.Switcher = unix.Files(sw.file), sw
				if has(s, sw.file) {
					item.State, item.Mode = autostart.Disabled, "down"
				}
				if ran, err := s.Stat(run); err != nil || ran.Mode()&0o111 == 0 {
					item.State, item.Mode, item.Ignored = autostart.Disabled, "", "it has no program run"
					item.Problems = append(item.Problems, autostart.Ignored)
				}
			}
			s.Add(full, item)
		}
	}
}

// downFile is the switch of a service of runit: a file named down beside its program.
type downFile struct{ file string }

// Word is [autostart.DownFile].
func (downFile) Word() autostart.Switch { return autostart.DownFile }

// Plan makes the file, or takes it away.
func (d downFile) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	a := artifact.File(d.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	switch off := want.State == autostart.Disabled; {
	case off == (image.Kind != artifact.Absent):
		return nil, nil
	case off:
		return []location.Edit{{Artifact: a, Image: artifact.NewFile(nil, 0o644, 0, 0, want.Now)}}, nil
	case image.Kind == artifact.Folder:
		return nil, fmt.Errorf("%w: %s is a folder", location.ErrNoSwitch, d.file)
	}
	return []location.Edit{{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}}}, nil
}
