package machine

import (
	"errors"

	"lockback/core/machine/artifact"
	"lockback/core/machine/mac"
)

var errNoRegistry = errors.New("this machine has no registry")

// medium finds what keeps an artifact: a daemon of the running system, the files, or the registry.
func (m *Machine) medium(a artifact.Artifact) artifact.Medium {
	inFiles := m.Files.Medium()
	if m.mac != nil {
		if own, ok := m.mac.Medium(a, inFiles); ok {
			return own
		}
	}
	if m.windows != nil {
		if own, ok := m.windows.Medium(a, inFiles); ok {
			return own
		}
	}
	switch {
	case a.Kind == artifact.FileArtifact:
		return inFiles
	case a.Kind == artifact.LoginItemArtifact:
		return artifact.NoMedium{Why: mac.ErrNoLoginItems}
	case m.Registry == nil:
		return artifact.NoMedium{Why: errNoRegistry}
	}
	return m.Registry.Medium()
}
