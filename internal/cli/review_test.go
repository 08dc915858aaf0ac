//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// desk is a review on a terminal, in tmux.
type desk struct {
	t    *testing.T
	sock string
	args []string
}

// open begins a review on a terminal of a size.
func open(t *testing.T, p testkit.Program, columns, rows int, env string, args ...string) *desk {
	t.Helper()
	testkit.Need(t, "tmux")
	d := &desk{t: t, sock: filepath.Join(t.TempDir(), "tmux")}
	line := fmt.Sprintf("env HOME=/nonexistent %s %s --root %s --store %s %s; echo ended with $?; exec sleep 600", env,
		testkit.Built(t), p.Root, p.Store, strings.Join(args, " "))
	d.args = []string{"new-session", "-d", "-x", strconv.Itoa(columns), "-y", strconv.Itoa(rows), line}
	cmd := exec.Command("tmux", append([]string{"-S", d.sock, "-f", "/dev/null", "start-server", ";", "set", "-g",
		"status", "off", ";"}, d.args...)...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	closeTerminal(t, d.sock)
	return d
}

func (d *desk) tmux(args ...string) string {
	d.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", d.sock}, args...)...).CombinedOutput()
	require.NoError(d.t, err, "%v: %s", args, out)
	return string(out)
}

// sees waits until the screen has all the words, and returns it.
func (d *desk) sees(words ...string) string {
	d.t.Helper()
	screen := ""
	for until := time.Now().Add(5 * time.Minute); time.Now().Before(until); time.Sleep(30 * time.Millisecond) {
		screen = d.tmux("capture-pane", "-p")
		flat := strings.Join(strings.Fields(screen), " ") // what is long goes on in the next line
		if !slices.ContainsFunc(words, func(w string) bool {
			return !strings.Contains(screen, w) &&
				!strings.Contains(flat, w)
		}) {
			return screen
		}
	}
	require.Fail(d.t, "not seen", "%q\n%s", words, screen)
	return ""
}

// types presses keys; of a text in quotes, each letter.
func (d *desk) types(keys ...string) {
	d.t.Helper()
	for _, k := range keys {
		if text, ok := strings.CutPrefix(k, "'"); ok {
			d.tmux("send-keys", "-l", text)
		} else {
			d.tmux("send-keys", k)
		}
	}
}

// ended waits until the program has ended, and returns its exit code.
func (d *desk) ended() int {
	d.t.Helper()
	screen := d.sees("ended with ")
	code, err := strconv.Atoi(strings.Fields(screen[strings.LastIndex(screen, "ended with ")+len("ended with "):])[0])
	require.NoError(d.t, err, screen)
	return code
}

// kill kills the program as a crash would.
func (d *desk) kill() {
	d.t.Helper()
	shell := strings.TrimSpace(d.tmux("display-message", "-p", "#{pane_pid}"))
	children, err := os.ReadFile("/proc/" + shell + "/task/" + shell + "/children")
	require.NoError(d.t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(children)))
	require.NoError(d.t, err)
	require.NoError(d.t, syscall.Kill(pid, syscall.SIGKILL))
}

// steps are what a change did, without the times that are in it.
func steps(t *testing.T, p testkit.Program, id string) []string {
	t.Helper()
	var c struct {
		Steps []struct{ Handle, Artifact, What string }
	}
	p.JSON(t, &c, "history", id)
	var all []string
	for _, s := range c.Steps {
		all = append(all, fmt.Sprint(s))
	}
	require.NotEmpty(t, all)
	return all
}

// timeless is a picture without the times of files, and without the contents of hives, which hold times.
func timeless(picture testkit.Picture) testkit.Picture {
	p := testkit.Picture{}
	times := regexp.MustCompile(`mtime=\d+`)
	for name, line := range picture {
		line = times.ReplaceAllString(line, "")
		if strings.Contains(name, "config/SOFTWARE") || strings.Contains(name, "config/SYSTEM") ||
			strings.Contains(strings.ToUpper(name), "NTUSER.DAT") || strings.Contains(strings.ToUpper(name),
			"USRCLASS.DAT") {
			line = strings.Fields(line)[0]
		}
		p[name] = line
	}
	return p
}

