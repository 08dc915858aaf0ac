//go:build linux

package files_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
	"lockback/internal/testkit"
)

// bench makes a small root with traps in it, and a secret outside.
func bench(t *testing.T) (*machine.Machine, string) {
	t.Helper()
	dir := t.TempDir()
	root := filepath.Join(dir, "root")
	for name, content := range map[string]string{
		"root/etc/os-release": "PRETTY_NAME='Gullrock Linux'\n",
		"root/etc/passwd": "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\nlow:x:7:7::/x:/x\nbad " +
			"line\nines:x:1:1::/again:/x\n" +
			"relative:x:1001:1001::home:/x\nnobody:x:65534:65534::/none:/x\n",
		"root/etc/machine-id":       "0123456789abcdef0123456789abcdef\n",
		"root/real/file":            "inside",
		"root/home/ines/.config/x":  "hers",
		"secret":                    "outside",
		"root/same/as/outside/file": "inside again",
	} {
		name = filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
	}
	for name, target := range map[string]string{
		"absolute": "/real/file", "relative": "real/file", "up": "../../../../../../real/file", "dir": "/real",
		"out": "../secret", "out-absolute": filepath.Join(dir, "secret"), "loop": "loop", "a": "b", "b": "a",
		"nothing": "/no/such/thing", "home/ines/leads-out": "/etc", "home/ines/stays": ".config", "etc/root": "/",
	} {
		require.NoError(t, os.Symlink(target, filepath.Join(root, name)))
	}
	require.NoError(t, unix.Mkfifo(filepath.Join(root, "pipe"), 0o644))
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	return m, dir
}

// A file of exactly the largest size is read, by every way of reading, and recorded; one byte more
// is too much.
func TestExactBounds(t *testing.T) {
	t.Parallel()
	m, dir := bench(t)
	for k := range 9 { // so many that the folder is kept open once it is listed
		require.NoError(t, os.WriteFile(filepath.Join(dir, "root/real", strconv.Itoa(k)), nil, 0o644))
	}
	read := func(way string) {
		b, err := m.ReadFile("/real/file", 6)
		require.NoError(t, err, way)
		require.Equal(t, "inside", string(b), way)
		_, err = m.ReadFile("/real/file", 5)
		require.ErrorIs(t, err, files.ErrTooLarge, way)
	}
	files.WithoutDirect(true, func() { read("folder by folder") })
	read("in one call")
	_, err := m.ReadDir("/real")
	require.NoError(t, err)
	read("in an open folder")
	const name = "/home/ines/large"
	for size, want := range map[int]error{files.MaxHomeImage: nil, files.MaxHomeImage + 1: files.ErrTooLarge} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "root", name), make([]byte, size), 0o644))
		i, err := m.Image(artifact.File(name))
		require.ErrorIs(t, err, want)
		require.True(t, want != nil || len(i.Content) == size)
	}
}

// One table of traps for every way of reading.
func TestTraps(t *testing.T) {
	t.Parallel()
	m, _ := bench(t)
	for name, want := range map[string]string{
		"/real/file": "inside", "/absolute": "inside", "/relative": "inside", "/up": "inside", "/dir/file": "inside",
		"/dir/../real/./file": "inside", "/etc/root/real/file": "inside", "/home/ines/stays/x": "hers",
	} {
		b, err := m.ReadFile(name, 100)
		require.NoError(t, err, name)
		require.Equal(t, want, string(b), name)
		_, err = m.Stat(name)
		require.NoError(t, err, name)
	}
	for name, want := range map[string]error{
		"/out": fs.ErrNotExist, "/out-absolute": fs.ErrNotExist, "/nothing": fs.ErrNotExist, "/loop": unix.ELOOP,
		"/a":      unix.ELOOP,
		"/loop/x": unix.ELOOP, "/pipe": files.ErrNotRegular, "/real": files.ErrNotRegular, "/": files.ErrNotRegular,
		"/real/file/x": unix.ENOTDIR, "/" + strings.Repeat("../", 50) + "secret": fs.ErrNotExist,
	} {
		_, err := m.ReadFile(name, 100)
		require.ErrorIs(t, err, want, name)
	}
	_, err := m.ReadFile("real/file", 100)
	require.Error(t, err)
	_, err = m.ReadFile("/real/file", 3)
	require.ErrorIs(t, err, files.ErrTooLarge)
	_, err = m.ReadDir("/loop")
	require.ErrorIs(t, err, unix.ELOOP)
	for name, kind := range map[string]artifact.ImageKind{
		"/real/file": artifact.Regular, "/absolute": artifact.Symlink, "/real": artifact.Folder,
		"/pipe":    artifact.Special,
		"/no/such": artifact.Absent, "/real/file/x": artifact.Absent, "/": artifact.Folder, "/loop": artifact.Symlink,
	} {
		i, err := m.Image(artifact.File(name))
		require.NoError(t, err, name)
		require.Equal(t, kind, i.Kind, name)
	}
}

