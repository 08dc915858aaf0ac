package linux

import (
	"io/fs"
	"slices"
	"strings"

	"lockback/core/location"
	"lockback/core/machine/files"
)

// userCrontabs are the spool folders of Debian's cron, of cronie and of SUSE's.
var userCrontabs = []string{"/var/spool/cron/crontabs", "/var/spool/cron", "/var/spool/cron/tabs"}

// cronAccepts is the rule for /etc/cron.d: cron(8) of Debian takes the names that run-parts
// takes.
func cronAccepts(s *location.Survey, name string) bool {
	if _, err := s.Stat("/etc/debian_version"); err == nil {
		return runPartsAccepts(name)
	}
	return cronieAccepts(name)
}

// notHidden leaves out what editors put beside a table.
func notHidden(_ *location.Survey, name string) bool { return !strings.HasPrefix(name, ".") }

// cronieAccepts is the rule of cronie for /etc/cron.d: all but hidden names and
// what editors and rpm leave behind.
func cronieAccepts(name string) bool {
	if name == "" || strings.ContainsAny(name[:1], ".#") {
		return false
	}
	return !endsIn(name, rpmLeaves...)
}

// rpmLeaves are the endings of what editors and rpm leave beside a file.
var rpmLeaves = []string{"~", ".rpmsave", ".rpmorig", ".rpmnew"}

// endsIn reports whether a name has one of some endings.
func endsIn(name string, endings ...string) bool {
	return slices.ContainsFunc(endings, func(ending string) bool { return strings.HasSuffix(name, ending) })
}

// cronIgnores tells why cron skips a whole table: Debian's cron wants a
// system table to be root's and writable by nobody else, and a user's table
// to be that user's.
func cronIgnores(s *location.Survey, owner string, info fs.FileInfo) string {
	if owner != "" && s.Machine.Unknown(owner) {
		return "there is no account " + owner
	}
	uid, _ := files.Owner(info)
	if uid < 0 || !s.Machine.KeepsOwners {
		return ""
	}
	if owner == "" {
		switch {
		case uid != 0:
			return "not owned by root"
		case info.Mode()&0o022 != 0:
			return "others may write to it"
		}
		return ""
	}
	if u, ok := s.Machine.UserNamed(owner); ok && u.UID != uid {
		return "not owned by " + owner
	}
	return ""
}
