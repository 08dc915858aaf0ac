//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/internal/cli"
	"lockback/internal/demo"
	"lockback/internal/testkit"
)

// answered runs a command as at a terminal, with an answer to its question.
func answered(p testkit.Program, answer string, args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = cli.Main(append([]string{"--root", p.Root, "--store", p.Store}, args...), cli.Streams{Ask: true,
		In: strings.NewReader(answer), Out: &o, Err: &e})
	testkit.Said(o.String(), e.String())
	return code, o.String(), e.String()
}

// row finds the line of a table that begins with a handle, its columns joined by single spaces.
func row(t *testing.T, text, handle string) string {
	t.Helper()
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, handle+" ") {
			return strings.Join(strings.Fields(line), " ")
		}
	}
	require.Fail(t, "no row", "%s in\n%s", handle, text)
	return ""
}

// Each plan shows what was and what will be, for each entry by its name, and a restore and an undo
// what they go back to.
func TestWasAndWillBe(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot", "-m", "as found")
	const sync, assistant, spool = "ryvfm3c", "lpgzw6r", "dlav756"
	require.Equal(t, sync+" Fogbell Sync ines enabled disabled", row(t, p.OK(t, "disable", sync, "--dry-run"), sync))
	require.Equal(t, sync+" Fogbell Sync ines enabled disabled", row(t, p.Run(t, "disable", sync).Err, sync),
		"the question")
	p.OK(t, "disable", sync, assistant, "--yes", "-m", "quiet please")
	p.OK(t, "disable", spool, "--yes", "-m", "no labels")

	out := p.OK(t, "restore", "S1", "--dry-run")
	require.Regexp(t, `(?m)^Back to S1 of \d{4}-\d\d-\d\d \d\d:\d\d, just now: as found$`, out)
	require.Equal(t, sync+" Fogbell Sync ines disabled enabled", row(t, out, sync))
	require.Equal(t, spool+" lampwick-spool.path everyone disabled enabled", row(t, out, spool))
	require.Regexp(t, `Takes effect at the next restart:\nhandle .*\n`+spool, out)
	require.Contains(t, p.Run(t, "restore", "S1").Err, "Back to S1 of ", "the question")
	// An entry that is not there will be, and one that is added since will not be.
	p.OK(t, "disable", "gullrock-welcome.service", "--for", "ines", "--yes")
	require.Contains(t, row(t, p.OK(t, "undo", "--dry-run"), "pfeoof2"), "ines disabled absent")
	require.NoError(t, os.Remove(filepath.Join(p.Root, "home/bram/.config/autostart/tidechart.desktop")))
	require.Contains(t, row(t, p.OK(t, "restore", "S1", "--only", "Tide Chart", "--dry-run"), "tobelzt"),
		"Tide Chart bram absent enabled")

	// What an undo takes back, and what the next one would.
	out = p.OK(t, "undo", "C2", "--dry-run")
	require.Regexp(t, `Takes back C2 of \S+ \S+, just now: disable: no labels`, out)
	require.Contains(t, out, "as it was before that, in S3")
	require.Contains(t, out, "A second undo would take back C3 of ")
	p.OK(t, "restore", "S1", "--yes")
	out = p.OK(t, "undo", "--dry-run")
	require.Contains(t, out, "It was a restore: the machine will be as it was before that, in S5.")
	require.Contains(t, p.Run(t, "undo").Err, "A second undo would take back C3 of", "the question")

	var change struct {
		Steps   []struct{ Handle, What string }
		Entries []struct {
			Handle, Was string
			WillBe      string `json:"will_be"`
			TakesEffect string `json:"takes_effect"`
		}
	}
	p.JSON(t, &change, "undo", "--dry-run")
	require.Len(t, change.Entries, 5)
	for _, e := range change.Entries {
		if e.Handle == sync {
			require.Equal(t, []string{"enabled", "disabled", "at the next sign-in"}, []string{e.Was, e.WillBe,
				e.TakesEffect})
		}
	}
}

// What steps change is said in words; images are for whoever asks.
func TestStepsInWords(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	out := p.OK(t, "disable", "Fogbell Sync", "backup-archive", "tidewatch.service", "brinecast-report",
		"kelpline-report.service", "updater", "report", "brinecast_cam", "--guarded", "--dry-run")
	for _, words := range []string{"adds Hidden=true", "line 2 commented out",
		"link to /etc/systemd/system/tidewatch.service removed", "no longer executable", "link to /dev/null made",
		"lines 2, 3 commented out", "ei4hcmz report"} {
		require.Contains(t, out, words)
	}
	require.NotRegexp(t, `file rw.*bytes, [0-9a-f]{8}`, out)
	require.Regexp(t, `file rw.*bytes, [0-9a-f]{8}`, p.OK(t, "disable", "Fogbell Sync", "--dry-run", "--verbose"))
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	out = p.OK(t, "history", "C1")
	require.Contains(t, out, "adds Hidden=true")
	require.Equal(t, "ryvfm3c Fogbell Sync ines enabled", row(t, out, "ryvfm3c"))

	desk := ticketDesk(t)
	out = desk.OK(t, "disable", "Kelpline*", "Fogbell Sync", "tuner.exe", "rdp.exe", "vidc.bell", "Saltmarsh Ledger",
		"--dry-run")
	for _, words := range []string{"Start 2 → 4", "marked off in Windows' own startup settings", `explorer.exe`,
		"vidc.bell removed, was ", "LoadBehavior 3 → 2"} {
		require.Contains(t, out, words)
	}
	mac := archive(t)
	require.Contains(t, mac.OK(t, "disable", "org.kelpline.assistant", "org.saltmarsh.licence", "LoginHook",
		"--dry-run"), "adds org.saltmarsh.licence = true")
}

