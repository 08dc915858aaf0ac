package machine

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// kind tells what sort of thing is in the folder under a name, and its size.
func (d *folder) kind(base string) (fs.FileMode, int64, error) {
	var st unix.Stat_t
	if err := again(func() error { return unix.Fstatat(int(d.self.Fd()), base, &st, unix.AT_SYMLINK_NOFOLLOW) }); err != nil {
		return 0, 0, &fs.PathError{Op: "lstat", Path: base, Err: err}
	}
	kind := fs.ModeIrregular
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		kind = 0
	case unix.S_IFDIR:
		kind = fs.ModeDir
	case unix.S_IFLNK:
		kind = fs.ModeSymlink
	}
	return kind, st.Size, nil
}

// open opens a regular file in the folder for reading. It leaves the access time
// alone where it may, follows no link, and never waits for a peer. It does what
// os.Root.Open does with fewer calls, for thousands of small files.
func (d *folder) open(base string) (read func([]byte) (int, error), done func(), err error) {
	fd, err := openQuietly(int(d.self.Fd()), base, unix.O_NOFOLLOW)
	if err != nil {
		return nil, nil, &fs.PathError{Op: "open", Path: base, Err: err}
	}
	return reader(fd), func() { unix.Close(fd) }, nil
}

// openQuietly opens a name in a folder for reading, without waiting, and leaves the
// access time alone where it may: for the owner and for root.
func openQuietly(dir int, name string, flags int) (fd int, err error) {
	flags |= unix.O_RDONLY | unix.O_CLOEXEC | unix.O_NONBLOCK
	for _, quiet := range []int{unix.O_NOATIME, 0} {
		err = again(func() (err error) {
			fd, err = unix.Openat(dir, name, flags|quiet, 0)
			return err
		})
		if err != unix.EPERM {
			break
		}
	}
	return fd, err
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

// target reads a link in the folder.
func (d *folder) target(base string) (string, error) {
	var short [256]byte
	for buf := short[:]; ; buf = make([]byte, 2*len(buf)) {
		n := 0
		if err := again(func() (err error) {
			n, err = unix.Readlinkat(int(d.self.Fd()), base, buf)
			return err
		}); err != nil {
			return "", &fs.PathError{Op: "readlink", Path: base, Err: err}
		}
		if n < len(buf) {
			return string(buf[:n]), nil
		}
	}
}

// again repeats a call that a signal interrupted.
func again(call func() error) error {
	for {
		if err := call(); err != unix.EINTR {
			return err
		}
	}
}

// readOnly reports whether the file system that holds the folder cannot be
// written to at all.
func readOnly(dir *os.File) bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(dir.Fd()), &st) == nil && st.Flags&unix.ST_RDONLY != 0
}

// inFolder calls do with a path that names base inside the opened folder, for
// calls that know no folder descriptors.
func (d *folder) inFolder(base string, do func(name string) error) error {
	return do(filepath.Join(fmt.Sprintf("/proc/self/fd/%d", d.self.Fd()), base))
}

// readXattrs reads the extended attributes of a file, folder or link, xattr(7).
// A file system without them has none.
func (d *folder) readXattrs(base string) (map[string][]byte, error) {
	attrs := map[string][]byte{}
	err := d.inFolder(base, func(name string) error {
		n, err := unix.Llistxattr(name, nil)
		if n == 0 || err != nil {
			return err
		}
		buf := make([]byte, n+256)
		if n, err = unix.Llistxattr(name, buf); err != nil {
			return err
		}
		for key := range strings.SplitSeq(strings.TrimRight(string(buf[:n]), "\x00"), "\x00") {
			size, err := unix.Lgetxattr(name, key, nil)
			if err == nil {
				value := make([]byte, size)
				if size > 0 {
					size, err = unix.Lgetxattr(name, key, value)
				}
				attrs[key] = value[:max(size, 0)]
			}
			if errors.Is(err, unix.ENODATA) || errors.Is(err, fs.ErrPermission) {
				delete(attrs, key) // gone meanwhile, or not ours to see
			} else if err != nil {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		err = nil
	}
	if err == nil && d.isNTFS() {
		d.readNTFS(base, attrs)
	}
	return attrs, err
}

// ntfsMagics are the file systems that can be an NTFS disk, statfs(2): FUSE, and
// the kernel's own.
var ntfsMagics = []int64{0x65735546, 0x7366746e}

// isNTFS reports whether the folder may lie on an NTFS disk.
func (d *folder) isNTFS() bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(d.self.Fd()), &st) == nil && slices.Contains(ntfsMagics, int64(st.Type))
}

// The names under which NTFS drivers show what belongs to a file beside its
// content: its security descriptor, which they do not list, and its streams.
const (
	ntfsSecurity = "system.ntfs_acl"
	ntfsStream   = "user."
)

// readNTFS gives the attributes of a file on an NTFS disk the names that they
// have on a running Windows.
func (d *folder) readNTFS(base string, attrs map[string][]byte) {
	buf := make([]byte, 64<<10)
	err := d.inFolder(base, func(name string) error {
		n, err := unix.Lgetxattr(name, ntfsSecurity, buf)
		if err == nil {
			attrs[securityAttr] = slices.Clone(buf[:n])
		}
		return err
	})
	if err != nil {
		return // another file system
	}
	for key, value := range attrs {
		if stream, ok := strings.CutPrefix(key, ntfsStream); ok {
			delete(attrs, key)
			attrs[streamAttr+stream] = value
		}
	}
}

// diskName is the name that an attribute of an image has on the disk; ok is
// false where the disk has no such thing.
func (d *folder) diskName(key string) (name string, ok bool) {
	if stream, is := strings.CutPrefix(key, streamAttr); is {
		return ntfsStream + stream, true
	}
	return map[bool]string{true: ntfsSecurity, false: key}[key == securityAttr], key != securityAttr || d.isNTFS()
}

// writeXattrs gives a file exactly these extended attributes. Nil leaves them
// as the system made them.
func (d *folder) writeXattrs(base string, want map[string][]byte) error {
	if want == nil {
		return nil
	}
	have, err := d.readXattrs(base)
	if err != nil {
		return err
	}
	if len(want) == 0 && len(have) == 0 {
		return nil
	}
	return d.inFolder(base, func(name string) error {
		for key := range have {
			if _, ok := want[key]; !ok && key != securityAttr {
				onDisk, _ := d.diskName(key)
				if err := unix.Lremovexattr(name, onDisk); err != nil {
					return fmt.Errorf("cannot take away the extended attribute %s: %w", key, err)
				}
			}
		}
		for key, value := range want {
			onDisk, possible := d.diskName(key)
			if old, ok := have[key]; !possible || ok && string(old) == string(value) {
				continue
			}
			if err := unix.Lsetxattr(name, onDisk, value, 0); err != nil {
				return fmt.Errorf("cannot set the extended attribute %s: %w", key, err)
			}
		}
		return nil
	})
}

// writeTime sets the time of last modification of a file, folder or link, and
// leaves its access time alone.
func (d *folder) writeTime(base string, t time.Time) error {
	ts := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, unix.NsecToTimespec(t.UnixNano())}
	return unix.UtimesNanoAt(int(d.self.Fd()), base, ts, unix.AT_SYMLINK_NOFOLLOW)
}

