package cost

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Of closed logs, those count that may have something after the time: what begins later, and the last of each that
// begins before it; of those that were found broken, what was found later.
func TestLogsSince(t *testing.T) {
	const id = "@0123456789abcdef0123456789abcdef-0000000000000001-"
	since := time.UnixMicro(0x60000)
	names := []string{"system.journal", "user-1000.journal", "user-1001.journal~", "system" + id +
		"0000000000010000.journal", "system" + id + "0000000000050000.journal",
		"system" + id + "0000000000070000.journal", "user-1000" + id + "0000000000020000.journal", "user-1000" + id +
			"0000000000030000.journal",
		"system@0000000000080000-00000000000000ff.journal~", "system@0000000000040000-00000000000000ff.journal~",
		"remote-x.journal", "fss"}
	require.Equal(t, []string{"system.journal", "user-1000.journal",
		"system@0000000000080000-00000000000000ff.journal~", "system" + id + "0000000000070000.journal",
		"system" + id + "0000000000050000.journal", "user-1000" + id + "0000000000030000.journal"}, logsSince(names,
		since))
	var many []string
	for k := range 20 {
		many = append(many, "system"+id+"00000000001000"+string("0123456789abcdef"[k%16])+string("01"[k/16])+".journal")
	}
	require.Len(t, logsSince(many, since), maxLogs)
}
