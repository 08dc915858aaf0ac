package registry

import "lockback/core/machine/artifact"

// Medium keeps the artifacts of the registry.
func (r *Registry) Medium() artifact.Medium { return medium{r} }

// medium is the registry: hive files, which are edited in memory and written whole by
// [Machine.Commit], and the running system's.
type medium struct{ registry *Registry }

func (r medium) Image(a artifact.Artifact) (artifact.Image, error) { return r.registry.Image(a) }

func (r medium) Writable(a artifact.Artifact, _, _ artifact.Image) error {
	at, rest, err := r.registry.find(a.Name)
	if err != nil {
		return err
	}
	return at.source.writable(rest)
}

func (medium) Prepare(artifact.Artifact, artifact.Image, string) error { return nil }

func (r medium) Set(a artifact.Artifact, want artifact.Image, _ string) error {
	return r.registry.Set(a, want)
}

func (r medium) Discard(a artifact.Artifact, _, token string) error {
	at, _, err := r.registry.find(a.Name)
	if err != nil {
		return nil // it has no place here, and nothing was prepared there
	}
	return at.source.discard(token)
}

func (r medium) RestoreTime(a artifact.Artifact, earlier artifact.Image) error {
	return r.registry.RestoreTime(a, earlier)
}

func (medium) Flush(artifact.Artifact) error { return nil }

func (r medium) Children(a artifact.Artifact) ([]artifact.Artifact, error) {
	return r.registry.Children(a.Name)
}

func (medium) Same(i, j artifact.Image) bool { return i.Same(j) }

func (r medium) Beside(a artifact.Artifact) (artifact.Artifact, bool) {
	at, _, err := r.registry.find(a.Name)
	if err != nil {
		return artifact.Artifact{}, false
	}
	file := at.source.file()
	if file == "" {
		return artifact.Artifact{}, false
	}
	return artifact.File(file).Parent()
}
