package machine

import (
	"errors"
	"io/fs"
	"path"

	"lockback/core/format/taskxml"
)

// medium is what keeps artifacts: files, the registry, or a daemon of a running system that
// keeps them for itself. A machine finds the medium of an artifact once; nothing beyond asks
// which it is. The methods are those of [Machine] of the same names.
type medium interface {
	image(a Artifact) (Image, error)
	writable(a Artifact, before, after Image) error
	// prepare writes what an artifact is to become beside its place; a medium that needs no
	// such thing does nothing.
	prepare(a Artifact, want Image, temp string) error
	set(a Artifact, want Image, temp string) error
	// discard removes what prepare, or an interrupted commit, left behind.
	discard(a Artifact, temp, token string) error
	restoreTime(a Artifact, earlier Image) error
	flush(a Artifact) error
	children(a Artifact) ([]Artifact, error)
	// same compares two images by what they mean to the medium.
	same(i, j Image) bool
	// beside is the folder in which writing the artifact shows, where that is not its parent.
	beside(a Artifact) (Artifact, bool)
}

// medium finds what keeps an artifact.
func (m *Machine) medium(a Artifact) medium {
	switch a.Kind {
	case FileArtifact:
		files := fileMedium{m}
		if domain, uid, ok := m.launchdDomain(a); ok {
			return launchdMedium{files, domain, uid}
		}
		if task, ok := m.task(a); ok {
			return taskMedium{files, task}
		}
		return files
	case LoginItemArtifact:
		return loginItemMedium{m: m}
	}
	if m.Registry == nil {
		return noMedium{errNoRegistry}
	}
	return registryMedium{m.Registry}
}

// fileMedium keeps files, links and folders. A name that lies in a place which the system
// protects from everyone fails with [ErrProtected], where the machine runs.
type fileMedium struct{ m *Machine }

func (f fileMedium) image(a Artifact) (Image, error) {
	i, err := f.m.Files.Image(a)
	return i, f.m.protection(a.Name, err)
}

func (f fileMedium) writable(a Artifact, before, after Image) error {
	switch {
	case f.m.OS != "macos" || !ProtectedPlace(a.Name):
	case f.m.tools != nil:
		return ErrProtected
	case f.m.sealed(a.Name):
		return ErrSealed
	}
	return f.m.Files.Writable(a, before, after)
}

func (f fileMedium) prepare(a Artifact, want Image, temp string) error {
	return f.m.refused(a.Name, f.m.Files.Prepare(a, want, temp))
}

func (f fileMedium) set(a Artifact, want Image, temp string) error {
	if f.m.Files.names.folds() {
		defer f.m.Files.forgetNames()
	}
	return f.m.refused(a.Name, f.m.Files.Set(a, want, temp))
}

func (f fileMedium) discard(a Artifact, temp, _ string) error { return f.m.Files.Discard(a, temp) }

func (f fileMedium) restoreTime(a Artifact, earlier Image) error {
	return f.m.Files.RestoreTime(a, earlier)
}

func (f fileMedium) flush(a Artifact) error { return f.m.Files.FlushFolder(a.Name) }

func (f fileMedium) children(a Artifact) ([]Artifact, error) {
	entries, err := f.m.ReadDir(a.Name)
	var all []Artifact
	for _, e := range entries {
		all = append(all, a.child(e.Name()))
	}
	return all, err
}

func (fileMedium) same(i, j Image) bool { return i.Same(j) }

func (fileMedium) beside(Artifact) (Artifact, bool) { return Artifact{}, false }

// taskMedium is the task scheduler of a running Windows, which alone writes the definitions of
// its tasks. It writes them in its own way: two are the same that say the same.
type taskMedium struct {
	fileMedium
	task string
}

func (t taskMedium) writable(a Artifact, before, after Image) error {
	if err := registrable(before, after); err != nil {
		return err
	}
	return t.fileMedium.writable(a, before, after)
}

func (taskMedium) prepare(Artifact, Image, string) error { return nil }

func (t taskMedium) set(a Artifact, want Image, _ string) error {
	defer t.m.Files.forgetNames()
	return t.m.setTask(a, t.task, want)
}

func (taskMedium) same(i, j Image) bool {
	if i.Kind == Regular && j.Kind == Regular {
		return taskxml.Equal(i.Content, j.Content)
	}
	return i.Same(j)
}

// launchdMedium is a running launchd, which holds its databases of what is disabled in memory,
// and writes them at its own time. launchctl cannot take a label out again: two databases are the
// same that disable the same. Of a user who is not signed in it holds nothing, and reads the file when they
// sign in: until then it is a file like any other.
type launchdMedium struct {
	fileMedium
	domain string
	uid    int
}

func (l launchdMedium) image(a Artifact) (Image, error) { return l.m.launchdImage(a, l.domain) }

