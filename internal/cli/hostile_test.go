//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/core/format/plist"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/store"
	"lockback/internal/cli"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// What people on the machine, or whoever had the disk, can lay in the way. Ines has the
// id 1000, bram 1001.

// as runs a shell line as a person.
func as(t testing.TB, uid int, line string) {
	t.Helper()
	out, err := exec.Command("setpriv", fmt.Sprintf("--reuid=%d", uid), fmt.Sprintf("--regid=%d", uid),
		"--clear-groups", "sh", "-ec", line).CombinedOutput()
	require.NoError(t, err, "%s\n%s", line, out)
}

// shared makes the workshop box one that people can reach, with folders that everyone may
// write to, and a shadow file.
func shared(t testing.TB) testkit.Program {
	t.Helper()
	testkit.NeedRoot(t, "being another user")
	p := workshop(t)
	testkit.Need(t, "setpriv")
	for dir := p.Root; dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	require.NoError(t, os.Mkdir(filepath.Join(p.Root, "tmp"), 0o755))
	require.NoError(t, os.Chmod(filepath.Join(p.Root, "tmp"), 0o777|os.ModeSticky))
	put(t, p.Root, "etc/shadow", "root:locked:20000:0:99999:7:::\n", 0o600)
	return p
}

func put(t testing.TB, root, name, content string, mode os.FileMode) string {
	t.Helper()
	file := filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	require.NoError(t, os.Chmod(file, mode))
	return file
}

// recorded reports whether a record holds an image of a file with content.
func recorded(t testing.TB, record, file string) bool {
	t.Helper()
	st, err := store.Open(record, store.Read)
	require.NoError(t, err)
	defer st.Close()
	snap, err := st.Snapshot(1)
	require.NoError(t, err)
	images, err := snap.Images()
	require.NoError(t, err)
	i, ok, err := images.Image(artifact.File(file))
	require.NoError(t, err)
	return ok && len(i.Content) > 0
}

// Traps that a person lays for a privileged write: each is laid before the snapshot, then
// changed, and a restore must leave all of the system, and of other people, as it is.
func TestTrapsLeadNowhere(t *testing.T) {
	t.Parallel()
	const root0 = `printf 'root::20000:0:99999:7:::\n' > `
	for name, trap := range map[string]struct{ lay, change string }{
		"a folder outside becomes a link": {root0 + `tmp/d/shadow; ln -s /tmp/d/shadow ` +
			`home/ines/.config/autostart/a.desktop`, `rm -r tmp/d; ln -s /etc tmp/d`},
		"of a unit": {root0 + `tmp/d/q.service; ln -s /tmp/d/q.service ` +
			`home/ines/.config/systemd/user/q.service`, `rm -r tmp/d; ln -s /etc/systemd/system tmp/d`},
		"in the home": {`mkdir home/ines/d; ` + root0 +
			`home/ines/d/shadow; ln -s /home/ines/d/shadow home/ines/.config/autostart/a.desktop`,
			`rm -r home/ines/d; ln -s /etc home/ines/d`},
		"the folder itself": {`cp -r home/ines/.config/autostart home/ines/mine`,
			`rm -r home/ines/.config/autostart; ln -s /etc home/ines/.config/autostart`},
		"a file of the system": {`ln -s /etc/shadow home/ines/.config/autostart/a.desktop; ln -s /etc/shadow ` +
			`home/ines/.config/systemd/user/q.service`, `true`},
		"of another person": {`ln -s /home/bram/.config/autostart home/ines/x; ln -s x/speed-cleaner.desktop ` +
			`home/ines/.config/autostart/b.desktop`, `true`},
		"a chain of links": {`ln -s /home/ines/two home/ines/one; ln -s /tmp/d/shadow home/ines/two; ` + root0 +
			`tmp/d/shadow; ln -s /home/ines/one home/ines/.config/autostart/a.desktop`,
			`rm -r tmp/d; ln -s /etc tmp/d`},
		"a drop-in's folder": {`mkdir -p tmp/d; printf '[Service]\nExecStart=/x\n' > tmp/d/x.conf; ln -s /tmp/d ` +
			`home/ines/.config/systemd/user/fogbell-index.service.d`, `rm -r tmp/d; ln -s /etc/cron.d tmp/d`},
	} {
		for _, ostree := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s/%v", name, ostree), func(t *testing.T) {
				t.Parallel()
				p := shared(t)
				if ostree {
					require.NoError(t, os.MkdirAll(filepath.Join(p.Root, "var"), 0o755))
					require.NoError(t, os.Rename(filepath.Join(p.Root, "home"), filepath.Join(p.Root, "var/home")))
					require.NoError(t, os.Symlink("var/home", filepath.Join(p.Root, "home")))
				}
				as(t, 1000, "cd "+p.Root+
					"; mkdir -p tmp/d home/ines/.config/autostart home/ines/.config/systemd/user; "+trap.lay)
				p.Run(t, "snapshot")
				require.False(t, recorded(t, p.Store, "/etc/shadow"), "it is no business of the record")
				as(t, 1000, "cd "+p.Root+"; "+trap.change)
				put(t, p.Root, "etc/shadow", "root:changed since:20001:0:99999:7:::\n", 0o600)
				before := testkit.Tree(t, p.Root)
				p.Run(t, "restore", "S1", "--yes")
				p.Run(t, "disable", "user=ines", "--yes")
				p.Run(t, "restore", "S1", "--yes")
				p.Run(t, "undo", "--yes")
				p.Run(t, "recover", "--yes")
				for _, d := range testkit.Differences(before, testkit.Tree(t, p.Root)) {
					require.Regexp(t, `^(var/)?home/ines(/|:)|^tmp/d|^var/spool/cron/crontabs(/ines)?:`, d)
				}
			})
		}
	}
}

