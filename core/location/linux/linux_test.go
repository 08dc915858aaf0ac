//go:build linux

package linux_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/linux"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/internal/testkit"
)

// disk makes a root of files and links (content "-> target") and reads it.
func disk(t *testing.T, files map[string]string) (*machine.Machine, map[string]*location.Item, []autostart.Unread) {
	t.Helper()
	root := t.TempDir()
	for name, content := range map[string]string{
		"etc/os-release":                           "",
		"etc/passwd":                               "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\nbram:x:1001:1001::/home/bram:/bin/sh\n",
		"usr/lib/systemd/system/default.target":    "[Unit]\nRequires=multi-user.target\n",
		"usr/lib/systemd/system/multi-user.target": "[Unit]\n",
	} {
		if _, ok := files[name]; !ok {
			put(t, root, name, content)
		}
	}
	for name, content := range files {
		put(t, root, name, content)
	}
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	items, unread, _ := location.Run(m.Reader(nil), linux.Locations())
	byName := map[string]*location.Item{}
	for _, item := range items {
		key := item.Name
		if item.User != "" {
			key += "/" + item.User
		}
		byName[key] = item
	}
	return m, byName, unread
}

func put(t *testing.T, root, name, content string) {
	t.Helper()
	name = filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	if target, isLink := strings.CutPrefix(content, "-> "); isLink {
		require.NoError(t, os.Symlink(target, name))
		return
	}
	mode := os.FileMode(0o644)
	if strings.HasPrefix(content, "#!") {
		mode = 0o755
	}
	require.NoError(t, os.WriteFile(name, []byte(content), mode))
}

const (
	lib    = "usr/lib/systemd/system/"
	etc    = "etc/systemd/system/"
	wanted = "[Install]\nWantedBy=multi-user.target\n"
)

// Each rule of systemd's that decides whether a unit starts, and how it is worded.
func TestUnitRules(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		files       map[string]string
		unit        string
		state, mode string // both empty: no entry
		command     string
	}{
		"enabled": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "multi-user.target.wants/a.service": "-> " + "/" + lib + "a.service"}, "a.service", "enabled",
			"enabled", "/a"},
		"not enabled": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted},
			"a.service", "disabled", "disabled", "/a"},
		"static, unused": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n"}, "a.service", "",
			"", ""},
		"static, vendor link": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "multi-user.target.wants/a.service": "-> ../a.service"}, "a.service", "enabled", "static", "/a"},
		"static, dependency": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "multi-user.target": "[Unit]\nBindsTo=a.service\n"}, "a.service", "enabled", "static", "/a"},
		"dependency of nobody": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "b.service": "[Unit]\nRequires=a.service\n"}, "a.service", "", "", ""},
		"of another target": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "suspend.target": "[Unit]\nRequires=a.service\n"}, "a.service", "enabled", "static", "/a"},
		"of a target's drop-in": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "s@.target": "[Unit]\n", etc + "s@x.target.d/1.conf": "[Unit]\nWants=a.service\n"}, "a.service",
			"enabled", "static", "/a"},
		"empty: a mask": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			lib + "multi-user.target.wants/a.service": "-> ../a.service", etc + "a.service": ""}, "a.service",
			"disabled", "masked", "/a"},
		"empty target": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "suspend.target": "[Unit]\nWants=a.service\n", etc + "suspend.target": ""}, "a.service", "", "", ""},
		// systemctl's word
		"dependency is masked": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			lib + "multi-user.target.wants/a.service": "-> ../a.service",
			etc + "multi-user.target.wants/a.service": "-> /dev/null"}, "a.service", "disabled", "enabled", "/a"},
		"masked": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "multi-user.target.wants/a.service": "-> ../a.service", etc + "a.service": "-> /dev/null"},
			"a.service", "disabled", "masked", "/a"},
		"wanted by a masked one": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			lib + "b.target": "[Unit]\nWants=a.service\n", lib + "multi-user.target.wants/b.target": "-> ../b.target",
			etc + "b.target": "-> /dev/null"}, "a.service", "disabled", "disabled", "/a"},
		"masked in /run": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			"run/systemd/system/a.service": "-> /dev/null"}, "a.service", "disabled", "masked-runtime", "/a"},
		"own file wins": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "a.service":                         "[Service]\nExecStart=/own\n" + wanted,
			etc + "multi-user.target.wants/a.service": "-> ../a.service"}, "a.service", "enabled", "enabled", "/own"},
		"drop-in resets": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "a.service.d/10.conf": "[Service]\nExecStart=\nExecStart=/changed\n"}, "a.service", "disabled",
			"disabled", "/changed"},
		"drop-in by prefix": {map[string]string{lib + "a-b.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "a-.service.d/10.conf": "[Service]\nExecStart=\nExecStart=/changed\n"}, "a-b.service", "disabled",
			"disabled", "/changed"},
		"drop-in overridden": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			lib + "a.service.d/10.conf": "[Service]\nExecStart=\nExecStart=/vendor\n",
			etc + "a.service.d/10.conf": "# nothing\n"}, "a.service", "disabled", "disabled", "/a"},
		"drop-in of the type": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "service.d/10.conf": "[Service]\nExecStart=\nExecStart=/all\n"}, "a.service", "disabled", "disabled",
			"/all"},
		"enabled by its alias": {map[string]string{lib +
			"a.service": "[Service]\nExecStart=/a\n[Install]\nAlias=b.service\n", etc + "b.service": "-> /" + lib +
			"a.service", lib + "multi-user.target": "[Unit]\nWants=b.service\n"}, "a.service", "enabled", "enabled",
			"/a"},
		"the alias is no entry": {map[string]string{lib + "a.service": wanted, etc + "b.service": "-> /" + lib +
			"a.service"}, "b.service", "", "", ""},
		"instance": {map[string]string{lib + "a@.service": "[Service]\nExecStart=/a %i\n" + wanted,
			etc + "multi-user.target.wants/a@x.service": "-> /" + lib + "a@.service"}, "a@x.service", "enabled",
			"enabled", "/a x"},
		"template alone": {map[string]string{lib + "a@.service": "[Service]\nExecStart=/a %i\n" + wanted},
			"a@.service", "", "", ""},
		"only Also": {map[string]string{lib + "a.service": "[Install]\nAlso=b.service\n",
			lib + "multi-user.target.wants/a.service": "-> ../a.service"}, "a.service", "enabled", "indirect", ""},
		"linked": {map[string]string{"opt/a.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "a.service": "-> /opt/a.service"}, "a.service", "disabled", "linked", "/a"},
		"timer starts service": {map[string]string{lib +
			"a.timer": "[Timer]\nUnit=b.service\n[Install]\nWantedBy=timers.target\n",
			lib + "b.service": "[Service]\nExecStart=/b\n"}, "a.timer", "disabled", "disabled", "/b"},
		"accepting socket": {map[string]string{lib +
			"a.socket": "[Socket]\nAccept=yes\n[Install]\nWantedBy=sockets.target\n",
			lib + "a@.service": "[Service]\nExecStart=/each\n"}, "a.socket", "disabled", "disabled", "/each"},
		"link without a unit": {map[string]string{etc + "multi-user.target.wants/a.service": "-> /" + lib +
			"a.service"}, "a.service", "disabled", "not-found", ""},
		"empty file masks not": {map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n" + wanted,
			etc + "not a unit.service": "x"}, "a.service", "disabled", "disabled", "/a"},
	} {
		_, items, unread := disk(t, c.files)
		require.Empty(t, unread, name)
		item, ok := items[c.unit]
		require.Equal(t, c.state != "", ok, name)
		if ok {
			require.Equal(t, c.state+"/"+c.mode+"/"+c.command, string(item.State)+"/"+item.Mode+"/"+item.Command, name)
			require.NotEmpty(t, item.Artifacts(), name)
		}
	}
}

