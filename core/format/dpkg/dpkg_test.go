package dpkg_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/dpkg"
)

const status = `Package: tide
Status: install ok installed
Priority: optional
Maintainer: Fogbell Works <packages@fogbell.example>
Architecture: amd64
Version: 1:3.2-1
Depends: libc6 (>= 2.36), tide-data | tide-mini [amd64], default:any
Conffiles:
 /etc/tide.conf 0123456789abcdef0123456789abcdef
 /etc/tide old.conf 1123456789abcdef0123456789abcdef
 /etc/gone.conf 2123456789abcdef0123456789abcdef obsolete
Description: tells the tide
 Longer text.

Package: shoal
Status: deinstall ok config-files

nonsense

Package: reef
Status: install ok triggers-pending
`

func TestPackages(t *testing.T) {
	all := slices.Collect(dpkg.Packages([]byte(status)))
	require.Len(t, all, 3)
	p := all[0]
	require.Equal(t, []string{"tide", "1:3.2-1", "amd64"}, []string{p.Name, p.Version, p.Architecture})
	require.True(t, p.Installed)
	require.False(t, all[1].Installed)
	require.True(t, all[2].Installed)
	require.Equal(t, "tells the tide", p.Get("description"))
	require.Empty(t, p.Get("Essential"))
	require.Equal(t, []string{"libc6", "tide-data", "tide-mini", "default"},
		slices.Collect(dpkg.Names(p.Get("Depends"))))
	require.Equal(t, map[string]string{"/etc/tide.conf": "0123456789abcdef0123456789abcdef",
		"/etc/tide old.conf": "1123456789abcdef0123456789abcdef"}, maps.Collect(p.Conffiles()))
}

func TestSumsAndDiversions(t *testing.T) {
	sums := map[string]string{}
	for file, sum := range dpkg.Sums([]byte("0123456789abcdef0123456789abcdef  " +
		"usr/bin/tide\nshort\n1123456789abcdef0123456789abcdef  ./usr/share/a b\n")) {
		sums[string(file)] = string(sum)
	}
	require.Equal(t, map[string]string{"usr/bin/tide": "0123456789abcdef0123456789abcdef",
		"usr/share/a b": "1123456789abcdef0123456789abcdef"}, sums)
	require.Equal(t, []dpkg.Diversion{{"/usr/bin/a", "/usr/bin/a.real", "tide"}},
		dpkg.Diversions([]byte("/usr/bin/a\n/usr/bin/a.real\ntide\n/cut\n")))
	owner, ok := dpkg.Owner("libc6:amd64.list", ".list")
	require.True(t, ok)
	require.Equal(t, "libc6", owner)
	_, ok = dpkg.Owner("tide.md5sums", ".list")
	require.False(t, ok)
}

func FuzzDatabase(f *testing.F) {
	f.Add([]byte(status))
	f.Fuzz(func(t *testing.T, text []byte) {
		for p := range dpkg.Packages(text) {
			require.NotEmpty(t, p.Name)
			for range p.Conffiles() {
			}
			for name := range dpkg.Names(p.Get("Depends")) {
				require.NotEmpty(t, name)
			}
		}
		for range dpkg.Sums(text) {
		}
		dpkg.Diversions(text)
	})
}
