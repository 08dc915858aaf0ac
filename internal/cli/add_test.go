//go:build unix

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/shelllink"
	"lockback/internal/testkit"
)

// hostileArguments are what a command line must pass on as it is.
var hostileArguments = []string{`it "is" $5 100%`, `back\slash`, `end\`, `a;b&c|d`, "`id`", `$HOME`, `%u %%`, "",
	`'quoted'`, "ünïcode", `\"`, `{x}`, `~`, "-"}

// addition is something that is added to a machine of the museum.
type addition struct {
	machine string
	args    []string
	program string
}

var additions = []addition{
	{"workshop-box", []string{"--name", "Tide board", "--at", "sign-in", "--for", "ines"}, "/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "Tide board", "--at", "sign-in"}, "/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "Tide watch 100%", "--at", "startup"}, "/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "Tide watch", "--at", "startup", "--for", "bram"}, "/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "Night copy", "--at-time", "02:30"}, "/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "Hourly look", "--every", "90m", "--for", "ines"}, "/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "lockback:off 50%", "--at", "startup", "--as", "cron"},
		"/opt/kelpline/bin/updater"},
	{"workshop-box", []string{"--name", "Night copy", "--at-time", "02:30", "--for", "ines", "--as", "cron"},
		"/opt/kelpline/bin/updater"},
	{"ticket-desk-pc", []string{"--name", "Tide board", "--at", "sign-in"}, `C:\Program Files\Tidewatch\report.exe`},
	{"ticket-desk-pc", []string{"--name", "Tide board", "--at", "sign-in", "--for", "odile"},
		`C:\Program Files\Tidewatch\report.exe`},
	{"ticket-desk-pc", []string{"--name", "Tide board", "--at", "sign-in", "--as", "shortcut"},
		`C:\Program Files\Tidewatch\report.exe`},
	{"ticket-desk-pc", []string{"--name", "Tide board", "--at", "sign-in", "--as", "shortcut", "--for", "tomas"},
		`C:\Program Files\Tidewatch\report.exe`},
	{"ticket-desk-pc", []string{"--name", "Tide watch", "--at", "startup", "--as", "service"},
		`C:\Program Files\Tidewatch\report.exe`},
	{"archive-mac", []string{"--name", "Tide board", "--at", "sign-in", "--for", "mirela"},
		"/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"},
	{"archive-mac", []string{"--name", "Tide board", "--at", "sign-in"},
		"/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"},
	{"archive-mac", []string{"--name", "Tide watch", "--at", "startup"},
		"/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"},
	{"archive-mac", []string{"--name", "Night copy", "--at-time", "23:05", "--for", "jonas"},
		"/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"},
	{"archive-mac", []string{"--name", "Night copy", "--every", "1h"},
		"/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"},
}

func (a addition) command(more ...string) []string {
	return append(append(append([]string{"add"}, a.args...), "--yes", "--", a.program), more...)
}

// What is added is listed with its program, is turned off and on, removed and brought back like any other, and undo
// leaves nothing of it.
func TestAdd(t *testing.T) {
	t.Parallel()
	for _, a := range additions {
		t.Run(a.machine+" "+strings.Join(a.args, " "), func(t *testing.T) {
			t.Parallel()
			p := museum(t, a.machine)
			exact := a.machine != "ticket-desk-pc"
			before, _ := p.List(t, "--all")
			tree := testkit.Tree(t, p.Root)
			p.OK(t, a.command(hostileArguments...)...)
			var new []testkit.Entry
			known := map[string]bool{}
			for _, e := range before.Entries {
				known[e.Handle] = true
			}
			after, _ := p.List(t, "--all")
			for _, e := range after.Entries {
				if !known[e.Handle] {
					new = append(new, e)
				}
			}
			require.NotEmpty(t, new)
			var main []string // for each user, where a system lists it so
			for _, e := range new {
				require.Equal(t, a.program, e.Target.Path, e.Name)
				if e.State == "enabled" {
					main = append(main, e.Handle)
				}
			}
			require.NotEmpty(t, main)
			on := func(words ...string) {
				t.Helper()
				p.OK(t, append(append([]string{words[0]}, main...), append(words[1:], "--yes")...)...)
			}
			p.Fails(t, 2, "that name is taken", a.command()...)
			made := testkit.Tree(t, p.Root)
			on("disable")
			on("enable")
			if exact {
				require.Empty(t, testkit.Differences(made, testkit.Tree(t, p.Root)))
			}
			on("disable")
			on("remove", "--now", "-m", "x")
			on("enable")
			if exact && len(main) == 1 { // launchd's word for several users is one file of many
				require.Empty(t, testkit.Differences(made, testkit.Tree(t, p.Root)))
			}
			p.OK(t, "restore", "S1", "--yes")
			after, _ = p.List(t, "--all")
			require.Equal(t, len(before.Entries), len(after.Entries))
			if exact {
				require.Empty(t, testkit.Differences(tree, testkit.Tree(t, p.Root)))
			}
			p.OK(t, a.command()...)
			p.OK(t, "undo", "--yes")
			if exact {
				require.Empty(t, testkit.Differences(tree, testkit.Tree(t, p.Root)))
			}
		})
	}
}

