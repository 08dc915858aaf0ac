//go:build linux

package peers

import (
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// units asks systemctl for the state of every unit file of a root.
func units(t *testing.T, root string, args ...string) map[string]string {
	t.Helper()
	cmd := exec.Command("systemctl", append(args, "--root="+root, "list-unit-files", "--no-legend", "--no-pager")...)
	out, err := cmd.Output()
	require.NoError(t, err)
	states := map[string]string{}
	for line := range strings.Lines(string(out)) {
		if f := strings.Fields(line); len(f) >= 2 {
			states[f[0]] = f[1]
		}
	}
	return states
}

// isEnabled asks systemctl for the state of one unit.
func isEnabled(root, unit string, args ...string) string {
	out, _ := exec.Command("systemctl", append(args, "--root="+root, "is-enabled", unit)...).Output()
	return strings.TrimSpace(string(out))
}

// startable are the kinds of units that we list.
func startable(unit string) bool {
	switch filepath.Ext(unit) {
	case ".service", ".socket", ".timer", ".path":
		return !strings.Contains(unit, "@.")
	}
	return false
}

// judgeUnits holds our modes against systemctl's words, entry by entry and the
// other way round.
func judgeUnits(t *testing.T, p testkit.Program, location string, args ...string) (compared int) {
	t.Helper()
	_, ours := p.List(t, "--all", "location="+location, "scope=system")
	theirs := units(t, p.Root, args...)
	require.NotEmpty(t, theirs)
	for unit, state := range theirs {
		if !startable(unit) {
			continue
		}
		e, listed := ours[unit]
		if !listed {
			if target, err := os.Readlink(filepath.Join(p.Root, "usr/lib/systemd/system", unit)); err == nil &&
				filepath.Base(target) != unit {
				continue // an alias has the state of what it stands for
			}
			// Started by nothing of itself, and nothing to switch.
			require.Contains(t, []string{"static", "alias", "indirect"}, state, unit)
			continue
		}
		compared++
		require.Equal(t, state, e.Mode, unit)
	}
	for name, e := range ours {
		if _, ok := theirs[name]; !ok {
			require.Equal(t, isEnabled(p.Root, name, args...), e.Mode, name)
			compared++
		}
		// What systemctl calls off must be off with us, and the other way round.
		switch e.Mode {
		case "enabled":
			require.Equal(t, "enabled", e.State, name)
		case "masked":
			require.Equal(t, "disabled", e.State, name)
		}
	}
	return compared
}

// judgeXDG runs systemd's own generator for the person and wants a unit for each
// entry that would start, and none for the others.
func judgeXDG(t *testing.T, p testkit.Program, user, home string) (started int) {
	t.Helper()
	out := filepath.Join(p.Root, "generated")
	require.NoError(t, os.RemoveAll(out))
	for _, d := range []string{"a", "b", "c"} {
		require.NoError(t, os.MkdirAll(filepath.Join(out, d), 0o755))
	}
	cmd := exec.Command("chroot", p.Root, "/usr/lib/systemd/user-generators/systemd-xdg-autostart-generator",
		"/generated/a", "/generated/b", "/generated/c")
	cmd.Env = []string{"HOME=" + home, "XDG_CONFIG_HOME=" + home + "/.config", "XDG_CONFIG_DIRS=/etc/xdg",
		"SYSTEMD_LOG_LEVEL=err", "PATH=/usr/bin:/usr/sbin"}
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, string(text))
	theirs := map[string]bool{}
	files, err := filepath.Glob(filepath.Join(out, "*", "app-*@autostart.service"))
	require.NoError(t, err)
	for _, f := range files {
		name := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(f), "app-"), "@autostart.service")
		name = strings.NewReplacer(`\x2d`, "-", `\x20`, " ").Replace(name)
		theirs[name] = true
	}
	require.NoError(t, os.RemoveAll(out))
	list, _ := p.List(t, "--all", "location=linux.xdg-autostart")
	ours := map[string]bool{}
	own := map[string]bool{}
	for _, e := range list.Entries {
		if e.User == user {
			own[filepath.Base(e.Source.Path)] = true
		}
	}
	for _, e := range list.Entries {
		base := filepath.Base(e.Source.Path)
		if e.User != user && (e.User != "" || own[base]) || strings.HasPrefix(e.Source.Path, "/usr/share/") {
			continue // somebody else's, overridden, or in a place that the generator does not read
		}
		// The generator leaves what names a phase of a desktop's own to that
		// desktop, and does not look at GNOME's switch.
		content, err := os.ReadFile(filepath.Join(p.Root, e.Source.Path))
		if err == nil && (strings.Contains(string(content), "X-GNOME-Autostart-Phase=") ||
			strings.Contains(string(content), "X-systemd-skip=true")) {
			continue
		}
		if strings.HasPrefix(e.Mode, "off in the desktop's settings") {
			delete(theirs, strings.TrimSuffix(base, ".desktop"))
			continue
		}
		missing := e.Target.Exists != nil && !*e.Target.Exists
		if e.State == "enabled" && !missing {
			ours[strings.TrimSuffix(base, ".desktop")] = true
		}
	}
	require.Equal(t, keys(theirs), keys(ours))
	return len(ours)
}

