// Package account has the accounts of a machine's people.
package account

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"
)

// User is one account of a machine.
type User struct {
	Name string
	UID  int
	GID  int
	Home string // as the machine names it
	SID  string // of a Windows account
	UUID string // of an account on a Mac, in capitals
}

// NewUsers is how the profile is called that users get who sign in to Windows for the first time.
const NewUsers = "new users"

// Nobody is the overflow user id: an account that nobody signs in to.
const Nobody = 65534

// ParsePasswd reads passwd(5) and keeps root and the people.
func ParsePasswd(text string, firstUID int) []User {
	var users []User
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimRight(line, "\n"), ":")
		if len(f) < 7 || f[0] == "" || seen[f[0]] {
			continue
		}
		uid, err1 := strconv.Atoi(f[2])
		gid, err2 := strconv.Atoi(f[3])
		if err1 != nil || err2 != nil || uid == Nobody || uid != 0 && uid < firstUID || !path.IsAbs(f[5]) {
			continue
		}
		seen[f[0]] = true
		users = append(users, User{Name: f[0], UID: uid, GID: gid, Home: path.Clean(f[5])})
	}
	slices.SortStableFunc(users, func(a, b User) int { return cmp.Compare(a.UID, b.UID) })
	return users
}

// shellsOfNobody are shells that let nobody in: who has one is a service's account.
var shellsOfNobody = map[string]bool{"nologin": true, "false": true, "sync": true, "halt": true, "shutdown": true}

// Services are all accounts of a passwd file: true are those that nobody signs in to.
func Services(text string) map[string]bool {
	all := map[string]bool{}
	for line := range strings.Lines(text) {
		if f := strings.Split(strings.TrimRight(line, "\n"), ":"); len(f) > 6 {
			all[f[0]] = shellsOfNobody[path.Base(f[6])]
		}
	}
	return all
}