// The systems' own checkers and readers find what was written valid, with just these arguments.
func TestAddedIsValid(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "desktop-file-validate", "systemd-analyze", "plistutil", "lnkinfo")
	t.Run("autostart file", func(t *testing.T) {
		p := workshop(t)
		p.OK(t, additions[0].command(hostileArguments...)...)
		out, err := exec.Command("desktop-file-validate",
			filepath.Join(p.Root, "home/ines/.config/autostart/tide-board.desktop")).CombinedOutput()
		require.NoError(t, err, string(out))
		require.Empty(t, string(out))
		info, err := os.Stat(filepath.Join(p.Root, "home/ines/.config/autostart/tide-board.desktop"))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o644), info.Mode())
	})
	t.Run("units", func(t *testing.T) {
		p := workshop(t)
		// systemd-analyze looks for the program on this machine.
		program := filepath.Join(t.TempDir(), "pro gram")
		require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"), 0o755))
		inside := filepath.Join(p.Root, program)
		require.NoError(t, os.MkdirAll(filepath.Dir(inside), 0o755))
		require.NoError(t, os.WriteFile(inside, []byte("#!/bin/sh\n"), 0o755))
		for _, args := range [][]string{{"--name", "a 1%", "--at", "startup"}, {"--name", "b", "--at-time", "02:30"},
			{"--name", "c", "--every", "90m"}, {"--name", "d", "--every", "1d"}} {
			a := addition{"", args, program}
			p.OK(t, a.command(hostileArguments...)...)
		}
		for _, name := range []string{"a-1.service", "b.service", "b.timer", "c.timer", "d.timer"} {
			u := filepath.Join(p.Root, "etc/systemd/system", name)
			out, err := exec.Command("systemd-analyze", "verify", "--man=no", "--recursive-errors=no",
				u).CombinedOutput()
			require.NoError(t, err, "%s: %s", u, out)
			require.NotContains(t, string(out), filepath.Base(u), "%s", out)
		}
	})
	t.Run("time spans", func(t *testing.T) {
		p := workshop(t)
		timer := filepath.Join(p.Root, "etc/systemd/system/tidewatch.timer")
		for _, after := range []string{"1s", "10s", "90s", "10m", "61m", "90m", "10h", "20h20m20s", "24h"} {
			p.OK(t, "delay", "tidewatch.service", after, "--yes")
			content, err := os.ReadFile(timer)
			require.NoError(t, err)
			out, err := exec.Command("systemd-analyze", "timespan",
				regexp.MustCompile(`OnBootSec=(.*)`).FindStringSubmatch(string(content))[1]).CombinedOutput()
			require.NoError(t, err, string(out))
			want, err := time.ParseDuration(after)
			require.NoError(t, err)
			require.Regexp(t, `s: `+strconv.FormatInt(want.Microseconds(), 10)+`\n`, string(out), after)
			p.OK(t, "undo", "--yes")
		}
	})
	t.Run("property list", func(t *testing.T) {
		p := museum(t, "archive-mac")
		a := additions[13]
		p.OK(t, a.command(hostileArguments...)...)
		out, err := exec.Command("plistutil", "-i",
			filepath.Join(p.Root, "Users/mirela/Library/LaunchAgents/local.tide-board.plist"), "-f",
			"xml").CombinedOutput()
		require.NoError(t, err, string(out))
		require.Regexp(t, `<key>RunAtLoad</key>\s*<true/>`, string(out))
		for _, arg := range hostileArguments[1:3] {
			require.Contains(t, string(out), "<string>"+arg+"</string>")
		}
	})
	t.Run("shortcut", func(t *testing.T) {
		p := museum(t, "ticket-desk-pc")
		a := additions[11]
		p.OK(t, a.command("--full", `two words`)...)
		file := filepath.Join(p.Root, "Users/tomas/AppData/Roaming/Microsoft/Windows/Start "+
			"Menu/Programs/Startup/Tide board.lnk")
		out, err := exec.Command("lnkinfo", file).CombinedOutput()
		require.NoError(t, err, string(out))
		require.Contains(t, string(out), `C:\Program Files\Tidewatch\report.exe`)
		require.Contains(t, string(out), `--full "two words"`)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		link, err := shelllink.Parse(content)
		require.NoError(t, err)
		require.Equal(t, a.program, link.Target())
	})
}

