package machine_test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/internal/testkit"
)

// What a service manager says about an entry counts, not only what the files say.
func TestManagersOwnWord(t *testing.T) {
	t.Parallel()
	uid := 1<<20 + rand.IntN(1<<30) // other runs of this test make folders for their users
	ines := func() *machine.Machine {
		return &machine.Machine{Live: true, OS: "linux", Users: []account.User{{Name: "ines", UID: uid,
			Home: "/home/ines"}}}
	}
	ask := func(mode string) error { return ines().ConfirmUnit("index.service", "ines", mode) }
	require.NoError(t, ask("enabled"), "nobody runs that could be asked")

	dir := fmt.Sprintf("/run/user/%d", uid)
	os.Mkdir(filepath.Dir(dir), 0o755)
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Skip("a service manager's socket needs root: ", err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Mkdir(filepath.Join(dir, "systemd"), 0o700))
	listener, err := net.Listen("unix", filepath.Join(dir, "systemd/private"))
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	var silent atomic.Bool
	var calls atomic.Int32
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			calls.Add(1)
			word := "masked"
			if silent.Load() {
				word = ""
			}
			go testkit.AnswerAsManager(conn, word)
		}
	}()
	require.NoError(t, ask("masked"))
	require.EqualError(t, ask("enabled"), `the service manager of ines says "masked", the files say "enabled"`)

	// One that does not answer is asked once.
	silent.Store(true)
	m := ines()
	require.NoError(t, m.ConfirmUnit("index.service", "ines", "enabled"))
	asked := calls.Load()
	require.NoError(t, m.ConfirmUnit("index.service", "ines", "enabled"))
	require.Equal(t, asked, calls.Load())
}