// What starts for a user is not only what is the user's own.
func TestForWhom(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	names := func(args ...string) []string {
		list, _ := p.List(t, args...)
		var all []string
		for _, e := range list.Entries {
			all = append(all, e.Name+"/"+e.User)
		}
		return all
	}
	own := names("stage=sign-in", "user=bram")
	require.Equal(t, []string{"tray/bram", "tray/bram", ".bashrc/bram", "~/.ssh/rc/bram", ".xsessionrc/bram",
		"Speed\u202egnp.exe Cleaner\x1b[31m/bram", "Tide Chart/bram"}, own)
	all := names("stage=sign-in", "for=bram")
	require.Subset(t, all, own)
	require.Subset(t, all, []string{"gullrock-welcome.service/", "Fogbell Notifier/", "Kelpline Assistant/"})
	require.NotContains(t, names("for=bram"), "tidewatch.service/", "starts without anyone signing in")
	require.NotContains(t, names("for=bram"), "Fogbell Sync/ines")
	require.Contains(t, p.OK(t, "list", "user=bram"), "and 14 more for everyone (for=bram shows them too)")
	require.NotContains(t, p.OK(t, "list", "for=bram"), "more for everyone")
}

// Who looks may search; who changes something must say what is meant.
func TestSearching(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	list, _ := p.List(t, "kelpline")
	require.Len(t, list.Entries, 13, "in names, commands and files")
	list, _ = p.List(t, "CURL")
	require.Len(t, list.Entries, 1, "in a command, in other letters")
	list, _ = p.List(t, "name=Fogbell Sync")
	require.Len(t, list.Entries, 1)
	list, _ = p.List(t, "fogbell-sync.desktop")
	require.Len(t, list.Entries, 1, "the system's own name")
	before := testkit.Tree(t, p.Root)
	r := p.Fails(t, 2, `no entry has the handle or name "kelpline/bin"; it occurs in `, "disable", "kelpline/bin",
		"--yes")
	require.Contains(t, r.Err, "frwlhvg kelpline-updater.timer (command)")
	p.OK(t, "snapshot")
	p.Fails(t, 2, "Give the handles of those you mean", "restore", "S1", "--only", "fogbell", "--yes")
	require.NotContains(t, p.Run(t, "disable", "Fogbell", "--yes").Err, "*", "no wildcard is advised")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	require.Contains(t, p.OK(t, "disable", "fogbell-sync.desktop", "--yes"), "C1 done: 1 entry")
	desk := ticketDesk(t)
	require.Contains(t, desk.OK(t, "disable", "kupdate", "--dry-run"), "Kelpline Update Service")
	require.Contains(t, desk.OK(t, "list", `\Kelpline\Update`), "Update")
}

// A large change wants more than a y.
func TestLargeChanges(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	for _, name := range []string{"etc/sudo.conf", "etc/pam.d", "etc/ld.so.preload", "usr/local/lib/python3.11",
		"etc/profile.d"} {
		require.NoError(t, os.RemoveAll(filepath.Join(p.Root, name))) // most of what starts for ines is hers then
	}
	before := testkit.Tree(t, p.Root)
	for _, c := range []struct {
		why  string
		n    int
		args []string
	}{
		{"47 of the 61 entries that start would no longer start", 47, []string{"disable", "state=enabled"}},
		{"12 of the 21 entries that start for ines would no longer start", 12, []string{"disable", "for=ines",
			"switch!=report", "location!=linux.motd,linux.x-session,linux.preload,linux.display-manager,linux.browser",
			"name!=PYTHONSTARTUP", "state=enabled", "--for", "ines"}},
		{"1 of them is protected", 1, []string{"disable", "brinecast_cam", "--guarded"}},
		{"2 of them are protected; 2 of them are parts of the operating system", 2, []string{"disable", "dbus.service",
			"systemd-logind.service", "--all", "--guarded"}},
	} {
		for _, wrong := range []string{"y\n", "yes\n", "", fmt.Sprintf("%d\n", c.n+1)} {
			code, _, errs := answered(p, wrong, c.args...)
			require.Equal(t, 1, code, errs)
			require.Contains(t, errs, "Look again: "+c.why)
			require.Contains(t, errs, "nothing was done")
		}
		testkit.Same(t, before, testkit.Tree(t, p.Root))
		code, _, errs := answered(p, fmt.Sprintf("%d\n", c.n), c.args...)
		require.Zero(t, code, errs)
		p.OK(t, "undo", "--yes")
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
	code, _, errs := answered(p, "y\n", "disable", "Fogbell Sync")
	require.Zero(t, code, errs)
	require.NotContains(t, errs, "Look again")
	code, _, errs = answered(p, "n\n", "undo")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "nothing was done")
}

