package cost

import (
	"path"
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
// written to, which systemd starts anew when it has grown large.
func ReadJournal(m *machine.Reader, messages, fields []string, visit func(journal.Entry)) {
	if m.ID == "" || strings.ContainsAny(m.ID, "/\x00") {
		return
	}
	file, size, err := m.OpenFile(path.Join("/var/log/journal", m.ID, "system.journal"))
	if err != nil {
		return
	}
	defer file.Close()
	journal.Read(file, size, messages, fields, visit)
}
