package cost

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/journal"
	"lockback/core/machine"
)

// LastEnd is the source of what a unit had consumed when it ended last, as the log has it.
const LastEnd = "when it last ended"

// fromJournal reads what units consumed that do not run now: systemd writes it down when one ends.
func (c *Costs) fromJournal(m *machine.Reader) {
	ReadJournal(m, []string{journal.Resources}, []string{"UNIT", "CPU_USAGE_NSEC", "MEMORY_PEAK",
		"IO_METRIC_READ_BYTES", "IO_METRIC_WRITE_BYTES", "_PID"}, func(e journal.Entry) {
		unit := e.Fields["UNIT"]
		// Anybody may write such a line; which process did is the journal's own word.
		if was, ok := c.units[unit]; unit == "" || e.Fields["_PID"] != "1" || ok && was.Basis != LastEnd {
			return
		}
		number := func(field string) int64 {
			n, _ := strconv.ParseInt(e.Fields[field], 10, 64)
			return max(n, 0)
		}
		c.units[unit] = autostart.Cost{CPUMS: number("CPU_USAGE_NSEC") / 1e6, MemoryKB: number("MEMORY_PEAK") / 1024,
			DiskKB: (number("IO_METRIC_READ_BYTES") + number("IO_METRIC_WRITE_BYTES")) / 1024, Basis: LastEnd}
	})
}

// startsFromJournal reads how long units took at the last start that the log has, those of the system and of the people
// who signed in then: systemd writes down when it starts a unit, and when it has. What it started later, at noon by a
// timer for example, is none of the start.
func (c *Costs) startsFromJournal(m *machine.Reader) {
	type unit struct {
		uid  int // of whose manager; -1 of the system's
		name string
	}
	type span struct{ began, ended time.Time }
	type start struct {
		last, done time.Time
		units      map[unit]*span
		ended      bool // one of them did
	}
	all := map[string]*start{}
	visit := func(e journal.Entry) {
		f, id := e.Fields, e.Fields["_BOOT_ID"]
		if id == "" {
			return
		}
		s := all[id]
		if s == nil {
			if len(all) == maxStarts {
				return
			}
			s = &start{units: map[unit]*span{}}
			all[id] = s
		}
		if e.Time.After(s.last) {
			s.last = e.Time
		}
		at := e.Time
		if us, err := strconv.ParseInt(f["_SOURCE_REALTIME_TIMESTAMP"], 10, 64); err == nil {
			at = time.UnixMicro(us)
		}
		// Anybody may write such lines; which process did is the journal's own word.
		var key unit
		switch {
		case f["_PID"] == "1":
			key = unit{-1, f["UNIT"]}
		case f["_SYSTEMD_UNIT"] == "user@"+f["_UID"]+".service":
			if uid, err := strconv.Atoi(f["_UID"]); err == nil {
				key = unit{uid, f["USER_UNIT"]}
			}
		}
		switch f["MESSAGE_ID"] {
		case journal.StartupFinished, journal.UserStartupFinished:
			if f["_PID"] == "1" {
				s.done = at
			}
		case journal.UnitStarting:
			if key.name != "" && s.units[key] == nil {
				s.units[key] = &span{began: at}
			}
		default:
			if u := s.units[key]; u != nil && u.ended.IsZero() && !at.Before(u.began) {
				u.ended, s.ended = at, true
			}
		}
	}
	ReadJournals(m, time.Now(), []string{journal.UnitStarting, journal.UnitStarted, journal.UnitFailed,
		journal.StartupFinished, journal.UserStartupFinished}, []string{"MESSAGE_ID", "UNIT", "USER_UNIT", "_PID",
		"_UID", "_BOOT_ID", "_SYSTEMD_UNIT", "_SOURCE_REALTIME_TIMESTAMP"}, visit)
	var last *start
	for _, s := range all {
		if s.ended && (last == nil || s.last.After(last.last)) {
			last = s
		}
	}
	if last == nil {
		return
	}
	for key, u := range last.units {
		took := u.ended.Sub(u.began).Milliseconds()
		switch {
		case u.ended.IsZero():
		case key.uid >= 0:
			c.addUserStart(key.uid, key.name, took)
		case last.done.IsZero() || !u.began.After(last.done):
			c.started[key.name] = took
		}
	}
	c.startedBasis = StartLog
}

