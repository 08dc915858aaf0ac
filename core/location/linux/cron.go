package linux

import (
	"io/fs"
	"path"
	"strings"

	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine"
)

// userCrontabs are the spool folders of Debian's cron, of cronie and of SUSE's.
var userCrontabs = []string{"/var/spool/cron/crontabs", "/var/spool/cron", "/var/spool/cron/tabs"}

func readSystemCrontabs(s *location.Survey) {
	readCrontab(s, "/etc/crontab", "")
	accepts := cronieAccepts
	if _, err := s.Stat("/etc/debian_version"); err == nil {
		accepts = runPartsAccepts // cron(8) of Debian: the names that run-parts takes
	}
	for _, e := range s.Dir("/etc/cron.d") {
		if accepts(e.Name()) && !e.IsDir() {
			readCrontab(s, path.Join("/etc/cron.d", e.Name()), "")
		}
	}
}

// cronieAccepts is the rule of cronie for /etc/cron.d: all but hidden names and
// what editors and rpm leave behind.
func cronieAccepts(name string) bool {
	if name == "" || strings.ContainsAny(name[:1], ".#") {
		return false
	}
	for _, suffix := range []string{"~", ".rpmsave", ".rpmorig", ".rpmnew"} {
		if strings.HasSuffix(name, suffix) {
			return false
		}
	}
	return true
}

func readUserCrontabs(s *location.Survey) {
	for _, dir := range userCrontabs {
		for _, e := range s.Dir(dir) {
			if e.IsDir() || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			readCrontab(s, path.Join(dir, e.Name()), e.Name())
		}
	}
}

// readCrontab reports the lines of one table.
func readCrontab(s *location.Survey, file, owner string) {
	unix.Crontab(s, file, owner, func(info fs.FileInfo) string { return cronIgnores(s, owner, info) })
}

// cronIgnores tells why cron passes over a whole table: Debian's cron wants a
// system table to be root's and writable by nobody else, and a person's table
// to be that person's.
func cronIgnores(s *location.Survey, owner string, info fs.FileInfo) string {
	uid, _ := machine.Owner(info)
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