// What is counted from the start of a machine may never come on one that is turned off each evening.
func TestAddWarnsOfLongIntervals(t *testing.T) {
	t.Parallel()
	const never = "the 24 h are counted from each start"
	for _, k := range []int{5, 17} {
		a := additions[k]
		every := slices.Index(a.args, "--every") + 1
		p := museum(t, a.machine)
		require.NotContains(t, p.OK(t, a.command()...), "counted from each start")
		p.OK(t, "undo", "--yes")
		a.args = slices.Clone(a.args)
		a.args[every] = "1d"
		r := p.Run(t, a.command()...)
		require.Contains(t, r.Out+r.Err, never)
	}
}

// What cannot be added is said in one line, and nothing is done.
func TestAddRefuses(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	const program = "/opt/kelpline/bin/updater"
	for _, c := range []struct {
		words string
		args  []string
	}{
		{"give it a name", []string{"--at", "sign-in", "--", program}},
		{"say when it starts", []string{"--name", "x", "--", program}},
		{"name the program", []string{"--name", "x", "--at", "sign-in"}},
		{"is a folder", []string{"--name", "x", "--at", "sign-in", "--", "/opt/kelpline"}},
		{"is not there", []string{"--name", "x", "--at", "sign-in", "--", "/opt/kelpline/none"}},
		{"is not executable", []string{"--name", "x", "--at", "sign-in", "--", "/etc/hostname"}},
		{"give its whole path", []string{"--name", "x", "--at", "sign-in", "--", "updater"}},
		{"no user \"nobody-here\"", []string{"--name", "x", "--at", "sign-in", "--for", "nobody-here", "--", program}},
		{"it is sign-in or startup", []string{"--name", "x", "--at", "boot", "--", program}},
		{"give only one of", []string{"--name", "x", "--every", "1h", "--at-time", "01:00", "--", program}},
		{"give only one of", []string{"--name", "x", "--at", "startup", "--every", "1h", "--", program}},
		{"is not a time such as", []string{"--name", "x", "--every", "often", "--", program}},
		{"is not from 1 min", []string{"--name", "x", "--every", "1s", "--", program}},
		// 25 minutes past what 64 bits hold
		{"is not from 1 min to 31 d", []string{"--name", "x", "--every", "213504d", "--", program}},
		{"a time of the day", []string{"--name", "x", "--at-time", "25:00", "--", program}},
		{"one of autostart", []string{"--name", "x", "--at", "sign-in", "--as", "service", "--", program}},
		{"minutes that an hour is made of", []string{"--name", "x", "--every", "90m", "--as", "cron", "--", program}},
		{"minutes that an hour is made of", []string{"--name", "x", "--every", "61s", "--as", "cron", "--", program}},
		{"cron takes 998", []string{"--name", "x", "--at", "startup", "--as", "cron", "--", program,
			strings.Repeat("x", 980)}},
		{"the name", []string{"--name", " x", "--at", "sign-in", "--", program}},
		{"the name", []string{"--name", "x\ny", "--at", "sign-in", "--", program}},
		{"line break", []string{"--name", "x", "--at", "sign-in", "--", program, "a\nb"}},
		{"cannot be made", []string{"--copy-of", "50-tidewatch"}},
		{"no entry has the handle", []string{"--copy-of", "nothing"}},
	} {
		r := p.Run(t, append([]string{"add", "--yes"}, c.args...)...)
		require.Equal(t, 2, r.Code, c.words)
		require.Contains(t, r.Err, c.words, "%v", c.args)
		require.Equal(t, 1, strings.Count(r.Err, "\n"), r.Err)
	}
	p.OK(t, append([]string{"add", "--dry-run", "--name", "x", "--at", "sign-in", "--"}, program)...)
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// Where systemd does not start the machine and there is no cron, nothing can be made at startup.
	for words, lay := range map[string]string{"not with systemd; cron is not installed": "rm -f usr/lib/systemd/systemd sbin/init usr/sbin/init; touch sbin/openrc-init; ln -s openrc-init sbin/init; rm -f usr/sbin/cron", "not with systemd; there is no /etc/cron.d, and not every cron reads one": "rm -rf etc/cron.d usr/lib/systemd/systemd sbin/init usr/sbin/init; touch sbin/openrc-init; ln -s openrc-init sbin/init"} {
		q := workshop(t)
		testkit.Shell(t, "cd "+q.Root+"; mkdir -p sbin; "+lay)
		before := testkit.Tree(t, q.Root)
		q.Fails(t, 2, words, "add", "--name", "x", "--at", "startup", "--yes", "--", program)
		q.Fails(t, 2, "not with systemd", "add", "--name", "x", "--at", "startup", "--as", "service", "--yes", "--",
			program)
		testkit.Same(t, before, testkit.Tree(t, q.Root))
	}
	// A link that somebody laid in the way leads nowhere.
	trap := filepath.Join(p.Root, "home/ines/.config/autostart/trap.desktop")
	require.NoError(t, os.Symlink("/etc/passwd", trap))
	p.Fails(t, 2, "that name is taken", "add", "--name", "trap", "--at", "sign-in", "--for", "ines",
		"--yes", "--", program)
	// A program of Windows has the ending of one; a task wants the running machine.
	w := museum(t, "ticket-desk-pc")
	w.Fails(t, 2, "none by its ending", "add", "--name", "x", "--at", "sign-in", "--yes", "--",
		`C:\Program Files\Lampwick\spool.dll`)
	w.Fails(t, 2, "by the scheduler of the running machine only", "add", "--name", "x", "--at", "startup", "--yes",
		"--", `C:\Program Files\Tidewatch\report.exe`)
	w.Fails(t, 2, "would need their password", "add", "--name", "x", "--at", "startup", "--as", "service", "--for",
		"odile", "--yes", "--", `C:\Program Files\Tidewatch\report.exe`)
	// The same thing for another user.
	p.OK(t, "add", "--copy-of", "Fogbell Sync", "--for", "bram", "--yes")
	list, _ := p.List(t, "name=Fogbell Sync")
	require.Len(t, list.Entries, 2)
	require.Equal(t, list.Entries[0].Target.Path, list.Entries[1].Target.Path)
}

