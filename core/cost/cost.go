// Package cost tells what programs that start by themselves cost: from what the system measured
// when it last started, and on a running machine from what they use now.
//
//	costs := cost.Read(m)
//	fmt.Println(costs.Of("/usr/sbin/cupsd", "cups.service"))
package cost

import (
	"fmt"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/machine"
)

// The sources, as they stand in [autostart.Cost.Basis].
const (
	RunningNow   = "running now"  // all processes of the program, now
	ByUnit       = "unit, now"    // the service manager's own accounting of the unit, now
	StartupTrace = "last sign-in" // Windows' trace of the last sign-in
)

// Costs is what is known about one machine's programs.
type Costs struct {
	programs map[string]autostart.Cost // by the program's path, see fold
	units    map[string]autostart.Cost // by the unit's name
	// How long what started took, in milliseconds: units by their names, programs by their paths.
	started      map[string]int64
	startedBasis string
	fold         func(string) string
}

// Read reads all sources of a machine. What cannot be read costs nothing that is known.
func Read(m *machine.Machine) *Costs {
	c := &Costs{programs: map[string]autostart.Cost{}, units: map[string]autostart.Cost{}, started: map[string]int64{},
		startedBasis: "systemd", fold: func(s string) string { return s }}
	if m.OS == "windows" {
		c.fold, c.startedBasis = strings.ToLower, PerformanceLog
		c.startupTraces(m.Reader(nil))
		c.heldUp(m.Reader(nil))
	}
	if m.Live {
		c.runningNow()
	}
	if m.OS == "linux" {
		if m.Live {
			c.unitsNow(m)
		} else {
			c.startsFromJournal(m.Reader(nil))
		}
		c.fromJournal(m.Reader(nil))
	}
	return c
}

// Of is what a program costs that an entry starts, or the unit or service that the entry is, empty
// where it is neither; nil if nothing is known. The unit's own accounting is the most exact, what
// is used now comes before a trace.
func (c *Costs) Of(program, unit string) *autostart.Cost {
	program = c.fold(program)
	found, known := c.units[unit]
	if !known && program != "" {
		found, known = c.programs[program]
	}
	key := unit
	if unit == "" {
		key = program
	}
	if took, ok := c.started[key]; ok && key != "" {
		found.StartMS, found.StartBasis, known = took, c.startedBasis, true
	}
	if !known {
		return nil
	}
	return &found
}

// UserUnit is what [Costs.Of] knows a unit of a user's service manager by; of everyone's unit, with a negative id, it
// knows what it costs the user whom it costs most.
func UserUnit(uid int, name string) string {
	if uid < 0 {
		return "user unit " + name
	}
	return fmt.Sprintf("unit of user %d %s", uid, name)
}

func (c *Costs) addUserUnit(uid int, name string, used autostart.Cost) {
	c.units[UserUnit(uid, name)] = used
	if was, ok := c.units[UserUnit(-1, name)]; !ok || used.Compare(&was) < 0 {
		c.units[UserUnit(-1, name)] = used
	}
}

func (c *Costs) addUserStart(uid int, name string, took int64) {
	c.started[UserUnit(uid, name)] = took
	c.started[UserUnit(-1, name)] = max(took, c.started[UserUnit(-1, name)])
}

// add adds what one more process of a program uses.
func (c *Costs) add(program string, more autostart.Cost) {
	key := c.fold(program)
	was, ok := c.programs[key]
	if !ok || was.Basis != more.Basis {
		c.programs[key] = more
		return
	}
	was.CPUMS += more.CPUMS
	was.MemoryKB += more.MemoryKB
	was.DiskKB += more.DiskKB
	if !more.Since.IsZero() && (was.Since.IsZero() || more.Since.Before(was.Since)) {
		was.Since = more.Since
	}
	c.programs[key] = was
}

// milliseconds rounds a duration.
func milliseconds(d time.Duration) int64 { return d.Round(time.Millisecond).Milliseconds() }
