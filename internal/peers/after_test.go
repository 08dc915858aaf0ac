//go:build linux

package peers

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/internal/testkit"
)

// afterSetup adds to a box what this file is about: a program that turns a timer on again at each start, sixteen
// services of which one is missed, a program that says when it was started, and a package in two versions.
const afterSetup = `
R=$1
S=$R/etc/systemd/system; L=$R/usr/lib/systemd/system
mkdir -p $R/var/log/journal $R/opt/kelpline
printf '#!/bin/sh\n# keeps kelpline.timer\nsystemctl enable kelpline.timer\n' > $R/opt/kelpline/care; chmod 755 $R/opt/kelpline/care
printf '[Service]\nType=oneshot\nExecStart=/opt/kelpline/care\n[Install]\nWantedBy=multi-user.target\n' > $S/kelpline-care.service
ln -s /etc/systemd/system/kelpline-care.service $S/multi-user.target.wants/
for n in 00 01 02 03 04 05 06 07 08 09 10 11 12 13 14 15; do
  printf '[Service]\nType=oneshot\nExecStart=/opt/gullrock/mark bell%s\n[Install]\nWantedBy=multi-user.target\n' $n > $S/bell$n.service
  ln -s /etc/systemd/system/bell$n.service $S/multi-user.target.wants/
done
printf '#!/bin/sh\necho "at-$1 $(cut -d" " -f1 /proc/uptime)" >> /var/log/times\n' > $R/opt/gullrock/when; chmod 755 $R/opt/gullrock/when
: > $R/var/log/times; chmod 666 $R/var/log/times
H=$R/home/ines/.config; mkdir -p $H/autostart $H/systemd/user/default.target.wants
for n in own line; do
  mkdir -p $R/opt/keel-$n
  printf '#!/bin/sh\nf=/home/ines/.config/autostart/keel-%s; ! grep -q Hidden $f.desktop || sed -i /Hidden/d $f.desktop\n' $n > $R/opt/keel-$n/care; chmod 755 $R/opt/keel-$n/care
  cp $R/opt/gullrock/mark $R/opt/keel-$n/keel
  printf '[Desktop Entry]\nType=Application\nName=keel-%s\nExec=/opt/keel-%s/keel\n' $n $n > $H/autostart/keel-$n.desktop
done
printf '[Service]\nExecStart=/opt/keel-own/care\n[Install]\nWantedBy=default.target\n' > $H/systemd/user/keel-care.service
ln -s ../keel-care.service $H/systemd/user/default.target.wants/
printf '@reboot ines /opt/keel-line/care\n' > $R/etc/cron.d/keel-line
chroot $R chown -hR ines:ines /home/ines/.config
for v in 1.0 2.0; do
  D=$R/opt/fogbell-$v; mkdir -p $D/DEBIAN $D/usr/lib/systemd/system $D/usr/bin $D/etc/xdg/autostart
  printf 'Package: fogbell\nVersion: %s\nArchitecture: all\nMaintainer: Fogbell Works <help@fogbell.example>\nDescription: keeps folders\n' $v > $D/DEBIAN/control
  printf '#!/bin/sh\n# version %s\n' $v$v > $D/usr/bin/fogbell; [ $v = 1.0 ] || echo 'echo newer' >> $D/usr/bin/fogbell; chmod 755 $D/usr/bin/fogbell
  printf '[Desktop Entry]\nType=Application\nName=Fogbell Sync\nExec=/usr/bin/fogbell --tray\n' > $D/etc/xdg/autostart/fogbell-sync.desktop
  printf '/etc/xdg/autostart/fogbell-sync.desktop\n' > $D/DEBIAN/conffiles
  if [ $v = 2.0 ]; then
    printf '[Service]\nExecStart=/usr/bin/fogbell --index\n[Install]\nWantedBy=multi-user.target\n' > $D/usr/lib/systemd/system/fogbell-index.service
    mkdir -p $D/usr/lib/systemd/system/multi-user.target.wants; ln -s ../fogbell-index.service $D/usr/lib/systemd/system/multi-user.target.wants/
  fi
  (cd $D/.. && dpkg-deb --root-owner-group -b fogbell-$v fogbell-$v.deb >/dev/null)
done
chroot $R dpkg -i /opt/fogbell-1.0.deb >/dev/null
`

