//go:build linux

// Package peers holds the tests whose judges are real systems: a Debian that
// boots, systemd's own tools, and run-parts.
package peers

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// box is a real Debian with an entry in each location, each of which writes its
// name down when it starts.
type box struct{ root string }

const boxSetup = `
R=$1
mkdir -p $R/opt/gullrock $R/var/lib/systemd/linger
printf '#!/bin/sh\necho "$1" >> /var/log/started\n' > $R/opt/gullrock/mark
chmod 755 $R/opt/gullrock/mark
: > $R/var/log/started; chmod 666 $R/var/log/started
printf '#!/bin/sh\necho "$1" >> /var/log/there\n' > $R/opt/gullrock/there; chmod 755 $R/opt/gullrock/there
: > $R/var/log/there; chmod 666 $R/var/log/there
chroot $R useradd -m -u 1000 -s /bin/bash ines
: > $R/var/lib/systemd/linger/ines
svc() { printf '[Unit]\nDescription=%s\n[Service]\nType=oneshot\nExecStart=/opt/gullrock/mark %s\n' "$2" "$2" > "$1"; }
S=$R/etc/systemd/system; L=$R/usr/lib/systemd/system; U=$R/usr/lib/systemd/user; H=$R/home/ines/.config
mkdir -p $S/multi-user.target.wants $S/timers.target.wants $S/paths.target.wants $S/sockets.target.wants $S/graphical.target.wants $L/multi-user.target.wants
svc $S/tidewatch.service service; printf '[Install]\nWantedBy=multi-user.target\n' >> $S/tidewatch.service
ln -s /etc/systemd/system/tidewatch.service $S/multi-user.target.wants/
svc $L/kelpline.service timer
printf '[Timer]\nOnActiveSec=100ms\nAccuracySec=1ms\n[Install]\nWantedBy=timers.target\n' > $L/kelpline.timer
ln -s /usr/lib/systemd/system/kelpline.timer $S/timers.target.wants/
svc $L/lampwick.service path; printf 'RemainAfterExit=yes\n' >> $L/lampwick.service
printf '[Path]\nPathExists=/etc/hostname\n[Install]\nWantedBy=paths.target\n' > $L/lampwick.path
ln -s /usr/lib/systemd/system/lampwick.path $S/paths.target.wants/
printf '[Service]\nType=oneshot\nExecStart=/opt/gullrock/mark socket\nStandardInput=socket\n' > $L/saltmarsh@.service
printf '[Socket]\nListenStream=/run/saltmarsh\nAccept=yes\n[Install]\nWantedBy=sockets.target\n' > $L/saltmarsh.socket
ln -s /usr/lib/systemd/system/saltmarsh.socket $S/sockets.target.wants/
svc $L/brinecast.service vendor-link; ln -s ../brinecast.service $L/multi-user.target.wants/
svc $S/required.service dependency-key; mkdir -p $L/multi-user.target.d
printf '[Unit]\nWants=required.service\n' > $L/multi-user.target.d/10-gullrock.conf
svc $L/tide@.service 'instance-%i'; ln -s /usr/lib/systemd/system/tide@.service $S/multi-user.target.wants/tide@high.service
svc $L/aliased.service alias; printf '[Install]\nAlias=known-as.service\n' >> $L/aliased.service
ln -s /usr/lib/systemd/system/aliased.service $S/known-as.service
printf '[Unit]\nWants=known-as.service\n' > $L/multi-user.target.d/20-alias.conf
svc $U/welcome.service user-everyone; printf '[Install]\nWantedBy=default.target\n' >> $U/welcome.service
mkdir -p $R/etc/systemd/user/default.target.wants $H/systemd/user/default.target.wants $H/autostart $R/etc/xdg/autostart
ln -s /usr/lib/systemd/user/welcome.service $R/etc/systemd/user/default.target.wants/
svc $H/systemd/user/index.service user-own; printf '[Install]\nWantedBy=default.target\n' >> $H/systemd/user/index.service
ln -s /home/ines/.config/systemd/user/index.service $H/systemd/user/default.target.wants/
printf '[Unit]\nDescription=desk\nWants=xdg-desktop-autostart.target\n' > $H/systemd/user/desk.target
ln -s /home/ines/.config/systemd/user/desk.target $H/systemd/user/default.target.wants/
printf '[Unit]\nAfter=kelpline.service kelpline.timer\n[Service]\nType=oneshot\nExecStart=/opt/gullrock/there timer\n' > $L/there.service
printf '[Timer]\nOnActiveSec=1s\nAccuracySec=1ms\n[Install]\nWantedBy=timers.target\n' > $L/there.timer
ln -s /usr/lib/systemd/system/there.timer $S/timers.target.wants/
printf '[Unit]\nAfter=index.service welcome.service desk.target xdg-desktop-autostart.target app-fogbell@autostart.service app-kelpline@autostart.service\n[Service]\nType=oneshot\nExecStart=/opt/gullrock/there user-%%u\n[Install]\nWantedBy=default.target\n' > $U/there-user.service
ln -s /usr/lib/systemd/user/there-user.service $R/etc/systemd/user/default.target.wants/
printf '@reboot root /opt/gullrock/there cron\n' > $R/etc/cron.d/there
printf '[Desktop Entry]\nType=Application\nName=Fogbell Sync\nExec=/opt/gullrock/mark xdg-own\n' > $H/autostart/fogbell.desktop
printf '[Desktop Entry]\nType=Application\nName=Kelpline Assistant\nExec=/opt/gullrock/mark xdg-everyone\n' > $R/etc/xdg/autostart/kelpline.desktop
chroot $R chown -R ines:ines /home/ines
printf '@reboot root /opt/gullrock/mark cron-system\n' > $R/etc/cron.d/gullrock
printf '@reboot /opt/gullrock/mark cron-user\n' > $R/var/spool/cron/crontabs/ines
chroot $R chown ines:crontab /var/spool/cron/crontabs/ines; chmod 600 $R/var/spool/cron/crontabs/ines
printf '#!/bin/sh\n/opt/gullrock/mark periodic\n' > $R/etc/cron.hourly/gullrock; chmod 755 $R/etc/cron.hourly/gullrock
printf '#!/bin/sh\n/opt/gullrock/mark rc-local\n' > $R/etc/rc.local; chmod 755 $R/etc/rc.local
printf '[Unit]\nAfter=multi-user.target\n[Service]\nType=oneshot\nExecStart=/bin/sh /opt/gullrock/last\nExecStopPost=/usr/bin/systemctl poweroff --force\n[Install]\nWantedBy=graphical.target\n' > $S/zz-report.service
ln -s /etc/systemd/system/zz-report.service $S/graphical.target.wants/
`

