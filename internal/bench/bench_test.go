//go:build unix

package bench

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// large builds the large machine.
func large(b testing.TB, size Size) string {
	b.Helper()
	root := filepath.Join(b.TempDir(), "large")
	require.NoError(b, os.Mkdir(root, 0o755))
	require.NoError(b, Build(root, size))
	return root
}

// compiled builds another small program to measure against.
func compiled(b testing.TB, source string) string {
	b.Helper()
	bin := filepath.Join(b.TempDir(), filepath.Base(source))
	cmd := exec.Command("go", "build", "-o", bin, source)
	cmd.Dir, cmd.Env = testkit.Project(), append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(b, err, string(out))
	return bin
}

// timed runs a program and returns its wall time and its peak memory in bytes.
func timed(b testing.TB, input []byte, name string, args ...string) (time.Duration, int64) {
	b.Helper()
	cmd := exec.Command(name, args...)
	cmd.Stdin = bytes.NewReader(input)
	started := time.Now()
	out, err := cmd.CombinedOutput()
	took := time.Since(started)
	require.NoError(b, err, string(out))
	return took, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
}

// sideBySide runs two programs in turn, reports the ratio of their medians, and
// the first one's peak memory.
func sideBySide(b *testing.B, one, other func() (time.Duration, int64)) {
	b.Helper()
	var a, z []time.Duration
	var peak int64
	one()
	other()
	for b.Loop() {
		took, memory := one()
		a, peak = append(a, took), max(peak, memory)
		took, _ = other()
		z = append(z, took)
	}
	b.ReportMetric(float64(median(a))/float64(median(z)), "ratio")
	b.ReportMetric(float64(median(a).Microseconds())/1000, "ms")
	b.ReportMetric(float64((median(a)-median(z)).Microseconds())/1000, "ms-more")
	b.ReportMetric(float64(peak)/(1<<20), "MiB-peak")
	b.ReportMetric(0, "ns/op")
}

func median(d []time.Duration) time.Duration {
	sorted := append([]time.Duration{}, d...)
	for i := range sorted {
		for j := i; j > 0 && sorted[j] < sorted[j-1]; j-- {
			sorted[j], sorted[j-1] = sorted[j-1], sorted[j]
		}
	}
	return sorted[len(sorted)/2]
}

// BenchmarkList holds the inventory of the large machine against one process
// that merely reads the same files.
func BenchmarkList(b *testing.B) {
	root := large(b, Large)
	var names []byte
	for _, dir := range []string{"usr/lib/systemd", "etc", "home"} {
		require.NoError(b, filepath.WalkDir(filepath.Join(root, dir), func(name string, d os.DirEntry,
			err error) error {
			if err == nil && d.Type().IsRegular() {
				names = append(append(names, name...), '\n')
			}
			return err
		}))
	}
	reader, program := compiled(b, "./internal/bench/readfiles"), testkit.Built(b)
	read := func() (time.Duration, int64) { return timed(b, names, reader) }
	for _, format := range []string{"table", "json", "csv"} {
		b.Run(format, func(b *testing.B) {
			sideBySide(b, func() (time.Duration, int64) {
				return timed(b, nil, program, "--root", root, "--store", "/nonexistent/record.db", "--format", format,
					"list")
			}, read)
		})
	}
}

// BenchmarkVersion holds the start of the program against a hello world.
func BenchmarkVersion(b *testing.B) {
	program, hello := testkit.Built(b), compiled(b, "./internal/bench/hello")
	sideBySide(b, func() (time.Duration, int64) { return timed(b, nil, program, "--version") },
		func() (time.Duration, int64) { return timed(b, nil, hello) })
}

// BenchmarkInventory is the part of list that is not starting and printing.
func BenchmarkInventory(b *testing.B) {
	root := large(b, Large)
	for b.Loop() {
		m, err := machine.Open(root)
		require.NoError(b, err)
		require.Greater(b, len(inventory.Take(m, nil).Items), 4000)
		m.Close()
	}
}