// While root changes something in a user's folder, that user exchanges names there.
func TestRacer(t *testing.T) {
	t.Parallel()
	p := shared(t)
	auto := filepath.Join(p.Root, "home/ines/.config/autostart")
	secret := put(t, auto, "secret", "only root's", 0o600)
	racer := exec.Command("setpriv", "--reuid=1000", "--regid=1000", "--clear-groups", "sh", "-c",
		`cd "$0"; while :; do for f in .lockback-*; do [ -e "$f" ] && mv secret "$f" 2>/dev/null; done; [ -r `+
			`secret ] && echo read && cat secret; done`, auto)
	var heard strings.Builder
	racer.Stdout = &heard
	require.NoError(t, racer.Start())
	defer racer.Process.Kill()
	for range 20 {
		p.Run(t, "disable", "Fogbell Sync", "--for", "ines", "--yes")
		p.Run(t, "undo", "--yes")
		p.Run(t, "recover", "--abandon", "--yes")
		there, err := os.ReadDir(auto)
		require.NoError(t, err)
		for _, f := range there {
			info, err := f.Info()
			if err != nil {
				continue
			}
			content, _ := os.ReadFile(filepath.Join(auto, f.Name()))
			if uid, _ := files.Owner(info); uid == 1000 {
				require.NotContains(t, string(content), "only root's", f.Name())
			}
			if string(content) == "only root's" && f.Name() != "secret" {
				require.NoError(t, os.Rename(filepath.Join(auto, f.Name()), secret))
			}
		}
		if _, err := os.Lstat(filepath.Join(auto, "fogbell-sync.desktop")); err != nil {
			put(t, auto, "fogbell-sync.desktop", "[Desktop Entry]\nType=Application\nName=Fogbell "+
				"Sync\nExec=/opt/fogbell/sync\n", 0o644)
			require.NoError(t, os.Chown(filepath.Join(auto, "fogbell-sync.desktop"), 1000, 1000))
		}
	}
	racer.Process.Kill()
	racer.Wait()
	require.Empty(t, heard.String())
}

// A record that somebody else could have written is not believed.
func TestRecordsOfOthers(t *testing.T) {
	t.Parallel()
	p := shared(t)
	p.OK(t, "snapshot")
	healthy, err := os.ReadFile(p.Store)
	require.NoError(t, err)
	for name, lay := range map[string]func(dir, file string){
		"of another person":       func(_, file string) { os.Chown(file, 1000, 1000) },
		"others may write to it":  func(_, file string) { os.Chmod(file, 0o666) },
		"others may read it":      func(_, file string) { os.Chmod(file, 0o644) },
		"its folder is another's": func(dir, _ string) { os.Chown(dir, 1000, 1000) },
		"anyone may write beside": func(dir, _ string) { os.Chmod(dir, 0o777) },
		"even if it is sticky":    func(dir, _ string) { os.Chmod(dir, 0o777|os.ModeSticky) },
		"a folder above":          func(dir, _ string) { os.Chmod(filepath.Dir(dir), 0o777) },
		"its journal is another's": func(_, file string) {
			put(t, "", file+"-journal", "x", 0o600)
			os.Chown(file+
				"-journal", 1000, 1000)
		},
		"its journal is a pipe": func(_, file string) { unix.Mkfifo(file+"-journal", 0o600) },
		"its log is a link":     func(_, file string) { os.Symlink("/dev/zero", file+"-wal") },
		"it is a link": func(dir, file string) {
			os.Rename(file, dir+"/real.db")
			os.Symlink("real.db",
				file)
		},
		"a link to nothing": func(_, file string) {
			os.Remove(file)
			os.Symlink(filepath.Join(os.TempDir(),
				"lockback-made"), file)
		},
		"it is a pipe": func(_, file string) { os.Remove(file); unix.Mkfifo(file, 0o600) },
		"it has a write-ahead log": func(_, file string) {
			put(t, "", file, string(healthy[:18])+"\x02\x02"+
				string(healthy[20:]), 0o600)
		},
	} {
		t.Run(name, func(t *testing.T) {
			above, err := os.MkdirTemp(filepath.Dir(p.Root), "records")
			require.NoError(t, err)
			dir := filepath.Join(above, "record")
			require.NoError(t, os.Mkdir(dir, 0o700))
			file := put(t, dir, "record.db", string(healthy), 0o600)
			lay(dir, file)
			before := testkit.Tree(t, p.Root)
			q := testkit.Program{Root: p.Root, Store: file, Prefix: []string{"timeout", "120"}}
			for _, args := range [][]string{{"snapshot"}, {"history"}, {"compare", "S1"}, {"disable", "Fogbell Sync",
				"--yes"}, {"recover", "--yes"}} {
				q.Fails(t, 1, "record", args...)
			}
			r := q.Run(t, "list")
			require.Zero(t, r.Code)
			require.Contains(t, r.Err, "the record is not used")
			testkit.Same(t, before, testkit.Tree(t, p.Root))
			_, err = os.Lstat(filepath.Join(os.TempDir(), "lockback-made"))
			require.ErrorIs(t, err, os.ErrNotExist)
		})
	}
	// What is made is ours alone from the first moment, whatever the umask.
	q := testkit.Program{Root: p.Root, Store: filepath.Join(filepath.Dir(p.Root), "new/er/record.db"),
		Prefix: []string{"sh", "-c", `umask 000; exec "$@"`, "sh"}}
	q.OK(t, "snapshot")
	q.OK(t, "history")
}

// sql runs statements on a record.
func sqlOn(t testing.TB, file string, statements ...string) {
	t.Helper()
	db := openSQL(t, file)
	defer db.Close()
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
}

