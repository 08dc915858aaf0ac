//go:build linux

package cli_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/core/store"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// smallDisk mounts a file system of that size in memory.
func smallDisk(t *testing.T, size string) string {
	t.Helper()
	testkit.NeedRoot(t, "mounting a small disk")
	dir := t.TempDir()
	require.NoError(t, unix.Mount("tmpfs", dir, "tmpfs", 0, "size="+size+",mode=755"))
	t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
	return dir
}

// fill writes until nothing fits any more.
func fill(t *testing.T, dir string) {
	t.Helper()
	f, err := os.Create(filepath.Join(dir, "filler"))
	require.NoError(t, err)
	defer f.Close()
	for err == nil {
		_, err = f.Write(make([]byte, 512))
	}
	require.ErrorIs(t, err, unix.ENOSPC)
}

func TestFullDiskUnderTheRecord(t *testing.T) {
	t.Parallel()
	disk := smallDisk(t, "256k")
	p := workshop(t)
	p.Store = filepath.Join(disk, "record.db")
	p.OK(t, "snapshot")
	fill(t, disk)
	before := testkit.Tree(t, p.Root)
	record, err := os.ReadFile(p.Store)
	require.NoError(t, err)
	for _, args := range [][]string{everything, {"disable", "Fogbell Sync", "--yes"}} {
		p.Fails(t, 1, "the disk of the record is full", args...)
	}
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	now, err := os.ReadFile(p.Store)
	require.NoError(t, err)
	require.True(t, bytes.Equal(record, now))
	p.OK(t, "history")
}

func TestFullDiskUnderTheMachine(t *testing.T) {
	t.Parallel()
	for machine, change := range map[string][]string{
		"workshop-box": everything, "archive-mac": {"disable", "org.kelpline*", "com.apple.speedkeeper", "LoginHook",
			"updater", "Kelpline", "--yes"},
	} {
		disk := smallDisk(t, "2m")
		source := museum(t, machine)
		root := filepath.Join(disk, "root")
		require.NoError(t, exec.Command("cp", "-a", source.Root, root).Run())
		p := testkit.Program{Root: root, Store: source.Store}
		fill(t, disk)
		before := testkit.Tree(t, root)
		p.Fails(t, 1, "no space left on device; everything was taken back", change...)
		testkit.Same(t, before, testkit.Tree(t, root))
		require.NoError(t, os.Remove(filepath.Join(disk, "filler")))
		p.OK(t, change...)
		p.OK(t, "undo", "--yes")
		testkit.Same(t, before, testkit.Tree(t, root))
	}
}

