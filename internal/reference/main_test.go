package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// The pages in docs are those that the help texts make.
func TestPagesAreCurrent(t *testing.T) {
	made, err := pages()
	require.NoError(t, err)
	require.Greater(t, len(made), 20)
	for name, text := range made {
		have, err := os.ReadFile(filepath.Join("../../docs", name))
		require.NoError(t, err, "run make docs")
		require.Equal(t, string(text), string(have), "%s is not current: run make docs", name)
	}
	old, err := filepath.Glob("../../docs/man/*")
	require.NoError(t, err)
	require.Len(t, old, len(made)-1, "docs/man has pages that no command makes: run make docs")
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
