package identify

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/format/desktopentry"
	"lockback/core/format/shellcommand"
	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/location/linux"
	"lockback/core/location/table"
	"lockback/core/machine"
)

// mainWord is the first program of a command that does more than start others.
func mainWord(s started) (word string, ok bool) {
	k := slices.IndexFunc(s.programs, func(p start) bool { return !p.via })
	if k < 0 {
		return "", false
	}
	return s.programs[k].word, true
}

func TestWhatReallyStarts(t *testing.T) {
	for command, want := range map[string]string{
		"/opt/fogbell/sync --tray":                                                    "/opt/fogbell/sync",
		"env A=1 -u B nice -n 10 /opt/fogbell/sync":                                   "/opt/fogbell/sync",
		"sh -c 'exec /opt/fogbell/sync --x'":                                          "/opt/fogbell/sync",
		"/bin/sh -ec 'A=1 /opt/fogbell/sync'":                                         "/opt/fogbell/sync",
		"sh /opt/run.sh":                                                              "/opt/run.sh",
		"python3 /opt/tool.py --x":                                                    "/opt/tool.py",
		"timeout -k 5 30s /opt/fogbell/sync":                                          "/opt/fogbell/sync",
		"sh -c 'test -x /usr/sbin/anacron || { cd / && run-parts /x; }'":              "run-parts",
		"sh -c 'cd / && run-parts --report /etc/cron.hourly'":                         "run-parts",
		"sh -c 'if [ -x /opt/a ] && [ $(date +%d) -le 7 ]; then /opt/a --cron; fi'":   "/opt/a",
		"sh -c 'while :; do sleep 9; /opt/a; done'":                                   "/opt/a",
		"sh -c 'A=$(date) && export A && [[ -x /opt/a ]] && exec nice /opt/a \"$A\"'": "/opt/a",
		"sh -c 'while read x; do kill $x; done; wait; /opt/a'":                        "/opt/a",
		"sh -c 'local x; . /opt/a; /opt/b'":                                           "/opt/a",
		"sh -c 'eval_it() { :; }; shift; type b; /opt/a'":                             "/opt/a",
		"uwsm app -- /opt/a":                                                          "/opt/a",
		"sudo -u ines -- /opt/a":                                                      "/opt/a",
		"su - ines -c '/opt/a --x'":                                                   "/opt/a",
		"runuser -u ines -- /opt/a":                                                   "/opt/a",
		"runuser ines -c /opt/a":                                                      "/opt/a",
		"flock -n /run/x /opt/a":                                                      "/opt/a",
		"flock /run/x -c '/opt/a --x'":                                                "/opt/a",
		"systemd-run --user -p X=y --unit=z /opt/a":                                   "/opt/a",
		"start-stop-daemon --start --pidfile /run/x --exec /opt/a -- --x":             "/opt/a",
		"chroot /srv /opt/a":                                                          "/opt/a",
		"taskset -c 0 /opt/a":                                                         "/opt/a",
		"chrt -f 50 /opt/a":                                                           "/opt/a",
		"env -S 'A=1 /opt/a --x'":                                                     "/opt/a",
		"java -cp /x -jar /opt/a":                                                     "/opt/a",
		"xterm -T x -e /opt/a":                                                        "/opt/a",
		"busybox sh -c /opt/a":                                                        "/opt/a",
		`sh -c '"/opt/Fog Bell/run" 2>&1 | logger'`:                                   "/opt/Fog Bell/run",
	} {
		started := startedBy(unitfile.SplitCommand(command), nil)
		got, ok := mainWord(started)
		require.True(t, ok, command)
		require.Equal(t, want, got, command)
	}
	for _, unknown := range []string{"", "sh -c '$HOME/bin/run'", "sh -c", "sh script", "$X", "sh -c 'exec /opt/*/run'",
		"sh -c '/opt/$X/run'", "sh -c '~/bin/run'", "sh -c 'nice \"$(which a)\"'",
		"sh -c '((((('", "sh -c 'eval /opt/a'", "sh -c '. $x'", "sh -c 'read x'", "sh -c 'source run.sh'",
		"sh -c 'case $1 in start) ;; esac'"} {
		started := startedBy(unitfile.SplitCommand(unknown), nil)
		got, ok := mainWord(started)
		require.False(t, ok, "%s: %s", unknown, got)
	}
}

// packaged is what the row of a location says about a file.
func packaged(table []location.Location, id, file string) bool {
	k := slices.IndexFunc(table, func(l location.Location) bool { return l.ID == id })
	return table[k].Packaged(file)
}

