//go:build linux

package peers

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// formsSetup puts an entry of each form into the box; formsTrigger has the program act that each is for. What
// only leaves a trace in what a program says is marked by the trigger.
const (
	formsSetup = `
R=$1; M=/opt/gullrock/mark
script() { mkdir -p $(dirname $R$1); printf '#!/bin/sh\n%s\n' "$2" > $R$1; chmod 755 $R$1; }
text() { mkdir -p $(dirname $R$1); printf "$2" > $R$1; }
script /etc/systemd/system-generators/gullrock "$M generator"
script /usr/lib/systemd/system-environment-generators/50-gullrock "$M environment-generator >&2"
printf '#!/bin/sh\n### BEGIN INIT INFO\n# Provides: tided\n# Required-Start: $remote_fs\n# Required-Stop:\n# Default-Start: 2 3 4 5\n# Default-Stop:\n### END INIT INFO\n[ "$1" = start ] && %s sysv\nexit 0\n' $M > $R/etc/init.d/tided; chmod 755 $R/etc/init.d/tided
chroot $R update-rc.d tided defaults
text /usr/share/dbus-1/system-services/example.gullrock.Tide.service "[D-BUS Service]\nName=example.gullrock.Tide\nExec=$M dbus-system\nUser=root\n"
text /usr/share/dbus-1/system.d/gullrock.conf '<busconfig><policy context="default"><allow send_destination="example.gullrock.Tide"/></policy></busconfig>'
text /usr/share/dbus-1/services/example.gullrock.Lamp.service "[D-BUS Service]\nName=example.gullrock.Lamp\nExec=$M dbus-session\n"
text /home/ines/.local/share/dbus-1/services/example.gullrock.Bell.service "[D-BUS Service]\nName=example.gullrock.Bell\nExec=$M dbus-own\n"
text /etc/profile.d/gullrock.sh "$M profile\n"
text /etc/bash_completion.d/gullrock "true\n"
script /etc/network/if-up.d/gullrock "$M if-up"
text /etc/network/interfaces "auto lo\niface lo inet loopback\n  up $M inter\\\\\nfaces\nsource interfaces.d/*.cfg\n"
text /etc/network/interfaces.d/more.cfg "iface lo inet loopback\n  up $M sourced\n"
text /etc/xinetd.d/gullrock "service tide\n{\n\ttype = UNLISTED\n\tport = 7301\n\tsocket_type = stream\n\tprotocol = tcp\n\twait = no\n\tuser = root\n\tserver = $M\n\tserver_args = xinetd-first\n}\nservice bell\n{\n\ttype = UNLISTED\n\tport = 7302\n\tsocket_type = stream\n\tprotocol = tcp\n\twait = no\n\tdisable = no\n\tuser = root\n\tserver = $M\n\tserver_args = xinetd-second\n}\n"
text /etc/incron.d/gullrock "/srv IN_CREATE $M incron\n"
text /etc/anacrontab "SHELL=/bin/sh\n1\t0\tgull.daily\t$M anacron \\\\\n  and more\n"
script /etc/sv/lamp/run "$M runit; exec sleep 60"
ln -s /etc/sv/lamp $R/etc/runit/runsvdir/default/lamp
text /usr/local/lib/python3.11/dist-packages/gullrock.pth "import os; os.system('$M python')\n"
text /etc/environment.d/90-gullrock.conf "BASH_ENV=/opt/gullrock/none\n"
text /etc/ld.so.preload "/opt/gullrock/none.so\n"
script /etc/update-motd.d/60-gullrock "$M motd"
text /etc/modules-load.d/gullrock.conf "gullrock_lamp\n"
text /etc/modprobe.d/gullrock.conf "install gullrock_bell /opt/gullrock/mark \\\\\n  modprobe\n"
text /usr/lib/binfmt.d/gullrock.conf ":gullrock:E::glk::/opt/gullrock/mark:\n"
text /etc/udev/rules.d/90-gullrock.rules 'SUBSYSTEM=="net", KERNEL=="lo", \\\n  RUN+="/opt/gullrock/mark udev-own"\nSUBSYSTEM=="net", KERNEL=="lo", RUN+="/opt/gullrock/mark udev-second"\n'
text /usr/lib/udev/rules.d/91-gullrock.rules 'SUBSYSTEM=="net", KERNEL=="lo", RUN+="/opt/gullrock/mark udev-vendor"\n'
chroot $R chown -R ines:ines /home/ines
`
	formsTrigger = `
M=/opt/gullrock/mark
timeout 2 busctl call example.gullrock.Tide / example.gullrock.Tide Ring
for n in Lamp Bell; do timeout 20 runuser -u ines -- env HOME=/home/ines dbus-run-session timeout 1 dbus-send --session --print-reply --dest=example.gullrock.$n / example.gullrock.Ring; done
su - ines -c true
ifdown --force lo; ifup --force lo
for p in 7301 7302; do perl -MIO::Socket::INET -e 'IO::Socket::INET->new(PeerAddr => "127.0.0.1:'$p'") and sleep 1'; done
touch /srv/new-$(date +%s%N)
anacron -f -n -d -s
runsvdir -P /etc/service & sleep 2; kill -HUP $!
python3 -c pass
systemctl --user -M ines@ show-environment | grep -q BASH_ENV && $M environment
true 2>&1 | grep -q ld.so.preload || ls / 2>&1 | grep -q none.so && $M preload
run-parts --lsbsysinit /etc/update-motd.d
SYSTEMD_LOG_LEVEL=debug /usr/lib/systemd/systemd-modules-load 2>&1 | grep -q gullrock_lamp && $M modules
modprobe -c | grep -q "install gullrock_bell" && $M modprobe
systemd-analyze cat-config binfmt.d | grep -q ^:gullrock && $M binfmt
udevadm test --action=add /sys/class/net/lo > /tmp/udev 2>&1
for n in own second vendor; do grep -q "run: '$M udev-$n'" /tmp/udev && $M udev-$n; done
sleep 0.5
cp /var/log/started /opt/gullrock/forms
`
)

