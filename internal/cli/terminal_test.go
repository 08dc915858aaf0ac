//go:build linux

package cli_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/core/autostart"
	"lockback/internal/cli"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// onTerminal runs the program on a terminal of its own, types the answer when it
// is asked, and returns what stood on the screen.
func onTerminal(t *testing.T, p testkit.Program, columns int, answer string, env []string,
	args ...string) (screen string, code int) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	defer master.Close()
	require.NoError(t, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 50,
		Col: uint16(columns)}))
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	require.NoError(t, err)
	cmd := exec.Command(testkit.Built(t), append([]string{"--root", p.Root, "--store", p.Store}, args...)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.Env = append([]string{"TERM=xterm", "HOME=/nonexistent", "PAGER=cat"}, env...)
	require.NoError(t, cmd.Start())
	slave.Close()
	var seen bytes.Buffer
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 4096)
		asked := false
		for {
			n, err := master.Read(buf)
			seen.Write(buf[:n])
			if !asked && strings.Contains(seen.String(), "[y/N]") {
				asked = true
				io.WriteString(master, answer+"\n")
			}
			if err != nil {
				return
			}
		}
	}()
	err = cmd.Wait()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(t, err)
	}
	select {
	case <-done:
	case <-time.After(3 * time.Minute):
		require.Fail(t, "the terminal stayed open")
	}
	return strings.ReplaceAll(seen.String(), "\r\n", "\n"), cmd.ProcessState.ExitCode()
}

