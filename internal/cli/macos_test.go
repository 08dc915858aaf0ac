//go:build unix

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
	"lockback/internal/testkit"
)

// archive builds the museum's Mac.
func archive(t testing.TB) testkit.Program {
	t.Helper()
	return museum(t, "archive-mac")
}

// readPlist is a property list as another program reads it: plistutil, which
// prints it as XML.
func readPlist(t testing.TB, p testkit.Program, file string) plist.Dict {
	t.Helper()
	testkit.Need(t, "plistutil")
	out, err := exec.Command("plistutil", "-f", "xml", "-i", filepath.Join(p.Root, file)).Output()
	require.NoError(t, err, file)
	doc, err := plist.Parse(out)
	require.NoError(t, err, file)
	return doc.Dict()
}

const (
	launchdState = "private/var/db/com.apple.xpc.launchd/"
	hooksFile    = "private/var/root/Library/Preferences/com.apple.loginwindow.plist"
	reopenFile   = "Users/mirela/Library/Preferences/ByHost/com.apple.loginwindow.1887C0DE-0314-4092-A653-5A17ABCDEF03.plist"
)

// What everyone has is told once where it is the same for all, under a handle that chooses all of theirs; once
// for each user where they differ.
func TestAgentsOfEveryoneAreToldOnce(t *testing.T) {
	t.Parallel()
	p := archive(t)
	rows := func(words ...string) (rows []string) {
		for line := range strings.Lines(p.OK(t, append([]string{"list"}, words...)...)) {
			if strings.Contains(line, " org.fogbell.sync") {
				rows = append(rows, strings.Fields(line)[0])
			}
		}
		return rows
	}
	all := rows()
	require.Len(t, all, 1)
	require.Len(t, rows("for=mirela"), 1)
	require.NotEqual(t, all, rows("for=mirela"), "hers has a handle of its own")
	require.Contains(t, p.OK(t, "disable", all[0][:5], "--yes"), "3 entries",
		"the beginning of the shared handle is enough")
	require.Equal(t, all, rows(), "off for all of them")
	p.OK(t, "enable", all[0], "--for", "mirela", "--yes")
	require.Len(t, rows(), 3, "they differ now")
	require.Len(t, rows("state=disabled"), 2)
	p.OK(t, "undo", "C1", "--yes")
	require.Equal(t, all, rows())
}

