//go:build unix

package cli_test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"lockback/internal/cli"
	"lockback/internal/testkit"
)

// These make this test binary behave as the program: killed the hard way at the n-th point at which a crash would leave
// a different machine behind, or stopped by a signal, Ctrl-C's or another, at a point of that name. A signal is the
// whole process', so none may be sent to one in which other tests run.
const (
	crashAt  = "LOCKBACK_TEST_CRASH_AT"
	stopAt   = "LOCKBACK_TEST_STOP_AT"
	stopWith = "LOCKBACK_TEST_STOP_WITH"
)

func TestMain(m *testing.M) {
	n, _ := strconv.Atoi(os.Getenv(crashAt))
	stop, stopped := os.Getenv(stopAt), false
	if n == 0 && stop == "" {
		runInside()
		testkit.Main(m)
	}
	streams := cli.Standard()
	streams.At = func(point string) {
		fmt.Fprintln(os.Stderr, "point:", point)
		if n--; n == 0 {
			syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		if point == stop {
			arrived := make(chan os.Signal, 1)
			number, _ := strconv.Atoi(os.Getenv(stopWith))
			signal.Notify(arrived, syscall.Signal(number))
			syscall.Kill(os.Getpid(), syscall.Signal(number))
			<-arrived
			stop, stopped = "", true
		} else if stopped {
			time.Sleep(10 * time.Millisecond) // whoever else is told of the signal may be told a little later
		}
	}
	os.Exit(cli.Main(os.Args[1:], streams))
}

// runInside has tests run the program in this process where only its output matters. It has no home here, as the built
// program has none.
func runInside() {
	out, err := exec.Command("go", "env", "-json", "GOCACHE", "GOMODCACHE", "GOPATH").Output()
	var places map[string]string
	if err != nil || json.Unmarshal(out, &places) != nil {
		return // then the built program serves
	}
	for name, place := range places {
		os.Setenv(name, place)
	}
	for _, name := range []string{"COLUMNS", "NO_COLOR", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "PAGER"} {
		os.Unsetenv(name)
	}
	os.Setenv("HOME", "/nonexistent")
	testkit.Inside = func(args []string, in io.Reader, out, errs io.Writer) int {
		return cli.Main(args, cli.Streams{In: in, Out: out, Err: errs})
	}
}

// crash runs the program and kills it at point n. It reports the point, and
// whether it came that far.
func crash(t *testing.T, p testkit.Program, n int, args ...string) (point string, killed bool) {
	t.Helper()
	cmd := exec.Command(os.Args[0], append([]string{"--root", p.Root, "--store", p.Store}, args...)...)
	cmd.Env = []string{crashAt + "=" + strconv.Itoa(n), "HOME=/nonexistent"}
	var errs bytes.Buffer
	cmd.Stderr = &errs
	err := cmd.Run()
	points := strings.Split(strings.TrimSpace(errs.String()), "\n")
	if err == nil {
		return "", false
	}
	status := cmd.ProcessState.Sys().(syscall.WaitStatus)
	require.True(t, status.Signaled(), "ended with %v: %s", err, errs.String())
	return points[len(points)-1], true
}

// openSQL opens a record with nothing but SQLite.
func openSQL(t testing.TB, file string) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	return db
}

// wholeRecord has SQLite itself check the record.
func wholeRecord(t *testing.T, p testkit.Program) {
	t.Helper()
	db := openSQL(t, p.Store)
	defer db.Close()
	var verdict string
	require.NoError(t, db.QueryRow("PRAGMA integrity_check").Scan(&verdict))
	require.Equal(t, "ok", verdict)
	var broken int
	require.NoError(t, db.QueryRow("SELECT count(*) FROM pragma_foreign_key_check").Scan(&broken))
	require.Zero(t, broken)
}

var times = regexp.MustCompile(`mtime=\d+`)

// withoutTimes leaves out what differs between two runs of the same change.
func withoutTimes(p testkit.Picture) testkit.Picture {
	q := testkit.Picture{}
	for name, line := range p {
		q[name] = times.ReplaceAllString(line, "")
	}
	return q
}

func TestKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		prepare [][]string
		change  []string
		steps   int
	}{
		{"disable", nil, everything, 30},
		{"undo", [][]string{everything}, []string{"undo", "--yes"}, 30},
		{"restore", [][]string{{"snapshot"}, everything, {"disable", "Fogbell Sync", "--yes"}},
			[]string{"restore", "S1", "--yes"}, 25},
		{"into a new folder", nil, []string{"disable", "Kelpline Assistant", "Fogbell Notifier",
			"gullrock-welcome.service", "--for", "root", "--yes"}, 7},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := workshop(t)
			for _, args := range c.prepare {
				p.OK(t, args...)
			}
			before := testkit.Tree(t, p.Root)
			done := moved(t, p, filepath.Join(t.TempDir(), "done"))
			done.OK(t, c.change...)
			after := withoutTimes(testkit.Tree(t, done.Root))
			var steps struct{ Items []struct{ ID string } }
			done.JSON(t, &steps, "history")
			var last struct{ Steps []any }
			done.JSON(t, &last, "history", steps.Items[0].ID)
			require.GreaterOrEqual(t, len(last.Steps), c.steps)

			// A change that takes back is made of the same steps: of those every third one, drawn through all kinds.
			stride := max(1, map[string]int{"undo": 3, "restore": 3}[c.name])
			interrupted := 0
			for k, w := range wrecks(t, p, stride, c.change...) {
				if !w.before {
					interrupted++
				}
				t.Run(w.point, func(t *testing.T) {
					t.Parallel()
					wholeRecord(t, w.Program)
					if w.before {
						testkit.Same(t, before, testkit.Tree(t, w.Root))
						return
					}
					if k%5 == 0 { // what is said does not hang on the step
						require.Contains(t, w.Run(t, "list").Err, "was interrupted")
						w.Fails(t, 6, "run lockback recover", "disable", "tidewatch.service", "--yes")
						w.Fails(t, 6, "run lockback recover", "snapshot")
					}
					if k%2 == 1 {
						w.OK(t, "recover", "--finish", "--yes")
						require.Empty(t, testkit.Differences(after, withoutTimes(testkit.Tree(t, w.Root))))
						w.OK(t, "undo", lastChange(t, w.Program), "--yes")
					} else {
						// Recovery itself may be cut short as well.
						crash(t, w.Program, 1+w.n%7, "recover", "--yes")
						w.OK(t, "recover", "--yes")
					}
					testkit.Same(t, before, testkit.Tree(t, w.Root))
					wholeRecord(t, w.Program)
				})
			}
			require.GreaterOrEqual(t, interrupted, 2*c.steps/stride)
		})
	}
}

// lastChange is the newest change that is done.
func lastChange(t *testing.T, p testkit.Program) string {
	t.Helper()
	var h struct {
		Items []struct{ ID, Kind, State string }
	}
	p.JSON(t, &h, "history")
	for _, i := range h.Items {
		if i.Kind == "change" && (i.State == "done" || i.State == "trial") {
			return i.ID
		}
	}
	require.Fail(t, "no change is done")
	return ""
}

// in runs the program inside this process, with a hook at its points.
func in(p testkit.Program, at func(string), args ...string) (code int, errs string) {
	var out, e bytes.Buffer
	code = cli.Main(append([]string{"--root", p.Root, "--store", p.Store}, args...),
		cli.Streams{In: strings.NewReader(""), Out: &out, Err: &e, At: at})
	return code, e.String()
}

// Ctrl-C in the middle, and a terminal that is closed, take the change back; nothing waits for recover.
func TestStoppedByTheUser(t *testing.T) {
	t.Parallel()
	for at, with := range map[string]syscall.Signal{"step 0: prepare": syscall.SIGINT,
		"step 5: prepare": syscall.SIGHUP, "step 0: set": syscall.SIGTERM, "step 9: set": syscall.SIGINT} {
		p := workshop(t)
		before := testkit.Tree(t, p.Root)
		cmd := exec.Command(os.Args[0], append([]string{"--root", p.Root, "--store", p.Store}, everything...)...)
		cmd.Env = []string{stopAt + "=" + at, stopWith + "=" + strconv.Itoa(int(with)), "HOME=/nonexistent"}
		out, _ := cmd.CombinedOutput()
		require.Equal(t, 1, cmd.ProcessState.ExitCode(), string(out))
		require.Contains(t, string(out), "stopped by the user; everything was taken back", at)
		testkit.Same(t, before, testkit.Tree(t, p.Root))
		p.OK(t, "snapshot")
	}
}

