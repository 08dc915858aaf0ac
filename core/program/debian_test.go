package program

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// A list may name a file by any path that leads to it: each is looked for.
func TestSpellings(t *testing.T) {
	merged := mergedPaths{"/bin/", "/sbin/", "/lib/"}
	joined := mergedPaths{"/bin/", "/lib/", "/sbin/"} // what is last tells that sbin is bin
	for _, c := range []struct {
		merged mergedPaths
		key    string
		want   []string
	}{
		{nil, "/bin/tide", []string{"/bin/tide"}},
		{nil, "/usr/bin/tide", []string{"/usr/bin/tide"}},
		{merged, "/bin/tide", []string{"/bin/tide", "/usr/bin/tide"}},
		{merged, "/sbin/tide", []string{"/sbin/tide", "/usr/sbin/tide"}},
		{merged, "/etc/tide", []string{"/etc/tide"}},
		{joined, "/bin/tide", []string{"/bin/tide", "/sbin/tide", "/usr/bin/tide", "/usr/sbin/tide"}},
	} {
		got := c.merged.spellings(c.key)
		require.ElementsMatch(t, c.want, got, c.key)
		for _, spelling := range got {
			require.Equal(t, c.key, c.merged.key(spelling))
		}
	}
}