func TestArchiveMac(t *testing.T) {
	t.Parallel()
	p := archive(t)
	before := testkit.Tree(t, p.Root)
	list, byName := p.List(t, "--all")
	require.Empty(t, list.Unread)
	gone := []string{"target-missing"}
	apps := "/Applications/"
	for name, want := range map[string]testkit.Entry{
		"org.kelpline.updater": {Location: "macos.launch-daemons", Stage: "system", Mode: "at startup, every 1 h",
			Target: target("/Library/Application Support/Kelpline/updater", true)},
		"org.kelpline.telemetry": {Location: "macos.launch-daemons", Stage: "schedule", State: "disabled",
			Mode: "turned off in System Settings"},
		"org.brinecast.helper": {Location: "macos.launch-daemons", Mode: "kept running",
			Target: target("/Library/PrivilegedHelperTools/org.brinecast.helper", false), Problems: gone},
		"org.saltmarsh.licence": {Location: "macos.launch-daemons", Stage: "event",
			Mode: "when a program asks for org.saltmarsh.licence"},
		"org.saltmarsh.broken": {Location: "macos.launch-daemons", State: "enabled",
			Mode: "lockback cannot parse its file; launchd may still read it", Problems: []string{"unparsable"}},
		"org.tidewatch.gauge": {Location: "macos.launch-daemons", Stage: "event",
			Mode: "when /Users/Shared/gauge changes", Target: target("/usr/local/bin/tidewatch", true)},
		// another volume: unknown
		"org.gullrock.backup": {Location: "macos.launch-daemons", Stage: "schedule",
			Mode: "every Monday at 02:30"},
		"org.oldplotter.monitor": {Location: "macos.launch-daemons", State: "disabled",
			Mode: "disabled in launchd's database"},
		"com.apple.configd": {Location: "macos.launch-daemons", Mode: "kept running", OSPart: true,
			Guarded: "the machine needs it to start"},
		"com.apple.atrun": {Location: "macos.launch-daemons", State: "disabled",
			Mode: "disabled in launchd's database", Stage: "schedule", OSPart: true},
		"com.apple.Dock.agent/jonas": {Location: "macos.launch-agents", Mode: "again after it failed", OSPart: true,
			Guarded: "needed to show a screen"},
		"org.fogbell.sync/annika": {Location: "macos.launch-agents", Mode: "at sign-in, again after it failed",
			Target: target(apps+"Fogbell Sync.app/Contents/MacOS/Fogbell Sync", true)},
		"org.gullrock.welcome/jonas": {Location: "macos.launch-agents", Mode: "",
			Target: target(apps+"Gullrock Welcome.app/Contents/MacOS/Gullrock Welcome", true)},
		"org.gullrock.notice": {Location: "macos.launch-agents", Mode: "at the login window, at startup"},
		"com.apple.speedkeeper/mirela": {Location: "macos.launch-agents", Mode: "at sign-in, kept running",
			Target: target("/Users/mirela/Library/.speed/keeper", true)}, // calls itself a part of the system
		"org.gullrock.Übersicht der Gezeiten/mirela": {Location: "macos.launch-agents", Mode: "every 15 min",
			Target: target("/Users/mirela/Documents/Gezeiten.scpt", true)},
		"org.brinecast.screens/jonas": {Location: "macos.launch-agents", Mode: "",
			Target: target(apps+"Brinecast.app/Contents/MacOS/Brinecast", false), Problems: gone},
		"org.tidewatch.notes/jonas": {Location: "macos.launch-agents", State: "disabled",
			Mode: "disabled in launchd's database"},
		"Fogbell Helper/mirela": {Location: "macos.embedded-jobs", Mode: "",
			Target: target(apps+"Fogbell Sync.app/Contents/Library/LoginItems/Fogbell "+
				"Helper.app/Contents/MacOS/Fogbell Helper", true)},
		"org.fogbell.quick/mirela": {Location: "macos.embedded-jobs", State: "disabled",
			Mode: "turned off in System Settings"},
		"org.fogbell.quick/jonas": {Location: "macos.embedded-jobs", Mode: "",
			Target: target(apps+"Fogbell Sync.app/Contents/MacOS/quick", true)},
		"Gullrock Catalogue/mirela": {Location: "macos.reopen", Mode: "open at the last sign-out",
			Target: target(apps+"Gullrock Catalogue.app/Contents/MacOS/Gullrock Catalogue", true)},
		"Brinecast/mirela": {Location: "macos.login-items", Target: target(apps+"Brinecast.app", false),
			Problems: gone},
		"Tide Table/jonas": {Location: "macos.login-items", Mode: "older list, taken over at sign-in",
			Target: target(apps+"Tide Table.app/Contents/MacOS/Tide Table", true)},
		// another volume
		"Catalogue/jonas": {Location: "macos.login-items", Mode: "older list, taken over at sign-in"},
		"Oldplotter/annika": {Location: "macos.login-items", Mode: "older list, taken over at sign-in",
			Target: target(apps+"Oldplotter.app", false), Problems: gone},
		"Cut short/annika": {Location: "macos.login-items", Mode: "older list, taken over at sign-in",
			Problems: []string{"unparsable"}},
		"LoginHook": {Location: "macos.login-hooks", Mode: "before sign-in, as root",
			Target: target("/usr/local/bin/gullrock-sign-in", true)},
		"Gullrock Welcome": {Location: "macos.managed-login-items", Mode: "managed"},
		"at job 7/mirela": {Location: "macos.at", Stage: "schedule", State: "disabled",
			Mode: "com.apple.atrun is disabled", Target: target("/Users/mirela/bin/index", true)},
		"110.clean-tmps":     {Location: "macos.periodic", Stage: "schedule", Mode: "every day", OSPart: true},
		"500.gullrock-index": {Location: "macos.periodic", Stage: "schedule", Mode: "every week"},
		"rc.local": {Location: "macos.rc", Stage: "system", State: "disabled",
			Mode: "ignored: not run since OS X 10.10", Problems: []string{"ignored"}},
		"door bell": {Location: "macos.emond", Stage: "event", State: "disabled",
			Mode: "ignored: no event monitor since 13", Problems: []string{"ignored"}},
		"rename scans.scpt/annika": {Location: "macos.folder-actions", Stage: "event",
			Mode: "when something is put into /Users/annika/Scans"},
		"GullrockBadge": {Location: "macos.authorization", Stage: "attach", Mode: "for system.login.console",
			Guarded: "no user may be able to sign in without it"},
		"OldBadge": {Location: "macos.authorization", Stage: "attach", Mode: "for system.login.console",
			Problems: gone, Guarded: "no user may be able to sign in without it"},
		"SaltmarshKey": {Location: "macos.kernel-extensions", Stage: "boot", Mode: "kernel extension",
			Guarded: "the device that it drives stops working"},
		"pam_badge": {Location: "macos.pam", Stage: "attach", Mode: "for sudo",
			Guarded: "no user may be able to sign in without it"},
		"zprofile": {Location: "macos.login-shell", Mode: "6 commands", OSPart: true},
		"org.gullrock.cite/mirela": {Location: "macos.browser", Stage: "attach", State: "disabled",
			Mode: "Safari extension"},
		"hook.dylib/mirela": {Location: "macos.environment", Stage: "attach", Mode: "loaded into com.apple.speedkeeper",
			Problems: gone},
	} {
		got, ok := byName[name]
		require.True(t, ok, name)
		if want.State == "" {
			want.State = "enabled"
		}
		if want.Stage == "" {
			want.Stage = got.Stage
		}
		if name == "zprofile" {
			want.Mode = got.ModeOrTime()
		}
		require.Equal(t, []any{want.Location, want.Stage, want.State, want.Mode, want.OSPart, want.Guarded},
			[]any{got.Location, got.Stage, got.State, got.ModeOrTime(), got.OSPart, got.Guarded}, name)
		if want.Target.Path != "" {
			require.Equal(t, want.Target, got.Target, name)
		}
		for _, problem := range want.Problems {
			require.Contains(t, got.Problems, problem, name)
		}
	}
	for _, name := range []string{"org.gullrock.backup", "Catalogue/jonas"} {
		require.Nil(t, byName[name].Target.Exists, "%s is on another volume: unknown, not missing", name)
	}
	var second testkit.Entry // of the two files with one label
	for _, e := range list.Entries {
		if e.User == "jonas" && e.Source.Path == "/Library/LaunchAgents/org.lampwick.labels.plist" {
			second = e
		}
	}
	require.Equal(t, []string{"ignored"}, second.Problems)

	p.OK(t, "snapshot")
	p.OK(t, "disable", "location=macos.*", "--all", "--guarded", "--yes")
	system, jonas := readPlist(t, p, launchdState+"disabled.plist"), readPlist(t, p, launchdState+"disabled.502.plist")
	for _, label := range []string{"org.kelpline.updater", "org.brinecast.helper", "org.tidewatch.gauge",
		"org.oldplotter.monitor", "com.apple.configd", "com.apple.ftpd"} {
		require.True(t, system.Bool(label), label)
	}
	for _, label := range []string{"org.fogbell.sync", "org.gullrock.welcome", "org.brinecast.screens",
		"org.tidewatch.notes", "org.fogbell.quick"} {
		require.True(t, jonas.Bool(label), label)
	}
	require.True(t, readPlist(t, p, launchdState+"disabled.501.plist").Bool("org.gullrock.Übersicht der Gezeiten"))
	hooks := readPlist(t, p, hooksFile)
	require.False(t, hooks.Has("LoginHook"))
	require.Equal(t, "mirela", hooks.Text("lastUserName"))
	require.Empty(t, readPlist(t, p, reopenFile).Array("TALAppsToRelaunchAtLogin"))
	for file, form := range map[string]string{"disabled.plist": "<?xml", "disabled.502.plist": "bplist00",
		"disabled.503.plist": "<?xml"} {
		content, err := os.ReadFile(filepath.Join(p.Root, launchdState, file))
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(string(content), form), "%s keeps its form", file)
	}
	// What has another switch, or none, is as it was.
	touched := 0
	after := testkit.Tree(t, p.Root)
	for _, d := range testkit.Differences(before, after) {
		touched++
		require.Regexp(t,
			`com\.apple\.xpc\.launchd|loginwindow|at/tabs/mirela|500\.gullrock-index|110\.clean|Info\.plist|\.ssh/rc|rc\.local|rc\.server|launchd\.conf|StartupParameters|NativeMessagingHosts|: was "d`, d)
	}
	require.Greater(t, touched, 15)

	off, _ := p.List(t, "--all")
	require.Len(t, off.Entries, len(list.Entries), "what is off stays in the list")
	for _, e := range off.Entries {
		if e.Switch != "report" {
			require.Equal(t, "disabled", e.State, "%s %s", e.Location, e.Name)
		}
	}
	p.OK(t, "enable", "LoginHook", "SaltmarshKey", "org.kelpline.updater", "--yes")
	require.False(t, readPlist(t, p, launchdState+"disabled.plist").Bool("org.kelpline.updater"))
	p.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.OK(t, "compare", "S1")
}

