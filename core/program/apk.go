package program

import (
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/apkdb"
	"lockback/core/machine"
	"lockback/core/machine/files"
)

// apkInstalled is the database of apk: today's place is that below /usr.
var apkInstalled = []string{"/usr/lib/apk/db/installed", "/lib/apk/db/installed"}

// apkPackages tells which package of apk delivered the files, and whether they still are as it
// delivered them. Part of the system is what the package "alpine-base" consists of, and what a desktop
// session that can be chosen needs.
func apkPackages(m *machine.Reader, programs []*File) {
	for _, name := range apkInstalled {
		content, err := m.ReadFile(name, maxStatus)
		if err != nil {
			if !files.IsMissing(err) {
				for _, f := range programs {
					f.Evidence = append(f.Evidence, unread(name, err))
				}
			}
			continue
		}
		merged := mergedFolders(m)
		wanted := merged.wanted(programs)
		set := apkNeeds{installIf: map[string][]string{}}
		var owners []apkdb.Package
		for p := range apkdb.Packages(string(content), func(file string) bool {
			return wanted[merged.key(file)] != nil || isSession(file)
		}) {
			set.add(p)
			if len(p.Files) > 0 {
				owners = append(owners, p)
			}
		}
		base := set.base()
		found := map[*File]delivery{}
		for _, p := range owners {
			e := Evidence{Basis: autostart.ByPackage, Source: "package " + p.Name + " (apk)", Package: p.Name,
				Maker: packagerName(p.Maintainer), Product: p.Name, Version: p.Version, Description: p.Description,
				System: base[p.Name], Official: true} // apk keeps nothing that tells other makers' packages apart
			for _, owned := range p.Files {
				for _, f := range wanted[merged.key(owned.Path)] {
					if was, ok := found[f]; !ok || merged.key(was.path) != merged.key(f.Path) {
						found[f] = delivery{path: owned.Path, evidence: e, kind: "sha1", sum: owned.SHA1}
					}
				}
			}
		}
		sharedOut(programs, func(f *File) {
			if d, ok := found[f]; ok {
				f.compare(d, merged)
			}
		})
		return
	}
}

// apkNeeds are which packages need which, and which come by themselves with which.
type apkNeeds struct {
	needs     dependencies
	installIf map[string][]string
	seeds     []string
}

func (n *apkNeeds) add(p apkdb.Package) {
	// The names have a version behind them, or a repository: "apk-tools=2.14.4-r0", "cmd:apk=2.14.4-r0",
	// "so:libz.so.1=1". A mark of exclamation says what a package cannot be installed with.
	plain := func(words []string) []string {
		return slices.DeleteFunc(unversioned(words, "<>=~@"),
			func(word string) bool { return strings.HasPrefix(word, "!") })
	}
	n.needs.put(p.Name, plain(p.Depends), plain(p.Provides))
	if len(p.InstallIf) > 0 {
		n.installIf[p.Name] = plain(p.InstallIf)
	}
	if p.Name == "alpine-base" ||
		slices.ContainsFunc(p.Files, func(f apkdb.File) bool { return isSession(f.Path) }) {
		n.seeds = append(n.seeds, p.Name)
	}
}

// base are the packages of the base, and those that come by themselves with them.
func (n *apkNeeds) base() map[string]bool {
	seeds := slices.Clone(n.seeds)
	for {
		base := n.needs.closure(seeds)
		grown := false
		for name, with := range n.installIf {
			if !base[name] && !slices.ContainsFunc(with, func(other string) bool { return !base[other] }) {
				seeds, grown = append(seeds, name), true
			}
		}
		if !grown {
			return base
		}
	}
}
