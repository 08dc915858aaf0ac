//go:build linux

package peers

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// sysvinitSetup puts into a system that starts with sysvinit what that acts on, and a unit of systemd, on which it
// does not.
const sysvinitSetup = `
R=$1; M=/opt/gullrock/mark
mkdir -p $R/opt/gullrock
printf '#!/bin/sh\necho "$1" >> /opt/gullrock/started\n' > $R$M; chmod 755 $R$M
printf '#!/bin/sh\n### BEGIN INIT INFO\n# Provides: tided\n# Required-Start: $remote_fs\n# Required-Stop:\n# Default-Start: 2 3 4 5\n# Default-Stop:\n### END INIT INFO\n[ "$1" = start ] && %s script\nexit 0\n' $M > $R/etc/init.d/tided; chmod 755 $R/etc/init.d/tided
chroot $R update-rc.d tided defaults
printf 'gl:2:once:/opt/gullrock/mark inittab\nzz:2:once:/bin/sh /opt/gullrock/last\n' >> $R/etc/inittab
printf '#!/bin/sh\n%s rc-local\n' $M > $R/etc/rc.local; chmod 755 $R/etc/rc.local
printf '@reboot root %s cron\n' $M > $R/etc/cron.d/gullrock
printf '#!/bin/sh\necho there >> /opt/gullrock/there.log\n' > $R/opt/gullrock/there; chmod 755 $R/opt/gullrock/there
printf '@reboot root /opt/gullrock/there\n' > $R/etc/cron.d/there
printf '[Service]\nExecStart=%s unit\n[Install]\nWantedBy=multi-user.target\n' $M > $R/etc/systemd/system/tidewatch.service
mkdir -p $R/etc/systemd/system/multi-user.target.wants
ln -s /etc/systemd/system/tidewatch.service $R/etc/systemd/system/multi-user.target.wants/
`

// On a machine whose first process is sysvinit that decides what starts, and what is said of units is said so.
func TestSysvinitInside(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "systemd-nspawn", "debootstrap")
	root := testkit.Debian(t, "sysv")
	setup := filepath.Join(t.TempDir(), "setup")
	require.NoError(t, os.WriteFile(setup, []byte(sysvinitSetup), 0o644))
	testkit.Shell(t, "sh -e "+setup+" "+root)
	testkit.Shell(t, "install -m 755 "+testkit.Built(t)+" "+root+"/usr/local/bin/lockback")
	boot := func(commands string) (marks []string, out string) {
		t.Helper()
		at := func(name string) string { return filepath.Join(root, "opt/gullrock", name) }
		require.NoError(t, os.WriteFile(at("started"), nil, 0o666))
		require.NoError(t, os.WriteFile(at("there.log"), nil, 0o666))
		// A line of cron that stays on shows that cron has started its lines; the rest starts before.
		require.NoError(t, os.WriteFile(at("last"), []byte("for k in $(seq 300); do [ -s /opt/gullrock/there.log ] && "+
			"[ -e /run/crond.pid ] && break; sleep 0.2; done\nsleep 2\ncp /opt/gullrock/started "+
			"/opt/gullrock/marks\nexport PATH=$PATH:/usr/local/bin HOME=/root\n("+commands+
			") > /opt/gullrock/output 2>&1\nsync; poweroff -f\n"), 0o644))
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
		defer cancel()
		printed, err := container(ctx, t, root).CombinedOutput()
		require.NoError(t, err, string(printed))
		text, err := os.ReadFile(at("marks"))
		require.NoError(t, err, string(printed))
		said, err := os.ReadFile(at("output"))
		require.NoError(t, err)
		marks = fields(string(text))
		return marks, string(said)
	}
	all := []string{"cron", "inittab", "rc-local", "script"}
	marks, out := boot("lockback list tidewatch.service; lockback snapshot; lockback disable tided 'mark*' " +
		"rc.local --guarded --yes; lockback enable tidewatch.service --yes; echo exit $?; lockback add --name " +
		"'Tide board' --at startup --as service --yes -- /opt/gullrock/mark unit; echo exit $?")
	require.Equal(t, all, marks, out)
	require.Contains(t, out, "this machine starts with sysvinit, not with systemd")
	require.Contains(t, out, "C1 done", out)
	require.Contains(t, out, "exit 1", "a unit has no switch: %s", out)
	require.Contains(t, out, "exit 2", "no unit is made: %s", out)
	marks, out = boot("lockback restore S1 --yes")
	require.Empty(t, marks, "these started although they are off")
	require.Contains(t, out, "C2 done", out)
	// What is added is a table of cron here, and starts.
	marks, out = boot("lockback add --name 'Tide board' --at startup --yes -- /opt/gullrock/mark 'it\\s-5%-\"new\"'")
	require.Equal(t, all, slices.Compact(marks))
	require.Contains(t, out, "C3 done", out)
	marks, _ = boot("lockback undo --yes")
	require.Contains(t, marks, `it\s-5%-"new"`)
	marks, _ = boot("true")
	require.Equal(t, all, slices.Compact(marks))
}
