//go:build linux

package cost

import (
	"os"
	"testing"

	"lockback/core/autostart"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// The figures of a running program are those that the kernel keeps: memory, processor time, and what it wrote to a
// disk.
func TestRunningNow(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	// In memory nothing is written: /var/tmp is on a disk, file-hierarchy(7).
	var fs unix.Statfs_t
	require.NoError(t, unix.Statfs("/var/tmp", &fs))
	onDisk := fs.Type != unix.TMPFS_MAGIC
	file, err := os.CreateTemp("/var/tmp", "lockback-test-")
	require.NoError(t, err)
	defer os.Remove(file.Name())
	defer file.Close()
	_, err = file.Write(make([]byte, 8<<20))
	require.NoError(t, err)
	require.NoError(t, file.Sync())
	c := &Costs{programs: map[string]autostart.Cost{}, fold: func(s string) string { return s }}
	c.runningNow()
	got := c.Of(self, "")
	require.NotNil(t, got)
	require.Equal(t, RunningNow, got.Basis)
	require.Greater(t, got.MemoryKB, int64(1<<10))
	require.False(t, got.Since.IsZero())
	if onDisk {
		require.GreaterOrEqual(t, got.DiskKB, int64(8<<10))
	}
}