func TestQuestions(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	screen, code := onTerminal(t, p, 80, "n", nil, "disable", "Fogbell Sync")
	require.Equal(t, 1, code, screen)
	require.Contains(t, screen, "Disable 1 entry, in 1 step, on workshop-box? [y/N]")
	require.Contains(t, screen, "nothing was done")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	screen, code = onTerminal(t, p, 80, "y", nil, "disable", "Fogbell*")
	require.Zero(t, code, screen)
	require.Contains(t, screen, "C1 done")
	for _, answer := range []string{"", "nope", "\x04"} {
		_, code = onTerminal(t, p, 80, answer, nil, "undo")
		require.Equal(t, 1, code)
	}
	screen, code = onTerminal(t, p, 80, "YES", nil, "undo")
	require.Zero(t, code, screen)
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// waiting are the words of a terminal that a command shows and takes away while it reads a slow machine.
var waiting = regexp.MustCompile(`(\r[^\r\n]*, \d+ s *)+\r *\r`)

func TestColoursAndWidths(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	plainText := ""
	for _, columns := range []int{80, 120, 200} {
		colored, code := onTerminal(t, p, columns, "", nil, "list", "--all")
		require.Zero(t, code)
		require.Contains(t, colored, "\x1b[")
		for _, how := range []struct{ env, args []string }{{[]string{"NO_COLOR=1"}, nil}, {nil, []string{"--no-color"}},
			{[]string{"TERM=dumb"}, nil}} {
			plain, _ := onTerminal(t, p, columns, "", how.env, append(how.args, "list", "--all")...)
			require.NotContains(t, plain, "\x1b[")
			// Without colour not a word is lost.
			stripped := colored
			for _, code := range []string{"\x1b[1m", "\x1b[2m", "\x1b[35m", "\x1b[0m", "\x1b[22m"} {
				stripped = strings.ReplaceAll(stripped, code, "")
			}
			require.Equal(t, waiting.ReplaceAllString(stripped, ""), waiting.ReplaceAllString(plain, ""))
			plainText = plain
		}
	}
	// A pipe gets the entries alone, each whole and on one line.
	piped := p.OK(t, "list", "--all")
	require.NotContains(t, piped, "\x1b")
	require.NotContains(t, piped, "…")
	require.NotContains(t, piped, "Look at these first")
	entries := regexp.MustCompile(`(?m)^  ([a-z2-7]{7})  o(?:n |ff) `).FindAllStringSubmatch(plainText, -1)
	require.Greater(t, len(entries), 90)
	for _, e := range entries {
		require.Regexp(t, `(?m)^`+e[1]+`  `, piped)
	}
	for line := range strings.Lines(piped) {
		if strings.Contains(line, "kelpline-report.service") {
			require.Contains(t, line, "/opt/kelpline/bin/report --daily")
		}
	}
}

// Alone on a terminal, the program says in eight lines what to do first; whatever it names is there.
func TestFirstDay(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	out, code := onTerminal(t, p, 500, "", nil)
	require.Zero(t, code)
	require.Equal(t, 8, strings.Count(out, "\n"), out)
	named := regexp.MustCompile(
		`(?m)^  lockback --root \S+ (?:--store \S+ )?([a-z]+(?: --brief)?)  `).FindAllStringSubmatch(out, -1)
	require.Len(t, named, 6)
	for _, n := range named {
		p.OK(t, append(strings.Fields(n[1]), "--help")...)
	}
	require.Contains(t, p.OK(t), "Usage:", "a pipe gets the help")
}

func TestHelpTellsWhatThereIs(t *testing.T) {
	t.Parallel()
	p := testkit.Program{}
	help := p.OK(t, "--help")
	// Every command and page that there is, those below others too.
	var walk func(c *cobra.Command, path []string)
	walk = func(c *cobra.Command, path []string) {
		for _, c := range c.Commands() {
			path := append(slices.Clone(path), c.Name())
			if len(path) == 1 && !c.Hidden {
				require.Regexp(t, `(?m)^  (lockback )?`+c.Name()+` +\S`, help)
			}
			own := p.OK(t, append([]string{"help"}, path...)...)
			require.NotEmpty(t, own, path)
			if c.Runnable() {
				require.Contains(t, own, "Usage:", path)
				require.True(t, c.HasExample() || c.HasSubCommands() || path[0] == "completion", "%s has no example",
					path)
			}
			for line := range strings.Lines(own) {
				require.LessOrEqual(t, len(strings.TrimRight(line, "\n")), 120, line)
			}
			if yes := c.Flags().Lookup("yes"); yes != nil {
				require.NotNil(t, c.Flags().Lookup("dry-run"),
					"%s asks before it writes, and cannot show what it would write", path)
			}
			walk(c, path)
		}
	}
	walk(cli.Command(), nil)
	for _, problem := range autostart.AllProblems {
		require.Regexp(t, `(?m)^  `+problem+` +\S`, p.OK(t, "help", "problems"))
	}
	require.Contains(t, p.OK(t, "help", "exit-codes"), "3  compare found differences")
	for _, field := range autostart.Fields() {
		require.Contains(t, p.OK(t, "help", "selectors"), field)
	}
	for _, write := range []string{"disable", "enable", "restore", "undo", "recover"} {
		own := p.OK(t, write, "--help")
		require.Contains(t, own, "--dry-run", write)
		require.Contains(t, own, "--yes", write)
	}
	require.Regexp(t, `^lockback \S+ \(go1\.\d+.* linux/`, p.OK(t, "--version"))
	require.Contains(t, p.OK(t, "completion", "bash"), "__start_lockback")
}

func TestShowTellsWhereFactsComeFrom(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	out := p.OK(t, "show", "kelpline-updater.timer")
	for _, fact := range []string{"/opt/kelpline/bin/updater --quiet", "OnBootSec=", "2min", "timers.target",
		"at the next restart",
		"/etc/systemd/system/timers.target.wants/kelpline-updater.timer",
		"link to /usr/lib/systemd/system/kelpline-updater.timer", "could override it"} {
		require.Contains(t, out, fact)
	}
	require.Contains(t, p.OK(t, "show", "dbus.service"), "the machine needs it to start")
	require.Contains(t, p.OK(t, "show", "Speed*"), `Speed\u202egnp.exe Cleaner\x1b[31m`)
	both := p.OK(t, "show", "frwlhvg", "lpgzw6r", "--verbose")
	require.Equal(t, 2, strings.Count(both, "Decided by"), "several at once")
}

// The first five lines of a page decide: verdict, what it is, who made it, what it costs, what is lost. Below, each
// source stands once.
func TestShowAnswersFirst(t *testing.T) {
	t.Parallel()
	p := testkit.Museum(t, "office-laptop")
	lines := strings.Split(p.OK(t, "show", "pocgsmd"), "\n")
	require.Equal(t, []string{"Kelpline Updater  pocgsmd  on  unrated",
		"what it is  Kelpline Updater (its own claim); part of Kelpline Assistant 9.1",
		"maker       Kelpline Software (signed)",
		"costs       21.4 s of the start, 5.1 s of CPU, 120 MB of disk",
		"without it  not known"}, lines[:5])
	text := strings.Join(lines, "\n")
	for _, source := range []string{"\nIts signature\n", "\nIts version resource, which anybody can write\n",
		"\nHow it starts\n", "\nAlso known\n"} {
		require.Equal(t, 1, strings.Count(text, source), source)
	}
	require.Equal(t, 1, strings.Count(strings.ToLower(text), "its signature"))
	require.Contains(t, text, "Windows program, 64-bit (its first bytes)", "a lone fact has its source behind it")
	p.OK(t, "note", "pocgsmd", "--verdict", "spare", "-m", "by hand")
	require.Regexp(t, `^Kelpline Updater  pocgsmd  on  note: spare: by hand \(by `, p.OK(t, "show", "pocgsmd"))
	require.Contains(t, strings.SplitN(p.OK(t, "show", "cck4xcb"), "\n", 2)[0], "! not as it was signed")
	require.Regexp(t, `unknown: powershell, in Run keys of odile.*; lockback show npqqkqz --elsewhere looks further`,
		p.Short(p.OK(t, "show", "npqqkqz")))
}

// Several entries stand side by side: what differs is marked, what they have in common is said once.
func TestShowOfSeveral(t *testing.T) {
	t.Parallel()
	p := testkit.Museum(t, "office-laptop")
	p.Env = []string{"COLUMNS=142"}
	out := p.OK(t, "show", "Gannetry*")
	require.Regexp(t, `(?m)^  maker +Gannetry \(signed\)$`, out)
	require.Regexp(t, `(?m)^≠ for +everyone +odile +tomas +everyone$`, out)
	require.Regexp(t, `(?m)^≠ service name +GannetMeet +— +— +—$`, out)
	require.Contains(t, out, "the other rows hold for all 4")
	p.Env = []string{"COLUMNS=80"}
	narrow := p.OK(t, "show", "Gannetry*")
	require.Equal(t, 1, strings.Count(narrow, "\n  maker "), "with the first of them only")
	require.Equal(t, 2, strings.Count(narrow, "\n≠ for "), "two side by side")
	for line := range strings.Lines(narrow) {
		require.Less(t, ansi.StringWidth(line), 81, line)
	}
	require.Contains(t, narrow, "Windows\\CurrentVersion", "a path breaks behind its separators")
}

func TestHistoryInFull(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 1, "take one with lockback snapshot", "history")
	p.OK(t, "snapshot", "-m", "line\nbreak \x1b[31m")
	p.OK(t, "disable", "Fogbell Sync", "tidewatch.service", "--yes")
	p.OK(t, "undo", "--yes")
	out := p.OK(t, "history")
	require.Contains(t, out, `line\nbreak \x1b[31m`)
	require.Contains(t, out, "disable: tidewatch.service, Fogbell Sync")
	require.Contains(t, out, "undo: takes back C1")
	require.Contains(t, p.OK(t, "history", "S1"), "kelpline-report.service")
	require.Contains(t, p.OK(t, "history", "c1"), "/home/ines/.config/autostart/fogbell-sync.desktop")
	p.Fails(t, 2, "C1 is undone already", "undo", "C1", "--yes")
	p.Fails(t, 2, "is not a snapshot", "history", "17")
}

