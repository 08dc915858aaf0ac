package files

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"lockback/core/machine/artifact"

	"golang.org/x/sys/unix"
)

// On a Mac, a file's image holds its extended attributes, and under names of our
// own its flags (chflags(1)) and its access list (acl(3)), as the kernel hands it
// out. All goes through open files: what a name leads to cannot change between.

// The names of what macOS keeps beside the extended attributes.
const (
	// unsettable are flags that the system keeps itself, and drops without a word or refuses when somebody sets
	// them: compressed, tracked, in a data vault, restricted, a firmlink, without its data (sys/stat.h).
	unsettable = 0x20 | 0x40 | 0x80 | 0x00080000 | 0x00800000 | 0x40000000
)

func readOnly(dir *os.File) bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(dir.Fd()), &st) == nil && st.Flags&unix.MNT_RDONLY != 0
}

// openItself opens a file, folder or link without following it.
func (d *folder) openItself(base string) (int, error) {
	fd, err := unix.Openat(d.fd(), base, unix.O_RDONLY|unix.O_SYMLINK|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: base, Err: err}
	}
	return fd, nil
}

// notOurs are attributes in which the system itself notes who wrote a file, and which programs may see it.
// They cannot be set.
var notOurs = []string{"com.apple.provenance", "com.apple.macl", "com.apple.rootless"}

// openQuietly opens a name in a folder for reading, without waiting.
func openQuietly(dir int, name string, flags int) (fd int, err error) {
	err = again(func() (err error) {
		fd, err = unix.Openat(dir, name, flags|unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
		return err
	})
	return fd, err
}

// asksForReading: macOS has no files that are answers of the kernel.
func asksForReading(int) error { return nil }

func (d *folder) linkXattrs(base string) (map[string][]byte, error) {
	fd, err := d.openItself(base)
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return map[string][]byte{}, nil
		}
		return nil, err
	}
	defer unix.Close(fd)
	return readXattrs(fd)
}

func readXattrs(fd int) (map[string][]byte, error) {
	attrs := map[string][]byte{}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return attrs, err
	}
	if flags := st.Flags &^ unsettable; flags != 0 {
		attrs[artifact.FlagsAttribute] = binary.BigEndian.AppendUint32(nil, flags)
	}
	if acl := readACL(fd); acl != nil {
		attrs[artifact.ACLAttribute] = acl
	}
	n, err := unix.Flistxattr(fd, nil)
	if n == 0 || errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EPERM) {
		return attrs, nil
	}
	if err != nil {
		return attrs, err
	}
	names := make([]byte, n+256)
	if n, err = unix.Flistxattr(fd, names); err != nil {
		return attrs, err
	}
	for key := range strings.SplitSeq(strings.TrimRight(string(names[:n]), "\x00"), "\x00") {
		if slices.Contains(notOurs, key) || key == "" {
			continue
		}
		size, err := unix.Fgetxattr(fd, key, nil)
		if err == nil && size <= MaxImageSize {
			value := make([]byte, size)
			if size > 0 {
				size, err = unix.Fgetxattr(fd, key, value)
			}
			attrs[key] = value[:max(size, 0)]
		}
		if err != nil && !errors.Is(err, unix.ENOATTR) && !errors.Is(err, fs.ErrPermission) {
			return attrs, err
		}
	}
	return attrs, nil
}

func writeXattrs(fd int, want map[string][]byte) error {
	if want == nil {
		return nil
	}
	have, err := readXattrs(fd)
	if err != nil {
		return err
	}
	own := func(key string) bool { return key == artifact.FlagsAttribute || key == artifact.ACLAttribute }
	for key := range have {
		if _, ok := want[key]; !ok && !own(key) {
			if err := unix.Fremovexattr(fd, key); err != nil {
				return fmt.Errorf("cannot remove the extended attribute %q: %w", key, err)
			}
		}
	}
	for key, value := range want {
		if old, ok := have[key]; own(key) || ok && string(old) == string(value) {
			continue
		}
		if err := unix.Fsetxattr(fd, key, value, 0); err != nil {
			return fmt.Errorf("cannot set the extended attribute %q: %w", key, err)
		}
	}
	if string(have[artifact.ACLAttribute]) != string(want[artifact.ACLAttribute]) {
		if err := writeACL(fd, want[artifact.ACLAttribute]); err != nil {
			return fmt.Errorf("cannot set the access list: %w", err)
		}
	}
	// The flags come last: with some of them nothing can be changed any more.
	if string(have[artifact.FlagsAttribute]) != string(want[artifact.FlagsAttribute]) {
		var flags uint32
		if b := want[artifact.FlagsAttribute]; len(b) == 4 {
			flags = binary.BigEndian.Uint32(b)
		}
		if err := unix.Fchflags(fd, int(flags)); err != nil {
			return fmt.Errorf("cannot set the flags: %w", err)
		}
	}
	return nil
}