// What a record on a disk says, whoever had the disk can have put there.
func TestPlantedRecords(t *testing.T) {
	t.Parallel()
	p := shared(t)
	disk := testkit.Program{Root: p.Root, Store: "disk", Prefix: []string{"timeout", "120"}}
	file := filepath.Join(p.Root, "var/lib/lockback/record.db")
	disk.OK(t, "snapshot")
	disk.OK(t, "disable", "tidewatch.service", "--yes")
	disk.OK(t, "undo", "--yes")
	healthy, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, statements := range map[string][]string{
		"triggers": {"CREATE TRIGGER a BEFORE INSERT ON change BEGIN SELECT RAISE(IGNORE); END",
			"CREATE TRIGGER b BEFORE INSERT ON step BEGIN SELECT RAISE(IGNORE); END"},
		"an endless view": {"ALTER TABLE change RENAME TO c",
			"CREATE VIEW change AS WITH RECURSIVE n(id) AS (SELECT 1 UNION ALL SELECT id+1 FROM n) SELECT id, '' " +
				"AS machine FROM n"},
		"a giant view": {"ALTER TABLE blob RENAME TO b",
			"CREATE VIEW blob AS SELECT digest, 900000000 AS size, zeroblob(900000000) AS data FROM b"},
		"an index more":    {"CREATE INDEX i ON step (artifact)"},
		"a column renamed": {"ALTER TABLE snapshot RENAME COLUMN system TO other"},
	} {
		require.NoError(t, os.WriteFile(file, healthy, 0o600))
		sqlOn(t, file, statements...)
		before := testkit.Tree(t, p.Root)
		for _, args := range [][]string{{"history"}, {"compare", "S1"}, {"disable", "Fogbell Sync", "--yes"},
			{"restore", "S1", "--yes"}} {
			disk.Fails(t, 1, "its tables are not those of a record", args...)
		}
		testkit.Same(t, before, testkit.Tree(t, p.Root))
		_ = name
	}
	// Sizes that are not true, and what unpacks to more than it says.
	for _, s := range []string{"UPDATE blob SET size = 2000000000", "UPDATE blob SET data = zeroblob(40000000)",
		"UPDATE blob SET size = 60000000"} {
		require.NoError(t, os.WriteFile(file, healthy, 0o600))
		sqlOn(t, file, s)
		limited := disk
		limited.Prefix = []string{"sh", "-c", `ulimit -v 2500000; exec "$@"`, "sh"}
		limited.Fails(t, 1, "the record is damaged", "restore", "S1", "--yes")
	}
	// What it says is cleaned wherever it is said.
	require.NoError(t, os.WriteFile(file, healthy, 0o600))
	sqlOn(t, file, `UPDATE change SET state = 'interrupted', kind = char(27)||']0;pwned'||char(7), message = `+
		`char(27)||'[2J', host = char(155)||'31m' WHERE id = 1`)
	for _, args := range [][]string{{"list"}, {"history"}, {"disable", "Fogbell Sync", "--yes"}, {"recover"},
		{"recover", "--yes"}} {
		r := disk.Run(t, args...)
		require.NotContains(t, r.Out+r.Err, "\x1b", args)
		require.NotContains(t, r.Out+r.Err, "\u009b", args)
	}
	// Unasked, it is not used, and cannot stop anything.
	mine := testkit.Program{Root: p.Root, Store: p.Store}
	mine.OK(t, "disable", "Fogbell Sync", "--yes")
	mine.OK(t, "undo", "--yes")
}

// Names that somebody laid beforehand, known or guessed, stop nothing.
func TestNamesInTheWay(t *testing.T) {
	t.Parallel()
	for machineName, lay := range map[string]func(root string) []string{
		"workshop-box": func(root string) []string {
			for c := 1; c < 4; c++ {
				for k := range 6 {
					put(t, root, fmt.Sprintf("home/ines/.config/autostart/.lockback-C%d-%d/x", c, k), "", 0o644)
				}
			}
			return []string{"disable", "Fogbell Sync", "Tide Chart", "tidewatch.service", "--yes"}
		},
		"ticket-desk-pc": func(root string) []string {
			put(t, root, "Windows/System32/config/.lockback-SOFTWARE/x", "", 0o644)
			return []string{"disable", "Kelpline*", "--yes"}
		},
		"archive-mac": func(root string) []string {
			for k := range 6 {
				put(t, root, fmt.Sprintf("private/var/db/com.apple.xpc.launchd/.lockback-C1-%d/x", k), "", 0o644)
			}
			return []string{"disable", "org.kelpline*", "--yes"}
		},
	} {
		t.Run(machineName, func(t *testing.T) {
			p := museum(t, machineName)
			change := lay(p.Root)
			before := testkit.Tree(t, p.Root)
			p.OK(t, change...)
			p.OK(t, "undo", "--yes")
			if machineName != "ticket-desk-pc" { // a hive is written again
				testkit.Same(t, before, testkit.Tree(t, p.Root))
			}
		})
	}
}

// A name that was prepared and then exchanged by its person does not stop the recovery, and
// neither does anything else: at last a change can be given up.
func TestNothingStopsTheRecovery(t *testing.T) {
	t.Parallel()
	p := shared(t)
	auto := filepath.Join(p.Root, "home/ines/.config/autostart")
	point, killed := crash(t, p, 7, "disable", "Fogbell Sync", "Tide Chart", "tidewatch.service", "updater", "--yes")
	require.True(t, killed, point)
	there, err := os.ReadDir(auto)
	require.NoError(t, err)
	exchanged := 0
	for _, f := range there {
		if strings.HasPrefix(f.Name(), files.TempPrefix) {
			require.NoError(t, os.Remove(filepath.Join(auto, f.Name())))
			put(t, auto, f.Name()+"/x", "", 0o644)
			exchanged++
		}
	}
	require.NotZero(t, exchanged)
	p.OK(t, "recover", "--yes")
	p.OK(t, "disable", "Tide Chart", "--yes")

	// A folder that nothing can be made or removed in.
	testkit.Need(t, "chattr")
	cron := filepath.Join(p.Root, "etc/cron.d")
	_, killed = crash(t, p, 7, "disable", "updater", "Fogbell Sync", "tidewatch.service", "--yes")
	require.True(t, killed)
	if out, err := exec.Command("chattr", "+a", cron).CombinedOutput(); err == nil {
		defer exec.Command("chattr", "-a", cron).Run()
		if r := p.Run(t, "recover", "--yes"); r.Code != 0 {
			require.Equal(t, 6, r.Code, r.Err)
			require.Contains(t, r.Err, "recover --abandon")
			r = p.Run(t, "recover", "--abandon", "--yes")
			require.Zero(t, r.Code, r.Err)
			require.Contains(t, r.Err, "/etc/cron.d/kelpline: as ")
		}
		p.Fails(t, 1, "append-only", "disable", "updater", "--yes")
		require.NotContains(t, p.Run(t, "list").Err, "interrupted")
		require.Contains(t, p.OK(t, "history"), "abandoned")
	} else {
		t.Logf("no append-only folders here: %s", out)
	}
}