func TestConflicts(t *testing.T) {
	t.Parallel()
	file := "home/ines/.config/autostart/fogbell-sync.desktop"
	meddle := func(p testkit.Program) { // somebody else writes
		f, err := os.OpenFile(filepath.Join(p.Root, file), os.O_APPEND|os.O_WRONLY, 0)
		if err == nil {
			f.WriteString("X-Changed=1\n")
			f.Close()
		}
	}
	t.Run("between plan and apply", func(t *testing.T) {
		p := workshop(t)
		before := testkit.Tree(t, p.Root)
		code, errs := in(p, func(point string) {
			if point == "step 3: set" {
				meddle(p)
			}
		}, everything...)
		require.Equal(t, 5, code, errs)
		require.Contains(t, errs, "everything else was taken back")
		d := testkit.Differences(before, testkit.Tree(t, p.Root))
		require.Len(t, d, 1)
		require.Contains(t, d[0], file)
	})
	t.Run("before an undo", func(t *testing.T) {
		p := workshop(t)
		p.OK(t, "disable", "Fogbell Sync", "tidewatch.service", "--yes")
		meddle(p)
		before := testkit.Tree(t, p.Root)
		p.Fails(t, 5, "changed since", "undo", "--all-or-nothing", "--yes")
		testkit.Same(t, before, testkit.Tree(t, p.Root))
		// What still stands is taken back, the rest is named, and so is the command that brings it back.
		_, entries := p.List(t)
		sync := entries["Fogbell Sync/ines"].Handle
		r := p.Run(t, "undo", "--yes")
		require.Equal(t, 1, r.Code)
		require.Contains(t, r.Err, "left out: "+sync+"  Fogbell Sync: something else changed it since")
		_, entries = p.List(t)
		require.Equal(t, "enabled", entries["tidewatch.service"].State)
		require.Equal(t, "disabled", entries["Fogbell Sync/ines"].State)
		hint := regexp.MustCompile(`lockback (--root \S+ --store \S+ )restore (S\d+) --only (\S+)`).FindStringSubmatch(
			r.Out + r.Err)
		require.NotNil(t, hint, "%s%s", r.Out, r.Err)
		require.Equal(t, sync, hint[3])
		require.Equal(t, []string{"--root", p.Root, "--store", p.Store}, strings.Fields(hint[1]))
		p.Fails(t, 5, "restore "+hint[2]+" --only "+sync, "undo", "C1", "--yes")
		p.OK(t, "restore", hint[2], "--only", hint[3], "--yes")
		_, entries = p.List(t)
		require.Equal(t, "enabled", entries["Fogbell Sync/ines"].State)
	})
	t.Run("an entry vanished", func(t *testing.T) {
		p := workshop(t)
		code, errs := in(p, func(point string) {
			if point == "before the journal" {
				os.Remove(filepath.Join(p.Root, file))
			}
		}, "disable", "Fogbell Sync", "--yes")
		require.Equal(t, 5, code, errs)
		_, err := os.Lstat(filepath.Join(p.Root, file))
		require.ErrorIs(t, err, os.ErrNotExist)
	})
	t.Run("two at once", func(t *testing.T) {
		p := workshop(t)
		done := false
		code, errs := in(p, func(point string) {
			if point == "step 0: set" {
				done = true
				other := p
				other.Process = true
				other.Fails(t, 1, "another lockback", "disable", "tidewatch.service", "--yes")
				other.Run(t, "list") // looking is always possible
			}
		}, "disable", "Fogbell Sync", "--yes")
		require.Zero(t, code, errs)
		require.True(t, done)
	})
	t.Run("an interface that does nothing", func(t *testing.T) {
		p := workshop(t)
		before := testkit.Tree(t, p.Root)
		code, errs := in(p, func(point string) {
			if point == "verify" { // as if the write had never reached the disk
				content := "[Desktop Entry]\nType=Application\nName=Fogbell Sync\nExec=/opt/fogbell/sync --tray\n"
				os.WriteFile(filepath.Join(p.Root, file), []byte(content), 0o644)
			}
		}, "disable", "Fogbell Sync", "--yes")
		require.Equal(t, 5, code, errs)
		require.Contains(t, errs, "reads back as")
		require.Len(t, testkit.Differences(before, testkit.Tree(t, p.Root)), 1)
	})
}
