package testkit

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// required says that every peer must be there: LOCKBACK_PEERS=required, as CI
// sets it. Elsewhere a test that lacks its peer is skipped by name.
func required() bool { return os.Getenv("LOCKBACK_PEERS") == "required" }

// NeedRoot skips the test where this process has no rights for what it says.
func NeedRoot(t testing.TB, what string) {
	t.Helper()
	if os.Geteuid() == 0 {
		return
	}
	require.False(t, required(), "needs root: %s", what)
	t.Skipf("needs root: %s", what)
}

// Need skips the test where one of the programs is missing.
func Need(t testing.TB, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			require.False(t, required(), "the peer %s is missing", p)
			t.Skipf("the peer %s is missing", p)
		}
	}
}

// Readable lets everyone run the built program.
func Readable(t testing.TB) {
	t.Helper()
	require.NoError(t, os.Chmod(filepath.Dir(Built(t)), 0o755))
}
