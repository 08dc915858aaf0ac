package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// openQuietly leaves a file's access time alone, and never waits for a peer.
const openQuietly = unix.O_NOATIME | unix.O_NONBLOCK

// readOnly reports whether the file system that holds the folder cannot be
// written to at all.
func readOnly(dir *os.File) bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(dir.Fd()), &st) == nil && st.Flags&unix.ST_RDONLY != 0
}

// inFolder calls do with a path that names base inside the opened folder, for
// calls that know no folder descriptors.
func inFolder(dir *os.Root, base string, do func(name string) error) error {
	d, err := dir.Open(".")
	if err != nil {
		return err
	}
	defer d.Close()
	return do(filepath.Join(fmt.Sprintf("/proc/self/fd/%d", d.Fd()), base))
}

// readXattrs reads the extended attributes of a file, folder or link, xattr(7).
// A file system without them has none.
func readXattrs(dir *os.Root, base string) (map[string][]byte, error) {
	attrs := map[string][]byte{}
	err := inFolder(dir, base, func(name string) error {
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
		return attrs, nil
	}
	return attrs, err
}

// writeXattrs gives a file exactly these extended attributes. Nil leaves them
// as the system made them.
func writeXattrs(dir *os.Root, base string, want map[string][]byte) error {
	if want == nil {
		return nil
	}
	have, err := readXattrs(dir, base)
	if err != nil {
		return err
	}
	if len(want) == 0 && len(have) == 0 {
		return nil
	}
	return inFolder(dir, base, func(name string) error {
		for key := range have {
			if _, ok := want[key]; !ok {
				if err := unix.Lremovexattr(name, key); err != nil {
					return fmt.Errorf("cannot take away the extended attribute %s: %w", key, err)
				}
			}
		}
		for key, value := range want {
			if old, ok := have[key]; ok && string(old) == string(value) {
				continue
			}
			if err := unix.Lsetxattr(name, key, value, 0); err != nil {
				return fmt.Errorf("cannot set the extended attribute %s: %w", key, err)
			}
		}
		return nil
	})
}

// writeTime sets the time of last modification of a file, folder or link, and
// leaves its access time alone.
func writeTime(dir *os.Root, base string, t time.Time) error {
	ts := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, unix.NsecToTimespec(t.UnixNano())}
	d, err := dir.Open(".")
	if err != nil {
		return err
	}
	defer d.Close()
	return unix.UtimesNanoAt(int(d.Fd()), base, ts, unix.AT_SYMLINK_NOFOLLOW)
}

// copyAccessTime gives base the access time that a file had.
func copyAccessTime(dir *os.Root, base string, from fs.FileInfo) {
	st, ok := from.Sys().(*syscall.Stat_t)
	if !ok {
		return
	}
	if d, err := dir.Open("."); err == nil {
		defer d.Close()
		ts := []unix.Timespec{{Sec: st.Atim.Sec, Nsec: st.Atim.Nsec}, {Nsec: unix.UTIME_OMIT}}
		// A nicety: without it only the time of last reading is lost.
		_ = unix.UtimesNanoAt(int(d.Fd()), base, ts, unix.AT_SYMLINK_NOFOLLOW)
	}
}

// giveTo changes the owner of a file, but only while the name still leads to
// something of the given type: in a folder of somebody else's it may have been
// exchanged.
func giveTo(dir *os.Root, base string, want fs.FileMode, uid, gid int) error {
	d, err := dir.Open(".")
	if err != nil {
		return err
	}
	defer d.Close()
	fd, err := unix.Openat(int(d.Fd()), base, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
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
