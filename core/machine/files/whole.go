package files

import (
	"io"
	"io/fs"
	"os"
	"path"
	"time"

	"lockback/core/machine/artifact"
)

// OpenFile opens a regular file for reading and tells its size in bytes: for
// files that are too large to be read whole.
func (f *Files) OpenFile(name string) (*os.File, int64, error) {
	if other := f.elsewhere(name); other != nil {
		return other.OpenFile(name)
	}
	file, err := f.OpenRegular(name)
	if err != nil {
		return nil, 0, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, 0, err
	}
	return file, info.Size(), nil
}

// OpenRegular opens a regular file for reading, following links.
func (f *Files) OpenRegular(name string) (*os.File, error) {
	dir, base, done, err := f.holding(name)
	if err != nil {
		return nil, err
	}
	defer done()
	kind, _, err := dir.kind(base)
	if err != nil {
		return nil, err
	}
	if !kind.IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: ErrNotRegular}
	}
	return dir.openFile(base)
}

// ReplaceWhole replaces a file by one that write fills, with the rights and
// attributes of the old: prepared beside its place under a temporary name, flushed,
// renamed.
func (f *Files) ReplaceWhole(name, token string, write func(io.Writer) error, before func()) error {
	full, err := f.Reach(name, true)
	if err != nil {
		return err
	}
	p, err := f.open(artifact.File(full))
	if err != nil {
		return err
	}
	defer p.done()
	info, err := p.dir.Lstat(p.base)
	if err != nil {
		return err
	}
	like, err := p.dir.likeness(p.base)
	if err != nil {
		return err
	}
	like.ModTime = time.Time{}
	temp := TempName(token, p.base)
	if err := p.dir.makeFile(temp, like, info, write); err != nil {
		return err
	}
	before()
	if err := p.dir.rename(temp, p.base); err != nil {
		p.dir.remove(temp)
		return err
	}
	f.ForgetNames()
	return f.FlushFolder(path.Dir(full))
}

// DiscardWhole removes what an interrupted [Files.ReplaceWhole] left behind.
func (f *Files) DiscardWhole(name, token string) error {
	full, err := f.Reach(name, true)
	if err != nil {
		return nil
	}
	p, err := f.open(artifact.File(full))
	if err != nil {
		return nil
	}
	defer p.done()
	return p.discard(TempName(token, p.base))
}

// SetTime gives a file the time of last modification.
func (f *Files) SetTime(a artifact.Artifact, when time.Time) error {
	p, err := f.open(a)
	if err != nil {
		return err
	}
	defer p.done()
	return p.dir.setFolderTime(p.base, when)
}
