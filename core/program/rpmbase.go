package program

import (
	"errors"
	"path"
	"slices"
	"strings"

	"lockback/core/format/dnfstate"
	"lockback/core/format/rpmdb"
	"lockback/core/format/sqlitefile"
	"lockback/core/machine"
)

// dnfProtected are the folders in which packages name themselves, one on a line, so that dnf never removes them:
// protected_packages in dnf.conf(5).
var dnfProtected = []string{"/etc/dnf/protected.d", "/etc/yum/protected.d"}

func protectedByDNF(m *machine.Reader) []string {
	var all []string
	for _, dir := range dnfProtected {
		entries, _ := m.ReadDir(dir)
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), ".conf") {
				continue
			}
			list, err := m.ReadFile(path.Join(dir, e.Name()), maxList)
			if err != nil {
				continue
			}
			for line := range strings.Lines(string(list)) {
				if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
					all = append(all, line)
				}
			}
		}
	}
	return all
}

// Where dnf keeps which groups of packages it installed: dnf 5 in its "system state", earlier ones in the history.
const (
	dnf5Groups       = "/usr/lib/sysimage/libdnf5/groups.toml"
	dnf5Environments = "/usr/lib/sysimage/libdnf5/environments.toml"
	dnfHistory       = "/var/lib/dnf/history.sqlite"
)

// Bounds of these files.
const (
	maxGroups        = 4 << 20 // bytes
	maxGroupPackages = 1 << 16
)

// environmentOfDNF are the packages of the groups that an installed environment consists of: "Workstation" for example,
// which an installer offers as a whole. Groups that somebody added by themselves are not among them.
func environmentOfDNF(m *machine.Reader) []string {
	environments, err1 := m.ReadFile(dnf5Environments, maxGroups)
	groups, err2 := m.ReadFile(dnf5Groups, maxGroups)
	if err1 != nil || err2 != nil {
		return environmentInHistory(m)
	}
	packages := dnfstate.Lists(string(groups), "groups", "packages")
	var all []string
	for _, ids := range dnfstate.Lists(string(environments), "environments", "groups") {
		for _, id := range ids {
			all = append(all, packages[id]...)
			delete(packages, id) // each once, however often a file names it
		}
	}
	return all
}

// optionalPackage is the kind of a group's packages that a group is installed without: CompsPackageType of libdnf.
const optionalPackage = 8

func environmentInHistory(m *machine.Reader) []string {
	file, size, err := m.OpenFile(dnfHistory)
	if err != nil {
		return nil
	}
	defer file.Close()
	db, err := sqlitefile.Open(file, size)
	if err != nil {
		return nil
	}
	defer db.Close()
	if db.Tables("comps_environment_group", "comps_group", "comps_group_package") != nil {
		return nil
	}
	rows, err := db.Rows(`SELECT DISTINCT p.name FROM comps_environment_group e JOIN comps_group g ON g.groupid = `+
		`e.groupid JOIN comps_group_package p ON p.group_id = g.item_id WHERE e.installed AND p.pkg_type <> ? LIMIT ?`,
		int64(optionalPackage), int64(maxGroupPackages))
	if err != nil {
		return nil
	}
	var all []string
	for _, row := range rows {
		if name, ok := row[0].(string); ok {
			all = append(all, name)
		}
	}
	return all
}

// rpmBase are the packages of the base: the seeds, the patterns by which openSUSE has a base at all, and whatever these
// need. What rpm calls weak, a recommendation, is not followed.
func rpmBase(db rpmdb.Database, merged mergedPaths, seeds []string) (map[string]bool, error) {
	set := dependencies{needs: map[string][]string{}, provided: map[string][]string{}}
	var names []string // of files that packages need
	err := db.Needs(func(n rpmdb.Needs) {
		for k, need := range n.Requires {
			if strings.HasPrefix(need, "/") {
				n.Requires[k] = merged.key(need)
				names = append(names, path.Base(need))
			}
		}
		// Several kernels are installed under one name.
		set.put(n.Package, append(set.needs[n.Package], n.Requires...), n.Provides)
		if strings.HasPrefix(n.Package, "patterns-base-") {
			seeds = append(seeds, n.Package)
		}
	})
	slices.Sort(names)
	names = slices.Compact(names)
	owners := db.Having(names, func(p *rpmdb.Package) {
		for _, base := range names {
			for _, owned := range p.Files(base) {
				key := merged.key(owned.Path)
				set.provided[key] = append(set.provided[key], p.Name)
			}
		}
	})
	return set.closure(seeds), errors.Join(err, owners)
}
