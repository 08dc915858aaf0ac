package store

import "golang.org/x/sys/unix"

// setLock locks for an open file and not for the process, so that two sessions of one process exclude each other too.
const setLock = unix.F_OFD_SETLK
