package figures

import (
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/load"
	"github.com/shirou/gopsutil/v4/mem"
	"github.com/shirou/gopsutil/v4/process"
)

// memoryNow measures the running machine.
func memoryNow() []Figure {
	const basis = "the running system"
	var all []Figure
	add := func(name string, value int64, unit Unit) { all = append(all, Figure{name, value, unit, basis}) }
	if ids, err := process.Pids(); err == nil {
		add("processes", int64(len(ids)), Count)
	}
	if m, err := mem.VirtualMemory(); err == nil {
		add("memory-used", int64((m.Total-m.Available)/1024), KB)
		add("memory-free", int64(m.Available/1024), KB)
	}
	if s, err := mem.SwapMemory(); err == nil {
		add("swap-used", int64(s.Used/1024), KB)
	}
	if l, err := load.Avg(); err == nil {
		add("load", int64(l.Load1*100+0.5), Hundredths)
	}
	if seconds, err := host.Uptime(); err == nil {
		add("uptime", int64(seconds)*1000, Milliseconds)
	}
	if at, err := host.BootTime(); err == nil && at > 0 {
		add("last-start", int64(at), Moment)
	}
	return all
}
