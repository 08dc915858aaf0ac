//go:build unix

package cli_test

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/core/location/part"
	"lockback/internal/demo"
	"lockback/internal/testkit"
)

// startNote is a note of a start (2) or a sign-in (7) in wtmp.
func startNote(kind uint16, user string, at time.Time) []byte {
	b := make([]byte, 384)
	binary.LittleEndian.PutUint16(b, kind)
	copy(b[44:], user)
	binary.LittleEndian.PutUint32(b[340:], uint32(at.Unix()))
	return b
}

// started writes notes of starts and sign-ins onto the disk.
func started(t testing.TB, p testkit.Program, notes ...[]byte) {
	t.Helper()
	name := filepath.Join(p.Root, "var/log/wtmp")
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	require.NoError(t, err)
	for _, n := range notes {
		_, err = f.Write(n)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
}

// ago makes everything in a record some days older.
func older(t testing.TB, p testkit.Program, days int) {
	t.Helper()
	db := openSQL(t, p.Store)
	defer db.Close()
	for _, table := range []string{"change", "snapshot"} {
		_, err := db.Exec(fmt.Sprintf("UPDATE %s SET time = strftime('%%Y-%%m-%%dT%%H:%%M:%%SZ', time, '-%d days')",
			table, days))
		require.NoError(t, err)
	}
}

// checked is what check says, as far as tests look at it.
type checked struct {
	From     string
	Decide   int
	Restarts struct {
		Known bool
		Count int
	}
	Findings []struct {
		Kind, Handle, Name, State, Change, Update, Instead string
		Decide                                             bool
		Times                                              int
		By                                                 []struct {
			Name, Why string
			Sure      bool
		}
		Fields []struct{ Field, From, To string }
	}
	Trials []struct {
		Change, Remind   string
		Entries          []struct{ Name string }
		Restarted, Tried *bool
		SignedIn         *bool `json:"signed_in"`
		Try              []string
		Due              bool
	}
}

// check runs it, and wants the exit code that goes with what there is to decide.
func check(t testing.TB, p testkit.Program, args ...string) checked {
	t.Helper()
	r := p.Run(t, append([]string{"check", "--format", "json"}, args...)...)
	var c checked
	require.NoError(t, json.Unmarshal([]byte(r.Out), &c), r.Err)
	want := 0
	if c.Decide > 0 {
		want = 3
	}
	require.Equal(t, want, r.Code, r.Err)
	return c
}

// found are the findings in short: "put-back kelpline-updater.timer", those that nobody has to decide in brackets.
func (c checked) found() []string {
	all := []string{}
	for _, f := range c.Findings {
		s := f.Kind + " " + f.Name
		if !f.Decide {
			s = "(" + s + ")"
		}
		all = append(all, s)
	}
	return all
}

// A change is on trial until somebody keeps it; check says whether it was tried, and asks when its time is over.
func TestTrial(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 2, "no change of this machine is on trial", "keep")
	p.OK(t, "disable", "kelpline-updater.timer", "Tide Chart", "--yes", "--trial", "10d")
	require.Contains(t, p.OK(t, "history"), "  trial  ")
	c := check(t, p)
	require.Empty(t, c.found())
	require.Len(t, c.Trials, 1)
	require.Nil(t, c.Trials[0].Tried, "the disk tells of no start")
	require.Contains(t, p.OK(t, "check"), "no log tells of a restart")
	// Started before the change only: not tried.
	started(t, p, startNote(2, "reboot", time.Now().Add(-time.Hour)), startNote(7, "bram", time.Now().Add(-time.Hour)))
	require.Equal(t, false, *check(t, p).Trials[0].Tried)
	require.Contains(t, p.OK(t, "check"), "not tried yet: not restarted since")
	// Restarted, and the one whose entry it is has not signed in.
	started(t, p, startNote(2, "reboot", time.Now().Add(time.Minute)),
		startNote(7, "ines", time.Now().Add(2*time.Minute)))
	c = check(t, p)
	require.True(t, *c.Trials[0].Restarted)
	require.False(t, *c.Trials[0].SignedIn)
	require.False(t, *c.Trials[0].Tried)
	require.Contains(t, p.OK(t, "check"), "restarted once since")
	started(t, p, startNote(7, "bram", time.Now().Add(2*time.Minute)))
	require.True(t, *check(t, p).Trials[0].Tried)
	require.Empty(t, p.OK(t, "check", "--quiet"))
	// Of two users both must have signed in, whoever comes first in the list.
	for _, user := range []string{"ines", "bram"} {
		two := workshop(t)
		two.OK(t, "disable", "Fogbell Sync", "Tide Chart", "--yes")
		started(t, two, startNote(7, user, time.Now().Add(time.Minute)))
		require.False(t, *check(t, two).Trials[0].SignedIn, user)
	}
	older(t, p, 9)
	require.False(t, check(t, p).Trials[0].Due)
	older(t, p, 1)
	require.True(t, check(t, p).Trials[0].Due)
	r := p.Run(t, "check", "--quiet")
	require.Equal(t, 3, r.Code)
	require.Contains(t, r.Out, "10 days without a decision")
	require.Contains(t, p.OK(t, "keep", "--dry-run"), "nothing was changed")
	require.Contains(t, p.OK(t, "keep"), "C1")
	require.Empty(t, check(t, p).Trials)
	require.Contains(t, p.OK(t, "history"), "  kept  ")
	p.Fails(t, 2, "was kept already", "keep", "C1")
	p.OK(t, "undo", "C1", "--yes") // what was kept can be taken back
	p.Fails(t, 2, "undone; there is nothing to keep", "keep", "C1")
	p.Fails(t, 2, "not on trial", "keep", "C2")
	for _, wrong := range []string{"0d", "x", "-3", "9999d"} {
		p.Fails(t, 2, "a number of days", "disable", "Tide Chart", "--yes", "--trial="+wrong)
	}
	p.Fails(t, 2, "no C9", "keep", "C9")
	p.Fails(t, 2, "one change at a time: lockback keep C1", "keep", "C1", "C2")
	p.Fails(t, 2, "no entry has the handle or name", "keep", "nothing-like-it")
}

