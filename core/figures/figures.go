// Package figures measures a machine: how many processes run, what memory they hold, how long the
// last start took. Every snapshot has such figures, so that before and after can be told in
// numbers. Of a machine that does not run, only what its disk tells is known.
//
//	for _, f := range figures.Read(m) {
//		fmt.Println(f.Name, f.Value, f.Unit)
//	}
package figures

import (
	"cmp"
	"slices"
	"strconv"
	"time"

	"lockback/core/cost"
	"lockback/core/format/journal"
	"lockback/core/format/utmp"
	"lockback/core/machine"
)

// Figure is one number.
type Figure struct {
	Name  string `json:"name"` // one of [Names]
	Value int64  `json:"value"`
	Unit  Unit   `json:"unit"`
	Basis string `json:"basis"` // where it was read
}

// Unit is what a figure counts.
type Unit string

// The units.
const (
	Count        Unit = "count"
	KB           Unit = "KB" // 1,024 bytes
	Milliseconds Unit = "ms"
	Hundredths   Unit = "1/100"
	Moment       Unit = "time" // seconds since 1970
)

// Names are the figures in their order, and what a person calls each.
var Names = []struct{ Name, Title string }{
	{"entries-enabled", "entries enabled"},
	{"processes", "processes"},
	{"services-running", "services running"},
	{"memory-used", "memory used"},
	{"memory-free", "memory free"},
	{"swap-used", "swap used"},
	{"load", "load in the last minute"},
	{"last-start", "last start"},
	{"uptime", "running for"},
	{"start", "the last start took"},
	{"start-firmware", "in the firmware"},
	{"start-loader", "in the boot loader"},
	{"start-kernel", "in the kernel"},
	{"start-initrd", "in the initrd"},
	{"start-userspace", "in services"},
	{"start-drivers", "in drivers and devices"},
	{"start-profile", "loading the user's profile"},
	{"start-shell", "loading the desktop"},
	{"start-desktop", "until the desktop was there"},
	{"start-settled", "from then until it was idle"},
}

// Read measures the machine now. What cannot be measured is left out.
func Read(m *machine.Machine) []Figure {
	var all []Figure
	if m.Live {
		all = append(all, memoryNow()...)
		all = append(all, startNow()...)
	} else if m.OS == "linux" {
		all = append(all, startOnDisk(m.Reader(nil))...)
	}
	if m.OS == "windows" {
		all = append(all, startOfWindows(m.Reader(nil), !m.Live)...)
	}
	return Sorted(all)
}

// Sorted puts figures in the order of [Names].
func Sorted(all []Figure) []Figure {
	place := func(f Figure) int {
		return slices.IndexFunc(Names, func(n struct{ Name, Title string }) bool { return n.Name == f.Name })
	}
	all = slices.DeleteFunc(slices.Clone(all), func(f Figure) bool { return place(f) < 0 })
	slices.SortStableFunc(all, func(a, b Figure) int { return cmp.Compare(place(a), place(b)) })
	return all
}

// Get finds a figure by its name.
func Get(all []Figure, name string) (Figure, bool) {
	k := slices.IndexFunc(all, func(f Figure) bool { return f.Name == name })
	if k < 0 {
		return Figure{}, false
	}
	return all[k], true
}

// wtmp is where Linux notes starts and sign-ins, wtmp(5).
const wtmp = "/var/log/wtmp"

const maxWtmp = 16 << 20

// startOnDisk is when a Linux disk was last started from, and how long that took: as far as wtmp goes back, or else as
// the log of systemd tells, as it stands in [starts.Read] too.
func startOnDisk(m *machine.Reader) []Figure {
	took, ended := startInLog(m)
	text, _ := m.ReadFile(wtmp, maxWtmp) // a system without it has only the log
	at, from := LastStart(text), wtmp
	if at.IsZero() {
		at, from = ended, "the log of systemd"
	}
	if at.IsZero() {
		return took
	}
	return append([]Figure{{"last-start", at.Unix(), Moment, from}}, took...)
}

// LastStart finds the last start of the machine in a file wtmp; the zero time if there is none.
func LastStart(text []byte) (last time.Time) {
	for _, r := range utmp.Parse(text) {
		if r.Type == utmp.Boot && r.Time.After(last) {
			last = r.Time
		}
	}
	return last
}

// startInLog is how long the last start took that the log of a disk tells of. The firmware and the
// boot loader are not in it. With it comes when that start had ended, the zero time where the log tells of none.
func startInLog(m *machine.Reader) ([]Figure, time.Time) {
	var last journal.Entry
	cost.ReadJournal(m, []string{journal.StartupFinished, journal.UserStartupFinished}, []string{"KERNEL_USEC",
		"INITRD_USEC", "USERSPACE_USEC", "_PID"}, func(e journal.Entry) {
		if e.Time.After(last.Time) && e.Fields["_PID"] == "1" {
			last = e
		}
	})
	number := func(field string) uint64 {
		n, _ := strconv.ParseUint(last.Fields[field], 10, 48)
		return n
	}
	kernel, initrd, userspace := number("KERNEL_USEC"), number("INITRD_USEC"), number("USERSPACE_USEC")
	if userspace == 0 {
		return nil, last.Time
	}
	if initrd == 0 {
		return phases(0, 0, 0, kernel, kernel+userspace), last.Time
	}
	return phases(0, 0, kernel, kernel+initrd, kernel+initrd+userspace), last.Time
}

// startOfWindows is how long the last start took that Windows wrote down, and when that was, where
// nothing tells it better.
func startOfWindows(m *machine.Reader, when bool) []Figure {
	s := cost.LastStart(m)
	if s.At.IsZero() {
		return nil
	}
	var all []Figure
	if when {
		all = append(all, Figure{"last-start", s.At.Unix(), Moment, cost.PerformanceLog})
	}
	for _, part := range []struct {
		name string
		took int64
	}{{"start", s.Total}, {"start-kernel", s.Kernel}, {"start-drivers", s.Drivers}, {"start-profile",
		s.Profile}, {"start-shell", s.Shell}, {"start-desktop", s.Desktop}, {"start-settled", s.Settled}} {
		if part.took > 0 {
			all = append(all, Figure{part.name, part.took, Milliseconds, cost.PerformanceLog})
		}
	}
	return all
}

// telling lists the figures that say most about a change, the most telling first.
var telling = []string{"start", "memory-used", "processes", "services-running", "entries-enabled"}

// Difference is one figure of two times.
type Difference struct {
	From, To Figure
}

// MostTelling are up to three figures that two lists have in common and that differ, those first
// that differ most for their size; and whether the two may be compared: both must have been taken
// while the machine ran.
func MostTelling(from, to []Figure) []Difference {
	var all []Difference
	for _, name := range telling {
		a, ok1 := Get(from, name)
		b, ok2 := Get(to, name)
		if ok1 && ok2 && a.Value != b.Value && a.Unit == b.Unit {
			all = append(all, Difference{a, b})
		}
	}
	slices.SortStableFunc(all, func(x, y Difference) int { return cmp.Compare(y.share(), x.share()) })
	return all[:min(len(all), 3)]
}

// share is how much a figure differs for its size, in thousandths.
func (d Difference) share() int64 {
	difference := d.To.Value - d.From.Value
	if difference < 0 {
		difference = -difference
	}
	return difference * 1000 / max(d.From.Value, d.To.Value, 1)
}

// Units are all units.
var Units = []Unit{Count, KB, Milliseconds, Hundredths, Moment}
