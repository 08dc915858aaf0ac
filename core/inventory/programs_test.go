package inventory_test

import (
	"crypto/md5"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/format/regf"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/internal/demo"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// drawnEntry is an entry of a machine that is drawn from the catalogue: its names, signer and package come from there.
type drawnEntry struct {
	row                           *catalogue.Entry
	place, name, file, signer, of string // of: the package
}

// drawEntries draws entries of the catalogue's own kinds, of programs each once. A wildcard becomes a few letters.
func drawEntries(r *rand.Rand, c *catalogue.Catalogue, n int, places ...string) []drawnEntry {
	one := func(all []string) string {
		name := all[r.IntN(len(all))]
		return strings.NewReplacer("*", fmt.Sprint("q", r.IntN(1000)), "?", "7").Replace(name)
	}
	var all []drawnEntry
	taken := map[string]bool{} // a name twice in one place would be one entry
	entries := c.All()
	for _, k := range r.Perm(len(entries)) {
		p := entries[k].Program
		if p == nil || len(all) == n {
			continue
		}
		e := drawnEntry{row: &entries[k]}
		for _, start := range p.Starts {
			if place := strings.TrimPrefix(start.Location, "*."); slices.Contains(places, place) && e.place == "" {
				e.place, e.name = place, one(start.Names)
			}
		}
		if files := slices.Concat(p.Files, p.Shared); len(files) > 0 {
			e.file = one(files)
		}
		if len(p.Signs) > 0 {
			e.signer = p.Signs[r.IntN(len(p.Signs))].Name
		}
		if len(p.Packages) > 0 {
			e.of = p.Packages[r.IntN(len(p.Packages))]
		}
		if key := strings.ToLower(e.place + " " + e.name); e.place != "" && !taken[key] {
			taken[key] = true
			all = append(all, e)
		}
	}
	return all
}

// windowsOf is a Windows disk with drawn entries; sign makes the file of each.
func windowsOf(t *testing.T, entries []drawnEntry, sign func(e drawnEntry) []byte) string {
	key, root := demo.TrustedRoot()
	software := testkit.Keys{key: {root}, `Microsoft\Windows NT\CurrentVersion`: {regf.NewText("SystemRoot",
		`C:\Windows`)}}
	system, files := testkit.Keys{}, map[string]string{}
	const run = `Microsoft\Windows\CurrentVersion\Run`
	for k, e := range entries {
		path := fmt.Sprintf(`Program Files\%d\%s`, k, e.file)
		files[path] = string(sign(e))
		command := `"C:\` + path + `"`
		switch e.place {
		case "run":
			software[run] = append(software[run], regf.NewText(e.name, command))
		case "services":
			system[`ControlSet002\Services\`+e.name] = []regf.Value{regf.NewNumber("Type", 0x10),
				regf.NewNumber("Start", 2), regf.NewText("ImagePath", command)}
		}
	}
	return testkit.WindowsDisk(t, software, system, nil, files)
}

// found are the entries of a disk that were drawn, by place and name.
func found(t *testing.T, root string) map[string]*location.Item {
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	all := map[string]*location.Item{}
	for _, item := range inventory.Take(m, nil).Items {
		name := item.SystemName
		all[item.Location[strings.IndexByte(item.Location, '.')+1:]+" "+strings.ToLower(name)] = item
	}
	return all
}

// On machines of the catalogue's own kinds, nearly everything has its description and verdict, and nothing a wrong
// maker. The same names on files that nobody, or somebody else, signed, or that were changed, get no verdict.
func TestMachinesOfKnownPrograms(t *testing.T) {
	c := catalogue.Of("windows")
	for _, seed := range draw.Seeds(t, 20) {
		entries := drawEntries(rand.New(rand.NewPCG(seed, 33)), c, 30, "run", "services")
		require.Len(t, entries, 30)
		known := 0
		there := found(t, windowsOf(t, entries, func(e drawnEntry) []byte {
			return demo.WindowsProgram(e.signer, "Sample", false)
		}))
		for _, e := range entries {
			item := there[e.place+" "+strings.ToLower(e.name)]
			require.NotNil(t, item, "%s %s", e.place, e.name)
			require.Equal(t, autostart.Maker{Name: e.signer, Basis: autostart.BySignature}, item.Maker(), e.name)
			require.NotContains(t, item.Problems, autostart.Impostor, e.name)
			facts := item.Entry.Facts()
			if facts.Description == e.row.Does && facts.VerdictWord() == e.row.Verdict {
				known++
			}
			if catalogue.Protections[e.row.Protect] != "" && facts.Description == e.row.Does {
				require.Equal(t, catalogue.Protections[e.row.Protect], item.Guarded, e.name)
			}
		}
		require.GreaterOrEqual(t, known, 28, "seed %d: description and verdict of %d in 30", seed, known)

		for what, sign := range map[string]func(e drawnEntry) []byte{
			"not signed": func(drawnEntry) []byte { return demo.WindowsProgram("", "Sample", false) },
			"signed by a stranger": func(drawnEntry) []byte {
				return demo.WindowsProgram("Tidewrack Ltd", "Sample",
					false)
			},
			"changed": func(e drawnEntry) []byte {
				image := demo.WindowsProgram(e.signer, "Sample", false)
				image[0x210] ^= 1
				return image
			},
		} {
			there := found(t, windowsOf(t, entries, sign))
			for _, e := range entries {
				item := there[e.place+" "+strings.ToLower(e.name)]
				require.NotNil(t, item, "%s %s", e.place, e.name)
				facts := item.Entry.Facts()
				require.Equal(t, autostart.Unrated, facts.VerdictWord(), "%s, %s", e.name, what)
				require.Empty(t, item.Guarded, "%s, %s", e.name, what)
				require.NotEqual(t, e.row.Does, facts.Description, "%s, %s", e.name, what)
				require.NotEqual(t, e.signer, item.Maker().Name, "%s, %s", e.name, what)
				own := slices.ContainsFunc(e.row.Program.Files, func(f string) bool {
					return strings.EqualFold(f,
						e.file)
				})
				if p := e.row.Program; what == "signed by a stranger" && own && p.SignsOnly {
					require.Contains(t, item.Problems, autostart.Impostor, "%s, %s", e.name, what)
				}
			}
		}
	}
}

// linuxOf is a Debian disk with drawn sign-in entries and programs, whose packages delivered them.
func linuxOf(t *testing.T, entries []drawnEntry, change bool) string {
	root := t.TempDir()
	write := func(name, text string, mode os.FileMode) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), mode))
	}
	write("etc/machine-id", strings.Repeat("1888", 8)+"\n", 0o644)
	write("etc/os-release", "ID=debian\nNAME=Debian\n", 0o644)
	write("etc/passwd", "root:x:0:0:root:/root:/bin/sh\n", 0o644)
	var status strings.Builder
	for _, pack := range []string{"libc6", "base-files", "init"} {
		fmt.Fprintf(&status,
			"Package: %s\nStatus: install ok installed\nMaintainer: Museum <a@b.example>\nVersion: 1\n"+
				"Architecture: amd64\nEssential: yes\nPriority: required\n\n", pack)
	}
	for k, e := range entries {
		program, entry := fmt.Sprintf("usr/bin/p%d-%d", k, len(entries)), "etc/xdg/autostart/"+e.name+".desktop"
		text := "[Desktop Entry]\nType=Application\nName=" + e.name + "\nExec=/" + program + "\n"
		write(program, "#!/bin/sh\n", 0o755)
		write(entry, text, 0o644)
		fmt.Fprintf(&status,
			"Package: %s\nStatus: install ok installed\nMaintainer: Museum <a@b.example>\nVersion: 1\n"+
				"Architecture: amd64\nPriority: optional\n\n", e.of)
		write("var/lib/dpkg/info/"+e.of+".list", "/"+program+"\n/"+entry+"\n", 0o644)
		write("var/lib/dpkg/info/"+e.of+".md5sums", sumOf("#!/bin/sh\n")+"  "+program+"\n"+sumOf(text)+"  "+entry+
			"\n", 0o644)
		if change {
			write(program, "#!/bin/sh\n# somebody else's\n", 0o755)
		}
	}
	write("var/lib/dpkg/status", status.String(), 0o644)
	return root
}

// On Linux the package proves a program; a program that was changed since has no verdict.
func TestLinuxMachinesOfKnownPrograms(t *testing.T) {
	c := catalogue.Of("linux")
	for _, seed := range draw.Seeds(t, 20) {
		entries := drawEntries(rand.New(rand.NewPCG(seed, 34)), c, 30, "xdg-autostart")
		entries = slices.DeleteFunc(entries, func(e drawnEntry) bool {
			other := slices.IndexFunc(entries, func(o drawnEntry) bool { return o.of == e.of })
			return entries[other].name != e.name // of one package, one
		})
		known := 0
		there := found(t, linuxOf(t, entries, false))
		for _, e := range entries {
			item := there["xdg-autostart "+strings.ToLower(e.name+".desktop")]
			if item == nil {
				item = there["xdg-autostart "+strings.ToLower(e.name)]
			}
			require.NotNil(t, item, e.name)
			facts := item.Entry.Facts()
			if facts.DescriptionBasis == autostart.ByCatalogue && (facts.VerdictWord() == e.row.Verdict ||
				facts.Description != e.row.Does) { // a row of the system's own may have the name
				known++
			}
		}
		require.GreaterOrEqual(t, known*100, len(entries)*95, "seed %d: %d of %d", seed, known, len(entries))
		for name, item := range found(t, linuxOf(t, entries, true)) {
			require.Equal(t, autostart.Unrated, item.Entry.Facts().VerdictWord(), name)
		}
	}
}

// sumOf is the digest by which dpkg knows a file.
func sumOf(text string) string { return fmt.Sprintf("%x", md5.Sum([]byte(text))) }
