package cost

import (
	"time"

	"github.com/shirou/gopsutil/v4/process"

	"lockback/core/autostart"
)

// runningNow adds what each process uses now: memory that it holds, processor time and bytes read
// and written since it started. Of the processes of others an ordinary user sees less.
func (c *Costs) runningNow() {
	all, err := process.Processes()
	if err != nil {
		return
	}
	now := map[string]bool{}
	for _, p := range all {
		program, err := p.Exe()
		if err != nil || program == "" {
			continue
		}
		used := autostart.Cost{Basis: RunningNow}
		if times, err := p.Times(); err == nil {
			used.CPUMS = milliseconds(time.Duration((times.User + times.System) * float64(time.Second)))
		}
		if memory, err := p.MemoryInfo(); err == nil {
			used.MemoryKB = int64(memory.RSS / 1024)
		}
		if disk, err := p.IOCounters(); err == nil {
			used.DiskKB = int64((disk.ReadBytes + disk.WriteBytes) / 1024)
		}
		if started, err := p.CreateTime(); err == nil && started > 0 {
			used.Since = time.UnixMilli(started).UTC()
		}
		if key := c.fold(program); !now[key] {
			now[key] = true
			delete(c.programs, key) // what is used now says more than a trace
		}
		c.add(program, used)
	}
}
