package alpm_test

import (
	"bytes"
	"compress/gzip"
	"maps"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/alpm"
)

func TestParse(t *testing.T) {
	d := alpm.Parse([]byte("%NAME%\ntide\n\n%DEPENDS%\nglibc\nbash>=5\n\n%%\nx\n"))
	require.Equal(t, []string{"tide"}, d["NAME"])
	require.Equal(t, []string{"glibc", "bash>=5"}, d["DEPENDS"])
}

func packed(t testing.TB, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestSums(t *testing.T) {
	sums := maps.Collect(alpm.Sums(packed(t, "#mtree\n/set type=file\n./usr/bin/a\\040b time=1 "+
		"sha256digest=ab\n./usr type=dir\n")))
	require.Equal(t, map[string]string{"/usr/bin/a b": "ab"}, sums)
}

func FuzzDatabase(f *testing.F) {
	f.Add([]byte("%NAME%\ntide\n"))
	f.Add(packed(f, "./a sha256digest=ab\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		alpm.Parse(b)
		for name := range alpm.Sums(b) {
			require.Equal(t, byte('/'), name[0])
		}
	})
}
