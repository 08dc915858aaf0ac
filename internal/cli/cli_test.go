//go:build unix

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// workshop builds the museum's workshop box and returns the program set up to
// work on it.
func workshop(t testing.TB) testkit.Program { t.Helper(); return testkit.Museum(t, "workshop-box") }

// everything switchable, guarded or not, parts of the system or not.
var everything = []string{"disable", "state=enabled", "switch!=report", "--all", "--guarded", "--yes"}

func TestDisableAndRestoreIsExact(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	p.OK(t, "snapshot")
	p.OK(t, everything...)
	off, _ := p.List(t, "--all")
	for _, e := range off.Entries {
		require.Equal(t, e.Switch != "report" || e.State == "disabled", e.State == "disabled", "%s (%s)", e.Name,
			e.Mode)
	}
	require.NotEmpty(t, testkit.Differences(before, testkit.Tree(t, p.Root)))
	p.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.OK(t, "compare", "S1")
}

func TestDisableAndUndoIsExact(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	p.OK(t, everything...)
	changed := testkit.Tree(t, p.Root)
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.OK(t, "undo", "C2", "--yes") // an undo can be taken back by its name
	testkit.Same(t, changed, testkit.Tree(t, p.Root))
	p.OK(t, "undo", "C3", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// Each entry alone: off, on again, and everything is as it was.
func TestEachEntryOffAndOn(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	all, _ := p.List(t, "--all", "state=enabled", "switch!=report")
	require.Greater(t, len(all.Entries), 25)
	for _, e := range draw.Some(t, all.Entries, 12) {
		p.OK(t, "disable", e.Handle, "--guarded", "--yes")
		now, _ := p.List(t, e.Handle)
		require.Equal(t, "disabled", now.Entries[0].State, e.Name)
		p.OK(t, "enable", e.Handle, "--yes")
		require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)), e.Name)
	}
}

func TestForOnePersonOnly(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	for _, name := range []string{"Kelpline Assistant", "Fogbell Notifier", "gullrock-welcome.service"} {
		p.OK(t, "disable", name, "--for", "bram", "--yes")
	}
	_, now := p.List(t)
	for _, name := range []string{"Kelpline Assistant", "Fogbell Notifier", "gullrock-welcome.service"} {
		require.Equal(t, "disabled", now[name+"/bram"].State, name)
		require.Equal(t, "enabled", now[name].State, name)
	}
	for _, name := range []string{"Kelpline Assistant", "Fogbell Notifier", "gullrock-welcome.service"} {
		p.OK(t, "enable", name, "user=bram", "--yes")
	}
	_, now = p.List(t)
	require.NotContains(t, now, "Kelpline Assistant/bram")
	for range 6 {
		p.OK(t, "undo", "--yes")
	}
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.Fails(t, 1, "for one user", "disable", "tidewatch.service", "--for", "bram", "--yes")
	p.Fails(t, 2, "no user", "disable", "tidewatch.service", "--for", "nobody", "--yes")
}

func TestNewcomersAreKeptOrSwitchedOff(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	p.OK(t, "disable", "command=/opt/kelpline/*", "--yes")
	crontab := filepath.Join(p.Root, "etc/cron.d/kelpline")
	content, err := os.ReadFile(crontab)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(crontab, append(content, "@daily root /opt/kelpline/bin/care\n"...), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/brinecast"),
		[]byte("@daily root /opt/brinecast/care2\n"), 0o644))
	p.OK(t, "restore", "S1", "--yes")
	_, now := p.List(t)
	require.Equal(t, "enabled", now["care"].State)
	require.Equal(t, "enabled", now["care2"].State)
	require.Equal(t, "enabled", now["updater"].State)
	p.OK(t, "restore", "S1", "--newcomers", "disable", "--yes")
	_, now = p.List(t)
	require.Equal(t, "disabled", now["care"].State)
	require.Equal(t, "disabled", now["care2"].State)
	require.Equal(t, "enabled", now["updater"].State)
}

