package crontab_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/crontab"
)

// asCron takes a command as the crons do before the shell gets it: a backslash before a % goes, and before another
// backslash it goes in some of them.
func asCron(command string, takesTwo bool) string {
	var b strings.Builder
	for k := 0; k < len(command); k++ {
		switch c := command[k]; {
		case c == '%':
			return b.String()
		case c == '\\' && k+1 < len(command):
			if next := command[k+1]; next != '%' && (next != '\\' || !takesTwo) {
				b.WriteByte(c)
			}
			k++
			b.WriteByte(command[k])
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Every argument arrives as it is, through each cron and the shell.
func TestJoinCommand(t *testing.T) {
	require.Equal(t, "/opt/tide/board --full", crontab.JoinCommand([]string{"/opt/tide/board", "--full"}))
	args := []string{`it "is" $5 100%`, `back\slash`, `end\`, `\\two\\\three`, `\%`, `%%`, `%\`, `a;b&c|d`, "`id`",
		`$HOME`, "", `'quoted'`, "ünïcode", `\"`, `\'`, `{x}`, `~`, "-", "#", "*"}
	command := crontab.JoinCommand(append([]string{"printf", `%s\n`}, args...))
	for _, takesTwo := range []bool{false, true} {
		out, err := exec.Command("/bin/sh", "-c", asCron(command, takesTwo)).Output()
		require.NoError(t, err)
		require.Equal(t, strings.Join(args, "\n")+"\n", string(out), "two: %v", takesTwo)
	}
	table := crontab.Parse([]byte("@reboot root "+command+"\n"), true)
	require.Empty(t, table.Broken())
	require.Equal(t, command, table.Jobs()[0].Command)
}
