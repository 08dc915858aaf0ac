//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// terminal is a shell in a real terminal.
type terminal struct {
	t      *testing.T
	socket string
}

// openTerminal starts a shell with the built program in its path.
func openTerminal(t *testing.T, shell ...string) terminal {
	t.Helper()
	testkit.Need(t, "tmux", shell[0])
	term := terminal{t, filepath.Join(t.TempDir(), "tmux")}
	home := t.TempDir()
	path := filepath.Dir(testkit.Built(t)) + ":" + os.Getenv("PATH")
	line := fmt.Sprintf("exec env -i TERM=xterm-256color PAGER=cat PATH=%s HOME=%s PS1='> ' %s", path, home,
		strings.Join(shell, " "))
	out, err := exec.Command("tmux", "-f", "/dev/null", "-S", term.socket, "new-session", "-d", "-x", "240", "-y", "40",
		line).CombinedOutput()
	require.NoError(t, err, string(out))
	closeTerminal(t, term.socket)
	return term
}

// closeTerminal ends a terminal with the test, and waits for its shell, which writes its history last of all.
func closeTerminal(t *testing.T, socket string) {
	pid, err := exec.Command("tmux", "-S", socket, "display-message", "-p", "#{pane_pid}").Output()
	require.NoError(t, err)
	t.Cleanup(func() {
		exec.Command("tmux", "-S", socket, "kill-server").Run()
		for range 100 {
			if _, err := os.Stat("/proc/" + strings.TrimSpace(string(pid))); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
}

// keys types text or keys by their names.
func (term terminal) keys(keys ...string) {
	out, err := exec.Command("tmux", append([]string{"-S", term.socket, "send-keys"}, keys...)...).CombinedOutput()
	require.NoError(term.t, err, string(out))
}

// shows waits until the screen shows all the words.
func (term terminal) shows(words ...string) string {
	term.t.Helper()
	screen := ""
	for range 100 {
		out, err := exec.Command("tmux", "-S", term.socket, "capture-pane", "-p").Output()
		require.NoError(term.t, err)
		screen = string(out)
		all := true
		for _, w := range words {
			all = all && strings.Contains(screen, w)
		}
		if all {
			return screen
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(term.t, "not shown", "%q in\n%s", words, screen)
	return ""
}

// Completion offers what the machine and the record have, in real shells.
func TestCompletion(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot", "-m", "as found")
	p.OK(t, "disable", "Fogbell Sync", "--yes", "-m", "quiet please")
	shells := map[string]struct {
		start []string
		setup string
	}{
		"bash": {[]string{"bash", "--norc", "--noprofile"},
			"source /usr/share/bash-completion/bash_completion; source <(lockback completion bash)"},
		"bash alone": {[]string{"bash", "--norc", "--noprofile"}, "source <(lockback completion bash)"},
		"fish":       {[]string{"fish", "--no-config"}, "lockback completion fish | source"},
		"zsh":        {[]string{"zsh", "-f"}, "autoload -U compinit; compinit -u; source <(lockback completion zsh)"},
	}
	for name, shell := range shells {
		t.Run(name, func(t *testing.T) {
			if _, err := os.Stat("/usr/share/bash-completion/bash_completion"); err != nil && name == "bash" {
				require.NotEqual(t, "required", os.Getenv("LOCKBACK_PEERS"), "bash-completion is missing")
				t.Skip("bash-completion is missing")
			}
			term := openTerminal(t, shell.start...)
			sum := "$((40+2))" // what is typed must not pass for what comes of it
			if name == "fish" {
				sum = "(math 40+2)"
			}
			term.keys(shell.setup+"; clear; echo completes-"+sum, "Enter")
			term.shows("completes-42")
			common := " --root " + p.Root + " --store " + p.Store + " "
			for _, c := range []struct{ typed, shown string }{
				{"show ryv", "show ryvfm3c"},
				{"undo C", "undo C1"},
				{"list stage=sig", "list stage=sign-in"},
				{"list user=in", "list user=ines"},
				{`enable Fogbell\ S`, `enable Fogbell\ Sync`},
				{"list maker=Fogb", `list maker=Fogbell\ Works`},
				{"disable ryvfm3c --for in", "--for ines"},
				{"list --group pl", "--group place"},
				{"restore S", "as found"},
				{"compare ", "quiet please"},
			} {
				term.keys("lockback"+common+c.typed, "Tab", "Tab")
				term.shows(c.shown)
				term.keys("C-c", "C-c") // fish takes the first for its list
				term.keys("clear", "Enter")
			}
			term.keys("lockback"+common+"show u", "Tab", "Tab") // of all, zsh would ask first
			screen := term.shows("Fogbell Notifier - enabled, everyone")
			require.NotContains(t, screen, "\x1b")
		})
	}
}

// Completion offers what a command can take, and looks at no program that the record does not remember.
func TestCompletionFitsTheCommand(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	offers := func(args ...string) string {
		t.Helper()
		return p.OK(t, append([]string{"__complete"}, args...)...)
	}
	require.NotContains(t, offers("list", ""), "NetworkManager", "of an unknown program the folder tells whose it is")
	require.NotContains(t, offers("accept", ""), "\t", "nothing came back")
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	off, on, fixed := "ryvfm3c\t", "frwlhvg\t", "sfha45v\t"
	for command, want := range map[string][3]bool{"list": {true, true, true}, "disable": {false, true, false},
		"delay": {false, true, false}, "enable": {true, false, false}, "remove": {true, true, false}} {
		said := offers(command, "")
		require.Equal(t, want, [3]bool{strings.Contains(said, off), strings.Contains(said, on),
			strings.Contains(said, fixed)}, command)
	}
	require.Contains(t, offers("enable", "fogbell"), "Fogbell Sync\tryvfm3c")
	require.NotContains(t, offers("disable", "fogbell"), "Fogbell Sync\t")
	require.Contains(t, offers("undo", ""), "C1\t")
	require.Contains(t, offers("keep", ""), "C1\t")
	p.OK(t, "keep")
	require.NotContains(t, offers("keep", ""), "C1\t", "its trial is over")
	p.OK(t, "enable", "Fogbell Sync", "--yes")
	p.OK(t, "undo", "C2", "--yes")
	require.NotContains(t, offers("undo", ""), "C2\t", "it is undone")
	// The file is another now, of the same size and time: who looked would see it.
	name := filepath.Join(p.Root, "opt/tidewatch/bin/tidewatchd")
	require.NoError(t, os.Chmod(name, 0))
	require.Contains(t, offers("list", "tidewatch.s"), "tidewatch.service\t")
}

// What is offered never holds what a shell or a terminal takes as its own.
func TestCompletionOfHostileNames(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	file := filepath.Join(p.Root, "home/ines/.config/autostart/evil.desktop")
	require.NoError(t, os.WriteFile(file, []byte("[Desktop Entry]\nType=Application\nName=$(touch "+
		"/tmp/x)`id`;\x1b[31m \"'|\\\nExec=/opt/fogbell/sync\n"), 0o644))
	out := p.OK(t, "__complete", "show", "")
	require.Contains(t, out, "??touch /tmp/x??id???")
	for _, c := range []string{"$", "`", "\x1b", "\"", "'", "|", ";", "\\"} {
		require.NotContains(t, strings.Split(out, "\n:")[0], c)
	}
	require.NotContains(t, p.Run(t, "__complete", "show", "").Err, "\x1b")
	for _, args := range [][]string{{"__complete", "undo", ""}, {"__complete", "compare", "S"}, {"__complete", "list",
		"since=S"}} {
		require.True(t, strings.HasPrefix(p.OK(t, args...), ":"), "no record, no offers, no words")
	}
}

// Who presses Ctrl-C is told what was and was not done.
func TestStopped(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	before := testkit.Tree(t, p.Root)
	term := openTerminal(t, "bash", "--norc", "--noprofile")
	term.shows(">")
	term.keys("lockback --root "+p.Root+" --store "+p.Store+" disable 'Fogbell Sync'", "Enter")
	term.shows("[y/N]")
	term.keys("C-c")
	term.shows("lockback: stopped; nothing was changed")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	term.keys("clear; lockback demo --step", "Enter")
	term.shows("(Enter runs it, Ctrl-C ends)", "lockback --root office-laptop list")
	term.keys("Enter")
	term.shows(`lockback --root office-laptop show "Kelpline Updater"`)
	term.keys("C-c")
	term.shows("lockback: stopped; the example ends here; nothing of this computer was touched")
}

// What is longer than the screen goes through a pager, its beginning first.
func TestPager(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	term := openTerminal(t, "bash", "--norc")
	runs := 0
	run := func(before, args string) (left string) { // what it prints at its end, and the one before did not
		runs++
		term.keys("clear", "Enter")
		line := fmt.Sprintf("%s lockback --root %s --store %s %s; echo left-$?-%d", before, p.Root, p.Store, args, runs)
		term.keys(line, "Enter")
		return fmt.Sprintf("left-0-%d", runs)
	}
	left := run("PAGER='sed s/^/paged:/'", "list")
	term.shows("paged:next: ", left)
	left = run("PAGER='sed s/^/paged:/'", "list --no-pager")
	require.NotContains(t, term.shows("next: ", left), "paged:n")
	left = run("PAGER='sed s/^/paged:/'", "list --brief")
	require.NotContains(t, term.shows("Look at these first", left), "paged:L")
	left = run("PAGER='sed s/^/paged:/'", "list --format csv")
	require.NotContains(t, term.shows(left), "paged:h")
	left = run("PAGER=nothing-of-this-name", "list")
	require.Contains(t, term.shows("more lines: Enter shows them"), "Look at these first")
	term.keys("Enter")
	term.keys("q", "Enter")
	term.shows("the pager nothing-of-this-name cannot be started", left)
	if _, err := exec.LookPath("less"); err != nil {
		return
	}
	left = run("PAGER='less -X'", "list")
	term.shows("Look at these first", "\n:") // and not the end
	term.keys("q")
	term.shows(left)
}