func TestPresets(t *testing.T) {
	t.Parallel()
	_, items, _ := disk(t, map[string]string{
		lib + "a.service": wanted, lib + "b.service": wanted, lib + "c.service": wanted, lib + "d.service": wanted,
		"etc/systemd/system-preset/20-none.preset":       "ignore d.*\n",
		"usr/lib/systemd/system-preset/05-masked.preset": "disable *\n",
		"etc/systemd/system-preset/05-masked.preset":     "",
		"usr/lib/systemd/system-preset/90-vendor.preset": "enable a.*\ndisable *\n",
		"etc/systemd/system-preset/10-own.preset":        "# ours\nenable b.service extra\n",
		"usr/lib/systemd/system-preset/10-own.preset":    "disable b.service\n",
	})
	for unit, want := range map[string]string{"a.service": "enable", "b.service": "enable", "c.service": "disable",
		"d.service": "ignore"} {
		preset := ""
		for _, f := range items[unit].Facts() {
			if f.Name == "preset" {
				preset = f.Value
			}
		}
		require.Equal(t, want, preset, unit)
	}
}

func TestUnitsOfPeople(t *testing.T) {
	t.Parallel()
	_, items, _ := disk(t, map[string]string{
		"usr/lib/systemd/user/all.service":                                      "[Service]\nExecStart=/all\n[Install]\nWantedBy=default.target\n",
		"etc/systemd/user/default.target.wants/all.service":                     "-> /usr/lib/systemd/user/all.service",
		"home/bram/.config/systemd/user/all.service":                            "-> /dev/null",
		"home/ines/.config/systemd/user/own.service":                            "[Service]\nExecStart=/own\n[Install]\nWantedBy=default.target\n",
		"home/ines/.config/systemd/user/default.target.wants/own.service":       "-> ../own.service",
		"home/ines/.local/share/systemd/user/shared.service":                    "[Service]\nExecStart=/shared\n[Install]\nWantedBy=default.target\n",
		"home/ines/.config/systemd/user/graphical-session.target.wants/w.timer": "-> /usr/lib/systemd/user/w.timer",
		"usr/lib/systemd/user/w.timer":                                          "[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=graphical-session.target\n",
	})
	for key, want := range map[string]string{
		"all.service": "enabled enabled", "all.service/bram": "disabled masked", "own.service/ines": "enabled enabled",
		"shared.service/ines": "disabled disabled", "w.timer/ines": "enabled enabled", "w.timer": "disabled disabled",
	} {
		require.Contains(t, items, key)
		require.Equal(t, want, string(items[key].State)+" "+testkit.ModeOrTime(items[key].Entry), key)
	}
	require.NotContains(t, items, "all.service/ines")
	// All folders that a mask of theirs may have to be made in decide a user's unit.
	for _, folder := range []string{"/home/ines/.config/systemd", "/home/ines/.config/systemd/user"} {
		require.Contains(t, items["shared.service/ines"].Artifacts(), artifact.File(folder))
	}
}

func TestAutostartRules(t *testing.T) {
	t.Parallel()
	entry := func(name string, more ...string) string {
		return "[Desktop Entry]\nType=Application\nName=" + name + "\nExec=/bin/x\n" + strings.Join(more, "\n") + "\n"
	}
	_, items, _ := disk(t, map[string]string{
		"bin/x": "", "etc/environment": "# session\nXDG_CONFIG_DIRS=\"/etc/xdg/museum:/etc/xdg\"\n",
		"etc/xdg/museum/autostart/a.desktop": entry("museum's"),
		"etc/xdg/autostart/a.desktop":        entry("general"),
		"usr/share/autostart/a.desktop":      entry("vendor's"),
		"etc/xdg/autostart/try.desktop":      entry("try", "TryExec=not-there"),
		"etc/xdg/autostart/has.desktop":      entry("has", "TryExec=x"),
		"etc/xdg/autostart/link.desktop":     "[Desktop Entry]\nType=Link\nName=link\nURL=x\n",
		"etc/xdg/autostart/cond.desktop": entry("cond", "AutostartCondition=GSettings org.x y",
			"OnlyShowIn=GNOME;"),
		"etc/xdg/autostart/note.txt":                    "no",
		"home/ines/.config/autostart/gnome-off.desktop": entry("gnome-off", "X-GNOME-Autostart-enabled=false"),
		"home/ines/.config/autostart/gone.desktop":      "-> /opt/gone.desktop",
		"home/bram/.config/autostart/a.desktop":         "-> /dev/null",
	})
	for key, want := range map[string]string{
		"museum's": "enabled|", "try": "disabled|TryExec not found: not-there", "has": "enabled|",
		"link":           "disabled|ignored: not of the type Application",
		"cond":           "enabled|only in GNOME; if GSettings org.x y",
		"gnome-off/ines": "disabled|off in the desktop's settings",
		"gone/ines":      "disabled|dangling link", "a/bram": "disabled|link to /dev/null",
	} {
		require.Contains(t, items, key)
		require.Equal(t, want, string(items[key].State)+"|"+testkit.ModeOrTime(items[key].Entry), key)
	}
	require.NotContains(t, items, "general")
	require.NotContains(t, items, "vendor's")
	require.NotContains(t, items, "note")
}

func TestCronRules(t *testing.T) {
	t.Parallel()
	line := "5 4 * * * root /opt/"
	files := map[string]string{
		"etc/cron.d/good": line + "good\n", "etc/cron.d/dot.ted": line + "dotted\n", "etc/cron.d/backup~": line +
			"tilde\n", "etc/cron.d/.hidden": line + "hidden\n",
		"etc/cron.d/cut": line + "cut", "etc/cron.d/bad": line + "fine\nnonsense\n", "etc/cron.d/new.rpmnew": line +
			"rpmnew\n",
		"etc/cron.d/twice":        line + "twice\n" + line + "twice\n",
		"etc/nsswitch.conf":       "passwd: files sss\n", // accounts may be elsewhere
		"var/spool/cron/tabs/ann": "@daily /opt/tab\n", "var/spool/cron/zoe": "@hourly /opt/direct\n",
	}
	_, items, _ := disk(t, files)
	require.Contains(t, items, "dotted") // cronie takes names with dots
	for _, name := range []string{"tilde", "hidden", "rpmnew"} {
		require.NotContains(t, items, name)
	}
	files["etc/debian_version"] = "12\n"
	_, items, _ = disk(t, files)
	require.NotContains(t, items, "dotted") // Debian's cron does not
	for name, want := range map[string]string{
		"good": "enabled|every day at 04:05", "cut": "disabled|ignored: the last line does not end",
		"fine": "disabled|ignored: a line cannot be parsed", "tab/ann": "enabled|every day at 00:00",
		"direct/zoe": "enabled|every hour",
	} {
		require.Contains(t, items, name)
		require.Equal(t, want, string(items[name].State)+"|"+testkit.ModeOrTime(items[name].Entry), name)
	}
}

