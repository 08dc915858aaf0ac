package codesign_test

import (
	"bytes"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/codesign"
)

// sample is a signed program of the example machines.
func sample(t testing.TB) []byte {
	t.Helper()
	content, err := os.ReadFile("testdata/catalogue")
	require.NoError(t, err)
	return content
}

func signature(content []byte) (s codesign.Signature, err error) {
	codes, err := codesign.Open(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return s, err
	}
	return codes[0].Signature()
}

func TestSignature(t *testing.T) {
	s, err := signature(sample(t))
	require.NoError(t, err)
	require.Equal(t, "org.gullrock.catalogue", s.Identifier)
	require.Equal(t, "GULLROCK18", s.Team)
	require.True(t, s.Runtime)
	require.False(t, s.AdHoc)
	info, err := os.ReadFile("testdata/Info.plist")
	require.NoError(t, err)
	require.True(t, s.Seals(codesign.InfoPlist, info))
	require.False(t, s.Seals(codesign.InfoPlist, append(info, ' ')))
	chain, err := s.Chain(time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	require.Equal(t, "Gullrock Test Root", chain[len(chain)-1].Subject.CommonName)
	_, err = s.Chain(time.Date(2056, 1, 1, 0, 0, 0, 0, time.UTC))
	require.Error(t, err)
}

// Whatever byte of the code, of its digests or of the signature is another, it does not hold.
func TestNoByteCanChange(t *testing.T) {
	good := sample(t)
	covered := len(bytes.TrimRight(good, "\x00"))
	for k := 0; k < covered; k += 7 {
		bad := slices.Clone(good)
		bad[k] ^= 0x10
		s, err := signature(bad)
		if err != nil {
			continue
		}
		require.GreaterOrEqual(t, k, 0x1000, "a byte of the code is another, and it is taken")
		// What is left are certificates that came with it, and marks of no meaning: who signed
		// must be the same, or nobody that can be traced.
		if _, err := s.Chain(time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)); err == nil {
			require.Equal(t, "GULLROCK18", s.Team, k)
			require.False(t, s.AdHoc, k)
		}
	}
	for _, cut := range []int{1, 100, 0x2000, 0x2800} {
		_, err := signature(good[:len(good)-cut])
		require.Error(t, err, cut)
	}
}

func FuzzCode(f *testing.F) {
	f.Add(sample(f))
	f.Fuzz(func(t *testing.T, content []byte) {
		codes, err := codesign.Open(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			return
		}
		for _, c := range codes {
			if s, err := c.Signature(); err == nil {
				s.Chain(time.Unix(1800000000, 0))
			}
		}
	})
}
