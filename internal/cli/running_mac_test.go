//go:build unix

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/internal/cli"
	"lockback/internal/testkit"
)

// runningMac is the archive Mac, running: its disk, and programs that answer.
type runningMac struct {
	*testkit.RunningMac
	disk testkit.Program
}

func startMac(t *testing.T) runningMac {
	t.Helper()
	p := archive(t)
	m := runningMac{&testkit.RunningMac{Root: p.Root, SignedIn: map[int][]testkit.LoginItem{
		501: {{Name: "Gullrock Catalogue", Path: "/Applications/Gullrock Catalogue.app"}, {Name: "Quote \"it\"",
			Path: "/Applications/Quote \"it\".app", Hidden: true}},
	}}, p}
	for _, a := range []struct{ name, uid, home, id string }{{"mirela", "501", "/Users/mirela",
		"0D1F5A17-ABCD-4001-8314-000000000501"}, {"jonas", "502", "/Users/jonas",
		"0D1F5A17-ABCD-4002-8314-000000000502"}, {"_mdnsresponder", "65", "/var/empty", ""}} {
		m.Accounts = append(m.Accounts, map[string]any{"RecordName": a.name, "UniqueID": a.uid,
			"NFSHomeDirectory": a.home, "GeneratedUID": a.id, "PrimaryGroupID": "20"})
	}
	m.Boot(t)
	return m
}

// run runs a command on the running Mac.
func (m runningMac) run(args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = cli.Main(append([]string{"--store", m.disk.Store}, args...), cli.Streams{In: strings.NewReader(""), Out: &o,
		Err:  &e,
		Open: func(string) (*machine.Machine, error) { return machine.OpenRunningMac(m.Root, m.RunningMac) }})
	return code, o.String(), e.String()
}

func (m runningMac) ok(t *testing.T, args ...string) string {
	t.Helper()
	code, out, errs := m.run(args...)
	require.Zero(t, code, "%v: %s%s", args, out, errs)
	return out
}

func (m runningMac) list(t *testing.T, args ...string) map[string]testkit.Entry {
	t.Helper()
	var l testkit.List
	require.NoError(t, json.Unmarshal([]byte(m.ok(t, append([]string{"list", "--format", "json"}, args...)...)), &l))
	byName := map[string]testkit.Entry{}
	for _, e := range l.Entries {
		byName[strings.TrimSuffix(e.Name+"/"+e.User, "/")] = e
	}
	return byName
}

func TestRunningMacSwitches(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "a running Mac's jobs of the system and of others are the administrator's")
	for _, before13 := range []bool{false, true} {
		m := startMac(t)
		m.Before13, m.Lazy = before13, before13
		m.ok(t, "snapshot")
		entries := m.list(t)
		require.Equal(t, "enabled", entries["org.kelpline.updater"].State)
		require.Contains(t, entries, "org.fogbell.sync/annika",
			"the running system has no such account, and her home is there")
		out := m.ok(t, "disable", "org.kelpline.updater", "org.brinecast.helper", "com.apple.speedkeeper",
			"Gullrock Cat*", "Quote*", "--yes")
		require.Contains(t, out, "C1 done")
		require.Contains(t, out, `of "Quote \"it\"", it is not kept that it opens hidden`)
		for domain, labels := range map[string][]string{"system": {"org.kelpline.updater", "org.brinecast.helper",
			"org.oldplotter.monitor"}, "user/501": {"com.apple.speedkeeper"}} {
			for _, label := range labels {
				require.True(t, m.Off(domain, label), label)
			}
		}
		require.Empty(t, m.SignedIn[501])
		entries = m.list(t)
		require.Equal(t, "disabled in launchd's database", entries["org.kelpline.updater"].Mode,
			"as launchd says, whatever the file does")
		require.Equal(t, "removed (kept in the record)", entries["Quote \"it\"/mirela"].Mode)
		m.ok(t, "enable", "Quote*", "org.brinecast.helper", "--yes")
		require.Equal(t, []testkit.LoginItem{{Name: "Quote \"it\"", Path: "/Applications/Quote \"it\".app",
			Hidden: before13}}, m.SignedIn[501])
		require.False(t, m.Off("system", "org.brinecast.helper"))
		m.ok(t, "restore", "S1", "--yes")
		require.False(t, m.Off("system", "org.kelpline.updater"))
		require.False(t, m.Off("user/501", "com.apple.speedkeeper"))
		require.True(t, m.Off("system", "org.oldplotter.monitor"))
		require.Len(t, m.SignedIn[501], 2)
		if before13 {
			m.ok(t, "compare", "S1")
		} else { // what macOS does not take back is told
			code, out, _ := m.run("compare", "S1")
			require.Equal(t, 3, code)
			require.Regexp(t, `mode +hidden`, out)
			require.Contains(t, out, "1 changed")
		}
		require.NotContains(t, strings.Join(m.Calls, "\n"), "com.apple.ftpd",
			"labels that do not change are left alone")
	}
}

