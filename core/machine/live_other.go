//go:build !windows

package machine

import "errors"

// Only on Windows itself is there a running Windows.

var errNotHere = errors.New("no Windows runs here")

func openLiveWindows() (*Machine, error) { return nil, errNotHere }

func (m *Machine) liveRegistry() {}

func (m *Machine) setTask(Artifact, string, Image) error { return errNotHere }
