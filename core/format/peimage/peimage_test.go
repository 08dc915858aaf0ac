package peimage_test

import (
	"bytes"
	"crypto/sha256"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/authenticode"
	"lockback/core/format/peimage"
)

// sample is a signed program of the example machines.
func sample(t testing.TB) []byte {
	t.Helper()
	content, err := os.ReadFile("testdata/sync.exe")
	require.NoError(t, err)
	return content
}

func open(t testing.TB, content []byte) *peimage.Image {
	t.Helper()
	i, err := peimage.Open(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	return i
}

func TestWhatAProgramSays(t *testing.T) {
	i := open(t, sample(t))
	require.Equal(t, "Windows program, 64-bit", i.Kind())
	v, err := i.Version()
	require.NoError(t, err)
	require.Equal(t, "Fogbell Works", v.Strings["CompanyName"])
	require.Equal(t, "3.2", v.Strings["ProductVersion"])
	messages, err := i.Signatures()
	require.NoError(t, err)
	require.Len(t, messages, 1)
	all, err := authenticode.Parse(messages[0])
	require.NoError(t, err)
	require.NoError(t, all[0].Err)
	require.Equal(t, "Fogbell Works", all[0].Signer.Subject.CommonName)
	h := sha256.New()
	require.NoError(t, i.Digest(h))
	require.Equal(t, all[0].Sum, h.Sum(nil))
}

func TestDamagedPrograms(t *testing.T) {
	for what, change := range map[string]func(b []byte) []byte{
		"added": func(b []byte) []byte { return append(b, 1) },
		"cut":   func(b []byte) []byte { return b[:len(b)-1] },
	} {
		_, err := open(t, change(slices.Clone(sample(t)))).Signatures()
		require.Error(t, err, what)
	}
	for _, text := range []string{"", "MZ", "#!/bin/sh\n"} {
		_, err := peimage.Open(bytes.NewReader([]byte(text)), int64(len(text)))
		require.ErrorIs(t, err, peimage.ErrNotPE)
	}
}

func FuzzImage(f *testing.F) {
	f.Add(sample(f))
	f.Fuzz(func(t *testing.T, content []byte) {
		i, err := peimage.Open(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			return
		}
		i.Version()
		i.Digest(sha256.New())
		messages, _ := i.Signatures()
		for _, m := range messages {
			authenticode.Parse(m)
		}
	})
}

func FuzzSignature(f *testing.F) {
	messages, err := open(f, sample(f)).Signatures()
	require.NoError(f, err)
	f.Add(messages[0])
	f.Fuzz(func(t *testing.T, message []byte) {
		all, err := authenticode.Parse(message)
		require.Equal(t, err == nil, len(all) > 0)
	})
}