// One entry of a shared database comes back, and the others stay as they are; what
// came since and was turned off stays off.
// A periodic script of macOS that somebody wrote since its release was made is shown.
func TestPeriodicScriptsOfOthers(t *testing.T) {
	t.Parallel()
	p := archive(t)
	made := time.Date(2023, 9, 1, 0, 0, 0, 0, time.UTC)
	at := func(name string, when time.Time) {
		require.NoError(t, os.Chtimes(filepath.Join(p.Root, name), when, when))
	}
	const script = "private/etc/periodic/daily/110.clean-tmps"
	at("System/Library/CoreServices/SystemVersion.plist", made)
	at(script, made.Add(23*time.Hour)) // files of one release are made within a day
	_, entries := p.List(t, "--all")
	require.True(t, entries["110.clean-tmps"].OSPart)
	require.Empty(t, entries["110.clean-tmps"].Problems)
	at(script, made.AddDate(0, 1, 0))
	_, entries = p.List(t, "--all")
	require.False(t, entries["110.clean-tmps"].OSPart)
	require.Equal(t, []string{"not-default"}, entries["110.clean-tmps"].Problems)
}

func TestRestoreFromASharedDatabase(t *testing.T) {
	t.Parallel()
	p := archive(t)
	file := filepath.Join(p.Root, launchdState, "disabled.plist")
	found, err := os.ReadFile(file)
	require.NoError(t, err)
	p.OK(t, "snapshot")
	p.OK(t, "disable", "org.kelpline.updater", "org.brinecast.helper", "org.tidewatch.gauge", "--yes")
	p.OK(t, "restore", "S1", "--only", "org.brinecast.helper", "--yes")
	db := readPlist(t, p, launchdState+"disabled.plist")
	require.Equal(t, []bool{true, false, true, true}, []bool{db.Bool("org.kelpline.updater"),
		db.Has("org.brinecast.helper"), db.Bool("org.tidewatch.gauge"), db.Bool("com.apple.ftpd")})

	came := filepath.Join(p.Root, "Library/LaunchDaemons/org.kelpline.back.plist")
	content, err := os.ReadFile(filepath.Join(p.Root, "Library/LaunchDaemons/org.kelpline.updater.plist"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(came, []byte(strings.ReplaceAll(string(content), "org.kelpline.updater",
		"org.kelpline.back")), 0o644))
	p.OK(t, "disable", "org.kelpline.back", "--yes")
	out := p.OK(t, "restore", "S1", "--yes")
	require.Contains(t, out, "org.tidewatch.gauge", "each entry that comes back is named")
	require.Contains(t, out, "org.kelpline.updater")
	db = readPlist(t, p, launchdState+"disabled.plist")
	require.True(t, db.Bool("org.kelpline.back"), "a newcomer that was turned off stays off")
	require.False(t, db.Has("org.kelpline.updater"))
	require.NoError(t, os.Remove(came))
	p.OK(t, "restore", "S1", "--yes")
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, found, now)
	out = p.OK(t, "disable", "LoginHook", "--yes")
	require.Contains(t, out, "LoginHook")
	hooks, err := os.ReadFile(filepath.Join(p.Root, hooksFile))
	require.NoError(t, err)
	require.NotContains(t, string(hooks), "LoginHook")
	p.OK(t, "restore", "S1", "--only", "LoginHook", "--yes")
	p.OK(t, "compare", "S1")
}

