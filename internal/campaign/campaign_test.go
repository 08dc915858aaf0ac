//go:build linux

// Package campaign attacks the built program at random, for as long as one likes: it is
// killed at random moments, disks fill up and become read-only under it, and it reads
// disks and records whose bytes were changed. Whether all is exact again is judged by code
// of its own, and of hives by another reader.
//
//	LOCKBACK_CAMPAIGN=30m go test ./internal/campaign -v -timeout 2h
//
// Without that variable so many draws are made as draw.Count says. The figures of the last long run stand in
// docs/verified.md.
package campaign

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/internal/demo"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// goesOn returns whether a worker draws once more after k draws: for as long as LOCKBACK_CAMPAIGN says, else so many
// times, which no slow machine changes.
func goesOn(draws int) func(k int) bool {
	if d, err := time.ParseDuration(os.Getenv("LOCKBACK_CAMPAIGN")); err == nil {
		end := time.Now().Add(d)
		return func(int) bool { return time.Now().Before(end) }
	}
	draws = draw.Count(draws)
	return func(k int) bool { return k < draws }
}

// seed begins the numbers that are drawn; a run with the same one draws the same.
func seed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("LOCKBACK_SEED"), 10, 64); err == nil {
		return n
	}
	return uint64(time.Now().UnixNano())
}

// patient is a machine that is attacked, on a file system of its own.
type patient struct {
	testkit.Program
	name  string
	mount string // of a file system that can fill up and become read-only; empty: none
	r     *rand.Rand

	whole                                             map[string]string        // as it was at first, see look
	took                                              map[string]time.Duration // by a command that nothing was done to
	kills, finished, recovered, ended, full, readOnly int
}