// Check tells what happened by who did it, and how much of it somebody must decide.
func TestCheckTellsWhatHappened(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 1, "no record yet", "check")
	p.OK(t, "snapshot")
	require.Empty(t, check(t, p).found())
	p.OK(t, "disable", "kelpline-updater.timer", "Fogbell Notifier", "report", "--yes")
	require.Empty(t, check(t, p).found(), "what lockback did is nothing to tell")
	// The updater comes back, by a script that names its unit, and a second name for what was turned off appears.
	link := filepath.Join(p.Root, "etc/systemd/system/timers.target.wants/kelpline-updater.timer")
	require.NoError(t, os.Symlink("/usr/lib/systemd/system/kelpline-updater.timer", link))
	write(t, p, "opt/kelpline/bin/care", "#!/bin/sh\nln -sf /usr/lib/systemd/system/kelpline-updater.timer "+
		"/etc/systemd/system/timers.target.wants/\n")
	require.NoError(t, os.Chmod(filepath.Join(p.Root, "opt/kelpline/bin/care"), 0o755))
	write(t, p, "etc/cron.d/kelpline-care", "@hourly root /opt/kelpline/bin/care\n")
	// Somebody turns something off; a program vanishes, another is replaced, an entry is taken away.
	list, _ := p.List(t, "Tide Chart")
	chart := list.Entries[0].Source.Path
	write(t, p, chart, read(t, p, chart)+"Hidden=true\n")
	require.NoError(t, os.Remove(filepath.Join(p.Root, "opt/tidewatch/bin/route")))
	write(t, p, "opt/lampwick/bin/plugged", "#!/bin/sh\necho another\n")
	require.NoError(t, os.Chmod(filepath.Join(p.Root, "opt/lampwick/bin/plugged"), 0o755))
	require.NoError(t, os.Remove(filepath.Join(p.Root, "etc/profile.d/kelpline.sh")))
	write(t, p, "home/ines/.config/autostart/asleep.desktop",
		"[Desktop Entry]\nType=Application\nName=Asleep\nExec=/opt/kelpline/bin/care\nHidden=true\n")
	c := check(t, p)
	require.Equal(t, "S1", c.From, "not the one that the change took")
	found := c.found()
	for _, want := range []string{"put-back kelpline-updater.timer", "added care", "problem route", "replaced plugged",
		"(removed kelpline.sh)", "(turned-off Tide Chart)", "(added Asleep)"} {
		require.Contains(t, found, want)
	}
	for _, f := range c.Findings {
		switch f.Name {
		case "kelpline-updater.timer":
			require.Equal(t, []any{"C1", 1}, []any{f.Change, f.Times})
			require.Len(t, f.By, 1)
			require.Equal(t, []any{"care", "what it runs names it", true}, []any{f.By[0].Name, f.By[0].Why,
				f.By[0].Sure})
		}
	}
	require.True(t, slices.IsSortedFunc(c.Findings, func(a, b struct {
		Kind, Handle, Name, State, Change, Update, Instead string
		Decide                                             bool
		Times                                              int
		By                                                 []struct {
			Name, Why string
			Sure      bool
		}
		Fields []struct{ Field, From, To string }
	}) int {
		order := []string{"put-back", "added", "replaced", "problem", "turned-on", "turned-off", "removed", "changed",
			"updated"}
		return slices.Index(order, a.Kind) - slices.Index(order, b.Kind)
	}))
	out := p.Run(t, "check").Out
	require.Contains(t, p.Short(out), "lockback keep ")
	require.Contains(t, out, "put there by care")
	// What nobody has to decide stands below, and is left out where only that is asked for.
	for _, harmless := range []string{"No reason to decide anything", "  turned off, not by lockback: Tide Chart",
		"kelpline.sh", "Asleep"} {
		require.Contains(t, out, harmless)
		require.NotContains(t, p.Run(t, "check", "--quiet").Out, harmless)
	}
	// It is turned off again, and comes back a second time.
	p.OK(t, "disable", "kelpline-updater.timer", "--yes")
	require.NotContains(t, check(t, p).found(), "put-back kelpline-updater.timer")
	require.NoError(t, os.Symlink("/usr/lib/systemd/system/kelpline-updater.timer", link))
	c = check(t, p)
	k := slices.Index(c.found(), "put-back kelpline-updater.timer")
	require.GreaterOrEqual(t, k, 0)
	require.Equal(t, []any{"C2", 2}, []any{c.Findings[k].Change, c.Findings[k].Times})
	require.Contains(t, p.Run(t, "check").Out, "came back twice")
	// It may stay.
	p.Fails(t, 2, "none of these is an entry that lockback turned off and that came back", "accept", "care")
	before := testkit.Tree(t, p.Root)
	p.OK(t, "accept", "kelpline-updater.timer", "--dry-run")
	require.Contains(t, check(t, p).found(), "put-back kelpline-updater.timer")
	p.OK(t, "accept", "kelpline-updater.timer")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	require.NotContains(t, check(t, p).found(), "put-back kelpline-updater.timer")
	require.Contains(t, check(t, p).found(), "added care", "what was not decided is still asked")
	p.OK(t, "disable", "kelpline-updater.timer", "--yes")
	require.NoError(t, os.Symlink("/usr/lib/systemd/system/kelpline-updater.timer", link))
	c = check(t, p)
	require.Equal(t, 1, c.Findings[0].Times, "what was let stay had not come back")
	// All of it is seen.
	p.OK(t, "snapshot")
	require.Equal(t, []string{"put-back kelpline-updater.timer"}, check(t, p).found(), "but what was turned off")
	p.Fails(t, 2, "of another machine", "--root", museum(t, "archive-mac").Root, "check", "S1")
}