func TestReadOnlyDisks(t *testing.T) {
	t.Parallel()
	disk := smallDisk(t, "4m")
	source := workshop(t)
	root := filepath.Join(disk, "root")
	require.NoError(t, exec.Command("cp", "-a", source.Root, root).Run())
	// A process of its own: what another test starts meanwhile has a copy of each file that this one has open, until it
	// is running, and the disk could not be made read-only.
	onDisk := testkit.Program{Root: root, Store: filepath.Join(disk, "record.db"), Process: true}
	onDisk.OK(t, "snapshot")
	require.NoError(t, unix.Mount("", disk, "", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	machine := testkit.Program{Root: root, Store: source.Store}
	machine.OK(t, "list")
	machine.Fails(t, 1, "mounted read-only; mount the disk for writing", "disable", "Fogbell Sync", "--yes")
	onDisk.OK(t, "history")
	onDisk.OK(t, "compare", "S1")
	onDisk.Fails(t, 1, "cannot be written to", "snapshot")
	onDisk.Fails(t, 1, "cannot be written to", "disable", "Fogbell Sync", "--yes")
	recordOnly := testkit.Program{Root: source.Root, Store: onDisk.Store}
	recordOnly.Fails(t, 1, "name a record on another disk", "disable", "Fogbell Sync", "--yes")
}

func TestRecordsThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	healthy, err := os.ReadFile(p.Store)
	require.NoError(t, err)
	change := func(at int, with string) []byte {
		b := bytes.Clone(healthy)
		copy(b[at:], with)
		return b
	}
	garbled := bytes.Clone(healthy)
	for k := 4096; k < len(garbled); k++ {
		garbled[k] ^= 0x55
	}
	for name, c := range map[string]struct {
		content []byte
		words   string
	}{
		"from a newer version": {change(60, "\x00\x00\x00\x63"), "written by a newer lockback: it has version 99"},
		"not a database": {[]byte(strings.Repeat("these are notes, not a record\n", 200)),
			"the record is damaged"},
		"somebody else's": {change(68, "\x00\x00\x00\x07"), "not a record of lockback"},
		"damaged inside":  {garbled, "the record is damaged"},
		"cut off":         {healthy[:5000], "the record is damaged"},
	} {
		require.NoError(t, os.WriteFile(p.Store, c.content, 0o600))
		for _, args := range [][]string{{"snapshot"}, {"history"}, {"compare", "S1"}, {"restore", "S1", "--yes"},
			{"disable", "Fogbell Sync", "--yes"}} {
			r := p.Run(t, args...)
			require.Equal(t, 1, r.Code, "%s: %v: %s%s", name, args, r.Out, r.Err)
			require.Contains(t, r.Err, c.words, "%s: %v", name, args)
			require.Equal(t, 1, strings.Count(r.Err, "\n"), r.Err)
		}
		now, err := os.ReadFile(p.Store)
		require.NoError(t, err)
		require.True(t, bytes.Equal(c.content, now), "%s: the file was touched", name)
		require.Zero(t, p.Run(t, "list").Code)
	}
	dir := testkit.Program{Root: p.Root, Store: t.TempDir()}
	dir.Fails(t, 1, "it is not a file", "snapshot")
	require.NoError(t, os.WriteFile(p.Store, healthy, 0o600))
	p.OK(t, "compare", "S1")
}

func TestWithoutAnIdNothingIsRecorded(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	setID(t, p, "uninitialized\n")
	p.OK(t, "list")
	p.Fails(t, 1, "systemd-machine-id-setup", "snapshot")
	p.Fails(t, 1, "systemd-machine-id-setup", "disable", "Fogbell Sync", "--yes")
}

// setID gives the machine another id. The file may not be written to, so it is
// replaced.
func setID(t *testing.T, p testkit.Program, id string) {
	t.Helper()
	file := filepath.Join(p.Root, "etc/machine-id")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(file, []byte(id), 0o444))
}

func TestAnotherMachineIsRefusedUnlessNamed(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	other := workshop(t)
	setID(t, other, strings.Repeat("ab", 16)+"\n")
	require.NoError(t, os.WriteFile(filepath.Join(other.Root, "etc/hostname"), []byte("lamp-room\n"), 0o644))
	other.Store = p.Store
	before := testkit.Tree(t, other.Root)
	other.OK(t, "disable", "Fogbell Sync", "--yes")
	other.Fails(t, 2, `another machine, "workshop-box"`, "restore", "S1", "--yes")
	require.Contains(t, other.Run(t, "compare", "S1").Err, `S1 is of another machine, "workshop-box"`)
	p.Fails(t, 2, "change of another machine", "undo", "C1", "--yes")
	other.OK(t, "restore", "S1", "--onto", "lamp-room", "--yes")
	// The links' own times are those of the machine that the snapshot is of.
	testkit.Same(t, withoutTimes(before), withoutTimes(testkit.Tree(t, other.Root)))
}

func TestTheRecordOnTheDiskIsFound(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	onDisk := filepath.Join(p.Root, "var/lib/lockback/record.db")
	testkit.Program{Root: p.Root, Store: onDisk}.OK(t, "snapshot", "-m", "on the machine")
	require.Contains(t, testkit.Program{Root: p.Root, Store: "disk"}.OK(t, "history"), "on the machine")
	// It is somebody's word, so it is not used unasked.
	mine := testkit.Program{Root: p.Root, Env: []string{"LOCKBACK_STORE=" + filepath.Join(t.TempDir(), "mine.db")}}
	mine.OK(t, "snapshot", "-m", "in mine")
	require.NotContains(t, mine.OK(t, "history"), "on the machine")
	// A link to a place outside is not followed there.
	outside := filepath.Join(t.TempDir(), "outside.db")
	require.NoError(t, os.Rename(onDisk, outside))
	require.NoError(t, os.Symlink(outside, onDisk))
	r := testkit.Program{Root: p.Root, Store: "disk"}.Run(t, "history")
	require.Equal(t, 1, r.Code)
	require.NotContains(t, r.Out, "on the machine")
}

