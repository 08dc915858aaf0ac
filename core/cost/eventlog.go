package cost

import (
	"strconv"
	"strings"
	"time"

	"lockback/core/format/evtx"
	"lockback/core/machine"
)

// PerformanceLog is the source of how long a program took to start where Windows found that it
// held up the start.
const PerformanceLog = "Windows' performance log"

// performanceLog is where Windows writes down how long each start took, and what held it up.
const performanceLog = `\System32\winevt\Logs\Microsoft-Windows-Diagnostics-Performance%4Operational.evtx`

const performanceProvider = "Microsoft-Windows-Diagnostics-Performance"

// The events of that log that are read, by the descriptions of its own manifest.
const (
	eventStart       = 100 // Windows has started up
	eventApplication = 101 // this application took longer than usual to start up
	eventService     = 103 // this service did
)

// readPerformanceLog visits the events that Windows wrote of its starts.
func readPerformanceLog(m *machine.Reader, visit func(evtx.Event)) {
	file, size, err := m.OpenFile(m.Windows() + performanceLog)
	if err != nil {
		return
	}
	defer file.Close()
	evtx.Read(file, size, func(e evtx.Event) {
		if e.Provider == performanceProvider {
			visit(e)
		}
	})
}

// heldUp reads which programs and services held up the last start at which they did.
func (c *Costs) heldUp(m *machine.Reader) {
	newest := map[string]time.Time{}
	readPerformanceLog(m, func(e evtx.Event) {
		took, ok := plausible(e.Data["TotalTime"])
		if !ok {
			return
		}
		var key string
		switch e.ID {
		case eventApplication:
			key = c.fold(e.Data["Path"])
		case eventService:
			key = ServiceUnit(e.Data["Name"])
		}
		if key == "" || e.Time.Before(newest[key]) {
			return
		}
		newest[key] = e.Time
		c.started[key] = took
	})
}

// ServiceUnit is what [Costs.Of] knows a service of Windows by: its name, which is no path.
func ServiceUnit(name string) string {
	if name == "" {
		return ""
	}
	return "service " + strings.ToLower(name)
}

// maxStart is the longest start that is believed, in milliseconds: a day.
const maxStart = 24 * 60 * 60 * 1000

// plausible reads how long something took, in milliseconds; ok is false for what no start takes.
func plausible(text string) (ms int64, ok bool) {
	n, err := strconv.ParseInt(text, 10, 64)
	return n, err == nil && n > 0 && n < maxStart
}

// Start is how long a start of Windows took, in milliseconds, and its parts; 0 is not known.
type Start struct {
	At      time.Time // when it began
	Total   int64     // until the computer was idle
	Desktop int64     // until the desktop was there: with what follows, all of it
	Settled int64     // from then on until the computer was idle
	Kernel  int64
	Drivers int64 // with the devices
	Profile int64 // of whoever signed in
	Shell   int64 // the desktop itself
}

// LastStart is the last start that Windows wrote down; the zero time if there is none.
func LastStart(m *machine.Reader) (last Start) {
	var written time.Time
	readPerformanceLog(m, func(e evtx.Event) {
		total, ok := plausible(e.Data["BootTime"])
		if e.ID != eventStart || !ok || e.Time.Before(written) {
			return
		}
		number := func(names ...string) (sum int64) {
			for _, name := range names {
				n, _ := plausible(e.Data[name])
				sum += n
			}
			return sum
		}
		written = e.Time
		last = Start{At: e.Time, Total: total, Desktop: number("MainPathBootTime"), Settled: number("BootPostBootTime"),
			Kernel:  number("BootKernelInitTime"),
			Drivers: number("BootDriverInitTime", "BootDevicesInitTime"),
			Profile: number("BootUserProfileProcessingTime"), Shell: number("BootExplorerInitTime")}
		if at, err := time.Parse(time.RFC3339Nano, e.Data["BootStartTime"]); err == nil && !at.IsZero() &&
			!at.After(e.Time) {
			last.At = at.UTC()
		}
	})
	return last
}