// started are the marks of a system in which everything starts.
var started = []string{"alias", "cron-system", "cron-user", "dependency-key", "instance-high", "path", "periodic",
	"rc-local", "service",
	"socket", "timer", "user-everyone", "user-own", "vendor-link", "xdg-everyone", "xdg-own"}

func newBox(t *testing.T) box {
	t.Helper()
	testkit.Need(t, "systemd-nspawn", "debootstrap")
	b := box{testkit.Debian(t, "bare")}
	setup := filepath.Join(t.TempDir(), "setup")
	require.NoError(t, os.WriteFile(setup, []byte(boxSetup), 0o644))
	testkit.Shell(t, "sh -e "+setup+" "+b.root)
	testkit.Shell(t, "install -m 755 "+testkit.Built(t)+" "+b.root+"/usr/local/bin/lockback")
	return b
}

// boot boots the system, waits until all has started, runs the commands inside
// as root, and powers off. It returns what started, and what the commands printed.
func (b box) boot(t *testing.T, commands ...string) (marks []string, output string) {
	t.Helper()
	for _, name := range []string{"started", "there"} {
		require.NoError(t, os.WriteFile(filepath.Join(b.root, "var/log", name), nil, 0o666))
	}
	// What starts by itself does so in its own time, on a busy machine late: so the script waits for entries that start
	// behind the others of their kind and are never turned off (those of ines, for root may have a manager too), and
	// then until nothing new has come for a while. The socket is knocked at, and the periodic scripts run as cron would
	// run them.
	script := "if [ -e /opt/gullrock/there ]; then\n" +
		"for k in $(seq 3000); do [ \"$(sort -u /var/log/there | grep -cx 'timer\\|cron\\|user-ines')\" -ge 3 ] && " +
		"break; " +
		"sleep 0.1; done\n" +
		"quiet=0; was=; while [ $quiet -lt 6 ]; do now=$(cat /var/log/started); " +
		"[ \"$now\" = \"$was\" ] && quiet=$((quiet + 1)) || quiet=0; was=$now; sleep 0.1; done\n" +
		"else sleep 1.5; fi\n" +
		"if perl -MIO::Socket::UNIX -e 'IO::Socket::UNIX->new(Peer => \"/run/saltmarsh\") or exit 1' 2>/dev/null; then\n" +
		"for k in $(seq 100); do grep -q socket /var/log/started && break; sleep 0.1; done; fi\n" +
		"run-parts /etc/cron.hourly\nsleep 0.3\n" +
		"cp /var/log/started /opt/gullrock/marks\nexec > /opt/gullrock/output 2>&1\n" + strings.Join(commands, "\n") +
		"\n"
	require.NoError(t, os.WriteFile(filepath.Join(b.root, "opt/gullrock/last"), []byte(script), 0o644))
	os.Remove(filepath.Join(b.root, "opt/gullrock/marks"))
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()
	out, err := container(ctx, t, b.root).CombinedOutput()
	require.NoError(t, err, string(out))
	text, err := os.ReadFile(filepath.Join(b.root, "opt/gullrock/marks"))
	require.NoError(t, err)
	marks = strings.Fields(string(text))
	sort.Strings(marks)
	printed, err := os.ReadFile(filepath.Join(b.root, "opt/gullrock/output"))
	require.NoError(t, err)
	return marks, string(printed)
}

