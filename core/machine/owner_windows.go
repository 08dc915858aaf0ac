package machine

import (
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

// owner: Windows keeps no numeric owners, so a Linux disk worked on from there
// has none that could be compared or set.
func owner(fs.FileInfo) (uid, gid int) { return -1, -1 }

// privileged reports whether this process runs elevated.
func privileged() bool { return windows.GetCurrentProcessToken().IsElevated() }

func self() int { return -1 }

func writableFolder(*os.File) bool { return true }

// FileNumber is the number of a file on its disk; 0 where it is not known, as here.
func FileNumber(fs.FileInfo) uint64 { return 0 }
