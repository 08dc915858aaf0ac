package files

import "lockback/core/machine/artifact"

// Medium keeps the artifacts that are files.
func (f *Files) Medium() artifact.Medium { return medium{f} }

// medium keeps files, links and folders. A name that lies in a place which the system
// protects from everyone fails with what the naming calls it, see [Naming].
type medium struct{ files *Files }

func (f medium) Image(a artifact.Artifact) (artifact.Image, error) {
	i, err := f.files.Image(a)
	return i, f.files.Explain(a.Name, err)
}

func (f medium) Writable(a artifact.Artifact, before, after artifact.Image) error {
	if err := f.files.names.Locked(a.Name, f.files.live); err != nil {
		return err
	}
	return f.files.Writable(a, before, after)
}

func (f medium) Prepare(a artifact.Artifact, want artifact.Image, temp string) error {
	return f.files.refused(a.Name, f.files.Prepare(a, want, temp))
}

func (f medium) Set(a artifact.Artifact, want artifact.Image, temp string) error {
	if f.files.names.Folds() {
		defer f.files.ForgetNames()
	}
	return f.files.refused(a.Name, f.files.Set(a, want, temp))
}

func (f medium) Discard(a artifact.Artifact, temp, _ string) error { return f.files.Discard(a, temp) }

func (f medium) RestoreTime(a artifact.Artifact, earlier artifact.Image) error {
	return f.files.RestoreTime(a, earlier)
}

func (f medium) Flush(a artifact.Artifact) error { return f.files.FlushFolder(a.Name) }

func (f medium) Children(a artifact.Artifact) ([]artifact.Artifact, error) {
	entries, err := f.files.ReadDir(a.Name)
	var all []artifact.Artifact
	for _, e := range entries {
		all = append(all, a.Child(e.Name()))
	}
	return all, err
}

func (medium) Same(i, j artifact.Image) bool { return i.Same(j) }

func (medium) Beside(artifact.Artifact) (artifact.Artifact, bool) { return artifact.Artifact{}, false }

// Explain names what stands behind a running machine's refusal to let a file be read.
func (f *Files) Explain(name string, err error) error {
	if !f.live {
		return err
	}
	return f.names.Refusal(name, err, false)
}

// refused is [Files.Explain] for a refusal to let it be written.
func (f *Files) refused(name string, err error) error {
	if !f.live {
		return err
	}
	return f.names.Refusal(name, err, true)
}

// Attributes returns the extended attributes of what a path leads to.
func (f *Files) Attributes(name string) (map[string][]byte, error) {
	if other := f.elsewhere(name); other != nil {
		return other.Attributes(name)
	}
	dir, base, done, err := f.holding(name)
	if err != nil {
		return nil, err
	}
	defer done()
	i, err := dir.likeness(base)
	return i.Xattrs, err
}