// Who put an entry back is found where what it runs tells: with the unit's name alone, in a script that another names
// or that runs before the service, by launchctl, by reg add, and in a program that is none to read.
func TestCheckFindsWhoPutItBack(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		machine, off string
		lay          map[string]string // files, by name; those in which %s is have the author's program
		add          []string
		author, why  string
		sure         bool
	}{
		{"workshop-box", "saltmarsh-licence.socket",
			map[string]string{"opt/care/run": "#!/bin/sh\n. /opt/care/lib.sh\n",
				"opt/care/lib.sh": "systemctl -q \\\n enable saltmarsh-licence\n"},
			[]string{"--at", "startup", "--", "/opt/care/run"}, "care.service", "what it runs names it", true},
		{"workshop-box", "Fogbell Notifier", map[string]string{"opt/care/run": "#!/bin/sh\n",
			"opt/care/before":                 "#!/bin/sh\ncp /opt/x/fogbell-notifier.desktop /etc/xdg/autostart/\n",
			"etc/systemd/system/care.service": "[Service]\nExecStartPre=/opt/care/before\nExecStart=/opt/care/run\n[Install]\nWantedBy=multi-user.target\n", "etc/systemd/system/multi-user.target.wants/care.service": "-> ../care.service"},
			nil, "care.service", "what it runs names it", true},
		{"workshop-box", "kelpline-assistant.desktop",
			map[string]string{"opt/kelpline/bin/care": "\x7fELF\x00\x00kelpline-assistant.desktop\x00"},
			[]string{"--at", "sign-in", "--for", "ines", "--", "/opt/kelpline/bin/care"}, "care",
			"its program has the name in it, and is of the same folder", false},
		{"workshop-box", "Kelpline Assistant",
			map[string]string{"opt/kelpline/bin/care": "#!/bin/sh\ncp /opt/kelpline/saved/* /etc/xdg/autostart/\n",
				"etc/cron.d/care": "@hourly root /opt/kelpline/bin/care\n"},
			nil, "care", "what it runs names its folder, and it is of the same folder", false},
		{"workshop-box", "lampwick-spool.path",
			map[string]string{"etc/cron.d/care": "@hourly root systemctl enable --now lampwick-spool.path\n"},
			nil, "systemctl", "what it runs names it", true},
		{"ticket-desk-pc", "egpvxyi", map[string]string{`ProgramData/Microsoft/Group Policy/History/{6AC1786C-016F-11D2-945F-00C04FB984F9}/Machine/Preferences/Registry/Registry.xml`: `<?xml version="1.0" encoding="utf-8"?>
<RegistrySettings><Registry name="Brinecast" status="Brinecast"><Properties action="U" hive="HKEY_LOCAL_MACHINE" key="SOFTWARE\Microsoft\Windows\CurrentVersion\Run" name="Brinecast" type="REG_SZ" value="x"/></Registry></RegistrySettings>`},
			nil, `C:\ProgramData\Microsoft\Group ` +
				`Policy\History\{6AC1786C-016F-11D2-945F-00C04FB984F9}\Machine\Preferences\Registry\Registry.xml`,
			"a policy of the machine sets it, and does so again", true},
		{"archive-mac", "org.brinecast.helper",
			map[string]string{
				"Library/Managed Preferences/com.apple.servicemanagement.plist": "<plist><dict><key>RuleValue</key><string>org.brinecast.helper</string></dict></plist>", "Library/Managed Preferences/com.example.other.plist": "org.brinecast.helper"},
			nil, "/Library/Managed Preferences/com.apple.servicemanagement.plist",
			"a policy of the machine sets it, and does so again", true},
		{"archive-mac", "org.kelpline.updater", map[string]string{"Library/care/run": "#!/bin/sh\n/bin/launchctl " +
			"bootstrap system/org.kelpline.updater\n"},
			[]string{"--at", "startup", "--", "/Library/care/run"}, "care", "what it runs names it", true},
		{"ticket-desk-pc", "Kelpline Updater", nil, nil, `Kelpline\Update`,
			"it was started 2s before that, and is of the same product", true},
		{"ticket-desk-pc", "Saltmarsh Tray",
			map[string]string{"ProgramData/care.cmd": "@reg import C:\\ProgramData\\care.reg\r\n",
				"ProgramData/care.reg": "\xff\xfe" +
					string(windata.Encode("[HKEY_LOCAL_MACHINE\\x]\r\n\"Saltmarsh Tray\"=\"x\"\r\n"))},
			[]string{"--at", "startup", "--as", "service", "--", `C:\ProgramData\care.cmd`}, "care",
			"what it runs names it", true},
		{"ticket-desk-pc", "Tide Chart", map[string]string{"ProgramData/care.cmd": "@echo off\r\nreg add %K% ^\r\n " +
			"/v \"Tide Chart\" /d x /f\r\n"},
			[]string{"--at", "startup", "--as", "service", "--", `C:\ProgramData\care.cmd`}, "care",
			"what it runs names it", true},
	} {
		t.Run(c.off, func(t *testing.T) {
			t.Parallel()
			p := museum(t, c.machine)
			for name, content := range c.lay {
				if target, isLink := strings.CutPrefix(content, "-> "); isLink {
					require.NoError(t, os.Symlink(target, filepath.Join(p.Root, name)))
					continue
				}
				write(t, p, name, content)
				require.NoError(t, os.Chmod(filepath.Join(p.Root, name), 0o755))
			}
			if c.add != nil {
				p.OK(t, append([]string{"add", "--yes", "--name", "care"}, c.add...)...)
			}
			if c.machine == "ticket-desk-pc" { // the scheduler's note of the task's last start
				ran := binary.LittleEndian.AppendUint64([]byte{3, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0},
					windata.FileTime(time.Date(2026, 3, 14, 9, 26, 51, 0, time.UTC)))
				cache := part.Item{Key: `HKLM\SOFTWARE\Microsoft\Windows ` +
					`NT\CurrentVersion\Schedule\TaskCache\Tasks\{5A17ABCD-1887-4101-8314-000000000101}`,
					Value: "DynamicInfo"}
				value(t, p.Root, cache, func(v regf.Value) regf.Value {
					return regf.Value{Type: v.Type,
						Data: append(ran, make([]byte, 16)...)}
				})
			}
			p.OK(t, "snapshot")
			saved := filepath.Join(t.TempDir(), "saved")
			testkit.Shell(t, "cp -a "+p.Root+" "+saved)
			p.OK(t, "disable", c.off, "--yes")
			testkit.Shell(t, "rm -r "+p.Root+"; cp -a "+saved+" "+p.Root)
			all := check(t, p).Findings
			require.Len(t, all, 1)
			require.Equal(t, "put-back", all[0].Kind)
			require.Len(t, all[0].By, 1)
			require.NotContains(t, p.Run(t, "check").Out, "signed in since", "of what is on again nothing is on trial")
			require.Equal(t, []any{c.author, c.why, c.sure}, []any{strings.TrimPrefix(all[0].By[0].Name, "local."),
				all[0].By[0].Why, all[0].By[0].Sure})
		})
	}
}

