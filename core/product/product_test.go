package product

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
)

// linux is a small machine with some files; a name that ends in a slash is a folder.
func linux(t *testing.T, files ...string) *machine.Machine {
	t.Helper()
	root := t.TempDir()
	for _, name := range append(files, "etc/os-release") {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		if name[len(name)-1] == '/' {
			require.NoError(t, os.MkdirAll(file, 0o755))
		} else {
			require.NoError(t, os.WriteFile(file, nil, 0o755))
		}
	}
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	return m
}

// item is an entry of a product, with the evidence of where that is known from.
func item(name, product, basis, program string, more ...location.Fact) *location.Item {
	i := &location.Item{Entry: autostart.Entry{Handle: name, Name: name, Target: autostart.Target{Path: program}}}
	if product != "" {
		i.Known = &autostart.Known{Product: autostart.Product{Name: product, Version: "1"},
			Maker: autostart.Maker{Name: "Tidewatch Instruments", Basis: autostart.ByPackage}}
		i.AddFacts(func() []location.Fact {
			return append([]location.Fact{{Kind: autostart.FactProduct, Value: product + " 1", Basis: basis}}, more...)
		})
	}
	return i
}

// Each system's way to take a product off again, for a shell that takes names as they are.
func TestUninstall(t *testing.T) {
	for _, row := range []struct {
		basis, by, command string
		files              []string
	}{
		{"package tide (dpkg)", "dpkg", "apt remove tide", nil},
		{"package tide (rpm)", "rpm", "dnf remove tide", []string{"usr/bin/dnf", "usr/bin/rpm"}},
		{"package tide (rpm)", "rpm", "zypper remove tide", []string{"usr/bin/zypper", "usr/bin/rpm"}},
		{"package tide (rpm)", "rpm", "rpm -e tide", []string{"usr/bin/rpm"}},
		{"package tide (rpm)", "rpm", "", nil},
		{"package tide (pacman)", "pacman", "pacman -Rs tide", nil},
		{"package tide (apk)", "apk", "apk del tide", nil},
		{"app org.tide.Chart (Flatpak)", "Flatpak", "flatpak uninstall org.tide.Chart", nil},
		{"snap tide", "snap", "snap remove tide", nil},
		{"package tide; rm -rf ~ (dpkg)", "dpkg", "apt remove 'tide; rm -rf ~'", nil},
		{"package -y (dpkg)", "dpkg", "apt remove -- '-y'", nil},
		{"package it's (dpkg)", "dpkg", `apt remove 'it'\''s'`, nil},
		{"its version resource", "", "", nil},
		{"/private/var/db/receipts/org.tide.plist", "an installer package", "", nil},
	} {
		products, without := Group(linux(t, row.files...), []*location.Item{item("a", "tide", row.basis, "/tide"),
			item("b", "", "", "/other")})
		require.Len(t, products, 1)
		require.Equal(t, 1, without)
		require.Equal(t, []string{row.by, row.command}, []string{products[0].InstalledBy, products[0].Uninstall},
			row.basis)
	}
	products, _ := Group(linux(t), []*location.Item{item("a", "tide", "the list of installed products",
		`C:\Tide\tide.exe`, location.Fact{Kind: autostart.FactUninstalledBy, Value: `"C:\Tide\gone.exe" /S`})})
	require.Equal(t, []string{"an installer", `"C:\Tide\gone.exe" /S`}, []string{products[0].InstalledBy,
		products[0].Uninstall})
}

// Products stand by their names; one program that several entries start costs once; what figures of different sources
// say is not added.
func TestGroup(t *testing.T) {
	m := linux(t, "lost+found/")
	born := time.Date(2025, 3, 1, 23, 30, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(m.Root, "lost+found"), born, born))
	cost := func(i *location.Item, ms int64, basis string) *location.Item {
		i.Cost = &autostart.Cost{CPUMS: ms, Basis: basis}
		return i
	}
	early, late := time.Unix(1e9, 0), time.Unix(2e9, 0)
	one, two, three := cost(item("one", "Tide", "package tide (dpkg)", "/tide"), 5, "running now"),
		cost(item("two", "Tide", "package tide (dpkg)", "/tide"), 5, "running now"),
		cost(item("three", "Tide", "package tide (dpkg)", "/more"), 7, "running now")
	four := cost(item("four", "Tide", "package tide (dpkg)", "/else"), 100, "last sign-in")
	one.Uses, two.Uses = []autostart.Use{{User: "ines", Last: early}}, []autostart.Use{{User: "bram", Last: late}}
	one.Known.Product.Installed = "2025-03-01T08:00:00Z"
	fog := item("fog", "fog", "package fog (dpkg)", "/fog")
	fog.Known.Product.Installed = "2025-03-02"
	newer := item("newer", "Tide", "package tide (dpkg)", "/newer")
	newer.Known.Product.Version = "2"
	products, without := Group(m, []*location.Item{newer, one, two, three, four, fog})
	require.Zero(t, without)
	var names []string
	for _, p := range products {
		names = append(names, p.Name+" "+p.Version)
	}
	require.Equal(t, []string{"fog 1", "Tide 1", "Tide 2"}, names)
	tide := products[1]
	require.Len(t, tide.Items, 4)
	require.Equal(t, int64(12), tide.Cost.CPUMS)
	require.Equal(t, int64(5), one.Cost.CPUMS, "an entry's own figures stay as they are")
	require.Equal(t, "bram", tide.Used.User)
	require.Equal(t, []bool{false, true, false}, []bool{products[0].WithSystem, tide.WithSystem,
		products[2].WithSystem})
	require.Equal(t, "Tidewatch Instruments", tide.Maker.Name)
}
