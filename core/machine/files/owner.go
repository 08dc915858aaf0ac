package files

import "io/fs"

// Owner returns the numeric owner and group of a file, -1 where the system has
// no such thing.
func Owner(info fs.FileInfo) (uid, gid int) {
	if owned, ok := info.(interface{ Owner() (uid, gid int) }); ok { // what a plan would make
		return owned.Owner()
	}
	return ownerOf(info)
}
