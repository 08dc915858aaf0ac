//go:build !windows

package cli

// consoleColors reports whether the terminal has colours: all but dumb ones do.
func consoleColors() bool { return true }
