package testkit

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// exported are the exports of hives by their SHA-256: most hives of a machine stay as they are.
var exported sync.Map

// Export is what hivexregedit reads from a hive: a line for each key, ending in
// a backslash, and for each value, with its type and data.
func Export(t testing.TB, hive string) map[string]string {
	t.Helper()
	Need(t, "hivexregedit")
	content, err := os.ReadFile(hive)
	require.NoError(t, err)
	sum := sha256.Sum256(content)
	if all, known := exported.Load(sum); known {
		return maps.Clone(all.(map[string]string))
	}
	cmd := exec.Command("hivexregedit", "--export", hive, `\`)
	cmd.Env = append(os.Environ(), "PERL_UNICODE=O") // else it writes some names as Latin-1
	out, err := cmd.Output()
	require.NoError(t, err, hive)
	all, path := map[string]string{}, ""
	for line := range strings.Lines(string(out)) {
		line = strings.TrimRight(line, "\r\n")
		switch {
		case strings.HasPrefix(line, `[\`):
			path = strings.TrimSuffix(strings.TrimSuffix(line[2:], "]"), `\`) + `\`
			all[path] = "key"
		case strings.HasPrefix(line, `"`), strings.HasPrefix(line, "@="):
			name, data := cutName(t, line)
			all[path+"\x00"+name] = exportedData(t, data)
		}
	}
	exported.Store(sum, maps.Clone(all))
	return all
}

// cutName splits a line of an export behind the value's quoted name.
func cutName(t testing.TB, line string) (name, data string) {
	if rest, ok := strings.CutPrefix(line, "@="); ok {
		return "", rest
	}
	var b strings.Builder
	for k := 1; k < len(line); k++ {
		switch line[k] {
		case '\\':
			k++
			b.WriteByte(line[k])
		case '"':
			require.Equal(t, byte('='), line[k+1], line)
			return b.String(), line[k+2:]
		default:
			b.WriteByte(line[k])
		}
	}
	t.Fatalf("not a line of an export: %q", line)
	return "", ""
}

// exportedData brings data to the form "type:hexadecimal digits".
func exportedData(t testing.TB, data string) string {
	switch kind, digits, _ := strings.Cut(data, ":"); {
	case kind == "dword":
		n, err := strconv.ParseUint(digits, 16, 32)
		require.NoError(t, err)
		return fmt.Sprintf("4:%02x%02x%02x%02x", n&255, n>>8&255, n>>16&255, n>>24)
	case kind == "hex":
		return "3:" + strings.ReplaceAll(digits, ",", "")
	default:
		number, ok := strings.CutPrefix(kind, "hex(")
		require.True(t, ok, data)
		n, err := strconv.ParseUint(strings.TrimSuffix(number, ")"), 16, 32)
		require.NoError(t, err)
		return fmt.Sprintf("%d:%s", n, strings.ReplaceAll(digits, ",", ""))
	}
}

// Hives lists the hive files of a Windows disk that hold autostart entries.
func Hives(t testing.TB, root string) []string {
	t.Helper()
	var found []string
	for _, pattern := range []string{"Windows/System32/config/*", "Users/*/*.DAT",
		"Users/*/AppData/Local/Microsoft/Windows/*.dat"} {
		files, err := filepath.Glob(filepath.Join(root, pattern))
		require.NoError(t, err)
		for _, f := range files {
			if !strings.Contains(filepath.Base(f), ".LOG") {
				found = append(found, f)
			}
		}
	}
	require.NotEmpty(t, found)
	slices.Sort(found)
	return found
}

// ExportAll is [Export] of all hives of a disk.
func ExportAll(t testing.TB, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, hive := range Hives(t, root) {
		rel, err := filepath.Rel(root, hive)
		require.NoError(t, err)
		for name, data := range Export(t, hive) {
			all[rel+": "+name] = data
		}
	}
	return all
}

// Digest words what hivexregedit's own form of data is for a value.
func Digest(kind uint32, data []byte) string {
	return fmt.Sprintf("%d:%s", kind, hex.EncodeToString(data))
}

// Changed lists what differs between two exports.
func Changed(a, b map[string]string) []string {
	var names []string
	for name := range a {
		if v, ok := b[name]; !ok || v != a[name] {
			names = append(names, name)
		}
	}
	for name := range b {
		if _, ok := a[name]; !ok {
			names = append(names, name)
		}
	}
	return slices.Compact(slices.Sorted(maps.Keys(set(names))))
}

func set(names []string) map[string]bool {
	m := map[string]bool{}
	for _, n := range names {
		m[n] = true
	}
	return m
}
