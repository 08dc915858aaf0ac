//go:build unix

package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

func largeWindows(b testing.TB) string {
	b.Helper()
	root := filepath.Join(b.TempDir(), "windows")
	require.NoError(b, os.Mkdir(root, 0o755))
	require.NoError(b, BuildWindows(root, LargeWindows))
	for _, hive := range []string{"SOFTWARE", "SYSTEM"} {
		info, err := os.Stat(filepath.Join(root, "Windows/System32/config", hive))
		require.NoError(b, err)
		b.Logf("%s: %d MB", hive, info.Size()>>20)
	}
	return root
}

// BenchmarkWindowsList holds the inventory of a large Windows disk against a
// full export of the same hives.
func BenchmarkWindowsList(b *testing.B) {
	testkit.Need(b, "hivexregedit")
	root, program := largeWindows(b), testkit.Built(b)
	list := func() (time.Duration, int64) {
		return timed(b, nil, program, "--root", root, "--store", "/nonexistent/record.db", "--format", "json", "list",
			"--all")
	}
	export := time.Duration(0)
	for _, hive := range testkit.Hives(b, root) {
		started := time.Now()
		cmd := exec.Command("hivexregedit", "--export", hive, `\`)
		require.NoError(b, cmd.Run())
		export += time.Since(started)
	}
	var all []time.Duration
	list()
	for b.Loop() {
		took, _ := list()
		all = append(all, took)
	}
	b.ReportMetric(float64(export)/float64(median(all)), "times-faster")
	b.ReportMetric(float64(median(all).Milliseconds()), "ms")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkWindowsChange holds changing 50 values of the large hive against
// copying the file.
func BenchmarkWindowsChange(b *testing.B) {
	root, program := largeWindows(b), testkit.Built(b)
	store := filepath.Join(b.TempDir(), "record.db")
	hive := filepath.Join(root, "Windows/System32/config/SOFTWARE")
	copied := func() (time.Duration, int64) {
		return timed(b, nil, "sh", "-c", fmt.Sprintf("cp %s %s.copy && sync %s.copy && rm %s.copy", hive, hive, hive,
			hive))
	}
	off := true
	change := func() (time.Duration, int64) {
		verb := map[bool]string{true: "disable", false: "enable"}[off]
		off = !off
		return timed(b, nil, program, "--root", root, "--store", store, verb, "Tide ?", "Tide [1-4]?",
			"location=windows.run", "--yes")
	}
	sideBySide(b, change, copied)
}
