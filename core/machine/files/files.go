// Package files is the file system of one machine, running or on a mounted disk: names are those of the machine itself,
// and no link in it leads out of its root. Writing is held to more than that, see [Files.Reach].
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"lockback/core/machine/artifact"
)

// Files is the file system of one machine. Names are absolute slash paths as
// the machine itself uses them. Links are followed inside the root: an absolute
// target starts at the root again, and ".." at the root stays there, as the
// machine's own kernel would do it. No call follows anything out of the root: every
// access goes through an opened folder below it ([os.Root] on Windows, openat(2)
// elsewhere). What may be recorded and written is a narrower question, see [Files.Reach].
//
// Reading does not change access times where the system lets us say so (Linux,
// for the owner and for root).
//
// Files may be used by several goroutines at once.
type Files struct {
	dir   string
	live  bool
	root  *folder
	homes []Home
	// topOwner is the id of who owns the top of the files, firstPerson the lowest id of a
	// person.
	topOwner, firstPerson int

	names  Naming
	drives *drives // of a running Windows; nil elsewhere

	homeMu      sync.Mutex
	homeFolders map[string]home // see homesByPath; nil until they are asked for

	mu        sync.Mutex
	reaches   map[string]reached           // a folder's path, to where it leads, see Reach
	plain     map[string]string            // a folder's path, to the same folder's path without links
	folders   map[string]*folder           // opened folders, by path without links
	listed    map[string]map[string]string // of a machine that folds names: a folder's names, folded
	canonical map[string]string            // a path, to the case that the disk has
}

// The bounds that keep hostile disks from running us out of memory and time.
const (
	MaxFileSize  = 1 << 20  // the largest configuration file that is understood, in bytes
	MaxImageSize = 16 << 20 // the largest file that is recorded and brought back
	// the largest that is recorded of what lies in a home: its person could fill memory and record
	MaxHomeImage = 1 << 20
	maxLinks     = 40  // as the kernel's own bound, path_resolution(7)
	maxFolders   = 256 // folders kept open, at most a quarter of what the system allows
)

// ranOut is set once the system gave no more open files.
var ranOut atomic.Bool

// ErrRanOut says that something was not read because the system gave no more open files:
// what was found is not all there is.
var ErrRanOut = errors.New("too many open files: the system gives this program no more, so not everything could be " +
	"read; raise the limit (ulimit -n) and try again")

// RanOut returns [ErrRanOut] where that has happened since the program started.
func RanOut() error {
	if ranOut.Load() {
		return ErrRanOut
	}
	return nil
}

// Errors that callers decide on.
var (
	ErrTooLarge   = errors.New("file is too large")
	ErrNotRegular = errors.New("not a regular file")
	ErrLeadsOut   = errors.New("a link leads out of the home folder")
	ErrFrozen     = errors.New("it is protected from changes by its flags")
)

// LowestPerson is the lowest user id that any system gives to people, as macOS does; below are root and the accounts of
// services.
const LowestPerson = 501

// Open opens the file system that begins at a folder. A live one is that of the machine on which this program runs.
func Open(dir string, live bool) (*Files, error) {
	root, err := openTop(dir)
	if err != nil {
		return nil, err
	}
	info, err := root.stat()
	if err != nil {
		root.close()
		return nil, err
	}
	f := &Files{dir: dir, live: live, root: root, plain: map[string]string{"/": "/"}, folders: map[string]*folder{},
		names: PlainNames{}, listed: map[string]map[string]string{}, canonical: map[string]string{},
		reaches: map[string]reached{}, firstPerson: LowestPerson}
	f.topOwner, _ = Owner(info)
	return f, nil
}

// Home is where a person's own files are.
type Home struct {
	Path string // as the machine names it
	UID  int    // of the person
}

// SetHomes says where people's own files are, within which their links must stay.
func (f *Files) SetHomes(homes []Home) {
	f.homeMu.Lock()
	defer f.homeMu.Unlock()
	f.homes, f.homeFolders = homes, nil
}

// SetFirstPerson says which is the lowest user id of a person.
func (f *Files) SetFirstPerson(uid int) { f.firstPerson = uid }

// FirstPerson is the lowest user id of a person.
func (f *Files) FirstPerson() int { return f.firstPerson }

// SetNaming says how the machine names its files.
func (f *Files) SetNaming(n Naming) { f.names = n }

// Naming is how the machine names its files.
func (f *Files) Naming() Naming { return f.names }

// SetDrives has the drives of a running Windows looked at, beside the machine's own: open opens one by its letter, and
// returns nil if the drive is not built in.
func (f *Files) SetDrives(open func(letter byte) *Files) { f.drives = &drives{open: open} }