func TestRestoreOnlySome(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	p.OK(t, "snapshot")
	p.OK(t, "disable", "state=enabled", "--yes")
	// A removed line and a removed file come back too.
	require.NoError(t, os.Remove(filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop")))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/kelpline"), []byte("# empty\n"), 0o644))
	p.OK(t, "restore", "S1", "--only", "Fogbell Sync", "--only", "updater", "--only", "tidewatch.service", "--yes")
	_, now := p.List(t)
	for name, e := range now {
		want := "disabled"
		if name == "Fogbell Sync/ines" || name == "updater" || name == "tidewatch.service" {
			want = "enabled"
		}
		if !e.OSPart && e.Guarded == "" && e.Switch != "report" { // those are not switched without being asked for
			require.Equal(t, want, e.State, name)
		}
	}
	// The comment was written since and is nobody's entry: it is kept, and named.
	require.Contains(t, p.OK(t, "restore", "S1", "--yes"), `"# empty" was added since the snapshot and kept`)
	different := testkit.Differences(before, testkit.Tree(t, p.Root))
	require.Len(t, different, 1)
	require.Contains(t, different[0], "etc/cron.d/kelpline")
}

func TestRestoreWarnsOfProgramsThatAreNotTheSame(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	p.OK(t, "disable", "Fogbell Sync", "tidewatch.service", "--yes")
	require.NoError(t, os.Remove(filepath.Join(p.Root, "opt/fogbell/sync")))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "opt/tidewatch/bin/tidewatchd"), []byte("another"), 0o755))
	var change struct{ Warnings []string }
	p.JSON(t, &change, "restore", "S1", "--dry-run")
	require.Len(t, change.Warnings, 2)
	text := strings.Join(change.Warnings, "\n")
	require.Contains(t, text, `program of "Fogbell Sync" is missing`)
	require.Contains(t, text, `program of "tidewatch.service" was replaced since`)
}

func TestBadUsageIsOneClearLine(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	before := testkit.Tree(t, filepath.Dir(p.Root))
	for _, c := range []struct {
		code  int
		words string
		args  []string
	}{
		{2, `no entry has the handle or name "k7f3qa2"`, []string{"disable", "k7f3qa2", "--yes"}},
		{2, `no entry has the handle or name "Fogbell Snyc"`, []string{"disable", "Fogbell Sync", "Fogbell Snyc",
			"--yes"}},
		{2, "no entry matches", []string{"disable", "user=ines", "stage=boot", "--yes"}},
		{2, "parts of the operating system only", []string{"disable", "location=linux.systemd.system",
			"name=dbus.service", "--yes"}},
		{2, `unknown field "colour"`, []string{"list", "colour=red"}},
		{2, `stage cannot be "sign-n"`, []string{"list", "stage=sign-n"}},
		{2, "not a valid wildcard", []string{"list", "[a"}},
		{2, "there is no S99", []string{"restore", "S99", "--yes"}},
		{2, "there is no S99", []string{"compare", "S99"}},
		{2, "there is no C99", []string{"undo", "C99", "--yes"}},
		{2, `"X1" is not a snapshot`, []string{"compare", "X1"}},
		{2, "unknown format", []string{"list", "--format", "yaml"}},
		{2, "unknown flag", []string{"list", "--frobnicate"}},
		{2, "unknown command", []string{"frobnicate"}},
		{2, `unknown command "brokn" for "lockback culprit"; did you mean broken?`, []string{"culprit", "brokn"}},
		{2, `lockback culprit works stands alone, without "C1"`, []string{"culprit", "works", "C1"}},
		{2, `lockback snapshot stands alone, without "S1"`, []string{"snapshot", "S1"}},
		{2, "disable needs SELECTOR...", []string{"disable"}},
		{2, "add --yes", []string{"disable", "Fogbell Sync"}},
		{2, "can be taken back", []string{"undo", "--yes"}},
		{2, "--newcomers is keep or disable", []string{"restore", "S1", "--newcomers", "drop"}},
		{2, "protected", []string{"disable", "dbus.service", "--all", "--yes"}},
		{1, "cannot be switched for one user only", []string{"enable", "--yes", "name=oldplotter.service", "--for",
			"ines"}},
	} {
		p.Fails(t, c.code, c.words, c.args...)
	}
	testkit.Same(t, before, testkit.Tree(t, filepath.Dir(p.Root)))
	testkit.Program{Root: t.TempDir()}.Fails(t, 2, "etc/os-release", "list")
	testkit.Program{Root: "/nonexistent"}.Fails(t, 2, "no operating system found", "list")
}