func TestWithoutRights(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "dropping rights")
	p := workshop(t)
	for dir := p.Root; dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	testkit.Readable(t)
	require.NoError(t, os.Chmod(filepath.Join(p.Root, "var/spool/cron/crontabs"), 0o730))
	state := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(state), 0o755))
	require.NoError(t, os.Chown(state, 1000, 1000))
	before := testkit.Tree(t, p.Root)
	asInes := testkit.Program{Root: p.Root, Store: filepath.Join(state, "record.db"),
		Prefix: []string{"setpriv", "--reuid=1000", "--regid=1000", "--clear-groups"}}
	list, now := asInes.List(t)
	require.Contains(t, now, "Fogbell Sync/ines")
	require.Len(t, list.Unread, 2)
	require.Equal(t, []string{"/var/spool/cron/crontabs", "/etc/wireguard/harbour.conf"}, []string{list.Unread[0].Path,
		list.Unread[1].Path})
	require.Equal(t, "permission denied", list.Unread[0].Reason)
	asInes.OK(t, "snapshot")
	for _, args := range [][]string{
		{"disable", "Tide Chart", "--yes"}, {"disable", "tidewatch.service", "--yes"},
		{"disable", "Fogbell Sync", "rc.local", "--yes"}, {"disable", "updater", "--yes"},
	} {
		asInes.Fails(t, 4, "needs more rights; run as root", args...)
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
	asInes.OK(t, "disable", "Fogbell Sync", "fogbell-index.service", "--yes")
	asInes.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// Somebody else's record is not ours to use.
	mine := testkit.Program{Root: p.Root, Store: p.Store}
	mine.OK(t, "snapshot")
	asInes.Store = p.Store
	asInes.Fails(t, 4, "belongs to somebody else", "snapshot")
}

// A link that a person placed must not lead a privileged write out of their home.
func TestPlacedLinksLeadNowhere(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "writing for others")
	p := workshop(t)
	home := filepath.Join(p.Root, "home/bram")
	require.NoError(t, os.RemoveAll(filepath.Join(home, ".config")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(home, ".config")))
	before := testkit.Tree(t, p.Root)
	p.Fails(t, 1, "leads out of the home folder", "disable", "Kelpline Assistant", "--for", "bram", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// Nor may a user's link make root copy what is not for their eyes.
	require.NoError(t, os.Remove(filepath.Join(home, ".config")))
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".config/autostart"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/secret"),
		[]byte("[Desktop Entry]\nType=Application\nName=Secret\nExec=/bin/x password\n"), 0o600))
	require.NoError(t, os.Symlink("/etc/secret", filepath.Join(home, ".config/autostart/peek.desktop")))
	p.OK(t, "disable", "Secret", "--yes")
	content, err := os.ReadFile(filepath.Join(home, ".config/autostart/peek.desktop"))
	require.NoError(t, err)
	require.Contains(t, string(content), "Hidden=true")
	require.NotContains(t, string(content), "password")
	record, err := os.ReadFile(p.Store)
	require.NoError(t, err)
	require.NotContains(t, string(record), "Name=Secret")
	p.OK(t, "undo", "--yes")
}

