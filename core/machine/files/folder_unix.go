//go:build linux || darwin

package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"sync"
	"time"

	"lockback/core/machine/artifact"

	"golang.org/x/sys/unix"
)

// folder is an opened folder. All that is done in it goes through its descriptor
// and follows no link, so nothing that is put in the place of its path, or of a name
// in it, leads anywhere else.
type folder struct {
	self *os.File
}

// filesAllowed is how many files the system lets this program have open.
var filesAllowed = sync.OnceValue(func() int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return 256 // the least that a system gives, sysconf(3)
	}
	return int(min(limit.Cur, 1<<20))
})

// openTop opens the folder that a machine's files lie in.
func openTop(dir string) (*folder, error) { return openFolder(unix.AT_FDCWD, dir, 0) }

// openFolder opens a folder relative to another one. Anything else in its place, a
// pipe for example, fails at once.
func openFolder(at int, name string, flags int) (*folder, error) {
	fd, err := -1, error(nil)
	err = again(func() (err error) {
		fd, err = unix.Openat(at, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC|flags, 0)
		return err
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return newFolder(fd, name), nil
}

func newFolder(fd int, name string) *folder { return &folder{os.NewFile(uintptr(fd), name)} }

func (d *folder) fd() int { return int(d.self.Fd()) }

func (d *folder) close() { d.self.Close() }

// step opens a folder in this one. A link in its place is not followed.
func (d *folder) step(base string) (*folder, error) { return openFolder(d.fd(), base, unix.O_NOFOLLOW) }

// stat describes the folder itself.
func (d *folder) stat() (fs.FileInfo, error) {
	info := &fileInfo{name: "."}
	if err := again(func() error { return unix.Fstat(d.fd(), &info.st) }); err != nil {
		return nil, &fs.PathError{Op: "stat", Path: d.self.Name(), Err: err}
	}
	return info, nil
}

func (d *folder) lstat(base string) (*fileInfo, error) {
	info := &fileInfo{name: base}
	if err := again(func() error {
		return unix.Fstatat(d.fd(), base, &info.st,
			unix.AT_SYMLINK_NOFOLLOW)
	}); err != nil {
		return nil, &fs.PathError{Op: "lstat", Path: base, Err: err}
	}
	return info, nil
}

// Lstat describes what is in the folder under a name.
func (d *folder) Lstat(base string) (fs.FileInfo, error) {
	info, err := d.lstat(base)
	if err != nil {
		return nil, err
	}
	return info, nil
}

// kind tells what sort of thing is in the folder under a name, and its size.
func (d *folder) kind(base string) (fs.FileMode, int64, error) {
	var info fileInfo // one that is not handed on takes no memory of its own
	for {
		switch err := unix.Fstatat(d.fd(), base, &info.st, unix.AT_SYMLINK_NOFOLLOW); err {
		case nil:
			return info.Mode().Type(), info.Size(), nil
		case unix.EINTR:
		default:
			return 0, 0, &fs.PathError{Op: "lstat", Path: base, Err: err}
		}
	}
}

// target reads a link in the folder.
func (d *folder) target(base string) (string, error) {
	var short [256]byte
	for buf := short[:]; ; buf = make([]byte, 2*len(buf)) {
		n := 0
		if err := again(func() (err error) {
			n, err = unix.Readlinkat(d.fd(), base, buf)
			return err
		}); err != nil {
			return "", &fs.PathError{Op: "readlink", Path: base, Err: err}
		}
		if n < len(buf) {
			return string(buf[:n]), nil
		}
	}
}

// open opens a regular file in the folder for reading. It leaves the access time
// alone where it may, follows no link, and never waits for a peer.
func (d *folder) open(base string) (read func([]byte) (int, error), done func(), err error) {
	fd, err := openQuietly(d.fd(), base, unix.O_NOFOLLOW)
	if err != nil {
		return nil, nil, &fs.PathError{Op: "open", Path: base, Err: err}
	}
	if err := asksForReading(fd); err != nil {
		unix.Close(fd)
		return nil, nil, &fs.PathError{Op: "read", Path: base, Err: err}
	}
	return reader(fd), func() { unix.Close(fd) }, nil
}

// openFile opens a regular file in the folder.
func (d *folder) openFile(base string) (*os.File, error) {
	fd, err := openQuietly(d.fd(), base, unix.O_NOFOLLOW)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: base, Err: err}
	}
	return os.NewFile(uintptr(fd), base), nil
}

