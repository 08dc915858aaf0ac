//go:build !linux

package machine

// withoutDirect: there is only the one way here.
func withoutDirect(_ bool, do func()) { do() }