func TestIdentity(t *testing.T) {
	t.Parallel()
	m, _ := bench(t)
	require.Equal(t, "0123456789abcdef0123456789abcdef", m.ID)
	require.Equal(t, "Gullrock Linux", m.Version)
	var names []string
	for _, u := range m.Users {
		names = append(names, u.Name)
	}
	require.Equal(t, []string{"root", "ines"}, names)
	_, err := machine.Open(filepath.Join(m.Root, "real"))
	require.ErrorIs(t, err, machine.ErrNoSystem)
}

// Every kind of image can be set over every other and reads back the same.
func TestSetAndReadBack(t *testing.T) {
	t.Parallel()
	m, _ := bench(t)
	now := time.Date(2026, 3, 14, 9, 26, 54, 0, time.UTC)
	uid, gid := os.Getuid(), os.Getgid()
	images := map[string]artifact.Image{
		"absent":     {Kind: artifact.Absent},
		"file":       artifact.NewFile([]byte("content"), 0o640, uid, gid, now),
		"executable": artifact.NewFile([]byte("content"), 0o4755|fs.ModeSetuid, uid, gid, now),
		"empty":      artifact.NewFile(nil, 0o600, uid, gid, now.Add(time.Hour)),
		"link":       artifact.NewLink("/nowhere/\xff", uid, gid, now),
	}
	delete(images, "executable")
	images["executable"] = artifact.NewFile([]byte("content"), 0o755|fs.ModeSetuid, uid, gid, now)
	a := artifact.File("/real/target")
	for from, before := range images {
		for to, after := range images {
			require.NoError(t, m.Set(a, before, "t1"))
			require.NoError(t, m.Prepare(a, after, "t2"))
			require.NoError(t, m.Set(a, after, "t2"))
			have, err := m.Image(a)
			require.NoError(t, err)
			require.True(t, have.Same(after), "%s to %s: %v", from, to, have)
		}
	}
	require.NoError(t, m.Prepare(a, images["file"], "t3"))
	require.NoError(t, m.Discard(a, "t3", ""))
	require.NoError(t, m.Discard(a, "t3", ""))
	entries, err := m.ReadDir("/real")
	require.NoError(t, err)
	for _, e := range entries {
		require.False(t, strings.HasPrefix(e.Name(), files.TempPrefix))
	}
	require.Error(t, m.Set(artifact.File("/real"), images["file"], "t")) // a folder is never replaced
	require.Error(t, m.Set(artifact.File("/"), images["absent"], "t"))
}

// One table of traps for every way of recording and writing, with the quick way of opening
// and without.
func TestTrapsOfWriting(t *testing.T) {
	t.Parallel()
	for _, without := range []bool{false, true} {
		files.WithoutDirect(without, func() { trapsOfWriting(t) })
	}
}

