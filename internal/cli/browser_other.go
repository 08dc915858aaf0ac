//go:build !windows

package cli

import (
	"os/exec"
	"runtime"
)

// openAddress hands an address to the desktop: open(1) of macOS, xdg-open(1) elsewhere.
func openAddress(address string) error {
	program := "xdg-open"
	if runtime.GOOS == "darwin" {
		program = "/usr/bin/open"
	}
	return exec.Command(program, address).Run()
}
