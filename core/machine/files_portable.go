//go:build !linux

package machine

import (
	"io/fs"
	"path/filepath"
)

// What is read of a folder where the system has no quicker calls for it.

// A path is walked along folder by folder.

func (f *Files) isDirect(string) bool { return false }

func (f *Files) statDirect(string) (fs.FileInfo, error) { return nil, errNotDirect }

func (f *Files) readDirDirect(string) ([]fs.DirEntry, error) { return nil, errNotDirect }

func (f *Files) readDirect(string, int64) ([]byte, fs.FileInfo, error) { return nil, nil, errNotDirect }

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
