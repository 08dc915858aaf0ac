package machine

import (
	"fmt"
	"path"
	"strings"
	"time"
)

// How long the system's manager may take to answer, and how long a person's, whose
// socket anybody's program may sit at.
const (
	systemTimeout = 10 * time.Second
	personTimeout = 2 * time.Second
)

// manager is one of systemd's managers: the system's (empty), or a person's.
type manager struct{ user User }

func (m manager) timeout() time.Duration {
	if m.user.Name == "" {
		return systemTimeout
	}
	return personTimeout
}

func (m manager) String() string {
	if m.user.Name == "" {
		return "the system's service manager"
	}
	return "the service manager of " + m.user.Name
}

// managersOf tells which managers must read their units again after the named
// files were changed: all people's after a change for everybody.
func (m *Machine) managersOf(files []string) []manager {
	var system bool
	users := map[string]bool{}
	for _, f := range files {
		switch {
		case strings.Contains(f, "/systemd/system/") || strings.Contains(f, "/systemd/system."):
			system = true
		case strings.HasPrefix(f, "/etc/systemd/user") || strings.Contains(f, "/lib/systemd/user"):
			for _, u := range m.Users {
				users[u.Name] = true
			}
		case strings.Contains(f, "/systemd/user") || strings.HasSuffix(f, ".desktop"):
			for _, u := range m.Users {
				if within(f, path.Join(u.Home, ".config")) {
					users[u.Name] = true
				}
			}
		}
	}
	var managers []manager
	if system {
		managers = append(managers, manager{})
	}
	for _, u := range m.Users {
		if users[u.Name] {
			managers = append(managers, manager{u})
		}
	}
	return managers
}

// Announce tells a running system which files were changed, where it must know,
// and returns warnings where that could not be done. A mounted machine needs no
// telling, and neither does a manager that does not run.
func (m *Machine) Announce(files []string) []string {
	if !m.Live {
		return nil
	}
	if m.tools != nil {
		return m.tellPreferences(files)
	}
	var warnings []string
	for _, manager := range m.managersOf(files) {
		if err := reload(manager); err != nil {
			m.isDeaf(manager)
			warnings = append(warnings, fmt.Sprintf("%s did not reload its units: %v; it will at the next start", manager, err))
		}
	}
	return warnings
}

// isDeaf notes that a manager did not answer.
func (m *Machine) isDeaf(who manager) {
	if m.deaf == nil {
		m.deaf = map[string]bool{}
	}
	m.deaf[who.user.Name] = true
}

// Confirm asks the running system itself for the state of an entry, where it has
// an interface for that, and fails when its word differs from ours. A manager that did not
// answer once is not asked again.
func (m *Machine) Confirm(location, name, user, mode string) error {
	if !m.Live || !strings.HasPrefix(location, "linux.systemd.") {
		return nil
	}
	who := manager{}
	if user != "" {
		u, ok := m.UserNamed(user)
		if !ok {
			return nil
		}
		who.user = u
	} else if location == "linux.systemd.user" {
		return nil // everybody's: each manager words it for its own person
	}
	if m.deaf[who.user.Name] {
		return nil
	}
	have, err := unitFileState(who, name)
	if err != nil {
		m.isDeaf(who)
		return nil // no manager runs that could be asked
	}
	if have == "" {
		return nil
	}
	if have != mode {
		return fmt.Errorf("%s says %q, the files say %q", who, have, mode)
	}
	return nil
}