func TestWhatCannotBeSwitched(t *testing.T) {
	t.Parallel()
	m, items, _ := disk(t, map[string]string{
		lib + "vendor.service":                         "-> /dev/null",
		lib + "static.service":                         "[Service]\nExecStart=/a\n",
		lib + "multi-user.target.wants/static.service": "-> ../static.service",
		etc + "static.service":                         "-> /dev/null",
		"etc/cron.d/bad":                               "nonsense\n",
		"usr/local/lib/systemd/system/masked.service":  "-> /dev/null",
		lib + "masked.service":                         "[Service]\nExecStart=/m\n" + wanted,
		"etc/cron.daily/gone":                          "-> /opt/gone",
		"home/ines/.config/autostart/odd.desktop":      "not an entry",
	})
	set := func(name string, state autostart.State, user string) error {
		want := location.Want{State: state, Now: time.Unix(0, 0)}
		if u, ok := m.UserNamed(user); ok {
			want.User = &u
		}
		require.Contains(t, items, name)
		_, err := items[name].Plan(m.Files, want)
		return err
	}
	require.ErrorContains(t, set("vendor.service", autostart.Enabled, ""), "unit file is gone")
	require.ErrorContains(t, set("masked.service", autostart.Enabled, ""),
		"masked by the vendor at /usr/local/lib/systemd/system/masked.service")
	require.NoError(t, set("static.service", autostart.Enabled, "")) // taking the mask away is enough
	require.ErrorIs(t, set("static.service", autostart.Disabled, "ines"), location.ErrNotPerUser)
	require.ErrorIs(t, set("line 1", autostart.Enabled, ""), location.ErrNoSwitch)
	require.ErrorIs(t, set("gone", autostart.Disabled, ""), location.ErrNoSwitch)
	require.ErrorIs(t, set("odd/ines", autostart.Disabled, ""), location.ErrNoSwitch)
}

// states words what became of a disk's entries.
func states(items map[string]*location.Item) map[string]string {
	words := map[string]string{}
	for name, i := range items {
		words[name] = strings.TrimSpace(string(i.State) + " " + string(i.Switch) + " " + testkit.ModeOrTime(i.Entry))
	}
	return words
}

func TestModules(t *testing.T) {
	t.Parallel()
	_, items, unread := disk(t, map[string]string{
		"etc/modules":                         "# comment\n; another\nloop max_loop=8\n#lockback:off gone\nlast",
		"etc/initramfs-tools/modules":         "early\n",
		"etc/modules-load.d/modules.conf":     "-> ../modules", // the same lines
		"etc/modules-load.d/over.conf":        "over-own\n",
		"usr/lib/modules-load.d/over.conf":    "over-vendor\n",
		"usr/lib/modules-load.d/masked.conf":  "masked\n",
		"etc/modules-load.d/masked.conf":      "-> /dev/null",
		"usr/lib/modules-load.d/emptied.conf": "emptied\n",
		"run/modules-load.d/emptied.conf":     "",
		"usr/lib/modules-load.d/vendor.conf":  "tide-gauge\n",
		"usr/lib/modules-load.d/readme":       "not-read\n",
	})
	require.Empty(t, unread)
	require.Equal(t, map[string]string{
		"loop": "enabled comment", "gone": "disabled comment", "last": "enabled comment",
		"early": "enabled comment from the initial ramdisk", "over-own": "enabled comment",
		"masked":  "disabled report masked by /etc/modules-load.d/masked.conf",
		"emptied": "disabled report masked by /run/modules-load.d/emptied.conf", "tide-gauge": "enabled comment",
	}, states(items))
	require.Equal(t, "loop max_loop=8", items["loop"].Command)
	require.Equal(t, []artifact.Artifact{artifact.File("/etc/modules-load.d/vendor.conf"),
		artifact.File("/usr/lib/modules-load.d/vendor.conf")}, items["tide-gauge"].Artifacts())
	require.Equal(t, items["over-own"].Artifacts(), []artifact.Artifact{artifact.File("/etc/modules-load.d/over.conf"),
		artifact.File("/usr/lib/modules-load.d/over.conf")})
	_, moved, _ := disk(t, map[string]string{"etc/modules-load.d/vendor.conf": "#lockback:off tide_gauge\n",
		"usr/lib/modules-load.d/vendor.conf": "tide-gauge\n"})
	require.Equal(t, items["tide-gauge"].Handle, moved["tide_gauge"].Handle, "the same entry, wherever it is read")
}

func TestMessageOfTheDay(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "run-parts")
	files := map[string]string{}
	for _, name := range []string{"10-uname", "50-motd-news", "abc", "ABC", "a_b", "a.b", "a.b-c", "_x-1", "x.dpkg-old",
		"x-1.dpkg-new", "a~", "README", "1", "-a", "a-", ".hidden", "ü", "a--b", "a_b-c", "a.b", "_a", "_a-b", "a-B",
		"a.dpkg-tmp", "adpkg-old", "a-dpkg-old", "a-b.dpkg-dist", "0-", "a-_b-1"} {
		files["etc/update-motd.d/"+name] = "#!/bin/sh\n"
	}
	m, items, _ := disk(t, files)
	ours := []string{}
	for _, i := range items {
		ours = append(ours, i.Source.Path)
		require.Equal(t, "linux.motd", i.Location)
	}
	theirs := strings.Fields(strings.ReplaceAll(testkit.Shell(t, "run-parts --lsbsysinit --test "+filepath.Join(m.Root,
		"etc/update-motd.d")), m.Root, ""))
	require.ElementsMatch(t, theirs, ours)
	require.Greater(t, len(ours), 6)
}

// A script that two folders lead to runs in both; one of two names of rc.local counts.
func TestLinkedScripts(t *testing.T) {
	t.Parallel()
	_, items, _ := disk(t, map[string]string{"etc/cron.daily/tide": "#!/bin/sh\n",
		"etc/cron.weekly/linked": "-> ../cron.daily/tide", "etc/cron.daily/again": "-> tide",
		"etc/rc.local": "#!/bin/sh\n", "etc/rc.d/rc.local": "-> ../rc.local"})
	require.Equal(t, map[string]string{"tide": "enabled unexec every day", "linked": "enabled unexec every week",
		"again": "enabled unexec every day", "rc.local": "enabled unexec"}, states(items))
	require.Equal(t, "/etc/rc.local", items["rc.local"].Source.Path)
}