// What is copied is the program that an entry really starts, with its arguments as they are; what a copy would start
// otherwise is refused.
func TestCopyOf(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ machine, of, command, problem string }{
		// without quotes there
		{"ticket-desk-pc", "Kelpline Updater", `"C:\Program Files (x86)\Kelpline\updater.exe" /quiet`, ""},
		{"ticket-desk-pc", "Gullrock Tickets", `"C:\Program Files\Gullrock\tickets.exe" --full-screen`, ""},
		{"ticket-desk-pc", "Themes Setup", `C:\Windows\System32\regsvr32.exe /s /n /i:/UserInstall ` +
			`C:\Windows\system32\themeui.dll`, ""},
		// rundll32 reads quotes in a way of its own
		{"ticket-desk-pc", "!Kelpline Setup", "", "what it runs cannot be determined"},
		{"ticket-desk-pc", "timetable", "", "what it runs cannot be determined"}, // an address
		{"ticket-desk-pc", "Brinecast", "", "what it runs cannot be determined"}, // its program is gone
		{"workshop-box", "Network", "/usr/bin/nm-applet", ""},                    // by its name there
		{"workshop-box", "Fogbell Notifier", `"/opt/fogbell/Fogbell Notifier" --minimised`, ""},
		{"workshop-box", "tide-database", "", "what it runs cannot be determined"},      // a container
		{"workshop-box", "getty@tty1.service", "", "what it runs cannot be determined"}, // a variable of the unit's
		// runit starts it in a folder
		{"workshop-box", "lampwick-queue", "", "what it runs cannot be determined"},
		{"archive-mac", "org.gullrock.welcome", "/usr/bin/open -g -a Gullrock Welcome", ""},
	} {
		p := museum(t, c.machine)
		of, _ := p.List(t, "--all", "name="+c.of)
		add := []string{"add", "--copy-of", of.Entries[0].Handle, "--name", "A copy", "--at", "sign-in", "--yes"}
		if c.problem != "" {
			p.Fails(t, 2, c.problem, add...)
			continue
		}
		p.OK(t, add...)
		copied, _ := p.List(t, "name=A copy")
		if c.machine == "archive-mac" {
			copied, _ = p.List(t, "name=local.a-copy")
		}
		require.Equal(t, c.command, copied.Entries[0].Command, c.of)
		require.Equal(t, of.Entries[0].Target.Path, copied.Entries[0].Target.Path, c.of)
	}
}

