//go:build unix

package bench

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// catalogues are how many signed catalogues the large Windows disk has, and how large each is.
const (
	catalogues    = 5000
	catalogueSize = 20 << 10
)

// BenchmarkCatalogues holds the inventory of a Windows disk with 900 services and 5,000 catalogues
// of 100 MB in all against the same disk without them: the first time, and with what the record
// has. It tells how much longer it takes than reading the catalogues, too.
func BenchmarkCatalogues(b *testing.B) {
	program := testkit.Built(b)
	root := filepath.Join(b.TempDir(), "windows")
	require.NoError(b, os.Mkdir(root, 0o755))
	require.NoError(b, BuildWindows(root, WindowsSize{Classes: 1000, Services: 900, Users: 2, Tasks: 50}))
	// Every program is an image of its own that nobody signed.
	image, err := os.ReadFile(filepath.Join(testkit.Project(), "core/format/peimage/testdata/sync.exe"))
	require.NoError(b, err)
	binary.LittleEndian.PutUint64(image[64+24+112+8*4:], 0)
	n := 0
	require.NoError(b, filepath.WalkDir(root, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if content, err := os.ReadFile(name); err != nil || len(content) > 2 || string(content) != "MZ" {
			return err
		}
		n++
		binary.LittleEndian.PutUint64(image[0x210:], uint64(n))
		return os.WriteFile(name, append(image, make([]byte, 200<<10)...), 0o644)
	}))
	folder := filepath.Join(root, "Windows/System32/CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}")
	dice := rand.New(rand.NewPCG(1887, 5))
	require.NoError(b, os.MkdirAll(folder, 0o755))
	content := make([]byte, catalogueSize)
	for k := range catalogues {
		for at := 0; at < len(content); at += 8 {
			binary.LittleEndian.PutUint64(content[at:], dice.Uint64())
		}
		require.NoError(b, os.WriteFile(filepath.Join(folder, fmt.Sprintf("tide%04d.cat", k)), content, 0o644))
	}
	aside := folder + ".aside"
	store := filepath.Join(b.TempDir(), "record.db")
	require.NoError(b, os.Chmod(filepath.Dir(store), 0o700))
	list := func(store string) (time.Duration, int64) {
		return timed(b, nil, program, "--root", root, "--store", store, "--format", "json", "list", "--all")
	}
	read := func() (time.Duration, int64) {
		return timed(b, nil, "sh", "-c", "cat '"+folder+"'/*.cat > /dev/null")
	}
	var without, first, second, reading []time.Duration
	peak := int64(0)
	for b.Loop() {
		require.NoError(b, os.Rename(folder, aside))
		took, _ := list("/nonexistent/record.db")
		without = append(without, took)
		require.NoError(b, os.Rename(aside, folder))
		took, memory := list("/nonexistent/record.db")
		first, peak = append(first, took), max(peak, memory)
		took, _ = read()
		reading = append(reading, took)
		timed(b, nil, program, "--root", root, "--store", store, "snapshot")
		took, memory = list(store)
		second, peak = append(second, took), max(peak, memory)
	}
	b.Logf("%d programs", n)
	b.ReportMetric(float64(median(first)-median(without))/float64(median(reading)), "times-reading")
	b.ReportMetric(float64(median(second))/float64(median(without)), "second-ratio")
	b.ReportMetric(float64(median(without).Milliseconds()), "without-ms")
	b.ReportMetric(float64(median(first).Milliseconds()), "first-ms")
	b.ReportMetric(float64(median(second).Milliseconds()), "second-ms")
	b.ReportMetric(float64(peak)/(1<<20), "peak-MiB")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkPackages holds the inventory of a real desktop against the same without its package
// database: the first time, and with what the record has. The desktop is a Debian with some
// dozen packages.
func BenchmarkPackages(b *testing.B) {
	program := testkit.Built(b)
	root := testkit.Debian(b, "desktop")
	if named := os.Getenv("LOCKBACK_DESKTOP"); named != "" {
		root = named
	}
	store := filepath.Join(b.TempDir(), "record.db")
	require.NoError(b, os.Chmod(filepath.Dir(store), 0o700))
	list := func(store string) time.Duration {
		took, _ := timed(b, nil, program, "--root", root, "--store", store, "--format", "json", "list", "--all")
		return took
	}
	status := filepath.Join(root, "var/lib/dpkg/status")
	var without, first, second []time.Duration
	list("/nonexistent/record.db")
	timed(b, nil, program, "--root", root, "--store", store, "snapshot")
	for b.Loop() {
		require.NoError(b, os.Rename(status, status+".aside"))
		without = append(without, list(store)) // opens the record, too, and finds nothing in it that counts
		require.NoError(b, os.Rename(status+".aside", status))
		first = append(first, list("/nonexistent/record.db"))
		second = append(second, list(store))
	}
	b.ReportMetric(float64(median(first))/float64(median(without)), "first-ratio")
	b.ReportMetric(float64(median(second))/float64(median(without)), "second-ratio")
	b.ReportMetric(float64(median(without).Milliseconds()), "without-ms")
	b.ReportMetric(float64(median(first).Milliseconds()), "first-ms")
	b.ReportMetric(0, "ns/op")
}
