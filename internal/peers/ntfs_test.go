//go:build unix

package peers

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/internal/demo"
	"lockback/internal/testkit"
)

// TestTicketDeskOnNTFS does the whole job on a real NTFS disk: read, switch off
// everything that can be, be interrupted, restore.
func TestTicketDeskOnNTFS(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "mounting a disk image")
	testkit.Need(t, "mkntfs", "ntfs-3g", "hivexregedit", "fusermount", "setfattr")
	if _, err := os.Stat("/dev/fuse"); err != nil {
		t.Skip("no FUSE here")
	}
	dir := t.TempDir()
	image, mounted := filepath.Join(dir, "disk"), filepath.Join(dir, "mnt")
	require.NoError(t, os.Mkdir(mounted, 0o755))
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 64<<20))
	run := func(name string, args ...string) {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	run("mkntfs", "-F", "-Q", "-q", image)
	mount := func() { run("ntfs-3g", image, mounted) }
	unmount := func() { run("fusermount", "-u", mounted) }
	mount()
	t.Cleanup(func() { exec.Command("fusermount", "-u", mounted).Run() })
	// The disk's own root holds the machine; built beside it, then moved up.
	require.NoError(t, demo.BuildMachine("ticket-desk-pc", filepath.Join(mounted, "new")))
	tops, err := os.ReadDir(filepath.Join(mounted, "new"))
	require.NoError(t, err)
	for _, top := range tops {
		require.NoError(t, os.Rename(filepath.Join(mounted, "new", top.Name()), filepath.Join(mounted, top.Name())))
	}
	require.NoError(t, os.Remove(filepath.Join(mounted, "new")))
	// A stream beside the content, as browsers mark what came from elsewhere.
	profile := filepath.Join(mounted, "Users/odile/Documents/WindowsPowerShell/profile.ps1")
	run("setfattr", "-n", "user.Zone.Identifier", "-v", "[ZoneTransfer]\nZoneId=3\n", profile)
	p := testkit.Program{Root: mounted, Store: filepath.Join(dir, "record.db")}
	p.OK(t, "disable", "Fogbell Notes", "--yes") // settles the hive that was not closed
	p.OK(t, "undo", "--yes")

	acl := func() string {
		out, err := exec.Command("getfattr", "--only-values", "-n", "system.ntfs_acl", profile).Output()
		require.NoError(t, err)
		return string(out)
	}
	rights := acl() // as the disk gives them, with another owner
	rights = rights[:len(rights)-4] + "\x2a\x02\x00\x00"
	require.NoError(t, unix.Setxattr(profile, "system.ntfs_acl", []byte(rights), 0))
	rights = acl()

	state := func() (map[string]string, testkit.Picture) {
		unmount()
		mount()
		tree := testkit.Tree(t, mounted)
		for _, h := range testkit.Hives(t, mounted) {
			rel, _ := filepath.Rel(mounted, h)
			delete(tree, rel)
		}
		delete(tree, ".")
		return testkit.ExportAll(t, mounted), tree
	}
	hives, tree := state()
	p.OK(t, "snapshot")
	fixed := map[string]bool{} // a filter driver can be switched once no list names it
	list, _ := p.List(t, "--all")
	for _, e := range list.Entries {
		fixed[e.Handle] = e.Switch == "report"
	}
	p.OK(t, "disable", "location=windows.*", "--all", "--guarded", "--yes")
	list, _ = p.List(t, "--all")
	for _, e := range list.Entries {
		if e.Switch != "report" && !fixed[e.Handle] {
			require.Equal(t, "disabled", e.State, e.Name)
		}
	}
	require.NoFileExists(t, profile)
	off, _ := state()
	require.Greater(t, len(testkit.Changed(hives, off)), 40)
	p.OK(t, "restore", "S3", "--yes")
	again, treeAgain := state()
	require.Empty(t, testkit.Changed(hives, again))
	require.Empty(t, testkit.Differences(tree, treeAgain))
	require.Equal(t, rights, acl())
	p.OK(t, "compare", "S3")

	// Out of room: nothing is lost, nothing half done.
	filler := filepath.Join(mounted, "filler")
	f, err := os.Create(filler)
	require.NoError(t, err)
	for block := make([]byte, 4096); ; {
		if _, err := f.Write(block); err != nil {
			break
		}
	}
	f.Close()
	p.Fails(t, 1, "everything was taken back", "disable", "Tide Chart", "Kelpline*", "--yes")
	require.NoError(t, os.Remove(filler))
	again, treeAgain = state()
	require.Empty(t, testkit.Changed(hives, again))
	require.Empty(t, testkit.Differences(tree, treeAgain))
}
