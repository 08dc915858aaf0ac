//go:build !windows

package win

import (
	"errors"

	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// errNotHere says that only on Windows itself there is a running Windows.
var errNotHere = errors.New("no Windows runs here")

// OpenRunning fails here.
func OpenRunning() (f *files.Files, top, folder string, err error) { return nil, "", "", errNotHere }

// setTask fails: there is no scheduler here.
func (s *System) setTask(artifact.Artifact, string, artifact.Image) error { return errNotHere }