// A snapshot of the running Mac comes back on its disk, and one of its disk on the
// running Mac.
func TestRunningMacAndItsDisk(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "a running Mac's jobs of the system and of others are the administrator's")
	m := startMac(t)
	before := testkit.Tree(t, m.Root)
	m.ok(t, "snapshot")
	m.ok(t, "disable", "org.kelpline.updater", "org.tidewatch.gauge", "--yes")
	_, byName := m.disk.List(t)
	require.Equal(t, "disabled", byName["org.tidewatch.gauge"].State)
	m.disk.OK(t, "restore", "S1", "--yes")
	require.Empty(t, slices.DeleteFunc(testkit.Differences(before, testkit.Tree(t, m.Root)),
		func(d string) bool { return strings.HasPrefix(d, launchdState+": was") }), "to the byte; launchd itself "+
		"rewrote its file meanwhile, which shows in the time of the folder")
	m.Boot(t)
	m.disk.OK(t, "snapshot")
	m.disk.OK(t, "disable", "org.kelpline.updater", "--yes")
	m.Boot(t)
	require.Equal(t, "disabled", m.list(t)["org.kelpline.updater"].State)
	m.ok(t, "restore", "S4", "--yes")
	require.False(t, m.Off("system", "org.kelpline.updater"))
}

// Every outcome of the programs is told apart, and nothing half is left.
func TestRunningMacFails(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "a running Mac's jobs of the system and of others are the administrator's")
	for _, row := range []struct {
		name              string
		refuse, lie, hang string
		code              int
		says              string
		disable           []string
		stillWaiting      bool
	}{
		{name: "launchd refuses", refuse: "disable system/org.brinecast.helper", code: 1,
			says: "launchd refuses to disable org.brinecast.helper", disable: []string{"org.kelpline.updater",
				"org.brinecast.helper"}},
		{name: "launchctl lies", lie: "disable system/org.kelpline.updater", code: 1,
			says:    "launchctl reported success, but org.kelpline.updater still reads as enabled",
			disable: []string{"org.kelpline.updater", "com.apple.speedkeeper"}},
		{name: "words that are not known", refuse: "print-disabled user/502", code: 1, says: "Operation not permitted",
			disable: []string{"org.brinecast.screens"}},
		{name: "System Events lies", lie: "delete()", code: 1,
			says:    "success was reported by System Events, but the login item is in the list",
			disable: []string{"org.kelpline.updater", "Gullrock Cat*"}},
		{name: "System Events refuses", refuse: "delete()", code: 1, says: "not permitted",
			disable: []string{"org.kelpline.updater", "Gullrock Cat*"}},
		{name: "a place that is protected", code: 1, says: "sealed volume", disable: []string{"Application", "--all"}},
		{name: "launchctl hangs", hang: "disable system/", code: 1, says: "did not answer",
			disable: []string{"org.kelpline.updater"}},
		{name: "System Events hangs", hang: "delete()", code: 1, says: "a question of macOS may wait on the screen",
			disable: []string{"org.kelpline.updater", "Gullrock Cat*"}},
		{name: "it refuses to take back too", refuse: "able system/", lie: "", code: 1, says: "launchd refuses",
			disable: []string{"org.kelpline.updater"}},
	} {
		m := startMac(t)
		m.ok(t, "snapshot")
		m.Refuse, m.Lie, m.Hang = row.refuse, row.lie, row.hang
		before := m.list(t, "--all")
		code, out, errs := m.run(append(append([]string{"disable"}, row.disable...), "--yes")...)
		require.Equal(t, row.code, code, "%s: %s%s", row.name, out, errs)
		require.Contains(t, errs, row.says, row.name)
		require.Equal(t, before, m.list(t, "--all"), "%s: all is as it was", row.name)
		code, _, errs = m.run("recover", "--yes")
		require.Contains(t, []int{0, 1}, code, errs)
		require.Contains(t, errs, "no interrupted change waits", row.name)
		m.Refuse, m.Lie, m.Hang = "", "", ""
		m.ok(t, "compare", "S1")
	}
}