// readDir lists what is at a name in the folder, "." for the folder itself.
func (d *folder) readDir(base string) ([]fs.DirEntry, error) {
	sub, err := openFolder(d.fd(), base, unix.O_NOFOLLOW)
	if err != nil {
		return nil, err
	}
	defer sub.close()
	return readDir(sub.self)
}

// reader reads from a descriptor.
func reader(fd int) func([]byte) (int, error) {
	return func(b []byte) (n int, err error) {
		err = again(func() error {
			n, err = unix.Read(fd, b)
			return err
		})
		if n == 0 && err == nil && len(b) > 0 {
			err = io.EOF
		}
		return max(n, 0), err
	}
}

// again repeats a call that a signal interrupted.
func again(call func() error) error {
	for {
		err := call()
		if err == unix.EMFILE || err == unix.ENFILE {
			ranOut.Store(true)
		}
		if err != unix.EINTR {
			return err
		}
	}
}

// read reads content and metadata from one descriptor, so that they are of one and the same file.
func (d *folder) read(base string, max int64, content bool) (artifact.Image, error) {
	info, err := d.lstat(base)
	if err != nil {
		return artifact.Image{}, err
	}
	flags := unix.O_NOFOLLOW
	switch info.Mode().Type() {
	case 0:
	case fs.ModeDir:
		flags |= unix.O_DIRECTORY
	case fs.ModeSymlink:
		i := info.image(artifact.Symlink)
		i.Mode = 0o777
		if i.Target, err = d.target(base); err == nil {
			i.Xattrs, err = d.linkXattrs(base)
		}
		return i, err
	default:
		return info.image(artifact.Special), nil
	}
	fd, err := openQuietly(d.fd(), base, flags)
	if err != nil {
		return artifact.Image{}, &fs.PathError{Op: "open", Path: base, Err: err}
	}
	defer unix.Close(fd)
	kind := info.Mode().Type()
	if err := again(func() error { return unix.Fstat(fd, &info.st) }); err != nil {
		return artifact.Image{}, &fs.PathError{Op: "stat", Path: base, Err: err}
	}
	if info.Mode().Type() != kind {
		return artifact.Image{}, &fs.PathError{Op: "read", Path: base, Err: errExchanged}
	}
	i := info.image(artifact.Regular)
	switch {
	case kind == 0 && !content:
	case kind == 0:
		if info.Size() > max {
			return artifact.Image{}, tooLarge(base, info.Size(), max)
		}
		if err := asksForReading(fd); err != nil {
			return artifact.Image{}, &fs.PathError{Op: "read", Path: base, Err: err}
		}
		if i.Content, err = readOpened(base, info.Size(), max, reader(fd)); err != nil {
			return artifact.Image{}, err
		}
	default:
		i.Kind = artifact.Folder
		entries, err := readEntries(fd, base)
		if err != nil {
			return artifact.Image{}, err
		}
		names := make([]string, len(entries))
		for k, e := range entries {
			names[k] = e.Name()
		}
		i.Names = artifact.DigestNames(names)
	}
	i.Xattrs, err = readXattrs(fd)
	return i, err
}

// image begins an image with what the file system reports.
func (i *fileInfo) image(kind artifact.ImageKind) artifact.Image {
	return artifact.Image{Kind: kind, Mode: modeBits(i), ModTime: i.ModTime().UTC(), UID: int(i.st.Uid),
		GID: int(i.st.Gid)}
}

