package machine

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/require"
)

// standIn is a service manager at the private socket of a person, which calls every unit file
// what it is told to.
func standIn(t *testing.T, uid int, word string) {
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
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go answer(c, word)
		}
	}()
}

// answer speaks D-Bus: the part of it that asks who is there, then calls and replies.
func answer(c net.Conn, word string) {
	defer c.Close()
	in := bufio.NewReader(c)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch line = strings.TrimLeft(line, "\x00"); {
		case line == "AUTH\r\n":
			fmt.Fprint(c, "REJECTED EXTERNAL\r\n")
		case strings.HasPrefix(line, "AUTH EXTERNAL"), strings.HasPrefix(line, "DATA"):
			fmt.Fprint(c, "OK 0123456789abcdef0123456789abcdef\r\n")
		case strings.HasPrefix(line, "BEGIN"):
			for {
				call, err := dbus.DecodeMessage(in)
				if err != nil {
					return
				}
				type file struct{ Path, State string }
				body := []any{[]file{{"/home/ines/.config/systemd/user/index.service", word}}}
				reply := &dbus.Message{Type: dbus.TypeMethodReply, Body: body, Headers: map[dbus.HeaderField]dbus.Variant{
					dbus.FieldReplySerial: dbus.MakeVariant(call.Serial()),
					dbus.FieldSignature:   dbus.MakeVariant(dbus.SignatureOf(body...)),
				}}
				var out bytes.Buffer
				if reply.EncodeTo(&out, binary.LittleEndian) != nil {
					return
				}
				copy(out.Bytes()[8:], []byte{1, 0, 0, 0}) // the serial number, which must not be 0
				c.Write(out.Bytes())
			}
		default:
			fmt.Fprint(c, "ERROR\r\n")
		}
	}
}

// What a service manager says of an entry counts, not only what the files say.
func TestManagersOwnWord(t *testing.T) {
	const uid = 61234
	ines := User{Name: "ines", UID: uid, Home: "/home/ines"}
	ask := func(mode string) error {
		m := &Machine{Live: true, OS: "linux", Users: []User{ines}}
		return m.Confirm("linux.systemd.user", "index.service", "ines", mode)
	}
	require.NoError(t, ask("enabled"), "nobody runs that could be asked")
	standIn(t, uid, "masked")
	require.NoError(t, ask("masked"))
	require.EqualError(t, ask("enabled"), `the service manager of ines says "masked", the files say "enabled"`)
}