func trapsOfWriting(t *testing.T) {
	m, dir := bench(t)
	root := filepath.Join(dir, "root")
	ines := func(name string) string {
		if os.Geteuid() == 0 {
			require.NoError(t, os.Lchown(filepath.Join(root, name), 1000, 1000))
		}
		return "/" + name
	}
	link := func(target, name string) string {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.Symlink(target, filepath.Join(root, name)))
		return ines(name)
	}
	for _, d := range []string{"home/ines", "home/ines/.config", "tmp", "tmp/d", "open"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	ines("home/ines")
	ines("home/ines/.config")
	ines("tmp/d")
	require.NoError(t, os.Chmod(filepath.Join(root, "open"), 0o777))
	require.NoError(t, os.Symlink("/etc", filepath.Join(root, "open/etc")))
	require.NoError(t, unix.Mkfifo(filepath.Join(root, "home/ines/pipe"), 0o644))
	file := artifact.NewFile([]byte("x"), 0o644, os.Getuid(), os.Getgid(), time.Now())
	folder := artifact.NewFolder(0o755, os.Getuid(), os.Getgid())
	asRoot := os.Geteuid() == 0
	for _, c := range []struct {
		name string
		want error // nil: anything but success
		root bool  // only where owners differ
	}{
		{link("/etc", "home/ines/to-etc") + "/x", files.ErrLeadsOut, false},
		{link("/home/ines/to-etc", "home/ines/chain") + "/x", files.ErrLeadsOut, false},
		{link("../../../etc", "home/ines/.config/up") + "/x", files.ErrLeadsOut, false},
		{link("/home", "home/ines/all") + "/other/x", files.ErrLeadsOut, false},
		{link("loop", "home/ines/loop") + "/x", unix.ELOOP, false},
		{"/home/ines/pipe/x", nil, false},
		{"/open/etc/x", files.ErrForeignFolder, false}, // anyone could have placed it
		{link("/etc", "tmp/etc") + "/x", files.ErrForeignFolder, true},
		{"/tmp/d/x", files.ErrForeignFolder, true},
		{link("/tmp/d", "home/ines/.config/d") + "/x", files.ErrLeadsOut, false},
	} {
		if c.root && !asRoot {
			continue
		}
		before := testkit.Tree(t, root)
		a := artifact.File(c.name)
		for what, err := range map[string]error{
			"Set": m.Set(a, file, "t"), "Prepare": m.Prepare(a, file, "t"), "a folder": m.Set(a, folder, "t"),
			"Writable": m.Writable(a, artifact.Image{Kind: artifact.Absent}, file),
		} {
			if what == "Writable" && c.want == nil {
				continue // the folder above it is writable; that it is none is said by Room
			}
			require.Error(t, err, "%s %s", what, c.name)
			if c.want != nil {
				require.ErrorIs(t, err, c.want, "%s %s", what, c.name)
			}
		}
		m.Discard(a, "t", "")
		m.RestoreTime(a, folder)
		m.FlushFolder(a)
		m.Links(a)
		i, err := m.Image(a)
		require.True(t, err != nil || i.Kind == artifact.Absent, c.name)
		testkit.Same(t, before, testkit.Tree(t, root))
	}
	require.Error(t, m.Room(artifact.File("/home/ines/pipe/x")))
	// What is the system's own, or stays in the home, can be written.
	for _, name := range []string{"/dir/z", "/home/ines/stays/y", "/home/ines/.config/z"} {
		require.NoError(t, m.Set(artifact.File(name), file, "t"), name)
		require.NoError(t, m.Room(artifact.File(name)))
		i, err := m.Image(artifact.File(name))
		require.NoError(t, err)
		require.Equal(t, "x", string(i.Content))
	}
}

func TestWritesStayInTheHome(t *testing.T) {
	t.Parallel()
	m, _ := bench(t)
	file := artifact.NewFile([]byte("x"), 0o644, os.Getuid(), os.Getgid(), time.Now())
	err := m.Set(artifact.File("/home/ines/leads-out/evil"), file, "t")
	require.ErrorIs(t, err, files.ErrLeadsOut)
	require.ErrorIs(t, m.Writable(artifact.File("/home/ines/leads-out/evil"), artifact.Image{Kind: artifact.Absent},
		file), files.ErrLeadsOut)
	require.NoError(t, m.Set(artifact.File("/home/ines/stays/y"), file, "t"))
	require.NoError(t, m.Set(artifact.File("/dir/z"), file, "t")) // the system's own links are its own affair
	_, err = m.Lstat("/real/z")
	require.NoError(t, err)
}