// overlay mounts the workshop box below an overlay, as a live system with a stick has it.
func TestOverlay(t *testing.T) {
	t.Parallel()
	p := shared(t)
	dir := t.TempDir()
	for _, d := range []string{"upper", "work", "root"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	disk := smallDisk(t, "16m")
	for _, d := range []string{"upper", "work"} {
		require.NoError(t, os.Mkdir(filepath.Join(disk, d), 0o755))
	}
	root := filepath.Join(dir, "root")
	if err := unix.Mount("overlay", root, "overlay", 0, "lowerdir="+p.Root+",upperdir="+disk+"/upper,workdir="+disk+
		"/work"); err != nil {
		t.Skipf("no overlayfs here: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(root, unix.MNT_DETACH) })
	p.Root = root
	before := testkit.Tree(t, root)
	p.OK(t, "snapshot")
	p.OK(t, everything...)
	p.OK(t, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, root))
	p.OK(t, "undo", "--yes")
	p.OK(t, "undo", "C1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, root))
}

// An upgrade of the system is not taken back.
func TestUpgradesStay(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	units, err := filepath.Glob(filepath.Join(p.Root, "usr/lib/systemd/system/*.service"))
	require.NoError(t, err)
	require.Greater(t, len(units), 3)
	for _, u := range units[1:] {
		f, err := os.OpenFile(u, os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		f.WriteString("# version 13\n")
		f.Close()
	}
	require.NoError(t, os.Remove(units[0]))
	put(t, p.Root, "etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 13 (trixie)\"\n", 0o644)
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	before := testkit.Tree(t, filepath.Join(p.Root, "usr"))
	var c struct{ Warnings []string }
	p.JSON(t, &c, "restore", "S1", "--yes")
	testkit.Same(t, before, testkit.Tree(t, filepath.Join(p.Root, "usr")))
	require.Contains(t, c.Warnings[0], "S1 was taken under another version of the system: on Debian GNU/Linux "+
		"12 (bookworm), and this is Debian GNU/Linux 13 (trixie) now")
	require.Contains(t, strings.Join(c.Warnings, "\n"), "--with-system-files")
	_, now := p.List(t)
	require.Equal(t, "enabled", now["Fogbell Sync/ines"].State)
	p.OK(t, "restore", "S1", "--with-system-files", "--yes")
	_, err = os.Stat(units[0])
	require.NoError(t, err)
	content, err := os.ReadFile(units[1])
	require.NoError(t, err)
	require.NotContains(t, string(content), "version 13")
}

// What people made where there was nothing stays, and so do lines between the entries'.
func TestWhatWasMadeSinceStays(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	own := put(t, p.Root, "home/bram/.config/autostart/kelpline-assistant.desktop",
		"[Desktop Entry]\nType=Application\nName=Kelpline of bram\nExec=/opt/kelpline/bin/assistant --mine\n", 0o644)
	for _, name := range []string{"assistant.desktop", "kelpline.desktop"} {
		if _, err := os.Stat(filepath.Join(p.Root, "etc/xdg/autostart", name)); err == nil {
			require.NoError(t, os.Rename(own, filepath.Join(filepath.Dir(own), name)))
			own = filepath.Join(filepath.Dir(own), name)
		}
	}
	unit := put(t, p.Root, "etc/systemd/system/kelpline-report.service",
		"[Service]\nExecStart=/opt/kelpline/bin/report --edited\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	tab := filepath.Join(p.Root, "etc/cron.d/kelpline")
	was, err := os.ReadFile(tab)
	require.NoError(t, err)
	p.OK(t, "disable", "updater", "--yes")
	now, err := os.ReadFile(tab)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(tab, []byte("# since the new backup\nMAILTO=ines\n"+string(now)+
		"PATH=/opt/new:/usr/bin\n7 7 * * * root /opt/new/job\n"), 0o644))
	before := testkit.Tree(t, p.Root)
	var c struct{ Warnings []string }
	p.JSON(t, &c, "restore", "S1", "--yes")
	words := strings.Join(c.Warnings, "\n")
	for _, w := range []string{`"MAILTO=ines" was added since`, `"PATH=/opt/new:/usr/bin" was added since`,
		"kelpline-report.service was made since, not by lockback"} {
		require.Contains(t, words, w)
	}
	content, err := os.ReadFile(tab)
	require.NoError(t, err)
	require.Equal(t, "# since the new backup\nMAILTO=ines\n"+string(was)+
		"PATH=/opt/new:/usr/bin\n7 7 * * * root /opt/new/job\n", string(content))
	for _, d := range testkit.Differences(before, testkit.Tree(t, p.Root)) {
		require.Contains(t, d, "etc/cron.d")
	}
	for _, file := range []string{own, unit} {
		_, err := os.Stat(file)
		require.NoError(t, err)
	}
}

// Nothing is taken away that could not be brought back.
func TestWhatCannotComeBackIsNotTakenAway(t *testing.T) {
	t.Parallel()
	for kind, lay := range map[string]func(string) error{
		"pipe":   func(name string) error { return unix.Mkfifo(name, 0o644) },
		"folder": func(name string) error { return os.Mkdir(name, 0o755) },
		"socket": func(name string) error { return unix.Mknod(name, unix.S_IFSOCK|0o600, 0) },
	} {
		p := museum(t, "archive-mac")
		plists, err := filepath.Glob(filepath.Join(p.Root, "Library/QuickLook/*/Contents/Info.plist"))
		require.NoError(t, err)
		require.NotEmpty(t, plists)
		require.NoError(t, os.Remove(plists[0]))
		require.NoError(t, lay(plists[0]), kind)
		before := testkit.Tree(t, p.Root)
		r := p.Run(t, "disable", "name=*", "--all", "--guarded", "--yes")
		require.Contains(t, []int{0, 1}, r.Code, r.Err)
		_, err = os.Lstat(plists[0])
		require.NoError(t, err, kind)
		p.OK(t, "undo", "--yes")
		testkit.Same(t, before, testkit.Tree(t, p.Root))
	}
}

// Times before and after what nanoseconds can count, and at zero.
func TestTimesOfAllAges(t *testing.T) {
	t.Parallel()
	for _, at := range []time.Time{time.Unix(0, 0), time.Unix(0, 1), time.Unix(-1, 999), time.Date(1902, 1, 1, 0, 0, 0,
		0, time.UTC), time.Date(2400, 5, 6, 7, 8, 9, 10, time.UTC)} {
		p := workshop(t)
		require.NoError(t, filepath.Walk(p.Root, func(name string, info os.FileInfo, err error) error {
			ts := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, {Sec: at.Unix(), Nsec: int64(at.Nanosecond())}}
			return unix.UtimesNanoAt(unix.AT_FDCWD, name, ts, unix.AT_SYMLINK_NOFOLLOW)
		}))
		picture := func() map[string]string { return agedTree(t, p.Root) }
		before := picture()
		p.OK(t, "snapshot")
		p.OK(t, "compare", "S1")
		p.OK(t, everything...)
		p.OK(t, "undo", "--yes")
		require.Empty(t, testkit.Changed(before, picture()), at.String())
		p.OK(t, everything...)
		p.OK(t, "restore", "S1", "--yes")
		require.Empty(t, testkit.Changed(before, picture()), at.String())
		require.Contains(t, p.Run(t, "restore", "S1", "--yes").Err, ": the machine is as in S1")
	}
}

// agedTree is a tree with times as seconds and nanoseconds.
func agedTree(t testing.TB, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.Walk(root, func(name string, _ os.FileInfo, err error) error {
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(name, &st))
		content := ""
		if st.Mode&unix.S_IFMT == unix.S_IFREG {
			b, err := os.ReadFile(name)
			require.NoError(t, err)
			content = string(b)
		}
		all[name] = fmt.Sprint(st.Mode, st.Uid, st.Mtim.Sec, st.Mtim.Nsec, content)
		return err
	}))
	return all
}

// inside puts the program into a root and runs it there, as on the running machine.
func inside(t testing.TB, p testkit.Program, prefix ...string) testkit.Program {
	t.Helper()
	bin := testkit.Built(t)
	// Another program writes it: a child that another test starts meanwhile would hold it open, and the kernel starts
	// no program that somebody may write.
	testkit.Shell(t, "install -D -m 755 "+bin+" "+p.Root+bin)
	return testkit.Program{Prefix: append(prefix, "chroot", p.Root), Store: "/var/lib/lockback/record.db"}
}

// Without /proc, as in a chroot into the patient's disk, nothing is lost: what cannot be
// known is refused.
func TestWithoutProc(t *testing.T) {
	t.Parallel()
	p := shared(t)
	tab := filepath.Join(p.Root, "etc/cron.d/kelpline")
	require.NoError(t, unix.Setxattr(tab, "user.origin", []byte("museum"), 0))
	live := inside(t, p)
	before := testkit.Tree(t, filepath.Join(p.Root, "etc"))
	live.OK(t, "disable", "updater", "--yes")
	live.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, filepath.Join(p.Root, "etc")))
	live.Fails(t, 1, "/proc is not mounted", "disable", "brinecast.service", "--yes")
	testkit.Same(t, before, testkit.Tree(t, filepath.Join(p.Root, "etc")))
}