// makeFile makes a file that write fills, with the owner, mode, attributes and time
// of an image, and the access time of another file, where there is one: all of it through the
// descriptor, and flushed.
func (d *folder) makeFile(base string, want artifact.Image, accessed fs.FileInfo, write func(io.Writer) error) (
	err error) {
	fd := -1
	if err := again(func() (err error) {
		fd, err = unix.Openat(d.fd(), base, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC,
			0o600)
		return err
	}); err != nil {
		return &fs.PathError{Op: "create", Path: base, Err: err}
	}
	file := os.NewFile(uintptr(fd), base)
	err = write(file)
	if err == nil {
		err = dress(fd, want)
	}
	if err == nil && (!want.ModTime.IsZero() || accessed != nil) {
		err = setTimes(fd, want.ModTime, accessed)
	}
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		unix.Unlinkat(d.fd(), base, 0)
	}
	return err
}

// dress gives an opened file or folder the owner, mode and attributes of an image,
// in the order in which they do not undo each other: a new owner clears the set-id
// bits, a new mode rewrites the access list.
func dress(fd int, want artifact.Image) error {
	info := &fileInfo{}
	if err := again(func() error { return unix.Fstat(fd, &info.st) }); err != nil {
		return err
	}
	owned := want.UID < 0 || int(info.st.Uid) == want.UID && int(info.st.Gid) == want.GID
	if !owned {
		if err := again(func() error { return unix.Fchown(fd, want.UID, want.GID) }); err != nil {
			return &fs.PathError{Op: "chown", Path: "it", Err: err}
		}
	}
	if !owned || modeBits(info) != want.Mode {
		if err := again(func() error { return unix.Fchmod(fd, systemMode(want.Mode)) }); err != nil {
			return &fs.PathError{Op: "chmod", Path: "it", Err: err}
		}
	}
	return writeXattrs(fd, want.Xattrs)
}

// systemMode is the mode that chmod(2) takes.
func systemMode(mode fs.FileMode) uint32 {
	bits := uint32(mode.Perm())
	for _, b := range modeFlags {
		if mode&b.mode != 0 {
			bits |= b.st
		}
	}
	return bits
}

var modeFlags = [...]struct {
	st   uint32
	mode fs.FileMode
}{{unix.S_ISUID, fs.ModeSetuid}, {unix.S_ISGID, fs.ModeSetgid}, {unix.S_ISVTX, fs.ModeSticky}}

// makeLink makes a link with the owner, attributes and time of an image.
func (d *folder) makeLink(base string, want artifact.Image) error {
	err := again(func() error { return unix.Symlinkat(want.Target, d.fd(), base) })
	if err != nil {
		return &fs.PathError{Op: "symlink", Path: base, Err: err}
	}
	if err = d.dressLink(base, want); err != nil {
		unix.Unlinkat(d.fd(), base, 0)
	}
	return err
}

// dressFolder gives a folder the owner, mode and attributes of an image. One that was
// made just now must still be the one that was made: empty, and ours.
func (d *folder) dressFolder(base string, want artifact.Image, made bool) error {
	sub, err := d.step(base)
	if err != nil {
		return err
	}
	defer sub.close()
	if made {
		info, err := sub.stat()
		if err != nil {
			return err
		}
		inside, err := readDir(sub.self)
		if err != nil {
			return err
		}
		if uid, _ := Owner(info); uid != Self() || len(inside) > 0 {
			return &fs.PathError{Op: "mkdir", Path: base, Err: errExchanged}
		}
	}
	return dress(sub.fd(), want)
}

