package cli

import (
	"os"

	"golang.org/x/sys/windows"
)

// consoleColors turns on the escape sequences of the console, and reports whether it has them:
// those before Windows 10 do not.
func consoleColors() bool {
	var mode uint32
	console := windows.Handle(os.Stdout.Fd())
	if windows.GetConsoleMode(console, &mode) != nil {
		return false
	}
	return windows.SetConsoleMode(console, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}