// What comes under another name, and starts what was turned off, has come back.
func TestCheckKnowsAnotherName(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "disable", "report", "--yes") // a line of root's in /etc/cron.d
	write(t, p, "etc/cron.d/zz-report", "@reboot root /opt/kelpline/bin/report --boot\n")
	c := check(t, p)
	require.Equal(t, []string{"put-back report"}, c.found())
	require.NotEmpty(t, c.Findings[0].Instead)
	require.Contains(t, p.Run(t, "check").Out, "starts the same as report")
}

// What was removed comes back once, however many changes took it away; held and removed, it had not come back.
func TestCheckCountsWhatCameBack(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	saved := filepath.Join(t.TempDir(), "saved")
	testkit.Shell(t, "cp -a "+p.Root+" "+saved)
	back := func() (change string, times int) {
		testkit.Shell(t, "cp -a "+saved+"/etc/systemd/system/. "+p.Root+"/etc/systemd/system/")
		for _, f := range check(t, p).Findings {
			if f.Name == "brinecast.service" {
				require.Equal(t, "put-back", f.Kind)
				return f.Change, f.Times
			}
		}
		require.Fail(t, "it is not told")
		return "", 0
	}
	p.OK(t, "snapshot")
	p.OK(t, "disable", "brinecast.service", "--yes")
	p.OK(t, "remove", "brinecast.service", "--now", "-m", "not wanted", "--yes")
	change, times := back()
	require.Equal(t, []any{"C2", 1}, []any{change, times})
	require.Contains(t, p.Run(t, "check").Out, "C2 removed it\n")
	p.OK(t, "disable", "brinecast.service", "--yes")
	change, times = back()
	require.Equal(t, []any{"C3", 2}, []any{change, times})
	require.Contains(t, p.Run(t, "check").Out, "C3 turned it off; it came back twice by now")
}

// Of very many that came, all are told, and of as many as can be looked for it is said that nobody was found.
func TestCheckOfVeryMany(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	for k := range 130 {
		write(t, p, fmt.Sprintf("home/bram/.config/autostart/tide-%d.desktop", k),
			fmt.Sprintf("[Desktop Entry]\nType=Application\nName=tide-%d\nExec=/opt/tidewatch/tide-%d\n", k, k))
	}
	require.Len(t, check(t, p).found(), 130)
	require.Equal(t, 100, strings.Count(p.Run(t, "check").Out, "what put it there was not found"))
}

// broken tells whether a search's machine works: while the entry is in that state.
func works(t testing.TB, p testkit.Program, handle, state string) string {
	list, _ := p.List(t, "--all")
	for _, e := range list.Entries {
		if e.Handle == handle {
			if e.State == state {
				return "works"
			}
			return "broken"
		}
	}
	require.Fail(t, "it is gone", handle)
	return ""
}

// searched is a search, as far as tests look at it.
type searched struct {
	Ended   bool
	Units   []struct{ Handles, Names []string }
	Found   []struct{ Handles []string }
	Rounds  []struct{ Answer string }
	Verdict struct{ Confirmed, None bool }
}

