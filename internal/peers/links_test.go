package peers

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/shelllink"
	"lockback/internal/testkit"
)

// TestLinksOfOurs: what we write as a shell link, another reader understands.
func TestLinksOfOurs(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "lnkinfo")
	link := shelllink.Link{LocalPath: `C:\Program Files\Brinecast\Überblick.exe`, Arguments: `--tray "two words"`,
		WorkingDir:  `C:\Program Files\Brinecast`,
		Description: "Brinecast", Volume: "Gullrock", Serial: 0x18870314, Machine: "ticket-desk", Size: 171}
	file := filepath.Join(t.TempDir(), "x.lnk")
	require.NoError(t, os.WriteFile(file, link.Encode(), 0o600))
	out, err := exec.Command("lnkinfo", file).Output()
	require.NoError(t, err)
	for _, want := range []string{link.LocalPath, link.Arguments, link.Description, "0x18870314", link.Volume,
		link.Machine, "171 bytes"} {
		require.Contains(t, string(out), want)
	}
}