// container is the command that starts a system in a container with groups of processes of its own. With --keep-unit
// alone all containers would have those of this process, and where systemd in one of them takes an empty one away, that
// in another fails to start its unit there.
func container(ctx context.Context, t *testing.T, root string, options ...string) *exec.Cmd {
	t.Helper()
	name := fmt.Sprintf("lockback-test-%d-%d", os.Getpid(), containers.Add(1))
	const hierarchies = "/sys/fs/cgroup /sys/fs/cgroup/systemd /sys/fs/cgroup/unified"
	t.Cleanup(func() {
		exec.Command("sh", "-c", "for d in "+hierarchies+"; do find $d/"+name+
			" -depth -type d -exec rmdir {} +; done").Run()
	})
	return exec.CommandContext(ctx, "sh", append([]string{"-c", "for d in " + hierarchies + "; do " +
		"[ ! -e $d/cgroup.procs ] || { mkdir $d/$0 && echo $$ > $d/$0/cgroup.procs; } 2>/dev/null; done; " +
		`exec systemd-nspawn "$@"`, name, "-q", "-D", root, "--boot", "--register=no", "--keep-unit",
		"--private-network"}, options...)...)
}

var containers atomic.Int64

// off switches off everything that leaves a mark, and nothing else.
const off = "lockback disable 'command=/opt/gullrock/mark*' --yes && lockback disable rc.local gullrock --yes"

func TestRealSystemInside(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	marks, out := b.boot(t, "lockback snapshot -m 'as found'", off,
		"lockback list --format json > /opt/gullrock/list.json",
		"systemctl is-enabled tidewatch.service kelpline.timer lampwick.path brinecast.service required.service "+
			"tide@high.service",
		"systemctl --user -M ines@ is-enabled welcome.service index.service")
	require.Equal(t, started, marks)
	require.Contains(t, out, "C2 done")
	require.NotContains(t, out, "did not reload")
	require.Contains(t, out, "disabled\ndisabled\ndisabled\nmasked\nmasked\nmasked\ndisabled\ndisabled\n")

	marks, out = b.boot(t, "lockback compare S1", "lockback restore S1 --yes",
		"lockback compare S1 && echo the same again")
	require.Empty(t, marks, "these started although they are off")
	require.Contains(t, out, "enabled", out)
	require.Contains(t, out, "C3 done", out)

	marks, out = b.boot(t, "lockback undo --yes")
	require.Equal(t, started, marks, "what was restored must start again")
	require.Contains(t, out, "C4 done")

	marks, _ = b.boot(t)
	require.Empty(t, marks, "the restore was undone, so all is off again")
}

