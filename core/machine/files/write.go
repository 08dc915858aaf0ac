package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"syscall"

	"lockback/core/machine/artifact"
)

// Errors of writing that callers decide on.
var (
	ErrNeedsRights = errors.New("needs more rights")
	ErrReadOnly    = errors.New("the file system is mounted read-only")
)

// place is an opened folder and a name in it: where an artifact is written.
type place struct {
	dir  *folder
	base string
	done func()
	max  int64 // the largest file that is read there, in bytes
}

// open finds the place of an artifact for writing, see reach.go.
func (f *Files) open(a artifact.Artifact) (place, error) {
	full, err := f.Reach(a.Name, false)
	if err != nil {
		return place{}, err
	}
	if full == "/" {
		return place{}, &fs.PathError{Op: "write", Path: a.Name, Err: ErrNotRegular}
	}
	dir, err := f.openTrusted(path.Dir(full))
	if err != nil {
		return place{}, err
	}
	return place{dir, path.Base(full), dir.close, f.maxImage(full)}, nil
}

// image is the image of what is at the place now.
func (p place) image() (artifact.Image, error) {
	i, err := p.dir.image(p.base, p.max)
	if IsMissing(err) {
		return artifact.Image{Kind: artifact.Absent}, nil
	}
	return i, err
}

// Writable reports, before anything is touched, why an artifact could not be
// brought from one image to another: [ErrNeedsRights], [ErrReadOnly],
// [ErrLeadsOut] or another cause. Folders that are still to be made count as
// writable when the nearest existing one above them is.
func (f *Files) Writable(a artifact.Artifact, before, after artifact.Image) error {
	at := a
	for {
		p, err := f.open(at)
		if parent, ok := at.Parent(); IsMissing(err) && ok {
			at = parent
			continue
		}
		if err != nil {
			if errors.Is(err, fs.ErrPermission) && !Privileged() {
				return ErrNeedsRights
			}
			return err
		}
		defer p.done()
		if readOnly(p.dir.self) {
			return ErrReadOnly
		}
		if !writableFolder(p.dir.self) {
			return ErrNeedsRights
		}
		if err := frozen(p.dir.fd()); err != nil {
			return err
		}
		if at == a && before.Kind == artifact.Regular {
			if file, err := p.dir.openFile(p.base); err == nil {
				err = frozen(int(file.Fd()))
				file.Close()
				if err != nil {
					return err
				}
			}
		}
		break
	}
	if Privileged() {
		return nil
	}
	// In a sticky folder, and for changes of mode, owner or attributes, only
	// the owner will do.
	for _, i := range []artifact.Image{before, after} {
		if i.Kind != artifact.Absent && i.UID >= 0 && i.UID != Self() {
			return ErrNeedsRights
		}
	}
	return nil
}

// TempPrefix begins the names of the files that a change prepares beside the
// ones it replaces. Everything that reads such folders skips hidden names.
const TempPrefix = ".lockback-"

// TempName is a name for what a change prepares. The token is the change's own and
// drawn by lot, so nobody can put something in the way beforehand. Changes of early
// versions have none.
func TempName(token, rest string) string {
	if token == "" {
		return TempPrefix + rest
	}
	return TempPrefix + token + "-" + rest
}

// Prepare writes the image under a temporary name beside its place and flushes it
// to disk, so that [Files.Set] with the same name needs no more space. Images
// that need no preparation are skipped. Nothing is written over: a name that is
// taken is an error.
func (f *Files) Prepare(a artifact.Artifact, want artifact.Image, temp string) error {
	if want.Kind != artifact.Regular && want.Kind != artifact.Symlink {
		return nil
	}
	p, err := f.open(a)
	if err != nil {
		return err
	}
	defer p.done()
	current, err := p.image()
	if err != nil {
		return err
	}
	if OnlyMode(current, want) {
		return nil
	}
	return p.prepare(want, temp)
}

func (p place) prepare(want artifact.Image, temp string) error {
	if want.Kind == artifact.Symlink {
		return p.dir.makeLink(temp, want)
	}
	// What replaces a file was read when the file was.
	replaced, err := p.dir.Lstat(p.base)
	if err != nil {
		replaced = nil
	}
	return p.dir.makeFile(temp, want, replaced, func(w io.Writer) error {
		_, err := w.Write(want.Content)
		return err
	})
}

// OnlyMode reports whether two images of a file differ in nothing but the
// permission bits, which one call sets without replacing the file.
func OnlyMode(current, want artifact.Image) bool {
	if current.Kind != artifact.Regular || want.Kind != artifact.Regular {
		return false
	}
	current.Mode = want.Mode
	return current.Same(want)
}

// ErrNotEmpty says that a folder is kept because something lies in it.
var ErrNotEmpty = errors.New("the folder is kept: something else lies in it")