// A review on a terminal: every key, two sizes, a resize, a kill in the middle and a resume; and its change is the one
// that the same disable makes.
func TestReviewOnATerminal(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		machine, first, title string
		off, more             string // what is turned off: one entry, and one of a product
		protected, fixed      string
	}{
		{"workshop-box", "not as its package", "workshop-box, a disk", "Tide Chart", "Fogbell Notifier",
			"brinecast_cam", "Fogbell Clipper"},
		{"ticket-desk-pc", "it changes what the system itself", "TICKET-DESK, a disk", "Oldplotter Monitor",
			"Kelpline Updater", "Saltmarsh licence key", "Saltmarsh Touch"},
		{"archive-mac", "it changes what the system itself", "archive-mac, a disk", "org.brinecast.helper",
			"org.kelpline.updater", "Harbour", "org.saltmarsh.netfilter"},
	} {
		t.Run(c.machine, func(t *testing.T) {
			t.Parallel()
			p, like, change := museum(t, c.machine), museum(t, c.machine), "C1"
			if c.machine == "ticket-desk-pc" {
				p, like, change = settled(t, p), settled(t, like), "C3"
			}
			before := testkit.Tree(t, p.Root)
			d := open(t, p, 80, 24, "TERM=screen LOCKBACK_BY=Tess", "review")
			screen := d.sees(c.title, "1 of ", c.first, "Answer: not decided", "q quit")
			for line := range strings.Lines(screen) {
				require.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 80)
			}
			total := regexp.MustCompile(`1 of (\d+)`).FindStringSubmatch(screen)[1]
			// Going on and back, without an answer.
			d.types("space")
			d.sees("2 of "+total, "open "+total)
			d.types("Right", "b", "Left")
			d.sees("1 of " + total)
			// Help, look-up, the file.
			d.types("?")
			d.sees("Keys", "take the answer on this entry back")
			d.types("Escape")
			d.sees("Answer: not decided")
			d.types("g", "'"+c.off, "Enter")
			d.sees(c.off, "Answer: not decided")
			d.types("u")
			d.sees("What is known of it elsewhere", "other machines")
			d.types("b")
			d.types("f")
			d.sees("Where it stands", "Decided by")
			d.types("b")
			// A note, with a verdict; one that is not understood is not lost but told.
			d.types("n", "'spare: nobody prints", "Enter")
			d.sees("noted; other machines know it by", "spare: nobody prints (by Tess, ")
			// Off, taken back, off again.
			d.types("d")
			d.sees(c.off+": off", "off 1")
			d.types("g", "'"+c.off, "Enter", "x")
			d.sees("off 0", "Answer: not decided")
			d.types("d")
			d.sees("off 1")
			// The rest of the program, the product, the maker is named, and can be taken along.
			d.types("g", "'"+c.more, "Enter")
			d.sees(c.more, "Counts for: this entry")
			d.types("t")
			d.sees("Counts for: the ")
			d.types("t", "t", "t", "t")
			d.sees("Answer: ")
			d.types("g", "'"+c.more, "Enter")
			d.sees("Counts for: this entry")
			d.types("d")
			d.sees("off 2")
			// What cannot be turned off is not, and says why; what is protected needs the key twice.
			d.types("g", "'"+c.fixed, "Enter", "d")
			d.sees("cannot be turned off here: ", "off 2")
			d.types("g", "'"+c.protected, "Enter", "d")
			d.sees("it is protected: ", "press d again", "off 2")
			d.types("l")
			d.sees("left 1")
			// A filter, by the words of list.
			d.types("/", "'state=disabled", "Enter")
			d.sees("Only: state=disabled")
			d.types("e")
			d.sees("on 1")
			d.types("/", "'state=bad", "Enter")
			d.sees("state cannot be")
			d.types("/", "Enter")
			d.sees("of " + total)
			d.types("/", "Escape")
			// Sizes: what is too small says so and decides nothing, what is larger shows more.
			d.tmux("resize-window", "-x", "20", "-y", "5")
			d.sees("The terminal has 20")
			d.types("d", "l")
			d.tmux("resize-window", "-x", "142", "-y", "42")
			d.sees(c.title, "off 2, on 1")
			// Killed, and gone on with.
			d.kill()
			require.Equal(t, 137, d.ended())
			testkit.Same(t, before, testkit.Tree(t, p.Root))
			p.Fails(t, 2, "is open since", "review", "--plain", "stage=sign-in")
			d = open(t, p, 142, 42, "TERM=screen NO_COLOR=1", "review", "-m", "tidied")
			d.sees(c.title, "off 2, on 1")
			require.NotRegexp(t, `\x1b\[([0-9;]*;)?[39][0-7]m`, d.tmux("capture-pane", "-ep"))
			// The overview, with every step; back, and left with q; then carried out.
			d.types("o")
			d.sees("Overview", "2 to turn off, 1 to turn on", "s shows them")
			d.types("s")
			d.sees("(" + handleOf(t, p, c.off))
			d.types("b", "q")
			require.Zero(t, d.ended())
			d.sees("your answers are in the record, and nothing was changed")
			// What was turned on is taken back, so that the change is a disable.
			d = open(t, p, 142, 42, "TERM=screen", "review", "-m", "tidied")
			d.sees(c.title, "off 2, on 1")
			d.types("/", "'state=disabled", "Enter")
			d.sees("Only: state=disabled")
			d.types("g", "'1", "Enter")
			d.sees("1 of ", "Answer: on")
			d.types("x")
			d.sees("on 0")
			d.types("o")
			d.sees("2 to turn off, 0 to turn on")
			d.types("a")
			d.sees("[y/N]")
			testkit.Same(t, before, testkit.Tree(t, p.Root))
			d.types("y", "Enter")
			require.Zero(t, d.ended())
			d.sees(change + " done: 2 entries changed")
			like.OK(t, "disable", handleOf(t, like, c.off), handleOf(t, like, c.more), "-m", "tidied", "--yes")
			require.Equal(t, steps(t, like, change), steps(t, p, change))
			testkit.Same(t, timeless(testkit.Tree(t, like.Root)), timeless(testkit.Tree(t, p.Root)))
			require.Contains(t, p.OK(t, "history", change), "tidied")
			// It is ended: the next one begins again.
			p.In = "q\n"
			require.Contains(t, p.OK(t, "review", "--plain"), "not decided")
			p.OK(t, "undo", "--yes")
			testkit.Same(t, timeless(before), timeless(testkit.Tree(t, p.Root)))
		})
	}
}

