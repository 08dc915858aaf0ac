package linux

import (
	"path"
	"strings"

	"lockback/core/location"
	"lockback/core/location/unix"
)

// periodicFolders are run by /etc/crontab, anacron or timers, with run-parts(8).
var periodicFolders = []string{"/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly"}

func readPeriodic(s *location.Survey) {
	for _, dir := range periodicFolders {
		for _, e := range s.Dir(dir) {
			if !runPartsAccepts(e.Name()) {
				continue
			}
			unix.Script(s, path.Join(dir, e.Name()), strings.TrimPrefix(path.Ext(dir), "."))
		}
	}
}

// runPartsAccepts is the rule of run-parts(8) without options: letters, digits,
// underscores and hyphens. It leaves out what package managers and editors put
// beside a script.
func runPartsAccepts(name string) bool {
	for _, c := range []byte(name) {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-') {
			return false
		}
	}
	return name != ""
}

// readScripts reads single scripts that the system runs when they may be run.
// Distributions link one of the places to another; the file counts once.
func readScripts(files ...string) func(*location.Survey) {
	return func(s *location.Survey) {
		done := map[string]bool{}
		for _, file := range files {
			full, err := s.Resolve(file)
			if err != nil {
				s.Skip(file, err)
				continue
			}
			if !done[full] {
				done[full] = true
				unix.Script(s, file, "")
			}
		}
	}
}
