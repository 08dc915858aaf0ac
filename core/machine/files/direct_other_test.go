//go:build !linux

package files

// WithoutDirect: there is only the one way here.
func WithoutDirect(_ bool, do func()) { do() }