// maxStarts is how many starts of a machine one log is looked through for.
const maxStarts = 1000

// StartLog is the source of how long a unit took to start on a mounted disk.
const StartLog = "systemd's log of the last start"

// ReadJournal reads the system's present log, where it is kept on the disk: the file that is
// written to, and, where nothing of the kind stands in it, the last one before it. systemd begins
// a new file when one has grown large, and calls the old one after the time at which it began.
func ReadJournal(m *machine.Reader, messages, fields []string, visit func(journal.Entry)) {
	folder := m.LogFolder()
	if folder == "" {
		return
	}
	found := false
	read := func(name string) {
		readLog(m, path.Join(folder, name), messages, fields, func(e journal.Entry) {
			found = true
			visit(e)
		})
	}
	if read("system.journal"); found {
		return
	}
	entries, _ := m.ReadDir(folder)
	last := ""
	for _, e := range entries {
		if began(e.Name()) > began(last) {
			last = e.Name()
		}
	}
	if last != "" {
		read(last)
	}
}

// How many logs are read at most.
const (
	maxPresent = 64
	maxLogs    = 8 // that were closed
)

// ReadJournals reads the logs of the system and of the users' own programs and service managers: the present ones, and
// the last of those that were closed after a time.
func ReadJournals(m *machine.Reader, since time.Time, messages, fields []string, visit func(journal.Entry)) {
	folder := m.LogFolder()
	if folder == "" {
		return
	}
	entries, _ := m.ReadDir(folder)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	for _, name := range logsSince(names, since) {
		readLog(m, path.Join(folder, name), messages, fields, visit)
	}
}

// logsSince are the present logs and the last of the closed ones that may have something after a time.
func logsSince(names []string, since time.Time) (chosen []string) {
	type closed struct {
		name, of string
		at       string // when it begins; of one that was not closed in order, when it was found
		late     bool
	}
	var all []closed
	moment := fmt.Sprintf("%016x", since.UnixMicro())
	for _, name := range names {
		if present().MatchString(name) {
			chosen = append(chosen, name)
		} else if m := ofAny().FindStringSubmatch(name); m != nil {
			all = append(all, closed{name, m[1], m[2] + m[3], m[2]+m[3] >= moment})
		}
	}
	slices.SortFunc(all, func(a, b closed) int {
		return cmp.Or(strings.Compare(b.at, a.at), strings.Compare(a.name,
			b.name))
	})
	chosen = chosen[:min(len(chosen), maxPresent)]
	read, begunBefore := 0, map[string]bool{} // the last that begins before it goes on after it
	for _, c := range all {
		if read == maxLogs || !c.late && begunBefore[c.of] {
			continue
		}
		read++
		begunBefore[c.of] = begunBefore[c.of] || !c.late
		chosen = append(chosen, c.name)
	}
	return chosen
}

// readLog reads one file of a log. What cannot be read tells nothing.
func readLog(m *machine.Reader, name string, messages, fields []string, visit func(journal.Entry)) {
	file, size, err := m.OpenFile(name)
	if err != nil {
		return
	}
	defer file.Close()
	_ = journal.Read(file, size, messages, fields, visit)
}

// present are the logs that are written to, of the system and of users by their ids.
var present = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?:system|user-\d+)\.journal$`) })

// ofAny is a closed log of either: in order (see [archived]), or with the time at which it was found not to be, as
// journal_file_dispose of systemd calls it.
var ofAny = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`^(system|user-\d+)@(?:[0-9a-f]{32}-[0-9a-f]{16}-([0-9a-f]{16})\.journal|([0-9a-f]{16})-[0-9a-f]{16}\.journal~)$`)
})

// archived is what a closed file of the system's log is called, journal_file_archive of systemd: the
// id and the number of its first entry, and the time of it in microseconds, in hexadecimal.
var archived = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^system@[0-9a-f]{32}-[0-9a-f]{16}-([0-9a-f]{16})\.journal$`)
})

// began is the time in the name of a closed file; empty if it is none.
func began(name string) string {
	if m := archived().FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return ""
}