// formMarks are what a system says in which every form starts something.
var formMarks = []string{"anacron", "binfmt", "dbus-own", "dbus-session", "dbus-system", "environment",
	"environment-generator", "generator", "if-up", "incron", "interfaces", "modprobe", "modules", "motd", "preload",
	"profile", "python", "runit", "sourced", "sysv", "udev-own", "udev-second", "udev-vendor", "xinetd-first",
	"xinetd-second"}

// formsOff turns off all that is not the system's, but what the test itself needs.
const formsOff = "lockback disable state=enabled 'switch!=report' " +
	"'name!=zz-report.service,xinetd.service,incron.service,anacron.timer,anacron.service,networking.service,runit.service' 'command!=/opt/gullrock/mark service' 'command!=/opt/gullrock/there*' 'name!=there.*' --guarded --yes"

// One entry of every form, in a system that boots: it starts, it does not when it is off, and after a restore it
// starts again. What acts on it is the real program.
func TestEveryFormInside(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "systemd-nspawn", "debootstrap")
	b := box{testkit.Debian(t, "forms")}
	dir := t.TempDir()
	for name, text := range map[string]string{"box": boxSetup, "forms": formsSetup} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	testkit.Shell(t, "sh -e "+dir+"/box "+b.root+" && sh -e "+dir+"/forms "+b.root)
	testkit.Shell(t, "install -m 755 "+testkit.Built(t)+" "+b.root+"/usr/local/bin/lockback")
	require.NoError(t, os.WriteFile(filepath.Join(b.root, "opt/gullrock/trigger"), []byte(formsTrigger), 0o644))
	run := func(commands ...string) ([]string, string) {
		t.Helper()
		os.Remove(filepath.Join(b.root, "opt/gullrock/forms"))
		_, out := b.boot(t, append([]string{"sh /opt/gullrock/trigger > /opt/gullrock/said 2>&1"}, commands...)...)
		text, err := os.ReadFile(filepath.Join(b.root, "opt/gullrock/forms"))
		require.NoError(t, err, out)
		marks := slices.DeleteFunc(fields(string(text)), func(m string) bool { return slices.Contains(started, m) })
		return marks, out
	}
	run("true") // the first boot makes files of its own
	leave := []string{"opt/gullrock", "var", "run", "tmp", "dev", "proc", "sys", "srv", "etc/sv/lamp/supervise"}
	before := testkit.Tree(t, b.root, leave...)
	marks, out := run("lockback snapshot -m 'as found'", formsOff)
	require.Equal(t, formMarks, marks, said(b))
	require.Contains(t, out, "C1 done", out)
	marks, out = run("lockback list state=disabled", "lockback restore S1 --yes", "lockback compare S1")
	require.Empty(t, marks, "these started although they are off")
	require.Contains(t, out, "0 added, 0 removed, 1 changed between S1 and now", "the script of this very test: %s",
		out)
	require.NotContains(t, out, "is missing")
	marks, _ = run("lockback snapshot -m 'running'")
	require.Equal(t, formMarks, marks, "what was restored must start again")
	// The same machine, running and as a disk.
	outside := testkit.Program{Root: b.root, Store: "disk"}
	require.Contains(t, outside.OK(t, "compare", "S4"), "nothing differs")
	testkit.Same(t, before, testkit.Tree(t, b.root, leave...))
}

// said is what the programs that were made to act have printed.
func said(b box) string {
	text, _ := os.ReadFile(filepath.Join(b.root, "opt/gullrock/said"))
	return strings.Join(slices.DeleteFunc(strings.Split(string(text), "\n"),
		func(line string) bool { return strings.HasPrefix(line, "ERROR: ld.so") }), "\n")
}

// fields are the words of a text, each once, in order.
func fields(text string) []string {
	words := strings.Fields(text)
	slices.Sort(words)
	return slices.Compact(words)
}