// A comparison tells one's own doing from what happened by itself.
func TestOwnDoing(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	original, err := os.ReadFile(filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop"))
	require.NoError(t, err)
	p.OK(t, "disable", "kelpline-updater.timer", "Fogbell Sync", "--yes")
	p.OK(t, "disable", "gullrock-welcome.service", "--for", "ines", "--yes")
	p.OK(t, "compare", "C2")
	// By itself: one comes back, one is added, a program is replaced.
	require.NoError(t, os.Symlink("/usr/lib/systemd/system/kelpline-updater.timer",
		filepath.Join(p.Root, "etc/systemd/system/timers.target.wants/kelpline-updater.timer")))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/kelpline-care"),
		[]byte("@hourly root /opt/kelpline/bin/care\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "opt/fogbell/sync"), []byte("another"), 0o755))

	type difference struct {
		From, To       string
		Added, Removed []testkit.Entry
		Changed        []struct {
			Name, By string
			Fields   []struct{ Field, From, To string }
		}
	}
	compare := func(from string) (d difference, by map[string]string) {
		r := p.Run(t, "compare", from, "--format", "json")
		require.Equal(t, 3, r.Code, r.Err)
		require.NoError(t, json.Unmarshal([]byte(r.Out), &d))
		by = map[string]string{}
		for _, c := range d.Changed {
			for _, f := range c.Fields {
				by[c.Name+" "+f.Field] = strings.TrimSpace(c.By + " " + f.From + "→" + f.To)
			}
		}
		return d, by
	}
	d, by := compare("C1")
	require.Equal(t, "C1", d.From)
	require.Equal(t, "disabled→enabled", by["kelpline-updater.timer state"], "put back")
	require.NotContains(t, by, "Fogbell Sync state", "what C1 did")
	require.NotContains(t, by, "Fogbell Sync mode")
	_, by = compare("S1")
	require.Equal(t, "C1 enabled→disabled", by["Fogbell Sync state"])
	require.NotContains(t, by, "kelpline-updater.timer state", "it is as it was")
	out := p.Run(t, "compare", "S1").Out
	require.Contains(t, out, "Added since S1, not by lockback")
	require.Contains(t, out, "Added since S1 by C2")
	require.Contains(t, out, "Changed since S1 by C1")
	// Put back to the byte and the time: nothing differs from before the change, and it is a difference.
	hidden := filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop")
	as := testkit.Tree(t, p.Root)["home/ines/.config/autostart/fogbell-sync.desktop"]
	now, err := os.ReadFile(hidden)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(hidden, original, 0o644))
	require.NoError(t, os.Chtimes(hidden, info.ModTime(), info.ModTime()))
	require.NotEqual(t, as, testkit.Tree(t, p.Root)["home/ines/.config/autostart/fogbell-sync.desktop"])
	_, by = compare("C1")
	require.Equal(t, "disabled→enabled", by["Fogbell Sync state"], "put back exactly")
	require.NoError(t, os.WriteFile(hidden, now, 0o644))
	p.Fails(t, 2, "S2 was taken before C2", "compare", "C2", "S2")
	p.OK(t, "undo", "C2", "--yes")
	p.Fails(t, 2, "C2 is undone; compare with S3", "compare", "C2")
	// The history folds the snapshots that changes took, and has local times; scripts get all.
	out = p.OK(t, "history")
	require.NotContains(t, out, "before disable")
	require.Regexp(t, `(?m)^C1 +`+regexp.QuoteMeta(time.Now().Format("2006-01-02"))+
		` \d\d:\d\d +change +2 +trial +S2 +disable: `, out)
	require.Contains(t, p.OK(t, "history", "--format", "csv"), "before disable")
	p.Env = []string{"TZ=Pacific/Auckland"}
	require.Regexp(t, `before disable`, p.OK(t, "history", "--format", "json"))
	require.NotEqual(t, out, p.OK(t, "history"), "the clock on the wall")
}

// Since a snapshot, or a day.
func TestSince(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 2, "needs a record", "list", "since=S1")
	p.OK(t, "snapshot")
	require.Contains(t, p.Run(t, "list", "since=S1").Err, "nothing was added since then")
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/kelpline-care"),
		[]byte("@hourly root /opt/kelpline/bin/care\n"), 0o644))
	list, _ := p.List(t, "since=S1")
	require.Len(t, list.Entries, 1)
	list, _ = p.List(t, "since=s1", "kelpline")
	require.Len(t, list.Entries, 1)
	list, _ = p.List(t, "since="+time.Now().AddDate(0, 0, 1).Format(time.DateOnly))
	require.Len(t, list.Entries, 1)
	p.Fails(t, 2, "no snapshot from before that day; the first is S1", "list", "since=2001-01-01")
	p.Fails(t, 2, "neither a snapshot (since=S3) nor a day", "list", "since=yesterday")
	p.Fails(t, 2, "there is no S9", "list", "since=S9")
	require.Contains(t, p.OK(t, "disable", "since=S1", "--yes"), "C1 done: 1 entry")
}

