package program

import (
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/rpmdb"
	"lockback/core/machine"
)

// rpmDatabases are where rpm has its database: today's place and the earlier one, of each kind. The
// old kind comes last, for a machine that was brought forward may still have it beside the new one.
var rpmDatabases = []string{"/usr/lib/sysimage/rpm/rpmdb.sqlite", "/usr/lib/sysimage/rpm/Packages.db",
	"/var/lib/rpm/rpmdb.sqlite", "/var/lib/rpm/Packages.db",
	"/usr/lib/sysimage/rpm/Packages", "/var/lib/rpm/Packages"}

// rpmPackages tells which package of rpm delivered the files, and whether they still are as it
// delivered them.
func rpmPackages(m *machine.Reader, files []*File) {
	for _, name := range rpmDatabases {
		if _, err := m.Stat(name); err != nil {
			continue
		}
		if err := rpmIn(m, name, files); err != nil {
			for _, f := range files {
				f.Evidence = append(f.Evidence, unread(name, err))
			}
		}
		return
	}
}

func rpmIn(m *machine.Reader, name string, files []*File) error {
	file, size, err := m.OpenFile(name)
	if err != nil {
		return err
	}
	defer file.Close()
	db, err := rpmdb.Open(file, size)
	if err != nil {
		return err
	}
	merged := mergedFolders(m)
	wanted := merged.wanted(files)
	var names []string
	for name := range wanted {
		if base := path.Base(name); !slices.Contains(names, base) {
			names = append(names, base)
		}
	}
	names = append(names, rpmCore...)
	for _, dir := range desktopFolders {
		entries, _ := m.ReadDir(dir)
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	vendors := map[string]bool{} // of packages that certainly are the distribution's
	seeds := append(protectedByDNF(m), environmentOfDNF(m)...)
	found := map[*File]delivery{}
	err = db.Having(names, func(p *rpmdb.Package) {
		for _, base := range names {
			for _, owned := range p.Files(base) {
				core := slices.Contains(rpmCore, base) && slices.Contains(rpmCoreFiles, owned.Path)
				if core && p.Vendor != "" {
					vendors[p.Vendor] = true
				}
				if core || isSession(owned.Path) {
					seeds = append(seeds, p.Name)
				}
				for _, f := range wanted[merged.key(owned.Path)] {
					// A link may belong to one package, and what it leads to, to another.
					if was, ok := found[f]; ok && merged.key(was.path) == merged.key(f.Path) {
						continue
					}
					found[f] = delivery{path: owned.Path, evidence: rpmEvidence(p), kind: p.Algorithm,
						sum: owned.Digest, vendor: p.Vendor}
				}
			}
		}
	})
	base, baseErr := rpmBase(db, merged, seeds)
	name = m.OSRelease()["NAME"]
	sharedOut(files, func(f *File) {
		d, ok := found[f]
		if !ok {
			return
		}
		if d.evidence.Official = vendors[d.vendor]; d.evidence.Official && name != "" {
			d.evidence.Maker = name
		}
		d.evidence.System = d.evidence.Official && base[d.evidence.Package]
		d.evidence.Foreign = len(vendors) > 0 && !d.evidence.Official
		f.compare(d, merged)
	})
	return errors.Join(err, baseErr)
}

func rpmEvidence(p *rpmdb.Package) Evidence {
	e := Evidence{Basis: autostart.ByPackage, Source: "package " + p.Name + " (rpm)", Package: p.Name,
		Maker: firstOf(p.Vendor, p.Packager), Product: p.Name, Version: p.Version + "-" + p.Release,
		Description: p.Summary}
	if !p.Installed.IsZero() {
		e.Installed = p.Installed.Format(time.RFC3339)
	}
	return e
}

// delivery is what a package says about one file that it delivered.
type delivery struct {
	path     string // as the package has it
	evidence Evidence
	kind     string // of the sum; empty if it is one that is not made here
	sum      string
	vendor   string // whoever built the package
}

// rpmCore are the names of files that every system of rpm's family has from the distribution itself, and rpmCoreFiles
// where they lie.
var (
	rpmCore      = []string{"bash", "os-release", "rpm"}
	rpmCoreFiles = []string{"/usr/bin/bash", "/bin/bash", "/usr/lib/os-release", "/etc/os-release", "/usr/bin/rpm",
		"/bin/rpm"}
)

// compare adds what a package says about the file, and holds its content against the sum.
func (f *File) compare(d delivery, merged mergedPaths) {
	e := d.evidence
	switch {
	case f.Nothing:
		e.State = Unchanged
	case d.sum == "" || hashes[d.kind] == nil || merged.key(d.path) != merged.key(f.Path):
		e.Notes = append(e.Notes, Note{Name: "not compared", Text: "package " + e.Package + " has no sum for it"})
	default:
		got, err := f.digest(d.kind)
		if err != nil {
			e.Notes = append(e.Notes, Note{Name: "not compared", Text: machine.Reason(err)})
			break
		}
		if e.State = Unchanged; got != strings.ToLower(d.sum) {
			e.State = Changed
			e.Problems = append(e.Problems, autostart.Changed)
		}
	}
	e.System = e.System && e.State == Unchanged
	f.Evidence = append(f.Evidence, e)
}

// mergedPaths says which folders are links to those of the same name below /usr: a package may
// name a file by either path.
type mergedPaths []string

func mergedFolders(m *machine.Reader) mergedPaths {
	var all mergedPaths
	for _, dir := range merging {
		if name := strings.TrimSuffix(dir, "/"); leadsTo(m, name, "/usr"+name) {
			all = append(all, dir)
		}
	}
	if leadsTo(m, "/sbin", "/usr/bin") {
		all = append(all, "/sbin/") // since 2025, in one of the families
	}
	return all
}

// wanted are the files by the keys of both their paths.
func (p mergedPaths) wanted(files []*File) map[string][]*File {
	all := map[string][]*File{}
	for _, f := range files {
		for _, name := range []string{f.Path, f.Name} {
			if key := p.key(name); !slices.Contains(all[key], f) {
				all[key] = append(all[key], f)
			}
		}
	}
	return all
}

// key is a path as all spellings of it have it in common.
func (p mergedPaths) key(file string) string {
	short, below := strings.CutPrefix(file, "/usr")
	if below && slices.ContainsFunc(p, func(dir string) bool { return strings.HasPrefix(short, dir) }) {
		file = short
	}
	if rest, ok := strings.CutPrefix(file, "/sbin/"); ok && len(p) > 0 && p[len(p)-1] == "/sbin/" {
		return "/bin/" + rest
	}
	return file
}

// spellings are all paths that have a key.
func (p mergedPaths) spellings(key string) []string {
	all := []string{key}
	if rest, ok := strings.CutPrefix(key, "/bin/"); ok && p.key("/sbin/"+rest) == key {
		all = append(all, "/sbin/"+rest)
	}
	for _, plain := range all {
		if long := "/usr" + plain; p.key(long) == key {
			all = append(all, long)
		}
	}
	return all
}