// Who is a person, login.defs(5) says.
func TestPeopleByTheirNumbers(t *testing.T) {
	t.Parallel()
	files := map[string]string{"home/ines/.ssh/rc": "echo\n", "home/bram/.ssh/rc": "echo\n", "usr/sbin/sshd": "#!"}
	_, items, _ := disk(t, files)
	require.Len(t, items, 2)
	files["etc/login.defs"] = "# UID_MIN 1\nUID_MIN\t1001\n"
	m, items, _ := disk(t, files)
	require.Equal(t, map[string]string{"~/.ssh/rc/bram": "enabled park when somebody connects over ssh"}, states(items))
	require.Equal(t, []string{"root", "bram"}, []string{m.Users[0].Name, m.Users[1].Name})
}

func TestRCOfSSH(t *testing.T) {
	t.Parallel()
	files := map[string]string{"etc/ssh/sshrc": "echo\n", "home/ines/.ssh/rc": "echo\n"}
	_, items, _ := disk(t, files)
	require.Equal(t, map[string]string{"sshrc": "disabled park ignored: no ssh server is installed",
		"~/.ssh/rc/ines": "disabled park ignored: no ssh server is installed"}, states(items))
	files["usr/sbin/sshd"] = "#!"
	_, items, _ = disk(t, files)
	require.Equal(t, map[string]string{"sshrc": "enabled park when somebody connects over ssh",
		"~/.ssh/rc/ines": "enabled park when somebody connects over ssh"}, states(items))
	require.Equal(t, []location.Fact{{Name: "own file instead", Value: "ines", Basis: "~/.ssh/rc"}},
		items["sshrc"].Facts())
	for config, permitted := range map[string]bool{"# PermitUserRC no\n": true, "permituserrc=no\n": false,
		"PermitUserRC \"no\"\n": false, "PermitUserRC yes\nPermitUserRC no\n": true,
		"Match User x\nPermitUserRC no\n": true} {
		files["etc/ssh/sshd_config"] = config
		_, items, _ = disk(t, files)
		require.Equal(t, permitted, items["~/.ssh/rc/ines"].State == autostart.Enabled, config)
	}
}

// A file that cannot be looked at is reported; one that is not there is not.
func TestWhatCannotBeLookedAt(t *testing.T) {
	t.Parallel()
	_, _, unread := disk(t, map[string]string{"etc/initramfs-tools": "-> initramfs-tools"})
	require.Len(t, unread, 3)
	require.Equal(t, []string{"linux.modules", "/etc/initramfs-tools/modules"}, []string{unread[0].Location,
		unread[0].Path})
}

// What is started with a sleep or a device is no part of the machine's start.
func TestUnitsOfEvents(t *testing.T) {
	t.Parallel()
	_, items, _ := disk(t, map[string]string{
		lib + "a.service": "[Service]\nExecStart=/a\n", lib + "b.service": "[Service]\nExecStart=/b\n",
		lib + "suspend.target": "[Unit]\n", etc + "suspend.target.d/1.conf": "[Unit]\nWants=a.service\n",
		lib + "bluetooth.target.wants/b.service": "-> ../b.service", lib + "c.service": "[Service]\nExecStart=/c\n",
		lib + "bluetooth.target.wants/c.service":  "-> ../c.service",
		lib + "multi-user.target.wants/c.service": "-> ../c.service",
	})
	require.Equal(t, map[string]string{"a.service": "event with suspend.target",
		"b.service": "event with bluetooth.target", "c.service": "system at startup"},
		map[string]string{"a.service": string(items["a.service"].Stage) + " " + items["a.service"].When,
			"b.service": string(items["b.service"].Stage) + " " + items["b.service"].When,
			"c.service": string(items["c.service"].Stage) + " " + items["c.service"].When})
}

// Where something else than systemd is the first process, its units start nothing, whatever links lead
// to them, and there is nothing to switch.
func TestOtherInits(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"systemd": {map[string]string{"sbin/init": "-> /usr/lib/systemd/systemd", "usr/lib/systemd/systemd": "#!"},
			"enabled mask"},
		"not to see": {map[string]string{"sbin/init": "-> /usr/lib/systemd/systemd"}, "enabled mask"},
		"none":       {nil, "enabled mask"},
		"sysvinit": {map[string]string{"sbin/init": "#!", "etc/inittab": ""},
			"disabled report static ignored: this machine starts with sysvinit, not with systemd"},
		"OpenRC": {map[string]string{"sbin/init": "-> openrc-init", "sbin/openrc-init": "#!"},
			"disabled report static ignored: this machine starts with OpenRC, not with systemd"},
		"runit": {map[string]string{"sbin/init": "-> runit-init", "sbin/runit-init": "#!"},
			"disabled report static ignored: this machine starts with runit, not with systemd"},
		"unknown": {map[string]string{"sbin/init": "#!"},
			"disabled report static ignored: this machine starts with another init (/sbin/init), not with systemd"},
	} {
		files := map[string]string{lib + "a.service": "[Service]\nExecStart=/a\n",
			lib + "multi-user.target.wants/a.service": "-> ../a.service"}
		for file, text := range c.files {
			files[file] = text
		}
		_, items, _ := disk(t, files)
		got := items["a.service"]
		require.Equal(t, c.want, strings.TrimSuffix(strings.TrimSpace(string(got.State)+" "+string(got.Switch)+" "+
			got.Mode), " static"), name)
		if got.State == autostart.Disabled {
			_, err := got.Plan(nil, location.Want{State: autostart.Enabled})
			require.ErrorIs(t, err, location.ErrNoSwitch, name)
			require.Contains(t, got.Problems, autostart.Ignored, name)
		}
	}
}

// Which names the hourly to monthly folders take depends on the family.
func TestPeriodicNames(t *testing.T) {
	t.Parallel()
	files := map[string]string{}
	for _, name := range []string{"tide", "tide.sh", "tide~", "tide.rpmnew", "tide,v", ".tide", "tide.swp"} {
		files["etc/cron.daily/"+name] = "#!/bin/sh\n"
	}
	_, items, _ := disk(t, files)
	require.Len(t, items, 2) // tide and tide.sh
	require.Contains(t, items, "tide.sh")
	files["etc/debian_version"] = "12\n"
	_, items, _ = disk(t, files)
	require.Len(t, items, 1)
}

