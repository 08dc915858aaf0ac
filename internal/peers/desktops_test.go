//go:build linux

package peers

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/internal/testkit"
)

// desktopServices are what must run after everything unprotected was switched off on each desktop, and the screen
// on which people sign in.
var desktopServices = map[string][]string{
	"xfce": {"dbus.service", "systemd-logind.service", "systemd-journald.service", "NetworkManager.service",
		"user@1000.service", "lightdm.service"},
	"gnome": {"dbus.service", "systemd-logind.service", "systemd-journald.service", "NetworkManager.service",
		"user@1000.service", "gdm.service"},
	"plasma": {"dbus.service", "systemd-logind.service", "systemd-journald.service", "NetworkManager.service",
		"user@1000.service", "sddm.service"},
}

// mostShown is how many entries a fresh desktop may show.
const mostShown = 15

// Whole desktops, as a distribution installs them: what is said about them holds against systemd, few entries are
// shown, everything that is not protected can be switched off without anybody being locked out, and a restore leaves
// nothing behind. They are some gigabytes each, so make desktops builds and runs them, and no other test does.
func TestWholeDesktops(t *testing.T) {
	t.Parallel()
	if os.Getenv("LOCKBACK_DESKTOPS") == "" {
		t.Skip("whole desktops are large; make desktops builds them and runs this")
	}
	testkit.Need(t, "systemd-nspawn", "systemctl")
	for _, kind := range []string{"xfce", "gnome", "plasma"} {
		t.Run(kind, func(t *testing.T) {
			root := testkit.Debian(t, kind)
			p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
			list, _ := p.List(t)
			all, _ := p.List(t, "--all")
			require.Empty(t, all.Unread)
			var shown []string
			for _, e := range list.Entries {
				shown = append(shown, e.Name)
			}
			t.Logf("%d entries, %d shown: %s", len(all.Entries), len(shown), strings.Join(shown, ", "))
			require.LessOrEqual(t, len(shown), mostShown, shown)
			for _, e := range all.Entries {
				accused(t, kind, e)
				if slices.Contains(e.Problems, autostart.TargetMissing) {
					_, err := os.Stat(filepath.Join(root, e.Target.Path))
					require.Error(t, err, "%s: %s", e.Name, e.Target.Path)
					t.Logf("really missing: %s of %s", e.Target.Path, e.Name)
				}
			}
			proposesNoHarm(t, p)
			t.Logf("%d units of the system and %d for everyone judged by systemctl",
				judgeUnits(t, p, "linux.systemd.system"), judgeUnits(t, p, "linux.systemd.user", "--global"))

			setup := filepath.Join(t.TempDir(), "setup")
			require.NoError(t, os.WriteFile(setup, []byte(reporting), 0o644))
			testkit.Shell(t, "sh -e "+setup+" "+root)
			before := testkit.Tree(t, root)
			boot := func() string {
				b := box{filepath.Join(t.TempDir(), "booted")}
				testkit.Shell(t, "cp -a --reflink=auto "+root+" "+b.root)
				_, out := b.boot(t,
					"sleep 12; su ines -c 'echo signed in'; systemctl start user@1000.service; for u in "+
						strings.Join(desktopServices[kind], " ")+
						"; do echo $u $(systemctl show -p ActiveState --value $u); done; echo failed: $(systemctl "+
						"--failed --no-legend --plain | cut -d' ' -f1)")
				return out
			}
			untouched := boot()
			out := p.OK(t, "disable", "state=enabled", "switch!=report", "name!=zz-report.service", "--all", "--yes")
			for line := range strings.Lines(out) {
				if strings.HasPrefix(line, "C1 done") {
					t.Log(strings.TrimSpace(line))
				}
			}
			off := boot()
			require.Contains(t, off, "signed in", off)
			for _, service := range desktopServices[kind] {
				want := stateOf(untouched, service)
				if service != desktopServices[kind][len(desktopServices[kind])-1] { // a container has no screen
					require.Equal(t, "active", want, "%s on the untouched root: %s", service, untouched)
				}
				require.Equal(t, want, stateOf(off, service), "%s: %s", service, off)
			}
			for _, unit := range strings.Fields(after(off, "failed:")) {
				require.Contains(t, after(untouched, "failed:"), unit, "it fails only now")
			}
			t.Logf("failed on the untouched root: %s; with everything off: %s",
				strings.TrimSpace(after(untouched, "failed:")), strings.TrimSpace(after(off, "failed:")))
			p.OK(t, "restore", "S1", "--yes")
			testkit.Same(t, before, testkit.Tree(t, root))
		})
	}
}

// after is what stands on a line behind some words.
func after(text, words string) string {
	_, rest, _ := strings.Cut(text, words)
	line, _, _ := strings.Cut(rest, "\n")
	return line
}

// stateOf is the state that systemd told of a unit.
func stateOf(text, unit string) string { return strings.TrimSpace(after(text, unit+" ")) }
