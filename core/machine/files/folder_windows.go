package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"lockback/core/machine/artifact"
)

// folder is an opened folder. All that is done in it goes through [os.Root], which
// nothing leads out of. Rights and a link's own time are set by name: Windows has no
// such calls that take an opened folder.
type folder struct {
	*os.Root
	self *os.File // the same, for calls that want a handle
}

// filesAllowed is how many files this program may have open: Windows has no bound that would matter.
func filesAllowed() int { return 1 << 20 }

func openTop(dir string) (*folder, error) { return newFolder(os.OpenRoot(dir)) }

func newFolder(r *os.Root, err error) (*folder, error) {
	if err != nil {
		return nil, err
	}
	self, err := r.Open(".")
	if err != nil {
		r.Close()
		return nil, err
	}
	return &folder{r, self}, nil
}

func (d *folder) close() {
	d.self.Close()
	d.Root.Close()
}

// step opens a folder in this one. A link in its place is not followed: what was opened
// must be the folder that was there before.
func (d *folder) step(base string) (*folder, error) {
	info, err := d.Lstat(base)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: base, Err: errNotFolder}
	}
	sub, err := newFolder(d.OpenRoot(base))
	if err != nil {
		return nil, err
	}
	if now, err := sub.stat(); err != nil || !os.SameFile(info, now) {
		sub.close()
		return nil, errors.Join(err, &fs.PathError{Op: "open", Path: base, Err: errExchanged})
	}
	return sub, nil
}

var errNotFolder = errors.New("not a folder")

func (d *folder) stat() (fs.FileInfo, error) { return d.Stat(".") }

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

func (d *folder) openFile(base string) (*os.File, error) { return d.Open(base) }

// readDir lists what is at a name in the folder, "." for the folder itself.
func (d *folder) readDir(base string) ([]fs.DirEntry, error) {
	sub, err := d.Open(base)
	if err != nil {
		return nil, err
	}
	defer sub.Close()
	return sub.ReadDir(-1)
}

func (d *folder) read(base string, max int64, content bool) (artifact.Image, error) {
	info, err := d.Lstat(base)
	if err != nil {
		return artifact.Image{}, err
	}
	i := artifact.Image{Kind: artifact.Special, Mode: modeBits(info), ModTime: info.ModTime().UTC(), UID: -1, GID: -1}
	switch info.Mode().Type() {
	case 0:
		i.Kind = artifact.Regular
		if !content {
			break
		}
		if info.Size() > max {
			return artifact.Image{}, tooLarge(base, info.Size(), max)
		}
		read, done, err := d.open(base)
		if err != nil {
			return artifact.Image{}, err
		}
		i.Content, err = readOpened(base, info.Size(), max, read)
		done()
		if err != nil {
			return artifact.Image{}, err
		}
	case fs.ModeSymlink:
		i.Kind, i.Mode = artifact.Symlink, 0o777
		if i.Target, err = d.Readlink(base); err != nil {
			return artifact.Image{}, err
		}
	case fs.ModeDir:
		i.Kind = artifact.Folder
		entries, err := d.readDir(base)
		if err != nil {
			return artifact.Image{}, err
		}
		names := make([]string, len(entries))
		for k, e := range entries {
			names[k] = e.Name()
		}
		i.Names = artifact.DigestNames(names)
	default:
		return i, nil
	}
	i.Xattrs, err = d.readXattrs(base)
	return i, err
}

// makeFile makes a file that write fills, with the mode, attributes and time of an
// image, and flushes it.
func (d *folder) makeFile(base string, want artifact.Image, _ fs.FileInfo, write func(io.Writer) error) error {
	file, err := d.OpenFile(base, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = write(file)
	if err == nil {
		err = file.Chmod(want.Mode)
	}
	if err == nil {
		err = d.writeXattrs(base, want.Xattrs)
	}
	if err == nil && !want.ModTime.IsZero() {
		err = d.Chtimes(base, time.Time{}, want.ModTime)
	}
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		d.remove(base)
	}
	return err
}

func (d *folder) makeLink(base string, want artifact.Image) error {
	return d.Symlink(want.Target, base)
}

// dressFolder gives a folder the mode and attributes of an image.
func (d *folder) dressFolder(base string, want artifact.Image, _ bool) error {
	info, err := d.Lstat(base)
	if err == nil && modeBits(info) != want.Mode {
		err = d.Chmod(base, want.Mode)
	}
	if err == nil {
		err = d.writeXattrs(base, want.Xattrs)
	}
	return err
}

// setMode changes the mode of a file.
func (d *folder) setMode(base string, _ artifact.Image, mode fs.FileMode) error {
	return d.Chmod(base, mode)
}

// setFolderTime sets the time of last modification of a folder in this one, "." for
// itself.
func (d *folder) setFolderTime(base string, t time.Time) error {
	return d.Chtimes(base, time.Time{}, t)
}

func (d *folder) mkdir(base string) error { return d.Mkdir(base, 0o700) }

// remove removes a name from the folder. Where the system lacks the call that
// [os.Root] uses, it is done by the path.
func (d *folder) remove(base string) error {
	err := d.Root.Remove(base)
	if lacking(err) {
		return os.Remove(filepath.Join(d.Root.Name(), base))
	}
	return err
}

// rename renames within the folder, over what is there. See remove.
func (d *folder) rename(from, to string) error {
	err := d.Root.Rename(from, to)
	if lacking(err) {
		return os.Rename(filepath.Join(d.Root.Name(), from), filepath.Join(d.Root.Name(), to))
	}
	return err
}

// links is not told here: how many names a file has.
func (d *folder) links(string) int { return 1 }
