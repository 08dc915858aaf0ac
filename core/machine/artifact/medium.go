package artifact

import "io/fs"

// Medium is what keeps artifacts: files, the registry, or a daemon of a running system that keeps them for itself. The
// machine finds the medium of an artifact once; nothing beyond asks which it is. What each call means, and what it
// fails with, is said at the machine's methods of the same names.
type Medium interface {
	Image(a Artifact) (Image, error)
	Writable(a Artifact, before, after Image) error
	// Prepare writes what an artifact is to become beside its place; a medium that needs no such thing does nothing.
	Prepare(a Artifact, want Image, temp string) error
	Set(a Artifact, want Image, temp string) error
	// Discard removes what Prepare, or an interrupted commit, left behind.
	Discard(a Artifact, temp, token string) error
	RestoreTime(a Artifact, earlier Image) error
	Flush(a Artifact) error
	Children(a Artifact) ([]Artifact, error)
	// Same compares two images by what they mean to the medium.
	Same(i, j Image) bool
	// Beside is the folder in which writing the artifact shows, where that is not its parent.
	Beside(a Artifact) (Artifact, bool)
}

// NoMedium stands where a machine has nothing to keep an artifact in, and says why.
type NoMedium struct{ Why error }

// Image fails, as all that looks or writes does.
func (n NoMedium) Image(a Artifact) (Image, error) {
	return Image{}, &fs.PathError{Op: "read", Path: a.Name, Err: n.Why}
}

// Writable says why nothing is.
func (n NoMedium) Writable(Artifact, Image, Image) error { return n.Why }

// Prepare has nothing to do.
func (NoMedium) Prepare(Artifact, Image, string) error { return nil }

// Set fails.
func (n NoMedium) Set(Artifact, Image, string) error { return n.Why }

// Discard has nothing to do.
func (NoMedium) Discard(Artifact, string, string) error { return nil }

// RestoreTime fails.
func (n NoMedium) RestoreTime(Artifact, Image) error { return n.Why }

// Flush has nothing to do.
func (NoMedium) Flush(Artifact) error { return nil }

// Children fails.
func (n NoMedium) Children(Artifact) ([]Artifact, error) { return nil, n.Why }

// Same is [Image.Same].
func (NoMedium) Same(i, j Image) bool { return i.Same(j) }

// Beside is nowhere.
func (NoMedium) Beside(Artifact) (Artifact, bool) { return Artifact{}, false }
