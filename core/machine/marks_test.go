package machine_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/core/machine"
	"lockback/internal/testkit"
)

// Marks come from the disk itself, so that they are the same wherever it is mounted; what boards have whose maker wrote
// no number down is none.
func TestMarks(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for name, text := range map[string]string{"etc/passwd": "root:x:0:0::/root:/bin/sh\n",
		"etc/os-release": "ID=gullrock\n",
		"etc/hostname":   "Till-1.museum.example\n", "etc/ssh/ssh_host_ed25519_key.pub": "ssh-ed25519 AAAA till\n",
		"etc/fstab": "# UUID=9 / ext4\nUUID=7 /home ext4 defaults 0 " +
			"2\nUUID=\"0D1F5A17-ABCD-4001-8314-00000000000A\" / ext4 defaults 0 1\n"} {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	kinds := func(root string) map[machine.MarkKind][]string {
		m, err := machine.Open(root)
		require.NoError(t, err)
		defer m.Close()
		all := map[machine.MarkKind][]string{}
		for _, mark := range m.Marks() {
			all[mark.Kind] = append(all[mark.Kind], mark.Value)
		}
		return all
	}
	linux := kinds(root)
	require.Equal(t, []string{"0d1f5a17-abcd-4001-8314-00000000000a"}, linux[machine.DiskMark])
	require.Equal(t, []string{"till-1"}, linux[machine.NameMark])
	require.Len(t, linux[machine.HostKeyMark], 1)
	require.Empty(t, linux[machine.HardwareMark], "that of the computer which has the disk mounted is another's")

	for value, want := range map[string][]string{"{0D1F5A17-ABCD-4001-8314-9900000000AB}": {
		"0d1f5a17-abcd-4001-8314-9900000000ab"},
		"{00000000-0000-0000-0000-000000000000}": nil, "{FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF}": nil,
		"{03000200-0400-0500-0006-000700080009}": nil, "Default string": nil} {
		disk := testkit.WindowsDisk(t, nil, testkit.Keys{`HardwareConfig`: {regf.NewText("LastConfig", value)}}, nil,
			nil)
		require.Equal(t, want, kinds(disk)[machine.HardwareMark], value)
	}
}

// The record calls the second machine of an image otherwise; its system keeps its logs where its own id says.
func TestCloneHasItsSystemsLogs(t *testing.T) {
	t.Parallel()
	m := machine.Machine{ID: machine.CloneID("0123456789abcdef0123456789abcdef", 2), OS: "linux"}
	require.Equal(t, "/var/log/journal/0123456789abcdef0123456789abcdef", m.Reader(nil).LogFolder())
	m.ID = "../etc"
	require.Empty(t, m.Reader(nil).LogFolder())
}
