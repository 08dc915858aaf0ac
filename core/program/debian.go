package program

import (
	"bytes"
	"path"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/format/dpkg"
	"lockback/core/machine"
	"lockback/core/machine/files"
	"lockback/core/parallel"
)

// Where dpkg keeps what it knows, dpkg(1).
const (
	dpkgFolder = "/var/lib/dpkg"
	dpkgStatus = dpkgFolder + "/status"
	dpkgInfo   = dpkgFolder + "/info"
)

// The largest files of dpkg that are read, in bytes: a desktop's status has 3 MB, its largest
// list 1 MB.
const (
	maxStatus = 64 << 20
	maxList   = 16 << 20
)

// debianPackages tells which package of dpkg delivered the files, and whether they still are as
// it delivered them.
func debianPackages(m *machine.Reader, programs []*File) {
	status, err := m.ReadFile(dpkgStatus, maxStatus)
	if err != nil {
		if !files.IsMissing(err) {
			for _, f := range programs {
				f.Evidence = append(f.Evidence, unread(dpkgStatus, err))
			}
		}
		return
	}
	db := debian{machine: m, packages: map[string]*debianPackage{}, merged: mergedFolders(m)}
	// What one processor does alone is done beside something else.
	var beside sync.WaitGroup
	beside.Go(db.findLists)
	for p := range dpkg.Packages(status) {
		if p.Installed {
			db.packages[p.Name] = &debianPackage{Package: p}
		}
	}
	beside.Wait()
	beside.Go(db.findDependencies)
	db.findOwners(programs)
	db.findWanted()
	beside.Wait()
	beside.Go(func() {
		db.findOfficial()
		db.askRepositories()
		db.findBase()
	})
	db.findSums()
	beside.Wait()
	sharedOut(programs, db.testify)
}

func leadsTo(m *machine.Reader, link, to string) bool {
	full, err := m.Resolve(link)
	return err == nil && full == to
}

// debian is what dpkg knows of one machine, as far as it concerns the files that are asked for.
type debian struct {
	machine  *machine.Reader
	packages map[string]*debianPackage
	owners   map[string][]string // the packages that have a file, by the file's key
	// the keys of the files that are asked for, by each path that a list may have, without its slash
	wanted   map[string]string
	lists    []string // the names of the files in the folder info
	diverted []dpkg.Diversion
	needs    dependencies
	merged   mergedPaths
	// distribution is what the system calls itself.
	distribution string
	mu           sync.Mutex // of what several lists are read into
}

type debianPackage struct {
	dpkg.Package
	base      bool
	official  bool // the distribution's own, see findOfficial
	followed  bool // what it needs was looked at
	foreign   bool // another maker's for sure
	wanted    bool // it has one of the files that are asked for
	installed string
	sums      map[string]string // by the file's key
}

// merging are the folders that systems have below /usr today, and had beside it.
var merging = []string{"/bin/", "/sbin/", "/lib/", "/lib64/", "/lib32/", "/libx32/"}

func (db *debian) key(file string) string { return db.merged.key(file) }

// desktopFolders have a file for each session that a person can choose at sign-in.
var desktopFolders = []string{"/usr/share/xsessions", "/usr/share/wayland-sessions"}

// isSession reports whether a file is one of these.
func isSession(file string) bool { return slices.Contains(desktopFolders, path.Dir(file)) }

// findLists finds the names of all lists.
func (db *debian) findLists() {
	entries, _ := db.machine.ReadDir(dpkgInfo)
	for _, e := range entries {
		db.lists = append(db.lists, e.Name())
	}
}

// findDependencies finds which installed packages need which.
func (db *debian) findDependencies() {
	for name, p := range db.packages {
		needs := slices.Collect(dpkg.Names(p.Get("Depends")))
		needs = slices.AppendSeq(needs, dpkg.Names(p.Get("Pre-Depends")))
		db.needs.add(name, needs, slices.Collect(dpkg.Names(p.Get("Provides"))))
	}
}

// findOwners reads the lists of all packages once, looking for the files that are asked for.
func (db *debian) findOwners(files []*File) {
	db.wanted = map[string]string{}
	want := func(name string) {
		key := db.key(name)
		for _, spelling := range db.merged.spellings(key) {
			db.wanted[strings.TrimPrefix(spelling, "/")] = key
		}
	}
	for _, f := range files {
		want(f.Name)
		want(f.Path)
	}
	for _, dir := range desktopFolders {
		entries, _ := db.machine.ReadDir(dir)
		for _, e := range entries {
			want(path.Join(dir, e.Name()))
		}
	}
	if list, err := db.machine.ReadFile(dpkgFolder+"/diversions", maxList); err == nil {
		db.diverted = dpkg.Diversions(list)
	}
	for _, d := range db.diverted {
		if db.wanted[strings.TrimPrefix(d.To, "/")] != "" {
			want(d.From)
		}
	}
	db.owners = map[string][]string{}
	lists := slices.DeleteFunc(slices.Clone(db.lists), func(name string) bool {
		owner, ok := dpkg.Owner(name, ".list")
		return !ok || db.packages[owner] == nil
	})
	parallel.Each(len(lists), func(k int) {
		owner, _ := dpkg.Owner(lists[k], ".list")
		list, info, err := db.machine.ReadFileInfo(path.Join(dpkgInfo, lists[k]), maxList)
		if err != nil {
			return
		}
		// The list is written when the package is unpacked.
		installed := autostart.Day(info.ModTime())
		db.mu.Lock()
		db.packages[owner].installed = installed
		db.mu.Unlock()
		for line := range dpkg.Lines(list) {
			if key := db.wanted[string(bytes.TrimPrefix(line, []byte("/")))]; key != "" {
				db.mu.Lock()
				db.owners[key] = append(db.owners[key], owner)
				db.mu.Unlock()
			}
		}
	})
	for _, names := range db.owners {
		slices.Sort(names)
	}
}