// handleOf is the handle of the one entry of a name.
func handleOf(t *testing.T, p testkit.Program, name string) string {
	t.Helper()
	l, _ := p.List(t, "name="+name)
	require.NotEmpty(t, l.Entries, name)
	return l.Entries[0].Handle
}

// Line by line, through a pipe: off and on in one change, which undo takes back and enable brings back exactly.
func TestReviewThroughAPipe(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 2, "--plain asks line by line", "review")
	p.OK(t, "disable", "tidewatch.service", "--yes")
	before := testkit.Tree(t, p.Root)
	p.In = "frobnicate\nhelp\ngo Tide Chart\ndisable\nback\nfilter state=disabled\ngo " +
		"tidewatch.service\nenable\nfilter\ngo brinecast_cam\ndisable\ndisable protected\ngo Fogbell Notifier\nproduct\nnote spare: nobody scans\nlook\nfile\nleave\noverview\nsteps\n"
	out := p.OK(t, "review", "--plain")
	for _, words := range []string{`"frobnicate" is not understood`, "A beginning of a word is enough.",
		"Tide Chart: off", "tidewatch.service: on", "it is protected: ", "brinecast_cam: off, protected",
		"noted; other machines know it by its package fogbell", "fogbell-index.service", "leave, and 4 more",
		"2 to turn off, 1 to turn on, 5 left", "why first"} {
		if !strings.Contains(out, words) {
			require.Fail(t, "not said: "+words, out)
		}
	}
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.In = "apply\nn\n"
	require.Equal(t, 1, p.Run(t, "review", "--plain").Code)
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// Protected entries want their number, as disable has it.
	p.In = "apply\n3\n"
	out = p.OK(t, "review", "--plain", "-m", "as agreed")
	require.Contains(t, out, "C2 done: 3 entries changed")
	require.Equal(t, []string{"disabled", "enabled", "disabled"}, threeStates(t, p))
	// What such a change turned off comes back exactly; what it turned on does not come back as it was before it.
	p.OK(t, "enable", "Tide Chart", "brinecast_cam", "--yes")
	p.OK(t, "disable", "tidewatch.service", "--yes")
	testkit.Same(t, timeless(before), timeless(testkit.Tree(t, p.Root)))
	p.OK(t, "enable", "tidewatch.service", "--yes")
	require.Equal(t, []string{"enabled", "enabled", "enabled"}, threeStates(t, p))
	p.OK(t, "undo", "C5", "--yes")
	p.OK(t, "undo", "C4", "--yes")
	p.OK(t, "undo", "C3", "--yes")
	p.OK(t, "undo", "C2", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// What became protected since it was decided on is left out.
	p.In = "go Fogbell Sync\ndisable\nquit\n"
	p.OK(t, "review", "--plain")
	file := filepath.Join(t.TempDir(), "ours.yaml")
	require.NoError(t, os.WriteFile(file, []byte("format: 1\nentries:\n  - {id: sync, known-by: [{package: "+
		"fogbell, file: sync}], protect: session, does: Keeps the tickets.}\n"), 0o600))
	p.OK(t, "catalogue", "import", file, "--yes")
	p.In = "apply\n"
	require.Contains(t, p.Run(t, "review", "--plain").Err,
		"Fogbell Sync: it is protected: the desktop session needs it")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// Nothing to do ends it; the same machine can be reviewed again.
	p.In = "leave\napply\n"
	require.Contains(t, p.Run(t, "review", "--plain").Err, "nothing to turn off or on")
	p.In = "disable\nquit\n"
	p.OK(t, "review", "--plain")
	p.In = ""
	require.Contains(t, p.Run(t, "review", "--plain", "--new").Err, "nothing was changed; 84 entries are not decided")
}

