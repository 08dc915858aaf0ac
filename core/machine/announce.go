package machine

import (
	"fmt"
	"time"

	"lockback/core/machine/account"
)

// How long the system's manager may take to answer, and how long a user's, whose
// socket anyone's program may sit at.
const (
	systemTimeout = 10 * time.Second
	personTimeout = 2 * time.Second
)

// manager is one of systemd's managers: the system's (empty), or a user's.
type manager struct{ user account.User }

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

// Daemon is a program of a running system that keeps in memory what it read, and must be notified
// when that changes: one of the system, or one that a person has of their own.
type Daemon struct {
	Kind DaemonKind
	User string // empty: the system's
}

// DaemonKind says what a daemon is.
type DaemonKind string

// The daemons that must be notified.
const (
	ServiceManager DaemonKind = "service manager" // systemd, which reads its units again
	Preferences    DaemonKind = "preferences"     // of macOS, which would write over them what it remembers
)

// Announce tells daemons of a running system that what they read was changed,
// and returns warnings where that could not be done. A mounted machine needs no
// telling, and neither does a daemon that does not run.
func (m *Machine) Announce(daemons []Daemon) []string {
	if !m.Live {
		return nil
	}
	var warnings []string
	for _, d := range daemons {
		var warning string
		switch {
		case d.Kind == ServiceManager:
			warning = m.reloadUnits(d.User)
		case d.Kind == Preferences && m.mac != nil:
			warning = m.mac.ReadPreferencesAgain(d.User)
		}
		if warning != "" {
			warnings = append(warnings, warning)
		}
	}
	return warnings
}

// reloadUnits makes a service manager read its units again.
func (m *Machine) reloadUnits(user string) (warning string) {
	who := manager{}
	if user != "" {
		var ok bool
		if who.user, ok = m.UserNamed(user); !ok {
			return ""
		}
	}
	if err := reload(who); err != nil {
		m.isDeaf(who)
		return fmt.Sprintf("%s did not reload its units: %v; it will at the next restart", who, err)
	}
	return ""
}

// isDeaf notes that a manager did not answer.
func (m *Machine) isDeaf(who manager) {
	if m.linux == nil {
		m.linux = &linux{}
	}
	if m.linux.deaf == nil {
		m.linux.deaf = map[string]bool{}
	}
	m.linux.deaf[who.user.Name] = true
}

// ConfirmUnit asks the manager of a unit for its state: the system's, or that of the user who is named. It fails when
// the manager's word differs from ours. It does not ask again a manager that once failed to answer.
func (m *Machine) ConfirmUnit(name, user, mode string) error {
	if !m.Live {
		return nil
	}
	who := manager{}
	if user != "" {
		u, ok := m.UserNamed(user)
		if !ok {
			return nil
		}
		who.user = u
	}
	if m.linux != nil && m.linux.deaf[who.user.Name] {
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
