package files

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Most paths have no links in them. openat2(2) opens such a path in one call, holds
// it inside the root, and refuses it where a link turns up: then the path is walked
// along as everywhere else. On a disk with thousands of small files that halves
// the time.

// noDirect is set once the kernel has said that it knows no openat2, or that it is
// not allowed.
var noDirect atomic.Bool

// clean is the path below the root that a name means; empty where it means none.
func (f *Files) clean(name string) string {
	local, err := f.names.Local(f, name)
	if err != nil || !path.IsAbs(local) {
		return ""
	}
	return path.Clean(local)
}

// direct opens a clean path that has no links in it. Nothing happens to what is there:
// the descriptor only names it. It fails with errNotDirect, or says that nothing
// is there.
func (f *Files) direct(local string) (int, error) {
	if noDirect.Load() || local == "" || strings.Contains(local, "\x00") {
		return -1, errNotDirect
	}
	fd, err := f.openPath(local)
	switch {
	case err == nil:
		return fd, nil
	case err == unix.ENOSYS || err == unix.EPERM:
		noDirect.Store(true)
	case err == unix.ENOENT && local != "/":
		// Where the folder is there and has no links above it, the name is missing,
		// unless the machine takes another one for the same. More names are looked for
		// in such a folder: it is kept, if there is room.
		_, done, ferr := f.folder(path.Dir(local))
		if ferr != nil {
			break
		}
		done()
		if f.names.Folds() {
			if _, other := f.actual(path.Dir(local), path.Base(local)); other {
				break
			}
		}
		return -1, &fs.PathError{Op: "open", Path: local, Err: fs.ErrNotExist}
	}
	return -1, errNotDirect
}

// manyNames is how many names make a folder worth to be kept open.
const manyNames = 8

// kept is the opened folder that a clean path lies in, if it is kept open.
func (f *Files) kept(local string) (d *folder, base string, ok bool) {
	if local == "" || local == "/" {
		return nil, "", false
	}
	dir := path.Dir(local)
	f.mu.Lock()
	defer f.mu.Unlock()
	if full, known := f.plain[dir]; known {
		dir = full // links in it were followed before
	}
	d, ok = f.folders[dir]
	return d, path.Base(local), ok
}

// statKept describes what lies in a folder that is kept open, or says that nothing does; a link
// is left to be followed.
func (f *Files) statKept(d *folder, base string) (*fileInfo, error) {
	info, err := d.lstat(base)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !f.names.Folds():
		return nil, err
	case err != nil || info.st.Mode&unix.S_IFMT == unix.S_IFLNK:
		return nil, errNotDirect
	}
	return info, nil
}

// openPath opens a clean path, without acting on what is there.
func (f *Files) openPath(local string) (fd int, err error) {
	return f.openAt2(local, unix.O_PATH|unix.O_CLOEXEC)
}

// openAt2 opens a path without links below the root, in one call.
func (f *Files) openAt2(local string, flags uint64) (fd int, err error) {
	how := unix.OpenHow{Flags: flags,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	err = again(func() (err error) {
		fd, err = unix.Openat2(f.root.fd(), relative(local), &how)
		return err
	})
	return fd, err
}

// openPlain opens the folder at a path without links below the root. A link that turned
// up there meanwhile is not followed.
func (f *Files) openPlain(plain string) (*folder, error) {
	if !noDirect.Load() {
		fd, err := f.openAt2(plain, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC)
		switch err {
		case nil:
			return newFolder(fd, plain), nil
		case unix.ENOSYS, unix.EPERM:
			noDirect.Store(true)
		default:
			return nil, &fs.PathError{Op: "open", Path: plain, Err: err}
		}
	}
	return f.root.walk(relative(plain), nil)
}

// isDirect reports whether a path has no links in it, and leads to something by
// exactly that name.
func (f *Files) isDirect(name string) bool {
	fd, err := f.direct(f.clean(name))
	if err == nil {
		unix.Close(fd)
	}
	return err == nil
}

// reopen opens what a descriptor names, in a way that acts on it.
func reopen(fd, flags int) (int, error) {
	return openQuietly(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), flags)
}

func (f *Files) statDirect(name string) (fs.FileInfo, error) {
	local := f.clean(name)
	if d, base, ok := f.kept(local); ok {
		if info, err := f.statKept(d, base); err != errNotDirect {
			return info, err
		}
	}
	fd, err := f.direct(local)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	info := &fileInfo{name: path.Base(name)}
	if err := unix.Fstat(fd, &info.st); err != nil {
		return nil, errNotDirect
	}
	return info, nil
}

func (f *Files) readDirDirect(name string) ([]fs.DirEntry, error) {
	local := f.clean(name)
	fd, err := f.direct(local)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	opened, err := reopen(fd, unix.O_DIRECTORY)
	if err != nil {
		return nil, errNotDirect
	}
	defer unix.Close(opened)
	entries, err := readEntries(opened, name)
	if err == nil && len(entries) >= manyNames {
		if _, done, err := f.folder(local); err == nil {
			done() // it is kept, if there is room
		}
	}
	return entries, err
}

// readDirect reads a regular file; anything else is left to the longer way.
func (f *Files) readDirect(name string, max int64) ([]byte, fs.FileInfo, error) {
	local := f.clean(name)
	if d, base, ok := f.kept(local); ok {
		info, err := f.statKept(d, base)
		if err != nil {
			return nil, nil, err
		}
		if !info.Mode().IsRegular() {
			return nil, nil, errNotDirect
		}
		if info.st.Size > max {
			return nil, nil, tooLarge(name, info.st.Size, max)
		}
		opened, err := openQuietly(d.fd(), base, unix.O_NOFOLLOW)
		if err != nil {
			return nil, nil, errNotDirect
		}
		return finishReading(name, opened, info, max)
	}
	fd, err := f.direct(local)
	if err != nil {
		return nil, nil, err
	}
	defer unix.Close(fd)
	info := &fileInfo{name: path.Base(name)}
	if err := unix.Fstat(fd, &info.st); err != nil || info.st.Mode&unix.S_IFMT != unix.S_IFREG {
		return nil, nil, errNotDirect
	}
	if info.st.Size > max {
		return nil, nil, tooLarge(name, info.st.Size, max)
	}
	opened, err := reopen(fd, 0)
	if err != nil {
		return nil, nil, errNotDirect
	}
	return finishReading(name, opened, info, max)
}

// finishReading reads a regular file that was opened, and closes it.
func finishReading(name string, opened int, info *fileInfo, max int64) ([]byte, fs.FileInfo, error) {
	defer unix.Close(opened)
	if info.st.Blocks == 0 && asksForReading(opened) != nil {
		return nil, nil, &fs.PathError{Op: "read", Path: name, Err: ErrNotRegular}
	}
	b, err := readOpened(name, info.st.Size, max, reader(opened))
	return b, info, err
}