// made is a snapshot of that many entries, every changed-th of them different.
func made(entries, changed int) *snapshot.Snapshot {
	inv := inventory.Inventory{Machine: &machine.Machine{ID: "m", Files: nil}}
	yes := true
	for k := range entries {
		e := autostart.Entry{Handle: autostart.Handle("l", "", fmt.Sprint(k)), Location: "linux.cron.system",
			Stage: autostart.Schedule, Scope: autostart.ForSystem,
			Name: fmt.Sprintf("tide-%d", k), State: autostart.Enabled, Mode: "17 * * * *",
			Command: fmt.Sprintf("/opt/tide/bin/tide-%d --gauge %d > /dev/null 2>&1", k, k),
			Target:  autostart.Target{Path: fmt.Sprintf("/opt/tide/bin/tide-%d", k), Exists: &yes, Size: 4711},
			Source:  autostart.Source{Path: "/etc/cron.d/lines"}, Switch: autostart.Comment, Problems: []string{}}
		if changed > 0 && k%changed == 0 {
			e.State = autostart.Disabled
		}
		inv.Items = append(inv.Items, &location.Item{Entry: e,
			Artifacts: func() []artifact.Artifact { return []artifact.Artifact{artifact.File(e.Source.Path)} }})
	}
	snap, err := snapshot.CaptureFrom(inv, func(artifact.Artifact) (artifact.Image, error) {
		return artifact.Image{Kind: artifact.Regular, Content: []byte{byte(changed)}}, nil
	}, time.Unix(0, 0), "", snapshot.Keeper{})
	if err != nil {
		panic(err) // nothing takes contents that could fail
	}
	return snap
}

// BenchmarkCompare compares two snapshots of 10,000 entries, of which some, or
// all, differ.
func BenchmarkCompare(b *testing.B) {
	from := made(10000, 0)
	for _, c := range []struct {
		name    string
		changed int
	}{{"none-differs", 0}, {"100-differ", 100}, {"all-differ", 1}} {
		to := made(10000, c.changed)
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				d, err := snapshot.Compare(from, to)
				require.NoError(b, err)
				if c.changed > 0 {
					require.Len(b, d.Changed, 10000/c.changed)
				}
			}
		})
	}
}

// BenchmarkSecondSnapshot tells what an unchanged machine's snapshot adds to the
// record.
func BenchmarkSecondSnapshot(b *testing.B) {
	root := large(b, Large)
	m, err := machine.Open(root)
	require.NoError(b, err)
	defer m.Close()
	st, err := store.Open(filepath.Join(b.TempDir(), "record.db"), store.Write)
	require.NoError(b, err)
	defer st.Close()
	record := func() int64 {
		require.NoError(b, st.Update(func(tx change.Tx) error {
			snap, err := snapshot.Capture(inventory.Take(m, nil), time.Now(), "", tx.Keeper())
			if err != nil {
				return err
			}
			if err := tx.AddMachine(m); err != nil {
				return err
			}
			return tx.AddSnapshot(snap)
		}))
		info, err := os.Stat(st.Path)
		require.NoError(b, err)
		return info.Size()
	}
	first := record()
	last, n := first, 0
	for b.Loop() {
		last = record()
		n++
	}
	b.ReportMetric(float64(first), "first-bytes")
	b.ReportMetric(float64(last-first)/float64(n), "added-bytes/op")
}

// BenchmarkFlushes counts how often disabling 100 entries makes the disk flush.
func BenchmarkFlushes(b *testing.B) {
	if _, err := exec.LookPath("strace"); err != nil {
		b.Skip("the peer strace is missing")
	}
	for _, c := range []struct{ name, selector string }{
		{"100-files", "location=linux.xdg-autostart"}, {"100-links", "location=linux.systemd.system"},
		{"100-lines-of-one-file", "location=linux.cron.system"},
	} {
		b.Run(c.name, func(b *testing.B) {
			root := large(b, Size{Units: 200, Desktop: 100, CronLines: 100})
			p := testkit.Program{Root: root, Store: filepath.Join(b.TempDir(), "record.db")}
			p.OK(b, "snapshot")
			var l testkit.List
			p.JSON(b, &l, "list", c.selector, "state=enabled")
			args := []string{"disable", "--yes"}
			for _, e := range l.Entries[:100] {
				args = append(args, e.Handle)
			}
			trace := filepath.Join(b.TempDir(), "trace")
			p.Prefix = []string{"strace", "-f", "-qq", "-e", "trace=fsync,fdatasync,sync,syncfs", "-o", trace}
			flushes := 0
			for b.Loop() {
				p.OK(b, args...)
				text, err := os.ReadFile(trace)
				require.NoError(b, err)
				flushes = strings.Count(string(text), "sync(")
				p.OK(b, "undo", "--yes")
			}
			b.ReportMetric(float64(flushes), "flushes/op")
		})
	}
}
