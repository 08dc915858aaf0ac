package machine

import (
	"cmp"
	"io/fs"
	"path"
	"slices"
	"sync"
	"time"

	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// Planned is a machine as it may be looked at, with the images that a plan gives to files in place of those that
// they have: it shows what would be read once the plan is carried out. Nothing is written. What a plan does to
// folders as a whole, other than to take them away, is not shown.
type Planned struct {
	*Reader
	images map[string]artifact.Image
	below  map[string][]string // a folder, to the names in it that the plan has

	mu       sync.Mutex
	resolved map[string]string // a folder by the name asked for, to the folder it leads to
}

// Planned returns the machine as it would be with some images.
func (r *Reader) Planned(images map[artifact.Artifact]artifact.Image) *Planned {
	p := &Planned{Reader: r, images: map[string]artifact.Image{}, below: map[string][]string{},
		resolved: map[string]string{}}
	for a, image := range images {
		if a.Kind == artifact.FileArtifact {
			p.images[a.Name] = image
			p.below[path.Dir(a.Name)] = append(p.below[path.Dir(a.Name)], path.Base(a.Name))
		}
	}
	return p
}

// maxPlannedLinks is how many links are followed from one to the next.
const maxPlannedLinks = 16

// folder is what a folder leads to.
func (p *Planned) folder(name string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	full, known := p.resolved[name]
	if !known {
		var err error
		if full, err = p.Reader.Resolve(name); err != nil {
			full = name
		}
		p.resolved[name] = full
	}
	return full
}

// image is what the plan has for a file; ok is false where it has nothing.
func (p *Planned) image(name string) (full string, image artifact.Image, ok bool) {
	full = path.Join(p.folder(path.Dir(name)), path.Base(name))
	image, ok = p.images[full]
	return full, image, ok
}

// target follows the links that the plan makes, and returns where a name leads to.
func (p *Planned) target(name string) (full string, image artifact.Image, ok bool, err error) {
	for range maxPlannedLinks {
		full, image, ok = p.image(name)
		switch {
		case !ok:
			return name, image, false, nil
		case image.Kind == artifact.Absent:
			return full, image, true, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		case image.Kind != artifact.Symlink:
			return full, image, true, nil
		}
		if name = image.Target; !path.IsAbs(name) {
			name = path.Join(path.Dir(full), name)
		}
	}
	return full, image, ok, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid} // links in a circle
}

// Lstat is [Files.Lstat].
func (p *Planned) Lstat(name string) (fs.FileInfo, error) {
	_, image, ok := p.image(name)
	switch {
	case !ok:
		return p.Reader.Lstat(name)
	case image.Kind == artifact.Absent:
		return nil, &fs.PathError{Op: "lstat", Path: name, Err: fs.ErrNotExist}
	}
	return plannedInfo{path.Base(name), image}, nil
}

// Stat is [Files.Stat].
func (p *Planned) Stat(name string) (fs.FileInfo, error) {
	full, image, ok, err := p.target(name)
	switch {
	case err != nil:
		return nil, err
	case !ok:
		return p.Reader.Stat(full)
	}
	return plannedInfo{path.Base(name), image}, nil
}

// Readlink is [Files.Readlink].
func (p *Planned) Readlink(name string) (string, error) {
	_, image, ok := p.image(name)
	switch {
	case !ok:
		return p.Reader.Readlink(name)
	case image.Kind == artifact.Symlink:
		return image.Target, nil
	case image.Kind == artifact.Absent:
		return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrNotExist}
	}
	return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrInvalid}
}

// Resolve is [Files.Resolve].
func (p *Planned) Resolve(name string) (string, error) {
	full, _, ok, err := p.target(name)
	if !ok && err == nil {
		return p.Reader.Resolve(full)
	}
	if files.IsMissing(err) {
		return full, nil
	}
	return full, err
}

// ReadFile is [Files.ReadFile].
func (p *Planned) ReadFile(name string, max int64) ([]byte, error) {
	content, _, err := p.ReadFileInfo(name, max)
	return content, err
}

// ReadFileInfo is [Files.ReadFileInfo].
func (p *Planned) ReadFileInfo(name string, max int64) ([]byte, fs.FileInfo, error) {
	full, image, ok, err := p.target(name)
	switch {
	case err != nil:
		return nil, nil, err
	case !ok:
		return p.Reader.ReadFileInfo(full, max)
	case image.Kind != artifact.Regular:
		return nil, nil, &fs.PathError{Op: "read", Path: name, Err: files.ErrNotRegular}
	case int64(len(image.Content)) > max:
		return nil, nil, &fs.PathError{Op: "read", Path: name, Err: files.ErrTooLarge}
	}
	return image.Content, plannedInfo{path.Base(name), image}, nil
}

// Image is [Machine.Image].
func (p *Planned) Image(a artifact.Artifact) (artifact.Image, error) {
	if a.Kind == artifact.FileArtifact {
		if image, ok := p.images[a.Name]; ok {
			return image, nil
		}
	}
	return p.Reader.Image(a)
}

// ReadDir is [Files.ReadDir].
func (p *Planned) ReadDir(name string) ([]fs.DirEntry, error) {
	entries, err := p.Reader.ReadDir(name)
	full := p.folder(name)
	names := p.below[full]
	if len(names) == 0 {
		return entries, err
	}
	if err != nil && !files.IsMissing(err) {
		return nil, err
	}
	entries = slices.DeleteFunc(slices.Clone(entries), func(e fs.DirEntry) bool {
		return slices.Contains(names,
			e.Name())
	})
	there := false
	for _, n := range names {
		if image := p.images[path.Join(full, n)]; image.Kind != artifact.Absent {
			entries, there = append(entries, fs.FileInfoToDirEntry(plannedInfo{n, image})), true
		}
	}
	if err != nil && !there {
		return nil, err
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return cmp.Compare(a.Name(), b.Name()) })
	return entries, nil
}

// plannedInfo describes a file that a plan makes or changes.
type plannedInfo struct {
	name  string
	image artifact.Image
}

func (i plannedInfo) Name() string       { return i.name }
func (i plannedInfo) Size() int64        { return int64(len(i.image.Content)) }
func (i plannedInfo) ModTime() time.Time { return i.image.ModTime }
func (i plannedInfo) IsDir() bool        { return i.image.Kind == artifact.Folder }
func (i plannedInfo) Sys() any           { return nil }

// Owner is for [files.Owner].
func (i plannedInfo) Owner() (uid, gid int) { return i.image.UID, i.image.GID }

func (i plannedInfo) Mode() fs.FileMode {
	switch i.image.Kind {
	case artifact.Symlink:
		return fs.ModeSymlink | 0o777
	case artifact.Folder:
		return fs.ModeDir | i.image.Mode
	}
	return i.image.Mode
}
