package files

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"lockback/core/machine/artifact"

	"golang.org/x/sys/unix"
)

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

// readOnly reports whether the file system that holds the folder cannot be
// written to at all.
func readOnly(dir *os.File) bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(dir.Fd()), &st) == nil && st.Flags&unix.ST_RDONLY != 0
}

// pseudo are the file systems whose files are answers of the kernel: reading one can
// take something away from others (/proc/kmsg), and no two readings need agree.
var pseudo = []int64{unix.PROC_SUPER_MAGIC, unix.SYSFS_MAGIC, unix.DEBUGFS_MAGIC, unix.TRACEFS_MAGIC,
	unix.CGROUP_SUPER_MAGIC,
	unix.CGROUP2_SUPER_MAGIC, unix.SECURITYFS_MAGIC, unix.SELINUX_MAGIC, unix.BPF_FS_MAGIC, unix.EFIVARFS_MAGIC,
	unix.PSTOREFS_MAGIC}

// asksForReading refuses what looks like a regular file and is an answer of the
// kernel. Such files take no room, so others are not asked.
func asksForReading(fd int) error {
	var st unix.Stat_t
	if err := again(func() error { return unix.Fstat(fd, &st) }); err != nil || st.Blocks > 0 {
		return err
	}
	var sys unix.Statfs_t
	if unix.Fstatfs(fd, &sys) == nil && slices.Contains(pseudo, int64(sys.Type)) {
		return ErrNotRegular
	}
	return nil
}

// attributes are the calls for the extended attributes of one file, xattr(7).
type attributes struct {
	list   func([]byte) (int, error)
	get    func(string, []byte) (int, error)
	set    func(string, []byte) error
	remove func(string) error
	ntfs   bool // it may lie on an NTFS disk
}

func attributesOf(fd int) attributes {
	return attributes{
		func(b []byte) (int, error) { return unix.Flistxattr(fd, b) },
		func(key string, b []byte) (int, error) { return unix.Fgetxattr(fd, key, b) },
		func(key string, b []byte) error { return unix.Fsetxattr(fd, key, b, 0) },
		func(key string) error { return unix.Fremovexattr(fd, key) },
		isNTFS(fd),
	}
}

// ErrNoProc says that the attributes of a link cannot be had: the calls for them know
// no descriptors, and without /proc none of them reaches through one.
var ErrNoProc = errors.New("its attributes cannot be read because /proc is not mounted; run mount -t proc proc /proc")

var hasProc = sync.OnceValue(func() bool {
	_, err := os.Stat("/proc/self/fd")
	return err == nil
})

// linkAttributes are those of a link in the folder.
func (d *folder) linkAttributes(base string) (attributes, error) {
	if !hasProc() {
		return attributes{}, &fs.PathError{Op: "read", Path: base, Err: ErrNoProc}
	}
	name := filepath.Join(fmt.Sprintf("/proc/self/fd/%d", d.fd()), base)
	return attributes{
		func(b []byte) (int, error) { return unix.Llistxattr(name, b) },
		func(key string, b []byte) (int, error) { return unix.Lgetxattr(name, key, b) },
		func(key string, b []byte) error { return unix.Lsetxattr(name, key, b, 0) },
		func(key string) error { return unix.Lremovexattr(name, key) },
		isNTFS(d.fd()),
	}, nil
}

func readXattrs(fd int) (map[string][]byte, error) { return attributesOf(fd).read() }

func (d *folder) linkXattrs(base string) (map[string][]byte, error) {
	a, err := d.linkAttributes(base)
	if err != nil {
		return nil, err
	}
	return a.read()
}

func writeXattrs(fd int, want map[string][]byte) error { return attributesOf(fd).write(want) }

// names lists the attributes. A file system without them has none. One may
// announce names and then give none: overlayfs counts those that it hides.
func (a attributes) names() ([]string, error) {
	for {
		n, err := a.list(nil)
		if n <= 0 || err != nil {
			return nil, err
		}
		buf := make([]byte, n+256)
		n, err = a.list(buf)
		if err == unix.ERANGE {
			continue // more came meanwhile
		}
		if err != nil {
			return nil, err
		}
		return slices.DeleteFunc(strings.Split(string(buf[:n]), "\x00"), func(key string) bool { return key == "" }),
			nil
	}
}

// read reads all attributes, under the names that they have in images.
func (a attributes) read() (map[string][]byte, error) {
	attrs := map[string][]byte{}
	names, err := a.names()
	if err != nil && !errors.Is(err, unix.ENOTSUP) && !errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	for _, key := range names {
		value, err := a.value(key)
		switch {
		case err == nil:
			attrs[key] = value
		case errors.Is(err, unix.ENODATA), errors.Is(err, fs.ErrPermission): // gone meanwhile, or not ours to see
		default:
			return nil, err
		}
	}
	if a.ntfs {
		a.readNTFS(attrs)
	}
	return attrs, nil
}

// maxAttribute is the kernel's own bound for a value, in bytes, XATTR_SIZE_MAX.
const maxAttribute = 64 << 10

func (a attributes) value(key string) ([]byte, error) {
	size, err := a.get(key, nil)
	if err != nil || size == 0 {
		return []byte{}, err
	}
	value := make([]byte, min(size, maxAttribute))
	if size, err = a.get(key, value); err != nil {
		return nil, err
	}
	return value[:max(size, 0)], nil
}

// ntfsMagics are the file systems that can be an NTFS disk, statfs(2): FUSE, and
// the kernel's own.
var ntfsMagics = []int64{0x65735546, 0x7366746e}