// Each session manager reads the keys in its own way. Of Xfce and of systemd's generator the rules are
// those that the programs themselves showed.
func TestSessionsThatStartEntries(t *testing.T) {
	t.Parallel()
	session := func(desktop string) string {
		return "[Desktop Entry]\nType=Application\nName=" + desktop + "\nExec=start\nDesktopNames=" + desktop + "\n"
	}
	const xfce, gnome, plasma = "usr/share/xsessions/x.desktop", "usr/share/wayland-sessions/g.desktop", "usr/share/wayland-sessions/p.desktop"
	keys := map[string]string{"plain": "", "one": "Hidden=1\n", "capital": "Hidden=True\n", "yes": "Hidden=yes\n",
		"hidden": "Hidden=true\n", "off": "X-GNOME-Autostart-enabled=false\n", "hook": "RunHook=1\n",
		"late":   "RunHook=9\n",
		"others": "OnlyShowIn=LXQt;\n", "ours": "OnlyShowIn=GNOME;XFCE;\n",
		"override": "OnlyShowIn=LXQt;\nX-XFCE-Autostart-Override=True\n",
		"not":      "NotShowIn=XFCE;\nX-XFCE-Autostart-Override=true\n",
		"phase":    "X-GNOME-Autostart-Phase=Initialization\n", "skip": "X-systemd-skip=true\n",
		"unit": "X-GNOME-HiddenUnderSystemd=true\n", "typeless": "-", "link": "-Type=Link\n"}
	for name, c := range map[string]struct {
		sessions map[string]string
		off      string // the entries that no session starts
		words    map[string]string
	}{
		"none": {nil, "capital hidden link off one typeless", nil}, // as the specification has it
		"Xfce": {map[string]string{xfce: session("XFCE")}, "capital hidden link not others yes",
			map[string]string{"hook": "at sign-out (XFCE)", "late": "at another time than sign-in (XFCE)",
				"others": "for other desktops; only in LXQt"}},
		"GNOME": {map[string]string{gnome: session("GNOME")}, "hidden link off one others override typeless unit",
			map[string]string{"unit": "left to a user unit of systemd"}},
		"Plasma": {map[string]string{plasma: session("KDE")},
			"capital hidden link one others ours override phase skip typeless yes",
			map[string]string{"phase": "for a phase of GNOME's start"}},
		"another": {map[string]string{xfce: session("LXQt")}, "capital hidden link one ours",
			map[string]string{"ours": "for other desktops; only in GNOME, XFCE"}},
		"two": {map[string]string{xfce: session("XFCE"), gnome: session("GNOME-Classic:GNOME")}, "hidden link others",
			map[string]string{"off": "off in the desktop's settings in GNOME",
				"override": "for other desktops in GNOME; only in LXQt", "one": "Hidden=true in GNOME"}},
		"gone": {map[string]string{xfce: session("XFCE") + "TryExec=/usr/bin/none\n"},
			"capital hidden link off one typeless", nil},
	} {
		files := map[string]string{"usr/bin/tide": "#!"}
		for file, text := range c.sessions {
			files[file] = text
		}
		for key, lines := range keys {
			kind := "Type=Application\n"
			if own, ok := strings.CutPrefix(lines, "-"); ok {
				kind, lines = "", own
			}
			files["etc/xdg/autostart/"+key+".desktop"] = "[Desktop Entry]\n" + kind + "Exec=/usr/bin/tide\n" + lines
		}
		_, items, _ := disk(t, files)
		var off []string
		for key := range keys {
			if items[key].State == autostart.Disabled {
				off = append(off, key)
			}
		}
		slices.Sort(off)
		require.Equal(t, c.off, strings.Join(off, " "), name)
		for key, want := range c.words {
			require.Equal(t, want, testkit.ModeOrTime(items[key].Entry), "%s: %s", name, key)
		}
	}
}

// What nobody acts on does not start: cron that is not installed, or turned off, or that finds no account
// for a table.
func TestRunners(t *testing.T) {
	t.Parallel()
	const unit, link = lib + "cron.service", etc + "multi-user.target.wants/cron.service"
	base := map[string]string{"etc/cron.d/tide": "* * * * * root /opt/tide\n",
		"var/spool/cron/crontabs/vera": "* * * * * /opt/vera\n"}
	for name, c := range map[string]struct {
		files      map[string]string
		tide, vera string
	}{
		"nothing to see": {nil, "enabled comment every minute", "disabled comment ignored: there is no account vera"},
		"not installed": {map[string]string{"usr/bin/other": "#!"}, "disabled comment ignored: cron is not installed",
			"disabled comment ignored: there is no account vera"},
		"installed": {map[string]string{"usr/sbin/cron": "#!"}, "enabled comment every minute",
			"disabled comment ignored: there is no account vera"},
		"turned off": {map[string]string{"usr/sbin/cron": "#!", unit: wanted, "usr/lib/systemd/systemd": "#!",
			"sbin/init": "-> ../usr/lib/systemd/systemd"}, "disabled comment ignored: cron is turned off",
			"disabled comment ignored: there is no account vera"},
		"turned on": {map[string]string{"usr/sbin/cron": "#!", unit: wanted, link: "-> /" + unit,
			"usr/lib/systemd/systemd": "#!", "sbin/init": "-> ../usr/lib/systemd/systemd"},
			"enabled comment every minute", "disabled comment ignored: there is no account vera"},
		"masked": {map[string]string{"usr/sbin/cron": "#!", unit: wanted, link: "-> /" + unit,
			etc + "cron.service": "-> /dev/null", "usr/lib/systemd/systemd": "#!",
			"sbin/init": "-> ../usr/lib/systemd/systemd"}, "disabled comment ignored: cron is turned off",
			"disabled comment ignored: there is no account vera"},
		"by a key": {map[string]string{"usr/sbin/cron": "#!", unit: wanted,
			etc + "tide.service.d/1.conf": "[Unit]\nAfter=cron.service\nWants=other.service cron.service\n",
			"usr/lib/systemd/systemd":     "#!", "sbin/init": "-> ../usr/lib/systemd/systemd"},
			"enabled comment every minute", "disabled comment ignored: there is no account vera"},
		"by a timer": {map[string]string{"usr/sbin/cron": "#!", unit: wanted,
			etc + "late.timer":                     "[Timer]\nOnBootSec=1min\nUnit=cron.service\n",
			etc + "timers.target.wants/late.timer": "-> ../late.timer",
			"usr/lib/systemd/systemd":              "#!", "sbin/init": "-> ../usr/lib/systemd/systemd"},
			"enabled comment every minute", "disabled comment ignored: there is no account vera"},
		"by no timer": {map[string]string{"usr/sbin/cron": "#!", unit: wanted,
			etc + "cron.timer":        "[Timer]\nOnBootSec=1min\n",
			"usr/lib/systemd/systemd": "#!", "sbin/init": "-> ../usr/lib/systemd/systemd"},
			"disabled comment ignored: cron is turned off", "disabled comment ignored: there is no account vera"},
		"after it": {map[string]string{"usr/sbin/cron": "#!", unit: wanted,
			lib + "tide.service": "[Unit]\nAfter=cron.service\n", "usr/lib/systemd/systemd": "#!",
			"sbin/init": "-> ../usr/lib/systemd/systemd"}, "disabled comment ignored: cron is turned off",
			"disabled comment ignored: there is no account vera"},
		"sysvinit": {map[string]string{"usr/sbin/cron": "#!", unit: wanted, "sbin/init": "#!", "etc/inittab": ""},
			"enabled comment every minute", "disabled comment ignored: there is no account vera"},
		"a directory": {map[string]string{"usr/sbin/crond": "#!",
			"etc/nsswitch.conf": "passwd: files [NOTFOUND=continue] sss\n"}, "enabled comment every minute",
			"enabled comment every minute"},
	} {
		files := maps.Clone(base)
		maps.Copy(files, c.files)
		_, items, _ := disk(t, files)
		got := states(items)
		vera := got["vera/vera"]
		require.Equal(t, c.tide, got["tide"], name)
		require.Equal(t, c.vera, vera, "%s %v", name, got)
	}
}