func TestHostileDisk(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret.desktop"),
		[]byte("[Desktop Entry]\nType=Application\nName=OUTSIDE\nExec=/outside\n"), 0o644))
	put := func(name, content string) string {
		name = filepath.Join(p.Root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
		return name
	}
	link := func(name, target string) {
		require.NoError(t, os.Symlink(target, filepath.Join(p.Root, name)))
	}
	binary := string([]byte{0, 1, 2, 0xff, 0xfe, '\n', '[', 0x80, ']', '=', '\n', 27, '[', '2', 'J'})
	auto := "etc/xdg/autostart/"
	put(auto+"garbage.desktop", binary)
	put(auto+"empty.desktop", "")
	put(auto+"line\nbreak\x1b[2J\u202e.desktop",
		"[Desktop Entry]\nType=Application\nName=Evil\\nname\x1b]0;pwned\x07\u202etxt\nExec=/opt/evil \x1b[31m\n")
	put(auto+"bad\xff\xfeutf8.desktop", "[Desktop Entry]\nType=Application\nName=N\xff\nExec=/opt/\xfe\n")
	put(auto+"formula.desktop", "[Desktop Entry]\nType=Application\nName==HYPERLINK(\"x\")\nExec=/opt/x\n")
	link(auto+"loop.desktop", "loop.desktop")
	link(auto+"out-relative.desktop", "../../../../../../../../../.."+outside+"/secret.desktop")
	link(auto+"out-absolute.desktop", outside+"/secret.desktop")
	link("usr/share/gnome", outside)
	require.NoError(t, unix.Mkfifo(filepath.Join(p.Root, auto, "pipe.desktop"), 0o644))
	put("etc/cron.d/garbage", binary)
	put("usr/lib/systemd/system/garbage.service", binary)
	put("usr/lib/systemd/system/-.bad name.service", "[Service]\n")
	put("usr/lib/systemd/system/self.service",
		"[Unit]\nWants=self.service\nRequires=%i%n@@.service\n[Service]\nExecStart=/opt/self\n[Install]\nWantedBy=self.service multi-user.target\nAlias=self.service ../../../etc/evil.service\nAlso=self.service\n")
	link("etc/systemd/system/a.service", "b.service")
	link("etc/systemd/system/b.service", "a.service")
	link("etc/systemd/system/multi-user.target.wants/gone.service", "/opt/gone.service")
	// A crontab with one line of 100 MB, not taking its room on the disk.
	big := put("etc/cron.d/big", "* * * * * root /opt/big ")
	require.NoError(t, os.Truncate(big, 100<<20))
	before := testkit.Tree(t, p.Root)

	started := time.Now()
	table := p.OK(t, "list", "--all")
	require.Less(t, time.Since(started), 3*time.Minute) // it ends at all
	csv := p.OK(t, "list", "--all", "--format", "csv")
	list, now := p.List(t, "--all")
	for _, out := range []string{table, csv} {
		for _, bad := range []string{"\x1b", "\u202e", "\x07", "\x00", "\xff", "OUTSIDE"} {
			require.NotContains(t, out, bad)
		}
	}
	require.Contains(t, csv, `'=HYPERLINK`)
	reported := map[string]string{}
	for _, u := range list.Unread {
		reported[u.Path] = u.Reason
	}
	require.Contains(t, reported["/etc/cron.d/big"], "too large")
	require.Contains(t, reported["/etc/xdg/autostart/loop.desktop"], "too many levels")
	require.Contains(t, reported["/etc/xdg/autostart/pipe.desktop"], "not a regular file")
	require.Equal(t, []string{"unparsable"}, now["garbage"].Problems)
	require.Equal(t, []string{"unparsable"}, now["empty"].Problems)
	require.Contains(t, now, "self.service")
	require.Contains(t, now, "gone.service")
	require.Contains(t, now, "Evil\nname\x1b]0;pwned\x07\u202etxt")
	require.Equal(t, []string{"target-missing"}, now["out-absolute"].Problems)

	p.OK(t, "snapshot")
	r := p.Run(t, "disable", "state=enabled", "--yes", "--all", "--guarded")
	require.Zero(t, r.Code, r.Err)
	p.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	kept, err := os.ReadFile(filepath.Join(outside, "secret.desktop"))
	require.NoError(t, err)
	require.NotContains(t, string(kept), "Hidden")
}

// What no switch exists for is left out and named.
func TestWhatHasNoSwitchIsLeftOut(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	require.NoError(t, os.Symlink("/opt/gone", filepath.Join(p.Root, "etc/cron.daily/leads-nowhere")))
	r := p.Run(t, "enable", "location=linux.cron.periodic", "--yes")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Err, "leads-nowhere: cannot be turned on or off here: it is a link to /opt/gone, which "+
		"does not exist")
	require.Contains(t, r.Out, "tidewatch-archive")
	p.Fails(t, 1, "no match can be turned off or on here", "enable", "leads-nowhere", "--yes")
}

