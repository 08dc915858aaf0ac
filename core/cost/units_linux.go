package cost

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	systemd "github.com/coreos/go-systemd/v22/dbus"

	"lockback/core/autostart"
)

// cgroups is where the kernel accounts for groups of processes, cgroups(7); systemd has one for
// each unit.
const cgroups = "/sys/fs/cgroup"

// unitsNow reads what systemd accounts for each unit: from the kernel's files, which systemctl
// shows as MemoryCurrent, CPUUsageNSec and IOReadBytes. How long a unit took to start, systemd
// itself is asked.
func (c *Costs) unitsNow() {
	filepath.WalkDir(cgroups, func(dir string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		name := path.Base(dir)
		if !strings.HasSuffix(name, ".service") {
			return nil
		}
		used := autostart.Cost{Basis: ByUnit, MemoryKB: number(dir+"/memory.current") / 1024}
		for field, value := range fields(dir + "/cpu.stat") {
			if field == "usage_usec" {
				used.CPUMS = value / 1000
			}
		}
		used.DiskKB = disk(dir+"/io.stat") / 1024
		c.units[name] = used
		return filepath.SkipDir
	})
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	conn, err := systemd.NewWithContext(ctx)
	if err != nil {
		return
	}
	defer conn.Close()
	for unit := range c.units {
		began, err1 := conn.GetUnitPropertyContext(ctx, unit, "InactiveExitTimestampMonotonic")
		up, err2 := conn.GetUnitPropertyContext(ctx, unit, "ActiveEnterTimestampMonotonic")
		if err1 != nil || err2 != nil {
			continue
		}
		from, ok1 := began.Value.Value().(uint64)
		to, ok2 := up.Value.Value().(uint64)
		if ok1 && ok2 && from > 0 && to >= from {
			c.started[unit] = int64(to-from) / 1000
		}
	}
}

// number reads a file with one number; 0 if there is none.
func number(name string) int64 {
	b, err := os.ReadFile(name)
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	return n
}

// fields reads a file with a name and a number in each line.
func fields(name string) map[string]int64 {
	b, _ := os.ReadFile(name)
	all := map[string]int64{}
	for line := range strings.Lines(string(b)) {
		if f := strings.Fields(line); len(f) == 2 {
			all[f[0]], _ = strconv.ParseInt(f[1], 10, 64)
		}
	}
	return all
}

// disk sums up the bytes read and written on all disks.
func disk(name string) int64 {
	b, _ := os.ReadFile(name)
	var sum int64
	for word := range strings.FieldsSeq(string(b)) {
		for _, key := range []string{"rbytes=", "wbytes="} {
			if value, ok := strings.CutPrefix(word, key); ok {
				n, _ := strconv.ParseInt(value, 10, 64)
				sum += n
			}
		}
	}
	return sum
}