// A search among what a change turned off finds the one that is missed, in as many rounds as it should; all else is
// then exactly as the change had left it, and the change can still be taken back to the byte.
func TestCulpritOfAChange(t *testing.T) {
	t.Parallel()
	for machine, words := range map[string][]string{
		"workshop-box": {"report", "updater", "kelpline*", "brinecast*", "Tide Chart", "Speed*", "lampwick*",
			"Fogbell*"},
		"ticket-desk-pc": {"tuner*", "Kelpline*", "Brinecast*", "Speed*", "Tide*", "Saltmarsh*"},
		"archive-mac":    {"*kelpline*", "org.brinecast*", "com.apple.speedkeeper", "org.tidewatch*"},
	} {
		t.Run(machine, func(t *testing.T) {
			t.Parallel()
			p := museum(t, machine)
			exact := machine != "ticket-desk-pc" // whose hives count how often they were written
			before := testkit.Tree(t, p.Root)
			p.Run(t, append([]string{"disable", "--yes"}, words...)...)
			off := testkit.Tree(t, p.Root)
			first := p.Run(t, "culprit", "start", "--yes", "--format", "json")
			require.Equal(t, 0, first.Code, first.Err)
			var s searched
			p.JSON(t, &s, "culprit")
			require.Greater(t, len(s.Units), 4)
			culprit := s.Units[len(s.Units)*2/3]
			most := 1
			for n := len(s.Units); n > 1; n = (n + 1) / 2 {
				most++
			}
			for round := 1; !s.Ended; round++ {
				require.LessOrEqual(t, round, most)
				r := p.Run(t, "culprit", works(t, p, culprit.Handles[0], "enabled"), "--yes", "--format", "json")
				require.Equal(t, 0, r.Code, r.Err)
				require.NoError(t, json.Unmarshal([]byte(r.Out), &s))
			}
			require.Len(t, s.Found, 1)
			require.Equal(t, culprit.Handles, s.Found[0].Handles)
			require.True(t, s.Verdict.Confirmed)
			require.Equal(t, "works", works(t, p, culprit.Handles[0], "enabled"))
			p.Fails(t, 2, "no search for a culprit is under way", "culprit", "works")
			// The others are as they were to the byte: the change can be taken back, where each entry has artifacts of
			// its own.
			if machine != "archive-mac" {
				p.OK(t, "undo", "C1", "--yes")
			} else {
				p.OK(t, "restore", "S1", "--yes")
			}
			if exact {
				require.NotEmpty(t, testkit.Differences(before, off))
				require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)))
			}
		})
	}
}

// A search can be left, answered wrongly, disturbed, and given up: then all is as before it, to the byte.
func TestCulpritDisturbed(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 2, "no change of this machine turned something off", "culprit", "start")
	p.OK(t, "disable", "kelpline*", "brinecast*", "Tide Chart", "Speed*", "lampwick*", "--yes")
	p.Fails(t, 2, "no search for a culprit is under way", "culprit", "broken")
	p.Fails(t, 2, "no search for a culprit is under way", "culprit", "stop")
	before := testkit.Tree(t, p.Root)
	require.Contains(t, p.OK(t, "culprit", "start", "--dry-run"), "nothing was changed")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.Fails(t, 2, "no search for a culprit is under way", "culprit")
	p.Fails(t, 2, "nothing was done", "culprit", "start") // nobody to ask
	p.OK(t, "culprit", "start", "--yes")
	p.Fails(t, 2, "a search for a culprit is under way", "culprit", "start", "--yes")
	p.Fails(t, 2, "takes back its rounds", "undo", "--yes")
	require.Contains(t, p.Run(t, "restore", "S1", "--dry-run").Err, "a search for a culprit is under way")
	require.Contains(t, p.Run(t, "check").Out, "A search for a culprit is under way")
	// Nothing was restarted: the answer says nothing.
	started(t, p, startNote(2, "reboot", time.Now().Add(-time.Hour)))
	p.Fails(t, 2, "was not restarted since round 1", "culprit", "works", "--yes")
	p.OK(t, "culprit", "works", "--yes", "--anyway")
	started(t, p, startNote(2, "reboot", time.Now().Add(time.Hour)))
	// Something turns an entry on meanwhile.
	var s searched
	p.JSON(t, &s, "culprit")
	require.Len(t, s.Rounds, 2)
	list, _ := p.List(t, "state=disabled", "kelpline*", "lampwick*", "brinecast*")
	on := list.Entries[0].Handle
	p.OK(t, "enable", on, "--yes")
	p.Fails(t, 2, "was not tried as set up", "culprit", "works", "--yes")
	p.OK(t, "culprit", "skip", "--yes")
	p.JSON(t, &s, "culprit")
	require.Len(t, s.Rounds, 3)
	require.Equal(t, []string{"works", "untried", ""}, []string{s.Rounds[0].Answer, s.Rounds[1].Answer,
		s.Rounds[2].Answer})
	p.OK(t, "culprit", "skip", "--yes")
	p.OK(t, "culprit", "broken", "--yes", "--anyway")
	require.Contains(t, p.OK(t, "culprit"), "rounds more")
	p.OK(t, "culprit", "stop", "--dry-run")
	r := p.Run(t, "culprit", "stop", "--yes")
	require.Equal(t, 0, r.Code, r.Err)
	p.Fails(t, 2, "no search for a culprit is under way", "culprit", "stop")
	left := slices.DeleteFunc(testkit.Differences(before, testkit.Tree(t, p.Root)), func(d string) bool {
		// turned on in between, and off again: its time is another one
		return strings.HasPrefix(d, "etc/cron.d/kelpline:") ||
			strings.HasPrefix(d, "var:") || strings.Contains(d, "wtmp") || strings.Contains(d, "var/log")
	})
	require.Empty(t, left)
	// Given up at once, nothing is left at all.
	before = testkit.Tree(t, p.Root)
	p.OK(t, "culprit", "start", "C1", "--yes")
	require.Contains(t, p.Short(p.OK(t, "culprit", "stop", "--yes")), "lockback undo takes it back",
		"the search is over")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// What was uninstalled meanwhile is no part of it any more.
	p.OK(t, "restore", "S1", "--yes")
	p.OK(t, "culprit", "start", "report", "updater", "Tide Chart", "Fogbell Sync", "--yes")
	require.NoError(t, os.Remove(filepath.Join(p.Root, "etc/cron.d/kelpline")))
	r = p.Run(t, "culprit", "broken", "--yes", "--anyway")
	require.Equal(t, 0, r.Code, r.Err)
	require.Contains(t, r.Err+r.Out, "was removed since the search began")
	r = p.Run(t, "culprit", "stop", "--yes")
	require.Equal(t, 0, r.Code, r.Err)
	require.Contains(t, r.Err+r.Out, "each entry is brought to the state that it had")
	list, _ = p.List(t, "Tide Chart")
	require.Equal(t, "enabled", list.Entries[0].State)
	p.Fails(t, 2, "there is only", "culprit", "start", "Tide Chart", "--yes")
	p.Fails(t, 2, "has nothing to search among", "culprit", "start", "brinecast_cam", "--yes")
	p.Fails(t, 2, "every match is off already", "culprit", "start", "gull.weekly", "--yes", "--all")
}