// How a list is laid out, and that it never passes for a clean machine.
func TestListLayout(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	out := p.OK(t, "list")
	require.NotContains(t, out, "not looked at yet")
	mac := museum(t, "archive-mac")
	require.NotContains(t, mac.OK(t, "list"), "not looked at yet")
	require.Contains(t, out, "84 entries: 66 enabled, 18 disabled, 8 protected, 15 cannot be turned off here, 7 "+
		"programs missing, 13 parts of the system hidden (--all)")
	require.NotContains(t, p.OK(t, "list", "user=ines"), "parts of the system",
		"of these, --all shows no more")
	require.Contains(t, p.OK(t, "list", "dbus", "--all"), "dbus.service")
	list, _ := p.List(t, "stage=sign-in")
	require.Equal(t, 1, list.LeftOut, "of these, and no others")
	require.Contains(t, p.OK(t, "list", "--group", "place"), "\nAutostart folder of ines: 1 enabled, 1 disabled\n")
	require.Contains(t, out, "updater.timer")
	require.Contains(t, out, "2min after startup, again 20min after its last start")
	require.Equal(t, "handle  name", strings.TrimSpace(regexp.MustCompile(`(?m)^handle +name$`).FindString(
		strings.ReplaceAll(p.OK(t, "list", "--columns", "handle,name", "--group", "none"), "handle   ", "handle  "))))
	var names []string
	for line := range strings.Lines(p.OK(t, "list", "--sort", "name", "--columns", "name")) {
		names = append(names, strings.ToLower(strings.TrimSpace(line)))
	}
	require.Equal(t, ".bashrc", names[3], "%q", names)
	require.Contains(t, p.OK(t, "list", "--group", "maker"), "Maker not known")
	firstScreens(t, p, mac, museum(t, "ticket-desk-pc"))
	all := struct {
		Locations []struct{ ID, Title, Status string }
	}{}
	status := map[string]string{}
	mac.JSON(t, &all, "locations")
	for _, l := range all.Locations {
		require.NotEmpty(t, l.Title)
		status[l.ID] = l.Status
	}
	require.Equal(t, "read", status["macos.dock-tiles"])
	require.Equal(t, "read", status["macos.launch-agents"])
	var listed struct {
		NotLookedAt []string `json:"not_looked_at"`
	}
	mac.JSON(t, &listed, "list")
	require.Empty(t, listed.NotLookedAt)
}

// firstScreens looks at what lists of machines show on terminals.
func firstScreens(t *testing.T, machines ...testkit.Program) {
	t.Helper()
	for _, p := range machines {
		list, _ := p.List(t)
		for columns, most := range map[int]int{80: 190, 142: 130} {
			p.Env = []string{fmt.Sprintf("COLUMNS=%d", columns)}
			out := p.OK(t, "list")
			for line := range strings.Lines(strings.ReplaceAll(out, p.Root, "/mnt")) {
				require.LessOrEqual(t, len([]rune(line)), columns, line)
			}
			// What is shown besides the entries is the same on any machine.
			require.LessOrEqual(t, strings.Count(out, "\n")*100, most*max(len(list.Entries), 100), "%d", columns)
			parts := regexp.MustCompile(`(?s)\n\nLook at these first\n(.*?)\n\n(?:Costs most\n.*?\n\n)?At startup, ` +
				`before services\n(.*?)\n\n`).FindStringSubmatch(out)
			require.NotNil(t, parts, out)
			require.LessOrEqual(t, len(regexp.MustCompile(`(?m)^  [a-z2-7]{7}  `).FindAllString(parts[1], -1)), 10)
			for _, e := range list.Entries {
				if e.User == "" { // what all users have stands there once
					require.Regexp(t, `(?m)^  `+e.Handle+`  o(n |ff)  \S`, parts[2])
				}
			}
			first := strings.Fields(parts[1])[0]
			which := "lockback --root " + p.Root + " --store " + p.Store
			require.Contains(t, strings.Join(strings.Fields(out), " "), "next: "+which+" show "+first+" or: "+which+
				" review")
			p.OK(t, "show", first)
			brief := p.OK(t, "list", "--brief")
			require.Contains(t, brief, parts[1])
			require.NotContains(t, brief, "At startup")
			with := p.OK(t, "list", "--commands")
			require.Greater(t, strings.Count(with, "\n"), strings.Count(out, "\n")+len(list.Entries)/2)
		}
	}
}

