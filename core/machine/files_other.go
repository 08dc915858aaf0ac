//go:build !linux && !windows && !darwin

package machine

import (
	"io/fs"
	"os"
	"time"
)

// On other systems a mounted root is read and written through what os.Root offers:
// extended attributes are neither seen nor set, and a link's own time cannot be
// set.

func readOnly(*os.File) bool { return false }

func (d *folder) readXattrs(string) (map[string][]byte, error) { return nil, nil }

func (d *folder) writeXattrs(string, map[string][]byte) error { return nil }

func (d *folder) writeTime(base string, t time.Time) error {
	if info, err := d.Lstat(base); err != nil || info.Mode()&fs.ModeSymlink != 0 {
		return err
	}
	return d.Chtimes(base, time.Time{}, t)
}

func (d *folder) copyAccessTime(string, fs.FileInfo) {}

func (d *folder) giveTo(base string, _ fs.FileMode, uid, gid int) error {
	return d.Lchown(base, uid, gid)
}

func readDir(d *os.File) ([]fs.DirEntry, error) { return d.ReadDir(-1) }
