//go:build linux

package peers

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// stands are what a person needs of a machine, by the command that finds it inside.
var stands = []struct{ what, command string }{
	{"processes", "test -d /proc/1"}, {"devices", "test -c /dev/null"}, {"a mount of fstab", "mountpoint -q /srv/tide"},
	{"the host name", "test \"$(hostname)\" = lamp-room"}, {"the loopback network", "ip link show lo | grep -q ,UP"},
	{"the bus", "dbus-send --system --print-reply --dest=org.freedesktop.DBus / org.freedesktop.DBus.ListNames"},
	{"a prompt", "pgrep -x agetty || pgrep -x getty || pgrep -x login"},
	{"a session", "su - ines -c 'test \"$HOME\" = /home/ines'"},
	{"a place to write", "touch /home/ines/written /var/log/written /tmp/written"},
}

// insideInit starts a machine with whatever init it has, and returns which of stands are not there. It does not wait
// for those that never are.
func insideInit(t *testing.T, root string, never []string) (lacks []string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	nspawn := container(ctx, t, root, "--hostname=container")
	require.NoError(t, nspawn.Start())
	defer func() {
		testkit.Shell(t, fmt.Sprintf("pkill -KILL -P %d || true", nspawn.Process.Pid))
		nspawn.Wait()
	}()
	// What is not there after a while does not come: a start of these takes two seconds.
	for end := time.Now().Add(time.Minute); ; time.Sleep(500 * time.Millisecond) {
		lacks = nil
		child, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", nspawn.Process.Pid, nspawn.Process.Pid))
		leader := strings.TrimSpace(string(child))
		waits := false
		for _, s := range stands {
			if leader == "" || exec.CommandContext(ctx, "nsenter", "-a", "-t", leader, "/bin/sh", "-c",
				"export PATH=/usr/sbin:/usr/bin:/sbin:/bin; "+s.command).Run() != nil {
				lacks = append(lacks, s.what)
				waits = waits || !slices.Contains(never, s.what)
			}
		}
		if !waits || time.Now().After(end) {
			return lacks
		}
	}
}

// With an init that is not systemd, everything that is not protected can be off at once: the machine starts, its disks
// are mounted, and people sign in. LOCKBACK_EACH=1 turns each protected entry off alone as well, and prints what then
// fails. The systems are some hundred megabytes, so make desktops builds them and runs this.
func TestOtherInitsLockNobodyOut(t *testing.T) {
	t.Parallel()
	if os.Getenv("LOCKBACK_DESKTOPS") == "" {
		t.Skip("whole systems are large; make desktops builds them and runs this")
	}
	testkit.Need(t, "systemd-nspawn", "debootstrap")
	kinds := []string{"sysv", "openrc", "runit"}
	if os.Getenv("LOCKBACK_EACH") != "" {
		kinds = append(kinds, "desktop") // of systemd, see TestNobodyIsLockedOut
	}
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			root := testkit.Debian(t, kind)
			testkit.Shell(t, "R="+root+`; chroot $R useradd -m -u 1000 -s /bin/bash ines || true; mkdir -p $R/srv/tide
printf 'tmpfs /srv/tide tmpfs defaults 0 0\n' > $R/etc/fstab; echo lamp-room > $R/etc/hostname
chroot $R sh -c 'ssh-keygen -A' >/dev/null`)
			before := insideInit(t, root, nil)
			t.Logf("as it comes, the container lacks %q", before)
			p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
			list, _ := p.List(t, "--all", "state=enabled")
			var guarded []string
			off := []string{"disable", "--all", "--yes"}
			for _, e := range list.Entries {
				switch {
				case e.Guarded != "":
					guarded = append(guarded, e.Handle+" "+e.Location+" "+e.Name)
				case e.Switch != "report":
					off = append(off, e.Handle)
				}
			}
			require.NotEmpty(t, guarded)
			p.Run(t, off...) // what cannot be turned off is left out
			left, _ := p.List(t, "--all", "state=enabled")
			t.Logf("of %d that are enabled, %d are protected, and %d were turned off", len(list.Entries), len(guarded),
				len(list.Entries)-len(left.Entries))
			require.Greater(t, len(list.Entries)-len(left.Entries), len(off)/2)
			require.Equal(t, before, insideInit(t, root, before), "with all off that is not protected")
			p.OK(t, "undo", "--yes")
			if os.Getenv("LOCKBACK_EACH") == "" {
				return
			}
			for _, line := range guarded {
				handle, name, _ := strings.Cut(line, " ")
				if r := p.Run(t, "disable", handle, "--guarded", "--all", "--yes"); r.Code != 0 {
					t.Logf("%s: cannot be off: %s", name, strings.TrimSpace(r.Err))
					continue
				}
				lacks := slices.DeleteFunc(insideInit(t, root, before), func(s string) bool {
					return slices.Contains(before,
						s)
				})
				t.Logf("%s: %q", name, lacks)
				p.OK(t, "undo", "--yes")
			}
		})
	}
}
