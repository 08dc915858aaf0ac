package linux

import (
	"path"
	"regexp"
	"strings"

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
