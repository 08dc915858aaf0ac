package peers

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// randomValue draws a value that a property list can hold.
func randomValue(r *rand.Rand, depth int) any {
	words := []string{"", "a", "org.gullrock.tide", "with blanks", "Übersicht", "深い海", "<&>\"'", "😀 tide",
		"line\nbreak", "tab\tand more", "true"}
	switch n := r.IntN(10); {
	case n < 3:
		return words[r.IntN(len(words))]
	case n == 3:
		return r.IntN(2) == 0
	case n == 4:
		return uint64(r.Uint32()) << r.IntN(31)
	case n == 5:
		return -int64(1 + r.Uint32())
	case n == 6:
		return float64(r.IntN(100000)) / 16
	case n == 7:
		b := make([]byte, r.IntN(100))
		for k := range b {
			b[k] = byte(r.Uint32())
		}
		return b
	case n == 8 && depth < 4:
		list := []any{}
		for range r.IntN(5) {
			list = append(list, randomValue(r, depth+1))
		}
		return list
	case n == 9 && depth < 4:
		dict := map[string]any{}
		for k := range r.IntN(6) {
			dict[fmt.Sprintf("%s%d", words[r.IntN(8)], k)] = randomValue(r, depth+1)
		}
		return dict
	}
	return time.Date(2026, 1, 1+r.IntN(300), r.IntN(24), r.IntN(60), r.IntN(60), 0, time.UTC)
}

// wideReals makes all reals ones of 64 bits: plistutil shortens those that lose nothing.
func wideReals(v any) any {
	switch v := v.(type) {
	case float32:
		return float64(v)
	case []any:
		for k := range v {
			v[k] = wideReals(v[k])
		}
	case map[string]any:
		for k := range v {
			v[k] = wideReals(v[k])
		}
	}
	return v
}

// TestPropertyLists: plistutil reads what we wrote, after each of a row of random
// edits and in both forms, and agrees; and we read what it wrote.
func TestPropertyLists(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "plistutil")
	dir := t.TempDir()
	convert := func(form string, content []byte) []byte {
		in, out := filepath.Join(dir, "in"), filepath.Join(dir, "out")
		require.NoError(t, os.WriteFile(in, content, 0o644))
		said, err := exec.Command("plistutil", "-f", form, "-i", in, "-o", out).CombinedOutput()
		require.NoError(t, err, "%s", said)
		b, err := os.ReadFile(out)
		require.NoError(t, err)
		return b
	}
	r := rand.New(rand.NewPCG(1887, 314))
	edits := 0
	for round := range draw.Count(40) {
		root := map[string]any{}
		for k := range 3 + r.IntN(20) {
			root[fmt.Sprintf("key %d.%d", round, k)] = randomValue(r, 0)
		}
		doc := plist.New(root)
		doc.Form = []plist.Form{plist.XML, plist.Binary}[round%2]
		content, err := doc.Bytes()
		require.NoError(t, err)
		for range 5 {
			doc, err := plist.Parse(content)
			require.NoError(t, err)
			form := doc.Form
			key := fmt.Sprintf("key %d.%d", round, r.IntN(25))
			if r.IntN(4) == 0 {
				doc.Delete(key)
			} else {
				require.NoError(t, doc.Set(randomValue(r, 0), key))
			}
			if content, err = doc.Bytes(); err != nil {
				t.Fatal(err)
			}
			edits++
			for _, other := range []string{"xml", "bin"} {
				theirs, err := plist.Parse(convert(other, content))
				require.NoError(t, err)
				require.Equal(t, doc.Root, wideReals(theirs.Root), "plistutil reads something else than we wrote")
				// What it wrote, edited by us, and read by it again.
				require.NoError(t, theirs.Set(true, "org.gullrock.added"))
				b, err := theirs.Bytes()
				require.NoError(t, err)
				again, err := plist.Parse(convert("bin", b))
				require.NoError(t, err)
				require.Equal(t, theirs.Root, wideReals(again.Root))
			}
			doc, err = plist.Parse(content)
			require.NoError(t, err)
			require.Equal(t, form, doc.Form)
		}
	}
	require.Equal(t, 5*draw.Count(40), edits)
}