// One person, or one damaged file, does not stop the rest of a restore.
func TestOnePersonStopsNobodyElse(t *testing.T) {
	t.Parallel()
	for name, line := range map[string]string{
		"a giant of their own": `truncate -s 17M home/ines/.config/autostart/fogbell-sync.desktop`,
		"a loop":               `mv home/ines/.config home/ines/c; ln -s .config home/ines/.config`,
		"a file":               `mv home/ines/.config home/ines/c; : > home/ines/.config`,
		"a pipe":               `mv home/ines/.config home/ines/c; mkfifo home/ines/.config`,
		"leads out":            `mv home/ines/.config/autostart home/ines/c; ln -s /etc home/ines/.config/autostart`,
		"an answer of /proc": `rm home/ines/.config/autostart/fogbell-sync.desktop; ln -s /proc/uptime ` +
			`home/ines/.config/autostart/fogbell-sync.desktop`,
		"the kernel's log": `rm home/ines/.config/autostart/fogbell-sync.desktop; ln -s /proc/kmsg ` +
			`home/ines/.config/autostart/fogbell-sync.desktop`,
	} {
		t.Run(name, func(t *testing.T) {
			p := shared(t)
			require.NoError(t, os.Mkdir(filepath.Join(p.Root, "proc"), 0o755))
			require.NoError(t, unix.Mount("proc", filepath.Join(p.Root, "proc"), "proc", 0, ""))
			t.Cleanup(func() { unix.Unmount(filepath.Join(p.Root, "proc"), unix.MNT_DETACH) })
			p.Prefix = []string{"timeout", "20"}
			p.OK(t, "snapshot")
			p.OK(t, "disable", "Fogbell Sync", "Tide Chart", "tidewatch.service", "updater", "--yes")
			as(t, 1000, "cd "+p.Root+"; "+line)
			r := p.Run(t, "restore", "S1", "--yes")
			require.Contains(t, []int{0, 1}, r.Code, r.Err)
			_, now := p.List(t)
			for _, entry := range []string{"Tide Chart/bram", "tidewatch.service", "updater"} {
				require.Equal(t, "enabled", now[entry].State, "%s: %s", entry, r.Err)
			}
			if r.Code == 1 {
				require.Contains(t, r.Err, "left out: ")
			}
		})
	}
}