func keys(m map[string]bool) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	sort.Strings(list)
	return list
}

// judgePeriodic holds our list against what run-parts would run.
func judgePeriodic(t *testing.T, p testkit.Program) (run int) {
	t.Helper()
	list, _ := p.List(t, "--all", "location=linux.cron.periodic")
	ours := map[string]bool{}
	for _, e := range list.Entries {
		if e.State == "enabled" {
			ours[e.Source.Path] = true
		}
	}
	theirs := map[string]bool{}
	for _, dir := range []string{"hourly", "daily", "weekly", "monthly"} {
		dir = "/etc/cron." + dir
		if _, err := os.Stat(filepath.Join(p.Root, dir)); err != nil {
			continue
		}
		for line := range strings.Lines(testkit.Shell(t, "chroot "+p.Root+" run-parts --test "+dir)) {
			theirs[strings.TrimSpace(line)] = true
		}
	}
	require.Equal(t, keys(theirs), keys(ours))
	return len(ours)
}

// furnish adds what a desktop has beside its packages: a person, their own
// entries, and the odd cases of each location.
func furnish(t *testing.T, root string) {
	t.Helper()
	put := func(name, content string, mode os.FileMode) {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), mode))
		require.NoError(t, os.Chmod(name, mode))
	}
	link := func(name, target string) {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.Symlink(target, name))
	}
	desktop := func(exec string, more ...string) string {
		return "[Desktop Entry]\nType=Application\nName=" + exec + "\nExec=" + exec + "\n" + strings.Join(more, "\n") +
			"\n"
	}
	testkit.Shell(t, "chroot "+root+" useradd -m -u 1000 ines")
	own, all := "home/ines/.config/autostart/", "etc/xdg/autostart/"
	put(own+"plain.desktop", desktop("/bin/true"), 0o644)
	put(own+"spaces in name.desktop", desktop(`"/bin/true" "an argument"`), 0o644)
	put(own+"hidden.desktop", desktop("/bin/true", "Hidden=true"), 0o644)
	put(own+"off-in-gnome.desktop", desktop("/bin/true", "X-GNOME-Autostart-enabled=false"), 0o644)
	put(own+"gone.desktop", desktop("/opt/gone/away"), 0o644)
	put(own+"try-gone.desktop", desktop("/bin/true", "TryExec=/opt/gone/away"), 0o644)
	put(own+"try-there.desktop", desktop("/bin/true", "TryExec=true"), 0o644)
	put(own+"only.desktop", desktop("/bin/true", "OnlyShowIn=GNOME;"), 0o644)
	put(own+"not.desktop", desktop("/bin/true", "NotShowIn=KDE;XFCE;"), 0o644)
	put(own+"nocommand.desktop", "[Desktop Entry]\nType=Application\nName=x\n", 0o644)
	put(own+"garbage.desktop", "\x00\x01 not a desktop entry", 0o644)
	put(own+"a-link.desktop", desktop("/bin/true"), 0o644)
	put(own+"not-a.desktop.bak", desktop("/bin/true"), 0o644)
	put(all+"both.desktop", desktop("/bin/true"), 0o644)
	put(own+"both.desktop", desktop("/bin/true", "Hidden=true"), 0o644)
	put(all+"revived.desktop", desktop("/bin/true", "Hidden=true"), 0o644)
	put(own+"revived.desktop", desktop("/bin/false"), 0o644)
	link(own+"masked.desktop", "/dev/null")
	testkit.Shell(t, "chroot "+root+" chown -R ines:ines /home/ines")

	lib, etc := "usr/lib/systemd/system/", "etc/systemd/system/"
	put(lib+"tide@.service", "[Service]\nExecStart=/bin/true "+
		"%i\n[Install]\nWantedBy=multi-user.target\nDefaultInstance=low\n", 0o644)
	link(etc+"multi-user.target.wants/tide@high.service", "/usr/lib/systemd/system/tide@.service")
	put("opt/lamp/lamp.service", "[Service]\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	link(etc+"lamp.service", "/opt/lamp/lamp.service")
	put(lib+"also.service", "[Service]\nExecStart=/bin/true\n[Install]\nAlso=tidewatch.socket\n", 0o644)
	put(lib+"required.service",
		"[Service]\nExecStart=/bin/true\n[Install]\nRequiredBy=multi-user.target\nAlias=second-name.service\n", 0o644)
	link(etc+"multi-user.target.requires/required.service", "/usr/lib/systemd/system/required.service")
	link(etc+"second-name.service", "/usr/lib/systemd/system/required.service")
	put(lib+"pulled.service", "[Service]\nExecStart=/bin/true\n", 0o644)
	put(lib+"multi-user.target.d/10-pull.conf", "[Unit]\nWants=pulled.service\n", 0o644)
	put(lib+"fogbell.service", "[Service]\nExecStart=/bin/false\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	put(etc+"fogbell.service", "[Service]\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	link(etc+"multi-user.target.wants/fogbell.service", "/etc/systemd/system/fogbell.service")
	put(etc+"own-and-pulled.service", "[Service]\nExecStart=/bin/true\n", 0o644)
	put(lib+"basic.target.d/10-pull.conf", "[Unit]\nWants=own-and-pulled.service\n", 0o644)
	link(etc+"masked-by-hand.service", "/dev/null")

	put("etc/cron.daily/name.with.dots", "#!/bin/sh\n", 0o755)
	put("etc/cron.daily/under_score-1", "#!/bin/sh\n", 0o755)
	put("etc/cron.daily/not-executable", "#!/bin/sh\n", 0o644)
	put("etc/cron.daily/backup~", "#!/bin/sh\n", 0o755)
	link("etc/cron.weekly/linked", "/etc/cron.daily/under_score-1")
}

func TestJudgesAgreeEntryByEntry(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "systemctl", "run-parts")
	root := testkit.Debian(t, "desktop")
	furnish(t, root)
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	judge := func(when string) {
		t.Helper()
		system := judgeUnits(t, p, "linux.systemd.system")
		global := judgeUnits(t, p, "linux.systemd.user", "--global")
		xdg := judgeXDG(t, p, "ines", "/home/ines")
		periodic := judgePeriodic(t, p)
		t.Logf("%s: %d system units, %d units of everyone's sign-in, %d XDG entries that start, %d periodic "+
			"scripts that run", when, system, global, xdg, periodic)
	}
	addressesTellNobody(t, p)
	before := testkit.Tree(t, root)
	judge("before")
	p.OK(t, "snapshot")
	p.OK(t, "disable", "state=enabled", "switch!=report", "--all", "--guarded", "--yes")
	list, _ := p.List(t, "--all")
	for _, e := range list.Entries {
		if e.Switch == "report" {
			continue
		}
		require.Equal(t, "disabled", e.State, "%s: %s", e.Name, e.Mode)
		// The judges agree that each of them is off.
		if startable(e.Name) && e.Scope == "system" {
			args := []string{}
			if e.Location == "linux.systemd.user" {
				args = append(args, "--global")
			}
			require.NotContains(t, []string{"enabled", "enabled-runtime", "alias"}, isEnabled(root, e.Name, args...),
				e.Name)
		}
	}
	judge("disabled")
	p.OK(t, "restore", "S1", "--yes")
	judge("restored")
	after := testkit.Tree(t, root)
	delete(before, ".") // a judge made a folder of its own there
	delete(after, ".")
	testkit.Same(t, before, after)
}