// Killed at every step of a round, recover takes it back, and the answer can be given again.
func TestCulpritKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "disable", "kelpline*", "Tide Chart", "lampwick*", "--yes")
	before := testkit.Tree(t, p.Root)
	p.OK(t, "culprit", "start", "--yes")
	round := testkit.Tree(t, p.Root)
	all := wrecks(t, p, 1, "culprit", "works", "--yes")
	require.GreaterOrEqual(t, len(all), 9)
	for _, w := range all {
		t.Run(w.point, func(t *testing.T) {
			t.Parallel()
			if r := w.Run(t, "recover", "--yes"); r.Code != 0 {
				require.Fail(t, "recover", r.Err)
			}
			if d := testkit.Differences(round, testkit.Tree(t, w.Root)); len(d) > 0 {
				w.OK(t, "culprit", "skip", "--yes") // it was done, and not written down: set up again
			} else {
				w.OK(t, "culprit", "works", "--yes")
			}
			w.OK(t, "culprit", "stop", "--yes")
			testkit.Same(t, before, testkit.Tree(t, w.Root))
		})
	}
}

// Everything that is off and may go goes, and comes back: by undo and by restore to the byte, by enable as it was on.
func TestRemove(t *testing.T) {
	t.Parallel()
	for _, machine := range []string{"workshop-box", "ticket-desk-pc", "archive-mac"} {
		t.Run(machine, func(t *testing.T) {
			t.Parallel()
			p := museum(t, machine)
			exact := machine != "ticket-desk-pc"
			same := func(want testkit.Picture) {
				t.Helper()
				if exact {
					require.Empty(t, testkit.Differences(want, testkit.Tree(t, p.Root)))
				}
			}
			p.OK(t, "snapshot")
			found := testkit.Tree(t, p.Root)
			p.Run(t, "disable", "state=enabled", "switch!=report", "--guarded", "--yes")
			off, _ := p.List(t, "--all")
			picture := testkit.Tree(t, p.Root)
			r := p.Run(t, "remove", "state=disabled", "--yes")
			require.Equal(t, 0, max(0, r.Code-1), r.Err) // leftovers only
			p.Run(t, "undo", "C2", "--yes")
			same(picture)
			p.Fails(t, 2, "--now wants a reason", "remove", "state=disabled", "--now", "--yes")
			r = p.Run(t, "remove", "state=disabled", "--now", "-m", "nobody missed it", "--guarded", "--yes",
				"--format", "json")
			require.Contains(t, []int{0, 1}, r.Code, r.Err)
			var out struct {
				Entries []struct{ Handle, Was string }
			}
			require.NoError(t, json.Unmarshal([]byte(r.Out), &out), r.Err)
			all, _ := p.List(t, "--all")
			here := map[string]testkit.Entry{}
			for _, e := range all.Entries {
				here[e.Handle] = e
			}
			for _, e := range out.Entries {
				if e.Was == "absent" {
					continue // macOS notes a helper whose file is gone
				}
				require.Equal(t, []string{"disabled", "removed (kept in the record)"}, []string{here[e.Handle].State,
					here[e.Handle].Mode}, here[e.Handle].Name)
			}
			require.Greater(t, len(out.Entries), map[string]int{"workshop-box": 40, "ticket-desk-pc": 25,
				"archive-mac": 10}[machine])
			require.GreaterOrEqual(t, len(all.Entries), len(off.Entries), "nothing is lost from the list")
			p.OK(t, "undo", "--yes")
			same(picture)
			p.Run(t, "remove", "state=disabled", "--now", "-m", "nobody missed it", "--guarded", "--yes")
			after := testkit.Tree(t, p.Root)
			p.OK(t, "restore", "S1", "--yes")
			same(found)
			p.OK(t, "undo", "--yes")
			same(after)
			again, _ := p.List(t, "--all")
			require.Equal(t, len(all.Entries), len(again.Entries))
			// What went comes back enabled.
			n := 0
			for k, e := range again.Entries {
				if e.Mode != "removed (kept in the record)" || k%4 != 0 {
					continue
				}
				n++
				if r := p.Run(t, "enable", e.Handle, "--yes", "--format", "json"); r.Code == 0 {
					require.Contains(t, r.Out, `"will_be": "enabled"`, e.Name)
				} else {
					require.Regexp(t, "cannot|still reads as disabled", r.Err, e.Name)
				}
			}
			require.NotZero(t, n)
			p.OK(t, "restore", "S1", "--yes")
			same(found)
		})
	}
}

