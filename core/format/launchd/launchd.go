// Package launchd reads the jobs of macOS' service manager, as launchd.plist(5)
// describes them: what a job runs, and when, told in plain words.
//
//	job := launchd.Parse(doc.Dict())
//	fmt.Println(job.Label, job.Command(), job.When())
//
// Keys of the wrong type count as absent, as launchd defines it; keys that do not say
// what runs or when are left alone.
package launchd

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lockback/core/format/plist"
)

// Job is what a job's property list says.
type Job struct {
	Label         string
	Program       string // the executable; where it is empty, the first argument is
	Arguments     []string
	BundleProgram string // relative to the bundle that the job is in
	Disabled      bool   // to be overridden by launchd's own database

	RunAtLoad bool
	// KeepAlive says in words when the job is started again; nil: it is not.
	KeepAlive []string
	Interval  time.Duration
	Calendar  []Calendar
	// Events says in words what starts the job on request.
	Events []string
	// Activities says in words what the system starts the job for when it finds the time, xpc_activity(3).
	Activities []string

	// Limits are the keys that restrict the job to some Macs or some kinds of start.
	Limits      []string
	Sessions    []string // LimitLoadToSessionType
	UserName    string   // whom a daemon runs as
	RootFolder  string   // chroot
	Folder      string   // working directory
	Environment map[string]string
	Associated  []string // bundles that the job says it belongs to
}

// Calendar is one StartCalendarInterval; -1 stands for any.
type Calendar struct{ Month, Day, Weekday, Hour, Minute int }

// Command is what is executed, and its arguments: launchd passes all of
// ProgramArguments as they are, the first one as the program's own name.
func (j Job) Command() []string {
	program := cmp.Or(j.Program, j.BundleProgram)
	switch {
	case program == "":
		return j.Arguments
	case len(j.Arguments) == 0:
		return []string{program}
	}
	return append([]string{program}, j.Arguments[1:]...)
}

// Kind says what starts a job in the first place.
type Kind int

// The kinds, in the order in which a job is judged: one that runs at load and
// every hour runs at load.
const (
	AtLoad Kind = iota
	OnSchedule
	OnEvent
	OnRequest // nothing but a person or another program starts it
)

// Kind returns what starts the job.
func (j Job) Kind() Kind {
	switch {
	case j.RunAtLoad || len(j.KeepAlive) > 0:
		return AtLoad
	case j.Interval > 0 || len(j.Calendar) > 0 || len(j.Activities) > 0:
		return OnSchedule
	case len(j.Events) > 0:
		return OnEvent
	}
	return OnRequest
}

// maxTold is how many of a list are named.
const maxTold = 3

// When tells in words when the job starts: "at load, every 1 h".
func (j Job) When() string {
	var parts []string
	if j.RunAtLoad {
		parts = append(parts, "at load")
	}
	parts = append(parts, j.KeepAlive...)
	if j.Interval > 0 {
		parts = append(parts, "every "+duration(j.Interval))
	}
	var times []string
	for _, c := range j.Calendar {
		times = append(times, c.String())
	}
	for _, list := range []struct {
		words []string
		more  string
	}{{times, "and at %d more times"}, {j.Activities, "and for %d more activities"}, {j.Events,
		"and on %d more events"}} {
		parts = append(parts, list.words[:min(len(list.words), maxTold)]...)
		if n := len(list.words) - maxTold; n > 0 {
			parts = append(parts, fmt.Sprintf(list.more, n))
		}
	}
	if len(parts) == 0 {
		return "only when asked for"
	}
	return strings.Join(parts, ", ")
}

// duration words a time as whole units.
func duration(d time.Duration) string {
	for _, unit := range []struct {
		length time.Duration
		name   string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "min"}} {
		if d%unit.length == 0 {
			return fmt.Sprintf("%d %s", d/unit.length, unit.name)
		}
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

var (
	weekdays = []string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}
	months   = []string{"", "January", "February", "March", "April", "May", "June", "July", "August", "September",
		"October", "November", "December"}
)

// String words the moment. As in crontab(5), a day of the week and a day of the
// month are alternatives.
func (c Calendar) String() string {
	var days []string
	if c.Weekday >= 0 {
		days = append(days, "every "+weekdays[c.Weekday])
	}
	if c.Day >= 0 {
		days = append(days, fmt.Sprintf("on day %d of the month", c.Day))
	}
	text := strings.Join(days, " and ")
	if c.Month >= 0 {
		text = strings.TrimSpace(text + " in " + months[c.Month])
		if len(days) == 0 {
			text = "every day " + text
		}
	}
	switch {
	case c.Hour >= 0 && c.Minute >= 0:
		return strings.TrimSpace(cmp.Or(text, "every day") + fmt.Sprintf(" at %02d:%02d", c.Hour, c.Minute))
	case c.Hour >= 0:
		return strings.TrimSpace(cmp.Or(text, "every day") + fmt.Sprintf(" every minute from %02d:00 to %02d:59",
			c.Hour, c.Hour))
	case c.Minute >= 0:
		return strings.TrimSpace(text + fmt.Sprintf(" every hour at minute %d", c.Minute))
	}
	return strings.TrimSpace(text + " every minute")
}