// A commit of the record itself that was cut short is taken back by whoever
// opens the record next, also by commands that only look.
func TestRecordCutShortInACommit(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "strace")
	cut := 0
	for n := 1; n <= 12; n++ {
		p := workshop(t)
		p.OK(t, "snapshot")
		cmd := exec.Command("strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=pwrite64", "-e",
			"inject=pwrite64:signal=KILL:when="+strconv.Itoa(n),
			testkit.Built(t), "--root", p.Root, "--store", p.Store, "snapshot", "-m", "second")
		cmd.Env = append(os.Environ(), "GOMAXPROCS=1")
		if cmd.Run() == nil {
			continue // the calls are counted by thread, and no thread made so many
		}
		if _, err := os.Stat(p.Store + "-journal"); err == nil {
			cut++
		}
		p.OK(t, "list")
		require.NotContains(t, p.OK(t, "history"), "second")
		p.OK(t, "compare", "S1")
		wholeRecord(t, p)
	}
	require.Positive(t, cut, "no commit was cut short")
}

func TestExtendedAttributesComeBack(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	file := filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop")
	if err := unix.Setxattr(file, "user.origin", []byte("downloaded\x00\xff"), 0); err != nil {
		t.Skipf("no extended attributes here: %v", err)
	}
	require.NoError(t, os.Chmod(file, 0o640))
	before := testkit.Tree(t, p.Root)
	p.OK(t, "snapshot")
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	require.Contains(t, testkit.Tree(t, p.Root)["home/ines/.config/autostart/fogbell-sync.desktop"], "user.origin")
	require.NoError(t, os.Remove(file))
	p.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// A link has attributes of its own, which only root may give it.
func TestAttributesOfLinksComeBack(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "attributes of links")
	p := workshop(t)
	link := "etc/systemd/system/multi-user.target.wants/tidewatch.service"
	if err := unix.Lsetxattr(filepath.Join(p.Root, link), "trusted.origin", []byte("tide"), 0); err != nil {
		t.Skipf("no attributes of links here: %v", err)
	}
	before := testkit.Tree(t, p.Root)
	require.Contains(t, before[link], "trusted.origin")
	p.OK(t, "snapshot")
	for _, back := range [][]string{{"undo"}, {"restore", "S1"}} {
		p.OK(t, "disable", "tidewatch.service", "--yes")
		require.NoFileExists(t, filepath.Join(p.Root, link))
		p.OK(t, append(back, "--yes")...)
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
}

func TestOneWriterAtATime(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	held, err := store.Open(p.Store, store.Exclusive)
	require.NoError(t, err)
	require.Contains(t, p.OK(t, "history"), "S1", "readers read")
	require.Contains(t, p.OK(t, "note", "Fogbell*", "-m", "do not touch", "--dry-run"), "do not touch")
	began := time.Now()
	p.Fails(t, 1, "another lockback is writing to the record; wait until it has ended", "snapshot")
	require.GreaterOrEqual(t, time.Since(began), store.Patience, "it waits that long: this is what takes the time")
	go func() {
		time.Sleep(time.Second)
		held.Close()
	}()
	p.OK(t, "snapshot")
}

// Changes of one machine at the same time wait for each other, and so do those that take them back: all are made, one
// after the other, and nothing is left of them.
func TestSeveralChangesAtOnce(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	before := testkit.Tree(t, p.Root)
	p.Process = true
	names := []string{"Fogbell Sync", "Tide Chart", "tidewatch.service", "kelpline-updater.timer", "~/.ssh/rc",
		"fogbell-index.service"}
	atOnce := func(args func(name string) []string) {
		var all sync.WaitGroup
		for _, name := range names {
			all.Go(func() {
				r := p.Run(t, args(name)...)
				// On a busy machine the others may take longer than a writer waits: it says so, and is tried again.
				for r.Code != 0 && strings.Contains(r.Err, "another lockback is writing to the record") {
					r = p.Run(t, args(name)...)
				}
				if r.Code != 0 {
					t.Errorf("%s: %s", name, r.Err)
				}
			})
		}
		all.Wait()
	}
	atOnce(func(name string) []string { return []string{"disable", name, "--yes"} })
	history := p.OK(t, "history")
	for _, name := range names {
		require.Contains(t, history, "disable: "+name)
	}
	atOnce(func(string) []string { return []string{"undo", "--yes"} })
	testkit.Same(t, timeless(before), timeless(testkit.Tree(t, p.Root)))
	require.Contains(t, p.OK(t, "compare", "S1"), "nothing differs")
}

// Eight technicians write notes (twenty each in a long run) while a review of the machine is open and others look at
// it: no note is lost, no command fails, and no list is without the note that was there from the beginning.
func TestNotesBesideAReview(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	var many strings.Builder
	for n := range 100 {
		fmt.Fprintf(&many, "%d * * * * root /usr/local/bin/ring-%d\n", n%60, n)
	}
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/bells"), []byte(many.String()), 0o644))
	p.OK(t, "snapshot")
	p.OK(t, "note", "Fogbell*", "--machine", "-m", "do not touch")
	p.Process = true
	review := exec.Command(testkit.Built(t), "review", "--plain", "--root", p.Root, "--store", p.Store)
	in, err := review.StdinPipe()
	require.NoError(t, err)
	out, err := review.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, review.Start())
	first := make([]byte, 200)
	_, err = io.ReadFull(out, first)
	require.NoError(t, err)
	go io.Copy(io.Discard, out)
	list, _ := p.List(t, "--all")
	var handles []string
	for _, e := range list.Entries {
		if !slices.Contains(handles, e.Handle) && !strings.HasPrefix(e.Name, "Fogbell") {
			handles = append(handles, e.Handle)
		}
	}
	require.GreaterOrEqual(t, len(handles), 160)
	each := 3
	if draw.Long() {
		each = 20
	}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for k := range each {
				text := fmt.Sprintf("of %d, the %d.", n, k)
				if r := p.Run(t, "note", handles[n*20+k], "--machine", "--all", "-m", text); r.Code != 0 {
					t.Errorf("note %d of %d: %s", k, n, r.Err)
				}
				if k%5 != 0 {
					continue
				}
				if r := p.Run(t, "show", "Fogbell*"); !strings.Contains(r.Out, "do not touch") {
					t.Errorf("a note was not shown: %s", r.Err)
				}
			}
		})
	}
	all.Wait()
	_, err = io.WriteString(in, "l\nq\n")
	require.NoError(t, err)
	require.NoError(t, in.Close())
	require.NoError(t, review.Wait())
	shown := p.OK(t, "note", "--format", "json")
	for n := range 8 {
		for k := range each {
			require.Contains(t, shown, fmt.Sprintf("of %d, the %d.", n, k))
		}
	}
	files, err := os.ReadDir(filepath.Dir(p.Store))
	require.NoError(t, err)
	for _, f := range files {
		require.NotContains(t, f.Name(), "-journal", "no second file outlives a commit")
	}
}

// What a restore cannot bring back, for its folder cannot be made, is named, and everything else is brought back.
func TestRestoreWhereAFolderCannotBe(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	folder := filepath.Join(p.Root, "home/ines/.config/autostart")
	other := filepath.Join(p.Root, "etc/systemd/system/timers.target.wants/kelpline-updater.timer")
	require.NoError(t, os.Remove(other))
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.WriteFile(folder, []byte("mine"), 0o644))
	r := p.Run(t, "restore", "S1", "--yes")
	require.Equal(t, 1, r.Code)
	require.Contains(t, r.Err, "/home/ines/.config/autostart: it should be a folder, and is this: file")
	require.Contains(t, r.Err, "/home/ines/.config/autostart/fogbell-sync.desktop: ")
	require.Contains(t, r.Err, "not everything was done: 3 things were left out")
	content, err := os.ReadFile(folder)
	require.NoError(t, err)
	require.Equal(t, "mine", string(content))
	_, err = os.Lstat(other)
	require.NoError(t, err)
}
