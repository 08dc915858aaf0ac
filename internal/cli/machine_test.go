//go:build linux

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"lockback/internal/testkit"

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
		": what was chosen is as in S1")
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

// What an entry says of itself is shown, and what came after a snapshot is named, though nobody of ours did it.
func TestCommentsAndNewcomersAreNamed(t *testing.T) {
	t.Parallel()
	p := testkit.Museum(t, "workshop-box")
	p.OK(t, "snapshot")
	write(t, p, "home/ines/.config/autostart/tide-lamp.desktop",
		"[Desktop Entry]\nType=Application\nName=Tide lamp\nComment=lights the tide board\nExec=/opt/tide/lamp\n")
	require.Contains(t, p.OK(t, "show", "Tide lamp"), "lights the tide board")
	out := p.Run(t, "compare", "S1").Out
	require.Contains(t, out, "not by lockback")
	require.Contains(t, out, "Tide lamp")
}

// On a disk whose owners are not kept, a job of at is that user's whom its own text names; and the spool of a service's
// account can be worked in.
func TestJobsOfAt(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("not root")
	}
	mac := testkit.Museum(t, "archive-mac")
	require.NoError(t, exec.Command("chown", "-R", "4711:4711", mac.Root).Run())
	list, _ := mac.List(t, "location=macos.at")
	require.NotEmpty(t, list.Entries)
	for _, e := range list.Entries {
		require.Equal(t, "mirela", e.User)
	}
	box := testkit.Museum(t, "workshop-box")
	jobs, _ := box.List(t, "location=linux.at")
	require.NotEmpty(t, jobs.Entries)
	require.NoError(t, os.Chown(filepath.Dir(filepath.Join(box.Root, jobs.Entries[0].Source.Path)), 2, 2)) // bin
	write(t, box, "usr/sbin/atd", "#!/bin/sh\n")
	box.OK(t, "disable", jobs.Entries[0].Handle, "--yes")
	box.OK(t, "undo", "--yes")
}
