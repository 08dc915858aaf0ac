package machine

import (
	"cmp"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"

	"lockback/core/machine/account"
	"lockback/core/machine/files"
)

// linux is what is peculiar to a Linux machine.
type linux struct {
	services map[string]bool // all accounts: whether nobody signs in to one
	accounts error           // why the accounts could not be read
	deaf     map[string]bool // people whose service manager did not answer

	mounts      sync.Once
	mountPoints []string // see Machine.mountPoints
}

// openLinux finds out what Linux machine this is.
func (m *Machine) openLinux() {
	m.linux = &linux{}
	for _, f := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
		// machine-id(5): 32 lower-case hexadecimal digits; "uninitialized"
		// and an empty file mean that the next boot makes one.
		id := strings.TrimSpace(m.smallFile(f))
		if len(id) == 32 && strings.Trim(id, "0123456789abcdef") == "" {
			m.ID = id
			break
		}
	}
	m.Name, _, _ = strings.Cut(strings.TrimSpace(m.smallFile("/etc/hostname")), "\n")
	if m.Live {
		if name, err := os.Hostname(); err == nil {
			m.Name = name
		}
	}
	m.Version = m.OSRelease()["PRETTY_NAME"]
	if info, err := m.Stat("/etc"); err == nil {
		uid, _ := files.Owner(info)
		m.KeepsOwners = uid == 0
	}
	first := m.firstUID()
	m.SetFirstPerson(first)
	passwd, err := m.ReadFile(passwdFile, maxPasswd)
	if err != nil && !files.IsMissing(err) {
		m.linux.accounts = err
	}
	m.Users = account.ParsePasswd(string(passwd), first)
	m.linux.services = account.Services(string(passwd))
	users := append(m.Users, m.unlistedUsers()...)
	slices.SortStableFunc(users, func(a, b account.User) int { return cmp.Compare(a.UID, b.UID) })
	m.setUsers(users)
}

// firstUID is the lowest id of a user's account: UID_MIN of login.defs(5), or
// 1000 as every current distribution has it.
func (m *Machine) firstUID() int {
	for line := range strings.Lines(m.smallFile("/etc/login.defs")) {
		if f := strings.Fields(line); len(f) == 2 && f[0] == "UID_MIN" {
			if n, err := strconv.Atoi(f[1]); err == nil && n > 0 {
				return n
			}
		}
	}
	return 1000
}
