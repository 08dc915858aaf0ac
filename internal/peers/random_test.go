//go:build linux

package peers

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// randomUnits makes a root whose units, links, masks, aliases, instances and
// drop-ins are drawn by lot, and so meet in ways that nobody would think of.
func randomUnits(t *testing.T, seed uint64) string {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 1887))
	root := t.TempDir()
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	put := func(name, content string) {
		name = filepath.Join(root, name)
		if _, err := os.Lstat(name); err == nil {
			return
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
	}
	link := func(name, target string) {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		os.Symlink(target, name) // what is there already stays
	}
	put("etc/os-release", "ID=gullrock\n")
	put("etc/machine-id", "0123456789abcdef0123456789abcdef\n")
	put("etc/passwd", "root:x:0:0::/root:/bin/sh\n")
	const lib, etc, run = "usr/lib/systemd/system/", "etc/systemd/system/", "run/systemd/system/"
	targets := []string{"multi-user.target", "timers.target", "sockets.target", "graphical.target", "rescue.target"}
	for _, target := range targets {
		put(lib+target, "[Unit]\nDescription="+target+"\n")
	}
	link(lib+"default.target", one("graphical.target", "multi-user.target"))
	if r.IntN(2) == 0 {
		put(etc+"graphical.target.d/pull.conf", "[Unit]\nRequires=multi-user.target\n")
	}
	names := []string{"a.service", "b.service", "c.timer", "d.socket", "e.path", "f@.service", "g-h.service",
		"second.service", "f@x.service"}
	wants := []string{".wants/", ".requires/"}
	for range 4 + r.IntN(14) {
		name := one(names...)
		dir := one(lib, lib, etc, run, "usr/local/lib/systemd/system/")
		text := "[Unit]\nDescription=drawn\n"
		if r.IntN(5) == 0 {
			text += one("Wants", "Requires", "BindsTo") + "=" + one(names...) + "\n"
		}
		text += "[Service]\nExecStart=/bin/true\n[Timer]\nOnBootSec=1\n[Socket]\nListenStream=/run/x\n[Path]\nPathExists=/x\n"
		if r.IntN(3) > 0 {
			text += "[Install]\n"
			for range 1 + r.IntN(2) {
				switch r.IntN(6) {
				case 0:
					// An alias must be of the same kind.
					text += "Alias=alias-" + one("one", "two") + filepath.Ext(name) + "\n"
				case 1:
					text += "RequiredBy=" + one(targets...) + "\n"
				case 2:
					text += "Also=" + one("a.service", "c.timer") + "\n"
				case 3:
					if strings.Contains(name, "@.") {
						text += "DefaultInstance=x\n"
					}
				default:
					text += "WantedBy=" + one(targets...) + "\n"
				}
			}
		}
		switch r.IntN(10) {
		case 0:
			link(one(etc, run)+name, "/dev/null")
		case 1:
			put("opt/units/"+name, text)
			link(etc+name, "/opt/units/"+name)
		default:
			put(dir+name, text)
		}
	}
	for range r.IntN(14) {
		name := one(names...)
		source := "/" + one(lib, etc) + name
		if name == "f@x.service" {
			source = "/" + lib + "f@.service"
		}
		if name == "f@.service" {
			name = "f@" + one("x", "y") + ".service"
		}
		switch dir := one(etc, etc, run, lib); r.IntN(8) {
		case 0:
			link(dir+"alias-"+one("one", "two")+filepath.Ext(name), source)
		case 1:
			link(dir+one(targets...)+one(wants...)+name, "/dev/null")
		case 2:
			put(dir+name+".d/"+one("10", "20")+".conf", one("[Service]\nExecStart=\nExecStart=/bin/false\n",
				"[Unit]\nWants=b.service\n"))
		default:
			link(dir+one(targets...)+one(wants...)+name, source)
		}
	}
	return root
}

// On machines drawn by lot, systemctl and we use the same word for each unit;
// everything that can be switched goes off, systemctl agrees, and everything
// comes back to the byte.
func TestUnitsDrawnByLot(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "systemctl")
	compared, switched := 0, 0
	seeds := draw.Seeds(t, 120)
	for _, seed := range seeds {
		name := fmt.Sprintf("seed %d", seed)
		root := randomUnits(t, seed)
		p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
		agree := func(when string) (on []string) {
			list, _ := p.List(t, "--all", "location=linux.systemd.system")
			for _, e := range list.Entries {
				if e.Mode == "not-found" {
					continue
				}
				require.Equal(t, isEnabled(root, e.Name), e.Mode, "%s, %s: %s", name, when, e.Name)
				compared++
				if e.State == "enabled" && e.Switch != "report" {
					on = append(on, e.Handle)
				}
			}
			return on
		}
		before := testkit.Tree(t, root)
		on := agree("before")
		if len(on) == 0 {
			continue
		}
		p.OK(t, append([]string{"disable", "--yes", "--guarded"}, on...)...)
		require.Empty(t, agree("disabled"), name)
		switched += len(on)
		p.OK(t, append([]string{"enable", "--yes"}, on...)...)
		require.Len(t, agree("enabled"), len(on), name)
		p.OK(t, "restore", "S1", "--yes")
		require.Empty(t, testkit.Differences(before, testkit.Tree(t, root)), name)
	}
	t.Logf("%d words of systemctl's compared, %d entries turned off and on", compared, switched)
	// Usual are ten words a seed; a poor draw has fewer.
	require.Greater(t, compared, 3*len(seeds))
	require.Positive(t, switched)
}