// Each form of line: what its own program makes of it, and what is no entry.
func TestFormsOfLines(t *testing.T) {
	t.Parallel()
	m, items, unread := disk(t, map[string]string{
		"etc/modprobe.d/a.conf": "options tide x=1\nblacklist ebb\ninstall tide /opt/tide --first " +
			"&& modprobe -i tide\nremove tide /opt/away\ninstall ebb /bin/true\ninstall short\n# install off /opt/x\n",
		"usr/lib/binfmt.d/b.conf": "; comment\n:book:E::slt::/opt/reader:OC\n+odd+M++magic++/opt/odd+\n:short:E:\n",
		"etc/anacrontab": "SHELL=/bin/sh\nSTART_HOURS_RANGE = " +
			"3-22\n1\t5\tdaily.tide\t/opt/daily  --a b\n7 10 weekly.tide /opt/weekly\n@monthly 15 monthly.tide " +
			"/opt/monthly\n3 1 short\n",
		"etc/incron.d/c": "/srv/two\\ words IN_CLOSE_WRITE,IN_MOVED_TO /opt/seen " +
			"$@/$#\n/srv/short IN_ALL\n",
		"var/spool/incron/bram": "/home/bram/in IN_CREATE /home/bram/bin/take\n",
		"etc/inetd.conf": "tide stream tcp nowait nobody /usr/sbin/tcpd /opt/tided " +
			"-v\n#<off># ebb stream tcp nowait nobody /opt/ebbd ebbd\necho stream tcp nowait root internal\n# " +
			"daytime stream tcp nowait root internal\nshort stream\n",
		"etc/inittab": "id:3:initdefault:\n1:2345:respawn:/sbin/getty 38400 " +
			"tty1\nca::ctrlaltdel:+/sbin/shutdown -r now\nx:2:off:/opt/x\nbad\n",
		"etc/acpi/events/lid": "# rule\nevent = button/lid.*\naction = /opt/dim %e\n",
		"etc/environment": "PATH=/usr/bin\nLD_PRELOAD=/opt/one.so:/opt/two.so\nexport " +
			"BASH_ENV=/opt/rc\nPYTHONPATH=\"\"\n",
		"home/ines/.config/environment.d/9.conf": "GTK_MODULES=tide\nEDITOR=nano\n",
		"etc/security/pam_env.conf": "LD_AUDIT DEFAULT= OVERRIDE=/opt/audit.so\nLANG " +
			"DEFAULT=C\nPERL5OPT\tDEFAULT=-Mtide\n",
		"etc/ld.so.preload":                    "/opt/pre.so /opt/more.so\n# /opt/none.so\n",
		"var/spool/cron/atjobs/a0000a01c5f7c8": "#!/bin/sh\n# atrun uid=0 gid=0\numask 22\n/opt/once --now\n",
		"var/spool/cron/atjobs/.SEQ":           "a", "var/spool/cron/atjobs/a0000a": "#!",
		"etc/containers/systemd/t.container":    "[Container]\nImage=tide:1\n[Install]\nWantedBy=multi-user.target\n",
		"etc/containers/systemd/idle.container": "[Container]\nImage=ebb:1\n",
		"etc/containers/systemd/v.volume":       "[Volume]\n",
	})
	require.Empty(t, unread)
	got := map[string]string{}
	for name, i := range items {
		if i.Location != "linux.systemd.system" {
			got[name] = strings.Join([]string{string(i.State), string(i.Switch), i.Command, i.When}, " | ")
		}
	}
	require.Equal(t, map[string]string{
		"tide":         "enabled | comment | /usr/sbin/tcpd /opt/tided -v | when something connects to tide",
		"ebb":          "disabled | report | /opt/ebbd ebbd | when something connects to ebb",
		"echo":         "enabled | comment | internal | when something connects to echo",
		"book":         "enabled | comment | /opt/reader | when a program of the kind book is started",
		"odd":          "enabled | comment | /opt/odd | when a program of the kind odd is started",
		"daily.tide":   "enabled | comment | /opt/daily  --a b | every day",
		"weekly.tide":  "enabled | comment | /opt/weekly | every 7 days",
		"monthly.tide": "enabled | comment | /opt/monthly | every month",
		"seen":         "enabled | comment | /opt/seen $@/$# | when /srv/two words changes (IN_CLOSE_WRITE,IN_MOVED_TO)", "take/bram": "enabled | comment | /home/bram/bin/take | when /home/bram/in changes (IN_CREATE)",
		"getty":            "disabled | report | /sbin/getty 38400 tty1 | at startup, in runlevel 2345",
		"shutdown":         "disabled | report | /sbin/shutdown -r now | on ctrlaltdel",
		"lid":              "enabled | comment | /opt/dim %e | on button/lid.*",
		"LD_PRELOAD":       "enabled | comment | LD_PRELOAD=/opt/one.so:/opt/two.so | loaded into every program",
		"BASH_ENV":         "enabled | comment | export BASH_ENV=/opt/rc | loaded into scripts of bash",
		"GTK_MODULES/ines": "enabled | comment | GTK_MODULES=tide | loaded into programs of GTK",
		"LD_AUDIT":         "enabled | comment | LD_AUDIT DEFAULT= OVERRIDE=/opt/audit.so | loaded into every program",
		"PERL5OPT":         "enabled | comment | PERL5OPT\tDEFAULT=-Mtide | loaded into Perl",
		"pre.so":           "enabled | trim | /opt/pre.so | loaded into every program",
		"more.so":          "enabled | trim | /opt/more.so | loaded into every program",
		"job 10":           "enabled | park | /opt/once --now | once, at 2026-07-26 14:00 UTC",
		"t.container":      "enabled | park | podman run tide:1 | at startup",
		"idle.container":   "disabled | report | podman run ebb:1 | at startup",
	}, got)
	require.Equal(t, []string{"/opt/tided", "-v"}, items["tide"].Argv)
	// Those of the same name are told apart by where they stand.
	all, _, _ := location.Run(m.Reader(nil), linux.Locations())
	modules := map[string]bool{}
	for _, i := range all {
		if i.Location == "linux.modprobe" {
			modules[i.When+" "+i.Command] = true
		}
	}
	require.Equal(t, map[string]bool{"when the module tide is loaded /opt/tide --first && modprobe -i tide": true,
		"when the module tide is removed /opt/away": true}, modules)
}

