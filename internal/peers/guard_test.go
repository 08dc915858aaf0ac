//go:build linux

package peers

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/internal/testkit"
)

// reporting is a unit that writes down what runs when the machine has started, and powers it off.
const reporting = `
R=$1
mkdir -p $R/opt/gullrock $R/etc/systemd/system/graphical.target.wants
: > $R/var/log/started; chmod 666 $R/var/log/started
printf '[Unit]\nAfter=basic.target\n[Service]\nType=simple\nExecStart=/bin/sh /opt/gullrock/last\nExecStopPost=/usr/bin/systemctl poweroff --force\n[Install]\nWantedBy=graphical.target\n' > $R/etc/systemd/system/zz-report.service
ln -s /etc/systemd/system/zz-report.service $R/etc/systemd/system/graphical.target.wants/
chroot $R useradd -m -u 1000 -s /bin/bash ines 2>/dev/null || true
`

// needed are what a machine must have after everything was switched off that is not protected.
var needed = []string{"dbus.service", "systemd-logind.service", "systemd-journald.service", "NetworkManager.service",
	"user@1000.service"}

// TestNobodyIsLockedOut switches off everything that a real desktop starts, protected entries
// excepted, and starts it: it comes up, has its network, its protection and its sign-in screen as
// before, and lets its user in.
func TestNobodyIsLockedOut(t *testing.T) {
	t.Parallel()
	b := box{testkit.Debian(t, "desktop")}
	if named := os.Getenv("LOCKBACK_DESKTOP"); named != "" {
		b.root = t.TempDir() + "/desktop"
		testkit.Shell(t, "cp -a --reflink=auto "+named+" "+b.root)
	}
	setup := t.TempDir() + "/setup"
	require.NoError(t, os.WriteFile(setup, []byte(reporting), 0o644))
	testkit.Shell(t, "sh -e "+setup+" "+b.root)
	look := "sleep 6; su ines -c 'echo signed in'; systemctl start user@1000.service polkit.service " +
		"wpa_supplicant.service 2>/dev/null; for u in " + strings.Join(needed, " ") +
		" systemd-udevd.service lightdm.service apparmor.service wpa_supplicant.service polkit.service; do echo $u $(systemctl is-active $u); done; echo failed: $(systemctl --failed --no-legend | wc -l)"
	_, before := b.boot(t, look)
	p := testkit.Program{Root: b.root, Store: t.TempDir() + "/record.db"}
	out := p.OK(t, "disable", "state=enabled", "name!=zz-report.service", "--all", "--yes")
	t.Log(out[strings.LastIndex(strings.TrimSpace(out), "\n")+1:])
	_, after := b.boot(t, look)
	for _, unit := range needed {
		require.Contains(t, after, unit+" active", after)
	}
	require.Contains(t, after, "signed in")
	for line := range strings.Lines(before) {
		// What ran before and is still needed runs as before; a container has no screen, so what
		// fails there fails on both sides.
		if strings.HasPrefix(line, "lightdm") || strings.HasPrefix(line, "systemd-udevd") ||
			strings.HasPrefix(line, "apparmor") || strings.HasPrefix(line, "wpa_supplicant") ||
			strings.HasPrefix(line, "polkit") {
			if strings.Contains(line, " active") || strings.HasPrefix(line, "lightdm") {
				require.Contains(t, after, line, after)
			}
		}
	}
	p.OK(t, "restore", "S1", "--yes")
	_, restored := b.boot(t, look)
	require.Contains(t, restored, "NetworkManager.service active")
}

// A system as its distribution delivers it has no problem, but what it ignores itself, and nothing of it is proposed as
// broken or hostile. Of the system's own parts some name programs that are installed only when they are needed.
func TestFreshSystemsAccuseNobody(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"bare", "desktop", "forms", "sysv"} {
		p := testkit.Program{Root: testkit.DebianToRead(t, kind), Store: filepath.Join(t.TempDir(), "record.db")}
		all, _ := p.List(t, "--all")
		require.NotEmpty(t, all.Entries, kind)
		for _, e := range all.Entries {
			accused(t, kind, e)
		}
		proposesNoHarm(t, p)
	}
}

// accused fails where an entry of a fresh system has a problem but what is ignored. Of the system's own parts some name
// programs that are installed only when they are needed.
func accused(t *testing.T, kind string, e testkit.Entry) {
	t.Helper()
	for _, problem := range e.Problems {
		if problem != autostart.Ignored && !(e.OSPart && problem == autostart.TargetMissing) {
			require.Fail(t, "accused", "%s: %s %s: %s", kind, e.Location, e.Name, problem)
		}
	}
}

// proposesNoHarm fails where something of a fresh system is proposed as broken or hostile.
func proposesNoHarm(t *testing.T, p testkit.Program) {
	t.Helper()
	var proposed struct {
		Suggestions []struct{ Kind, Name string }
	}
	p.JSON(t, &proposed, "suggest")
	for _, s := range proposed.Suggestions {
		require.NotContains(t, []string{"broken", "hostile"}, s.Kind, s.Name)
	}
}
