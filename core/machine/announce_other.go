//go:build !linux

package machine

// Only Linux has a running service manager of this kind; a Linux machine that is
// worked on from elsewhere is never the running one.

func reload(manager) error { return nil }

func unitFileState(manager, string) (string, error) { return "", nil }