// Executables of an override chain: which one counts, what masks it, and how each is switched.
func TestGenerators(t *testing.T) {
	t.Parallel()
	const own, vendor, local = "etc/systemd/system-generators/", "usr/lib/systemd/system-generators/", "usr/local/lib/systemd/system-generators/"
	m, items, _ := disk(t, map[string]string{
		vendor + "plain": "#!", vendor + "over": "#!", own + "over": "#!", own + "ours": "#!", vendor + "off": "text",
		vendor + "masked": "#!", own + "masked": "-> /dev/null", vendor + "emptied": "#!", own + "emptied": "",
		vendor + "hidden": "#!", local + "hidden": "-> /dev/null",
		"usr/lib/systemd/user-environment-generators/30-tide": "#!",
	})
	require.Equal(t, map[string]string{"plain": "enabled mask", "over": "enabled report", "ours": "enabled unexec",
		"off": "disabled unexec not executable", "masked": "disabled mask masked", "emptied": "disabled mask masked",
		"hidden": "disabled report masked by /" + local + "hidden", "30-tide": "enabled mask"}, states(items))
	edits, err := items["plain"].Plan(m.Files, location.Want{State: autostart.Disabled})
	require.NoError(t, err)
	require.Equal(t, artifact.File("/"+own+"plain"), edits[0].Artifact)
	require.Equal(t, "/dev/null", edits[0].Image.Target)
	for _, name := range []string{"masked", "emptied"} {
		edits, err = items[name].Plan(m.Files, location.Want{State: autostart.Enabled})
		require.NoError(t, err)
		require.Equal(t, artifact.Absent, edits[0].Image.Kind, name)
	}
	_, err = items["over"].Plan(m.Files, location.Want{State: autostart.Disabled})
	require.ErrorIs(t, err, location.ErrNoSwitch)
}

// Scripts of runlevels: under systemd those count for which its generator makes a unit, under sysvinit
// those of the default runlevel.
func TestRunlevels(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		"etc/rc2.d/S01both": "-> ../init.d/both", "etc/rc3.d/S01both": "-> ../init.d/both",
		"etc/rc6.d/K01both": "-> ../init.d/both", "etc/init.d/both": "#!",
		"etc/rc3.d/S02three": "-> ../init.d/three", "etc/init.d/three": "#!",
		"etc/rcS.d/S01early": "-> ../init.d/early", "etc/init.d/early": "#!",
		"etc/rc2.d/K05off": "-> ../init.d/off", "etc/init.d/off": "#!", "etc/rc2.d/S05text": "-> ../init.d/text",
		"etc/init.d/text":     "text",
		"etc/rc2.d/S07native": "-> ../init.d/native", "etc/init.d/native": "#!",
		lib + "native.service": "[Service]\nExecStart=/a\n", "etc/rc2.d/S09gone": "-> ../init.d/gone",
		"etc/rc2.d/README": "text", "etc/rc2.d/S10file": "#!",
		"etc/rc2.d/S08masked.sh": "-> ../init.d/masked.sh", "etc/init.d/masked.sh": "#!",
		etc + "masked.service": "-> /dev/null",
	}
	sysv := func(files map[string]string) (*machine.Machine, map[string]string, map[string]*location.Item) {
		m, items, _ := disk(t, files)
		got := map[string]string{}
		for name, i := range items {
			if i.Location == "linux.sysv" {
				got[name] = strings.TrimSpace(string(i.State) + " " + string(i.Switch) + " " + i.Mode)
			}
		}
		return m, got, items
	}
	_, got, _ := sysv(files)
	require.Equal(t, map[string]string{"both": "enabled rename", "three": "enabled rename",
		"early": "disabled report ignored: systemd does not read rcS.d", "off": "disabled rename off in every runlevel",
		"text": "disabled rename not executable", "gone": "disabled rename dangling link"}, got)
	// On a machine that runs, the generator has made a unit of it: that is no entry beside the script's.
	files["run/systemd/generator.late/both.service"], files["run/systemd/generator.late/multi-user.target.wants/both.service"] = "[Unit]\nSourcePath=/etc/init.d/both\n[Service]\nExecStart=/etc/init.d/both start\n", "-> ../both.service"
	_, again, live := sysv(files)
	require.Equal(t, got, again)
	require.NotContains(t, live, "both.service")
	files["sbin/init"], files["etc/inittab"] = "#!", "id:2:initdefault:\n"
	m, got, items := sysv(files)
	require.Equal(t, map[string]string{"both": "enabled rename", "three": "disabled rename only in runlevel 3",
		"early": "enabled rename", "off": "disabled rename off in every runlevel",
		"text": "disabled rename not executable", "native": "enabled rename", "masked.sh": "enabled rename",
		"gone": "disabled rename dangling link"}, got)
	edits, err := items["both"].Plan(m.Files, location.Want{State: autostart.Disabled})
	require.NoError(t, err)
	var named []string
	for _, e := range edits {
		named = append(named, e.Artifact.Name+" "+e.Image.Target)
	}
	require.Equal(t, []string{"/etc/rc2.d/K01both ../init.d/both", "/etc/rc2.d/S01both ",
		"/etc/rc3.d/K01both ../init.d/both", "/etc/rc3.d/S01both "}, named)
	files["etc/rc2.d/K01both"] = "-> ../init.d/both"
	m, _, items = sysv(files)
	_, err = items["both"].Plan(m.Files, location.Want{State: autostart.Disabled})
	require.ErrorIs(t, err, location.ErrNoSwitch)
	files["sbin/init"], files["sbin/runit-init"] = "-> runit-init", "#!"
	_, got, _ = sysv(files)
	require.Equal(t, "disabled report ignored: this machine starts with runit, which has no such runlevels",
		got["both"])
}

// No file makes the list grow without end: what is too long is reported.
func TestLongLists(t *testing.T) {
	t.Parallel()
	long := func(line string, n int) string { return strings.Repeat(line, n) }
	var libraries strings.Builder
	for k := range 1001 {
		fmt.Fprintf(&libraries, "/opt/%d.so\n", k)
	}
	_, items, unread := disk(t, map[string]string{
		"etc/ld.so.preload": libraries.String(), "etc/modules": long("tide\n", 100_001),
		"home/ines/.config/environment.d/1.conf": long("GTK_MODULES=a\n", 6000),
		"home/ines/.config/environment.d/2.conf": long("GTK_MODULES=b\n", 6000),
		"home/bram/.config/environment.d/1.conf": "GTK_MODULES=c\n", "etc/acpi/events/long": "event=x\n" +
			long("action=/opt/a\n", 8000),
	})
	var paths []string
	for _, u := range unread {
		paths = append(paths, u.Path)
	}
	require.Equal(t, []string{"/etc/modules", "/etc/ld.so.preload", "/home/ines/.config/environment.d/2.conf"}, paths)
	require.Contains(t, items, "GTK_MODULES/bram")
	require.Equal(t, "when a power event comes", items["long"].When)
}

// A folder of links that has two names is one folder.
func TestRunlevelsByTwoNames(t *testing.T) {
	t.Parallel()
	m, items, _ := disk(t, map[string]string{"etc/rc.d/rc3.d/S01tide": "-> ../init.d/tide",
		"etc/rc.d/init.d/tide": "#!", "etc/init.d": "-> rc.d/init.d", "etc/rc3.d": "-> rc.d/rc3.d"})
	edits, err := items["tide"].Plan(m.Files, location.Want{State: autostart.Disabled})
	require.NoError(t, err)
	require.Len(t, edits, 2)
	require.Equal(t, "/etc/rc.d/init.d/tide", items["tide"].Source.Path)
}

