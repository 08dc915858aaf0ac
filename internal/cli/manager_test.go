//go:build linux

package cli_test

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/internal/testkit"
)

// withProc mounts /proc in a machine that the program is to run in.
func withProc(t *testing.T, p testkit.Program) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(p.Root, "proc"), 0o755))
	require.NoError(t, unix.Mount("proc", filepath.Join(p.Root, "proc"), "proc", 0, ""))
	t.Cleanup(func() { unix.Unmount(filepath.Join(p.Root, "proc"), unix.MNT_DETACH) })
}

// A person's own manager is asked, and has no say over root: whoever answers at its socket
// is that user.
func TestAPersonsManagerIsNotBelieved(t *testing.T) {
	t.Parallel()
	for _, state := range []string{"enabled", ""} {
		p := shared(t)
		withProc(t, p)
		socket := filepath.Join(p.Root, "run/user/1000/systemd/private")
		require.NoError(t, os.MkdirAll(filepath.Dir(socket), 0o755))
		// A socket's name may have 107 bytes only.
		short, err := os.MkdirTemp("", "s")
		require.NoError(t, err)
		defer os.RemoveAll(short)
		require.NoError(t, os.Symlink(filepath.Dir(socket), short+"/s"))
		l, err := net.Listen("unix", short+"/s/private")
		require.NoError(t, err)
		defer l.Close()
		calls := make(chan bool, 1000)
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				calls <- true
				go testkit.AnswerAsManager(conn, state)
			}
		}()
		live := inside(t, p)
		live.Prefix = append([]string{"timeout", "30"}, live.Prefix...)
		out := live.OK(t, "disable", "fogbell-index.service", "--yes")
		require.NotEmpty(t, calls, "it was asked")
		_, now := testkit.Program{Root: p.Root}.List(t)
		require.Equal(t, "disabled", now["fogbell-index.service/ines"].State)
		if state != "" {
			require.Contains(t, out, `the service manager of ines says "enabled", the files say`)
		}
	}
}
