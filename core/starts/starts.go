// Package starts tells when a machine was started and when its users signed in, as far as the system itself notes it:
// whether a change that counts at the next restart has been put to the test, on the running machine or on its disk.
//
//	s := starts.Read(m)
//	if n, known := s.BootsSince(starts.Moment{Time: change.Time, Boot: change.Boot}); known && n == 0 {
//		fmt.Println("not restarted since")
//	}
package starts

import (
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/cost"
	"lockback/core/format/evtx"
	"lockback/core/format/journal"
	"lockback/core/format/utmp"
	"lockback/core/machine"
)

// Starts are the starts of one machine, and the sign-ins of its users.
type Starts struct {
	// Boots are the starts, oldest first. Those of the same start that several sources tell of stand once.
	Boots []time.Time
	// SignIns are the sign-ins of each user by name, oldest first.
	SignIns map[string][]time.Time
	// BootsFrom and SignInsFrom are where that was read; empty: nothing tells.
	BootsFrom, SignInsFrom []string
	// Now is the moment of the last start.
	Now Moment
	// Perhaps is a last start where no boot is known: Windows' performance log has it, and does not tell a restart from
	// a fast startup, which starts no service anew.
	Perhaps time.Time
}

// Moment is when something was done: by the clock, which may have been wrong, and in which start of the system, which
// cannot be.
type Moment struct {
	Time time.Time
	Boot string // as [machine.Machine.Boot] has it; empty: not known
}

// mounted reports whether it was done on the machine's disk, while the system itself did not run.
func (m Moment) mounted() bool { return strings.HasPrefix(m.Boot, machine.Mounted) }

// identified reports whether it tells one start from all others.
func (m Moment) identified() bool { return m.Boot != "" && m.Boot != machine.Mounted }

// restarted says whether it is certain that the system was started between a moment and now, or that it was not;
// neither is where only the clock can tell. So a clock that was set meanwhile, or read in another time zone by a
// rescue system, does no harm.
func (s Starts) restarted(m Moment) (yes, no bool) {
	switch was, is := m.mounted(), s.Now.mounted(); {
	case was && !is:
		return true, false
	case was != is || !m.identified() || !s.Now.identified():
		return false, false // the log on a disk may have ended before the start in which the change was made
	case m.Boot != s.Now.Boot:
		return true, false
	}
	return false, !s.Now.mounted() // a log may have ended, and a kernel cannot be wrong
}

// BootsSince counts the starts after a moment. Where nothing tells of starts, none is not known to be none.
func (s Starts) BootsSince(m Moment) (n int, known bool) {
	switch yes, no := s.restarted(m); {
	case no:
		return 0, true
	case yes:
		return max(1, since(s.Boots, m.Time)), true
	}
	return since(s.Boots, m.Time), len(s.Boots) > 0
}

// SignInsKnown reports whether anything tells of sign-ins.
func (s Starts) SignInsKnown() bool { return len(s.SignIns) > 0 }

// SignInsSince counts the sign-ins of a user after a moment; of all users where the name is empty.
func (s Starts) SignInsSince(user string, m Moment) int {
	t := m.Time
	if yes, _ := s.restarted(m); yes && s.Now.Time.Before(t) {
		t = s.Now.Time // all of the last start are later
	}
	if user != "" {
		return since(s.SignIns[user], t)
	}
	n := 0
	for _, all := range s.SignIns {
		n += since(all, t)
	}
	return n
}

func since(all []time.Time, t time.Time) (n int) {
	for _, at := range all {
		if at.After(t) {
			n++
		}
	}
	return n
}

// Where systems note it.
const (
	wtmp         = "/var/log/wtmp"          // Linux, wtmp(5)
	sessions     = "/run/systemd/sessions"  // Linux while it runs: systemd-logind
	macRecord    = "/private/var/run/utmpx" // macOS: since the last start only
	systemEvents = `\System32\winevt\Logs\System.evtx`
)

const maxRecord = 16 << 20 // bytes of a file

// noted is how long before the first process, or the first service of Windows, the system may have noted its own start.
var noted = map[string]time.Duration{"linux": 5 * time.Second, "macos": 5 * time.Second, "windows": 2 * time.Minute}