// Folders that a session adds, and those of snaps.
func TestFurtherSignInFolders(t *testing.T) {
	t.Parallel()
	entry := "[Desktop Entry]\nType=Application\nName=%\nExec=/opt/x\n"
	named := func(name string) string { return strings.Replace(entry, "%", name, 1) }
	files := map[string]string{
		"etc/X11/Xsession.d/60xdg": "# XDG_CONFIG_DIRS=/etc/xdg/no\nXDG_CONFIG_DIRS=/etc/xdg/xdg-\"$DESKTOP_SESSION\":/etc/xdg\n", "etc/profile.d/x.sh": "export XDG_CONFIG_DIRS=/etc/xdg/own:/etc/xdg/xdg-${DESKTOP_SESSION}:$XDG_CONFIG_DIRS\n",
		"usr/share/xsessions/tide.desktop":     "[Desktop Entry]\nExec=x\n",
		"etc/xdg/xdg-tide/autostart/a.desktop": named("of the session"),
		"etc/xdg/own/autostart/b.desktop":      named("own"), "etc/xdg/no/autostart/c.desktop": named("no"),
		"etc/xdg/autostart/a.desktop": named("behind it"), "etc/autostart/d.desktop": named("lxqt"),
		"home/ines/snap/web/12/.config/autostart/e.desktop": named("snap"), "home/ines/snap/web/current": "-> 12",
		"home/ines/snap/web/11/.config/autostart/f.desktop": named("old"),
	}
	_, items, unread := disk(t, files)
	require.Empty(t, unread)
	for _, name := range []string{"of the session", "own", "snap/ines"} {
		require.Contains(t, items, name)
	}
	for _, name := range []string{"behind it", "no", "lxqt", "old/ines"} {
		require.NotContains(t, items, name)
	}
	require.Equal(t, []artifact.Artifact{artifact.File("/home/ines/snap/web/12/.config/autostart/e.desktop")},
		items["snap/ines"].Artifacts())
	require.Equal(t, autostart.Park, items["snap/ines"].Switch)
	files["usr/bin/startlxqt"] = "#!"
	_, items, _ = disk(t, files)
	require.Contains(t, items, "lxqt")
}

// Files that are no entries and still decide what starts.
func TestFacts(t *testing.T) {
	t.Parallel()
	_, items, unread := disk(t, map[string]string{
		"home/ines/.config/systemd/user/tide.service": "[Service]\nExecStart=/opt/tide\n[Install]\nWantedBy=default.target\n", "home/ines/.config/systemd/user/default.target.wants/tide.service": "-> ../tide.service",
		"usr/lib/systemd/user/default.target": "[Unit]\n", "var/lib/systemd/linger/ines": "x",
		"home/bram/.config/systemd/user/bell.service": "[Service]\nExecStart=/opt/bell\n[Install]\nWantedBy=default.target\n",
		"usr/lib/tmpfiles.d/a.conf": "# f /etc/cron.d/no\nL+ /etc/profile.d/planted.sh - - - - " +
			"/opt/x\nd /etc/profile.d 0755\n", "usr/lib/tmpfiles.d/b.conf": "f /etc/profile.d/masked.sh\n",
		"etc/tmpfiles.d/b.conf":    "-> /dev/null",
		"etc/profile.d/planted.sh": "x", "etc/profile.d/masked.sh": "x", "var/lib/extensions/more.raw": "image",
		"usr/lib/systemd/system/lightdm.service":                     "[Service]\nExecStart=/usr/sbin/lightdm\n",
		"etc/systemd/system/multi-user.target.wants/lightdm.service": "-> /usr/lib/systemd/system/lightdm.service",
		"etc/lightdm/lightdm.conf":                                   "[Seat:*]\nautologin-user=ines\n",
	})
	require.Len(t, unread, 1)
	require.Equal(t, "/var/lib/extensions/more.raw", unread[0].Path)
	require.Equal(t, "at startup, without a sign-in", items["tide.service/ines"].When)
	require.Equal(t, "at sign-in", items["bell.service/bram"].When)
	require.Equal(t, "made again at each start by /usr/lib/tmpfiles.d/a.conf", items["planted.sh"].Mode)
	require.Empty(t, items["masked.sh"].Mode)
	require.Contains(t, items["lightdm.service"].Facts(), location.Fact{Name: "signs in by itself", Value: "ines",
		Basis: "/etc/lightdm/lightdm.conf"})
}

// What a generator made of something that has an entry of its own is not listed once more.
func TestGeneratedOnce(t *testing.T) {
	t.Parallel()
	generated := func(source string) string {
		return "[Unit]\nSourcePath=" + source + "\n[Service]\nExecStart=/opt/x\n"
	}
	files := map[string]string{}
	for name, source := range map[string]string{"script": "/etc/init.d/script",
		"quadlet": "/etc/containers/systemd/quadlet.container", "other": "/etc/fstab"} {
		files["run/systemd/generator/"+name+".service"] = generated(source)
		files["run/systemd/generator/multi-user.target.wants/"+name+".service"] = "-> ../" + name + ".service"
	}
	_, items, _ := disk(t, files)
	require.Contains(t, items, "other.service")
	require.NotContains(t, items, "script.service")
	require.NotContains(t, items, "quadlet.service")
}

// OpenRC starts the services under its own first process, under that of busybox as on Alpine, and under sysvinit.
func TestWhoStartsOpenRC(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		init         string
		more         []string
		openrc, sysv string
	}{
		{"openrc-init", nil, "enabled unlink in runlevel default",
			"disabled report ignored: this machine starts with OpenRC, which has no such runlevels"},
		{"busybox", []string{"sbin/openrc"}, "enabled unlink in runlevel default",
			"disabled report ignored: this machine starts with busybox, which has no such runlevels"},
		{"busybox", nil, "disabled report ignored: no OpenRC is installed",
			"disabled report ignored: this machine starts with busybox, which has no such runlevels"},
		{"init", []string{"etc/inittab", "sbin/openrc"}, "enabled unlink in runlevel default",
			"disabled report ignored: OpenRC starts the services of this machine, and has no such runlevels"},
		{"init", []string{"etc/inittab"}, "disabled report ignored: no OpenRC is installed", "enabled rename"},
		{"systemd", []string{"sbin/openrc"},
			"disabled report ignored: this machine starts with systemd, not with OpenRC", "enabled rename"},
	} {
		files := map[string]string{"etc/init.d/tide": "#!", "etc/runlevels/default/tide": "-> /etc/init.d/tide",
			"etc/init.d/bell": "#!", "etc/rc2.d/S01bell": "-> ../init.d/bell", "bin/" + c.init: "#!"}
		if files["sbin/init"] = "-> /bin/" + c.init; c.init == "init" {
			files["sbin/init"] = "#!"
		}
		for _, name := range c.more {
			files[name] = "#!"
		}
		m, _, _ := disk(t, files)
		in := func(id, name string) string {
			items, _, _ := location.Run(m.Reader(nil), table(id))
			k := slices.IndexFunc(items, func(i *location.Item) bool { return i.Name == name })
			return states(map[string]*location.Item{name: items[k]})[name]
		}
		require.Equal(t, c.openrc, in("linux.openrc", "tide"), "%v", c)
		require.Equal(t, c.sysv, in("linux.sysv", "bell"), "%v", c)
	}
}