// A struct kauth_filesec, sys/kauth.h: a magic number, two ids of 16 bytes, the
// count of entries, flags, the entries.
const (
	filesecMagic = 0x012cc16d
	filesecHead  = 44
	noACL        = 0xffffffff
)

var securityList = unix.Attrlist{Bitmapcount: unix.ATTR_BIT_MAP_COUNT, Commonattr: unix.ATTR_CMN_EXTENDED_SECURITY}

// readACL asks for the access list with getattrlist(2); nil if there is none.
func readACL(fd int) []byte {
	list, buf := securityList, make([]byte, 64<<10)
	_, _, errno := syscall.Syscall6(unix.SYS_FGETATTRLIST, uintptr(fd), uintptr(unsafe.Pointer(&list)),
		uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)), 0, 0)
	if errno != 0 {
		return nil
	}
	// The length of all, then where the attribute lies, counted from there.
	total := int(binary.NativeEndian.Uint32(buf))
	at, size := 4+int(int32(binary.NativeEndian.Uint32(buf[4:]))), int(binary.NativeEndian.Uint32(buf[8:]))
	if size < filesecHead || at < 12 || at+size > total || total > len(buf) ||
		binary.NativeEndian.Uint32(buf[at+36:]) == noACL {
		return nil
	}
	return append([]byte(nil), buf[at:at+size]...)
}

// writeACL sets an access list as it was read; nil takes it away.
func writeACL(fd int, acl []byte) error {
	if acl == nil {
		acl = make([]byte, filesecHead)
		binary.NativeEndian.PutUint32(acl, filesecMagic)
		binary.NativeEndian.PutUint32(acl[36:], noACL)
	}
	buf := binary.NativeEndian.AppendUint32(nil, 8)
	buf = binary.NativeEndian.AppendUint32(buf, uint32(len(acl)))
	buf = append(buf, acl...)
	list := securityList
	_, _, errno := syscall.Syscall6(unix.SYS_FSETATTRLIST, uintptr(fd), uintptr(unsafe.Pointer(&list)),
		uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)), 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}

// setTimes sets the time of last modification of what is opened, and the access time to
// that of another file, where there is one, by setattrlist(2).
func setTimes(fd int, modified time.Time, accessed fs.FileInfo) error {
	list := unix.Attrlist{Bitmapcount: unix.ATTR_BIT_MAP_COUNT}
	var times []unix.Timespec // in the order of the bits
	if !modified.IsZero() {
		list.Commonattr |= unix.ATTR_CMN_MODTIME
		times = append(times, timespec(modified))
	}
	if i, ok := accessed.(*fileInfo); ok {
		list.Commonattr |= unix.ATTR_CMN_ACCTIME
		times = append(times, i.st.Atim)
	}
	if len(times) == 0 {
		return nil
	}
	_, _, errno := syscall.Syscall6(unix.SYS_FSETATTRLIST, uintptr(fd), uintptr(unsafe.Pointer(&list)),
		uintptr(unsafe.Pointer(&times[0])),
		uintptr(len(times))*unsafe.Sizeof(times[0]), 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}

// dressLink gives a link that was made just now its owner, attributes and time.
func (d *folder) dressLink(base string, want artifact.Image) error {
	if want.UID >= 0 && want.UID != Self() {
		if err := unix.Fchownat(d.fd(), base, want.UID, want.GID, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return &fs.PathError{Op: "chown", Path: base, Err: err}
		}
	}
	fd, err := d.openItself(base)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := writeXattrs(fd, want.Xattrs); err != nil {
		return err
	}
	return setTimes(fd, want.ModTime, nil)
}

// frozen tells why nothing can be made, replaced or removed in an opened folder, or
// why an opened file cannot be, although its rights would allow it: chflags(1).
func frozen(fd int) error {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil
	}
	switch {
	case st.Flags&(unix.UF_IMMUTABLE|unix.SF_IMMUTABLE) != 0:
		return fmt.Errorf("%w: locked (chflags uchg or schg)", ErrFrozen)
	case st.Flags&(unix.UF_APPEND|unix.SF_APPEND) != 0:
		return fmt.Errorf("%w: append-only (chflags uappnd or sappnd)", ErrFrozen)
	}
	return nil
}

func readDir(d *os.File) ([]fs.DirEntry, error) { return d.ReadDir(-1) }

func readEntries(fd int, name string) ([]fs.DirEntry, error) {
	other, err := unix.Dup(fd)
	if err != nil {
		return nil, err
	}
	d := os.NewFile(uintptr(other), name)
	defer d.Close()
	return d.ReadDir(-1)
}
