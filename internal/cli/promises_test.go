//go:build linux

package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/core/location/part"
	"lockback/internal/testkit"
)

// Only the machine's own name after --onto lets a snapshot of another one through.
func TestOntoWantsTheName(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	other := workshop(t)
	setID(t, other, strings.Repeat("cd", 16)+"\n")
	require.NoError(t, os.WriteFile(filepath.Join(other.Root, "etc/hostname"), []byte("lamp-room\n"), 0o644))
	other.Store = p.Store
	other.OK(t, "disable", "Fogbell Sync", "--yes")
	before := testkit.Tree(t, other.Root)
	for _, name := range []string{"", "lamp", "LAMP-ROOM", "workshop-box", strings.Repeat("cd", 16)} {
		other.Fails(t, 2, "another machine", "restore", "S1", "--onto", name, "--yes")
		testkit.Same(t, before, testkit.Tree(t, other.Root))
	}
}

// The history of a machine is its own, in a record that it shares.
func TestHistoryIsOfOneMachine(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot", "-m", "the first machine")
	p.OK(t, "disable", "Fogbell Sync", "--yes", "-m", "turned on the first")
	other := workshop(t)
	setID(t, other, strings.Repeat("ef", 16)+"\n")
	other.Store = p.Store
	other.OK(t, "snapshot", "-m", "the second machine")
	require.NotContains(t, other.OK(t, "history"), "first")
	require.NotContains(t, p.OK(t, "history"), "second")
	require.Contains(t, other.OK(t, "history"), "the second machine")
	other.Fails(t, 2, "", "undo", "C1", "--yes")
}

// Of a key that is parked, all comes back: its time, class and rights, and those of what is below
// it, as another reader has them.
func TestParkedKeysComeBackWhole(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "reglookup")
	p := settled(t, ticketDesk(t))
	hive := filepath.Join(p.Root, "Windows/System32/config/SOFTWARE")
	const parked = `Microsoft\Windows\CurrentVersion\Explorer\ShellIconOverlayIdentifiers\ FogbellSynced`
	content, err := os.ReadFile(hive)
	require.NoError(t, err)
	h, err := regf.Open(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	k, err := h.Key(parked)
	require.NoError(t, err)
	below, err := h.CreateKey(k, "below", nil, time.Unix(1_500_000_000, 0))
	require.NoError(t, err)
	require.NoError(t, h.SetValue(below, regf.NewNumber("n", 7)))
	require.NoError(t, h.SetClass(below, []byte("t\x00i\x00d\x00e\x00")))
	// Everyone may read: a descriptor of revision 1 with a list of one entry, [MS-DTYP] 2.4.6.
	everyone := []byte{1, 0, 4, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0, 2, 0, 28, 0, 1, 0, 0, 0, 0, 0,
		20, 0, 0x19, 0, 2, 0, 1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0}
	require.NoError(t, h.SetSecurity(below, everyone))
	require.NoError(t, h.SetTime(below, time.Unix(1_400_000_000, 0)))
	require.NoError(t, h.SetTime(k, time.Unix(1_450_000_000, 0)))
	h.Seal(time.Now())
	var b bytes.Buffer
	_, err = h.WriteTo(&b)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(hive, b.Bytes(), 0o644))
	look := func() []string {
		out, err := exec.Command("reglookup", "-s", "-H", "-p",
			"/Microsoft/Windows/CurrentVersion/Explorer/ShellIconOverlayIdentifiers", hive).Output()
		require.NoError(t, err)
		lines := strings.Split(string(out), "\n")
		slices.Sort(lines)
		return lines
	}
	before := look()
	text := strings.Join(before, "\n")
	require.Contains(t, text, "2014-05-13 16:53:20") // of the key below
	require.Contains(t, text, "tide")
	require.Contains(t, text, "S-1-1-0", "its rights are shown")
	for _, back := range [][]string{{"undo"}, {"enable", "FogbellSynced"}} {
		p.OK(t, "disable", "FogbellSynced", "--yes")
		require.NotEqual(t, before, look())
		p.OK(t, append(back, "--yes")...)
		require.Equal(t, before, look(), "%s", back)
	}
	p.OK(t, "snapshot")
	p.OK(t, "disable", "FogbellSynced", "--yes")
	p.OK(t, "restore", "S"+fmt.Sprint(lastSnapshot(t, p)-1), "--yes")
	require.Equal(t, before, look())
}