// What a review turned on, and something else turned off since, is not brought back to how it was before the review.
func TestEnabledAfterAReview(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	link := filepath.Join(p.Root, "etc/systemd/system/timers.target.wants/kelpline-updater.timer")
	_, err := os.Lstat(link)
	require.NoError(t, err)
	require.NoError(t, os.Remove(link))
	p.In = "go kelpline-updater.timer\nenable\ngo Tide Chart\ndisable\napply\ny\n"
	require.Contains(t, p.OK(t, "review", "--plain"), "C1 done: 2 entries changed")
	require.NoError(t, os.Symlink("/dev/null", filepath.Join(p.Root, "etc/systemd/system/kelpline-updater.timer")))
	p.OK(t, "enable", "kelpline-updater.timer", "--yes")
	_, err = os.Lstat(link)
	require.NoError(t, err)
	_, by := p.List(t)
	require.Equal(t, "enabled", by["kelpline-updater.timer"].State)
}

// threeStates are those of the three entries of that review.
func threeStates(t *testing.T, p testkit.Program) []string {
	t.Helper()
	var all []string
	for _, name := range []string{"Tide Chart", "tidewatch.service", "brinecast_cam"} {
		l, _ := p.List(t, "name="+name)
		require.Len(t, l.Entries, 1, name)
		all = append(all, l.Entries[0].State)
	}
	return all
}

// A review of a record that cannot be written to, of another one's disk, of a machine in between: a line each.
func TestReviewThatCannotBeKept(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Fails(t, 2, "in your own record", "review", "--plain", "--store", "disk")
	p.Fails(t, 2, "in your own record", "note", "Tide Chart", "-m", "x", "--store", "disk")
	p.Fails(t, 2, "in your own record", "catalogue", "list", "--store", "disk")
	p.OK(t, "snapshot")
	if os.Getuid() == 0 {
		p.Prefix = []string{"setpriv", "--reuid=65534", "--clear-groups"}
	}
	require.NoError(t, os.Chmod(filepath.Dir(p.Store), 0o755))
	for _, dir := range []string{p.Root, filepath.Dir(filepath.Dir(p.Root))} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	require.NoError(t, os.Chmod(p.Store, 0o400))
	p.Fails(t, 4, "run as its owner", "review", "--plain")
	p.Prefix = nil
	require.NoError(t, os.Chmod(p.Store, 0o600))
	_, killed := crash(t, p, 4, "disable", "tidewatch.service", "--yes")
	require.True(t, killed)
	p.Fails(t, 6, "run lockback recover", "review", "--plain")
}

