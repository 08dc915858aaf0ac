//go:build unix

package store

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// makeFolders makes the folders of a record, for its owner only.
func makeFolders(dir string) error { return os.MkdirAll(dir, 0o700) }

// alone fails where a file or folder belongs to somebody else than this user or root,
// or others may write to it, as ssh(1) demands of keys. A group that is the owner's own
// counts as the owner. Further up, a folder that everyone may write to is no harm
// where nobody can rename what is another's (the sticky bit of /tmp).
func alone(path string, info fs.FileInfo, above bool) error {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	mode := info.Mode()
	ownGroup := st.Gid == st.Uid
	switch {
	case st.Uid != 0 && int(st.Uid) != os.Geteuid():
		return fmt.Errorf("%w: %s belongs to the user with the id %d", ErrNotOurs, path, st.Uid)
	case above && mode.IsDir() && mode&fs.ModeSticky != 0:
		return nil
	case mode&0o002 != 0 || mode&0o020 != 0 && !ownGroup:
		return fmt.Errorf("%w: others may write to %s", ErrNotOurs, path)
	case mode.IsRegular() && (mode&0o004 != 0 || mode&0o040 != 0 && !ownGroup):
		return fmt.Errorf("%w: others may read %s, and it holds copies of files that they may not", ErrNotOurs, path)
	}
	return nil
}
