package cost

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	systemd "github.com/coreos/go-systemd/v22/dbus"
	"github.com/godbus/dbus/v5"
	"github.com/shirou/gopsutil/v4/process"

	"lockback/core/autostart"
	"lockback/core/machine"
)

// cgroups is where the kernel accounts for groups of processes, cgroups(7); systemd has one for
// each unit.
const cgroups = "/sys/fs/cgroup"

// unitsNow reads what systemd accounts for each unit: from the kernel's files, which systemctl shows as MemoryCurrent,
// CPUUsageNSec and IOReadBytes. How long a unit took to start, its manager is asked: that of the system, and those of
// the people who are signed in.
func (c *Costs) unitsNow(m *machine.Machine) {
	filepath.WalkDir(cgroups, func(dir string, d os.DirEntry, err error) error {
		name := path.Base(dir)
		if err != nil || !d.IsDir() || !strings.HasSuffix(name, ".service") {
			return nil
		}
		uid, below := managerAbove(dir)
		if !below {
			c.units[name] = groupNow(dir)
			if _, manager := managerUnit(name); manager {
				return nil // the units of a user lie in that of their manager
			}
			return filepath.SkipDir
		}
		c.addUserUnit(uid, name, groupNow(dir))
		return filepath.SkipDir
	})
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if conn, err := systemd.NewWithContext(ctx); err == nil {
		startTimes(ctx, conn, func(unit string, took int64) { c.started[unit] = took })
		conn.Close()
	}
	for _, u := range m.Users {
		socket := fmt.Sprintf("/run/user/%d/systemd/private", u.UID)
		if info, err := os.Lstat(socket); err != nil || info.Mode()&os.ModeSocket == 0 {
			continue
		}
		// What a person's own manager says counts for their own units only.
		conn, err := systemd.NewConnection(func() (*dbus.Conn, error) { return dialManager(ctx, socket) })
		if err != nil {
			continue
		}
		startTimes(ctx, conn, func(unit string, took int64) { c.addUserStart(u.UID, unit, took) })
		conn.Close()
	}
}

// dialManager connects to the socket that a service manager has for itself, as systemctl does.
func dialManager(ctx context.Context, socket string) (*dbus.Conn, error) {
	conn, err := dbus.Dial("unix:path="+socket, dbus.WithContext(ctx))
	if err == nil {
		err = conn.Auth([]dbus.Auth{dbus.AuthExternal(strconv.Itoa(os.Getuid()))})
	}
	if err != nil && conn != nil {
		conn.Close()
	}
	return conn, err
}

// managerUnit is the user whose service manager a unit is.
func managerUnit(name string) (uid int, ok bool) {
	text, ok := strings.CutPrefix(strings.TrimSuffix(name, ".service"), "user@")
	uid, err := strconv.Atoi(text)
	return uid, ok && err == nil
}

// managerAbove is the user in whose service manager a unit runs, by its group.
func managerAbove(dir string) (uid int, ok bool) {
	for dir = path.Dir(dir); len(dir) > len(cgroups); dir = path.Dir(dir) {
		if uid, ok = managerUnit(path.Base(dir)); ok {
			return uid, true
		}
	}
	return 0, false
}

// groupNow is what the processes of a unit use. Where the kernel does not account for memory, the processes are asked.
func groupNow(dir string) autostart.Cost {
	used := autostart.Cost{Basis: ByUnit, MemoryKB: number(dir+"/memory.current") / 1024,
		CPUMS: fields(dir + "/cpu.stat")["usage_usec"] / 1000, DiskKB: disk(dir+"/io.stat") / 1024}
	if used.MemoryKB == 0 {
		filepath.WalkDir(dir, func(file string, d os.DirEntry, err error) error {
			if err == nil && d.Name() == "cgroup.procs" {
				processes, _ := os.ReadFile(file)
				for text := range strings.FieldsSeq(string(processes)) {
					id, _ := strconv.ParseInt(text, 10, 32)
					if memory, err := (&process.Process{Pid: int32(id)}).MemoryInfo(); err == nil {
						used.MemoryKB += int64(memory.RSS / 1024)
					}
				}
			}
			return nil
		})
	}
	return used
}

// startTimes tells how many milliseconds units took that a manager started before its own start was done: until they
// were active, or, of what ends by itself, until it had ended, as systemd-analyze(1) counts.
func startTimes(ctx context.Context, conn *systemd.Conn, took func(unit string, ms int64)) {
	units, err := conn.ListUnitsContext(ctx)
	if err != nil {
		return
	}
	done, _ := strconv.ParseUint(managerNumber(conn, "FinishTimestampMonotonic"), 10, 64)
	for _, u := range units {
		if !countedTypes[path.Ext(u.Name)] {
			continue
		}
		properties, err := conn.GetUnitPropertiesContext(ctx, u.Name)
		if err != nil {
			continue
		}
		at := func(name string) uint64 {
			n, _ := properties[name].(uint64)
			return n
		}
		began, up := at("InactiveExitTimestampMonotonic"), at("ActiveEnterTimestampMonotonic")
		if up < began {
			up = at("InactiveEnterTimestampMonotonic")
		}
		if began > 0 && up >= began && (done == 0 || began <= done) {
			took(u.Name, int64(up-began)/1000)
		}
	}
}

// countedTypes are the kinds of units that entries are, by their endings.
var countedTypes = map[string]bool{".service": true, ".mount": true, ".swap": true, ".socket": true, ".automount": true,
	".path": true, ".timer": true}

// managerNumber reads a property of the manager, which comes as text: "@t 1234" or "1234".
func managerNumber(conn *systemd.Conn, name string) string {
	text, _ := conn.GetManagerProperty(name)
	return text[strings.LastIndexByte(text, ' ')+1:]
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
