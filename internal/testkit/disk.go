package testkit

import (
	"bytes"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
)

// Keys are the keys of a hive by their paths, each with its values.
type Keys map[string][]regf.Value

// Hive writes a hive.
func Hive(t testing.TB, keys Keys) []byte {
	t.Helper()
	now := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	h := regf.Create(make([]byte, 20), now)
	for _, path := range slices.Sorted(maps.Keys(keys)) {
		k, err := h.Root()
		require.NoError(t, err)
		for name := range strings.SplitSeq(path, `\`) {
			sub, err := k.Subkey(name)
			if err != nil {
				sub, err = h.CreateKey(k, name, nil, now)
			}
			require.NoError(t, err, path)
			k = sub
		}
		for _, v := range keys[path] {
			require.NoError(t, h.SetValue(k, v))
		}
	}
	h.Seal(now)
	var b bytes.Buffer
	_, err := h.WriteTo(&b)
	require.NoError(t, err)
	return b.Bytes()
}

// The keys that make a disk a Windows machine of one user, ines.
var (
	windowsSoftware = Keys{
		`Microsoft\Cryptography`: {regf.NewText("MachineGuid",
			"00112233-4455-6677-8899-AABBCCDDEEFF")},
		`Microsoft\Windows NT\CurrentVersion`: {regf.NewText("ProductName",
			"Windows 10 Pro"), regf.NewText("CurrentBuild", "22631"), regf.NewText("SystemRoot", `C:\WINDOWS`)},
		`Microsoft\Windows\CurrentVersion`: {regf.NewText("ProgramFilesDir",
			`C:\Program Files`)},
		`Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-1-2-3-1001`: {regf.NewExpand("ProfileImagePath",
			`%SystemDrive%\Users\ines`)},
	}
	windowsSystem = Keys{
		`Select`: {regf.NewNumber("Current", 2)},
		`ControlSet002\Control\ComputerName\ComputerName`: {regf.NewText("ComputerName", "BENCH")},
	}
)

// WindowsDisk builds a small Windows disk with more keys of the machine and of
// its person, and more files, named as below C:\.
func WindowsDisk(t testing.TB, software, system, ines Keys, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	write := func(name string, content []byte) {
		file := filepath.Join(root, filepath.FromSlash(strings.ReplaceAll(name, `\`, "/")))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, content, 0o644))
	}
	both := func(a, b Keys) Keys {
		all := maps.Clone(a)
		for path, values := range b {
			all[path] = append(slices.Clone(all[path]), values...)
		}
		return all
	}
	write(`Windows\System32\config\SOFTWARE`, Hive(t, both(windowsSoftware, software)))
	write(`Windows\System32\config\SYSTEM`, Hive(t, both(windowsSystem, system)))
	write(`Users\ines\NTUSER.DAT`, Hive(t, ines))
	for name, content := range files {
		write(name, []byte(content))
	}
	return root
}