func isNTFS(fd int) bool {
	var st unix.Statfs_t
	return unix.Fstatfs(fd, &st) == nil && slices.Contains(ntfsMagics, int64(st.Type))
}

// The names under which NTFS drivers show what belongs to a file beside its
// content: its security descriptor, which they do not list, and its streams.
const (
	ntfsSecurity = "system.ntfs_acl"
	ntfsStream   = "user."
)

// readNTFS gives the attributes of a file on an NTFS disk the names that they
// have on a running Windows.
func (a attributes) readNTFS(attrs map[string][]byte) {
	security, err := a.value(ntfsSecurity)
	if err != nil {
		return // another file system
	}
	attrs[artifact.SecurityAttribute] = security
	for key, value := range attrs {
		if stream, ok := strings.CutPrefix(key, ntfsStream); ok {
			delete(attrs, key)
			attrs[artifact.StreamAttribute+stream] = value
		}
	}
}

// diskName is the name that an attribute of an image has on the disk; ok is
// false if the disk has no such thing.
func (a attributes) diskName(key string) (name string, ok bool) {
	switch stream, is := strings.CutPrefix(key, artifact.StreamAttribute); {
	case is:
		return ntfsStream + stream, true
	case key == artifact.SecurityAttribute:
		return ntfsSecurity, a.ntfs
	}
	return key, true
}

// write gives a file exactly these extended attributes. Nil leaves them as the
// system made them.
func (a attributes) write(want map[string][]byte) error {
	if want == nil {
		return nil
	}
	have, err := a.read()
	if err != nil {
		return err
	}
	for key := range have {
		if _, ok := want[key]; !ok && key != artifact.SecurityAttribute {
			onDisk, _ := a.diskName(key)
			if err := a.remove(onDisk); err != nil {
				return fmt.Errorf("cannot remove the extended attribute %q: %w", key, err)
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(want)) {
		value := want[key]
		onDisk, possible := a.diskName(key)
		if old, ok := have[key]; !possible || ok && string(old) == string(value) {
			continue
		}
		if err := a.set(onDisk, value); err != nil {
			return fmt.Errorf("cannot set the extended attribute %q: %w", key, err)
		}
	}
	return nil
}

// setTimes sets the time of last modification of what is opened, and the access time to
// that of another file, where there is one.
func setTimes(fd int, modified time.Time, accessed fs.FileInfo) error {
	ts := [2]unix.Timespec{{Nsec: unix.UTIME_OMIT}, {Nsec: unix.UTIME_OMIT}}
	if !modified.IsZero() {
		ts[1] = timespec(modified)
	}
	if i, ok := accessed.(*fileInfo); ok {
		ts[0] = i.st.Atim
	}
	return again(func() error {
		// Without a path it is the descriptor's own file, utimensat(2).
		if _, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&ts)), 0, 0,
			0); errno != 0 {
			return errno
		}
		return nil
	})
}

// dressLink gives a link that was made just now its owner, attributes and time.
// Nothing but a link can be reached, whatever the name leads to by now.
func (d *folder) dressLink(base string, want artifact.Image) error {
	if want.UID >= 0 && want.UID != Self() {
		fd, err := unix.Openat(d.fd(), base, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return &fs.PathError{Op: "chown", Path: base, Err: err}
		}
		defer unix.Close(fd)
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			return err
		}
		if st.Mode&unix.S_IFMT != unix.S_IFLNK || int(st.Uid) != Self() {
			return &fs.PathError{Op: "chown", Path: base, Err: errExchanged}
		}
		if err := unix.Fchownat(fd, "", want.UID, want.GID, unix.AT_EMPTY_PATH); err != nil {
			return &fs.PathError{Op: "chown", Path: base, Err: err}
		}
	}
	if want.Xattrs != nil {
		a, err := d.linkAttributes(base)
		if err == nil {
			err = a.write(want.Xattrs)
		}
		if err != nil {
			return err
		}
	}
	if want.ModTime.IsZero() {
		return nil
	}
	return unix.UtimesNanoAt(d.fd(), base, []unix.Timespec{{Nsec: unix.UTIME_OMIT}, timespec(want.ModTime)},
		unix.AT_SYMLINK_NOFOLLOW)
}

// Flags of a file, ioctl_iflags(2).
const (
	immutableFlag = 0x10
	appendFlag    = 0x20
)

// frozen tells why nothing can be made, replaced or removed in an opened folder, or
// why an opened file cannot be, although its rights would allow it: chattr(1).
func frozen(fd int) error {
	flags, err := unix.IoctlGetInt(fd, unix.FS_IOC_GETFLAGS)
	switch {
	case err != nil:
		return nil // the file system has no such flags
	case flags&immutableFlag != 0:
		return fmt.Errorf("%w: immutable (chattr +i)", ErrFrozen)
	case flags&appendFlag != 0:
		return fmt.Errorf("%w: append-only (chattr +a)", ErrFrozen)
	}
	return nil
}

// dirent is a name in a folder, with the type that the folder itself gives.
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
var direntTypes = map[uint8]fs.FileMode{unix.DT_REG: 0, unix.DT_DIR: fs.ModeDir, unix.DT_LNK: fs.ModeSymlink,
	unix.DT_FIFO: fs.ModeNamedPipe,
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
				return entries, &fs.PathError{Op: "readdir", Path: dir,
					Err: errors.New("the folder cannot be parsed")}
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
