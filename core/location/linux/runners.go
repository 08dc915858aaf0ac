package linux

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"lockback/core/format/unitfile"
	"lockback/core/location"
)

// program is what acts on a location's entries: it must be installed, and where systemd is the first
// process one of its units must be started.
type program struct {
	// title is what people call it.
	title string
	// files are its programs, any of which is enough.
	files []string
	// units start it, any of which is enough; none for what is started by what it serves.
	units []string
}

// The daemons whose tables are read.
var (
	cronDaemon = program{"cron", []string{"cron", "crond", "fcron"}, []string{"cron.service", "crond.service",
		"cronie.service", "dcron.service", "fcron.service", "systemd-cron.target", "cron.target"}}
	atDaemon = program{"at", []string{"atd"}, []string{"atd.service"}}
	podman   = program{title: "podman", files: []string{"podman"}}
	// anacron is started by its own unit or timer, by cron, or by nobody: which is not told here.
	anacronProgram = program{title: "anacron", files: []string{"anacron"}}
	incronDaemon   = program{"incron", []string{"incrond"}, []string{"incron.service", "incrond.service"}}
	inetdDaemon    = program{title: "inetd", files: []string{"inetd", "inetutils-inetd"},
		units: []string{"inetd.service", "inetutils-inetd.service", "openbsd-inetd.service"}}
	acpiDaemon     = program{"acpid", []string{"acpid"}, []string{"acpid.service", "acpid.socket", "acpid.path"}}
	pmUtils        = program{title: "pm-utils", files: []string{"pm-suspend"}}
	cloudInit      = program{title: "cloud-init", files: []string{"cloud-init"}}
	networkManager = program{"NetworkManager", []string{"NetworkManager"}, []string{"NetworkManager.service"}}
	ifupdown       = program{title: "ifupdown", files: []string{"ifup"}}
	dhclient       = program{title: "dhclient", files: []string{"dhclient"}}
	pppDaemon      = program{title: "pppd", files: []string{"pppd"}}
	logrotate      = program{title: "logrotate", files: []string{"logrotate"}}
	wgQuick        = program{title: "wg-quick", files: []string{"wg-quick"}}
	openVPN        = program{title: "openvpn", files: []string{"openvpn"}}
	apt            = program{title: "apt", files: []string{"apt-get"}}
	mailServer     = program{title: "a mail server", files: []string{"sendmail", "exim4", "postfix"}}
	procmail       = program{title: "procmail", files: []string{"procmail"}}
	dispatcher     = program{"networkd-dispatcher", []string{"networkd-dispatcher"},
		[]string{"networkd-dispatcher.service"}}
)

// off tells why the program does not act; empty where it does, and where that cannot be known: a disk
// without its /usr shows no programs at all.
func (p program) off(s *location.Survey) string {
	if !has(s, "/usr/bin") && !has(s, "/usr/sbin") {
		return ""
	}
	installed := false
	for _, name := range p.files {
		if _, _, err := location.FindProgram(s, name); err == nil {
			installed = true
		}
	}
	if !installed {
		return p.title + " is not installed"
	}
	if len(p.units) == 0 || initOf(s) != "systemd" {
		return ""
	}
	known := false
	for _, unit := range p.units {
		switch exists, starts := unitStarts(s, unit); {
		case starts:
			return ""
		case exists:
			known = true
		}
	}
	if known {
		return p.title + " is turned off"
	}
	return "" // started by something that is not seen here
}

// unitStarts reports whether a unit of the system is there, and whether a link or another unit starts
// it. A whole reading of all units would tell no more of a daemon. Folders that are not meant are named.
func unitStarts(s *location.Survey, unit string, but ...string) (exists, starts bool) {
	masked := false
	for _, dir := range systemUnits.places() {
		if slices.Contains(but, dir) {
			continue
		}
		file := path.Join(dir, unit)
		info, err := s.Lstat(file)
		if err != nil || exists {
			continue
		}
		exists = true
		target, _ := s.Readlink(file)
		masked = target == "/dev/null" || info.Mode().IsRegular() && info.Size() == 0
	}
	if !exists || masked {
		return exists, false
	}
	linked := s.Shared("linked units", func() any { return linkedUnits(s) }).(map[string]bool)
	if linked[unit] {
		return true, true
	}
	return true, s.Shared("units that others name", func() any { return namedUnits(s) }).(map[string]bool)[unit]
}

// linkedUnits are the units of the system that a link starts with another one.
func linkedUnits(s *location.Survey) map[string]bool {
	linked := map[string]bool{}
	for _, dir := range systemUnits.places() {
		entries, _ := s.ReadDir(dir)
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), ".wants") && !strings.HasSuffix(e.Name(), ".requires") {
				continue
			}
			links, _ := s.ReadDir(path.Join(dir, e.Name()))
			for _, l := range links {
				if target, err := s.Readlink(path.Join(dir, e.Name(), l.Name())); err == nil && target != "/dev/null" {
					linked[l.Name()] = true
				}
			}
		}
	}
	return linked
}

// namedUnits are the units of the system that another one, or a drop-in of one, names among those that are started
// with it, and those that a timer starts later. Only where a daemon's unit has no link are all of them read.
func namedUnits(s *location.Survey) map[string]bool {
	named := map[string]bool{}
	parsed := systemUnitFiles(s)
	linked := s.Shared("linked units", func() any { return linkedUnits(s) }).(map[string]bool)
	add := func(file string) {
		f, ok := parsed.load(s.View, file)
		if !ok {
			return
		}
		if name := path.Base(file); unitfile.Suffix(name) == ".timer" && linked[name] {
			named[cmp.Or(unitfile.Expand(f.Last("Timer", "Unit"), name), strings.TrimSuffix(name, ".timer")+
				".service")] = true
		}
		for _, key := range dependencyKeys {
			for _, name := range f.List("Unit", key) {
				named[name] = true
			}
		}
	}
	for _, dir := range systemUnits.places() {
		entries, _ := s.ReadDir(dir)
		for _, e := range entries {
			file := path.Join(dir, e.Name())
			if e.Type().IsRegular() && unitfile.Valid(e.Name()) {
				add(file)
			}
			if !e.IsDir() || !strings.HasSuffix(e.Name(), ".d") {
				continue
			}
			dropIns, _ := s.ReadDir(file)
			for _, d := range dropIns {
				if strings.HasSuffix(d.Name(), ".conf") {
					add(path.Join(file, d.Name()))
				}
			}
		}
	}
	return named
}
