package utmp_test

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/utmp"
)

// record makes one note in the layout of Linux.
func record(kind uint16, user string, at int64) []byte {
	b := make([]byte, 384)
	binary.LittleEndian.PutUint16(b, kind)
	copy(b[8:], "tty1")
	copy(b[44:], user)
	binary.LittleEndian.PutUint32(b[340:], uint32(at))
	return b
}

func TestLinux(t *testing.T) {
	text := append(record(2, "reboot", 1773480413), record(7, "ines", 1773480500)...)
	want := []utmp.Record{{Type: utmp.Boot, User: "reboot", Time: time.Unix(1773480413, 0).UTC()},
		{Type: utmp.SignIn, User: "ines", Time: time.Unix(1773480500, 0).UTC()}}
	require.Equal(t, want, utmp.Parse(append(text, "half a record"...)))
	last, err := exec.LookPath("last")
	if err != nil {
		return
	}
	// The system's own reader agrees.
	file := filepath.Join(t.TempDir(), "wtmp")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	cmd := exec.Command(last, "--time-format", "iso", "-f", file)
	cmd.Env = []string{"TZ=UTC", "LC_ALL=C"}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	lines := strings.Split(string(out), "\n")
	require.Regexp(t, `^ines +tty1 .*2026-03-14T09:28:20`, lines[0])
	require.Regexp(t, `^reboot .*2026-03-14T09:26:53`, lines[1])
}

func TestMac(t *testing.T) {
	head, b := make([]byte, 628), make([]byte, 628)
	copy(head, "utmpx-1.00")
	copy(b, "mirela")
	binary.LittleEndian.PutUint16(b[296:], 7)
	binary.LittleEndian.PutUint32(b[300:], 1773480500)
	require.Equal(t, []utmp.Record{{Type: utmp.SignIn, User: "mirela", Time: time.Unix(1773480500, 0).UTC()}},
		utmp.Parse(append(head, b...)))
}

func FuzzParse(f *testing.F) {
	f.Add(record(2, "reboot", 1773480413))
	f.Add(append([]byte("utmpx-1.00\x00"), make([]byte, 628*2)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		require.LessOrEqual(t, len(utmp.Parse(b)), len(b)/384)
	})
}
