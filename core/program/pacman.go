package program

import (
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/alpm"
	"lockback/core/machine"
	"lockback/core/parallel"
)

// pacmanFolder has a folder for each package that pacman installed.
const pacmanFolder = "/var/lib/pacman/local"

// pacmanPackages tells which package of pacman delivered the files, and whether they still are as
// it delivered them. Part of the system is what the package "base" consists of, and what a desktop
// session that can be chosen needs.
func pacmanPackages(m *machine.Reader, files []*File) {
	entries, err := m.ReadDir(pacmanFolder)
	if err != nil {
		return
	}
	merged := mergedFolders(m)
	wanted := merged.wanted(files)
	type pacmanPackage struct {
		desc  map[string][]string
		files map[*File]string // the paths as the package has them
		shown bool             // it has a session
		sums  map[string]string
	}
	packages := make([]pacmanPackage, len(entries))
	var mu sync.Mutex
	parallel.Each(len(entries), func(k int) {
		dir := path.Join(pacmanFolder, entries[k].Name())
		desc, err := m.ReadFile(dir+"/desc", maxList)
		if err != nil {
			return
		}
		list, err := m.ReadFile(dir+"/files", maxList)
		if err != nil {
			return
		}
		p := pacmanPackage{desc: alpm.Parse(desc), files: map[*File]string{}}
		for _, name := range alpm.Parse(list)["FILES"] {
			name = "/" + name
			for _, f := range wanted[merged.key(name)] {
				p.files[f] = name
			}
			p.shown = p.shown || isSession(name)
		}
		if len(p.files) > 0 {
			p.sums = map[string]string{}
			if tree, err := m.ReadFile(dir+"/mtree", maxList); err == nil {
				for name, sum := range alpm.Sums(tree) {
					p.sums[name] = sum
				}
			}
		}
		mu.Lock()
		packages[k] = p
		mu.Unlock()
	})
	set := dependencies{}
	var seeds []string
	for _, p := range packages {
		if len(p.desc["NAME"]) == 0 {
			continue
		}
		name := p.desc["NAME"][0]
		set.add(name, p.desc["DEPENDS"], p.desc["PROVIDES"])
		if name == "base" || p.shown {
			seeds = append(seeds, name)
		}
	}
	base := set.closure(seeds)
	d := distributionOf(m)
	var makers []string
	for _, p := range packages {
		if name := strings.Join(p.desc["NAME"], " "); slices.Contains(pacmanCore, name) {
			makers = append(makers, strings.Join(p.desc["PACKAGER"], " "))
		}
	}
	d.certain(makers)
	found := map[*File]delivery{}
	for _, p := range packages {
		if len(p.desc["NAME"]) == 0 {
			continue
		}
		one := func(heading string) string { return strings.Join(p.desc[heading], " ") }
		name := one("NAME")
		e := Evidence{Basis: autostart.ByPackage, Source: "package " + name + " (pacman)", Package: name,
			Maker: packagerName(one("PACKAGER")), Product: name, Version: one("VERSION"), Description: one("DESC"),
			System: base[name]}
		// What somebody built themself is called so by makepkg.conf(5), where they set nothing else.
		if e.Official = d.has(one("PACKAGER")); e.Official && d.name != "" {
			e.Maker = d.name
		}
		e.System, e.Foreign = e.System && e.Official, len(d.domains)+len(d.addresses) > 0 && !e.Official
		if seconds, err := strconv.ParseInt(one("INSTALLDATE"), 10, 64); err == nil && seconds > 0 && seconds < 1<<40 {
			e.Installed = time.Unix(seconds, 0).UTC().Format(time.RFC3339)
		}
		for f, name := range p.files {
			if was, ok := found[f]; !ok || merged.key(was.path) != merged.key(f.Path) {
				found[f] = delivery{path: name, evidence: e, kind: "sha256", sum: p.sums[name]}
			}
		}
	}
	sharedOut(files, func(f *File) {
		if d, ok := found[f]; ok {
			f.compare(d, merged)
		}
	})
}

// pacmanCore are packages that every system of pacman's family has.
var pacmanCore = []string{"base", "bash", "coreutils", "filesystem", "glibc", "pacman", "sed", "systemd", "util-linux"}

// packagerName is a packager without the address.
func packagerName(text string) string {
	name, _, _ := strings.Cut(text, "<")
	return strings.Trim(name, " \"")
}

// dependencies are which packages need which, by name.
type dependencies struct {
	needs    map[string][]string
	provided map[string][]string
}

// add adds a package. Versions behind names are left out.
func (d *dependencies) add(name string, needs, provides []string) {
	d.put(name, unversioned(needs, "<>=~:"), unversioned(provides, "<>=~:"))
}

// put adds a package whose words are names alone.
func (d *dependencies) put(name string, needs, provides []string) {
	if d.needs == nil {
		d.needs, d.provided = map[string][]string{}, map[string][]string{}
	}
	d.needs[name] = needs
	for _, offer := range provides {
		d.provided[offer] = append(d.provided[offer], name)
	}
}

// unversioned are words without what stands behind the first of some signs: a version for example.
func unversioned(words []string, signs string) []string {
	all := make([]string, len(words))
	for k, word := range words {
		if at := strings.IndexAny(word, signs); at > 0 {
			word = word[:at]
		}
		all[k] = word
	}
	return all
}

// closure are the packages that some need, they themselves included.
func (d *dependencies) closure(names []string) map[string]bool {
	all := map[string]bool{}
	asked := map[string]bool{}
	queue := slices.Clone(names)
	for len(queue) > 0 {
		name := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		if asked[name] {
			continue
		}
		asked[name] = true
		needs, installed := d.needs[name]
		if !installed {
			queue = append(queue, d.provided[name]...)
			continue
		}
		all[name] = true
		queue = append(queue, needs...)
	}
	return all
}
