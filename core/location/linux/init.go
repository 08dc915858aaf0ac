package linux

import (
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
)

// initPath is the program that the kernel starts as the first process, kernel/init/main.c.
const initPath = "/sbin/init"

// otherInit says that the machine starts with another init than systemd, whose units then start
// nothing; empty where systemd is the first process, and where no init can be seen: a disk without
// its /usr.
func otherInit(s *location.Survey) string {
	if name := initOf(s); name != "" && name != "systemd" {
		return "this machine starts with " + name + ", not with systemd"
	}
	return ""
}

// onlyUnder says, for what another init alone reads, that the machine does not start with it.
func onlyUnder(inits ...string) func(*location.Survey) string {
	return func(s *location.Survey) string {
		name := initOf(s)
		for _, init := range inits {
			if name == init {
				return ""
			}
		}
		if name == "" {
			return "no " + inits[0] + " is installed"
		}
		return "this machine starts with " + name + ", not with " + inits[0]
	}
}

// initOf is the init of the machine; empty where none can be seen. That of a running machine with
// systemd shows in a folder of its own, sd_booted(3); else it is what /sbin/init leads to.
func initOf(s *location.Survey) string {
	if s.Machine.Live {
		if _, err := s.Stat("/run/systemd/system"); err == nil {
			return "systemd"
		}
	}
	file, err := s.Resolve(initPath)
	if err != nil {
		return ""
	}
	if _, err := s.Lstat(file); err != nil {
		// A link of a merged folder may lead to a /usr that is not there.
		if target, err := s.Readlink(initPath); err == nil && strings.HasPrefix(path.Base(target), "systemd") {
			return "systemd"
		}
		return ""
	}
	name := path.Base(file)
	switch {
	case name == "systemd":
		return "systemd"
	case strings.HasPrefix(name, "openrc"):
		return "OpenRC"
	case strings.HasPrefix(name, "runit"):
		return "runit"
	case name == "busybox":
		return "busybox"
	case name == "init" && has(s, "/etc/inittab"):
		return "sysvinit"
	}
	return "another init (" + autostart.Text(file) + ")"
}

// has reports whether a file is there.
func has(s *location.Survey, file string) bool {
	_, err := s.Stat(file)
	return err == nil
}

// noRunlevels says where nothing follows the links of runlevels: under systemd its generator does.
func noRunlevels(s *location.Survey) string {
	switch name := initOf(s); {
	case name == "runit", name == "busybox", name == "OpenRC":
		return "this machine starts with " + name + ", which has no such runlevels"
	case name == "sysvinit" && hasOpenRC(s):
		return "OpenRC starts the services of this machine, and has no such runlevels"
	}
	return ""
}

// hasOpenRC reports whether OpenRC is installed. Where sysvinit or busybox is the first process, it is what they start
// the services with.
func hasOpenRC(s *location.Survey) bool {
	_, _, err := location.FindProgram(s, "openrc")
	return err == nil
}

// noOpenRC says where OpenRC does not start the services.
func noOpenRC(s *location.Survey) string {
	switch name := initOf(s); {
	case name == "OpenRC", (name == "sysvinit" || name == "busybox") && hasOpenRC(s):
		return ""
	case name == "" || !hasOpenRC(s):
		return "no OpenRC is installed"
	default:
		return "this machine starts with " + name + ", not with OpenRC"
	}
}
