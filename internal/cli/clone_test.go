//go:build linux

package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// renamed changes what a disk calls itself, and which file system its root is.
func renamed(t *testing.T, p testkit.Program, name, uuid string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/hostname"), []byte(name+"\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/fstab"), []byte("UUID="+uuid+" / ext4 defaults 0 1\n"),
		0o644))
}

// Two computers made from one image have one id. The record keeps them apart, once somebody has said so.
func TestTwoOfOneImage(t *testing.T) {
	t.Parallel()
	one, two := workshop(t), workshop(t)
	two.Store = one.Store
	renamed(t, one, "workshop-1", "11111111-aaaa-4bbb-8ccc-dddddddddddd")
	renamed(t, two, "workshop-2", "22222222-aaaa-4bbb-8ccc-dddddddddddd")
	one.OK(t, "snapshot")
	one.OK(t, "disable", "Fogbell Sync", "--yes")
	one.OK(t, "note", "brinecast.service", "--machine", "-m", "leave it, Bram needs it")
	before := testkit.Tree(t, two.Root)

	// Looking asks nothing, and shows nothing of the other. Whatever changes or records wants to know.
	r := two.Run(t, "show", "brinecast.service")
	require.Contains(t, r.Err, "the record knows the id of this machine as workshop-1, under another name, on "+
		"another disk")
	require.NotContains(t, r.Out, "Bram needs it")
	for _, args := range [][]string{{"undo", "--yes"}, {"snapshot"}, {"disable", "Tide Chart", "--yes"}, {"history"},
		{"restore", "S1", "--yes"}, {"review", "--plain"}, {"note", "Tide Chart", "-m", "x"}} {
		two.Fails(t, 2, "--this-is same, or --this-is other", args...)
	}
	two.Fails(t, 2, `is same, other, or a name, and "till" is none that fits`, "snapshot", "--this-is", "till")
	testkit.Same(t, before, testkit.Tree(t, two.Root))

	require.NotContains(t, two.OK(t, "__complete", "undo", ""), "C1", "nothing of the other is offered")
	require.Contains(t, one.OK(t, "__complete", "undo", ""), "C1")
	require.Contains(t, two.OK(t, "snapshot", "--this-is", "other"), "S3")
	two.Fails(t, 2, "no change of this machine can be taken back", "undo", "--yes")
	two.Fails(t, 2, "S1 is of", "restore", "S1", "--yes")
	require.NotContains(t, two.OK(t, "show", "brinecast.service"), "Bram needs it")
	two.OK(t, "disable", "Tide Chart", "--yes")
	require.NotContains(t, two.OK(t, "history"), "Fogbell Sync")
	require.NotContains(t, one.OK(t, "history"), "Tide Chart")
	require.Contains(t, one.OK(t, "show", "brinecast.service"), "Bram needs it")
	one.OK(t, "undo", "--yes")
	two.Fails(t, 2, "nothing tells this machine from workshop-2", "snapshot", "--this-is", "other")
	two.OK(t, "snapshot", "--this-is", "same")
	two.OK(t, "snapshot", "--this-is", "Workshop-2")

	// A computer that got another name, or another disk, is the same for ever, once that was said.
	renamed(t, one, "lamp-room", "11111111-aaaa-4bbb-8ccc-dddddddddddd")
	one.Fails(t, 2, "as workshop-1 and as workshop-2, under another name;", "snapshot")
	one.OK(t, "snapshot", "--this-is", "workshop-1")
	require.Contains(t, one.OK(t, "history"), "Fogbell Sync")
	renamed(t, one, "workshop-1", "11111111-aaaa-4bbb-8ccc-dddddddddddd")
	require.Contains(t, one.OK(t, "history"), "Fogbell Sync", "the earlier name is remembered too")
	renamed(t, one, "lamp-room", "33333333-aaaa-4bbb-8ccc-dddddddddddd")
	one.OK(t, "snapshot", "--this-is", "lamp-room")
	one.OK(t, "snapshot")

	// What is carried onto the disk of the second finds it there.
	two.OK(t, "record", "carry", "--yes")
	onDisk := testkit.Program{Root: two.Root, Store: "disk"}
	require.Contains(t, onDisk.OK(t, "history"), "Tide Chart")
	require.NotContains(t, onDisk.OK(t, "history"), "Fogbell Sync")
}