// Parse reads a job.
func Parse(d plist.Dict) Job {
	j := Job{
		Label: d.Text("Label"), Program: d.Text("Program"), Arguments: d.Texts("ProgramArguments"),
		BundleProgram: d.Text("BundleProgram"),
		Disabled:      truth(d["Disabled"]), RunAtLoad: truth(d["RunAtLoad"]),
		Sessions: d.Texts("LimitLoadToSessionType"), UserName: d.Text("UserName"),
		RootFolder: d.Text("RootDirectory"), Folder: d.Text("WorkingDirectory"),
		Associated: d.Texts("AssociatedBundleIdentifiers"),
	}
	if s, ok := d["ProgramArguments"].(string); ok && s != "" {
		j.Arguments = nil // launchd wants an array
	}
	j.keepAlive(d)
	if n, ok := d.Int("StartInterval"); ok && n > 0 && n < 1<<31 {
		j.Interval = time.Duration(n) * time.Second
	}
	switch c := d["StartCalendarInterval"].(type) {
	case map[string]any:
		j.calendar(c)
	case []any:
		for _, v := range c {
			if c, ok := v.(map[string]any); ok {
				j.calendar(c)
			}
		}
	}
	j.events(d)
	for _, name := range limits {
		if d.Has(name) {
			j.Limits = append(j.Limits, name)
		}
	}
	if env := d.Dict("EnvironmentVariables"); env != nil {
		j.Environment = map[string]string{}
		for name, v := range env {
			if s, ok := v.(string); ok {
				j.Environment[name] = s
			}
		}
	}
	return j
}

// keepAlive words KeepAlive and its conditions, and the older OnDemand.
func (j *Job) keepAlive(d plist.Dict) {
	if on, ok := d["OnDemand"].(bool); ok && !on {
		j.KeepAlive = append(j.KeepAlive, "kept running")
	}
	switch k := d["KeepAlive"].(type) {
	case bool:
		if k && len(j.KeepAlive) == 0 {
			j.KeepAlive = append(j.KeepAlive, "kept running")
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(k)) {
			switch v := k[name]; name {
			case "SuccessfulExit":
				j.condition(v, "again after it ended well", "again after it failed")
			case "Crashed":
				j.condition(v, "again after a crash", "again unless it crashed")
			case "NetworkState":
				// launchd.plist(5): no longer implemented.
				j.condition(v, "kept running with a network, where the system still reads that",
					"kept running without a network, where the system still reads that")
			case "AfterInitialDemand":
				if truth(v) {
					j.Events = append(j.Events, "kept running once asked for")
				}
			case "PathState":
				j.conditions(v, "kept running while %s is there", "kept running while %s is not there")
			case "OtherJobEnabled":
				j.conditions(v, "kept running while %s is loaded", "kept running while %s is not loaded")
			}
		}
	}
}

func (j *Job) condition(v any, yes, no string) {
	switch v {
	case true:
		j.KeepAlive = append(j.KeepAlive, yes)
	case false:
		j.KeepAlive = append(j.KeepAlive, no)
	}
}

func (j *Job) conditions(v any, yes, no string) {
	m, _ := v.(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(m)) {
		j.condition(m[name], fmt.Sprintf(yes, name), fmt.Sprintf(no, name))
	}
}

// calendar adds one moment, unless one of its numbers never comes.
func (j *Job) calendar(d plist.Dict) {
	c := Calendar{-1, -1, -1, -1, -1}
	for _, f := range []struct {
		name     string
		min, max int64
		into     *int
	}{{"Month", 1, 12, &c.Month}, {"Day", 1, 31, &c.Day}, {"Weekday", 0, 7, &c.Weekday}, {"Hour", 0, 23,
		&c.Hour}, {"Minute", 0, 59, &c.Minute}} {
		if n, ok := d.Int(f.name); ok {
			if n < f.min || n > f.max {
				return
			}
			*f.into = int(n)
		}
	}
	j.Calendar = append(j.Calendar, c)
}

// events collects what starts the job besides time.
func (j *Job) events(d plist.Dict) {
	for _, p := range d.Texts("WatchPaths") {
		j.Events = append(j.Events, "when "+p+" changes")
	}
	for _, p := range d.Texts("QueueDirectories") {
		j.Events = append(j.Events, "when something is put into "+p)
	}
	if truth(d["StartOnMount"]) {
		j.Events = append(j.Events, "when a volume is mounted")
	}
	for _, row := range []struct{ key, words string }{{"Sockets", "when somebody connects to "},
		{"MachServices", "when a program asks for "}, {"LaunchEvents", "on an event of "}} {
		for _, name := range slices.Sorted(maps.Keys(d.Dict(row.key))) {
			if row.key == "LaunchEvents" && name == "com.apple.xpc.activity" {
				j.activities(d.Dict(row.key).Dict(name))
				continue
			}
			j.Events = append(j.Events, row.words+name)
		}
	}
}

// activities collects what the system's scheduler of background work starts the job for: by a name each, with an
// interval in seconds where it comes again.
func (j *Job) activities(d plist.Dict) {
	for _, name := range slices.Sorted(maps.Keys(d)) {
		words := "once, when the system finds the time"
		if n, ok := d.Dict(name).Int("Interval"); ok && n > 0 && n < 1<<31 {
			words = "about every " + duration(time.Duration(n)*time.Second)
		}
		j.Activities = append(j.Activities, words)
	}
}

// limits are the keys of launchd.plist(5) that keep a job from being loaded everywhere.
var limits = []string{"LimitLoadToHardware", "LimitLoadFromHardware", "LimitLoadToBootMode", "LimitLoadFromBootMode",
	"LimitLoadToVariant", "LimitLoadFromVariant"}

// truth is a truth value; launchd takes no number for one.
func truth(v any) bool { b, _ := v.(bool); return b }