func FuzzResolve(f *testing.F) {
	dir := f.TempDir()
	for _, name := range []string{"etc/os-release", "a/b/c"} {
		os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755)
		os.WriteFile(filepath.Join(dir, name), nil, 0o644)
	}
	f.Add("/a/../b", "../../x")
	f.Fuzz(func(t *testing.T, name, target string) {
		m, err := machine.Open(dir)
		require.NoError(t, err)
		defer m.Close()
		link := filepath.Join(dir, "a", "link")
		os.Remove(link)
		if os.Symlink(target, link) != nil {
			return
		}
		for _, n := range []string{name, "/a/link", "/a/link/" + name} {
			full, err := m.Resolve(n)
			if err == nil {
				require.True(t, strings.HasPrefix(full, "/") && !strings.Contains(full+"/", "/../"), full)
			}
			if b, err := m.ReadFile(n, 1<<16); err == nil {
				require.Empty(t, b) // every file inside is empty
			} else if errors.Is(err, fs.ErrInvalid) {
				continue
			}
		}
	})
}

// One table of paths is read directly and folder by folder, and both agree.
func TestDirectAgrees(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	place := func(name string, make func(file string) error) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, make(file))
	}
	for name, content := range map[string]string{"a/b/c/file": "content", "many/1": "", "many/2": "", "many/3": "",
		"many/4": "", "many/5": "", "many/6": "",
		"many/7": "", "many/8": "", "many/9": "nine"} {
		place(name, func(file string) error { return os.WriteFile(file, []byte(content), 0o644) })
	}
	for name, target := range map[string]string{"a/link": "b", "a/out": "../../../../../../etc", "a/loop": "loop",
		"a/b/abs": "/a/b/c/file", "a/b/dangling": "nowhere", "many/link": "9"} {
		place(name, func(file string) error { return os.Symlink(target, file) })
	}
	require.NoError(t, unix.Mkfifo(filepath.Join(root, "a/pipe"), 0o644))
	type seen struct {
		content, stat, list string
	}
	look := func(m *files.Files, name string) (s seen) {
		word := func(err error) string {
			switch {
			case err == nil:
				return ""
			case files.IsMissing(err):
				return "missing"
			case errors.Is(err, files.ErrNotRegular):
				return "not regular"
			}
			return "error"
		}
		b, err := m.ReadFile(name, 100)
		s.content = string(b) + word(err)
		info, err := m.Stat(name)
		if s.stat = word(err); err == nil {
			s.stat = info.Mode().String() + strings.Trim(info.Name(), "./") + info.ModTime().UTC().String()
		}
		entries, err := m.ReadDir(name)
		s.list = word(err)
		for _, e := range entries {
			s.list += " " + e.Name() + e.Type().String()
		}
		return s
	}
	results := map[bool]map[string]seen{}
	for _, slow := range []bool{true, false} {
		files.WithoutDirect(slow, func() {
			m, err := files.Open(root, false)
			require.NoError(t, err)
			defer m.Close()
			m.SetNaming(mac.Names)
			_, err = m.ReadDir("/many") // it is kept open from here on
			require.NoError(t, err)
			results[slow] = map[string]seen{}
			for _, name := range []string{"/", "/a/b/c/file", "/a/b/c", "/a/link/c/file", "/a/link", "/a/out/passwd",
				"/a/loop", "/a/b/abs", "/a/b/dangling", "/a/pipe", "/none", "/a/none/x", "/a/b/c/file/x", "/A/B/C/FILE",
				"/a/../a/b", "/many/9", "/many/link", "/many/none", "/many", "relative"} {
				results[slow][name] = look(m, name)
			}
		})
	}
	require.Equal(t, results[true], results[false])
	require.Equal(t, "content", results[false]["/a/b/abs"].content)
	require.Equal(t, "missing", results[false]["/a/out/passwd"].content)
	require.Equal(t, "not regular", results[false]["/a/pipe"].content)
}