func TestAmbiguousName(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	for _, user := range []string{"ines", "bram"} {
		file := filepath.Join(p.Root, "home", user, ".config/autostart/twin.desktop")
		require.NoError(t, os.WriteFile(file,
			[]byte("[Desktop Entry]\nType=Application\nName=Twin\nExec=/opt/fogbell/sync\n"), 0o644))
	}
	p.Fails(t, 2, `"Twin" is the name of 2 entries`, "disable", "Twin", "--yes")
	require.Equal(t, 2, strings.Count(p.OK(t, "show", "Twin"), "  Twin"), "who looks sees both")
	p.OK(t, "disable", "Twin", "user=ines", "--yes")
	_, now := p.List(t)
	require.Equal(t, "disabled", now["Twin/ines"].State)
	require.Equal(t, "enabled", now["Twin/bram"].State)
}

func TestGuardedEntriesAreLeftOutAndNamed(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	r := p.Run(t, "disable", "linux*", "location=linux.systemd.system", "name!=x", "--all", "--yes")
	require.Equal(t, 2, r.Code) // no name begins with linux
	r = p.Run(t, "disable", "*.service", "--all", "--yes")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Err, "dbus.service: the machine needs it to start")
	require.Contains(t, r.Err, "lightdm.service: needed to show a screen")
	_, now := p.List(t, "--all")
	for name, e := range now {
		if strings.HasSuffix(name, ".service") && strings.HasPrefix(e.Location, "linux.systemd") {
			require.Equal(t, e.Guarded != "", e.State == "enabled", name)
		}
	}
}

// What is missed late is turned off where it is named, and by no larger selection.
func TestThinkTwice(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	r := p.Run(t, "disable", "*.timer", "--all", "--yes")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Err, "left out because they need a second thought (name them one by one, or --guarded "+
		"takes them too):")
	require.Contains(t, r.Err, "fstrim.timer: it keeps disks and files in order")
	_, now := p.List(t, "--all")
	require.Equal(t, []string{"enabled", "disabled"}, []string{now["fstrim.timer"].State,
		now["kelpline-updater.timer"].State})
	p.OK(t, "undo", "--yes")
	p.Fails(t, 2, "needs a second thought; name the entries one by one", "disable", "fstrim*", "--all", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	require.Contains(t, p.OK(t, "disable", "fstrim.timer", "--all", "--dry-run"),
		"think twice about fstrim.timer: it keeps disks and files in order")
	p.OK(t, "disable", now["fstrim.timer"].Handle, "--yes")
	p.OK(t, "undo", "--yes")
	p.OK(t, "disable", "fstrim*", "--all", "--guarded", "--yes")
	_, now = p.List(t, "--all")
	require.Equal(t, "disabled", now["fstrim.timer"].State)
}

// A program that only calls itself a part of the system is none.
func TestImpostorsAreNotTakenForTheSystem(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	unit := []byte("[Service]\nExecStart=/opt/x/y\n[Install]\nWantedBy=multi-user.target\n")
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/systemd/system/systemd-helper.service"), unit, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "usr/lib/systemd/system/systemd-extra.service"), unit, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/logrotate"),
		[]byte("@daily root /opt/x/logrotate\n"), 0o644))
	_, now := p.List(t)
	for _, name := range []string{"systemd-helper.service", "systemd-extra.service", "logrotate"} {
		require.Contains(t, now, name)
		require.False(t, now[name].OSPart)
	}
}

func TestDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "gullrock")
	out := testkit.Program{}.OK(t, "demo", "--keep", dir)
	require.Contains(t, out, "C1 done: ")
	require.Contains(t, out, "S1 has the state before")
	require.NotContains(t, out, "\x1b")
	require.NotContains(t, out, "\u202e")
	kept := testkit.Program{Root: filepath.Join(dir, "office-laptop"), Store: filepath.Join(dir, "record.db")}
	kept.OK(t, "history")
	testkit.Program{}.Fails(t, 1, "is there already", "demo", "--keep", dir)
}

// What would stop a protected entry is left out however much is chosen with it, each cause by itself and two that do it
// together; and what does no harm goes off.
func TestProtectedHoldsAtAnySize(t *testing.T) {
	t.Parallel()
	const wants = "etc/systemd/system/multi-user.target.wants/"
	for _, jobs := range []int{0, 20, 205, 3000} {
		p := workshop(t)
		require.NoError(t, os.Remove(filepath.Join(p.Root,
			"usr/lib/systemd/system/multi-user.target.wants/systemd-logind.service")))
		write(t, p, "etc/systemd/system/tidewatch.service",
			"[Unit]\nWants=systemd-logind.service\n[Service]\nExecStart=/opt/tidewatch/bin/tidewatchd\n[Install]\nWantedBy=multi-user.target\n")
		write(t, p, "etc/systemd/system/harmless.service",
			"[Service]\nExecStart=/opt/tidewatch/bin/tidewatchd\n[Install]\nWantedBy=multi-user.target\n")
		require.NoError(t, os.Symlink("/etc/systemd/system/harmless.service",
			filepath.Join(p.Root, wants+"harmless.service")))
		var table strings.Builder
		for k := range jobs {
			fmt.Fprintf(&table, "0 1 * * * root /opt/tidechart/job%d\n", k)
		}
		write(t, p, "etc/cron.d/tide", table.String())
		before := testkit.Tree(t, p.Root)
		choose := []string{"disable", "tidewatch.service", "harmless.service", "--yes"}
		if jobs > 0 {
			choose = append(choose, "job*")
		}
		r := p.Run(t, choose...)
		require.Zero(t, r.Code, r.Err)
		require.Contains(t, r.Err, "tidewatch.service: systemd-logind.service would stop with it, and is protected",
			jobs)
		require.Equal(t, 1, strings.Count(r.Err, "would stop with it"), r.Err)
		list, now := p.List(t, "--all")
		require.Equal(t, []string{"enabled", "disabled", "enabled"}, []string{now["tidewatch.service"].State,
			now["harmless.service"].State, now["systemd-logind.service"].State})
		off := 0
		for _, e := range list.Entries {
			if e.Source.Path == "/etc/cron.d/tide" && e.State == "disabled" {
				off++
			}
		}
		require.Equal(t, jobs, off)
		p.OK(t, "undo", "--yes")
		testkit.Same(t, before, testkit.Tree(t, p.Root))
		// Alone it is refused, and asked for it goes.
		p.Fails(t, 2, "every match would also stop a protected entry", "disable", "tidewatch.service", "--yes")
		require.Contains(t, p.OK(t, "disable", "tidewatch.service", "--guarded", "--yes"),
			"systemd-logind.service stops too")
		p.OK(t, "undo", "--yes")
		// Two that each start it: one of them stays.
		write(t, p, "etc/systemd/system/harmless.service",
			"[Unit]\nWants=systemd-logind.service\n[Service]\nExecStart=/opt/tidewatch/bin/tidewatchd\n[Install]\nWantedBy=multi-user.target\n")
		r = p.Run(t, choose...)
		require.Zero(t, r.Code, r.Err)
		require.Equal(t, 1, strings.Count(r.Err, "would stop with it"), r.Err)
		_, now = p.List(t, "--all")
		require.Equal(t, "enabled", now["systemd-logind.service"].State)
		require.NotEqual(t, now["tidewatch.service"].State, now["harmless.service"].State)
	}
}
