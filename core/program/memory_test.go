package program_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/core/program"
)

// TestProgress asks how far looking is: at the end all that the memory did not have, the second time
// nothing.
func TestProgress(t *testing.T) {
	root := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
	}
	write("etc/os-release", "ID=gullrock\n")
	write("var/lib/dpkg/status", "Package: tide\nStatus: install ok installed\nVersion: 1\n\n")
	var names []string
	for k := range 30 {
		names = append(names, fmt.Sprintf("/opt/tide/%d", k))
		write(names[k], "ebb")
	}
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	memory := program.NewMemory(nil)
	for _, total := range []int{30, 0} {
		program.Open(m.Reader(nil), memory).Look(append(names, "/opt/tide/absent"))
		looked, all := memory.Progress()
		require.Equal(t, []int{total, total}, []int{looked, all})
	}
}
