package files

import (
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

// ownerOf: Windows keeps no numeric owners, so a Linux disk worked on from there
// has none that could be compared or set.
func ownerOf(fs.FileInfo) (uid, gid int) { return -1, -1 }

// Privileged reports whether this process runs elevated.
func Privileged() bool { return windows.GetCurrentProcessToken().IsElevated() }

// Self is the user id that this process writes with: -1, for Windows has none.
func Self() int { return -1 }

func writableFolder(*os.File) bool { return true }

// FileNumber is the number of a file on its disk; 0 if it is not known, as here.
func FileNumber(fs.FileInfo) uint64 { return 0 }
