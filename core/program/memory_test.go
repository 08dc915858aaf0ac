package program_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/core/program"
	"lockback/internal/testkit"
)

// What is remembered of a Windows machine's programs holds as long as the catalogues of its system do.
func TestCataloguesChange(t *testing.T) {
	const catalogues = `Windows\System32\CatRoot\{F750E6C3-38EE-11D1-85E5-00C04FC295EE}`
	root := testkit.WindowsDisk(t, nil, nil, nil, map[string]string{`Tide\tide.exe`: "x", catalogues + `\a.cat`: ""})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	memory := program.NewMemory(nil)
	look := func() int {
		program.Open(m.Reader(nil), memory).Look([]string{`C:\Tide\tide.exe`})
		_, all := memory.Progress()
		return all
	}
	require.Equal(t, 1, look())
	require.Zero(t, look())
	folder := filepath.Join(root, strings.ReplaceAll(catalogues, `\`, "/"))
	require.NoError(t, os.Chtimes(folder, time.Unix(1, 0), time.Unix(1, 0)))
	require.Equal(t, 1, look())
}

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
