package files

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"lockback/core/machine/artifact"

	"github.com/stretchr/testify/require"
)

// Programs on another drive of a running Windows are looked at; nothing there is written, and nothing is taken
// for what has the same path on the system's drive.
func TestOtherDrives(t *testing.T) {
	t.Parallel()
	systems, data := t.TempDir(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(data, "Tide"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(data, "Tide/tide.exe"), []byte("MZ"), 0o644))
	f, err := Open(systems, true)
	require.NoError(t, err)
	f.names = DriveNames{Drive: 'C'}
	var asked []byte
	f.drives = &drives{open: func(letter byte) *Files {
		asked = append(asked, letter)
		if letter != 'D' {
			return nil
		}
		other, err := Open(data, true)
		require.NoError(t, err)
		return other
	}}
	defer f.Close()
	info, err := f.Stat(`d:\tide\TIDE.EXE`)
	require.NoError(t, err)
	require.EqualValues(t, 2, info.Size())
	content, err := f.ReadFile(`D:\Tide\tide.exe`, 10)
	require.NoError(t, err)
	require.Equal(t, "MZ", string(content))
	_, _, err = f.ReadFileInfo(`D:\Tide\tide.exe`, 10)
	require.NoError(t, err)
	entries, err := f.ReadDir(`D:\Tide`)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	file, size, err := f.OpenFile(`D:\Tide\tide.exe`)
	require.NoError(t, err)
	require.EqualValues(t, 2, size)
	require.NoError(t, file.Close())
	_, err = f.Lstat(`D:\Tide\gone.exe`)
	require.True(t, IsMissing(err))
	_, err = f.Stat(`E:\Tide\tide.exe`)
	require.ErrorIs(t, err, ErrOtherDrive, "what is plugged in is not waited for")
	_, err = f.Stat(`C:\Tide\tide.exe`)
	require.True(t, IsMissing(err))
	a := artifact.File(`D:\Tide\tide.exe`)
	require.ErrorIs(t, f.Writable(a, artifact.Image{}, artifact.Image{}), ErrOtherDrive)
	_, err = f.Resolve(a.Name)
	require.ErrorIs(t, err, ErrOtherDrive, "a path without its letter would be one of the system's drive")
	require.Error(t, f.Set(a, artifact.NewFile([]byte("x"), 0o644, -1, -1, time.Time{}), "t"))
	require.Equal(t, "DE", string(asked), "each is opened once")
}
