package catalogue

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// What quick accepts, it reads as the package for YAML does; the built-in files it accepts.
func TestQuickReadsAsYAML(t *testing.T) {
	names, err := filepath.Glob("data/*/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	for _, name := range names {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		got, err := quick(string(text))
		require.NoError(t, err, name)
		want, problem := fromYAML(text)
		require.Nil(t, problem, name)
		require.Equal(t, want, got, name)
	}
	for _, row := range []struct{ text, wrong string }{
		{"a: b", ""}, {"a:\n- b\n- c: d\n  e: f\ng: [h, 'i''j', \"k\\\"l\"]\n", ""}, {"a: {b: c, d: [e, f]}\n# end",
			""},
		{"a: {b: c} d", "line 1: something stands behind the value: d"},
		{"a: [b, c", "line 1: a bracket is not closed"},
		{"a: b: c", "this needs quotes"}, {"a: b # c", "this needs quotes"}, {"a: &b c", "this needs quotes"},
		{"a: *b", "this needs quotes"}, {"a: 'b", "a quote is not closed"}, {`a: "b\n"`, "only"},
		{"a:\nb: c", "line 1: a has no value"}, {"a: b\n  c: d", "line 2: the indentation fits nothing above"},
		{"a: |\n  b", "this needs quotes"}, {"", "the file is empty"},
	} {
		got, err := quick(row.text)
		if row.wrong != "" {
			require.ErrorContains(t, err, row.wrong, row.text)
			continue
		}
		require.NoError(t, err, row.text)
		want, problem := fromYAML([]byte(row.text))
		require.Nil(t, problem, row.text)
		require.Equal(t, want, got, row.text)
	}
}

func FuzzQuick(f *testing.F) {
	for _, text := range []string{"a: b", "a:\n  - {b: c}\n  - d: 'e'\n    f: [g, \"h\"]\n", "- a\n- b: c\n",
		"a: {b: [c, {d: e}]}"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		got, err := quick(text)
		if err != nil {
			return
		}
		want, problem := fromYAML([]byte(text))
		require.Nil(t, problem, "%q", text)
		require.Equal(t, want, got, "%q", text)
	})
}

func BenchmarkLoad(b *testing.B) {
	for _, system := range Systems {
		b.Run(system, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				load(system)
			}
		})
	}
}
