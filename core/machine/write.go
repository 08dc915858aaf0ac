package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
	"time"
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
}

// open finds the place of an artifact for writing. What lies in a person's home
// is reached through the home folder, which no link inside it can leave: else a
// link of theirs could lead a privileged write to a place of the system.
func (f *Files) open(a Artifact) (place, error) {
	full, err := f.resolve(a.Name, false)
	if err != nil {
		return place{}, err
	}
	if full == "/" {
		return place{}, &fs.PathError{Op: "write", Path: a.Name, Err: ErrNotRegular}
	}
	base, parent := path.Base(full), path.Dir(full)
	anchor, anchorAt := f.root.Root, "/"
	if home, ok := f.homeOf(a.Name); ok {
		plain, err := f.Resolve(home)
		if err != nil {
			return place{}, err
		}
		if !within(parent, plain) {
			return place{}, &fs.PathError{Op: "write", Path: a.Name, Err: fmt.Errorf("%w (to %s)", ErrLeadsOut, parent)}
		}
		if anchor, err = f.root.OpenRoot(relative(plain)); err != nil {
			return place{}, err
		}
		defer anchor.Close()
		anchorAt = plain
	}
	rel := strings.TrimPrefix(strings.TrimPrefix(parent, anchorAt), "/")
	if rel == "" {
		rel = "."
	}
	dir, err := openFolder(anchor.OpenRoot(relative("/" + rel)))
	if err != nil {
		return place{}, err
	}
	return place{dir, base, dir.close}, nil
}

