package files

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"syscall"

	"lockback/core/machine/artifact"
)

// What may be recorded and written.
//
// Lock Back runs as root in other people's homes and on other people's disks. A link
// that somebody lays there must not lead it anywhere. So an artifact is reached in
// two steps, and there is no other way to one:
//
//  1. reach follows the links on the way, and only those that cannot be a trap: a
//     link outside the homes must be root's, and one inside a home must stay in that
//     home. Where the path leads to is then a path without links.
//  2. openTrusted opens that path folder by folder, following no link at all, and
//     wants each folder to be root's or, inside a home, its person's. What is
//     exchanged between the two steps is therefore refused, not followed.
//
// On a Mac, what a person installed for everyone in /Library and /Applications counts as
// their home does.
//
// Root here means: root, the user that this process runs as, and who owns the top of
// the machine's files, who could exchange everything below it anyway. On Windows
// files have no numeric owners; there only the first step and the links count.

// ErrForeignFolder says that a folder on the way to an artifact, or a link, belongs to
// somebody who could lead a write elsewhere.
var ErrForeignFolder = errors.New("it belongs to somebody else")

// reached is where a path leads to.
type reached struct {
	full  string // the path without links
	bound string // the home that a link on the way must not lead out of; empty: none
}

// Reach follows the links in a path to what may be recorded and written, and returns
// the path without links. It fails with [ErrLeadsOut] where a link inside a home leads
// out of it, and with [ErrForeignFolder] where a link outside the homes is not
// root's. With last, a link at the end of the path is followed too.
func (f *Files) Reach(name string, last bool) (string, error) {
	local, err := f.names.Local(f, name)
	if err != nil {
		return "", err
	}
	if !path.IsAbs(local) {
		return "", &fs.PathError{Op: "open", Path: name, Err: errors.New("not an absolute path")}
	}
	at := path.Clean(local)
	if at == "/" {
		return at, nil
	}
	bound := ""
	for links := 0; ; {
		dir, err := f.reachDir(path.Dir(at), &links)
		if err != nil {
			return "", err
		}
		if bound == "" {
			bound = dir.bound
		}
		kind, base, err := fs.FileMode(0), path.Base(at), error(nil)
		if last || f.names.Folds() {
			kind, base, err = f.typeNamed(dir.full, base)
		}
		full := join(dir.full, base)
		if err := f.heldIn(bound, path.Dir(full), name); err != nil {
			return "", err
		}
		switch {
		case !last || errors.Is(err, fs.ErrNotExist):
			return full, nil
		case err != nil:
			return "", err
		case kind&fs.ModeSymlink == 0:
			return full, nil
		}
		if bound, at, err = f.follow(dir, base, bound, &links); err != nil {
			return "", err
		}
		if at == "/" {
			return at, f.heldIn(bound, at, name)
		}
	}
}

// heldIn fails where a path is not in the home that it must stay in.
func (f *Files) heldIn(bound, full, name string) error {
	if bound == "" || artifact.Within(f.names.Same(full), f.names.Same(bound)) {
		return nil
	}
	return &fs.PathError{Op: "open", Path: name, Err: fmt.Errorf("%w (to %s)", ErrLeadsOut, full)}
}

// reachDir is [Files.Reach] of a folder, from memory where it was asked before.
func (f *Files) reachDir(dir string, links *int) (reached, error) {
	if dir == "/" {
		return reached{full: "/"}, nil
	}
	f.mu.Lock()
	known, ok := f.reaches[dir]
	f.mu.Unlock()
	if ok {
		return known, nil
	}
	parent, err := f.reachDir(path.Dir(dir), links)
	if err != nil {
		return reached{}, err
	}
	kind, base, err := f.typeNamed(parent.full, path.Base(dir))
	if err != nil {
		return reached{}, err
	}
	to := reached{join(parent.full, base), parent.bound}
	switch {
	case kind&fs.ModeSymlink != 0:
		bound, target, err := f.follow(parent, base, parent.bound, links)
		if err != nil {
			return reached{}, err
		}
		if to, err = f.reachDir(target, links); err != nil {
			return reached{}, err
		}
		if bound != "" {
			to.bound = bound
		}
		if err := f.heldIn(to.bound, to.full, dir); err != nil {
			return reached{}, err
		}
	case !kind.IsDir():
		return reached{}, &fs.PathError{Op: "open", Path: dir, Err: syscall.ENOTDIR}
	}
	f.mu.Lock()
	f.reaches[dir] = to
	f.mu.Unlock()
	return to, nil
}