// Read reads what the machine tells of its starts. What cannot be read is not told.
func Read(m *machine.Machine) Starts {
	c := collector{Starts{SignIns: map[string][]time.Time{}, Now: Moment{Boot: m.Boot()}}, m.Reader(nil), m}
	switch m.OS {
	case "linux":
		c.records(wtmp + ".1") // logrotate(8) begins a new one each month
		c.records(wtmp)
		c.systemdLog()
		if m.Live {
			c.loginSessions()
		}
	case "macos":
		c.records(macRecord)
	case "windows":
		c.events()
		c.perhaps()
	}
	slices.SortFunc(c.Boots, time.Time.Compare)
	c.Boots = slices.Compact(c.Boots)
	if m.Live {
		if at, ok := startedAt(); ok && (len(c.Boots) == 0 || at.Sub(c.Boots[len(c.Boots)-1]) > noted[m.OS]) {
			c.boot(at, "the running system")
		}
	}
	if n := len(c.Boots); n > 0 {
		c.Now.Time = c.Boots[n-1]
	}
	for user, all := range c.SignIns {
		slices.SortFunc(all, time.Time.Compare)
		c.SignIns[user] = slices.Compact(all)
	}
	return c.Starts
}

// collector collects what the sources say.
type collector struct {
	Starts
	reader  *machine.Reader
	machine *machine.Machine
}

func (c *collector) boot(at time.Time, from string) {
	c.Boots = append(c.Boots, at.UTC().Truncate(time.Second))
	c.BootsFrom = appendNew(c.BootsFrom, from)
}

func (c *collector) signIn(user string, at time.Time, from string) {
	if user == "" {
		return
	}
	c.SignIns[user] = append(c.SignIns[user], at.UTC().Truncate(time.Second))
	c.SignInsFrom = appendNew(c.SignInsFrom, from)
}

func appendNew(all []string, s string) []string {
	if slices.Contains(all, s) {
		return all
	}
	return append(all, s)
}

// records reads a file of records of starts and sign-ins.
func (c *collector) records(name string) {
	text, err := c.reader.ReadFile(name, maxRecord)
	if err != nil {
		return
	}
	for _, r := range utmp.Parse(text) {
		switch r.Type {
		case utmp.Boot:
			c.boot(r.Time, name)
		case utmp.SignIn:
			c.signIn(r.User, r.Time, name)
		}
	}
}

// The events of the log "System" of Windows that are read.
const (
	kernelGeneral = "Microsoft-Windows-Kernel-General"
	eventStarted  = 12 // the operating system started
	winlogon      = "Microsoft-Windows-Winlogon"
	eventSignIn   = 7001 // a user signed in, for the programme of customer experience
)

// events reads the log of a Windows machine. After a start out of what was kept of the last one (a fast startup) its
// services were not started again, and there is no such event: then it is no restart.
func (c *collector) events() {
	file, size, err := c.reader.OpenFile(c.reader.Windows() + systemEvents)
	if err != nil {
		return
	}
	defer file.Close()
	names := map[string]string{}
	for _, u := range c.machine.Users {
		names[u.SID] = u.Name
	}
	const from = "Windows' event log"
	evtx.Read(file, size, func(e evtx.Event) {
		switch {
		case e.Provider == kernelGeneral && e.ID == eventStarted:
			c.boot(e.Time, from)
		case e.Provider == winlogon && e.ID == eventSignIn:
			c.signIn(names[e.Data["UserSid"]], e.Time, from)
		}
	})
}

// perhaps finds a last start that may have been no restart, where nothing tells of one.
func (c *collector) perhaps() {
	if len(c.Boots) == 0 {
		c.Perhaps = cost.LastStart(c.reader).At
	}
}

// systemdLog reads the log of a Linux machine: its starts where nothing else tells of them, and sign-ins, which systems
// that no longer keep wtmp write nowhere else.
func (c *collector) systemdLog() {
	starts := len(c.Boots) == 0
	cost.ReadJournal(c.reader, []string{journal.StartupFinished, journal.UserStartupFinished, journal.SessionStarted},
		[]string{"USER_ID", "_PID"}, func(e journal.Entry) {
			const from = "the log of systemd"
			switch {
			case e.Fields["USER_ID"] != "":
				c.signIn(e.Fields["USER_ID"], e.Time, from)
			case starts && e.Fields["_PID"] == "1":
				c.boot(e.Time, from)
			}
		})
}

// maxSessions is how many sessions of a running system are read.
const maxSessions = 1000

// loginSessions reads the sessions that are open now, as systemd-logind keeps them: "USER=", "CLASS=" and "REALTIME="
// in microseconds (session_save in logind-session.c).
func (c *collector) loginSessions() {
	files, _ := c.reader.ReadDir(sessions)
	for _, file := range files[:min(len(files), maxSessions)] {
		text, err := c.reader.ReadFile(path.Join(sessions, file.Name()), 64<<10)
		if err != nil || strings.HasSuffix(file.Name(), ".ref") {
			continue
		}
		values := map[string]string{}
		for line := range strings.Lines(string(text)) {
			name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
			values[name] = value
		}
		at, err := strconv.ParseInt(values["REALTIME"], 10, 64)
		if user := values["USER"]; err == nil && values["CLASS"] == "user" {
			c.signIn(user, time.UnixMicro(at), "systemd-logind")
		}
	}
}