// addressesTellNobody wants no address to look something up at to hold a user's name or home: over all that starts on
// the desktop, where some of it is a user's own.
func addressesTellNobody(t *testing.T, p testkit.Program) {
	t.Helper()
	// The desktop gets two users with something of their own, some of it named after them.
	passwd, err := os.ReadFile(filepath.Join(p.Root, "etc/passwd"))
	require.NoError(t, err)
	users := []string{"ines", "odile"}
	for k, name := range users {
		passwd = fmt.Appendf(passwd, "%s:x:%d:%d::/home/%s:/bin/bash\n", name, 1000+k, 1000+k, name)
		file := filepath.Join(p.Root, "home", name, ".config/autostart", name+"-notes.desktop")
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte("[Desktop Entry]\nType=Application\nName=Notes of "+name+
			"\nExec=/home/"+name+"/bin/"+name+"-notes --home /home/"+name+"\n"), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/passwd"), passwd, 0o644))
	words := append(users, "/", "\\", "%2F")
	p.Env = []string{"LOCKBACK_SEARCH=https://search.example?q={}"}
	var up struct {
		Programs []struct {
			Entry  testkit.Entry
			Search string
		}
	}
	p.JSON(t, &up, "lookup", "name=*", "--every-entry")
	with := 0
	for _, program := range up.Programs {
		address := strings.TrimPrefix(program.Search, "https://search.example?q=")
		plain, err := url.QueryUnescape(address)
		require.NoError(t, err)
		for _, word := range words {
			require.NotContains(t, strings.ToLower(address), strings.ToLower(word), program.Entry.Name)
			require.NotContains(t, strings.ToLower(plain), strings.ToLower(word), program.Entry.Name)
		}
		if plain != "" {
			with++
		}
	}
	require.Greater(t, with, 100)
	for _, name := range users {
		require.NoError(t, os.RemoveAll(filepath.Join(p.Root, "home", name, ".config/autostart",
			name+"-notes.desktop")))
	}
	t.Logf("%d of %d entries have an address; none has one of %q", with, len(up.Programs), words)
}