// TestArchiveMacKilledAtEveryStep kills the program at each point of a change to
// property lists of both forms, files and modes, and the recovery too.
func TestArchiveMacKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	change := []string{"disable", "org.kelpline.updater", "org.gullrock.Übersicht*", "org.fogbell*", "org.brinecast*",
		"LoginHook", "Fogbell*", "updater", "500.gullrock-index", "rc", "--yes"}
	done := archive(t)
	done.OK(t, change...)
	after := testkit.Tree(t, done.Root)
	interrupted, p := 0, archive(t)
	before := testkit.Tree(t, p.Root)
	for k, w := range wrecks(t, p, 1, change...) {
		if !w.before {
			interrupted++
		}
		t.Run(w.point, func(t *testing.T) {
			t.Parallel()
			wholeRecord(t, w.Program)
			switch {
			case w.before:
			case k%2 == 1:
				w.OK(t, "recover", "--finish", "--yes")
				testkit.Same(t, withoutTimes(after), withoutTimes(testkit.Tree(t, w.Root)))
				w.OK(t, "undo", lastChange(t, w.Program), "--yes")
			default:
				crash(t, w.Program, 1+w.n%4, "recover", "--yes")
				w.OK(t, "recover", "--yes")
			}
			testkit.Same(t, before, testkit.Tree(t, w.Root))
		})
	}
	require.Greater(t, interrupted, 12)
}

