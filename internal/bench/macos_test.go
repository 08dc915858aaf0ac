//go:build unix

package bench

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// BenchmarkMacList holds the inventory of a large Mac's disk against one process
// that merely reads the same files.
func BenchmarkMacList(b *testing.B) {
	root := filepath.Join(b.TempDir(), "mac")
	require.NoError(b, os.Mkdir(root, 0o755))
	require.NoError(b, BuildMac(root, LargeMac))
	var names []byte
	files := 0
	require.NoError(b, filepath.WalkDir(root, func(name string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && (strings.HasSuffix(name, ".plist") ||
			strings.HasSuffix(name, ".btm")) {
			names = append(append(names, name...), '\n')
			files++
		}
		return err
	}))
	b.Logf("%d files", files)
	reader, program := compiled(b, "./internal/bench/readfiles"), testkit.Built(b)
	for _, format := range []string{"table", "json"} {
		for _, all := range []string{"", "--all"} {
			b.Run(format+all, func(b *testing.B) {
				args := []string{"--root", root, "--store", "/nonexistent/record.db", "--format", format, "list"}
				if all != "" {
					args = append(args, all)
				}
				sideBySide(b, func() (time.Duration, int64) { return timed(b, nil, program, args...) },
					func() (time.Duration, int64) { return timed(b, names, reader) })
			})
		}
	}
}
