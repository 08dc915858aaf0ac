package linux

import (
	"path"
	"regexp"
	"strings"

	"lockback/core/location"
	"lockback/core/location/unix"
)

// periodicFolders are run by /etc/crontab, anacron or timers, with run-parts(8).
var periodicFolders = []string{"/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly"}

// period is how often what is in such a folder runs.
func period(dir string) string { return unix.Every[strings.TrimPrefix(path.Ext(dir), ".")] }

// runPartsAccepts is the rule of run-parts(8) without options: letters, digits,
// underscores and hyphens. It leaves out what package managers and editors put
// beside a script.
func runPartsAccepts(name string) bool { return runPartsName.MatchString(name) }

// anyMachine is a rule for names that is the same on all machines.
func anyMachine(accepts func(string) bool) func(*location.Survey, string) bool {
	return func(_ *location.Survey, name string) bool { return accepts(name) }
}

// periodicAccepts is the rule for the hourly to monthly folders: of Debian that of its run-parts,
// elsewhere that of crontabs' run-parts, a script of Fedora and its family: all but hidden names and
// what editors and rpm leave behind.
func periodicAccepts(s *location.Survey, name string) bool {
	if has(s, "/etc/debian_version") {
		return runPartsAccepts(name)
	}
	return cronieAccepts(name) && !strings.HasSuffix(name, ",") && !strings.HasSuffix(name, ",v") && !strings.HasSuffix(name, ".swp") && !strings.HasSuffix(name, ".cfsaved")
}

// The names that run-parts takes: without options runPartsName; with --lsbsysinit one of the
// other three, but not what dpkg leaves behind. The manual has capitals and
// underscores in the last; the program of debianutils does not take them.
var (
	runPartsName     = regexp.MustCompile(`^[a-zA-Z0-9_-]+$`)
	assignedName     = regexp.MustCompile(`^[a-z0-9]+$`)
	hierarchicalName = regexp.MustCompile(`^_?([a-z0-9_.]+-)+[a-z0-9]+$`)
	traditionalName  = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)
	leftBehind       = regexp.MustCompile(`\.dpkg-(old|dist|new|tmp)$`)
)

// lsbAccepts is the rule of run-parts(8) with --lsbsysinit, which pam_motd(8) gives it.
func lsbAccepts(name string) bool {
	return !leftBehind.MatchString(name) && (assignedName.MatchString(name) || hierarchicalName.MatchString(name) || traditionalName.MatchString(name))
}