func (l launchdMedium) writable(a Artifact, before, after Image) error {
	if !privileged() && (l.domain == "system" || l.uid != self()) {
		return ErrNeedsRights
	}
	_, err := l.m.disabledServices(l.domain)
	if errors.Is(err, errNoDomain) {
		return l.fileMedium.writable(a, before, after)
	}
	return err
}

func (l launchdMedium) prepare(a Artifact, want Image, temp string) error {
	if _, err := l.m.disabledServices(l.domain); !errors.Is(err, errNoDomain) {
		return nil
	}
	return l.fileMedium.prepare(a, want, temp)
}

func (l launchdMedium) set(a Artifact, want Image, temp string) error {
	_, err := l.m.disabledServices(l.domain)
	if !errors.Is(err, errNoDomain) {
		return l.m.setLaunchd(l.domain, want)
	}
	if err := l.fileMedium.set(a, want, temp); err != nil {
		return err
	}
	// Who signed in meanwhile may have had the file read before it was written.
	if _, err := l.m.disabledServices(l.domain); errors.Is(err, errNoDomain) {
		return nil
	}
	return l.m.setLaunchd(l.domain, want)
}

func (l launchdMedium) discard(a Artifact, temp, token string) error {
	if err := l.fileMedium.discard(a, temp, token); !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil // who may not write there prepared nothing
}

func (l launchdMedium) same(i, j Image) bool {
	return sameOverrides(overrides(i), overrides(j), l.m.disabledInFiles())
}

// loginItemMedium is the list of login items of a running Mac. What it cannot do is that of
// noMedium.
type loginItemMedium struct {
	noMedium
	m *Machine
}

func (l loginItemMedium) image(a Artifact) (Image, error) { return l.m.loginItemImage(a) }

func (l loginItemMedium) writable(a Artifact, _, _ Image) error {
	_, err := l.image(a)
	return err
}

// same: macOS 13 and later keep no longer whether an item is hidden, so that two are the same which are there.
func (loginItemMedium) same(i, j Image) bool { return i.Kind == j.Kind }

func (l loginItemMedium) set(a Artifact, want Image, _ string) error {
	return l.m.setLoginItem(a, want)
}

// registryMedium is the registry: hive files, which are edited in memory and written whole by
// [Machine.Commit], and the running system's.
type registryMedium struct{ r *Registry }

func (r registryMedium) image(a Artifact) (Image, error) { return r.r.image(a) }

func (r registryMedium) writable(a Artifact, _, _ Image) error {
	at, rest, err := r.r.find(a.Name)
	if err != nil {
		return err
	}
	return at.source.writable(rest)
}

func (registryMedium) prepare(Artifact, Image, string) error { return nil }

func (r registryMedium) set(a Artifact, want Image, _ string) error { return r.r.set(a, want) }

func (r registryMedium) discard(a Artifact, _, token string) error {
	at, _, err := r.r.find(a.Name)
	if err != nil {
		return nil // it has no place here, and nothing was prepared there
	}
	return at.source.discard(token)
}

func (r registryMedium) restoreTime(a Artifact, earlier Image) error {
	return r.r.restoreTime(a, earlier)
}

func (registryMedium) flush(Artifact) error { return nil }

func (r registryMedium) children(a Artifact) ([]Artifact, error) { return r.r.children(a.Name) }

func (registryMedium) same(i, j Image) bool { return i.Same(j) }

func (r registryMedium) beside(a Artifact) (Artifact, bool) {
	at, _, err := r.r.find(a.Name)
	if err != nil {
		return Artifact{}, false
	}
	file := at.source.file()
	if file == "" {
		return Artifact{}, false
	}
	return File(file).Parent()
}

// noMedium stands where a machine has nothing to keep an artifact in, and says why.
type noMedium struct{ why error }

func (n noMedium) image(a Artifact) (Image, error) {
	return Image{}, &fs.PathError{Op: "read", Path: a.Name, Err: n.why}
}
func (n noMedium) writable(Artifact, Image, Image) error   { return n.why }
func (noMedium) prepare(Artifact, Image, string) error     { return nil }
func (n noMedium) set(Artifact, Image, string) error       { return n.why }
func (noMedium) discard(Artifact, string, string) error    { return nil }
func (n noMedium) restoreTime(Artifact, Image) error       { return n.why }
func (noMedium) flush(Artifact) error                      { return nil }
func (n noMedium) children(a Artifact) ([]Artifact, error) { return nil, n.why }
func (noMedium) same(i, j Image) bool                      { return i.Same(j) }
func (noMedium) beside(Artifact) (Artifact, bool)          { return Artifact{}, false }

// child is the artifact of a file in a folder.
func (a Artifact) child(base string) Artifact {
	switch {
	case !onDrive(a.Name):
		return File(path.Join(a.Name, base))
	case len(a.Name) > 0 && a.Name[len(a.Name)-1] == '\\':
		return File(a.Name + base)
	}
	return File(a.Name + `\` + base)
}