// Live reports whether the files are those of the machine on which this program runs.
func (f *Files) Live() bool { return f.live }

// Close releases the folders that are held open.
func (f *Files) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, r := range f.folders {
		r.close()
	}
	f.folders = map[string]*folder{}
	f.drives.close()
	f.root.close()
	return nil
}

// relative turns an absolute path of the machine into one that os.Root takes.
func relative(name string) string {
	if name == "/" {
		return "."
	}
	return filepath.FromSlash(strings.TrimPrefix(name, "/"))
}

// Resolve follows every link in the path and returns the path without links. A
// last element that does not exist is kept.
func (f *Files) Resolve(name string) (string, error) {
	return f.resolve(name, true)
}

// ResolveFolder follows every link in the path but one that the last element is.
func (f *Files) ResolveFolder(name string) (string, error) {
	return f.resolve(name, false)
}

func (f *Files) resolve(name string, last bool) (string, error) {
	name, err := f.names.Local(f, name)
	if err != nil {
		return "", err
	}
	if !path.IsAbs(name) {
		return "", &fs.PathError{Op: "open", Path: name, Err: errors.New("not an absolute path")}
	}
	name = path.Clean(name)
	dir, base := path.Split(name)
	if base == "" {
		return "/", nil
	}
	for links := 0; ; links++ {
		parent, err := f.resolveDir(path.Clean(dir), &links)
		if err != nil {
			return "", err
		}
		full := join(parent, base)
		if !last && !f.names.Folds() {
			return full, nil
		}
		kind, found, err := f.typeNamed(parent, base)
		full = join(parent, found)
		if !last {
			return full, nil
		}
		if errors.Is(err, fs.ErrNotExist) {
			return full, nil
		}
		if err != nil {
			return "", err
		}
		if kind&fs.ModeSymlink == 0 {
			return full, nil
		}
		if links > maxLinks {
			return "", &fs.PathError{Op: "open", Path: name, Err: syscall.ELOOP}
		}
		target, err := f.readlinkIn(parent, found)
		if err != nil {
			return "", err
		}
		if target, err = f.linked(parent, target); err != nil {
			return "", err
		}
		dir, base = path.Split(target)
		if base == "" {
			return "/", nil
		}
	}
}

// join is path.Join for a clean folder and a single name.
func join(dir, base string) string {
	if dir == "/" {
		return "/" + base
	}
	return dir + "/" + base
}

// resolveDir returns the path without links of a folder, from memory where it
// was asked before. While links change under us the memory may be stale; the
// access itself is then still held inside the root by os.Root.
func (f *Files) resolveDir(dir string, links *int) (string, error) {
	f.mu.Lock()
	known, ok := f.plain[dir]
	f.mu.Unlock()
	if ok {
		return known, nil
	}
	parent, err := f.resolveDir(path.Dir(dir), links)
	if err != nil {
		return "", err
	}
	kind, base, err := f.typeNamed(parent, path.Base(dir))
	if err != nil {
		return "", err
	}
	full := join(parent, base)
	switch {
	case kind&fs.ModeSymlink != 0:
		if *links++; *links > maxLinks {
			return "", &fs.PathError{Op: "open", Path: dir, Err: syscall.ELOOP}
		}
		target, err := f.readlinkIn(parent, base)
		if err != nil {
			return "", err
		}
		if target, err = f.linked(parent, target); err != nil {
			return "", err
		}
		if full, err = f.resolveDir(target, links); err != nil {
			return "", err
		}
	case !kind.IsDir():
		return "", &fs.PathError{Op: "open", Path: dir, Err: syscall.ENOTDIR}
	}
	f.mu.Lock()
	f.plain[dir] = full
	f.mu.Unlock()
	return full, nil
}

// Forget drops what is remembered of folders, after one was made or removed.
func (f *Files) Forget() {
	f.homeMu.Lock()
	f.homeFolders = nil
	f.homeMu.Unlock()
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, r := range f.folders {
		r.close()
	}
	f.plain, f.folders = map[string]string{"/": "/"}, map[string]*folder{}
	f.reaches = map[string]reached{}
	clear(f.listed)
	clear(f.canonical)
}