// follow reads a link on the way, if it may be followed, and returns the path that it
// leads to, and the home that must not be left from here on.
func (f *Files) follow(dir reached, base, bound string, links *int) (newBound, target string, err error) {
	full := join(dir.full, base)
	if *links++; *links > maxLinks {
		return "", "", &fs.PathError{Op: "open", Path: full, Err: syscall.ELOOP}
	}
	d, done, err := f.folder(dir.full)
	if err != nil {
		return "", "", err
	}
	defer done()
	if home, ok := f.homeAt(dir.full); ok {
		if bound == "" {
			bound = home.plain
		}
	} else {
		info, err := d.Lstat(base)
		if err != nil {
			return "", "", err
		}
		above, err := d.stat()
		if err != nil {
			return "", "", err
		}
		uid, _ := Owner(info)
		if !f.trusted(uid) || openToOthers(above) {
			return "", "", &fs.PathError{Op: "open", Path: full,
				Err: fmt.Errorf("%w: %s is a link that the user with the id %d placed", ErrForeignFolder, full, uid)}
		}
	}
	if target, err = d.target(base); err != nil {
		return "", "", err
	}
	target, err = f.linked(dir.full, target)
	return bound, target, err
}

// trusted reports whether what a user owns leads nowhere that root does not want, see
// above. Where files have no numeric owners, that is no question.
func (f *Files) trusted(uid int) bool {
	return uid <= 0 || uid == Self() || uid == f.topOwner
}

// openToOthers reports whether anyone could exchange what lies in a folder.
func openToOthers(info fs.FileInfo) bool {
	uid, _ := Owner(info)
	return uid >= 0 && info.Mode()&0o002 != 0 && info.Mode()&fs.ModeSticky == 0
}

// home is a user's folder.
type home struct {
	plain string // the path without links
	uid   int
}

// homeAt returns the home that a path without links lies in, the innermost one. Root's
// own home is as the rest of the system.
func (f *Files) homeAt(plain string) (home, bool) {
	known := f.homesByPath()
	if len(known) == 0 {
		return home{}, false
	}
	for at := f.names.Same(plain); at != "/" && at != "."; at = path.Dir(at) {
		if h, ok := known[at]; ok {
			return h, true
		}
	}
	return home{}, false
}

// homesByPath are the homes by their paths without links, as the machine compares paths. They are
// found out once. A link on the way to one makes it another place that is looked at as a home; each
// path that leads over the link is checked anew.
func (f *Files) homesByPath() map[string]home {
	f.homeMu.Lock()
	defer f.homeMu.Unlock()
	if f.homeFolders == nil {
		f.homeFolders = map[string]home{}
		for _, u := range f.homes {
			if u.Path == "" || u.Path == "/" || u.UID == 0 {
				continue
			}
			if full, err := f.Resolve(u.Path); err == nil && full != "/" {
				f.homeFolders[f.names.Same(full)] = home{full, u.UID}
			}
		}
	}
	return f.homeFolders
}

// openTrusted opens the folder at a path without links for writing, see above.
func (f *Files) openTrusted(plain string) (*folder, error) {
	if plain == "/" {
		return f.root.step(".") // it is its owner's, whoever that is
	}
	installer := -1 // the person whose bundle the path is in
	return f.root.walk(relative(plain), func(at *folder, name string) error {
		info, err := at.stat()
		if err != nil {
			return err
		}
		uid, _ := Owner(info)
		if f.trusted(uid) {
			return nil
		}
		if f.names.Bundles(name) && (installer < 0 || installer == uid) {
			// As in a home, all below it must be theirs.
			installer = uid
			return nil
		}
		h, inHome := f.homeAt(name)
		if inHome && uid == h.uid {
			return nil
		}
		if name == plain && !inHome && uid < f.firstPerson {
			// A folder of the system's own service accounts can hold artifacts (the spool of
			// at). It is held open, so what its owner does to the names in it leads nowhere.
			return nil
		}
		return &fs.PathError{Op: "open", Path: name,
			Err: fmt.Errorf("%w: the folder %s belongs to the user with the id %d", ErrForeignFolder, name, uid)}
	})
}
