package testkit

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"strings"

	"github.com/godbus/dbus/v5"
)

// AnswerAsManager answers at the place where a user's service manager does: it says that
// every unit is in the given state, or nothing at all.
func AnswerAsManager(conn net.Conn, state string) {
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
				reply := &dbus.Message{Type: dbus.TypeMethodReply,
					Headers: map[dbus.HeaderField]dbus.Variant{dbus.FieldReplySerial: dbus.MakeVariant(call.Serial())}}
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