// Set brings an artifact to an image in one step: a file or link is replaced by
// renaming, a mode is set in place. A power cut leaves the old or the new. A folder that
// is to go and is not empty stays: [ErrNotEmpty].
func (f *Files) Set(a artifact.Artifact, want artifact.Image, temp string) error {
	p, err := f.open(a)
	if IsMissing(err) && want.Kind == artifact.Absent {
		return nil
	}
	if err != nil {
		return err
	}
	defer p.done()
	current, err := p.image()
	if err != nil {
		return err
	}
	switch want.Kind {
	case artifact.Absent:
		switch current.Kind {
		case artifact.Absent:
			return nil
		case artifact.Special:
			return &fs.PathError{Op: "remove", Path: a.Name, Err: ErrNotRegular} // it could not be brought back
		case artifact.Folder:
			defer f.Forget()
		}
		err := p.dir.remove(p.base)
		if errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, syscall.EEXIST) {
			return &fs.PathError{Op: "remove", Path: a.Name, Err: ErrNotEmpty}
		}
		return err
	case artifact.Folder:
		made := current.Kind != artifact.Folder
		if made {
			if current.Kind != artifact.Absent {
				return &fs.PathError{Op: "mkdir", Path: a.Name, Err: fs.ErrExist}
			}
			if err := p.dir.mkdir(p.base); err != nil {
				return err
			}
			f.Forget()
		}
		return p.dir.dressFolder(p.base, want, made) // its time is set last, by RestoreTime
	case artifact.Regular, artifact.Symlink:
		if OnlyMode(current, want) {
			return p.dir.setMode(p.base, current, want.Mode)
		}
		if current.Kind == artifact.Folder || current.Kind == artifact.Special {
			return &fs.PathError{Op: "replace", Path: a.Name, Err: ErrNotRegular}
		}
		if _, err := p.dir.Lstat(temp); err != nil {
			if err := p.prepare(want, temp); err != nil {
				return err
			}
		}
		return p.dir.rename(temp, p.base)
	}
	return fmt.Errorf("%s: an image of kind %q cannot be made", a, want.Kind)
}

// Discard removes what [Files.Prepare] left behind, if anything. What only has its
// name, and was not made by it, stays.
func (f *Files) Discard(a artifact.Artifact, temp string) error {
	p, err := f.open(a)
	if IsMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer p.done()
	return p.discard(temp)
}

func (p place) discard(temp string) error {
	kind, _, err := p.dir.kind(temp)
	if err == nil && (kind.IsRegular() || kind == fs.ModeSymlink) {
		err = p.dir.remove(temp)
	}
	if IsMissing(err) {
		return nil
	}
	return err
}

// Room fails where something that is no folder stands where an artifact's folder should
// be. That nothing is there leaves room for one.
func (f *Files) Room(a artifact.Artifact) error {
	parent, ok := a.Parent()
	if !ok || a.Kind != artifact.FileArtifact {
		return nil
	}
	full, err := f.Reach(parent.Name, true)
	if err != nil || full == "/" {
		if errors.Is(err, syscall.ENOTDIR) || !IsMissing(err) {
			return err
		}
		return nil
	}
	info, err := f.Lstat(full)
	if err == nil && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: parent.Name, Err: syscall.ENOTDIR}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Links tells how many names the file of an artifact has: replacing it leaves the others
// as they are. 0 is unknown.
func (f *Files) Links(a artifact.Artifact) int {
	full, err := f.Reach(a.Name, false)
	if err != nil {
		return 0
	}
	dir, done, err := f.folder(path.Dir(full))
	if err != nil {
		return 0
	}
	defer done()
	return dir.links(path.Base(full))
}

// FlushFolder makes the names in a folder durable.
func (f *Files) FlushFolder(name string) error {
	full, err := f.Reach(name, true)
	if IsMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	d, done, err := f.folder(full)
	if IsMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer done()
	// Some file systems cannot flush folders; they do it on their own.
	if err := d.self.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) && !errors.Is(err, errors.ErrUnsupported) &&
		!errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil
}

// RestoreTime gives a folder the time of last modification that an earlier image
// of it had, when the names in it are the same again.
func (f *Files) RestoreTime(a artifact.Artifact, earlier artifact.Image) error {
	current, err := f.Image(a)
	if err != nil || current.Kind != artifact.Folder || earlier.Kind != artifact.Folder ||
		current.Names != earlier.Names || current.ModTime.Equal(earlier.ModTime) || earlier.ModTime.IsZero() {
		return err
	}
	if a.Name == "/" {
		return f.root.setFolderTime(".", earlier.ModTime)
	}
	p, err := f.open(a)
	if err != nil {
		return err
	}
	defer p.done()
	return p.dir.setFolderTime(p.base, earlier.ModTime)
}
