package cli

import "golang.org/x/sys/windows"

// openAddress hands an address to the shell, ShellExecuteW of Microsoft's documents.
func openAddress(address string) error {
	verb, err := windows.UTF16PtrFromString("open")
	if err != nil {
		return err
	}
	file, err := windows.UTF16PtrFromString(address)
	if err != nil {
		return err
	}
	return windows.ShellExecute(0, verb, file, nil, nil, windows.SW_SHOWNORMAL)
}