// An agent of everyone is turned off for those too who are not signed in: launchd has nothing of them yet, and
// reads their file when they sign in.
func TestRunningMacUsersWhoAreNotSignedIn(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "other users' jobs are the administrator's")
	m := startMac(t)
	before := testkit.Tree(t, m.Root)
	m.ok(t, "snapshot")
	m.ok(t, "disable", "org.fogbell.sync", "org.brinecast.screens", "--yes")
	require.True(t, m.Off("user/501", "org.fogbell.sync"), "launchd was told of who is signed in")
	m.SignedIn[502] = nil
	m.Boot(t)
	for _, label := range []string{"org.fogbell.sync", "org.brinecast.screens"} {
		require.True(t, m.Off("user/502", label), "launchd found it in the file")
	}
	m.ok(t, "undo", "--yes")
	require.False(t, m.Off("user/502", "org.fogbell.sync"))
	delete(m.SignedIn, 502)
	m.Boot(t)
	m.ok(t, "compare", "S1")
	m.ok(t, "disable", "org.brinecast.screens", "--yes")
	m.ok(t, "restore", "S1", "--yes")
	written := func(d string) bool { return strings.HasPrefix(d, strings.TrimSuffix(launchdState, "/")) }
	require.Empty(t, slices.DeleteFunc(testkit.Differences(before, testkit.Tree(t, m.Root)), written),
		"all else is as it was")

}

// A user may sign in at any moment of a change: launchd has then read their file before it was written, and is
// told, or the change stops because the machine changed since the plan was made.
func TestRunningMacUserSignsInMeanwhile(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "other users' jobs are the administrator's")
	written := false
	for call := 1; ; call++ {
		m := startMac(t)
		m.ok(t, "snapshot")
		m.Appears = map[string]int{"print-disabled user/502": call}
		code, _, errs := m.run("disable", "org.brinecast.screens", "--yes")
		if m.Appears["print-disabled user/502"] > 0 {
			break // it was not asked so often
		}
		require.Contains(t, []int{0, 5}, code, errs)
		require.Equal(t, code == 0, m.Off("user/502", "org.brinecast.screens"), "at call %d: %s", call, errs)
		written = written || code == 0 && strings.Contains(string(m.Found), "screens")
		require.Contains(t, []int{0, 1}, func() int { code, _, _ := m.run("recover", "--yes"); return code }())
	}
	require.True(t, written, "once launchd was told after the file had been written")
}