// Delays: where the system has one, and where something waits or starts it instead; undo leaves nothing.
func TestDelay(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ machine, of, now, made, when, by string }{
		{"workshop-box", "Fogbell Sync", "enabled", "", "at sign-in, after 30 s", "30s"},
		{"workshop-box", "Kelpline Assistant", "enabled", "", "at sign-in, after 2 min", "2m"},
		{"workshop-box", "tidewatch.service", "disabled", "tidewatch.timer", "2min after startup", "2m"},
		{"workshop-box", "fogbell-index.service", "disabled", "fogbell-index.timer",
			"10s after the service manager starts", "10s"},
		{"workshop-box", "report", "disabled", "report", "at startup, after 2 min", "2m"},
		{"ticket-desk-pc", "Brinecast screen caster", "enabled", "", "", "2m"},
		{"archive-mac", "org.kelpline.updater", "disabled", "org.kelpline.updater.later", "after 1 h", "1h"},
	} {
		t.Run(c.of, func(t *testing.T) {
			p := museum(t, c.machine)
			before := testkit.Tree(t, p.Root)
			of, _ := p.List(t, "name="+c.of)
			p.OK(t, "delay", of.Entries[0].Handle, c.by, "--yes")
			all, _ := p.List(t, "--all")
			found := false
			for _, e := range all.Entries {
				if e.Handle == of.Entries[0].Handle {
					require.Equal(t, c.now, e.State)
					require.Equal(t, of.Entries[0].Target.Path, e.Target.Path)
				}
				if e.Name == c.made && e.Handle != of.Entries[0].Handle || c.made == "" &&
					e.Handle == of.Entries[0].Handle {
					found = true
					require.Equal(t, of.Entries[0].Target.Path, e.Target.Path)
					require.Equal(t, "enabled", e.State)
					require.Contains(t, e.When, c.when)
				}
			}
			require.True(t, found)
			if c.made == "" && c.machine == "workshop-box" { // again, with another time: it does not wait twice
				p.OK(t, "delay", of.Entries[0].Handle, "45s", "--yes")
				list, _ := p.List(t, of.Entries[0].Handle)
				require.Contains(t, list.Entries[0].When, "after 45 s")
				require.Equal(t, 1, strings.Count(list.Entries[0].Command, "sleep"))
				p.OK(t, "undo", "--yes")
			}
			p.OK(t, "undo", "C1", "--yes")
			if c.machine != "ticket-desk-pc" {
				require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)))
			}
		})
	}
	p := workshop(t)
	for _, c := range [][]string{{"0s", "is not from 1 s to 24 h"}, {"366d", "is not from"},
		{"soon", "is not a time such as"}} {
		p.Fails(t, 2, c[1], "delay", "Fogbell Sync", c[0], "--yes")
	}
	p.Fails(t, 2, "name the entries to delay", "delay", "2m", "--yes")
	p.Fails(t, 1, "cannot be delayed here", "delay", "updater", "2m", "--yes")
	p.Fails(t, 2, "the last of", "delay", "state=enabled", "--spread", "20h", "--yes")
	r := p.Run(t, "delay", "Fogbell Sync", "Kelpline Assistant", "--spread", "10s", "--yes")
	require.Equal(t, 0, r.Code, r.Err)
	require.Contains(t, r.Out, "waits 10 s")
	require.Contains(t, r.Out, "waits 20 s")
}