// owner is the package that has a file: the diversions of dpkg-divert(1) are followed.
func (db *debian) owner(file string) *debianPackage {
	key := db.key(file)
	names := db.owners[key]
	for _, d := range db.diverted {
		switch key {
		case db.key(d.To): // the file of another package, moved out of the way
			for _, name := range db.owners[db.key(d.From)] {
				if name != d.By {
					return db.packages[name]
				}
			}
		case db.key(d.From): // what lies here is that of the one who moved it away
			names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return name != d.By })
		}
	}
	if len(names) == 0 {
		return nil
	}
	return db.packages[names[0]]
}

// basePriorities are those of which Debian's policy says that a system without them is broken, or
// is not what anyone expects of one (Debian Policy Manual, 2.5).
var basePriorities = []string{"required", "important", "standard"}

// baseProvides are the virtual packages that a desktop session is made of.
var baseProvides = []string{"x-session-manager", "x-display-manager", "x-window-manager", "default-display-manager"}

func providesBase(field string) bool {
	for name := range dpkg.Names(field) {
		if slices.Contains(baseProvides, name) {
			return true
		}
	}
	return false
}

// findBase marks the packages that are the distribution's own: those that it calls essential or
// gives a high priority, the kernel, what its desktop tasks and the sessions that can be chosen
// consist of, and all that these depend on.
func (db *debian) findBase() {
	var seeds []string
	for name, p := range db.packages {
		section := p.Get("Section")
		if p.Get("Essential") == "yes" || slices.Contains(basePriorities, p.Get("Priority")) || section == "tasks" ||
			section == "kernel" && strings.HasPrefix(name, "linux-image") ||
			providesBase(p.Get("Provides")) {
			seeds = append(seeds, name)
		}
	}
	for key, owners := range db.owners {
		if isSession(key) {
			seeds = append(seeds, owners...)
		}
	}
	for name := range db.needs.closure(seeds) {
		db.packages[name].base = db.packages[name].official
	}
}

// findWanted marks the packages that have one of the files.
func (db *debian) findWanted() {
	for _, owners := range db.owners {
		for _, name := range owners {
			db.packages[name].wanted = true
		}
	}
	for _, d := range db.diverted {
		for _, name := range db.owners[db.key(d.From)] {
			db.packages[name].wanted = true
		}
	}
}

// findSums reads the sums of the packages that have one of the files.
func (db *debian) findSums() {
	var lists []string
	for _, name := range db.lists {
		owner, ok := dpkg.Owner(name, ".md5sums")
		if p := db.packages[owner]; ok && p != nil && p.wanted {
			p.sums = map[string]string{}
			lists = append(lists, name)
		}
	}
	parallel.Each(len(lists), func(k int) {
		list, err := db.machine.ReadFile(path.Join(dpkgInfo, lists[k]), maxList)
		if err != nil {
			return
		}
		owner, _ := dpkg.Owner(lists[k], ".md5sums")
		for file, sum := range dpkg.Sums(list) {
			if key := db.wanted[string(file)]; key != "" {
				// A package may have two lists, one for each architecture.
				db.mu.Lock()
				db.packages[owner].sums[key] = string(sum)
				db.mu.Unlock()
			}
		}
	})
	for _, p := range db.packages {
		if !p.wanted {
			continue
		}
		for file, sum := range p.Conffiles() {
			if p.sums == nil {
				p.sums = map[string]string{}
			}
			p.sums[db.key(file)] = sum
		}
	}
}

// testify adds to a file what dpkg knows of it.
func (db *debian) testify(f *File) {
	name := f.Path
	p := db.owner(name)
	if p == nil && f.Name != f.Path {
		name = f.Name // the link belongs to a package, what it leads to does not
		p = db.owner(name)
	}
	if p == nil {
		return
	}
	e := Evidence{Basis: autostart.ByPackage, Source: "package " + p.Name + " (dpkg)", Package: p.Name,
		Maker: packagerName(p.Get("Maintainer")), Product: p.Name, Version: p.Version,
		Installed: p.installed, Description: p.Get("Description"), Role: packageRole(p.Package), System: p.base,
		Official: p.official, Foreign: p.foreign}
	if p.official && db.distribution != "" {
		e.Maker = db.distribution
	}
	f.compare(delivery{path: name, evidence: e, kind: "md5", sum: p.sums[db.sumKey(name)]}, db.merged)
}

// sumKey is the key under which the sum of a file stands: a diverted one keeps that of its old
// place.
func (db *debian) sumKey(file string) string {
	key := db.key(file)
	for _, d := range db.diverted {
		if key == db.key(d.To) {
			return db.key(d.From)
		}
	}
	return key
}