// Defaults come from a file, variables win over it, and options over both.
func TestConfiguration(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	file := filepath.Join(t.TempDir(), "config.yaml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	p.Env = []string{"LOCKBACK_CONFIG=" + file}
	plain := p.OK(t, "list", "name=Fogbell Sync")
	require.Contains(t, plain, "Autostart folder")
	write("columns: [handle, state]\ngroup: none\n")
	require.NotContains(t, p.OK(t, "list", "name=Fogbell Sync"), "Autostart folder")
	require.Contains(t, p.OK(t, "list", "name=Fogbell Sync", "--group", "place"), "Autostart folder")
	require.Equal(t, file+"\n", p.OK(t, "config", "path"))
	p.Env = append(p.Env, "LOCKBACK_GROUP=stage")
	require.Contains(t, p.OK(t, "list", "name=Fogbell Sync"), "When a user signs in")
	out := p.OK(t, "config", "show")
	require.Regexp(t, `columns +handle,state \(`+regexp.QuoteMeta(file), out)
	require.Regexp(t, `group +stage \(LOCKBACK_GROUP\)`, out)
	require.Regexp(t, `sort +not set`, out)
	p.Env = p.Env[:1]
	for text, words := range map[string]string{
		"colums: [handle]": `unknown setting "colums"; did you mean columns?`, "group: plase": "did you mean place",
		"a: [":       "cannot be parsed",
		"color: red": "color is auto or never", "search: search.example/{}": "search is a web address with {}",
		"search: https://search.example/": "search is a web address", strings.Repeat("#", 70<<10): "larger than",
	} {
		write(text)
		p.Fails(t, 2, words, "list")
	}
	write("search: https://search.example/?q={}&x=1\n")
	require.Contains(t, p.OK(t, "show", "name=Fogbell Sync"),
		"https://search.example/?q=Fogbell+Works+fogbell+sync&x=1")
	require.NotContains(t, p.OK(t, "show", "name=~/.ssh/rc"), "bram%", "no path, no user")
	require.Contains(t, p.OK(t, "show", "Speed*"),
		"https://search.example/?q=Speed%E2%80%AEgnp.exe+Cleaner%1B%5B31m+curl&x=1")
	write("group: none\n")
	require.NoError(t, os.Chmod(file, 0o666))
	r := p.Run(t, "list", "name=Fogbell Sync")
	require.Zero(t, r.Code)
	require.Contains(t, r.Err, "others may write to it")
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chmod(file, 0o644))
		require.NoError(t, os.Chown(file, 1000, 1000))
		require.Contains(t, p.Run(t, "list", "name=Fogbell Sync").Out, "Autostart folder",
			"another user's is not obeyed")
		require.NoError(t, os.Chmod(file, 0o666))
	}
	require.Contains(t, r.Out, "Autostart folder", "what others may write to is not obeyed")
	require.NotContains(t, p.Run(t, "list", "name=Fogbell Sync", "--quiet").Err, "note:")
}

// One machine's part of the record goes onto its disk, and nothing of others.
func TestCarry(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	other := testkit.Program{Root: archive(t).Root, Store: p.Store}
	other.OK(t, "snapshot")
	other.OK(t, "disable", "org.kelpline.assistant", "--yes")
	// What looks like the name of a content is none.
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/cron.d/digest"), []byte("@daily root /opt/tide "+
		strings.Repeat("ab12", 16)+"\n"), 0o644))
	p.Fails(t, 2, "there is nothing to carry", "record", "carry", "--yes")
	p.OK(t, "snapshot", "-m", "as found")
	out := p.OK(t, "disable", "~/.ssh/rc", "Fogbell Sync", "--yes")
	require.Contains(t, out, "kept in the record only, "+p.Store)
	require.Contains(t, p.Short(out), "lockback record carry")
	require.Contains(t, p.OK(t, "record", "carry", "--dry-run"), "would copy 2 snapshots and 1 change")
	require.NoFileExists(t, filepath.Join(p.Root, "var/lib/lockback/record.db"))
	p.Fails(t, 2, "this needs a yes", "record", "carry")
	require.Contains(t, p.OK(t, "record", "carry", "--yes"), "copied 2 snapshots and 1 change")
	p.Fails(t, 2, "the disk has a record already", "record", "carry", "--yes")

	carried := testkit.Program{Root: p.Root, Store: "disk"}
	require.Equal(t, stripped(p.OK(t, "history")), stripped(carried.OK(t, "history")), "the same numbers")
	require.Contains(t, carried.OK(t, "record", "verify"), "is whole")
	var ours, theirs struct{ Contents int }
	p.JSON(t, &ours, "record", "verify")
	carried.JSON(t, &theirs, "record", "verify")
	require.Less(t, theirs.Contents, ours.Contents, "nothing of the other machine")
	carried.OK(t, "restore", "S3", "--yes") // S1 and S2 are of the other machine
	carried.Fails(t, 2, "there is no S1", "restore", "S1", "--yes")
	_, now := carried.List(t)
	require.Equal(t, "enabled", now["~/.ssh/rc/bram"].State)
	require.Equal(t, "enabled", now["Fogbell Sync/ines"].State)
	testkit.Program{Store: p.Store}.Fails(t, 2, "name the disk with --root", "record", "carry", "--yes")
}