// setMode changes the mode of a file that is still the one of which the image was
// read.
func (d *folder) setMode(base string, seen artifact.Image, mode fs.FileMode) error {
	fd, err := openQuietly(d.fd(), base, unix.O_NOFOLLOW)
	if err != nil {
		return &fs.PathError{Op: "chmod", Path: base, Err: err}
	}
	defer unix.Close(fd)
	info := &fileInfo{}
	if err := again(func() error { return unix.Fstat(fd, &info.st) }); err != nil {
		return err
	}
	if now := info.image(artifact.Regular); !info.Mode().IsRegular() || now.Mode != seen.Mode || now.UID != seen.UID ||
		now.GID != seen.GID ||
		!now.ModTime.Equal(seen.ModTime) || info.Size() != int64(len(seen.Content)) {
		return &fs.PathError{Op: "chmod", Path: base, Err: errExchanged}
	}
	return again(func() error { return unix.Fchmod(fd, systemMode(mode)) })
}

// setFolderTime sets the time of last modification of a folder in this one, "." for
// itself.
func (d *folder) setFolderTime(base string, t time.Time) error {
	sub, err := openFolder(d.fd(), base, unix.O_NOFOLLOW)
	if err != nil {
		return err
	}
	defer sub.close()
	return setTimes(sub.fd(), t, nil)
}

func (d *folder) mkdir(base string) error {
	if err := again(func() error { return unix.Mkdirat(d.fd(), base, 0o700) }); err != nil {
		return &fs.PathError{Op: "mkdir", Path: base, Err: err}
	}
	return nil
}

// remove removes a name: of a folder only if nothing is in it.
func (d *folder) remove(base string) error {
	kind, _, err := d.kind(base)
	if err != nil {
		return err
	}
	flags := 0
	if kind.IsDir() {
		flags = unix.AT_REMOVEDIR
	}
	if err := again(func() error { return unix.Unlinkat(d.fd(), base, flags) }); err != nil {
		return &fs.PathError{Op: "remove", Path: base, Err: err}
	}
	return nil
}

// rename renames within the folder, over what is there.
func (d *folder) rename(from, to string) error {
	if err := again(func() error { return unix.Renameat(d.fd(), from, d.fd(), to) }); err != nil {
		return &fs.PathError{Op: "rename", Path: to, Err: err}
	}
	return nil
}

// links tells how many names a file in the folder has.
func (d *folder) links(base string) int {
	info, err := d.lstat(base)
	if err != nil {
		return 0
	}
	return int(info.st.Nlink)
}

// fileInfo is a fs.FileInfo of what stat(2) says.
type fileInfo struct {
	name string
	st   unix.Stat_t
}

func (i *fileInfo) Name() string       { return i.name }
func (i *fileInfo) Size() int64        { return i.st.Size }
func (i *fileInfo) ModTime() time.Time { return time.Unix(i.st.Mtim.Unix()) }
func (i *fileInfo) IsDir() bool        { return i.Mode().IsDir() }
func (i *fileInfo) Sys() any           { return &i.st }
func (i *fileInfo) Mode() fs.FileMode {
	mode := fs.FileMode(i.st.Mode & 0o777)
	for _, b := range modeFlags {
		if uint32(i.st.Mode)&b.st != 0 {
			mode |= b.mode
		}
	}
	switch i.st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		return mode
	case unix.S_IFDIR:
		return mode | fs.ModeDir
	case unix.S_IFLNK:
		return mode | fs.ModeSymlink
	case unix.S_IFIFO:
		return mode | fs.ModeNamedPipe
	case unix.S_IFSOCK:
		return mode | fs.ModeSocket
	case unix.S_IFCHR:
		return mode | fs.ModeDevice | fs.ModeCharDevice
	case unix.S_IFBLK:
		return mode | fs.ModeDevice
	}
	return mode | fs.ModeIrregular
}

// timespec is a time as utimensat(2) takes it, whole seconds and nanoseconds apart:
// in nanoseconds alone the years before 1678 and after 2262 do not fit.
func timespec(t time.Time) unix.Timespec {
	var ts unix.Timespec
	ts.Sec, ts.Nsec = t.Unix(), int64(t.Nanosecond())
	return ts
}
