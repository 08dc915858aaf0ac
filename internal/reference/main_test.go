package main

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The pages and schemas in docs are those that the help texts and the types make.
func TestPagesAreCurrent(t *testing.T) {
	made, err := pages()
	require.NoError(t, err)
	require.Greater(t, len(made), 20)
	manual := len(made) - 1
	schemas, err := schemas()
	require.NoError(t, err)
	maps.Copy(made, schemas)
	for name, text := range made {
		have, err := os.ReadFile(filepath.Join("../../docs", name))
		require.NoError(t, err, "run make docs")
		a, b := strings.Split(string(text), "\n"), strings.Split(string(have), "\n")
		for k := range min(len(a), len(b)) { // the pages are long: the line says it
			require.Equal(t, a[k], b[k], "%s is not current, line %d: run make docs", name, k+1)
		}
		require.Len(t, b, len(a), "%s is not current: run make docs", name)
	}
	for dir, n := range map[string]int{"man": manual, "schema": len(schemas)} {
		old, err := filepath.Glob("../../docs/" + dir + "/*")
		require.NoError(t, err)
		require.Len(t, old, n, "docs/%s has pages that nothing makes: run make docs", dir)
	}
}

// The manual's own reader finds nothing wrong.
func TestManualPagesAreSound(t *testing.T) {
	mandoc, err := exec.LookPath("mandoc")
	if err != nil {
		if os.Getenv("LOCKBACK_PEERS") == "required" {
			t.Fatal("missing peer: mandoc")
		}
		t.Skip("missing peer: mandoc")
	}
	dir := t.TempDir()
	require.NoError(t, write(dir))
	files, err := filepath.Glob(filepath.Join(dir, "man/*"))
	require.NoError(t, err)
	out, err := exec.Command(mandoc, append([]string{"-T", "lint"}, files...)...).CombinedOutput()
	require.NoError(t, err, string(out))
}