// What --dry-run prints is what is done, and it needs neither record nor rights.
func TestDryRunIsWhatIsDone(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, filepath.Dir(p.Root))
	type change struct {
		Change, Snapshot string
		Steps            []struct{ Handle, Artifact, Before, After string }
	}
	var dry, done change
	p.JSON(t, &dry, append(append([]string{}, everything...), "--dry-run")...)
	require.Empty(t, dry.Change+dry.Snapshot)
	testkit.Same(t, before, testkit.Tree(t, filepath.Dir(p.Root)))
	p.JSON(t, &done, everything...)
	require.Equal(t, "C1S1", done.Change+done.Snapshot)
	require.Equal(t, dry.Steps, done.Steps)
	p.JSON(t, &dry, "restore", "S1", "--dry-run")
	p.JSON(t, &done, "restore", "S1", "--yes")
	require.Equal(t, dry.Steps, done.Steps)
	p.JSON(t, &dry, "undo", "C2", "--dry-run")
	require.Len(t, dry.Steps, len(done.Steps))
	require.Contains(t, p.Run(t, "recover", "--yes").Err, "no interrupted change waits")
}

// The real program is killed as it enters the n-th call of a kind that changes
// the disk.
func TestKilledInTheMiddleOfSystemCalls(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "strace")
	kills := 0
	for _, call := range []string{"renameat,renameat2", "unlinkat", "symlinkat", "fsync,fdatasync", "pwrite64",
		"utimensat"} {
		for _, n := range draw.Some(t, []int{1, 2, 3, 4}, 1) {
			p := workshop(t)
			p.OK(t, "snapshot")
			before := testkit.Tree(t, p.Root)
			traced := p
			traced.Prefix = []string{"strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=" + call, "-e",
				fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n)}
			cmd := append(append([]string{}, traced.Prefix...), testkit.Built(t), "--root", p.Root, "--store", p.Store)
			run := exec.Command(cmd[0], append(cmd[1:], everything...)...)
			run.Env = append(os.Environ(), "GOMAXPROCS=1") // the calls are counted by thread
			if run.Run() != nil {
				kills++
			}
			r := p.Run(t, "recover", "--yes")
			require.Zero(t, r.Code, "%s %d: %s", call, n, r.Err)
			wholeRecord(t, p)
			if strings.Contains(r.Err, "no interrupted change") { // before the journal, or after the end
				p.OK(t, "restore", "S1", "--yes")
			}
			require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)), "%s %d", call, n)
			left, err := exec.Command("find", p.Root, "-name", ".lockback-*").Output()
			require.NoError(t, err)
			require.Empty(t, string(left), "%s %d", call, n)
		}
	}
	require.GreaterOrEqual(t, kills, 2, "the calls are hardly made")
}

// A failure in the middle that is no crash: the disk says no.
func TestWriteErrorsTakeEverythingBack(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "strace")
	for _, call := range []string{"renameat,renameat2", "unlinkat", "symlinkat"} {
		p := workshop(t)
		p.OK(t, "snapshot")
		before := testkit.Tree(t, p.Root)
		p.Prefix = []string{"strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=" + call, "-e",
			fmt.Sprintf("inject=%s:error=EIO:when=2", call)}
		r := p.Run(t, everything...)
		p.Prefix = nil
		if r.Code == 6 { // taking back met the same error
			p.OK(t, "recover", "--yes")
		} else if r.Code != 0 {
			require.Equal(t, 1, r.Code, "%s: %s", call, r.Err)
			require.Contains(t, r.Err, "input/output error", call)
		} else {
			p.OK(t, "restore", "S1", "--yes")
		}
		require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)), "%s: %s", call, r.Err)
	}
}