// A disk where lockback never ran gets a record on request, on every system; what leads out of the disk is not
// followed.
func TestRecordOnEveryDisk(t *testing.T) {
	t.Parallel()
	for _, m := range []struct {
		p           testkit.Program
		entry       string
		folder, dir string // that is not there yet, and one above it
	}{
		{workshop(t), "Fogbell Sync", "var/lib/lockback", "var/lib"},
		{archive(t), "org.kelpline.assistant", "Library/Application Support/lockback", "Library/Application Support"},
		{ticketDesk(t), "Tide Chart", "ProgramData/lockback", "ProgramData"},
	} {
		require.NoError(t, os.RemoveAll(filepath.Join(m.p.Root, m.folder)))
		onDisk := testkit.Program{Root: m.p.Root, Store: "disk"}
		r := onDisk.Fails(t, 1, "there is no record yet", "history")
		require.Contains(t, r.Err, filepath.Join(m.p.Root, m.folder, "record.db")+":")
		m.p.OK(t, "snapshot")
		m.p.OK(t, "record", "carry", "--yes")
		require.Contains(t, onDisk.OK(t, "history"), "S1")
		require.NoError(t, os.RemoveAll(filepath.Join(m.p.Root, m.folder)))
		onDisk.OK(t, "disable", m.entry, "--yes")
		onDisk.OK(t, "undo", "--yes")
		require.FileExists(t, filepath.Join(m.p.Root, m.folder, "record.db"))
		if strings.HasPrefix(m.folder, "Program") {
			continue // links of NTFS are read by their own tests
		}
		// The disk wants the record elsewhere: on the computer that works on it.
		outside := t.TempDir()
		require.NoError(t, os.RemoveAll(filepath.Join(m.p.Root, m.folder)))
		require.NoError(t, os.Rename(filepath.Join(m.p.Root, m.dir), filepath.Join(m.p.Root, m.dir+".kept")))
		require.NoError(t, os.Symlink(outside, filepath.Join(m.p.Root, m.dir)))
		onDisk.Fails(t, 1, "is a link to nowhere; name a file with --store", "snapshot")
		m.p.Run(t, "record", "carry", "--yes")
		left, err := os.ReadDir(outside)
		require.NoError(t, err)
		require.Empty(t, left, m.dir)
	}
}

func stripped(history string) string {
	_, table, _ := strings.Cut(history, "\n\n")
	return table
}

// Another record of the same machine is named, and its history shown apart.
func TestTwoRecords(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	home := t.TempDir()
	require.NoError(t, os.Chmod(home, 0o700))
	state := filepath.Join(home, "state")
	own := filepath.Join(state, "lockback/record.db")
	require.NoError(t, os.MkdirAll(filepath.Dir(own), 0o700))
	p.Store = own
	p.OK(t, "snapshot", "-m", "as a user")
	second := testkit.Program{Root: p.Root, Env: []string{"HOME=" + home, "XDG_STATE_HOME=" + state}}
	if os.Geteuid() != 0 {
		require.NotContains(t, second.Run(t, "history").Err, "another record", "it is the one in use")
		return
	}
	inOwnPlace(t, func() {
		r := second.Run(t, "snapshot", "-m", "as root")
		require.Zero(t, r.Code, r.Err)
		require.Contains(t, r.Err, "another record has 1 snapshot of this machine: "+own)
		r = second.Run(t, "history")
		require.Contains(t, r.Out, "as root")
		require.Regexp(t, `In another record, `+regexp.QuoteMeta(own)+
			` \(with S and C numbers of its own\)[\s\S]*S1 [\s\S]*as a user`, r.Out)
	})
}

