package machine

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
)

// homesFolder is where the homes of a Linux machine's users lie, hier(7).
const homesFolder = "/home"

// maxHomes is how many folders of homes are looked at.
const maxHomes = 20_000

// unlistedUsers are those who have a home and stand in no /etc/passwd: accounts of a company's
// directory, of systemd-homed, or of an account that was deleted. A home is told by its owner, whom no
// account of the machine has; the folder's name stands for the user's.
func (m *Machine) unlistedUsers() []User {
	if !m.KeepsOwners || m.accounts != nil {
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
	var users []User
	for _, e := range entries[:min(len(entries), maxHomes)] {
		home := path.Join(homesFolder, e.Name())
		if !e.IsDir() || homes[home] || names[e.Name()] || strings.ContainsAny(e.Name(), ":\n") {
			continue
		}
		info, err := m.Lstat(home)
		if err != nil {
			continue
		}
		uid, gid := owner(info)
		if uid < m.Files.firstPerson || uid == nobody || numbers[uid] {
			continue
		}
		users = append(users, User{Name: e.Name(), UID: uid, GID: gid, Home: home})
	}
	return users
}

// addUnlisted adds users, in the order of their numbers.
func (m *Machine) addUnlisted(users []User) {
	m.Users = append(m.Users, users...)
	slices.SortStableFunc(m.Users, func(a, b User) int { return cmp.Compare(a.UID, b.UID) })
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
	missingIn := map[string][]User{} // a folder, to the users whose homes it lacks
	var folders []string
	for _, u := range m.Users {
		if u.UID == 0 || u.Home == "/" || m.isService[u.Name] {
			continue
		}
		if _, err := m.Stat(u.Home); !IsMissing(err) {
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
		at, reason := users[0].Home, "the home of "+named+" is not on this disk; what starts for "+named+" is not listed"
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
	for line := range strings.Lines(m.smallFile("/etc/fstab")) {
		f := strings.Fields(line)
		if len(f) > 1 && !strings.HasPrefix(f[0], "#") && path.IsAbs(f[1]) && f[1] != "/" {
			all = append(all, path.Clean(f[1]))
		}
	}
	slices.SortFunc(all, func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	return all
}

// shellsOfNobody are shells that let nobody in: who has one is a service's account.
var shellsOfNobody = map[string]bool{"nologin": true, "false": true, "sync": true, "halt": true, "shutdown": true}

// accountsOf are all accounts of a passwd file: true are those that nobody signs in to.
func accountsOf(text string) map[string]bool {
	all := map[string]bool{}
	for line := range strings.Lines(text) {
		if f := strings.Split(strings.TrimRight(line, "\n"), ":"); len(f) > 6 {
			all[f[0]] = shellsOfNobody[path.Base(f[6])]
		}
	}
	return all
}

// localAccounts are the sources of accounts, nsswitch.conf(5), that are files of the machine's own.
var localAccounts = map[string]bool{"files": true, "compat": true, "systemd": true, "altfiles": true, "extrausers": true, "db": true}

// Unknown reports that a Linux machine has no account of this name. Where accounts come from a
// directory, or could not be read, that cannot be told of any.
func (r *Reader) Unknown(account string) bool {
	m := r.m
	if _, ok := m.isService[account]; ok || len(m.isService) == 0 || m.accounts != nil || m.OS != "linux" {
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
