package check

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/cost"
	"lockback/core/format/journal"
	"lockback/core/format/taskcache"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/machine/registry"
)

// How long before something was written a program must have been started to have written it, and how much the clocks
// times the two records may differ.
const (
	longestWork = 3 * time.Minute
	clockSlack  = 2 * time.Second
)

// started is what was started.
type started struct {
	kind string
	name string
	user string // the id of the user whose manager started it; empty: the system's
}

// What a machine tells of. Of Windows' tasks it is the last start alone.
const (
	ofUnit    = "unit"
	ofApp     = "app"     // times an autostart folder, in a unit of its own
	ofCommand = "command" // by cron
	ofFolder  = "folder"  // by cron, all that is in it
	ofTask    = "task"
)

// starts are the times at which things were started.
type starts map[started][]time.Time

func (all starts) add(s started, at time.Time) { all[s] = append(all[s], at) }

// readStarts reads what the machine tells.
func (f *finder) readStarts() starts {
	all := starts{}
	switch f.Machine.OS {
	case "linux":
		all.readLogs(f.Machine, f.Before.Time)
	case "windows":
		for _, item := range f.Items {
			if item.Kind() == location.Task {
				all.readTask(f.Machine, item.SystemName)
			}
		}
	}
	return all
}

// readLogs reads what systemd's logs say was started. Cron writes "(user) CMD (command)", log_it in its do_command.c
// and cronie's.
func (all starts) readLogs(m *machine.Machine, since time.Time) {
	note := func(e journal.Entry) {
		_, command, byCron := strings.Cut(e.Fields["MESSAGE"], ") CMD (")
		switch {
		case e.Fields["UNIT"] != "":
			all.add(started{ofUnit, e.Fields["UNIT"], ""}, e.Time)
		case e.Fields["USER_UNIT"] != "":
			unit, user := e.Fields["USER_UNIT"], e.Fields["_UID"]
			all.add(started{ofUnit, unit, user}, e.Time)
			if app := appOf(unit); app != "" {
				all.add(started{ofApp, app, user}, e.Time)
			}
		case byCron:
			command = strings.TrimSuffix(command, ")")
			all.add(started{ofCommand, cronCommand(command), ""}, e.Time)
			if strings.Contains(command, "run-parts") {
				all.add(started{ofFolder, command[strings.LastIndexByte(command, ' ')+1:], ""}, e.Time)
			}
		}
	}
	reader := m.Reader(nil)
	messages, fields := []string{journal.UnitStarting, journal.UnitStarted}, []string{"UNIT", "USER_UNIT", "_UID"}
	cost.ReadJournals(reader, since, append(messages, "SYSLOG_IDENTIFIER=CRON", "SYSLOG_IDENTIFIER=CROND"),
		append(fields, "MESSAGE=("), note)
}

// cronCommand is what cron runs of a line: what follows a % is its input, crontab(5).
func cronCommand(line string) string {
	command, _, _ := strings.Cut(line, "%")
	return strings.TrimSpace(command)
}

// readTask reads when a task was last started.
func (all starts) readTask(m *machine.Machine, task string) {
	if !strings.HasPrefix(task, `\`) {
		return
	}
	name, err := m.Registry.Key(registry.KeyTaskCache + `\Tree` + task)
	if err != nil {
		return
	}
	kept, err := m.Registry.Key(registry.KeyTaskCache + `\Tasks\` + name.Text("Id"))
	if err != nil {
		return
	}
	v, _ := kept.Value("DynamicInfo")
	if at := taskcache.LastStart(v.Data); !at.IsZero() {
		all.add(started{ofTask, task, ""}, at)
	}
}

// times are the starts of an entry.
func (all starts) times(e *autostart.Entry, m *machine.Machine) []time.Time {
	switch table.Kind(e) {
	case location.SystemUnit:
		return all[started{ofUnit, serviceOf(e.SystemName), ""}]
	case location.UserUnit:
		return all.ofUsers(ofUnit, serviceOf(e.SystemName), e.User, m)
	case location.DesktopFile:
		return all.ofUsers(ofApp, strings.TrimSuffix(e.SystemName, ".desktop"), e.User, m)
	case location.CronLine, location.CronFolder:
		return append(slices.Clone(all[started{ofCommand, cronCommand(e.Command), ""}]),
			all[started{ofFolder, path.Dir(e.Source.Path), ""}]...)
	case location.Task:
		return all[started{ofTask, e.SystemName, ""}]
	}
	return nil
}

// ofUsers are the starts by the manager of one user; of each where none is named.
func (all starts) ofUsers(kind, name, user string, m *machine.Machine) (times []time.Time) {
	for _, u := range m.Users {
		if user == "" || u.Name == user {
			times = append(times, all[started{kind, name, strconv.Itoa(u.UID)}]...)
		}
	}
	return times
}

// serviceOf is the service that a unit starts.
func serviceOf(unit string) string {
	if ending := path.Ext(unit); slices.Contains([]string{".timer", ".path", ".socket"}, ending) {
		return strings.TrimSuffix(unit, ending) + ".service"
	}
	return unit
}

// app is what desktops call the units in which they start an app: app[-LAUNCHER]-ID@RANDOM.service and
// app[-LAUNCHER]-ID-RANDOM.scope, "Desktop Environment Integration" of systemd.
var app = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^app-(?:[^-@]+-)?([^-@]+)(?:@[^@]*\.service|-[^-@]+\.scope)$`)
})

// escape is how systemd.unit(5) writes a byte in a name.
var escape = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\\x[0-9a-f]{2}`) })

// appOf is the id of the app that a unit is of; empty if it is none's.
func appOf(unit string) string {
	found := app().FindStringSubmatch(unit)
	if found == nil {
		return ""
	}
	return escape().ReplaceAllStringFunc(found[1], func(code string) string {
		b, _ := strconv.ParseUint(code[2:], 16, 8)
		return string([]byte{byte(b)})
	})
}

// ranBefore reports whether a candidate was started shortly before a moment.
func (c candidate) ranBefore(at time.Time) (before time.Duration, ok bool) {
	for _, started := range c.ran {
		if d := at.Sub(started); !at.IsZero() && d > -clockSlack && d < longestWork {
			return max(d, 0), true
		}
	}
	return 0, false
}