// newPatient builds a machine of the museum in a folder, and records how it is.
func newPatient(t testing.TB, machine, dir, mount string, s uint64) *patient {
	t.Helper()
	root := filepath.Join(dir, machine)
	if below := filepath.Join(dir, "below", machine); exists(below) {
		root = below // of an overlay
	} else {
		require.NoError(t, demo.BuildMachine(machine, root))
	}
	record := t.TempDir()
	require.NoError(t, os.Chmod(record, 0o700))
	p := &patient{Program: testkit.Program{Root: root, Store: filepath.Join(record, "record.db")}, name: machine,
		mount: mount,
		r:     rand.New(rand.NewPCG(s, uint64(len(dir)))), took: map[string]time.Duration{}}
	if machine == "ticket-desk-pc" {
		p.OK(t, "disable", "Fogbell Notes", "--yes") // settles the hive that was not closed
		p.OK(t, "undo", "--yes")
	}
	p.OK(t, "snapshot")
	p.whole = p.look(t)
	return p
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// look tells all that must come back: files by their bytes, modes, owners, links, attributes
// and times; of hives what reglookup reads, the times and rights of keys included.
func (p *patient) look(t testing.TB) map[string]string {
	t.Helper()
	all := testkit.Tree(t, p.Root)
	if p.name != "ticket-desk-pc" {
		return all
	}
	for _, hive := range testkit.Hives(t, p.Root) {
		rel, _ := filepath.Rel(p.Root, hive)
		out, err := exec.Command("reglookup", "-s", "-H", hive).Output()
		require.NoError(t, err, hive)
		lines := strings.Split(string(out), "\n")
		slices.Sort(lines) // the order of keys in a list is their names', and that of values is kept below
		all[rel] = strings.Join(lines, "\n")
	}
	for name := range all {
		if strings.HasSuffix(name, "/config") || strings.HasPrefix(name, "Users/") && strings.Count(name, "/") == 1 &&
			all[name][0] == 'd' || strings.HasSuffix(name, "/Windows") {
			all[name] = "" // a hive that is written again shows in its folder's time
		}
	}
	return all
}

// command draws something that a technician would do.
func (p *patient) command() []string {
	switch p.r.IntN(12) {
	case 0, 1, 2:
		return []string{"disable", "state=enabled", "switch!=report", "--all", "--guarded", "--yes"}
	case 3, 4, 5:
		return []string{"disable", string(rune('a'+p.r.IntN(26))) + "*", string(rune('a'+p.r.IntN(26))) + "*",
			"*" + string(rune('a'+p.r.IntN(26))), "--guarded", "--yes"}
	case 6, 7:
		return []string{"undo", "--yes"}
	case 8, 9:
		return []string{"restore", "S1", "--yes"}
	case 10:
		return []string{"enable", "state=disabled", "--yes"}
	}
	return []string{"snapshot"}
}

var signals = []syscall.Signal{syscall.SIGKILL, syscall.SIGKILL, syscall.SIGKILL, syscall.SIGTERM, syscall.SIGINT,
	syscall.SIGHUP}

// attack runs a command and does something to it at a random moment. It reports whether the
// command was hit while it ran.
func (p *patient) attack(t testing.TB, args ...string) bool {
	t.Helper()
	cmd := exec.Command(testkit.Built(t), append([]string{"--root", p.Root, "--store", p.Store}, args...)...)
	cmd.Env = []string{"HOME=/nonexistent", "PATH=" + os.Getenv("PATH")}
	var errs bytes.Buffer
	cmd.Stderr = &errs
	closed := p.r.IntN(8) == 0
	var out *os.File
	if closed {
		r, w, err := os.Pipe()
		require.NoError(t, err)
		cmd.Stdout, out = w, r
		defer w.Close()
	}
	require.NoError(t, cmd.Start())
	began := time.Now()
	took := p.took[args[0]]
	if took == 0 {
		took = 50 * time.Millisecond
	}
	after := time.Duration(p.r.Float64() * 1.1 * float64(took))
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	var err error
	hit := false
	select {
	case err = <-ended:
	case <-time.After(after):
		hit = true
		switch n := p.r.IntN(10); {
		case p.mount != "" && n == 0:
			p.full++
			p.fill(t)
		case p.mount != "" && n == 1:
			p.readOnly++
			unix.Mount("", p.mount, "", unix.MS_REMOUNT|unix.MS_RDONLY, "") // busy is an answer, too
		default:
			cmd.Process.Signal(signals[p.r.IntN(len(signals))])
		}
		if out != nil {
			out.Close()
			out = nil
		}
		err = <-ended
	}
	if out != nil {
		out.Close()
	}
	if p.mount != "" {
		unix.Mount("", p.mount, "", unix.MS_REMOUNT, "")
		os.Remove(filepath.Join(p.mount, "filler"))
	}
	require.NotContains(t, errs.String(), "goroutine ", "%v", args)
	var exit *exec.ExitError
	if err != nil && errors.As(err, &exit) {
		status := exit.Sys().(syscall.WaitStatus)
		require.True(t, status.Signaled() || status.ExitStatus() <= 6, "%v: %d: %s", args, status.ExitStatus(),
			errs.String())
		if status.Signaled() || strings.Contains(errs.String(), "stopped by the user") {
			p.kills++
			return true
		}
		return hit
	}
	p.ended++
	p.took[args[0]] = time.Since(began)
	return false
}

// fill leaves no room on the file system.
func (p *patient) fill(t testing.TB) {
	f, err := os.Create(filepath.Join(p.mount, "filler"))
	if err != nil {
		return
	}
	defer f.Close()
	for block := make([]byte, 1<<20); len(block) >= 512; {
		if _, err := f.Write(block); err != nil {
			block = block[:len(block)/2]
		}
	}
}

// round attacks once, settles what was begun, and wants all to be as it was at first.
func (p *patient) round(t testing.TB) {
	t.Helper()
	var done []string
	for range 1 + p.r.IntN(3) {
		args := p.command()
		done = append(done, strings.Join(args, " "))
		p.attack(t, args...)
		if strings.Contains(p.Run(t, "history").Out, "interrupted") {
			recover := []string{"recover", "--yes"}
			if p.r.IntN(2) == 0 {
				recover = append(recover, "--finish")
			}
			for p.r.IntN(3) == 0 { // it is attacked itself
				done = append(done, "(attacked) "+strings.Join(recover, " "))
				p.attack(t, recover...)
			}
			done = append(done, strings.Join(recover, " "))
			r := p.Run(t, recover...)
			if r.Code == 5 { // finished in part and changed back in part: only back is possible
				recover = recover[:2]
				r = p.Run(t, recover...)
			}
			require.Zero(t, r.Code, "%v: %s", done, r.Err)
			if len(recover) == 2 {
				p.recovered++
			} else {
				p.finished++
			}
		}
	}
	r := p.Run(t, "restore", "S1", "--yes")
	require.Zero(t, r.Code, "%v: %s%s", done, r.Out, r.Err)
	now := p.look(t)
	for _, name := range testkit.Changed(p.whole, now) {
		was, is := p.whole[name], now[name]
		require.Equal(t, was, is, "%s: %s: %v", p.name, name, done)
		require.Fail(t, "something is new, or gone", "%s: %s: %q, %q: %v", p.name, name, was, is, done)
	}
}

// medium is a file system that the patients lie on.
type medium struct {
	name     string
	machines []string
	mount    func(t testing.TB, dir string) (ok bool)
}

var all = []string{"workshop-box", "ticket-desk-pc", "archive-mac"}

var media = []medium{
	{"folder", all, func(testing.TB, string) bool { return true }},
	{"tmpfs", all, func(t testing.TB, dir string) bool {
		return unix.Mount("tmpfs", dir, "tmpfs", 0, "size=24m,mode=755") == nil
	}},
	{"ext4", all, func(t testing.TB, dir string) bool {
		image := filepath.Join(t.TempDir(), "disk")
		return exec.Command("sh", "-c", "truncate -s 48M "+image+" && mkfs.ext4 -q "+image+" && mount -o loop "+image+
			" "+dir).Run() == nil
	}},
	{"overlayfs", all, func(t testing.TB, dir string) bool {
		upper := t.TempDir()
		if unix.Mount("tmpfs", upper, "tmpfs", 0, "size=24m,mode=755") != nil {
			return false
		}
		t.Cleanup(func() { unix.Unmount(upper, unix.MNT_DETACH) })
		lower := t.TempDir()
		for _, d := range []string{"upper", "work"} {
			os.Mkdir(filepath.Join(upper, d), 0o755)
		}
		for _, m := range all {
			if os.MkdirAll(filepath.Join(lower, "below"), 0o755) != nil ||
				demo.BuildMachine(m, filepath.Join(lower, "below", m)) != nil {
				return false
			}
		}
		return unix.Mount("overlay", dir, "overlay", 0, "lowerdir="+lower+",upperdir="+upper+"/upper,workdir="+upper+
			"/work") == nil
	}},
	{"ntfs", []string{"ticket-desk-pc"}, func(t testing.TB, dir string) bool {
		image := filepath.Join(t.TempDir(), "disk")
		return exec.Command("sh", "-c", "truncate -s 64M "+image+" && PATH=$PATH:/sbin:/usr/sbin && mkntfs -F -Q -q "+
			image+" && ntfs-3g "+image+" "+dir).Run() == nil
	}},
}

func TestKills(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "mounting file systems")
	testkit.Need(t, "reglookup", "mkfs.ext4", "mkntfs", "ntfs-3g")
	s := seed()
	t.Logf("LOCKBACK_SEED=%d", s)
	var patients []*patient
	for _, m := range media {
		dir := t.TempDir()
		if !m.mount(t, dir) {
			t.Logf("no %s here", m.name)
			continue
		}
		t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
		for _, machine := range m.machines {
			place, mount := dir, ""
			if m.name == "tmpfs" { // one each: what fills up, others would feel
				place = filepath.Join(dir, "of-"+machine)
				require.NoError(t, os.Mkdir(place, 0o755))
				require.NoError(t, unix.Mount("tmpfs", place, "tmpfs", 0, "size=12m,mode=755"))
				t.Cleanup(func() { unix.Unmount(place, unix.MNT_DETACH) })
				mount = place
			}
			patients = append(patients, newPatient(t, machine, place, mount, s))
		}
	}
	more := goesOn(200)
	var wait sync.WaitGroup
	for w := range 2 {
		wait.Go(func() {
			var mine []*patient // nobody else's
			for k := w; k < len(patients); k += 2 {
				mine = append(mine, patients[k])
			}
			for k := 0; more(k) && !t.Failed(); k++ {
				mine[k%len(mine)].round(t)
			}
		})
	}
	wait.Wait()
	var sum patient
	for _, p := range patients {
		sum.kills += p.kills
		sum.finished += p.finished
		sum.recovered += p.recovered
		sum.ended += p.ended
		sum.full += p.full
		sum.readOnly += p.readOnly
	}
	t.Logf("%d runs killed, %d ended by themselves; %d changes were left open: %d taken back, %d finished; %d "+
		"disks filled, %d made read-only; on %d machines",
		sum.kills, sum.ended, sum.recovered+sum.finished, sum.recovered, sum.finished, sum.full, sum.readOnly,
		len(patients))
	require.NotZero(t, sum.kills)
	if os.Getenv("LOCKBACK_CAMPAIGN") != "" { // in a short run that is luck
		require.NotZero(t, sum.recovered+sum.finished)
	}
}

