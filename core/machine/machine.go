// Package machine is the computer worked on: its files, its users, what it
// calls itself, and the artifacts and images that the rest of core rests on.
//
// An [Artifact] is an addressable piece of operating-system state, an [Image]
// its full content and metadata at one moment; that nothing is there is an image
// too. The same calls serve the running machine and a disk on the bench:
//
//	m, err := machine.Open("/mnt/disk") // or machine.Open("") for the running one
//	image, err := m.Image(machine.File("/etc/crontab"))
//
// Everything inside a mounted root is named as its own machine names it, and no
// link in it leads out of it.
package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
)

// Machine is one computer, running or mounted.
type Machine struct {
	ID      string // the system's own id; empty when it has none
	Name    string // the host name
	OS      string // "linux"
	Version string // as the system words it, "Debian GNU/Linux 12 (bookworm)"
	Live    bool   // it is the machine that Lock Back runs on
	Root    string // the mounted folder; "/" on the running machine
	Users   []User // the people's accounts, root first, by user id
	// KeepsOwners says that the files show who owns them on the machine. A copy
	// of a disk that was made without rights does not: there even /etc is the
	// copier's.
	KeepsOwners bool

	*Files
}

// User is one account of the machine.
type User struct {
	Name string
	UID  int
	GID  int
	Home string // as the machine names it
}

// ErrNoSystem says that a folder holds no operating system that can be read.
var ErrNoSystem = errors.New("no operating system found")

// systemMarks tells by which file a system is known. Any one of a row's marks
// is enough.
var systemMarks = []struct {
	os    string
	marks []string
}{
	{"linux", []string{"/etc/os-release", "/usr/lib/os-release", "/etc/passwd"}},
}

// Open opens the running machine (dir "") or the one whose disk is mounted at
// dir. It fails with [ErrNoSystem], naming what was looked for, where dir is not
// the root of a system.
func Open(dir string) (*Machine, error) {
	m := &Machine{Live: dir == "", Root: dir}
	if m.Live {
		m.Root = string(filepath.Separator)
		if runtime.GOOS != "linux" {
			return nil, fmt.Errorf("the running machine is %s, and this version reads running Linux machines only; name a mounted Linux disk with --root", runtime.GOOS)
		}
	} else {
		abs, err := filepath.Abs(dir)
		if err != nil {
			return nil, err
		}
		info, err := os.Stat(abs)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%w at %s: %w", ErrNoSystem, dir, reason(err))
		case !info.IsDir():
			return nil, fmt.Errorf("%w at %s: it is not a folder", ErrNoSystem, dir)
		}
		m.Root = abs
	}
	files, err := openFiles(m.Root, m.Live)
	if err != nil {
		return nil, err
	}
	m.Files = files
	var looked []string
	for _, row := range systemMarks {
		for _, mark := range row.marks {
			looked = append(looked, strings.TrimPrefix(mark, "/"))
			if _, err := files.Stat(mark); err == nil {
				m.OS = row.os
				m.readIdentity()
				files.homes = m.Users
				return m, nil
			}
		}
	}
	files.Close()
	return nil, fmt.Errorf("%w at %s: looked for %s there; name the folder that the disk's top is mounted at", ErrNoSystem, dir, strings.Join(looked, ", "))
}

// UserNamed returns the account of that name.
func (m *Machine) UserNamed(name string) (User, bool) {
	for _, u := range m.Users {
		if u.Name == name {
			return u, true
		}
	}
	return User{}, false
}

func (m *Machine) readIdentity() {
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
	for _, f := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		if v := envFile(m.smallFile(f))["PRETTY_NAME"]; v != "" {
			m.Version = v
			break
		}
	}
	if info, err := m.Stat("/etc"); err == nil {
		uid, _ := owner(info)
		m.KeepsOwners = uid == 0
	}
	m.Users = parsePasswd(m.smallFile("/etc/passwd"), m.firstUID())
}

// firstUID is the lowest id of a person's account: UID_MIN of login.defs(5), or
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

// nobody is the overflow user id: an account that nobody signs in to.
const nobody = 65534

// parsePasswd reads passwd(5) and keeps root and the people.
func parsePasswd(text string, firstUID int) []User {
	var users []User
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimRight(line, "\n"), ":")
		if len(f) < 7 || f[0] == "" || seen[f[0]] {
			continue
		}
		uid, err1 := strconv.Atoi(f[2])
		gid, err2 := strconv.Atoi(f[3])
		if err1 != nil || err2 != nil || uid == nobody || uid != 0 && uid < firstUID || !path.IsAbs(f[5]) {
			continue
		}
		seen[f[0]] = true
		users = append(users, User{Name: f[0], UID: uid, GID: gid, Home: path.Clean(f[5])})
	}
	return users
}

// envFile reads the KEY=value lines of os-release(5) and environment files.
// Only the quoting that os-release(5) allows is undone.
func envFile(text string) map[string]string {
	vars := map[string]string{}
	for line := range strings.Lines(text) {
		key, value, ok := strings.Cut(strings.TrimSpace(line), "=")
		if !ok || strings.HasPrefix(key, "#") {
			continue
		}
		if n := len(value); n >= 2 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] {
			value = value[1 : n-1]
		}
		vars[key] = value
	}
	return vars
}

// Environment returns the variables of /etc/environment, which pam_env gives to
// every session.
func (m *Machine) Environment() map[string]string { return envFile(m.smallFile("/etc/environment")) }

// smallFile reads a short configuration file of the system, empty where it
// cannot be read.
func (m *Machine) smallFile(name string) string {
	b, err := m.ReadFile(name, 1<<20)
	if err != nil {
		return ""
	}
	return string(b)
}

// reason strips the call and the path off a file error, for messages that name
// the path themselves.
func reason(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	var le *os.LinkError
	if errors.As(err, &le) {
		return le.Err
	}
	return err
}

// Reason is the bare cause of a file error, without the call and the path.
func Reason(err error) string { return reason(err).Error() }
