//go:build linux

package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Every plan, question and result begins with the machine that it is about, and says whether that
// is the computer at hand or a disk.
func TestWhichMachine(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	disk := "workshop-box, the disk mounted at " + p.Root
	for _, args := range [][]string{
		{"snapshot"}, {"disable", "Fogbell Sync", "--dry-run"}, {"disable", "Fogbell Sync", "--yes"},
		{"restore", "S1", "--dry-run"}, {"undo", "--dry-run"}, {"undo", "--yes"},
		{"disable", "Fogbell Sync", "--yes"}, {"enable", "Fogbell Sync", "--yes"},
	} {
		r := p.Run(t, args...)
		require.Zero(t, r.Code, r.Err)
		first, _, _ := strings.Cut(r.Out, "\n")
		require.Equal(t, disk, first, "%s", args)
	}
	// The question, and what leads to it.
	r := p.Run(t, "disable", "Fogbell Sync")
	require.True(t, strings.HasPrefix(r.Err, disk+"\n"), r.Err)
	for _, args := range [][]string{{"restore", "S1", "--yes"}, {"restore", "S1", "--only", "Fogbell Sync", "--yes"},
		{"enable", "Fogbell Sync", "--yes"}, {"recover"}} {
		require.Contains(t, p.Run(t, args...).Err, "on "+disk, "%s", args)
	}
	// Of a part of it, nothing is said about the rest.
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	require.Contains(t, p.Run(t, "restore", "S1", "--only", "tidewatch.service", "--yes").Err,
		": what was chosen is as S1 has it")
	var change struct{ Machine struct{ Name, Root string } }
	for _, args := range [][]string{{"snapshot"}, {"enable", "Fogbell Sync", "--yes"}} {
		p.JSON(t, &change, args...)
		require.Equal(t, []string{"workshop-box", p.Root}, []string{change.Machine.Name, change.Machine.Root})
	}
}

// So does what is done on the running computer.
func TestWhichMachineRuns(t *testing.T) {
	t.Parallel()
	p := shared(t)
	withProc(t, p)
	live := inside(t, p)
	for _, args := range [][]string{{"snapshot"}, {"disable", "tidewatch.service", "--dry-run"}} {
		first, _, _ := strings.Cut(live.Run(t, args...).Out, "\n")
		require.True(t, strings.HasSuffix(first, ", this running computer"), first)
	}
}
