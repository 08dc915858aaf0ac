package machine

import "io/fs"

// Owner returns the numeric owner and group of a file, -1 where the system has
// no such thing.
func Owner(info fs.FileInfo) (uid, gid int) {
	if planned, ok := info.(plannedInfo); ok {
		return planned.image.UID, planned.image.GID
	}
	return owner(info)
}

// Privileged reports whether this process has the rights of the administrator.
func Privileged() bool { return privileged() }