// found are what check printed as JSON: its findings by name.
func findings(t *testing.T, b box) map[string]map[string]any {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(b.root, "opt/gullrock/check.json"))
	require.NoError(t, err)
	var doc struct {
		Findings []map[string]any
		Trials   []map[string]any
		Restarts map[string]any
	}
	require.NoError(t, json.Unmarshal(text, &doc), string(text))
	all := map[string]map[string]any{"": {"trials": doc.Trials, "restarts": doc.Restarts}}
	for _, f := range doc.Findings {
		all[f["name"].(string)] = f
	}
	return all
}

// After real restarts: what puts itself back is caught and its author named, held entries stay off, an update of a
// package is told apart, what was added starts and what was delayed starts later, and removed entries come back to the
// byte.
func TestAfterTheRestartInside(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	setup := filepath.Join(t.TempDir(), "after")
	require.NoError(t, os.WriteFile(setup, []byte(afterSetup), 0o644))
	testkit.Shell(t, "sh -e "+setup+" "+b.root)
	const checking = "lockback check --format json > /opt/gullrock/check.json; echo exit $?"

	_, out := b.boot(t, "lockback snapshot -m 'as found'", "lockback disable kelpline.timer keel-own keel-line --yes",
		checking, "echo boot $(tr -d - < /proc/sys/kernel/random/boot_id)", "sleep 2")
	require.Contains(t, out, "exit 0")
	m, err := machine.Open(b.root)
	require.NoError(t, err)
	require.Contains(t, out, "boot "+strings.TrimPrefix(m.Boot(), machine.Mounted)+"\n",
		"the log on the disk tells of the start that was the last")
	require.Equal(t, false, findings(t, b)[""]["trials"].([]map[string]any)[0]["tried"], "not restarted yet")

	// The program has turned its timer on again, and a package was upgraded meanwhile.
	testkit.Shell(t, "chroot "+b.root+" dpkg -i /opt/fogbell-2.0.deb >/dev/null 2>&1")
	testkit.Shell(t, "printf '@hourly root /opt/kelpline/care\\n' > "+b.root+"/etc/cron.d/zz-stranger")
	// into closed logs
	_, out = b.boot(t, "journalctl --rotate; sleep 0.5", checking, "lockback disable kelpline.timer --yes")
	require.Contains(t, out, "exit 3")
	all := findings(t, b)
	require.Equal(t, float64(1), all[""]["restarts"].(map[string]any)["count"])
	back := all["kelpline.timer"]
	require.Equal(t, "put-back", back["kind"])
	require.Equal(t, float64(1), back["times"])
	by := back["by"].([]any)[0].(map[string]any)
	require.Equal(t, []any{"kelpline-care.service", true}, []any{by["name"], by["sure"]})
	require.Regexp(t, `it was started \d+s before that, and what it runs names it`, by["why"])
	require.Equal(t, "added", all["care"]["kind"])
	// What neither of them has in its text is told by the logs: of the users' service managers, and of cron.
	for name, author := range map[string]string{"keel-own": "keel-care.service", "keel-line": "care"} {
		require.Equal(t, "put-back", all[name]["kind"], name)
		require.Len(t, all[name]["by"], 1, "%s: %v", name, all[name])
		by := all[name]["by"].([]any)[0].(map[string]any)
		require.Equal(t, []any{author, true}, []any{by["name"], by["sure"]}, name)
		require.Regexp(t, `it was started \d+s before that, and is of the same folder`, by["why"], name)
	}
	for _, name := range []string{"fogbell-index.service", "Fogbell Sync"} {
		require.Equal(t, []any{"updated", false, "fogbell"}, []any{all[name]["kind"], all[name]["decide"],
			all[name]["update"]}, name)
	}

	// The second time, and from then on it is held: systemctl enable does not take a mask away. The clock was a day
	// ahead then, and still it is known that the machine was restarted since.
	_, _ = b.boot(t, checking, "lockback disable kelpline.timer --hold --yes")
	require.Equal(t, float64(2), findings(t, b)["kelpline.timer"]["times"])
	db, err := sql.Open("sqlite", filepath.Join(b.root, "var/lib/lockback/record.db"))
	require.NoError(t, err)
	_, err = db.Exec("UPDATE change SET time = ? WHERE id = 3", time.Now().Add(24*time.Hour).UTC().Format(time.RFC3339))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	marks, _ := b.boot(t, checking)
	require.NotContains(t, marks, "timer")
	require.NotContains(t, findings(t, b), "kelpline.timer")
	trials := findings(t, b)[""]["trials"].([]map[string]any)
	require.Equal(t, []any{"C3", true}, []any{trials[len(trials)-1]["change"], trials[len(trials)-1]["tried"]})

	// What is added starts, and what is delayed starts later, by the time that was asked for.
	_, out = b.boot(t,
		"lockback add --name 'Tide board' --at startup --yes -- /opt/gullrock/when startup",
		"lockback add --name 'Tide table' --at sign-in --for ines --yes -- /opt/gullrock/when sign-in",
		"lockback add --name 'Tide late' --at sign-in --yes -- /opt/gullrock/when late",
		"lockback add --name 'Tide clock' --every 1m --yes -- /opt/gullrock/when clock",
		"lockback add --name 'Tide cron' --at startup --as cron --for ines --yes -- /opt/gullrock/when cron",
		"lockback add --name 'Tide service' --at startup --yes -- /opt/gullrock/when service",
		"printf '@reboot root /opt/gullrock/when crontab\n' > /etc/cron.d/gullrock-when",
		"lockback delay 'command=/opt/gullrock/when crontab' 4s --yes",
		"U=/home/ines/.config/systemd/user; install -d -o ines -g ines /home/ines/.config "+
			"/home/ines/.config/systemd $U $U/default.target.wants; printf "+
			"'[Service]\nExecStart=/opt/gullrock/when own\n[Install]\nWantedBy=default.target\n' > "+
			"$U/tide-own.service; ln -s $U/tide-own.service $U/default.target.wants/; chown -hR ines:ines $U",
		"lockback delay tide-own.service 4s --yes", "lockback delay 'Tide late' 4s --yes",
		"lockback delay tide-service.service 4s --yes", "lockback snapshot -m added")
	require.Equal(t, 10, strings.Count(out, " done: "), out)
	require.NoError(t, os.WriteFile(filepath.Join(b.root, "var/log/times"), nil, 0o666))
	_, out = b.boot(t, "for k in $(seq 900); do [ \"$(cut -d' ' -f1 /var/log/times | sort -u | wc -l)\" -ge 7 ] && "+
		"break; "+
		"sleep 0.1; done", "echo at-begin $(awk '{ print $22 / '$(getconf CLK_TCK)' }' /proc/1/stat)",
		"cat /var/log/times", "cat /etc/cron.d/gullrock-when",
		"systemctl is-active tide-clock.timer", "systemctl show -p TimersMonotonic tide-clock.timer")
	at := map[string]float64{}
	for _, line := range regexp.MustCompile(`(?m)^at-(\S+) ([0-9.]+)$`).FindAllStringSubmatch(out, -1) {
		if _, known := at[line[1]]; !known {
			at[line[1]], _ = strconv.ParseFloat(line[2], 64)
		}
	}
	require.Len(t, at, 8, out)
	// On a busy machine all of it comes late, what is not delayed too: what holds is that nothing delayed came before
	// its time, counted from the start of the system, nor before its like that is not delayed.
	for name, like := range map[string]string{"late": "sign-in", "own": "sign-in", "service": "startup",
		"crontab": "cron"} {
		require.Greater(t, at[name], at[like], "%s after %s: %v", name, like, at)
		require.Greater(t, at[name]-at["begin"], 3.9, "%s: %v", name, at)
	}
	require.Contains(t, out, "active\n")
	require.Contains(t, out, "OnUnitActiveUSec=1min")

	// Removed, and taken back: every byte below /etc and in the home is as it was.
	before := testkit.Tree(t, filepath.Join(b.root, "etc"), "machine-id")
	home := testkit.Tree(t, filepath.Join(b.root, "home"))
	_, out = b.boot(t, "lockback disable 'Tide*' tide-service.timer bell03.service gullrock --yes",
		"lockback remove 'Tide*' tide-service.timer bell03.service gullrock --now -m 'to see' --yes",
		"ls /etc/systemd/system/bell03.service /etc/cron.hourly/gullrock", "lockback undo --yes", "lockback undo --yes")
	require.Equal(t, 2, strings.Count(out, "No such file"), out)
	require.Empty(t, testkit.Differences(before, testkit.Tree(t, filepath.Join(b.root, "etc"), "machine-id")))
	require.Empty(t, testkit.Differences(home, testkit.Tree(t, filepath.Join(b.root, "home"))))
}