// mutate changes some bytes of a file.
func mutate(r *rand.Rand, b []byte) []byte {
	b = slices.Clone(b)
	for range 1 + r.IntN(6) {
		if len(b) == 0 {
			return []byte{byte(r.IntN(256))}
		}
		at := r.IntN(len(b))
		switch r.IntN(8) {
		case 0, 1, 2:
			b[at] ^= 1 << r.IntN(8)
		case 3:
			b[at] = byte(r.IntN(256))
		case 4:
			b = b[:at]
		case 5:
			b = slices.Insert(b, at, []byte{0, 0xff, '\n', '=', '[', 0x1b, 0xc2, 0x9b}[r.IntN(8)])
		case 6:
			n := min(len(b)-at, 1+r.IntN(64))
			b = slices.Insert(b, r.IntN(len(b)), b[at:at+n]...)
		case 7:
			for k := at; k < min(len(b), at+4); k++ {
				b[k] = []byte{0, 0x7f, 0xff}[r.IntN(3)]
			}
		}
	}
	return b
}

// interesting are the files whose bytes are changed: what is parsed.
func interesting(t testing.TB, root string) []string {
	t.Helper()
	var files []string
	require.NoError(t, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && !strings.Contains(name, "/opt/") {
			files = append(files, name)
		}
		return err
	}))
	return files
}