// Labels and names that need care reach launchd's database as they are, and a
// property list that is damaged or hostile hides nothing else.
func TestHostileMac(t *testing.T) {
	t.Parallel()
	p := archive(t)
	long := "org.gullrock." + strings.Repeat("long", 400)
	labels := []string{"org.gullrock.with.many.dots", "a label with blanks", "\"quoted\" 'twice' <&>", "深い海", long,
		"slash/in/it", "tab\there", "$HOME`id`"}
	agents := filepath.Join(p.Root, "Users/mirela/Library/LaunchAgents")
	for k, label := range labels {
		content, err := plist.New(map[string]any{"Label": label, "Program": "/usr/local/bin/tidewatch",
			"RunAtLoad": true}).Bytes()
		require.NoError(t, err)
		file := filepath.Join(agents, fmt.Sprintf("care %d.plist", k))
		require.NoError(t, os.WriteFile(file, content, 0o644))
		if os.Geteuid() == 0 {
			require.NoError(t, os.Chown(file, 501, 501))
		}
	}
	for name, content := range map[string]string{
		"empty.plist": "", "deep.plist": strings.Repeat("<plist><array>", 50000), "cut.plist": "bplist00\xd1",
		"not.plist": "MZ\x00\x01", "array.plist": "(a, b)",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(agents, name), []byte(content), 0o644))
	}
	require.NoError(t, os.Symlink("/nowhere/at/all.plist", filepath.Join(agents, "lost.plist")))
	require.NoError(t, os.Symlink("../../../../../../../etc/passwd", filepath.Join(agents, "out.plist")))
	before := testkit.Tree(t, p.Root)
	list, byName := p.List(t)
	require.Empty(t, list.Unread)
	args := []string{"disable"}
	for _, label := range labels {
		e, ok := byName[label+"/mirela"]
		require.True(t, ok, label)
		args = append(args, e.Handle)
	}
	for _, name := range []string{"empty", "deep", "cut", "not", "array", "lost", "out"} {
		e := byName[name+"/mirela"]
		if slices.Contains([]string{"lost", "out", "array"}, name) { // links that lead nowhere, and no job
			require.Equal(t, "disabled", e.State, name)
			require.Contains(t, e.Problems, "ignored", name)
		} else {
			require.Equal(t, "enabled", e.State, "launchd may read it: %s", name)
			require.Contains(t, e.Problems, "unparsable", name)
		}
	}
	p.OK(t, append(args, "--yes")...)
	db := readPlist(t, p, launchdState+"disabled.501.plist")
	var have []string
	for label := range db {
		have = append(have, label)
	}
	sort.Strings(have)
	want := append([]string(nil), labels...)
	sort.Strings(want)
	require.Equal(t, want, have)
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))

	// Bytes that are no Unicode, and what would move a terminal's cursor: shown for
	// what they are, and refused where they could not be written back.
	evil := "bplist00\xd3\x01\x02\x03\x04\x05\x06\x55Label\x57Program\x5aWatchPaths\x5a\xffbad\x1b[31m!\x5f\x10\x18/usr/local/bin/tidewatch\x56/w\xff\x1b[2"
	offsets := []byte{8, 15, 21, 29, 40, 51, 78}
	table := append([]byte(evil), offsets...)
	table = append(append(table, 0, 0, 0, 0, 0, 0, 1, 1), 0, 0, 0, 0, 0, 0, 0, 7, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
		0, 0, byte(len(evil)))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "Library/LaunchDaemons/evil.plist"), table, 0o644))
	_, byName = p.List(t)
	odd, ok := byName["\\xffbad\x1b[31m!"]
	require.True(t, ok)
	require.Equal(t, `when /w\xff`+"\x1b[2 changes", odd.When)
	require.NotContains(t, p.OK(t, "list"), "\x1b")
	require.NotContains(t, p.OK(t, "show", odd.Handle), "\x1b")
	p.Fails(t, 1, "cannot be written back unchanged", "disable", odd.Handle, "--yes")
	require.NoError(t, os.Remove(filepath.Join(p.Root, "Library/LaunchDaemons/evil.plist")))

	// Databases that are damaged are reported, and not written over.
	for _, file := range []string{launchdState + "disabled.plist",
		"private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm", "private/var/db/auth.db"} {
		full := filepath.Join(p.Root, file)
		content, err := os.ReadFile(full)
		require.NoError(t, err)
		for _, broken := range [][]byte{content[:len(content)/2], []byte("nonsense"), nil} {
			require.NoError(t, os.WriteFile(full, broken, 0o644))
			list, _ := p.List(t, "--all")
			require.NotEmpty(t, list.Unread, file)
			require.Equal(t, "/"+file, list.Unread[0].Path)
		}
		if strings.HasSuffix(file, "disabled.plist") {
			p.Fails(t, 1, "cannot be read", "disable", "org.kelpline.updater", "--yes")
		}
		require.NoError(t, os.WriteFile(full, content, 0o644))
	}
}