// randomEntries makes a root with sign-in entries drawn by lot, for everyone
// and for one user.
func randomEntries(t *testing.T, seed uint64) string {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 1888))
	root := t.TempDir()
	put := func(name, content string) {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o755))
	}
	put("etc/os-release", "")
	put("etc/machine-id", "0123456789abcdef0123456789abcdef\n")
	put("etc/passwd", fmt.Sprintf("ines:x:%d:%d::/home/ines:/bin/sh\n", max(1000, os.Getuid()), max(1000, os.Getgid())))
	put("usr/bin/true", "")
	put("bin/true", "")
	// Each key at most once: of a key that stands twice systemd takes the first
	// value and the desktops' library the last; and a Hidden that is neither true
	// nor false is refused by the one and ignored by the other.
	keys := map[string][]string{
		"Hidden": {"true", "false", "1", "0"}, "TryExec": {"/bin/true", "/opt/gone", "true", "gone"},
		"OnlyShowIn": {"GNOME;KDE;"}, "NotShowIn": {"XFCE"},
		"X-systemd-skip": {"false"}, "Type": {"Application", "Application", "Link"}, "Comment": {`a\nb`},
		"Name[de]": {"x"}, "junk": {"x"}, "# comment": {"x"},
		"Exec": {"/bin/true", "/bin/true", "/opt/gone --x", `"/bin/true" "a b" %U`, "true", "", "/bin/true %k 100%%"},
	}
	order := []string{"Type", "Hidden", "TryExec", "OnlyShowIn", "NotShowIn", "X-systemd-skip", "Comment", "Name[de]",
		"junk", "# comment", "Exec"}
	for range 3 + r.IntN(10) {
		text := "[Desktop Entry]\nName=drawn\n"
		if r.IntN(12) == 0 {
			text = "[Some Group]\n"
		}
		for _, key := range order {
			if always := key == "Type" || key == "Exec"; always && r.IntN(15) > 0 || !always && r.IntN(5) == 0 {
				text += key + "=" + keys[key][r.IntN(len(keys[key]))] + "\n"
			}
		}
		if r.IntN(4) == 0 {
			text += "[Desktop Action x]\nHidden=true\nExec=/opt/gone\n"
		}
		dir := []string{"etc/xdg/autostart/", "home/ines/.config/autostart/"}[r.IntN(2)]
		name := dir + string(rune('a'+r.IntN(6))) + []string{".desktop", ".desktop", ".desktop", ".desktop~"}[r.IntN(4)]
		put(name, text)
	}
	return root
}

// On sign-in entries drawn by lot, systemd's generator and we agree on what
// starts; all go off, and all come back.
func TestSignInEntriesDrawnByLot(t *testing.T) {
	t.Parallel()
	const generator = "/usr/lib/systemd/user-generators/systemd-xdg-autostart-generator"
	testkit.Need(t, generator)
	agreed := 0
	seeds := draw.Seeds(t, 150)
	for _, seed := range seeds {
		name := fmt.Sprintf("seed %d", seed)
		root := randomEntries(t, seed)
		p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
		starting := func() (ours []string) {
			list, _ := p.List(t, "--all", "location=linux.xdg-autostart")
			own := map[string]bool{}
			for _, e := range list.Entries {
				own[filepath.Base(e.Source.Path)] = own[filepath.Base(e.Source.Path)] || e.User == "ines"
			}
			for _, e := range list.Entries {
				missing := e.Target.Exists != nil && !*e.Target.Exists
				if base := filepath.Base(e.Source.Path); e.State == "enabled" && !missing &&
					(e.User == "ines" || !own[base]) {
					ours = append(ours, strings.TrimSuffix(base, ".desktop"))
				}
			}
			sort.Strings(ours)
			return ours
		}
		theirs := func() (names []string) {
			out := t.TempDir()
			cmd := exec.Command(generator, out, out, out)
			cmd.Env = []string{"HOME=" + root + "/home/ines", "XDG_CONFIG_HOME=" + root + "/home/ines/.config",
				"XDG_CONFIG_DIRS=" + root + "/etc/xdg", "SYSTEMD_LOG_LEVEL=crit", "PATH=/usr/bin:/bin"}
			text, err := cmd.CombinedOutput()
			require.NoError(t, err, string(text))
			files, err := filepath.Glob(filepath.Join(out, "app-*@autostart.service"))
			require.NoError(t, err)
			for _, f := range files {
				names = append(names, strings.TrimSuffix(strings.TrimPrefix(filepath.Base(f), "app-"),
					"@autostart.service"))
			}
			return names
		}
		before := testkit.Tree(t, root)
		ours := starting()
		require.Equal(t, theirs(), ours, name)
		agreed += len(ours)
		if len(ours) == 0 {
			continue
		}
		p.OK(t, "disable", "state=enabled", "switch!=report", "--all", "--yes", "--guarded")
		require.Empty(t, starting(), name)
		require.Empty(t, theirs(), name)
		p.OK(t, "restore", "S1", "--yes")
		require.Equal(t, ours, theirs(), name)
		testkit.Same(t, before, testkit.Tree(t, root))
	}
	t.Logf("%d entries that start, agreed on", agreed)
	require.Greater(t, agreed, len(seeds)/2)
}
