package testkit

import (
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/demo"
)

// machines are the museum's computers, each made once a process.
var machines struct {
	sync.Mutex
	dir  string
	made map[string]error
}

// Museum returns a fresh copy of one of the museum's computers, with a record that does not exist yet beside it.
func Museum(t testing.TB, name string) Program {
	t.Helper()
	original, err := museumOriginal(name)
	require.NoError(t, err)
	dir := t.TempDir()
	root := filepath.Join(dir, name)
	Copy(t, original, root)
	return Program{Root: root, Store: filepath.Join(dir, "record.db")}
}

func museumOriginal(name string) (string, error) {
	machines.Lock()
	defer machines.Unlock()
	if machines.dir == "" {
		dir, err := os.MkdirTemp("", "lockback-museum-")
		if err != nil {
			return "", err
		}
		machines.dir, machines.made = dir, map[string]error{}
	}
	original := filepath.Join(machines.dir, name)
	err, done := machines.made[name]
	if !done {
		err = demo.BuildMachine(name, original)
		machines.made[name] = err
	}
	return original, err
}

// Copy copies a folder with all that its files have: owners, modes, times, attributes, links. The copy must not exist.
func Copy(t testing.TB, from, to string) {
	t.Helper()
	out, err := exec.Command("cp", "-a", "--reflink=auto", from, to).CombinedOutput()
	require.NoError(t, err, "%s", out)
}
