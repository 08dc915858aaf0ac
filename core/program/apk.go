package program

import (
	"lockback/core/autostart"
	"lockback/core/format/apkdb"
	"lockback/core/machine"
	"lockback/core/machine/files"
)

// apkInstalled is the database of apk: today's place is that below /usr.
var apkInstalled = []string{"/usr/lib/apk/db/installed", "/lib/apk/db/installed"}

// apkPackages tells which package of apk delivered the files, and whether they still are as it
// delivered them. Part of the system is what the package "alpine-base" consists of.
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
		set := dependencies{}
		var owners []apkdb.Package
		for p := range apkdb.Packages(string(content),
			func(file string) bool { return wanted[merged.key(file)] != nil }) {
			set.add(p.Name, p.Depends, nil)
			if len(p.Files) > 0 {
				owners = append(owners, p)
			}
		}
		base := set.closure([]string{"alpine-base"})
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