// A bulk change leaves out what cannot be changed, names it, and does the rest.
func TestTheRestIsDone(t *testing.T) {
	t.Parallel()
	p := museum(t, "ticket-desk-pc")
	hive := filepath.Join(p.Root, "Users/odile/NTUSER.DAT")
	if _, err := os.Stat(hive); err != nil {
		hives, _ := filepath.Glob(filepath.Join(p.Root, "Users/*/NTUSER.DAT"))
		hive = hives[0]
	}
	content, err := os.ReadFile(hive)
	require.NoError(t, err)
	content[4]++ // its first number differs from its second: it was not closed, and has no log
	for k := 508; k < 512; k++ {
		content[k] ^= 0xff
	}
	require.NoError(t, os.WriteFile(hive, content, 0o644))
	r := p.Run(t, "disable", "state=enabled", "switch!=report", "--all", "--guarded", "--yes", "--format", "json")
	require.Contains(t, []int{0, 1}, r.Code, r.Err)
	var c struct{ Change string }
	require.NoError(t, json.Unmarshal([]byte(r.Out), &c))
	require.Equal(t, "C1", c.Change)
	p.OK(t, "undo", "--yes")
}

// A folder that lockback made, and in which others have put something since, stays.
func TestFoldersInUseStay(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	home := filepath.Join(p.Root, "home/bram")
	require.NoError(t, os.RemoveAll(filepath.Join(home, ".config")))
	disable := []string{"disable", "Kelpline Assistant", "--for", "bram", "--yes"}
	p.OK(t, disable...)
	put(t, home, ".config/gullrock.conf", "x", 0o644)
	require.Contains(t, p.OK(t, "undo", "--yes"), ".config was made by C1 and stays")
	_, err := os.Stat(filepath.Join(home, ".config/autostart"))
	require.ErrorIs(t, err, os.ErrNotExist)
	_, err = os.Stat(filepath.Join(home, ".config/gullrock.conf"))
	require.NoError(t, err)
	// And so does one in which something is put while the change is interrupted.
	require.NoError(t, os.RemoveAll(filepath.Join(home, ".config")))
	_, killed := crash(t, p, 5, disable...)
	require.True(t, killed)
	put(t, home, ".config/gullrock.conf", "x", 0o644)
	p.OK(t, "recover", "--yes")
	require.NotContains(t, p.Run(t, "list").Err, "interrupted")
}

// asking answers a question with yes, and does something first.
type asking struct{ first func() }

func (a asking) Read(b []byte) (int, error) {
	a.first()
	return copy(b, "y\n"), nil
}

// What a folder is exchanged for while a question waits is not opened.
func TestFolderBecomesAPipe(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	auto := filepath.Join(p.Root, "home/ines/.config/autostart")
	var out, errs strings.Builder
	done := make(chan int)
	go func() {
		done <- cli.Main([]string{"--root", p.Root, "--store", p.Store, "disable", "Fogbell Sync"},
			cli.Streams{Ask: true, Out: &out, Err: &errs, In: asking{func() {
				os.Rename(auto, auto+"-moved")
				unix.Mkfifo(auto, 0o644)
			}}})
	}()
	select {
	case code := <-done:
		require.NotZero(t, code, errs.String())
		require.NotContains(t, out.String(), "done")
	case <-time.After(3 * time.Minute):
		require.Fail(t, "it hangs")
	}
}

// Clones have one id. What is begun on one is not done to the other.
func TestChangesAreBoundToTheirMachine(t *testing.T) {
	t.Parallel()
	p, clone := workshop(t), workshop(t)
	put(t, clone.Root, "etc/hostname", "lamp-room\n", 0o644)
	clone.Store = p.Store
	_, killed := crash(t, p, 8, "disable", "Fogbell Sync", "tidewatch.service", "--yes")
	require.True(t, killed)
	before := testkit.Tree(t, clone.Root)
	clone.Fails(t, 2, "--this-is same, or --this-is other", "recover", "--yes")
	clone.Fails(t, 2, "was made elsewhere", "recover", "--yes", "--this-is", "same") // whoever says so may be wrong
	clone.Fails(t, 2, "was made elsewhere", "recover", "--finish", "--yes")
	testkit.Same(t, before, testkit.Tree(t, clone.Root))
	clone.OK(t, "disable", "Fogbell Sync", "--yes") // it does not wait for another's change
	// The same machine in another place is asked for by name.
	moved := p
	moved.Root = p.Root + "-moved"
	require.NoError(t, os.Rename(p.Root, moved.Root))
	moved.Fails(t, 2, `add --onto "workshop-box"`, "recover", "--yes")
	moved.OK(t, "recover", "--yes", "--onto", "workshop-box")
	// And a snapshot of another machine needs a name to be put onto.
	nameless := workshop(t)
	nameless.Store = p.Store
	setID(t, nameless, strings.Repeat("cd", 16)+"\n")
	require.NoError(t, os.Remove(filepath.Join(nameless.Root, "etc/hostname")))
	nameless.Fails(t, 2, "has no name", "restore", "S1", "--yes")
	nameless.Fails(t, 2, "has no name", "restore", "S1", "--onto", "", "--yes")
}

// Accounts that cannot be read are said, and nothing is written.
func TestWithoutAccounts(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	passwd := filepath.Join(p.Root, "etc/passwd")
	require.NoError(t, os.Rename(passwd, passwd+"-"))
	require.NoError(t, unix.Mkfifo(passwd, 0o644))
	list, _ := p.List(t)
	require.Contains(t, fmt.Sprint(list.Unread), "/etc/passwd")
	p.Fails(t, 1, "accounts cannot be read", "disable", "tidewatch.service", "--yes")
	// Many are no reason: the largest machines have hundreds of thousands.
	require.NoError(t, os.Remove(passwd))
	content, err := os.ReadFile(passwd + "-")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(passwd,
		append(content, []byte(strings.Repeat("daemon:x:2:2:daemon:/usr/sbin:/usr/sbin/nologin\n", 40000))...), 0o644))
	_, now := p.List(t)
	require.Contains(t, now, "Fogbell Sync/ines")
}