func TestMutatedDisks(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "owners of files")
	s := seed()
	t.Logf("LOCKBACK_SEED=%d", s)
	more := goesOn(400)
	var mu sync.Mutex
	disks, runs, switched, exact, partly, records := 0, 0, 0, 0, 0, 0
	longest := time.Duration(0)
	var wait sync.WaitGroup
	for w := range 2 {
		r := rand.New(rand.NewPCG(s, uint64(w)))
		originals := map[string]string{}
		for _, m := range all {
			originals[m] = filepath.Join(t.TempDir(), m)
			require.NoError(t, demo.BuildMachine(m, originals[m]))
		}
		work := t.TempDir()
		wait.Go(func() {
			for k := 0; more(k) && !t.Failed(); k++ {
				machine := all[k%len(all)]
				root := filepath.Join(work, fmt.Sprintf("disk-%d", k))
				out, err := exec.Command("cp", "-a", originals[machine], root).CombinedOutput()
				require.NoError(t, err, string(out))
				changed := map[string][]byte{}
				files := interesting(t, root)
				for range 1 + r.IntN(6) {
					at := r.IntN(len(files))
					file := files[at]
					files = slices.Delete(files, at, at+1)
					b, err := os.ReadFile(file)
					require.NoError(t, err)
					switch r.IntN(12) {
					case 0: // something else in its place
						os.Remove(file)
						switch r.IntN(3) {
						case 0:
							unix.Mkfifo(file, 0o644)
						case 1:
							os.Mkdir(file, 0o755)
						case 2:
							os.Symlink([]string{"/", ".", "/etc/passwd", file, "/dev/zero", "nowhere"}[r.IntN(6)], file)
						}
					default:
						changed[file] = mutate(r, b)
						require.NoError(t, os.WriteFile(file, changed[file], 0o644))
					}
				}
				p := testkit.Program{Root: root, Store: filepath.Join(work, "record.db"), Prefix: []string{"timeout",
					"-s", "QUIT", "30"}}
				run := func(args ...string) testkit.Run {
					began := time.Now()
					res := p.Run(t, args...)
					mu.Lock()
					runs++
					longest = max(longest, time.Since(began))
					mu.Unlock()
					if res.Code < 0 || res.Code > 6 || strings.Contains(res.Err, "goroutine ") {
						keep := filepath.Join(os.TempDir(), "lockback-campaign")
						os.RemoveAll(keep)
						exec.Command("cp", "-a", root, keep).Run()
						require.Fail(t, "it broke", "%s %v: %d: %s (the disk is kept at %s)", machine, args, res.Code,
							res.Err, keep)
					}
					return res
				}
				res := run("list", "--all", "--format", "json")
				if res.Code == 0 {
					var any struct{ Entries []struct{ Handle string } }
					require.NoError(t, json.Unmarshal([]byte(res.Out), &any), "%s", machine)
				}
				if k%3 == 0 {
					res = run("list", "--all")
				}
				for _, c := range res.Err + map[bool]string{true: res.Out}[k%3 == 0] {
					require.False(t, c < ' ' && c != '\n' || c >= 0x7f && c < 0xa0, "%s: %q", machine, res.Out)
				}
				mu.Lock()
				disks++
				mu.Unlock()
				if k%4 == 0 {
					before := testkit.Tree(t, root)
					run("snapshot")
					off := run("disable", "state=enabled", "switch!=report", "--all", "--guarded", "--yes")
					back := run("restore", "S1", "--yes")
					if off.Code == 0 || off.Code == 1 {
						now := testkit.Tree(t, root)
						same := true
						for _, name := range testkit.Changed(before, now) {
							// A hive is written again, and shows in its folder.
							hive := strings.Contains(name, "/config") || strings.HasPrefix(name, "Users/") ||
								name == "."
							if machine != "ticket-desk-pc" || !hive {
								same = false
								require.Equal(t, 1, back.Code, "%s: %s: was %q, is %q, and nothing was said: %s%s",
									machine, name, before[name], now[name], back.Out, back.Err)
							}
						}
						mu.Lock()
						switched++
						if same {
							exact++
						} else {
							partly++
						}
						mu.Unlock()
					}
					// And the record itself.
					if b, err := os.ReadFile(p.Store); err == nil {
						require.NoError(t, os.WriteFile(p.Store, mutate(r, b), 0o600))
						for _, args := range [][]string{{"history"}, {"compare", "S1"}, {"restore", "S1", "--yes"},
							{"list"}} {
							run(args...)
						}
						mu.Lock()
						records++
						mu.Unlock()
					}
					for _, suffix := range []string{"", "-journal"} {
						os.Remove(p.Store + suffix)
					}
				}
				require.NoError(t, os.RemoveAll(root))
			}
		})
	}
	wait.Wait()
	t.Logf("%d mutated disks, %d runs, the longest %v; %d turned off and restored: %d exactly, %d as far as was "+
		"said; %d mutated records", disks, runs, longest.Round(time.Millisecond), switched, exact, partly, records)
	require.NotZero(t, exact)
}