// inOwnPlace lets a test use the place where root's record of this computer lies.
func inOwnPlace(t *testing.T, do func()) {
	const place = "/var/lib/lockback"
	// Two runs of these tests share the place: one waits for the other.
	lock, err := os.OpenFile("/var/tmp/lockback-tests.lock", os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	defer lock.Close()
	require.NoError(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
	if _, err := os.Lstat(place); err == nil {
		t.Skip(place + " is in use on this computer")
	}
	defer os.RemoveAll(place)
	do()
}

// Outputs of all main commands, read by people; LOCKBACK_GOLDEN=write writes them again.
func TestGolden(t *testing.T) {
	t.Parallel()
	for machine, commands := range map[string][][]string{
		"workshop-box": {{"list", "--brief"}, {"list", "for=ines"}, {"list", "stage=schedule,event"},
			{"show", "kelpline-updater.timer"},
			{"snapshot", "-m", "as found"}, {"disable", "kelpline*.*", "Tide Chart", "updater", "--dry-run"},
			{"disable", "kelpline*.*", "Tide Chart", "updater", "--yes", "-m", "updaters"}, {"compare", "S1"},
			{"history"}, {"history", "C1"}, {"undo", "--dry-run"}, {"restore", "S1", "--only", "updater", "--yes"}},
		"ticket-desk-pc": {{"list", "--brief"}, {"list", "user=odile"},
			{"list", "location=windows.services,windows.winlogon,windows.wmi"},
			{"show", "name=tuner.exe"}, {"disable", "tuner.exe", "Kelpline Updater", "kupdate", "--dry-run"},
			{"disable", "tuner.exe", "Kelpline Updater", "kupdate", "vidc.bell", "--yes"}, {"compare", "S1"},
			{"history"}, {"undo", "--dry-run"}, {"restore", "S1", "--dry-run"}},
		"archive-mac": {{"list", "--brief"}, {"list", "for=mirela", "stage=sign-in"},
			{"show", "name=com.apple.speedkeeper"},
			{"disable", "org.kelpline.updater", "LoginHook", "--dry-run"}, {"disable", "org.kelpline.updater",
				"LoginHook", "--yes"}, {"compare", "C1"}, {"history", "C1"}, {"undo", "--yes"}, {"restore", "S1",
				"--only", "LoginHook", "--yes"}},
	} {
		for _, width := range []int{80, 120, 200} {
			t.Run(fmt.Sprintf("%s-%d", machine, width), func(t *testing.T) {
				t.Parallel()
				dir := fmt.Sprintf("/tmp/gullrock-%08d", rand.IntN(100_000_000)) // as long each time
				require.NoError(t, os.Mkdir(dir, 0o700))
				defer os.RemoveAll(dir)
				p := testkit.Program{Root: filepath.Join(dir, machine), Store: filepath.Join(dir, "record.db"),
					Env: []string{fmt.Sprintf("COLUMNS=%d", width), "TZ=UTC"}}
				require.NoError(t, demo.BuildMachine(machine, p.Root))
				var all strings.Builder
				for _, args := range commands {
					r := p.Run(t, args...)
					fmt.Fprintf(&all, "$ lockback %s\n%s%s\n", strings.Join(args, " "), r.Out, r.Err)
				}
				text := strings.ReplaceAll(all.String(), dir, "/tmp/gullrock-00000000")
				text = regexp.MustCompile(time.Now().UTC().Format(time.DateOnly)+` \d\d:\d\d`).ReplaceAllString(text,
					"2026-11-25 18:87")
				file := fmt.Sprintf("testdata/%s-%d.txt", machine, width)
				if os.Getenv("LOCKBACK_GOLDEN") == "write" {
					require.NoError(t, os.MkdirAll("testdata", 0o755))
					require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
				}
				want, err := os.ReadFile(file)
				require.NoError(t, err)
				require.Equal(t, string(want), text)
			})
		}
	}
}

// Every command's help can be read, and says what its options do.
func TestEveryHelp(t *testing.T) {
	t.Parallel()
	p := testkit.Program{}
	seen := 0
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		seen++
		args := strings.Fields(c.CommandPath())[1:]
		help := p.OK(t, append(args, "--help")...)
		require.Contains(t, help, strings.SplitN(c.Long, "\n", 2)[0], c.CommandPath())
		if c.Runnable() && !strings.Contains(c.CommandPath(), "completion") && c.Name() != "help" {
			require.NotContains(t, c.Example, "'", "quotes of one shell only")
			require.True(t, c.HasExample() || c.HasSubCommands(), "%s has no example", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(cli.Command())
	require.Greater(t, seen, 25)
}

// Sentences for what does not happen every day.
func TestSentencesForRareThings(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	for _, c := range []struct {
		code  int
		words string
		args  []string
	}{
		{2, "--build-only goes with --keep", []string{"demo", "--build-only"}},
		{2, "give only one of --finish and --abandon", []string{"recover", "--finish", "--abandon"}},
		{2, `"Fogbell Sync" matches nothing that starts for bram`, []string{"disable", "Fogbell Sync", "--for", "bram",
			"--yes"}},
		{2, "no change of this machine can be taken back", []string{"undo", "--yes"}},
		{2, "show needs SELECTOR...", []string{"show"}},
		{2, `undo takes [CHANGE] and nothing more: "C2" is too many`, []string{"undo", "C1", "C2"}},
	} {
		p.Fails(t, c.code, c.words, c.args...)
	}
	testkit.Program{Store: "disk"}.Fails(t, 2, "--store disk is the record on a mounted disk; name one with --root",
		"history")
	require.Contains(t, p.OK(t, "figures"), "entries enabled", "without a record, too")
	p.OK(t, "snapshot")
	p.Fails(t, 2, "the record has no change of this machine", "undo", "C9")
	p.Fails(t, 2, "the only snapshot of this machine is S1", "restore", "S9")
	require.Contains(t, p.OK(t, "disable", "tidewatch.service", "--dry-run"), "1 step for 1 entry; nothing was changed")
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/systemd/system/tidewatch.timer"),
		[]byte("[Timer]\nOnCalendar=hourly\nOnCalendar=*-*-* 06:00\n[Install]\nWantedBy=timers.target\n"), 0o644))
	require.NoError(t, os.Symlink("/etc/systemd/system/tidewatch.timer",
		filepath.Join(p.Root, "etc/systemd/system/timers.target.wants/tidewatch.timer")))
	require.Contains(t, p.OK(t, "disable", "tidewatch.service", "--dry-run"), "tidewatch.timer (")
	require.Contains(t, p.OK(t, "disable", "tidewatch.service", "--dry-run"),
		") stays on and can still start tidewatch.service")
	require.NotContains(t, p.OK(t, "disable", "tidewatch.service", "--hold", "--dry-run"), "can still start",
		"nothing starts what is masked")
	require.Contains(t, p.OK(t, "list", "tidewatch.timer"), "every hour, at the times *-*-* 06:00")
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	p.OK(t, "undo", "--yes")
	require.Contains(t, p.OK(t, "undo", "C2", "--dry-run"),
		"It took a change back itself: that change will be in force again, and S3 has the state before it.")
	p.Fails(t, 2, "C1 is undone already", "undo", "C1", "--yes")
	p.Fails(t, 2, `there is no page "selectrs"; did you mean selectors?`, "help", "selectrs")
	p.OK(t, "restore", "S1", "--yes")
	require.Contains(t, p.Run(t, "restore", "S1", "--yes").Err,
		"everything in S1 is unchanged; 1 entry was added since and stays as it is")
	p.Fails(t, 2, "C1 is a change; S2 has the state before it, and lockback undo C1 takes it back", "restore", "C1")
	show := p.OK(t, "show", "Fogbell Sync")
	require.Contains(t, show, "\nPackage fogbell (dpkg)\nmaker        Fogbell Works\n")
	require.NotRegexp(t, `, [0-9a-f]{8}\b`, show)
	require.Regexp(t, `, [0-9a-f]{8}\b`, p.OK(t, "show", "Fogbell Sync", "--verbose"))
	p.Fails(t, 2, "is neither a snapshot", "list", "since=")
	require.NoError(t, os.Truncate(filepath.Join(p.Root, "etc/hostname"), 0))
	require.Contains(t, p.OK(t, "list", "stage=boot"), "a machine without a name — ")
	require.Contains(t, p.OK(t, "disable", "Fogbell Sync", "--dry-run"),
		"a machine without a name, the disk mounted at ")
	// A clock that was set back.
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "etc/hostname"), []byte("workshop-box\n"), 0o644))
	if lib, err := exec.LookPath("faketime"); err == nil {
		p.Prefix = []string{lib, "2001-01-01"}
		require.Contains(t, p.OK(t, "restore", "S1", "--dry-run"), "in the future, by this clock")
	}
}