// Whose list of login items cannot be asked for, because there is no session of theirs, is taken from the disk,
// and is no failure. An item whose app is gone is told, and is not touched: it could not be put back.
func TestRunningMacLoginItems(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "another user's session is the administrator's to enter")
	m := startMac(t)
	m.SignedIn[501] = append(m.SignedIn[501], testkit.LoginItem{Name: "Old Tide Table"})
	var l testkit.List
	require.NoError(t, json.Unmarshal([]byte(m.ok(t, "list", "--format", "json")), &l))
	require.NotContains(t, fmt.Sprint(l.Unread), "login items")
	require.NotContains(t, strings.Join(m.Calls, "\n"), "asuser 502", "nobody without a session is asked")
	gone := m.list(t)["Old Tide Table/mirela"]
	require.Equal(t, []string{"target-missing"}, gone.Problems)
	code, _, errs := m.run("disable", "Old Tide Table", "--yes")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "could not be brought back")
	m.ok(t, "disable", "Gullrock Cat*", "--yes")
	require.Len(t, m.SignedIn[501], 2)
	for _, number := range []string{"-600", "-1712", "-1728"} { // a session that ends meanwhile
		m.Refuse, m.Says = "asuser 501", "osascript: execution error: Error ("+number+")"
		require.NoError(t, json.Unmarshal([]byte(m.ok(t, "list", "--format", "json")), &l))
		require.NotContains(t, fmt.Sprint(l.Unread), "login items", number)
	}
	m.Says = "osascript: execution error: Not authorized to send Apple events to System Events. (-1743)"
	require.NoError(t, json.Unmarshal([]byte(m.ok(t, "list", "--format", "json")), &l))
	require.Contains(t, fmt.Sprint(l.Unread), "Privacy & Security > Automation")
}

// launchd is asked before its file is read, which not everyone may.
func TestRunningMacDatabasesThatAreNotReadable(t *testing.T) {
	t.Parallel()
	m := startMac(t)
	require.True(t, m.Off("system", "org.oldplotter.monitor"))
	file := filepath.Join(m.Root, launchdState, "disabled.plist")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o700)) // nothing that can be read, for root too
	require.Equal(t, "disabled in launchd's database", m.list(t)["org.oldplotter.monitor"].Mode)
}

// What cannot be asked is said, and the disk's own word is taken.
func TestRunningMacSilent(t *testing.T) {
	t.Parallel()
	m := startMac(t)
	m.Refuse = "osascript"
	entries := m.list(t)
	require.Contains(t, entries, "Brinecast/mirela", "from the database on the disk")
	m.Refuse = "print-disabled"
	require.Equal(t, "disabled in launchd's database", m.list(t)["org.oldplotter.monitor"].Mode)
	m.Refuse = "dscl"
	if os.Geteuid() == 0 { // the directory is the administrator's
		require.Contains(t, m.list(t), "org.fogbell.sync/annika")
	}
	m.Refuse = "ioreg"
	var l struct{ Machine struct{ ID string } }
	require.NoError(t, json.Unmarshal([]byte(m.ok(t, "list", "--format", "json")), &l))
	require.Equal(t, "1887c0de-0314-4092-a653-5a17abcdef03", l.Machine.ID, "from the names of its preferences")
	require.NoError(t, os.RemoveAll(filepath.Join(m.Root, "private/var/db/dslocal")))
	m.Refuse = "dscl"
	require.Contains(t, m.list(t), "org.fogbell.sync/annika", "from the home folders")
	require.NotEmpty(t, fmt.Sprint(m.Calls))
}

// What a job's own file says is off is off until launchd is told otherwise, and is off again afterwards.
func TestRunningMacJobsOffByTheirFile(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "a running Mac's jobs of the system are the administrator's")
	m := startMac(t)
	const label = "org.gullrock.remote"
	require.NoError(t, os.WriteFile(filepath.Join(m.Root, "Library/LaunchDaemons", label+".plist"),
		[]byte(`<plist version="1.0"><dict><key>Label</key><string>`+label+
			`</string><key>Program</key><string>/usr/local/bin/notice</string><key>Disabled</key><true/></dict></plist>`), 0o644))
	m.ok(t, "snapshot")
	require.Equal(t, "disabled", m.list(t)[label].State)
	m.ok(t, "enable", label, "--yes")
	require.Equal(t, "enabled", m.list(t)[label].State)
	m.ok(t, "restore", "S1", "--yes")
	require.True(t, m.Off("system", label), "launchd was told")
	require.Equal(t, "disabled", m.list(t)[label].State)
}
