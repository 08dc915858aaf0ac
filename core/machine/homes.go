package machine

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"lockback/core/machine/account"
	"lockback/core/machine/files"
)

// homesFolder is where the homes of a Linux machine's users lie, hier(7).
const homesFolder = "/home"

// maxHomes is how many folders of homes are looked at.
const maxHomes = 20_000

// unlistedUsers are those who have a home and stand in no /etc/passwd: accounts of a company's
// directory, of systemd-homed, or of an account that was deleted. A home is known by its owner, whom no
// account of the machine has; the folder's name stands for the user's.
func (m *Machine) unlistedUsers() []account.User {
	if !m.KeepsOwners || m.linux.accounts != nil {
		return nil
	}
	entries, err := m.ReadDir(homesFolder)
	if err != nil {
		return nil
	}
	names, numbers, homes := map[string]bool{}, map[int]bool{}, map[string]bool{}
	for _, u := range m.Users {
		names[u.Name], numbers[u.UID], homes[u.Home] = true, true, true
	}
	var users []account.User
	for _, e := range entries[:min(len(entries), maxHomes)] {
		home := path.Join(homesFolder, e.Name())
		if !e.IsDir() || homes[home] || names[e.Name()] || strings.ContainsAny(e.Name(), ":\n") {
			continue
		}
		info, err := m.Lstat(home)
		if err != nil {
			continue
		}
		uid, gid := files.Owner(info)
		if uid < m.FirstPerson() || uid == account.Nobody || numbers[uid] {
			continue
		}
		users = append(users, account.User{Name: e.Name(), UID: uid, GID: gid, Home: home})
	}
	return users
}

// MissingHome is a folder of homes, or a home, that is not on the disk.
type MissingHome struct {
	Path   string
	Reason string
}

// maxNamed is how many users are named whose homes are missing from one folder.
const maxNamed = 5

// MissingHomes are the homes of users that are not there, those of one folder together: the entries
// of these users cannot be listed. Where /etc/fstab mounts something in their place, it is named.
func (m *Machine) MissingHomes() []MissingHome {
	if m.OS != "linux" {
		return nil
	}
	missingIn := map[string][]account.User{} // a folder, to the users whose homes it lacks
	var folders []string
	for _, u := range m.Users {
		if u.UID == 0 || u.Home == "/" || m.linux.services[u.Name] {
			continue
		}
		if _, err := m.Stat(u.Home); !files.IsMissing(err) {
			continue
		}
		dir := path.Dir(u.Home)
		if missingIn[dir] == nil {
			folders = append(folders, dir)
		}
		missingIn[dir] = append(missingIn[dir], u)
	}
	mounts := m.mountPoints()
	var all []MissingHome
	for _, dir := range folders {
		users := missingIn[dir]
		var names []string
		for _, u := range users[:min(len(users), maxNamed)] {
			names = append(names, u.Name)
		}
		named := strings.Join(names, ", ")
		if more := len(users) - maxNamed; more > 0 {
			named += fmt.Sprintf(" and %d more", more)
		}
		at, reason := users[0].Home, "the home of "+named+" is not on this disk; what starts for "+named+
			" is not listed"
		if len(users) > 1 {
			at, reason = dir, "the homes of "+named+" are not on this disk; what starts for them is not listed"
		}
		for _, mount := range mounts {
			if at == mount || strings.HasPrefix(at, strings.TrimSuffix(mount, "/")+"/") {
				reason += " (/etc/fstab mounts " + mount + "; mount it there too)"
				break
			}
		}
		all = append(all, MissingHome{at, reason})
	}
	return all
}

// mountPoints are the folders below the root that fstab(5) mounts something at, the deepest first.
func (m *Machine) mountPoints() []string {
	var all []string
	for _, f := range m.fstab() {
		if path.IsAbs(f[1]) && f[1] != "/" {
			all = append(all, path.Clean(f[1]))
		}
	}
	slices.SortFunc(all, func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	return all
}

// fstab are the fields of the lines of fstab(5): what is mounted first, and where behind it.
func (m *Machine) fstab() (all [][]string) {
	for line := range strings.Lines(m.smallFile("/etc/fstab")) {
		if f := strings.Fields(line); len(f) > 1 && !strings.HasPrefix(f[0], "#") {
			all = append(all, f)
		}
	}
	return all
}

// Elsewhere reports whether a file that is missing on a mounted Linux disk may lie on another: below a folder that
// fstab(5) mounts something at and that is empty here, or behind a link that leads to nothing here.
func (r *Reader) Elsewhere(name string) bool {
	m := r.m
	if m.linux == nil || m.Live || !path.IsAbs(name) {
		return false
	}
	m.linux.mounts.Do(func() { m.linux.mountPoints = m.mountPoints() })
	for _, mount := range m.linux.mountPoints {
		if !strings.HasPrefix(name, strings.TrimSuffix(mount, "/")+"/") {
			continue
		}
		if entries, err := m.ReadDir(mount); files.IsMissing(err) || err == nil && len(entries) == 0 {
			return true
		}
	}
	for dir := path.Dir(path.Clean(name)); dir != "/"; dir = path.Dir(dir) {
		info, err := m.Lstat(dir)
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			continue
		}
		if _, err := m.Stat(dir); files.IsMissing(err) {
			return true
		}
	}
	return false
}

// localAccounts are the sources of accounts, nsswitch.conf(5), that are files of the machine's own.
var localAccounts = map[string]bool{"files": true, "compat": true, "systemd": true, "altfiles": true,
	"extrausers": true, "db": true}

// Unknown reports that a Linux machine has no account of this name. Where accounts come from a
// directory, or could not be read, that cannot be known of any.
func (r *Reader) Unknown(name string) bool {
	m := r.m
	if m.linux == nil {
		return false
	}
	if _, ok := m.linux.services[name]; ok || len(m.linux.services) == 0 || m.linux.accounts != nil {
		return false
	}
	for line := range strings.Lines(m.smallFile("/etc/nsswitch.conf")) {
		rest, ok := strings.CutPrefix(strings.TrimSpace(line), "passwd:")
		for word := range strings.FieldsSeq(rest) {
			if ok && !localAccounts[word] && !strings.HasPrefix(word, "[") {
				return false
			}
		}
	}
	return true
}