// Links that people lay lead no privileged write out of their homes, and pipes
// where folders and files should be are not waited for.
func TestTrapsOnAMac(t *testing.T) {
	t.Parallel()
	p := archive(t)
	at := func(name string) string { return filepath.Join(p.Root, name) }
	lay := func(link, target string) {
		require.NoError(t, os.RemoveAll(at(link)))
		require.NoError(t, os.Symlink(target, at(link)))
	}
	reopen, err := os.ReadFile(at(reopenFile))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("private/etc/reopen.plist"), reopen, 0o644))
	lay(reopenFile, "/private/etc/reopen.plist")
	require.NoError(t, os.MkdirAll(at("private/etc/ssh/keys"), 0o755))
	require.NoError(t, os.WriteFile(at("private/etc/ssh/keys/rc"), nil, 0o644))
	lay("Users/mirela/.ssh", "/private/etc/ssh/keys")
	lay("Users/jonas/Library/PreferencePanes", "../../../Library/QuickLook")
	require.NoError(t, os.Mkdir(at("Library/QuickLook/Trap.prefPane"), 0o755))
	require.NoError(t, os.WriteFile(at("Library/QuickLook/Trap.prefPane/Info.plist"), []byte("{}"), 0o644))
	for _, pipe := range []string{"Library/ColorPickers", "Library/LaunchAgents/pipe.plist", "private/etc/rc.common",
		"Users/mirela/.zprofile"} {
		require.NoError(t, syscall.Mkfifo(at(pipe), 0o644))
	}
	before := testkit.Tree(t, p.Root)
	list, byName := p.List(t)
	require.NotEmpty(t, list.Unread)
	require.Contains(t, byName, "Gullrock Catalogue/mirela")
	p.Fails(t, 1, "is a link to /private/etc/reopen.plist", "disable", "location=macos.reopen", "--yes")
	p.Fails(t, 1, "leads out of the home", "disable", "rc", "--yes")
	p.Fails(t, 1, "leads out of the home", "disable", "Trap", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// The data volume of a Mac alone, as it is mounted without the system's: nothing
// of the system is called missing.
func TestDataVolumeAlone(t *testing.T) {
	t.Parallel()
	p := archive(t)
	for _, name := range []string{"System", "bin", "etc", "var", "tmp"} {
		require.NoError(t, os.RemoveAll(filepath.Join(p.Root, name)))
	}
	for _, name := range []string{"libexec", "bin"} {
		require.NoError(t, os.RemoveAll(filepath.Join(p.Root, "usr", name)))
	}
	list, byName := p.List(t, "--all")
	require.NotEmpty(t, list.Entries)
	for _, u := range list.Unread {
		require.Contains(t, u.Reason, "the system volume", u.Path)
	}
	require.NotEmpty(t, list.Unread, "it is said that the system's own jobs were not read")
	require.False(t, *byName["org.brinecast.helper"].Target.Exists)
	require.True(t, *byName["org.tidewatch.gauge"].Target.Exists)
	require.Contains(t, p.OK(t, "list"), "archive-mac")
	before := testkit.Tree(t, p.Root)
	p.OK(t, "disable", "org.brinecast.helper", "org.gullrock.welcome*", "location=macos.launch-*", "--yes")
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// As a person without rights: what cannot be read is named, and what cannot be
// written is told before anything is touched.
func TestMacWithoutRights(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "dropping rights")
	p := archive(t)
	for dir := p.Root; dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	testkit.Readable(t)
	for _, closed := range []string{"private/var/db/dslocal", "private/var/db/com.apple.backgroundtaskmanagement",
		"private/var/at/jobs", "Users/annika"} {
		require.NoError(t, os.Chmod(filepath.Join(p.Root, closed), 0o700))
	}
	state := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(state), 0o755))
	require.NoError(t, os.Chown(state, 501, 501))
	before := testkit.Tree(t, p.Root)
	asMirela := testkit.Program{Root: p.Root, Store: filepath.Join(state, "record.db"), Prefix: []string{"setpriv",
		"--reuid=501", "--regid=501", "--clear-groups"}}
	list, now := asMirela.List(t)
	require.Contains(t, now, "com.apple.speedkeeper/mirela", "the homes tell whose there are")
	require.Contains(t, now, "org.fogbell.sync/jonas")
	unread := map[string]string{}
	for _, u := range list.Unread {
		unread[u.Path] = u.Reason
	}
	for _, place := range []string{"/private/var/db/com.apple.backgroundtaskmanagement", "/private/var/at/jobs",
		"/Users/annika", "/private/var/at/tabs/mirela"} {
		require.Equal(t, "permission denied", unread[place], "%v", unread)
	}
	require.Equal(t, "enabled", now["org.kelpline.telemetry"].State, "what System Settings say is not known")
	asMirela.OK(t, "snapshot")
	for _, args := range [][]string{{"disable", "org.kelpline.updater", "--yes"}, {"disable", "com.apple.speedkeeper",
		"--yes"}, {"disable", "Fogbell", "Kelpline", "--yes"}} {
		asMirela.Fails(t, 4, "needs more rights; run as root", args...)
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
	asMirela.OK(t, "disable", "location=macos.reopen", "--yes") // her own
	asMirela.OK(t, "disable", "Kelpline", "--yes")
	asMirela.OK(t, "restore", "S2", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}
