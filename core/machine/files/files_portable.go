//go:build !linux

package files

import "io/fs"

// What is read of a folder where the system has no quicker calls for it: a path is
// walked along folder by folder.

func (f *Files) isDirect(string) bool { return false }

func (f *Files) statDirect(string) (fs.FileInfo, error) { return nil, errNotDirect }

func (f *Files) readDirDirect(string) ([]fs.DirEntry, error) { return nil, errNotDirect }

func (f *Files) readDirect(string, int64) ([]byte, fs.FileInfo, error) { return nil, nil, errNotDirect }

// openPlain opens the folder at a path without links below the root. A link that turned
// up there meanwhile is not followed.
func (f *Files) openPlain(plain string) (*folder, error) { return f.root.walk(relative(plain), nil) }