// A line of a crontab that waits is another line, and only a shell that is known can wait.
func TestDelayOfCrontabLines(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	table := filepath.Join(p.Root, "etc/cron.d/lamps")
	const content = "MAILTO=root\n@reboot  ines\t/bin/true --lamp \\%A %in\n@reboot root /bin/true " +
		"--foghorn\nSHELL=/usr/bin/tide\n@reboot root /bin/true --bell\n"
	require.NoError(t, os.WriteFile(table, []byte(content), 0o644))
	list, _ := p.List(t, "--all", "name=true")
	require.Len(t, list.Entries, 3)
	lamp, foghorn, bell := list.Entries[0].Handle, list.Entries[1].Handle, list.Entries[2].Handle
	p.Fails(t, 1, "runs it with /usr/bin/tide", "delay", bell, "2m", "--yes")
	p.OK(t, "delay", lamp, foghorn, "1m", "--yes")
	const delayed = "MAILTO=root\n#lockback:off @reboot  ines\t/bin/true --lamp \\%A %in\n@reboot ines sleep 60; " +
		"/bin/true --lamp \\%A %in\n" +
		"#lockback:off @reboot root /bin/true --foghorn\n@reboot root sleep 60; /bin/true --foghorn\nSHELL=/usr/bin/tide\n@reboot root /bin/true --bell\n"
	got, err := os.ReadFile(table)
	require.NoError(t, err)
	require.Equal(t, delayed, string(got))
	// What waits already waits for another time then.
	list, _ = p.List(t, "--all", "name=true", "state=enabled")
	p.OK(t, "delay", list.Entries[0].Handle, "90s", "--yes")
	got, err = os.ReadFile(table)
	require.NoError(t, err)
	require.Contains(t, string(got), "\n#lockback:off @reboot ines sleep 60; /bin/true --lamp \\%A %in\n@reboot "+
		"ines sleep 90; /bin/true --lamp")
	p.OK(t, "undo", "--yes")
	p.OK(t, "undo", "C1", "--yes")
	got, err = os.ReadFile(table)
	require.NoError(t, err)
	require.Equal(t, content, string(got))
	// A table that cron skips is not written to.
	require.NoError(t, os.WriteFile(table, []byte(strings.TrimSuffix(content, "\n")), 0o644))
	p.Fails(t, 1, "it is disabled", "delay", lamp, "1m", "--yes")
}