// One of sixteen services is missed; the machine says by itself whether it works, and after five restarts it is named.
func TestCulpritInside(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	setup := filepath.Join(t.TempDir(), "after")
	require.NoError(t, os.WriteFile(setup, []byte(afterSetup), 0o644))
	testkit.Shell(t, "sh -e "+setup+" "+b.root)
	_, out := b.boot(t, "lockback disable 'bell*' --yes", "lockback culprit works --yes",
		"lockback culprit start --yes", "lockback culprit works --yes", "sleep 2")
	require.Contains(t, out, "Round 1 of about 5")
	require.Contains(t, out, "was not restarted since round 1", "an answer before the restart is none")
	answer := "if grep -q bell11 /opt/gullrock/marks; then lockback culprit works --yes; else lockback culprit " +
		"broken --yes; fi; sleep 2"
	for restart := 1; ; restart++ {
		require.LessOrEqual(t, restart, 5)
		if _, out = b.boot(t, answer); strings.Contains(out, "Found: ") {
			require.Regexp(t, `Found: bell11\.service \(\w{7}\)\. It works while it is enabled\.`, out)
			require.Contains(t, out, "The proof for bell11.service")
			break
		}
		require.Contains(t, out, fmt.Sprintf("Round %d of", restart+1))
	}
	marks, _ := b.boot(t)
	require.Contains(t, marks, "bell11")
	require.Equal(t, 1, strings.Count(strings.Join(marks, " "), "bell"), "the others are off, as before the search")
}

