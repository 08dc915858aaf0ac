//go:build linux

package peers

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// judgesSetup puts an entry of each of these programs into a root; judgesTrigger runs them, without starting the
// machine.
const (
	judgesSetup = `
R=$1; M=/opt/gullrock/mark
mkdir -p $R/opt/gullrock; : > $R/opt/gullrock/started; chmod 666 $R/opt/gullrock/started
printf '#!/bin/sh\necho "$1" >> /opt/gullrock/started\n' > $R$M; chmod 755 $R$M
chroot $R useradd -m -u 1000 -s /bin/bash ines
text() { mkdir -p $(dirname $R$1); printf "$2" > $R$1; }
text /home/ines/.config/i3/config "# i3 config file (v4)\nset \$m $M\nbindsym Mod4+x exec $M i3-binding\nexec --no-startup-id $M i3-first\nexec $M \\\\\n  i3-second\ninclude more.conf\nmode \"m\" {\n  bindsym x exec $M i3-mode\n}\n"
text /home/ines/.config/i3/more.conf "exec_always $M i3-included\n"
text /home/ines/.config/sway/config "exec $M sway-first\nexec {\n  $M sway-second\n  $M sway-third\n}\nbindsym Mod4+x exec $M sway-binding\n"
text /home/ines/.config/openbox/autostart "if true; then\n  :\nfi\n$M openbox-own &\n$M openbox-second\n"
text /etc/xdg/openbox/autostart "$M openbox-everyone &\n"
text /home/ines/.config/fish/conf.d/gullrock.fish "$M fish-own\n"
text /etc/fish/conf.d/everyone.fish "$M fish-everyone\n"
text /etc/fish/conf.d/gullrock.fish "$M fish-hidden\n"
text /etc/lightdm/lightdm.conf "[LightDM]\n[Seat:*]\ndisplay-setup-script=$M lightdm\n"
printf '#!/sbin/openrc-run\n' > $R/etc/init.d/tided; chmod 755 $R/etc/init.d/tided
mkdir -p $R/etc/runlevels/default; ln -s /etc/init.d/tided $R/etc/runlevels/default/tided
text /etc/inetd.conf "tide stream tcp nowait root $M mark inetd-tide\nbell stream tcp nowait root $M mark inetd-bell\n"
text /etc/apt/apt.conf.d/90gullrock "DPkg::Post-Invoke {\"$M apt\";};\n"
chroot $R chown -R ines:ines /home/ines
`
	judgesTrigger = `
R=$1; M=/opt/gullrock/mark
: > $R/opt/gullrock/started
inside() { chroot $R "$@"; }
as() { chroot $R runuser -u ines -- env HOME=/home/ines XDG_RUNTIME_DIR=/tmp/run DISPLAY=:77 "$@"; }
mkdir -p $R/tmp/run; chmod 777 $R/tmp/run $R/tmp
rm -f $R/tmp/.X77-lock $R/tmp/.X11-unix/X77 $R/tmp/run/*
inside Xvfb :77 -screen 0 640x480x8 > /dev/null 2>&1 & X=$!
sleep 1.5
as xdpyinfo > /dev/null && inside $M display
as i3 -C -c /home/ines/.config/i3/config
as timeout 3 i3 > /dev/null 2>&1
as timeout 4 openbox-session > /dev/null 2>&1
kill $X; wait $X 2>/dev/null
as sh -c 'WLR_BACKENDS=headless WLR_RENDERER=pixman WLR_LIBINPUT_NO_DEVICES=1 timeout 4 sway -V' 2>&1 | grep -q 'Starting backend' && inside $M compositor
as fish -c true
inside lightdm --show-config 2>&1 | grep -q "display-setup-script=$M" && inside $M lightdm
inside rc-update show default | grep -q tided && inside $M openrc
inside apt-config dump DPkg::Post-Invoke | grep -q "$M apt" && inside $M apt
inside atd -s
sleep 1
for n in tide bell; do grep -q "^$n " $R/etc/inetd.conf && inside $M inetd-$n; done
wait
`
)

// What the programs of desktops make of the entries that are not started by the system itself: i3, sway, openbox
// and fish really start them, lightdm, OpenRC and apt tell what they have read.
func TestDesktopProgramsAgree(t *testing.T) {
	t.Parallel()
	if os.Getenv("LOCKBACK_DESKTOPS") == "" {
		t.Skip("make desktops installs these programs and runs this")
	}
	root := testkit.Debian(t, "judges")
	dir := t.TempDir()
	run := func(name, script string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(script), 0o644))
		return testkit.Shell(t, "unshare --mount --pid --fork --kill-child sh -c 'mount --rbind /dev "+root+
			"/dev; mount -t proc proc "+root+"/proc; sh "+file+" "+root+"; true' 2>&1")
	}
	run("setup", judgesSetup)
	started := func() ([]string, string) {
		said := run("trigger", judgesTrigger)
		text, err := os.ReadFile(filepath.Join(root, "opt/gullrock/started"))
		require.NoError(t, err)
		return fields(string(text)), said
	}
	want := []string{"apt", "compositor", "display", "fish-everyone", "fish-own", "i3-first", "i3-included",
		"i3-second", "inetd-bell", "inetd-tide", "lightdm", "openbox-everyone", "openbox-own", "openbox-second",
		"openrc", "sway-first", "sway-second", "sway-third"}
	marks, said := started()
	require.Equal(t, want, marks, said)
	p := testkit.Program{Root: root, Store: filepath.Join(dir, "record.db")}
	before := testkit.Tree(t, filepath.Join(root, "etc"))
	list, _ := p.List(t, "--all", "command=/opt/gullrock/mark*")
	for _, e := range list.Entries {
		require.NotContains(t, e.Command, "binding")
		require.NotContains(t, e.Command, "i3-mode")
	}
	hidden, _ := p.List(t, "source=/etc/fish/conf.d/gullrock.fish", "--all")
	require.Equal(t, "not for ines, who have a file of that name of their own", hidden.Entries[0].Mode)
	// due at once, and run when atd looks
	testkit.Shell(t, "echo /opt/gullrock/mark at | chroot "+root+" runuser -u ines -- at now 2>&1")
	p.OK(t, "snapshot")
	// OpenRC is not the first process there, so its entry is listed as off and has no switch.
	p.OK(t, "disable", "command=/opt/gullrock/mark*,/home/ines/.config/fish*,/etc/fish*", "switch!=report",
		"state=enabled", "--guarded", "--yes")
	marks, said = started()
	require.Equal(t, []string{"apt", "compositor", "display", "openrc"}, marks, said)
	p.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, filepath.Join(root, "etc")))
	marks, _ = started()
	require.Equal(t, append([]string{"apt", "at"}, want[1:]...), marks)
	// update-inetd has a mark of its own for what it turns off: it is told apart, and left to it.
	testkit.Shell(t, "chroot "+root+" update-inetd --disable tide")
	now, _ := p.List(t, "--all", "location=linux.inetd", "name=tide")
	require.Len(t, now.Entries, 1)
	require.Equal(t, []string{"disabled", "turned off by update-inetd"}, []string{now.Entries[0].State,
		now.Entries[0].Mode})
}
