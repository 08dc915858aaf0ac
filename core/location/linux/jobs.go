package linux

import (
	"path"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/machine/files"
)

// atName is what at(1) calls a job: its queue, its number in hexadecimal, and when it runs in minutes
// since 1970. What runs now begins with an equals sign.
var atName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-zA-Z]([0-9a-f]{5})([0-9a-f]{8})$`) })

func atAccepts(name string) bool { return atName().MatchString(name) }

// describeAt says when a job of at runs, whose it is, and what it runs: the last line of a script that
// sets everything as it was when the job was made. atd skips what may not be run.
func describeAt(s *location.Survey, f location.Found, item *location.Item) {
	parts := atName().FindStringSubmatch(path.Base(f.Path))
	number, _ := strconv.ParseUint(parts[1], 16, 32)
	minutes, _ := strconv.ParseInt(parts[2], 16, 64)
	item.Name = "job " + strconv.FormatUint(number, 10)
	item.When = "once, at " + time.Unix(minutes*60, 0).UTC().Format("2006-01-02 15:04") + " UTC"
	item.Argv = nil
	content, info, err := s.ReadFileInfo(f.Path, 256<<10)
	if err != nil {
		return
	}
	if uid, _ := files.Owner(info); s.Machine.KeepsOwners {
		for _, u := range s.Machine.Users {
			if u.UID == uid && uid != 0 {
				item.User = autostart.Text(u.Name)
			}
		}
	}
	for line := range strings.Lines(string(content)) {
		if line = strings.TrimSpace(line); line != "" && line != "}" && !strings.HasPrefix(line, "marcinDELIMITER") {
			item.Command = line
		}
	}
	item.Argv = byShell(item.Command)
	if info.Mode()&0o100 == 0 {
		item.State, item.Mode, item.Ignored = autostart.Disabled, "", "not executable"
		item.Problems = append(item.Problems, autostart.Ignored)
	}
}

// quadletKinds are the endings of the files of podman-systemd.unit(5) that start something; the others
// make volumes and networks for these.
var quadletKinds = map[string]string{".container": "Container", ".kube": "Kube", ".pod": "Pod"}

func quadletAccepts(name string) bool { return quadletKinds[path.Ext(name)] != "" }

// describeQuadlet says what a container's file runs. Podman's generator makes a unit of it, which
// starts by itself only where an [Install] section says by what.
func describeQuadlet(s *location.Survey, f location.Found, item *location.Item) {
	content, err := s.ReadFile(f.Path, 1<<20)
	if err != nil {
		s.Skip(f.Path, err)
		return
	}
	unit := unitfile.Parse(content)
	section := quadletKinds[path.Ext(f.Path)]
	what := unit.Last(section, "Image")
	if what == "" {
		what = unit.Last(section, "Yaml")
	}
	item.Command, item.Argv = strings.TrimSpace("podman run "+what), []string{"podman"}
	install := unit.Section("Install")
	if len(install.List("Install", "WantedBy"))+len(install.List("Install", "RequiredBy"))+
		len(install.List("Install", "UpheldBy")) == 0 {
		item.State, item.Mode = autostart.Disabled, "nothing starts it: it has no [Install] section"
		item.Switcher = location.NoSwitch{Why: "nothing starts it: it has no [Install] section"}
	}
	if strings.HasPrefix(f.Path, "/usr/") {
		name := strings.TrimSuffix(path.Base(f.Path), path.Ext(f.Path)) + ".service"
		item.Switcher = location.NoSwitch{Why: "it is the vendor's; a link from /etc/systemd/system/" + name +
			" to /dev/null keeps its unit from starting"}
	}
}
