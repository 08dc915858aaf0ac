//go:build !windows

package registry

// MountRunning mounts nothing: only on Windows itself is there a running registry.
func (r *Registry) MountRunning() {}
