package check

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/cost"
	"lockback/core/format/journal"
	"lockback/core/format/taskcache"
	"lockback/core/machine"
)

// start is one that a machine tells of: of a unit or of a command by cron in the log of Linux, or the last one of a task of
// Windows.
type start struct {
	unit    string
	command string
	task    string // its path
	user    string // the id of the user whose manager started the unit; empty: the system's
	at      time.Time
}

// readStarts reads what the machine says was started.
func (f *finder) readStarts() {
	switch f.Machine.OS {
	case "linux":
		f.readLogs()
	case "windows":
		f.readTasks()
	}
}

// readTasks reads when the tasks were last started.
func (f *finder) readTasks() {
	const cache = machine.KeyNT + `\Schedule\TaskCache`
	for _, item := range f.Items {
		if item.Location != "windows.tasks" {
			continue
		}
		name, err := f.Machine.Registry.Key(cache + `\Tree` + item.SystemName)
		if err != nil {
			continue
		}
		kept, err := f.Machine.Registry.Key(cache + `\Tasks\` + name.Text("Id"))
		if err != nil {
			continue
		}
		v, _ := kept.Value("DynamicInfo")
		if at := taskcache.LastStart(v.Data); !at.IsZero() {
			f.started = append(f.started, start{task: item.SystemName, at: at})
		}
	}
}

// readLogs reads what the logs of Linux say was started. Cron writes "(user) CMD (command)", log_it in its do_command.c and
// cronie's.
func (f *finder) readLogs() {
	note := func(e journal.Entry) {
		_, command, byCron := strings.Cut(e.Fields["MESSAGE"], ") CMD (")
		switch {
		case e.Fields["UNIT"] != "":
			f.started = append(f.started, start{unit: e.Fields["UNIT"], at: e.Time})
		case e.Fields["USER_UNIT"] != "":
			f.started = append(f.started, start{unit: e.Fields["USER_UNIT"], user: e.Fields["_UID"], at: e.Time})
		case byCron:
			f.started = append(f.started, start{command: strings.TrimSuffix(command, ")"), at: e.Time})
		}
	}
	m := f.Machine.Reader(nil)
	messages, fields := []string{journal.UnitStarting, journal.UnitStarted}, []string{"UNIT", "USER_UNIT", "_UID"}
	cost.ReadUserJournals(m, messages, fields, note)
	cost.ReadJournal(m, append(messages, "SYSLOG_IDENTIFIER=CRON", "SYSLOG_IDENTIFIER=CROND"), append(fields, "MESSAGE=("), note)
}

// ranBefore reports whether the log says that an entry was started shortly before a moment.
func (f *finder) ranBefore(e *autostart.Entry, at time.Time) (before time.Duration, ok bool) {
	if at.IsZero() {
		return 0, false
	}
	is := f.startOf(e)
	for _, s := range f.started {
		if d := at.Sub(s.at); d > -clockSlack && d < longestWork && is(s) {
			return max(d, 0), true
		}
	}
	return 0, false
}

// startOf tells which starts are those of an entry.
func (f *finder) startOf(e *autostart.Entry) func(start) bool {
	owner := ""
	if user, known := f.Machine.UserNamed(e.User); known && e.User != "" {
		owner = strconv.Itoa(user.UID)
	}
	of := func(s start) bool { return owner == "" || s.user == owner }
	switch {
	case strings.HasPrefix(e.Location, "linux.systemd."):
		unit := e.SystemName
		if ending := path.Ext(unit); slices.Contains([]string{".timer", ".path", ".socket"}, ending) {
			unit = strings.TrimSuffix(unit, ending) + ".service"
		}
		ofSystem := e.Location == "linux.systemd.system"
		return func(s start) bool { return s.unit == unit && (s.user == "") == ofSystem && of(s) }
	case e.Location == "linux.xdg-autostart":
		unit := appUnit(strings.TrimSuffix(e.SystemName, ".desktop"))
		return func(s start) bool { return s.user != "" && of(s) && unit.MatchString(s.unit) }
	case e.Location == "windows.tasks":
		return func(s start) bool { return s.task == e.SystemName }
	case strings.HasPrefix(e.Location, "linux.cron."):
		folder := path.Dir(e.Source.Path)
		return func(s start) bool {
			return s.command != "" && (strings.HasPrefix(s.command, e.Command) ||
				strings.Contains(s.command, "run-parts") && strings.HasSuffix(s.command, cmp.Or(folder, "/")))
		}
	}
	return func(start) bool { return false }
}

// appUnit matches the names of the units in which desktops start an app: app[-LAUNCHER]-ID@RANDOM.service and
// app[-LAUNCHER]-ID-RANDOM.scope, "Desktop Environment Integration" of systemd, with the id escaped as systemd.unit(5) says.
func appUnit(id string) *regexp.Regexp {
	var escaped strings.Builder
	for k, c := range []byte(id) {
		switch {
		case c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == ':', c == '_', c == '.' && k > 0:
			escaped.WriteByte(c)
		default:
			escaped.WriteString(`\x` + strconv.FormatInt(int64(c)|0x100, 16)[1:])
		}
	}
	return regexp.MustCompile(`^app-(?:[^-@]+-)?` + regexp.QuoteMeta(escaped.String()) + `(?:@[^@]*\.service|-[^-@]+\.scope)$`)
}