// What a user's own program runs goes on until the next sign-in, and how to end it is said.
func TestWhatRunsNow(t *testing.T) {
	t.Parallel()
	p := shared(t)
	withProc(t, p)
	live := inside(t, p)
	out := live.OK(t, "disable", "tidewatch.service", "fogbell-index.service", "--dry-run")
	require.Contains(t, out, "What is running now keeps running until then. To end it now:\n  systemctl stop "+
		"tidewatch.service\n  systemctl --user --machine=ines@.host stop fogbell-index.service\n")
	require.NotContains(t, live.OK(t, "disable", "60-tidewatch", "--dry-run"), "systemctl")
	// A name that a shell would take apart is in no command.
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, `etc/systemd/system/a\x3b.service`),
		[]byte("[Service]\nExecStart=/opt/tide\n[Install]\nWantedBy=multi-user.target\n"), 0o644))
	require.NoError(t, os.Symlink(`/etc/systemd/system/a\x3b.service`,
		filepath.Join(p.Root, `etc/systemd/system/multi-user.target.wants/a\x3b.service`)))
	out = live.OK(t, "disable", `source=/etc/systemd/system/a*`, "--dry-run")
	require.Contains(t, out, "What is running now keeps running until then.")
	require.NotContains(t, out, "systemctl stop a")
	require.NotContains(t, p.OK(t, "disable", "tidewatch.service", "--dry-run"), "keeps running",
		"nothing runs on a disk")
}

// What stops by the way is told before anything is done, and nothing that is protected stops so.
func TestSideEffects(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	out := p.OK(t, "disable", "cron.service", "--all", "--guarded", "--dry-run")
	require.Regexp(t, `note: .*updater.*, backup-archive stop too: cron is turned off`, out)
	require.NotRegexp(t, `note: .*backup-archive`, p.OK(t, "disable", "cron.service", "backup-archive", "--all",
		"--guarded", "--dry-run"))
	require.NotRegexp(t, `stops? too`, p.OK(t, "disable", "tidewatch.service", "--dry-run"))
	code, _, errs := answered(p, "n\n", "disable", "cron.service", "--all", "--guarded")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "stop too: cron is turned off", "above the question")

	lib := "usr/lib/systemd/system/"
	write := func(name, content string) {
		require.NoError(t, os.WriteFile(filepath.Join(p.Root, name), []byte(content), 0o644))
	}
	require.NoError(t, os.Remove(filepath.Join(p.Root, lib+"multi-user.target.wants/systemd-logind.service")))
	write("etc/systemd/system/tidewatch.service", "[Unit]\nWants=systemd-logind.service "+
		"harbour.service\n[Service]\nExecStart=/opt/tidewatch/bin/tidewatchd\n[Install]\nWantedBy=multi-user.target\n")
	write(lib+"harbour.service", "[Service]\nExecStart=/opt/tidewatch/bin/harbour\n")
	before := testkit.Tree(t, p.Root)
	r := p.Fails(t, 2, "every match would also stop a protected entry", "disable", "tidewatch.service", "--yes")
	require.Contains(t, r.Err, "tidewatch.service: systemd-logind.service would stop with it, and is protected: "+
		"needed to sign in (--guarded takes both)")
	r = p.Run(t, "disable", "tidewatch.service", "brinecast.service", "--yes")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Err, "left out: jvce7ig  tidewatch.service")
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	out = p.OK(t, "disable", "tidewatch.service", "--guarded", "--yes")
	require.Contains(t, out, "note: systemd-logind.service stops too: nothing else starts it; it is protected: "+
		"needed to sign in")
	require.Contains(t, out, "note: harbour.service stops too: nothing else starts it")
	_, now := p.List(t, "--all")
	require.NotContains(t, now, "harbour.service", "as was said")
}
