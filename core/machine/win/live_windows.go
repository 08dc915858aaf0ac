package win

import (
	"fmt"
	"path/filepath"

	"golang.org/x/sys/windows"

	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// OpenRunning opens the system drive of the running Windows, and returns its top, C:\, and the system's own folder as a
// path below that, for [Identify].
func OpenRunning() (f *files.Files, top, folder string, err error) {
	own, err := windows.GetWindowsDirectory()
	if err != nil {
		return nil, "", "", fmt.Errorf("where Windows lies cannot be told: %w", err)
	}
	files.EnablePrivileges()
	top = filepath.VolumeName(own) + `\`
	if f, err = files.Open(top, true); err != nil {
		return nil, "", "", err
	}
	f.SetNaming(files.DriveNames{Drive: artifact.UpperLetter(top[0])})
	f.SetDrives(openFixedDrive)
	return f, top, filepath.ToSlash(own[2:]), nil
}

// openFixedDrive opens a drive that is built in.
func openFixedDrive(letter byte) *files.Files {
	top := string(letter) + `:\`
	name, err := windows.UTF16PtrFromString(top)
	if err != nil || windows.GetDriveType(name) != windows.DRIVE_FIXED {
		return nil
	}
	f, err := files.Open(top, true)
	if err != nil {
		return nil
	}
	return f
}
