//go:build linux

package cli_test

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/internal/testkit"
)

// fakeManager answers at the place where a person's service manager does: it says that
// every unit is in the given state, or nothing at all.
func fakeManager(conn net.Conn, state string) {
	defer conn.Close()
	if state == "" {
		io.Copy(io.Discard, conn)
		return
	}
	r := bufio.NewReader(conn)
	r.ReadByte()
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		switch line = strings.TrimSpace(line); {
		case line == "BEGIN":
			for {
				call, err := dbus.DecodeMessage(r)
				if err != nil {
					return
				}
				reply := &dbus.Message{Type: dbus.TypeMethodReply, Headers: map[dbus.HeaderField]dbus.Variant{dbus.FieldReplySerial: dbus.MakeVariant(call.Serial())}}
				if call.Headers[dbus.FieldMember].Value() == "ListUnitFilesByPatterns" {
					patterns := call.Body[1].([]string)
					type file struct{ Path, State string }
					reply.Body = []any{[]file{{"/x/" + patterns[0], state}}}
					reply.Headers[dbus.FieldSignature] = dbus.MakeVariant(dbus.SignatureOf(reply.Body...))
				}
				if reply.EncodeTo(conn, binary.LittleEndian) != nil {
					return
				}
			}
		case strings.HasPrefix(line, "AUTH EXTERNAL"):
			io.WriteString(conn, "OK 0123456789abcdef0123456789abcdef\r\n")
		case strings.HasPrefix(line, "AUTH"):
			io.WriteString(conn, "REJECTED EXTERNAL\r\n")
		default:
			io.WriteString(conn, "ERROR\r\n")
		}
	}
}

// A person's own manager is asked, and has no say over root: whoever answers at its socket
// is that person.
func TestAPersonsManagerIsNotBelieved(t *testing.T) {
	for _, state := range []string{"enabled", ""} {
		p := shared(t)
		require.NoError(t, os.MkdirAll(filepath.Join(p.Root, "proc"), 0o755))
		require.NoError(t, unix.Mount("proc", filepath.Join(p.Root, "proc"), "proc", 0, ""))
		t.Cleanup(func() { unix.Unmount(filepath.Join(p.Root, "proc"), unix.MNT_DETACH) })
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
				go fakeManager(conn, state)
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