// How long an entry must be off before it may go.
func TestRemoveWaits(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 2, "it is still on; disable it first", "remove", "Fogbell Sync", "--yes")
	p.OK(t, "disable", "Fogbell Sync", "--yes", "--trial", "5d")
	p.Fails(t, 2, "5 days to go", "remove", "Fogbell Sync", "--yes")
	older(t, p, 4)
	p.Fails(t, 2, "1 day to go", "remove", "Fogbell Sync", "--yes")
	p.Fails(t, 2, "--now wants a reason", "remove", "Fogbell Sync", "--yes", "--now")
	before := testkit.Tree(t, p.Root)
	require.Contains(t, p.OK(t, "remove", "Fogbell Sync", "--now", "-m", "Bram said so", "--dry-run"),
		"nothing was changed")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	older(t, p, 1)
	list, _ := p.List(t, "Fogbell Sync")
	file := list.Entries[0].Source.Path
	p.OK(t, "remove", "Fogbell Sync", "--yes")
	require.NoFileExists(t, filepath.Join(p.Root, file))
	r := p.Run(t, "remove", "Fogbell Sync", "--yes")
	require.Equal(t, 0, r.Code)
	require.Contains(t, r.Err, "these entries are removed already")
	p.OK(t, "enable", "Fogbell Sync", "--yes")
	list, _ = p.List(t, "Fogbell Sync")
	require.Equal(t, "enabled", list.Entries[0].State)
	// A trial that was kept need not wait.
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	p.OK(t, "keep")
	p.OK(t, "remove", "Fogbell Sync", "--yes")
	p.OK(t, "undo", "--yes")
	// Leftovers may go at once, and from a package only what would not come back.
	p.OK(t, "remove", "brinecast.service", "--yes")
	p.OK(t, "disable", "kelpline-report.service", "--yes")
	p.Fails(t, 1, "belongs to the package", "remove", "kelpline-report.service", "--now", "-m", "x", "--yes")
	p.Fails(t, 2, "it is a part of the operating system, and those stay", "remove", "dbus.service", "--all", "--now",
		"-m",
		"x", "--guarded", "--yes")
	p.OK(t, "remove", "Tide Chart", "--yes") // enabled, and its program missing
	r = p.Run(t, "remove", "Fogbell Sync", "--now", "-m", "x", "--yes")
	require.Contains(t, r.Err+r.Out, "uninstalling that is the better way")
}

// A task on a disk cannot be turned off, and is no dead end: it is removed with all that the scheduler keeps of it,
// also where only the scheduler's cache has it, and comes back to the byte.
func TestRemoveTasksOfADisk(t *testing.T) {
	t.Parallel()
	for _, name := range []string{`Kelpline\Update`, "Saltmarsh Touch"} {
		p := museum(t, "ticket-desk-pc")
		require.Contains(t, p.Short(p.Fails(t, 1, "nothing was done", "disable", name, "--yes").Err),
			"with lockback remove --now, which undo brings back exactly")
		p.Fails(t, 2, "--now -m TEXT removes it, and undo brings it back", "remove", name, "--yes")
		before, registry := testkit.Tree(t, p.Root), p.OK(t, "list", "--all", "--format", "json")
		list, _ := p.List(t, "name="+name)
		handle := list.Entries[0].Handle
		p.OK(t, "remove", name, "--now", "-m", "the till is slow at noon", "--yes")
		list, _ = p.List(t, handle)
		require.Equal(t, "removed (kept in the record)", list.Entries[0].Mode)
		other := testkit.Program{Root: p.Root, Store: filepath.Join(t.TempDir(), "other.db")}
		other.Fails(t, 2, "nothing has", "show", handle)
		p.OK(t, "undo", "--yes")
		require.Equal(t, registry, p.OK(t, "list", "--all", "--format", "json"))
		after := testkit.Tree(t, p.Root)
		for file := range before {
			if !strings.HasSuffix(file, "config/SOFTWARE") { // the registry's keys are compared by the list
				require.Equal(t, before[file], after[file], file)
			}
		}
		p.OK(t, "remove", name, "--now", "-m", "again", "--yes")
		p.OK(t, "enable", handle, "--yes")
		list, _ = p.List(t, handle)
		require.Equal(t, "enabled", list.Entries[0].State)
	}
}

// Killed on the way of a removal, all is there, or nothing is lost.
func TestRemoveKilledOnTheWay(t *testing.T) {
	t.Parallel()
	remove := []string{"remove", "state=disabled", "--now", "-m", "x", "--yes"}
	killedOnTheWay(t, "workshop-box", 4, []string{"disable", "Tide Chart", "updater", "brinecast-report", "--yes"},
		remove...)
	killedOnTheWay(t, "ticket-desk-pc", 6, []string{"disable", "Tide Chart", "Brinecast screen caster", "timetable",
		"--yes"}, remove...)
	killedOnTheWay(t, "archive-mac", 4, []string{"disable", "org.kelpline.updater", "org.gullrock.backup", "--yes"},
		remove...)
}

// Whether a change was tried is known from a Windows disk's event log, and from what a Mac notes of its last start.
func TestTrialOnOtherDisks(t *testing.T) {
	t.Parallel()
	p := museum(t, "ticket-desk-pc")
	p.OK(t, "disable", "Tide Chart", "Brinecast screen caster", "--yes") // odile's, and a service
	require.Nil(t, check(t, p).Trials[0].Tried)
	// S-1-5-21-1887042190-3141592653-2718281828-1001, as the log keeps it.
	sid := []byte{1, 5, 0, 0, 0, 0, 0, 5}
	for _, part := range []uint32{21, 1887042190, 3141592653, 2718281828, 1001} {
		sid = binary.LittleEndian.AppendUint32(sid, part)
	}
	log := func(events ...demo.LoggedEvent) {
		name := filepath.Join(p.Root, "Windows/System32/winevt/Logs/System.evtx")
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, demo.EventLog("Microsoft-Windows-Kernel-General", events...), 0o644))
	}
	later := time.Now().Add(time.Hour)
	start := demo.LoggedEvent{ID: 12, Time: later}
	signIn := demo.LoggedEvent{Provider: "Microsoft-Windows-Winlogon", ID: 7001, Time: later,
		Data: []demo.Datum{{Name: "TSId", Value: uint32(1)}, {Name: "UserSid", Value: sid}}}
	log(demo.LoggedEvent{ID: 12, Time: later.Add(-2 * time.Hour)}, demo.LoggedEvent{ID: 13, Time: later})
	require.False(t, *check(t, p).Trials[0].Restarted)
	log(start)
	c := check(t, p)
	require.True(t, *c.Trials[0].Restarted)
	require.Nil(t, c.Trials[0].SignedIn)
	log(start, signIn)
	c = check(t, p)
	require.Equal(t, []bool{true, true, true}, []bool{*c.Trials[0].Restarted, *c.Trials[0].SignedIn,
		*c.Trials[0].Tried})

	p = museum(t, "archive-mac")
	p.OK(t, "disable", "org.kelpline.assistant", "--yes") // mirela's
	record := func(kind uint16, user string) []byte {
		b := make([]byte, 628)
		copy(b, user)
		binary.LittleEndian.PutUint16(b[296:], kind)
		binary.LittleEndian.PutUint32(b[300:], uint32(later.Unix()))
		return b
	}
	write(t, p, "private/var/run/utmpx", string(slices.Concat(record(0, "utmpx-1.00"), record(2, ""),
		record(7, "jonas"))))
	require.False(t, *check(t, p).Trials[0].SignedIn)
	write(t, p, "private/var/run/utmpx", string(slices.Concat(record(0, "utmpx-1.00"), record(2, ""),
		record(7, "mirela"))))
	require.True(t, *check(t, p).Trials[0].Tried)
}

