package cost

import (
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/journal"
	"lockback/core/machine"
)

// LastEnd is the source of what a unit had consumed when it ended last, as the log has it.
const LastEnd = "when it last ended"

// fromJournal reads what units consumed that do not run now: systemd writes it down when one ends.
func (c *Costs) fromJournal(m *machine.Reader) {
	ReadJournal(m, []string{journal.Resources}, []string{"UNIT", "CPU_USAGE_NSEC", "MEMORY_PEAK", "IO_METRIC_READ_BYTES", "IO_METRIC_WRITE_BYTES", "_PID"}, func(e journal.Entry) {
		unit := e.Fields["UNIT"]
		// Anybody may write such a line; which process did is the journal's own word.
		if was, ok := c.units[unit]; unit == "" || e.Fields["_PID"] != "1" || ok && was.Basis != LastEnd {
			return
		}
		number := func(field string) int64 {
			n, _ := strconv.ParseInt(e.Fields[field], 10, 64)
			return max(n, 0)
		}
		c.units[unit] = autostart.Cost{CPUMS: number("CPU_USAGE_NSEC") / 1e6, MemoryKB: number("MEMORY_PEAK") / 1024, DiskKB: (number("IO_METRIC_READ_BYTES") + number("IO_METRIC_WRITE_BYTES")) / 1024, Basis: LastEnd}
	})
}

// ReadJournal reads the system's present log, where it is kept on the disk: the file that is
// written to, and, where nothing of the kind stands in it, the last one before it. systemd begins
// a new file when one has grown large, and calls the old one after the time at which it began.
func ReadJournal(m *machine.Reader, messages, fields []string, visit func(journal.Entry)) {
	if m.ID == "" || strings.ContainsAny(m.ID, "/\x00") {
		return
	}
	folder := path.Join(journals, m.ID)
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

// journals is where logs are kept that outlive a restart, systemd-journald.service(8).
const journals = "/var/log/journal"

// userLog is what the log of a user's own programs and services is called, with the user's id.
var userLog = regexp.MustCompile(`^user-\d+\.journal$`)

// maxUserLogs is how many of those are read.
const maxUserLogs = 64

// ReadUserJournals reads the present logs of the users' own service managers and programs.
func ReadUserJournals(m *machine.Reader, messages, fields []string, visit func(journal.Entry)) {
	if m.ID == "" || strings.ContainsAny(m.ID, "/\x00") {
		return
	}
	folder := path.Join(journals, m.ID)
	entries, _ := m.ReadDir(folder)
	entries = slices.DeleteFunc(entries, func(e fs.DirEntry) bool { return !userLog.MatchString(e.Name()) })
	for _, e := range entries[:min(len(entries), maxUserLogs)] {
		readLog(m, path.Join(folder, e.Name()), messages, fields, visit)
	}
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

// archived is what a closed file of the system's log is called, journal_file_archive of systemd: the
// id and the number of its first entry, and the time of it in microseconds, in hexadecimal.
var archived = regexp.MustCompile(`^system@[0-9a-f]{32}-[0-9a-f]{16}-([0-9a-f]{16})\.journal$`)

// began is the time in the name of a closed file; empty where it is none.
func began(name string) string {
	if m := archived.FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return ""
}