// homeOf returns the home folder of the person that a path belongs to.
func (f *Files) homeOf(name string) (string, bool) {
	for _, u := range f.homes {
		switch {
		case f.drive != 0:
			if rest, ok := cutFold(name, u.Home); ok && strings.HasPrefix(rest, `\`) {
				return u.Home, true
			}
		case u.UID != 0 && u.Home != "/" && within(name, u.Home) && name != u.Home:
			return u.Home, true
		}
	}
	return "", false
}

// cutFold cuts a prefix off without regard to case.
func cutFold(s, prefix string) (string, bool) {
	if len(s) < len(prefix) || !strings.EqualFold(s[:len(prefix)], prefix) {
		return s, false
	}
	return s[len(prefix):], true
}

func within(name, dir string) bool {
	return dir == "/" || name == dir || strings.HasPrefix(name, dir+"/")
}

// Writable reports, before anything is touched, why an artifact could not be
// brought from one image to another: [ErrNeedsRights], [ErrReadOnly],
// [ErrLeadsOut] or another cause. Folders that are still to be made count as
// writable when the nearest existing one above them is.
func (f *Files) Writable(a Artifact, before, after Image) error {
	at := a
	for {
		p, err := f.open(at)
		if parent, ok := at.Parent(); missing(err) && ok {
			at = parent
			continue
		}
		if err != nil {
			if errors.Is(err, fs.ErrPermission) {
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
		break
	}
	if privileged() {
		return nil
	}
	// In a sticky folder, and for changes of mode, owner or attributes, only
	// the owner will do.
	for _, i := range []Image{before, after} {
		if i.Kind != Absent && i.UID >= 0 && i.UID != self() {
			return ErrNeedsRights
		}
	}
	return nil
}

// TempPrefix begins the names of the files that a change prepares beside the
// ones it replaces. Everything that reads such folders passes over hidden names.
const TempPrefix = ".lockback-"

// Prepare writes the image to a temporary name beside its place and flushes it
// to disk, so that [Files.Set] with the same tag needs no more space. Images
// that need no preparation are passed over.
func (f *Files) Prepare(a Artifact, want Image, tag string) error {
	if want.Kind != Regular && want.Kind != Symlink {
		return nil
	}
	p, err := f.open(a)
	if err != nil {
		return err
	}
	defer p.done()
	current, err := f.Image(a)
	if err != nil {
		return err
	}
	if onlyMode(current, want) {
		return nil
	}
	return p.prepare(want, tag)
}

func (p place) prepare(want Image, tag string) (err error) {
	temp := TempPrefix + tag
	if err := p.dir.Remove(temp); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	defer func() {
		if err != nil {
			p.dir.Remove(temp)
		}
	}()
	if want.Kind == Symlink {
		if err := p.dir.Symlink(want.Target, temp); err != nil {
			return err
		}
		if want.UID >= 0 && want.UID != self() {
			if err := p.dir.giveTo(temp, fs.ModeSymlink, want.UID, want.GID); err != nil {
				return err
			}
		}
		if err := p.dir.writeXattrs(temp, want.Xattrs); err != nil {
			return err
		}
		return p.dir.writeTime(temp, want.ModTime)
	}
	file, err := p.dir.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(want.Content)
	// Owner and mode go through the open file: in a folder of somebody else's
	// the name may lead to another file by now.
	if err == nil && want.UID >= 0 && want.UID != self() {
		err = file.Chown(want.UID, want.GID)
	}
	if err == nil {
		err = file.Chmod(want.Mode)
	}
	if err == nil {
		err = p.dress(temp, want)
	}
	if err == nil {
		err = file.Sync()
	}
	return errors.Join(err, file.Close())
}

// dress gives a file or folder the owner, mode, extended attributes and time of
// an image, in the order in which they do not undo each other: a new owner
// clears the set-id bits, a new mode rewrites the access list.
func (p place) dress(base string, want Image) error {
	info, err := p.dir.Lstat(base)
	if err != nil {
		return err
	}
	if uid, gid := owner(info); want.UID >= 0 && (uid != want.UID || gid != want.GID) {
		if err := p.dir.giveTo(base, info.Mode().Type(), want.UID, want.GID); err != nil {
			return err
		}
		info = nil // a new owner clears the set-id bits
	}
	if info == nil || modeBits(info) != want.Mode {
		if err := p.dir.Chmod(base, want.Mode); err != nil {
			return err
		}
	}
	if err := p.dir.writeXattrs(base, want.Xattrs); err != nil {
		return err
	}
	if want.ModTime.IsZero() {
		return nil
	}
	return p.dir.writeTime(base, want.ModTime)
}

// onlyMode reports whether two images of a file differ in nothing but the
// permission bits, which one call sets without replacing the file.
func onlyMode(current, want Image) bool {
	if current.Kind != Regular || want.Kind != Regular {
		return false
	}
	current.Mode = want.Mode
	return current.Same(want)
}

// Set brings an artifact to an image in one step: a file or link is replaced by
// renaming, a mode is set in place. A power cut leaves the old or the new.
func (f *Files) Set(a Artifact, want Image, tag string) error {
	p, err := f.open(a)
	if missing(err) && want.Kind == Absent {
		return nil
	}
	if err != nil {
		return err
	}
	defer p.done()
	current, err := f.Image(a)
	if err != nil {
		return err
	}
	switch want.Kind {
	case Absent:
		if current.Kind == Absent {
			return nil
		}
		if current.Kind == Folder {
			defer f.forget()
		}
		return p.dir.Remove(p.base)
	case Folder:
		if current.Kind != Folder {
			if current.Kind != Absent {
				return &fs.PathError{Op: "mkdir", Path: a.Name, Err: fs.ErrExist}
			}
			if err := p.dir.Mkdir(p.base, 0o700); err != nil {
				return err
			}
			f.forget()
		}
		want.ModTime = time.Time{} // set last, by RestoreTime
		return p.dress(p.base, want)
	case Regular, Symlink:
		if onlyMode(current, want) {
			return p.dir.Chmod(p.base, want.Mode)
		}
		if current.Kind == Folder || current.Kind == Special {
			return &fs.PathError{Op: "replace", Path: a.Name, Err: ErrNotRegular}
		}
		temp := TempPrefix + tag
		if _, err := p.dir.Lstat(temp); err != nil {
			if err := p.prepare(want, tag); err != nil {
				return err
			}
		}
		if info, err := p.dir.Lstat(p.base); err == nil {
			p.dir.copyAccessTime(temp, info)
		}
		return p.dir.Rename(temp, p.base)
	}
	return fmt.Errorf("%s: an image of kind %q cannot be made", a, want.Kind)
}

// Discard removes what [Files.Prepare] left behind, if anything.
func (f *Files) Discard(a Artifact, tag string) error {
	p, err := f.open(a)
	if missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer p.done()
	if err := p.dir.Remove(TempPrefix + tag); err != nil && !missing(err) {
		return err
	}
	return nil
}

// FlushFolder makes the names in a folder durable.
func (f *Files) FlushFolder(name string) error {
	full, err := f.Resolve(name)
	if missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	d, err := f.root.Open(relative(full))
	if missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	// Some file systems cannot flush folders; they do it on their own.
	if err := d.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil
}

// RestoreTime gives a folder the time of last modification that an earlier image
// of it had, when the names in it are the same again.
func (f *Files) RestoreTime(a Artifact, earlier Image) error {
	current, err := f.Image(a)
	if err != nil || current.Kind != Folder || earlier.Kind != Folder ||
		current.Names != earlier.Names || current.ModTime.Equal(earlier.ModTime) || earlier.ModTime.IsZero() {
		return err
	}
	if a.Name == "/" {
		return f.root.writeTime(".", earlier.ModTime)
	}
	p, err := f.open(a)
	if err != nil {
		return err
	}
	defer p.done()
	return p.dir.writeTime(p.base, earlier.ModTime)
}
