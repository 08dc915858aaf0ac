//go:build !linux && !windows

package machine

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Outside Linux a mounted root is read and written through what os.Root offers:
// extended attributes are neither seen nor set, and a link's own time cannot be
// set.

// kind tells what sort of thing is in the folder under a name, and its size.
func (d *folder) kind(base string) (fs.FileMode, int64, error) {
	info, err := d.Lstat(base)
	if err != nil {
		return 0, 0, err
	}
	return info.Mode().Type(), info.Size(), nil
}

// target reads a link in the folder.
func (d *folder) target(base string) (string, error) {
	target, err := d.Readlink(base)
	return filepath.ToSlash(target), err
}

// open opens a regular file in the folder for reading.
func (d *folder) open(base string) (read func([]byte) (int, error), done func(), err error) {
	file, err := d.Open(base)
	if err != nil {
		return nil, nil, err
	}
	return file.Read, func() { file.Close() }, nil
}

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