// A record may say anything of a search: it is damaged then, and nothing is done.
func TestPlantedSearches(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "disable", "Fogbell*", "Tide Chart", "--yes")
	for _, text := range []string{`{`, `{}`,
		`{"units":[{"handles":["abcdefg"],"names":[]}],"was":{"abcdefg":"enabled"}}`,
		`{"units":[{"handles":["abcdefg"],"names":["x"]}]}`,
		`{"units":[{"handles":["abcdefg"],"names":["x"]}],"was":{"abcdefg":"enabled"},"rounds":[{"suspects":[7]}]}`,
		`{"units":[{"handles":["abcdefg"],"names":["x"]}],"was":{"abcdefg":"enabled"},"rounds":[{"suspects":[-1]}]}`} {
		db := openSQL(t, p.Store)
		_, err := db.Exec("DELETE FROM search; INSERT INTO search SELECT id, ? FROM machine", text)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		before := testkit.Tree(t, p.Root)
		for _, command := range []string{"works", "skip", "stop", "start"} {
			p.Fails(t, 1, "the search for a culprit cannot be read", "culprit", command, "--yes")
		}
		p.Fails(t, 1, "the record is damaged", "culprit")
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
	// One that names a change of nobody's cannot be given up by it, and nothing else comes to harm.
	db := openSQL(t, p.Store)
	_, err := db.Exec(`UPDATE search SET state = ` +
		`'{"units":[{"handles":["abcdefg"],"names":["x"]}],"was":{"abcdefg":"enabled"},"rounds":[{"suspects":[],"change":77}]}'`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	p.Fails(t, 2, "C77", "culprit", "stop", "--yes")
}

// A trial and a search go with the record onto the disk, and go on in another workshop.
func TestCarriedOnElsewhere(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "disable", "Fogbell*", "Tide Chart", "kelpline*", "--yes", "--trial", "3d")
	p.OK(t, "culprit", "start", "--yes")
	p.OK(t, "record", "carry", "--yes")
	elsewhere := testkit.Program{Root: p.Root, Store: "disk"}
	c := check(t, elsewhere)
	require.Len(t, c.Trials, 1)
	require.Contains(t, elsewhere.OK(t, "culprit"), "waits")
	elsewhere.OK(t, "culprit", "broken", "--yes", "--anyway")
	before := testkit.Tree(t, p.Root, "var/lib/lockback")
	require.Contains(t, elsewhere.OK(t, "culprit"), "broken")
	elsewhere.OK(t, "culprit", "stop", "--yes")
	require.NotEmpty(t, testkit.Differences(before, testkit.Tree(t, p.Root, "var/lib/lockback")))
	elsewhere.OK(t, "keep")
	require.Empty(t, check(t, elsewhere).Trials)
	elsewhere.OK(t, "undo", "C1", "--yes")
}

// That another entry starts the same program is no difference of the one that is left: it is told of the other.
func TestCheckAfterOneOfTwoTwins(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	require.Contains(t, p.OK(t, "list", "problem=twice"), "gullrock-welcome.service")
	p.OK(t, "disable", "gullrock-welcome.service", "--yes")
	require.Empty(t, check(t, p).found())
	require.NotContains(t, p.OK(t, "check"), "changed otherwise")
	require.Contains(t, p.OK(t, "compare", "C1"), "nothing differs")
}

// Where only Windows' performance log has a start, check and figures say the same of it, and check does not take it for
// a restart: after a fast startup no service was started anew.
func TestCheckAndFiguresAgreeOnTheLastStart(t *testing.T) {
	t.Parallel()
	p := testkit.Museum(t, "ticket-desk-pc")
	p.Env = []string{"TZ=UTC"}
	p.OK(t, "disable", "Kelpline Updater", "--yes")
	said := p.OK(t, "check")
	require.Contains(t, said, "Not known whether it was restarted since: no log tells.")
	require.Contains(t, said,
		"not known whether it was tried: no log tells of a restart; Windows' performance log has a "+
			"start on 2026-03-14 08:36, which may have been a fast startup")
	require.Regexp(t, `(?m)^last start +2026-03-14 08:36`, p.OK(t, "figures"))
	p = testkit.Museum(t, "office-laptop")
	p.OK(t, "disable", "kupdate", "--yes")
	require.Contains(t, p.OK(t, "check"), "not tried yet: not restarted since")
	require.NoError(t, demo.UpdaterIsBack(p.Root))
	require.Contains(t, p.Run(t, "check").Out, "Restarted once since")
}