// A real upgrade of a desktop's packages, by apt from the distribution's own security updates: nothing of it is called
// suspicious, and nobody has to decide anything. It takes minutes, so make desktops runs it, and no other test does.
func TestCheckAfterARealUpgrade(t *testing.T) {
	t.Parallel()
	if os.Getenv("LOCKBACK_DESKTOPS") == "" {
		t.Skip("an upgrade takes minutes; make desktops runs it")
	}
	root := testkit.Debian(t, "desktop")
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	p.OK(t, "snapshot", "-m", "before the upgrade")
	// Security updates are beside the suite on the same mirror.
	out := testkit.Shell(t, `set -e; R=`+root+`
sed 's|\(/debian\)/* \([a-z]*\) main|\1-security \2-security main|' $R/etc/apt/sources.list > $R/etc/apt/sources.list.d/security.list
printf '#!/bin/sh\nexit 101\n' > $R/usr/sbin/policy-rc.d; chmod 755 $R/usr/sbin/policy-rc.d
mkdir -p $R/run/systemd/resolve; cp /etc/resolv.conf $R/run/systemd/resolve/stub-resolv.conf; [ -e $R/etc/resolv.conf ] || cp /etc/resolv.conf $R/etc/resolv.conf
mount -t proc proc $R/proc; trap 'umount $R/proc' EXIT
export DEBIAN_FRONTEND=noninteractive
chroot $R apt-get update -qq >/dev/null
chroot $R apt-get upgrade -y -qq -o Dpkg::Options::=--force-confdef >$R/tmp/upgrade.log 2>&1 || { tail -20 $R/tmp/upgrade.log; exit 1; }
chroot $R grep -c ' upgrade ' /var/log/dpkg.log`)
	upgraded, err := strconv.Atoi(strings.TrimSpace(out[strings.LastIndexByte(strings.TrimSpace(out), '\n')+1:]))
	require.NoError(t, err, out)
	t.Logf("%d packages upgraded", upgraded)
	require.Greater(t, upgraded, 5, "there was nothing to upgrade")
	r := p.Run(t, "check", "--format", "json")
	var doc struct {
		Decide   int
		Findings []map[string]any
	}
	require.NoError(t, json.Unmarshal([]byte(r.Out), &doc), r.Err)
	kinds := map[string]int{}
	for _, f := range doc.Findings {
		kinds[f["kind"].(string)]++
		if f["kind"] != "updated" {
			t.Logf("%v %v: %v", f["kind"], f["name"], f["fields"])
		}
	}
	t.Logf("findings: %v", kinds)
	require.Zero(t, doc.Decide, r.Out)
	require.Equal(t, 0, r.Code)
	require.NotZero(t, kinds["updated"])
}