func TestCatalogueKnowsItsOwn(t *testing.T) {
	for _, c := range []struct {
		name, location, source, target string
		guards                         string
		part                           bool
	}{
		{"dbus.service", "linux.systemd.system", "/usr/lib/systemd/system/dbus.service", "/usr/bin/dbus-daemon",
			"start", true},
		{"getty@tty1.service", "linux.systemd.system", "/lib/systemd/system/getty@.service", "/sbin/agetty", "sign-in",
			true},
		{"systemd-udevd-kernel.socket", "linux.systemd.system", "/usr/lib/systemd/system/systemd-udevd-kernel.socket",
			"", "input", true},
		{"NetworkManager.service", "linux.systemd.system", "/usr/lib/systemd/system/NetworkManager.service",
			"/usr/sbin/NetworkManager", "network", true},
		{"cron.service", "linux.systemd.system", "/usr/lib/systemd/system/cron.service", "/usr/sbin/cron", "", true},
		{"dbus.service", "linux.systemd.system", "/etc/systemd/system/dbus.service", "/usr/bin/dbus-daemon", "", false},
		{"dbus.service", "linux.systemd.system", "/usr/lib/systemd/system/dbus.service", "/opt/x/dbus-daemon", "",
			false},
		{"tidewatch.service", "linux.systemd.system", "/usr/lib/systemd/system/tidewatch.service", "/opt/tide", "",
			false},
	} {
		e := autostart.Entry{Name: c.name, Location: c.location, Scope: autostart.ForSystem,
			Source: autostart.Source{Path: c.source}, Target: autostart.Target{Path: c.target}}
		names := linuxNames(&location.Item{Entry: e, Row: table.Row(c.location), Packaged: packaged(linux.Locations(),
			c.location, c.source)})
		r := catalogue.Of("linux").Find(catalogue.Subject{Location: c.location, Names: names})
		require.Equal(t, c.part, r != nil, c.source)
		if r != nil {
			require.True(t, r.Part)
			require.Equal(t, c.guards, r.Protect, c.source)
		}
	}
}

// samePlain fails where a line that is split without a parser is not what the parser makes of it.
func samePlain(t *testing.T, text string) {
	t.Helper()
	words, ok := plainCommand(text)
	if !ok {
		return
	}
	line, err := shellcommand.ParseLine(text)
	if err != nil {
		return
	}
	require.Empty(t, line.Inner, text)
	require.Len(t, line.Commands, 1, text)
	require.Equal(t, words, line.Commands[0].Texts(), text)
}

func TestPlainCommands(t *testing.T) {
	for _, text := range []string{"/opt/a", "/opt/a -x --y=z", "/opt/a >/dev/null 2>&1", "/opt/a > /dev/null 2>&1",
		"a &> b c",
		"a >> b", "2> x a", "a >&2", "a 2>&1 b"} {
		_, ok := plainCommand(text)
		require.True(t, ok, text)
		samePlain(t, text)
	}
	for _, text := range []string{"", "a & b", "a && b", "a&", "a>b>c", "A=1 b", "a; b", "a | b", "if a", "cd /x",
		"eval a", ". /a",
		"a $x", "a >&2>b", "! a", "a &", "&>x"} {
		_, ok := plainCommand(text)
		require.False(t, ok, text)
	}
}

func FuzzProgram(f *testing.F) {
	f.Add(`sh -c "sh -c 'sh -c x'"`)
	f.Add("a=b ;&&|| \\")
	f.Fuzz(func(t *testing.T, command string) {
		startedBy(desktopentry.SplitExec(command), nil)
		startedBy([]string{"sh", "-c", command}, nil)
		samePlain(t, command)
	})
}

// A program is missing only where that is certain: not in a user's own folder of programs, below what another disk is
// mounted at, or behind a link out of the disk.
func TestMissingIsCertain(t *testing.T) {
	root := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
	}
	write("etc/os-release", "ID=gullrock\n")
	write("etc/passwd", "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\n")
	write("etc/fstab", "/dev/sdb1 /data ext4 defaults 0 2\n/dev/sdc1 /full ext4 defaults 0 2\n")
	write("home/ines/.local/bin/tide", "#!/bin/sh\n")
	write("usr/bin/tide", "#!/bin/sh\n")
	write("full/other", "")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "data"), 0o755))
	require.NoError(t, os.Symlink("var/opt", filepath.Join(root, "opt")))
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	for _, row := range []struct{ user, program, path, exists string }{
		{"ines", "tide", "/home/ines/.local/bin/tide", "true"}, {"", "tide", "/usr/bin/tide", "true"},
		{"ines", "reef", "reef", "false"}, {"", "/data/tide", "/data/tide", "unknown"},
		{"", "/full/tide", "/full/tide", "false"}, {"", "/opt/tide", "/opt/tide", "unknown"},
		{"", "/usr/bin/reef", "/usr/bin/reef", "false"}, {"", "/database/tide", "/database/tide", "false"},
	} {
		item := &location.Item{Entry: autostart.Entry{User: row.user}, Argv: []string{row.program}}
		Annotate(m.Reader(nil), nil, []*location.Item{item})
		exists := "unknown"
		if item.Target.Exists != nil {
			exists = strconv.FormatBool(*item.Target.Exists)
		}
		require.Equal(t, row.path+" "+row.exists, item.Target.Path+" "+exists)
	}
}
