package apkdb_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/apkdb"
)

const installed = "C:Q1abc=\nP:tide\nV:1.18-r2\nT:reads the tide gauge\nm:Tidewatch Instruments " +
	"<a@b.example>\nD:so:libc.musl-x86_64.so.1 busybox\np:cmd:tide=1.18-r2\ni:reef=1 openrc\nF:usr/bin\nR:tide\na:0:0:755\nZ:Q12jmj7l5rSw0yVb/vlWAYkK/YBwk=\nR:other\n\nP:reef\nV:1\n"

func TestPackages(t *testing.T) {
	all := slices.Collect(apkdb.Packages(installed, func(path string) bool { return strings.HasSuffix(path, "/tide") }))
	require.Len(t, all, 2)
	require.Equal(t, apkdb.Package{Name: "tide", Version: "1.18-r2", Description: "reads the tide gauge",
		Maintainer: "Tidewatch Instruments <a@b.example>",
		Depends:    []string{"so:libc.musl-x86_64.so.1", "busybox"},
		Provides:   []string{"cmd:tide=1.18-r2"}, InstallIf: []string{"reef=1", "openrc"},
		Files: []apkdb.File{{Path: "/usr/bin/tide", SHA1: "da39a3ee5e6b4b0d3255bfef95601890afd80709"}}}, all[0])
}

func FuzzPackages(f *testing.F) {
	f.Add(installed)
	f.Fuzz(func(t *testing.T, text string) {
		for p := range apkdb.Packages(text, func(string) bool { return true }) {
			require.NotEmpty(t, p.Name)
		}
	})
}
