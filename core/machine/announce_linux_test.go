package machine_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/internal/testkit"
)

// What a service manager says of an entry counts, not only what the files say.
func TestManagersOwnWord(t *testing.T) {
	const uid = 61234
	ask := func(mode string) error {
		m := &machine.Machine{Live: true, OS: "linux", Users: []machine.User{{Name: "ines", UID: uid, Home: "/home/ines"}}}
		return m.Confirm("linux.systemd.user", "index.service", "ines", mode)
	}
	require.NoError(t, ask("enabled"), "nobody runs that could be asked")

	dir := fmt.Sprintf("/run/user/%d", uid)
	if err := os.MkdirAll(filepath.Join(dir, "systemd"), 0o700); err != nil {
		t.Skip("a service manager's socket needs root: ", err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	listener, err := net.Listen("unix", filepath.Join(dir, "systemd/private"))
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go testkit.AnswerAsManager(conn, "masked")
		}
	}()
	require.NoError(t, ask("masked"))
	require.EqualError(t, ask("enabled"), `the service manager of ines says "masked", the files say "enabled"`)
}