// lastSnapshot is the number of the newest one.
func lastSnapshot(t *testing.T, p testkit.Program) (n int) {
	for _, m := range regexp.MustCompile(`\bS(\d+)\b`).FindAllStringSubmatch(p.OK(t, "history"), -1) {
		var k int
		fmt.Sscan(m[1], &k)
		n = max(n, k)
	}
	return n
}

// The last item of a list that the system never has empty leaves the system's own behind.
func TestDefaultOfAList(t *testing.T) {
	t.Parallel()
	p := settled(t, ticketDesk(t))
	at := part.Item{Key: `HKLM\SYSTEM\CurrentControlSet\Control\Session Manager`, Value: "BootExecute"}
	value(t, p.Root, at, func(regf.Value) regf.Value { return regf.NewList("", "tunerboot") })
	p.OK(t, "disable", "tunerboot", "--yes")
	require.Equal(t, []string{"autocheck autochk *"}, value(t, p.Root, at, nil).Strings())
}

// Looking at files leaves no trace in the times at which they were last read, and what is put
// back has the one that it had.
func TestAccessTimes(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "reading without a trace")
	p := workshop(t)
	long := time.Date(2001, 2, 3, 4, 5, 6, 0, time.UTC)
	var files []string
	require.NoError(t, filepath.WalkDir(p.Root, func(name string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			files = append(files, name)
		}
		return err
	}))
	modified := map[string]time.Time{}
	for _, name := range files {
		info, err := os.Stat(name)
		require.NoError(t, err)
		modified[name] = info.ModTime()
		require.NoError(t, os.Chtimes(name, long, info.ModTime()))
	}
	accessed := func() map[string]time.Time {
		times := map[string]time.Time{}
		for _, name := range files {
			var st syscall.Stat_t
			if syscall.Lstat(name, &st) == nil {
				times[name] = time.Unix(st.Atim.Unix()).UTC()
			}
		}
		return times
	}
	before := accessed()
	p.OK(t, "list", "--all")
	p.OK(t, "snapshot")
	p.OK(t, "compare", "S1")
	require.Equal(t, before, accessed())
	p.OK(t, "disable", "updater", "Tide Chart", "--yes")
	p.OK(t, "undo", "--yes")
	require.Equal(t, before, accessed())
}

// What replaces a file is on the disk before it takes the name, and so is the record before the
// first file is touched: the calls, as the kernel saw them.
func TestFlushedBeforeItCounts(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "strace")
	p := workshop(t)
	p.OK(t, "snapshot")
	log := filepath.Join(t.TempDir(), "trace")
	p.Prefix = []string{"strace", "-f", "-y", "-qq", "-s", "300", "-o", log, "-e",
		"trace=fsync,fdatasync,renameat,renameat2,rename,unlink,unlinkat"}
	p.OK(t, "disable", "updater", "--yes")
	trace, err := os.ReadFile(log)
	require.NoError(t, err)
	var calls []string
	for line := range strings.Lines(string(trace)) {
		if !strings.Contains(line, "resumed") {
			calls = append(calls, line)
		}
	}
	index := func(what string, from int) int {
		k := slices.IndexFunc(calls[from:], regexp.MustCompile(what).MatchString)
		require.GreaterOrEqual(t, k, 0, "no %s after call %d:\n%s", what, from, strings.Join(calls, ""))
		return from + k
	}
	// The first commit: the pages of before are on the disk, and their name, then the record; that
	// the journal is gone is what commits, and its folder is flushed for that.
	const journal, record = `f(data)?sync\(\d+<[^>]*record\.db-journal>`, `f(data)?sync\(\d+<[^>]*record\.db>`
	folder := `f(data)?sync\(\d+<` + regexp.QuoteMeta(filepath.Dir(p.Store)) + `>`
	index(folder, 0)
	written := index(record, index(journal, 0))
	committed := index(folder, index(`unlink.*record\.db-journal`, written))
	prepared := index(`f(data)?sync\(\d+<[^>]*/\.lockback-`, 0)
	replaced := index(`rename.*\.lockback-`, 0)
	require.Less(t, committed, prepared, "the journal counts before anything is prepared")
	require.Less(t, prepared, replaced)
	index(`f(data)?sync\(\d+<[^>]*/etc/cron\.d>`, replaced)
	index(folder, index(`unlink.*record\.db-journal`, index(record, replaced))) // that it is gone is on the disk, too
}
