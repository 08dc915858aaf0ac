package linux

import (
	"path"
	"regexp"
	"strings"
)

// periodicFolders are run by /etc/crontab, anacron or timers, with run-parts(8).
var periodicFolders = []string{"/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly"}

// period is how often what is in such a folder runs.
func period(dir string) string { return strings.TrimPrefix(path.Ext(dir), ".") }

// runPartsAccepts is the rule of run-parts(8) without options: letters, digits,
// underscores and hyphens. It leaves out what package managers and editors put
// beside a script.
func runPartsAccepts(name string) bool { return runPartsName.MatchString(name) }

// The names that run-parts(8) takes: without options the last kind, with --lsbsysinit any,
// but not those that dpkg leaves behind.
var (
	assignedName     = regexp.MustCompile(`^[a-z0-9]+$`)
	hierarchicalName = regexp.MustCompile(`^_?([a-z0-9_.]+-)+[a-z0-9]+$`)
	runPartsName     = regexp.MustCompile(`^[a-zA-Z0-9_-]+$`)
	leftBehind       = regexp.MustCompile(`\.dpkg-(old|dist|new|tmp)$`)
)

// lsbAccepts is the rule of run-parts(8) with --lsbsysinit, which pam_motd(8) gives it.
func lsbAccepts(name string) bool {
	return !leftBehind.MatchString(name) && (assignedName.MatchString(name) || hierarchicalName.MatchString(name) || runPartsName.MatchString(name))
}