// folder opens a folder by its path without links and keeps it open. The
// returned function must be called when the folder is no longer used.
func (f *Files) folder(plain string) (*folder, func(), error) {
	if plain == "/" {
		return f.root, func() {}, nil
	}
	f.mu.Lock()
	r, ok := f.folders[plain]
	f.mu.Unlock()
	if ok {
		return r, func() {}, nil
	}
	r, err := f.openPlain(plain)
	if err != nil {
		return nil, nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, ok := f.folders[plain]; ok || len(f.folders) >= min(maxFolders, filesAllowed()/4) {
		return r, r.close, nil
	}
	f.folders[plain] = r
	return r, func() {}, nil
}

// holding opens the folder that holds what a path leads to, and tells its name
// there. The returned function must be called when the folder is no longer used.
func (f *Files) holding(name string) (dir *folder, base string, done func(), err error) {
	full, err := f.Resolve(name)
	if err != nil {
		return nil, "", nil, err
	}
	dir, done, err = f.folder(path.Dir(full))
	return dir, path.Base(full), done, err
}

// TypeIn tells what sort of thing is in a folder under a name.
func (f *Files) TypeIn(plain, base string) (fs.FileMode, error) {
	r, done, err := f.folder(plain)
	if err != nil {
		return 0, err
	}
	defer done()
	kind, _, err := r.kind(base)
	return kind, err
}

// typeNamed is typeIn, which on a Windows machine also finds a name that differs
// in case, and tells the name that is there.
func (f *Files) typeNamed(plain, base string) (fs.FileMode, string, error) {
	kind, err := f.TypeIn(plain, base)
	if err == nil || !f.names.Folds() || !errors.Is(err, fs.ErrNotExist) {
		return kind, base, err
	}
	name, ok := f.actual(plain, base)
	if !ok || name == base {
		return 0, base, err
	}
	kind, err = f.TypeIn(plain, name)
	return kind, name, err
}

// linked is where a link in a folder leads to; it fails with [ErrOtherDrive] where that is not here.
func (f *Files) linked(dir, target string) (string, error) {
	if !path.IsAbs(target) {
		target = path.Join(dir, target)
	}
	return f.names.Local(f, path.Clean(target))
}

func (f *Files) readlinkIn(plain, base string) (string, error) {
	r, done, err := f.folder(plain)
	if err != nil {
		return "", err
	}
	defer done()
	return r.target(base)
}

// Lstat describes what is at the path, a link itself and not what it leads to.
func (f *Files) Lstat(name string) (fs.FileInfo, error) {
	if other := f.elsewhere(name); other != nil {
		return other.Lstat(name)
	}
	full, err := f.resolve(name, false)
	if err != nil {
		return nil, err
	}
	if full == "/" {
		return f.root.stat()
	}
	r, done, err := f.folder(path.Dir(full))
	if err != nil {
		return nil, err
	}
	defer done()
	return r.Lstat(path.Base(full))
}

// Stat describes what the path leads to.
func (f *Files) Stat(name string) (fs.FileInfo, error) {
	if other := f.elsewhere(name); other != nil {
		return other.Stat(name)
	}
	if info, err := f.statDirect(name); err != errNotDirect {
		return info, err
	}
	full, err := f.Resolve(name)
	if err != nil {
		return nil, err
	}
	return f.Lstat(full)
}

// Readlink returns the target of a link as it is written.
func (f *Files) Readlink(name string) (string, error) {
	full, err := f.resolve(name, false)
	if err != nil {
		return "", err
	}
	return f.readlinkIn(path.Dir(full), path.Base(full))
}

// ReadDir lists a folder in the order of names.
func (f *Files) ReadDir(name string) ([]fs.DirEntry, error) {
	if other := f.elsewhere(name); other != nil {
		return other.ReadDir(name)
	}
	if entries, err := f.readDirDirect(name); err != errNotDirect {
		sortEntries(entries)
		return entries, err
	}
	full, err := f.Resolve(name)
	if err != nil {
		return nil, err
	}
	return f.readPlainDir(full)
}

// readPlainDir lists the folder at a path without links.
func (f *Files) readPlainDir(full string) ([]fs.DirEntry, error) {
	d, done, err := f.folder(full)
	if err != nil {
		return nil, err
	}
	defer done()
	entries, err := d.readDir(".")
	sortEntries(entries)
	return entries, err
}

func sortEntries(entries []fs.DirEntry) {
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
}

// ReadFile reads a regular file of at most max bytes, following links. Anything
// but a regular file is refused before it is opened: opening a device or a pipe
// can act or hang.
func (f *Files) ReadFile(name string, max int64) ([]byte, error) {
	if other := f.elsewhere(name); other != nil {
		return other.ReadFile(name, max)
	}
	if b, _, err := f.readDirect(name, max); err != errNotDirect {
		return b, err
	}
	full, err := f.resolve(name, false)
	if err != nil {
		return nil, err
	}
	b, err := f.readPlain(full, max)
	if errors.Is(err, errIsLink) {
		if full, err = f.Resolve(name); err == nil {
			b, err = f.readPlain(full, max)
		}
	}
	return b, err
}

// ReadFileInfo is [Files.ReadFile] together with [Files.Stat], for files whose
// owner matters as much as what is in them.
func (f *Files) ReadFileInfo(name string, max int64) ([]byte, fs.FileInfo, error) {
	if other := f.elsewhere(name); other != nil {
		return other.ReadFileInfo(name, max)
	}
	if b, info, err := f.readDirect(name, max); err != errNotDirect {
		return b, info, err
	}
	info, err := f.Stat(name)
	if err != nil {
		return nil, nil, err
	}
	b, err := f.ReadFile(name, max)
	return b, info, err
}

// errNotDirect says that a path cannot be opened in one call, because there is a link
// in it, or nothing, or the system knows no such call.
var errNotDirect = errors.New("not to be opened directly")

// readOpened reads an opened file of a known size, at most max bytes of it.
func readOpened(name string, size, max int64, read func([]byte) (int, error)) ([]byte, error) {
	// One byte more than there should be: when that is not filled, the file
	// has ended.
	b := make([]byte, 0, size+1)
	for {
		n, err := read(b[len(b):cap(b)])
		b = b[:len(b)+n]
		switch {
		case int64(len(b)) > max:
			return nil, &fs.PathError{Op: "read", Path: name, Err: ErrTooLarge}
		case err == io.EOF || err == nil && len(b) < cap(b):
			return b, nil
		case err != nil:
			return nil, &fs.PathError{Op: "read", Path: name, Err: err}
		}
		b = append(b, 0)[:len(b)]
	}
}

// tooLarge says that a file is larger than is read.
func tooLarge(name string, size, max int64) error {
	return &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("%w: %d bytes, at most %d are read", ErrTooLarge, size,
		max)}
}