// Proposals never have what is protected, what nobody judged, or what is off; each has its reason, and a dumb terminal
// and a pipe get a list.
func TestSuggest(t *testing.T) {
	t.Parallel()
	for _, machine := range []string{"workshop-box", "ticket-desk-pc", "archive-mac"} {
		p := museum(t, machine)
		p.OK(t, "note", "state=enabled", "--verdict", "spare")
		l, _ := p.List(t)
		entries := map[string]testkit.Entry{}
		spare := 0
		for _, e := range l.Entries {
			entries[e.Handle] = e
			if e.Verdict == "spare" {
				spare++
			}
		}
		require.Greater(t, spare, 20)
		var s struct {
			Suggestions []struct{ Handle, Kind, Why string }
		}
		before := testkit.Tree(t, p.Root)
		p.JSON(t, &s, "disable", "--suggest")
		require.NotEmpty(t, s.Suggestions)
		kinds := map[string]int{}
		for _, g := range s.Suggestions {
			kinds[g.Kind]++
			require.NotEmpty(t, g.Why)
			e, ok := entries[g.Handle]
			if !ok {
				continue // one line for everyone's
			}
			require.Empty(t, e.Guarded, e.Name)
			require.Equal(t, e.Caution != "", strings.Contains(g.Why, "; think twice: "+e.Caution), e.Name)
			require.False(t, e.OSPart)
			require.Equal(t, "enabled", string(e.State))
			require.NotEqual(t, "report", string(e.Switch))
			switch g.Kind {
			case "broken":
				require.Contains(t, e.Problems, "target-missing")
			case "costly":
				require.Contains(t, g.Why, " s to start")
			default:
				require.Equal(t, "spare", e.Verdict)
			}
		}
		require.Positive(t, kinds["broken"])
		require.Positive(t, kinds["spare"])
		all := len(s.Suggestions)
		p.JSON(t, &s, "disable", "--suggest", "broken,hostile")
		require.Len(t, s.Suggestions, kinds["broken"])
		p.JSON(t, &s, "suggest", "spare")
		require.Len(t, s.Suggestions, kinds["spare"])
		require.Regexp(t, `(?m)^handle +name +for +kind +because *$`, p.OK(t, "disable", "--suggest"))
		require.Contains(t, p.OK(t, "disable", "--suggest", "--dry-run"),
			fmt.Sprintf("%d entries could be turned off; nothing was", all))
		p.Fails(t, 2, "did you mean spare?", "disable", "--suggest=spere")
		require.Equal(t, p.OK(t, "disable", "--suggest"), p.OK(t, "suggest"))
		require.Equal(t, p.OK(t, "disable", "--suggest=broken", "stage=sign-in"), p.OK(t, "suggest", "broken",
			"stage=sign-in"))
		p.OK(t, "note", "state=enabled", "--verdict", "essential")
		p.JSON(t, &s, "disable", "--suggest")
		for _, g := range s.Suggestions {
			require.Equal(t, "broken", g.Kind, "nothing is proposed of what must stay, but what is not there")
		}
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
	p := workshop(t)
	d := open(t, p, 80, 24, "TERM=screen", "suggest")
	d.sees("1 of 2", "proposed", "disable, as broken")
	d.types("d", "q")
	require.Zero(t, d.ended())
	p.In = "q\n" // gone on with, it is of the same entries
	require.Contains(t, p.OK(t, "review", "--plain"), "2 of 2: not decided")
	p.Fails(t, 2, "lockback review --new starts over", "review", "--plain", "stage=sign-in")
}