// copyAccessTime gives base the access time that a file had.
func (d *folder) copyAccessTime(base string, from fs.FileInfo) {
	st, ok := from.Sys().(*syscall.Stat_t)
	if !ok {
		return
	}
	ts := []unix.Timespec{{Sec: st.Atim.Sec, Nsec: st.Atim.Nsec}, {Nsec: unix.UTIME_OMIT}}
	// A nicety: without it only the time of last reading is lost.
	_ = unix.UtimesNanoAt(int(d.self.Fd()), base, ts, unix.AT_SYMLINK_NOFOLLOW)
}

// giveTo changes the owner of a file, but only while the name still leads to
// something of the given type: in a folder of somebody else's it may have been
// exchanged.
func (d *folder) giveTo(base string, want fs.FileMode, uid, gid int) error {
	fd, err := unix.Openat(int(d.self.Fd()), base, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return &fs.PathError{Op: "chown", Path: base, Err: err}
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	isLink, isDir := st.Mode&unix.S_IFMT == unix.S_IFLNK, st.Mode&unix.S_IFMT == unix.S_IFDIR
	if isLink != (want == fs.ModeSymlink) || isDir != (want == fs.ModeDir) {
		return &fs.PathError{Op: "chown", Path: base, Err: errors.New("it was exchanged meanwhile")}
	}
	return unix.Fchownat(fd, "", uid, gid, unix.AT_EMPTY_PATH)
}

// dirent is a name in a folder, with what the folder itself says of its type.
type dirent struct {
	name string
	kind fs.FileMode
	dir  string
}

func (d *dirent) Name() string      { return d.name }
func (d *dirent) IsDir() bool       { return d.kind.IsDir() }
func (d *dirent) Type() fs.FileMode { return d.kind }
func (d *dirent) Info() (fs.FileInfo, error) {
	return nil, &fs.PathError{Op: "lstat", Path: filepath.Join(d.dir, d.name), Err: errors.ErrUnsupported}
}

// direntTypes are the types that getdents64(2) gives.
var direntTypes = map[uint8]fs.FileMode{unix.DT_REG: 0, unix.DT_DIR: fs.ModeDir, unix.DT_LNK: fs.ModeSymlink, unix.DT_FIFO: fs.ModeNamedPipe,
	unix.DT_SOCK: fs.ModeSocket, unix.DT_CHR: fs.ModeDevice | fs.ModeCharDevice, unix.DT_BLK: fs.ModeDevice}

// readDir lists an opened folder. os.File.ReadDir asks for the type of each name
// with a call of its own where it is inside a root; the folder knows it already.
func readDir(d *os.File) ([]fs.DirEntry, error) { return readEntries(int(d.Fd()), d.Name()) }

func readEntries(fd int, dir string) ([]fs.DirEntry, error) {
	var entries []fs.DirEntry
	buf := make([]byte, 32<<10)
	for {
		n := 0
		if err := again(func() (err error) {
			n, err = unix.Getdents(fd, buf)
			return err
		}); err != nil {
			return entries, &fs.PathError{Op: "readdir", Path: dir, Err: err}
		}
		if n <= 0 {
			return entries, nil
		}
		// struct linux_dirent64: inode 8, offset 8, length 2, type 1, name.
		for rest := buf[:n]; len(rest) > 19; {
			length := int(binary.NativeEndian.Uint16(rest[16:]))
			if length < 20 || length > len(rest) {
				return entries, &fs.PathError{Op: "readdir", Path: dir, Err: errors.New("the folder cannot be understood")}
			}
			name, _, _ := strings.Cut(string(rest[19:length]), "\x00")
			e := &dirent{name: name, dir: dir}
			kind, known := direntTypes[rest[18]]
			if e.kind = kind; !known {
				var st unix.Stat_t
				if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err == nil {
					e.kind = direntTypes[uint8(st.Mode&unix.S_IFMT>>12)]
				}
			}
			if name != "." && name != ".." {
				entries = append(entries, e)
			}
			rest = rest[length:]
		}
	}
}
