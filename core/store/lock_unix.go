//go:build unix

package store

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// tryLock takes the lock of the writer, or fails with [errHeld].
func tryLock(f *os.File) error {
	err := lockRange(f, unix.F_WRLCK)
	if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EACCES) {
		return errHeld
	}
	return err
}

// unlock releases it. The file stays open: closing one of several descriptors would release the locks that SQLite has
// (fcntl(2), "Traditional (process-associated) record locking").
func unlock(f *os.File) error { return lockRange(f, unix.F_UNLCK) }

func lockRange(f *os.File, kind int16) error {
	return unix.FcntlFlock(f.Fd(), setLock, &unix.Flock_t{Type: kind, Whence: 0, Start: lockByte, Len: 1})
}