// Attributes have names of bytes.
func TestAttributeNames(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	file := filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop")
	for _, name := range []string{"user.\xff", "user.\"quoted\"", "user.plain", "user.\u202e"} {
		require.NoError(t, unix.Setxattr(file, name, []byte{0, 0xff}, 0))
	}
	before := testkit.Tree(t, p.Root)
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	p.OK(t, "snapshot")
	p.OK(t, "disable", "Fogbell Sync", "--yes")
	p.OK(t, "restore", "S3", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// A snapshot that is not complete is no snapshot.
func TestTooManyOpenFiles(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	whole, _ := p.List(t, "--all")
	for _, n := range []int{12, 14, 16, 18, 20, 24, 32, 64} {
		limited := p
		limited.Prefix = []string{"sh", "-c", fmt.Sprintf(`ulimit -n %d; exec "$@"`, n), "sh"}
		r := limited.Run(t, "snapshot", "--format", "json")
		var s struct{ Entries int }
		if r.Code == 0 {
			require.NoError(t, json.Unmarshal([]byte(r.Out), &s))
			require.Equal(t, len(whole.Entries), s.Entries, "limit %d", n)
		} else {
			require.Equal(t, 1, r.Code, r.Err)
		}
		if r := limited.Run(t, "list", "--all", "--format", "json"); r.Code == 0 {
			var l testkit.List
			require.NoError(t, json.Unmarshal([]byte(r.Out), &l))
			require.Len(t, l.Entries, len(whole.Entries), "limit %d", n)
		}
	}
}

// Other names of a file are said.
func TestHardLinks(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	file := filepath.Join(p.Root, "home/ines/.config/autostart/fogbell-sync.desktop")
	require.NoError(t, os.Link(file, filepath.Join(p.Root, "home/ines/kept.desktop")))
	require.Contains(t, p.OK(t, "disable", "Fogbell Sync", "--yes"), "is one of 2 names of the same file (hard links)")
}

// The small things at the end of the list.
func TestOutputs(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	nasty := "a\x7fb\u009bc\u202ed\U000e0041"
	put(t, p.Root, "etc/xdg/autostart/nasty.desktop", "[Desktop Entry]\nType=Application\nName="+nasty+
		"\nExec=/opt/x;=1+1\n", 0o644)
	put(t, p.Root, "etc/xdg/autostart/wide.desktop", "[Desktop Entry]\nType=Application\nName=\uff1d1+1\nExec=/opt/y\n",
		0o644)
	out := p.OK(t, "list", "--format", "json")
	_, now := p.List(t)
	require.Contains(t, now, nasty, "it means the same")
	for _, bad := range []string{"\x7f", "\u009b", "\u202e", "\U000e0041"} {
		require.NotContains(t, out, bad)
		require.NotContains(t, p.OK(t, "show", now[nasty].Handle, "--format", "json"), bad)
	}
	csv := p.OK(t, "list", "--format", "csv")
	require.Contains(t, csv, "/opt/x;'=1+1")
	require.Contains(t, csv, "'\uff1d1+1")
	for _, format := range []string{"table", "json", "csv"} {
		full := p
		full.Prefix = []string{"sh", "-c", `exec "$@" > /dev/full`, "sh"}
		full.Fails(t, 1, "no space left on device", "list", "--format", format)
	}
}

// Of several entries, one that cannot be turned on does not keep the others off.
func TestEnableTheRest(t *testing.T) {
	t.Parallel()
	p := museum(t, "ticket-desk-pc")
	r := p.Run(t, "enable", "state=disabled", "--yes", "--format", "json")
	var c struct{ Change string }
	require.NoError(t, json.Unmarshal([]byte(r.Out), &c), r.Err)
	require.NotEmpty(t, c.Change)
	list, _ := p.List(t, "state=disabled")
	for _, e := range list.Entries {
		require.True(t, e.Switch == "report" || strings.Contains(r.Err, e.Handle),
			"%s was neither switched nor named: %s", e.Name, r.Err)
	}
}

// One person's files take no more than their share of the record.
func TestWhatIsRecordedOfHomesIsBounded(t *testing.T) {
	t.Parallel()
	p := shared(t)
	as(t, 1000, "cd "+p.Root+
		"/home/ines/.config/systemd/user; for k in $(seq 120); do truncate -s 16M u$k.service; done")
	p.Prefix = []string{"sh", "-c", `ulimit -v 3000000; exec "$@"`, "sh"}
	r := p.Run(t, "snapshot")
	require.Contains(t, []int{0, 1}, r.Code, r.Err)
	info, err := os.Stat(p.Store)
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(4<<20))
	p.OK(t, "disable", "tidewatch.service", "--yes")
}

// A property list that a person exchanges for a link to another one is not followed.
func TestLinkedListsOnAMac(t *testing.T) {
	t.Parallel()
	p := museum(t, "archive-mac")
	agents := filepath.Join(p.Root, "Users/jonas/Library/LaunchAgents")
	require.NoError(t, os.MkdirAll(agents, 0o755))
	secret, err := plist.New(map[string]any{"Label": "org.secret", "ProgramArguments": []any{"/bin/x"},
		"RunAtLoad": true}).Bytes()
	require.NoError(t, err)
	put(t, p.Root, "private/etc/secret.plist", string(secret), 0o600)
	require.NoError(t, os.Symlink("/private/etc/secret.plist", filepath.Join(agents, "org.secret.plist")))
	p.Run(t, "snapshot")
	require.False(t, recorded(t, p.Store, "/private/etc/secret.plist"))
	put(t, p.Root, "private/etc/secret.plist", "changed", 0o600)
	p.Run(t, "restore", "S1", "--yes")
	content, err := os.ReadFile(filepath.Join(p.Root, "private/etc/secret.plist"))
	require.NoError(t, err)
	require.Equal(t, "changed", string(content))
}

// For every location of every system: each file and folder of a person that decides one of
// their entries is exchanged for a link to a place of the system. Nothing is written there.
func TestTrapsInEveryPlace(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "other people's files")
	for name, homes := range map[string]string{"workshop-box": "/home/", "ticket-desk-pc": `C:\Users\`,
		"archive-mac": "/Users/"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			original := museum(t, name)
			if name == "workshop-box" {
				put(t, original.Root, "usr/sbin/sshd", "", 0o755)
				put(t, original.Root, "home/ines/.ssh/rc", "echo\n", 0o600)
				require.NoError(t, exec.Command("chown", "-R", "1000:1000", filepath.Join(original.Root,
					"home/ines/.ssh")).Run())
			}
			list, _ := original.List(t, "--all", "user=*")
			show := []string{"show"}
			for _, e := range list.Entries {
				show = append(show, e.Handle)
			}
			var shown struct {
				Entries []struct {
					Entry     struct{ User string }
					Artifacts []struct{ Artifact string }
				}
			}
			original.JSON(t, &shown, show...)
			require.Len(t, shown.Entries, len(list.Entries))
			places := map[string]string{} // what is exchanged, to its person
			for _, e := range shown.Entries {
				for _, a := range e.Artifacts {
					rest, ok := strings.CutPrefix(a.Artifact, homes)
					if !ok || e.Entry.User == "" {
						continue
					}
					parts := strings.FieldsFunc(rest, func(r rune) bool { return r == '/' || r == '\\' })
					for k := 2; k <= len(parts); k++ {
						place := filepath.Join(strings.ReplaceAll(strings.TrimPrefix(homes, "C:"), `\`, "/"),
							filepath.Join(parts[:k]...))
						if _, err := os.Lstat(filepath.Join(original.Root, place)); err == nil {
							places[place] = e.Entry.User
						}
					}
				}
			}
			require.Greater(t, len(places), 5)
			for _, place := range draw.Some(t, slices.Sorted(maps.Keys(places)), 6) {
				t.Run(place, func(t *testing.T) {
					t.Parallel()
					person := places[place]
					p := moved(t, original, filepath.Join(t.TempDir(), "copy"))
					p.Run(t, "snapshot")
					p.Run(t, "disable", "user="+person, "--guarded", "--yes")
					trap := filepath.Join(p.Root, "trap")
					require.NoError(t, os.Mkdir(trap, 0o755))
					// it is parked
					if err := os.Rename(filepath.Join(p.Root, place), filepath.Join(trap, "it")); err != nil {
						testkit.Copy(t, filepath.Join(original.Root, place), filepath.Join(trap, "it"))
					}
					require.NoError(t, os.Symlink("/trap/it", filepath.Join(p.Root, place)))
					before := testkit.Tree(t, trap)
					p.Run(t, "restore", "S1", "--yes")
					p.Run(t, "undo", "--yes")
					p.Run(t, "enable", "user="+person, "--yes")
					p.Run(t, "disable", "user="+person, "--guarded", "--yes")
					p.Run(t, "restore", "S1", "--yes")
					p.Run(t, "snapshot")
					require.Empty(t, testkit.Differences(before, testkit.Tree(t, trap)))
				})
			}
		})
	}
}

// keyTimes are the times of all keys of a disk, as reglookup reads them.
func keyTimes(t testing.TB, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, hive := range testkit.Hives(t, root) {
		out, err := exec.Command("reglookup", "-H", "-t", "KEY", hive).Output()
		require.NoError(t, err)
		for line := range strings.Lines(string(out)) {
			if f := strings.Split(strings.TrimSpace(line), ","); len(f) > 3 {
				all[filepath.Base(hive)+f[0]] = f[3]
			}
		}
	}
	return all
}

// An undo that is killed, and taken back, leaves the times of keys and folders as they were,
// those of keys that were made again included.
func TestTimesAfterAKilledUndo(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "reglookup")
	p := settled(t, museum(t, "ticket-desk-pc"))
	p.OK(t, "snapshot")
	p.OK(t, "disable", "state=enabled", "switch!=report", "--all", "--guarded", "--yes")
	off := keyTimes(t, p.Root)
	require.Greater(t, len(off), 100)
	for _, back := range [][]string{{"undo", "--yes"}, {"restore", "S3", "--yes"}} {
		for _, w := range wrecks(t, p, 6, back...) {
			t.Run(back[0]+" "+w.point, func(t *testing.T) {
				t.Parallel()
				w.OK(t, "recover", "--yes")
				require.Empty(t, testkit.Changed(off, keyTimes(t, w.Root)))
			})
		}
	}
}

// A bundle that an administrator of a Mac dragged to its place stays theirs, and can be
// switched all the same; one in which somebody else owns a folder cannot.
func TestBundlesOfPeople(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "giving files away")
	p := museum(t, "archive-mac")
	bundles, err := filepath.Glob(filepath.Join(p.Root, "Library/QuickLook/*/Contents"))
	require.NoError(t, err)
	require.NotEmpty(t, bundles)
	bundle := filepath.Dir(bundles[0])
	require.NoError(t, exec.Command("chown", "-R", "501:20", bundle).Run())
	list, _ := p.List(t, "--all")
	handle := ""
	for _, e := range list.Entries {
		if strings.HasPrefix(e.Source.Path, "/Library/QuickLook/"+filepath.Base(bundle)) {
			handle = e.Handle
		}
	}
	before := testkit.Tree(t, p.Root)
	p.OK(t, "disable", handle, "--guarded", "--yes")
	p.OK(t, "undo", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	require.NoError(t, os.Chown(bundles[0], 502, 20))
	p.Fails(t, 1, "belongs to the user with the id 502", "disable", handle, "--guarded", "--yes")
}

// A list of what is on and off that came since is a state, and no file of somebody's.
func TestListsMadeSinceAreStates(t *testing.T) {
	t.Parallel()
	p := museum(t, "archive-mac")
	lists, err := filepath.Glob(filepath.Join(p.Root, "private/var/db/com.apple.xpc.launchd/disabled.*"))
	require.NoError(t, err)
	for _, l := range lists {
		require.NoError(t, os.Remove(l))
	}
	p.OK(t, "snapshot")
	other := p
	other.Store = filepath.Join(t.TempDir(), "other.db")
	other.OK(t, "disable", "org.fogbell.sync", "--for", "mirela", "--yes")
	_, now := p.List(t)
	require.Equal(t, "disabled", now["org.fogbell.sync/mirela"].State)
	p.OK(t, "restore", "S1", "--yes")
	_, now = p.List(t)
	require.Equal(t, "enabled", now["org.fogbell.sync/mirela"].State)
}