// A service that is delayed keeps its other names, by which sockets, D-Bus and other units ask for it.
func TestDelayKeepsOtherNames(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	const units = "etc/systemd/system/"
	for name, install := range map[string]string{"tideline": "Alias=dbus-org.gullrock.Tideline.service\nWantedBy=multi-user.target", "lamproom": "Alias=multi-user-lamp.service\nWantedBy=default.target"} {
		write(t, p, units+name+".service", "[Service]\nExecStart=/bin/true "+name+"\n[Install]\n"+install+"\n")
	}
	write(t, p, units+"gullrock.target", "[Unit]\nWants=multi-user-lamp.service\n")
	for link, to := range map[string]string{"multi-user.target.wants/tideline.service": "tideline",
		"dbus-org.gullrock.Tideline.service": "tideline", "multi-user.target.wants/lamproom.service": "lamproom",
		"multi-user-lamp.service": "lamproom"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(p.Root, units, link)), 0o755))
		require.NoError(t, os.Symlink("/etc/systemd/system/"+to+".service", filepath.Join(p.Root, units, link)))
	}
	require.NoError(t, os.Symlink("/etc/systemd/system/gullrock.target", filepath.Join(p.Root, units,
		"multi-user.target.wants/gullrock.target")))
	before := testkit.Tree(t, p.Root)
	p.OK(t, "delay", "tideline.service", "90s", "--yes")
	require.FileExists(t, filepath.Join(p.Root, units, "dbus-org.gullrock.Tideline.service"))
	require.NoFileExists(t, filepath.Join(p.Root, units, "multi-user.target.wants/tideline.service"))
	list, _ := p.List(t, "tideline.*")
	require.Len(t, list.Entries, 2)
	for _, e := range list.Entries {
		require.Equal(t, "enabled", e.State)
		require.Contains(t, []string{"when something asks for it as dbus-org.gullrock.Tideline.service",
			"1min 30s after startup"}, e.When)
	}
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.Fails(t, 1, "it is started under another name", "delay", "lamproom.service", "90s", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// Held entries stay off by the system's own means, and come back with enable.
func TestHold(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	require.Contains(t, p.OK(t, "disable", "kelpline-updater.timer", "--hold", "--yes"), "it is masked")
	target, err := os.Readlink(filepath.Join(p.Root, "etc/systemd/system/kelpline-updater.timer"))
	require.NoError(t, err)
	require.Equal(t, "/dev/null", target)
	// What the updater would do changes nothing: systemd does not start what is masked.
	wants := filepath.Join(p.Root, "etc/systemd/system/timers.target.wants/kelpline-updater.timer")
	require.NoError(t, os.Symlink("/usr/lib/systemd/system/kelpline-updater.timer", wants))
	list, _ := p.List(t, "kelpline-updater.timer")
	require.Equal(t, "disabled", list.Entries[0].State)
	require.Empty(t, check(t, p).found())
	require.NoError(t, os.Remove(wants))
	p.OK(t, "enable", "kelpline-updater.timer", "--yes")
	require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)))
	// Off first, held later, and on again.
	p.OK(t, "disable", "kelpline-updater.timer", "--yes")
	p.OK(t, "disable", "kelpline-updater.timer", "--hold", "--yes")
	require.Contains(t, p.Run(t, "disable", "kelpline-updater.timer", "--hold", "--yes").Err, "nothing to do")
	p.OK(t, "enable", "kelpline-updater.timer", "--yes")
	require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)))
	require.Contains(t, p.OK(t, "disable", "report", "--hold", "--yes"), "the system has no way to keep it off")
}

// Killed on the way of making something, or of making it start later, nothing is half done.
func TestAddKilledOnTheWay(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		machine string
		args    []string
	}{
		{"workshop-box", []string{"add", "--name", "Night copy", "--every", "1h", "--for", "ines", "--yes", "--",
			"/opt/kelpline/bin/updater"}},
		{"workshop-box", []string{"delay", "tidewatch.service", "Fogbell Sync", "2m", "--yes"}},
		{"ticket-desk-pc", []string{"add", "--name", "Tide watch", "--at", "startup", "--as", "service", "--yes", "--",
			`C:\Program Files\Tidewatch\report.exe`}},
		{"archive-mac", []string{"delay", "org.kelpline.updater", "1m", "--yes"}},
	} {
		killedOnTheWay(t, c.machine, 3, nil, c.args...)
	}
}

// killedOnTheWay kills a command at some of its points. Settled, and undone where it was done already, the machine is
// as before it: to the byte, of one whose hives count how often they were written to the state of each entry.
func killedOnTheWay(t *testing.T, machine string, every int, prepare []string, args ...string) {
	t.Helper()
	p := museum(t, machine)
	if prepare != nil {
		p.Run(t, prepare...)
	}
	state := func(p testkit.Program) (testkit.Picture, string) {
		all, _ := p.List(t, "--all")
		var b strings.Builder
		for _, e := range all.Entries {
			b.WriteString(e.Handle + e.State + e.Mode + "\n")
		}
		if machine == "ticket-desk-pc" {
			return nil, b.String()
		}
		return testkit.Tree(t, p.Root), b.String()
	}
	tree, entries := state(p)
	done := moved(t, p, filepath.Join(t.TempDir(), "done"))
	done.OK(t, args...)
	_, now := state(done)
	require.NotEqual(t, entries, now, "it did nothing: %v", args)
	for _, w := range wrecks(t, p, every, args...) {
		if r := w.Run(t, "recover", "--yes"); r.Code != 0 && !strings.Contains(r.Err, "no record yet") {
			require.Fail(t, "recover", "%s: %s", w.point, r.Err)
		}
		if _, now := state(w.Program); now != entries {
			w.OK(t, "undo", "--yes")
		}
		after, now := state(w.Program)
		require.Equal(t, entries, now, w.point)
		require.Empty(t, testkit.Differences(tree, after), w.point)
	}
}
