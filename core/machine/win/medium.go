package win

import (
	"lockback/core/format/taskxml"
	"lockback/core/machine/artifact"
)

// Medium finds what keeps an artifact that a running Windows keeps for itself; ok is false for all others. Files are
// those that the definitions of tasks lie in.
func (s *System) Medium(a artifact.Artifact, files artifact.Medium) (medium artifact.Medium, ok bool) {
	if task, ok := s.task(a); ok {
		return taskMedium{files, s, task}, true
	}
	return nil, false
}

// taskMedium is the task scheduler of a running Windows, which alone writes the definitions of
// its tasks. It writes them in its own way: two are the same that say the same.
type taskMedium struct {
	artifact.Medium // the files
	system          *System
	task            string
}

func (t taskMedium) Writable(a artifact.Artifact, before, after artifact.Image) error {
	if err := registrable(before, after); err != nil {
		return err
	}
	return t.Medium.Writable(a, before, after)
}

func (taskMedium) Prepare(artifact.Artifact, artifact.Image, string) error { return nil }

func (t taskMedium) Set(a artifact.Artifact, want artifact.Image, _ string) error {
	defer t.system.files.ForgetNames()
	return t.system.setTask(a, t.task, want)
}

func (taskMedium) Same(i, j artifact.Image) bool {
	if i.Kind == artifact.Regular && j.Kind == artifact.Regular {
		return taskxml.Equal(i.Content, j.Content)
	}
	return i.Same(j)
}