// A snapshot taken inside the running system is restored from outside, onto the
// disk of a system that does not run.
func TestRealSystemAcrossTheBorder(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	marks, _ := b.boot(t, "true") // the first boot makes files of its own
	require.Equal(t, started, marks)
	leave := []string{"opt/gullrock", "var", "run", "tmp", "dev", "proc", "sys"}
	before := testkit.Tree(t, b.root, leave...)
	_, out := b.boot(t, "lockback snapshot", off)
	require.Contains(t, out, "C2 done")
	require.NotEmpty(t, testkit.Differences(before, testkit.Tree(t, b.root, leave...)))

	outside := testkit.Program{Root: b.root, Store: "disk"} // the record on the disk is found
	r := outside.Run(t, "compare", "S1")
	require.Equal(t, 3, r.Code, r.Out+r.Err)
	outside.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, b.root, leave...))
	marks, out = b.boot(t, "lockback history", off)
	require.Equal(t, started, marks)
	require.Contains(t, out, "restore: S1")

	// And the other way round: turned off inside, taken back from outside.
	outside.OK(t, "undo", "--yes")
	outside.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, b.root, leave...))
}

// A person without rights on the running system: they see what they may, switch
// what is theirs, and are told where rights are missing before anything is touched.
func TestRealSystemWithoutRights(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	as := func(args string) string {
		return "runuser -u ines -- env HOME=/home/ines lockback " + args + "; echo exit $?"
	}
	marks, out := b.boot(t, as("list"), as("disable tidewatch.service --yes"),
		as("disable 'Fogbell Sync' index.service --yes"),
		as("disable 'Kelpline Assistant' --for ines --yes"), as("history"),
		"chown -R ines: /home/ines/.local; lockback history; echo exit $?")
	require.Equal(t, started, marks)
	require.Contains(t, out, "Not read")
	require.Contains(t, out, "/var/spool/cron/crontabs")
	require.Regexp(t, `(?m)^ *\S*/root +permission denied`, out, "one line for a home that is closed")
	require.NotContains(t, out, "/root/.config/autostart")
	require.Contains(t, out, "writing /etc/systemd/system/multi-user.target.wants/tidewatch.service needs more "+
		"rights; run with sudo\nexit 4")
	require.Contains(t, out, "C1 done: 2 entries changed")
	require.Contains(t, out, "C2 done: 1 entry changed")
	require.Contains(t, out, "there is no record yet") // root's own is another one
	marks, out = b.boot(t, as("undo C2 --yes"), as("undo C1 --yes"))
	want := slices.DeleteFunc(slices.Clone(started), func(m string) bool {
		return m == "user-own" ||
			strings.HasPrefix(m, "xdg-")
	})
	require.Equal(t, want, marks)
	require.NotContains(t, out, "exit 1")
	marks, _ = b.boot(t)
	require.Equal(t, started, marks)
}

// The power fails in the middle of a change on the running system.
func TestRealSystemPowerCut(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	b.boot(t, "true")
	leave := []string{"opt/gullrock", "var", "run", "tmp", "dev", "proc", "sys"}
	before := testkit.Tree(t, b.root, leave...)
	kills := 12
	if os.Getenv("LOCKBACK_CAMPAIGN") != "" {
		kills = 60
	}
	_, out := b.boot(t, "lockback snapshot", fmt.Sprintf("for n in $(seq %d); do", kills),
		"(lockback disable 'command=/opt/gullrock/mark*' --yes & p=$!; sleep 0.$(shuf -i 100-350 -n 1); kill "+
			"-$(shuf -n 1 -e KILL KILL KILL TERM INT HUP) $p && echo hit; wait $p) 2>&1 | grep hit",
		"lockback list 2>&1 | grep -c interrupted; lockback recover --yes; lockback enable "+
			"'command=/opt/gullrock/mark*' --yes; done")
	t.Logf("%d of %d were hit, and left %d changes open", strings.Count(out, "hit\n"), kills,
		strings.Count(out, "\n1\n"))
	outside := testkit.Program{Root: b.root, Store: "disk"}
	outside.OK(t, "recover", "--yes")
	outside.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, b.root, leave...))
	marks, _ := b.boot(t, "true")
	require.Equal(t, started, marks)
}
