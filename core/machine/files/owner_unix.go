//go:build unix

package files

import (
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// ownerOf returns the numeric owner of a file.
func ownerOf(info fs.FileInfo) (uid, gid int) {
	switch st := info.Sys().(type) {
	case *unix.Stat_t:
		return int(st.Uid), int(st.Gid)
	case *syscall.Stat_t:
		return int(st.Uid), int(st.Gid)
	}
	return -1, -1
}

// Privileged reports whether this process may give files to others.
func Privileged() bool { return os.Geteuid() == 0 }

// Self is the user id that this process writes with.
func Self() int { return os.Geteuid() }

// writableFolder reports whether names can be made and removed in the folder.
func writableFolder(dir *os.File) bool {
	return unix.Faccessat(int(dir.Fd()), ".", unix.W_OK|unix.X_OK, unix.AT_EACCESS) == nil
}

// FileNumber is the number of a file on its disk; 0 if it is not known.
func FileNumber(info fs.FileInfo) uint64 {
	switch st := info.Sys().(type) {
	case *unix.Stat_t:
		return uint64(st.Ino)
	case *syscall.Stat_t:
		return uint64(st.Ino)
	}
	return 0
}