// errIsLink says that a path without links was expected.
var errIsLink = errors.New("is a link")

// readPlain reads the regular file at a path without links.
func (f *Files) readPlain(full string, max int64) ([]byte, error) {
	dir, done, err := f.folder(path.Dir(full))
	if err != nil {
		return nil, err
	}
	defer done()
	base := path.Base(full)
	if full == "/" {
		base = "."
	}
	kind, size, err := dir.kind(base)
	switch {
	case err != nil:
		return nil, err
	case kind&fs.ModeSymlink != 0:
		return nil, &fs.PathError{Op: "read", Path: full, Err: errIsLink}
	case !kind.IsRegular():
		return nil, &fs.PathError{Op: "read", Path: full, Err: ErrNotRegular}
	case size > max:
		return nil, tooLarge(full, size, max)
	}
	read, closeFile, err := dir.open(base)
	if err != nil {
		return nil, err
	}
	defer closeFile()
	return readOpened(full, size, max, read)
}

// Image reads the full image of an artifact. What cannot be read is an error,
// what is not there an image of the kind [artifact.Absent]. What a link would lead to that may not
// be followed is an error too, see [Files.Reach].
func (f *Files) Image(a artifact.Artifact) (artifact.Image, error) {
	full, err := f.Reach(a.Name, false)
	if IsMissing(err) {
		return artifact.Image{Kind: artifact.Absent}, nil
	}
	if err != nil {
		return artifact.Image{}, err
	}
	dir, done, err := f.folder(path.Dir(full))
	if IsMissing(err) {
		return artifact.Image{Kind: artifact.Absent}, nil
	}
	if err != nil {
		return artifact.Image{}, err
	}
	defer done()
	base := path.Base(full)
	if full == "/" {
		base = "."
	}
	i, err := dir.image(base, f.maxImage(full))
	if IsMissing(err) {
		return artifact.Image{Kind: artifact.Absent}, nil
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		pe.Path = full
	}
	return i, err
}

// maxImage is the largest file that is recorded of what lies at a path without links,
// in bytes. A hive may be a user's whole registry; it is no artifact itself.
func (f *Files) maxImage(full string) int64 {
	if _, ok := f.homeAt(full); ok {
		return MaxHomeImage
	}
	return MaxImageSize
}

// modeBits are the permission, set-id and sticky bits of a file.
func modeBits(info fs.FileInfo) fs.FileMode {
	return info.Mode() & (fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky)
}

// IsMissing reports whether an error means that nothing is at a path: a parent that is a file instead of a folder
// leaves no room for it either.
func IsMissing(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR)
}
