package store

import "golang.org/x/sys/unix"

// setLock locks for the process: locks of open files are no published part of this system.
const setLock = unix.F_SETLK
