//go:build linux

package bench

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// BenchmarkDesktop holds the inventory of a whole desktop against one process that merely reads the files that it
// reads, with the files in memory and without: the first time, and with what the record has. The desktop is what
// LOCKBACK_DESKTOP names, else a Debian with some dozen packages.
func BenchmarkDesktop(b *testing.B) {
	testkit.Need(b, "strace")
	program, reader := testkit.Built(b), compiled(b, "./internal/bench/readfiles")
	root := os.Getenv("LOCKBACK_DESKTOP")
	if root == "" {
		root = testkit.Debian(b, "desktop")
	}
	store := filepath.Join(b.TempDir(), "record.db")
	require.NoError(b, os.Chmod(filepath.Dir(store), 0o700))
	timed(b, nil, program, "--root", root, "--store", store, "snapshot")
	for _, run := range [][2]string{{"first", "/nonexistent/record.db"}, {"recorded", store}} {
		name, record := run[0], run[1]
		args := []string{"--root", root, "--store", record, "--format", "json", "list", "--all"}
		names := filesRead(b, root, program, args...)
		for _, cache := range []string{"warm", "cold"} {
			before := func() {}
			if cache == "cold" {
				before = func() { dropCaches(b, program, reader, store) }
			}
			b.Run(name+"-"+cache, func(b *testing.B) {
				sideBySide(b, func() (time.Duration, int64) { before(); return timed(b, nil, program, args...) },
					func() (time.Duration, int64) { before(); return timed(b, names, reader) })
				b.ReportMetric(float64(strings.Count(string(names), "\n")), "files")
			})
		}
	}
}

// dropCaches has the system forget what it knows of all files but some.
func dropCaches(b *testing.B, but ...string) {
	testkit.Shell(b, "sync; echo 3 > /proc/sys/vm/drop_caches; cat "+strings.Join(but, " ")+" > /dev/null")
}

// readCall finds the file of a call that reads.
var readCall = regexp.MustCompile(`(?:read|pread64)\(\d+<([^>]+)>`)

// filesRead are the files of a root that a program reads, a line each, as a trace of its calls has them.
func filesRead(b *testing.B, root, program string, args ...string) []byte {
	b.Helper()
	trace := filepath.Join(b.TempDir(), "trace")
	out, err := exec.Command("strace", append([]string{"-f", "-y", "-e", "trace=read,pread64", "-o", trace, program},
		args...)...).CombinedOutput()
	require.NoError(b, err, string(out))
	text, err := os.ReadFile(trace)
	require.NoError(b, err)
	files := map[string]bool{}
	for _, m := range readCall.FindAllStringSubmatch(string(text), -1) {
		if info, err := os.Stat(m[1]); err == nil && info.Mode().IsRegular() && strings.HasPrefix(m[1], root+"/") {
			files[m[1]] = true
		}
	}
	require.NotEmpty(b, files)
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	return []byte(strings.Join(names, "\n") + "\n")
}
