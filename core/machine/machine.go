// Package machine is the computer worked on: its files, its users, what it
// calls itself, and the artifacts and images that the rest of core rests on.
//
// An [artifact.Artifact] is an addressable piece of operating-system state, an [artifact.Image]
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
	"slices"
	"strings"

	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
	"lockback/core/machine/registry"
	"lockback/core/machine/win"
)

// Machine is one computer, running or mounted.
type Machine struct {
	ID      string         // the system's own id; empty when it has none
	Name    string         // the host name
	OS      string         // "linux", "windows" or "macos"
	Version string         // as the system words it, "Debian GNU/Linux 12 (bookworm)"
	Live    bool           // it is the machine that Lock Back runs on
	Root    string         // the mounted folder; "/" on the running machine
	Users   []account.User // the people's accounts, root first, by user id
	// KeepsOwners says that the files show who owns them on the machine. A copy
	// of a disk that was made without rights does not: there even /etc is the
	// copier's.
	KeepsOwners bool

	// Registry is that of a Windows machine; nil on others.
	Registry *registry.Registry

	*files.Files

	// What is peculiar to one system; nil on the others.
	linux   *linux
	mac     *mac.System
	windows *win.System
}

// ErrNoSystem says that a folder holds no operating system that can be read.
var ErrNoSystem = errors.New("no operating system found")

// systemMarks lists the file that marks each system. Any one of a row's marks is enough.
var systemMarks = []struct {
	os    string
	names files.Naming
	marks []string
}{
	// A Mac has an /etc/passwd too.
	{"macos", mac.Names, []string{mac.VersionFile, mac.AccountsFolder}},
	{"linux", files.PlainNames{}, []string{"/etc/os-release", "/usr/lib/os-release", "/etc/passwd"}},
	{"windows", files.DriveNames{Drive: 'C'}, []string{"/Windows/System32/config/SYSTEM",
		"/WINNT/System32/config/SYSTEM"}},
}

// Open opens the running machine (dir "") or the one whose disk is mounted at
// dir. It fails with [ErrNoSystem], naming what was looked for, where dir is not
// the root of a system.
func Open(dir string) (*Machine, error) {
	m := &Machine{Live: dir == "", Root: dir}
	if m.Live {
		switch runtime.GOOS {
		case "linux":
			m.Root = "/"
		case "windows":
			f, top, folder, err := win.OpenRunning()
			if err != nil {
				return nil, err
			}
			m.OS, m.Root, m.Files = "windows", top, f
			m.openWindows(folder)
			return m, nil
		case "darwin":
			return OpenRunningMac("/", mac.SystemTools)
		default:
			return nil, fmt.Errorf("the running machine is %s, and this version reads running Linux, macOS and "+
				"Windows machines only; name a mounted disk with --root", runtime.GOOS)
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
	f, err := files.Open(m.Root, m.Live)
	if err != nil {
		return nil, err
	}
	m.Files = f
	var looked []string
	for _, row := range systemMarks {
		for _, mark := range row.marks {
			looked = append(looked, strings.TrimPrefix(mark, "/"))
			f.SetNaming(row.names)
			if _, err := f.Stat(mark); err != nil {
				continue
			}
			m.OS = row.os
			switch m.OS {
			case "windows":
				full, _ := f.Resolve(mark)
				m.openWindows(path.Dir(path.Dir(path.Dir(full))))
			case "macos":
				m.openMac(nil)
			default:
				m.openLinux()
			}
			return m, nil
		}
	}
	f.Close()
	return nil, fmt.Errorf("%w at %s: looked for %s there; name the folder that the disk's top is mounted at",
		ErrNoSystem, dir, strings.Join(looked, ", "))
}

// OpenRunningMac opens the running Mac whose file system begins at dir and which answers through the tools.
func OpenRunningMac(dir string, tools mac.Tools) (*Machine, error) {
	f, err := files.Open(dir, true)
	if err != nil {
		return nil, err
	}
	f.SetNaming(mac.Names)
	m := &Machine{Live: true, OS: "macos", Root: dir, Files: f}
	m.openMac(tools)
	return m, nil
}

func (m *Machine) openMac(tools mac.Tools) {
	s := mac.Identify(m.Files, tools)
	m.mac, m.ID, m.Name, m.Version, m.KeepsOwners = s, s.ID, s.Name, s.Version, s.KeepsOwners
	m.setUsers(s.Users)
}

func (m *Machine) openWindows(folder string) {
	s := win.Identify(m.Files, folder)
	m.windows, m.Registry, m.ID, m.Name, m.Version = s, s.Registry, s.ID, s.Name, s.Version
	if name, err := os.Hostname(); m.Live && err == nil && m.Name == "" {
		m.Name = name
	}
	m.setUsers(s.Users)
}

// setUsers notes the accounts, and where the files have their homes.
func (m *Machine) setUsers(users []account.User) {
	m.Users = users
	homes := make([]files.Home, len(users))
	for k, u := range users {
		homes[k] = files.Home{Path: u.Home, UID: u.UID}
	}
	m.SetHomes(homes)
}

// ErrHibernated says that a mounted disk belongs to a Windows that sleeps: it
// would wake up over anything written meanwhile, and damage the disk.
var ErrHibernated = errors.New("Windows on this disk is hibernated or was shut down in fast-startup mode, and " +
	"would overwrite what is changed now")

// UserNamed returns the account of that name.
func (m *Machine) UserNamed(name string) (account.User, bool) {
	for _, u := range m.Users {
		if u.Name == name {
			return u, true
		}
	}
	return account.User{}, false
}

// Image reads the full image of an artifact. What cannot be read is an error,
// what is not there an image of the kind [artifact.Absent].
func (m *Machine) Image(a artifact.Artifact) (artifact.Image, error) { return m.medium(a).Image(a) }

// Writable reports, before anything is touched, why an artifact could not be
// brought from one image to another: [ErrNeedsRights], [ErrReadOnly],
// [ErrLeadsOut], [ErrHibernated] or another cause.
func (m *Machine) Writable(a artifact.Artifact, before, after artifact.Image) error {
	if m.windows != nil && m.windows.Hibernated {
		return ErrHibernated
	}
	if _, err := m.Accounts(); err != nil {
		return fmt.Errorf("%w (%s: %w)", ErrNoAccounts, passwdFile, reason(err))
	}
	return m.medium(a).Writable(a, before, after)
}

// Prepare writes what a file artifact is to become beside its place, see
// [Files.Prepare]. The registry needs no such thing: its hives are written whole.
func (m *Machine) Prepare(a artifact.Artifact, want artifact.Image, temp string) error {
	return m.medium(a).Prepare(a, want, temp)
}

// Set brings an artifact to an image. What lies in a hive file is set in memory
// only, until [Machine.Commit].
func (m *Machine) Set(a artifact.Artifact, want artifact.Image, temp string) error {
	return m.medium(a).Set(a, want, temp)
}

// Commit writes the hive files that were edited, each in one step, under temporary
// names that the token of the change gives. The function is called with a name for each
// point at which a crash would show.
func (m *Machine) Commit(token string, at func(string)) error {
	if m.Registry == nil {
		return nil
	}
	return m.Registry.Commit(token, at)
}

// Abandon forgets the edits that were not committed, and what is remembered of folders
// and links.
func (m *Machine) Abandon() {
	m.Files.Forget()
	if m.Registry != nil {
		m.Registry.Abandon()
	}
}

// Discard removes what [Machine.Prepare] under a temporary name, or an interrupted
// [Machine.Commit] with a token, left behind, if anything.
func (m *Machine) Discard(a artifact.Artifact, temp, token string) error {
	return m.medium(a).Discard(a, temp, token)
}

// RestoreTime gives a folder or key the time of last modification that an
// earlier image of it had, when what is in it is the same again.
func (m *Machine) RestoreTime(a artifact.Artifact, earlier artifact.Image) error {
	return m.medium(a).RestoreTime(a, earlier)
}

// FlushFolder makes the names in a folder durable.
func (m *Machine) FlushFolder(a artifact.Artifact) error { return m.medium(a).Flush(a) }

// Same compares two images of an artifact: as [artifact.Image.Same] does, but of a task
// of a running Windows and of the disabled databases of a running Mac by what
// they say, because the scheduler and launchd write them in their own way and at
// their own time.
func (m *Machine) Same(a artifact.Artifact, i, j artifact.Image) bool { return m.medium(a).Same(i, j) }

// Beside returns the folder in which the file lies that holds an artifact of a
// mounted registry: writing it is seen there.
func (m *Machine) Beside(a artifact.Artifact) (artifact.Artifact, bool) { return m.medium(a).Beside(a) }

// systemFolders are the folders that belong to the system's own packages or image: what is in
// them comes and goes with its upgrades. Windows keeps what people set up among its own
// files, and its own files are no artifacts, so there are none there.
var systemFolders = map[string][]string{
	"linux": {"/usr/", "/lib/", "/lib32/", "/lib64/", "/libx32/", "/bin/", "/sbin/"},
	"macos": {"/System/", "/usr/", "/bin/", "/sbin/", "/Library/Apple/"},
}

// SystemFile reports whether an artifact lies in one of the system's own folders.
func (m *Machine) SystemFile(a artifact.Artifact) bool {
	if a.Kind != artifact.FileArtifact || artifact.Within(a.Name, "/usr/local") {
		return false
	}
	return slices.ContainsFunc(systemFolders[m.OS], func(dir string) bool { return strings.HasPrefix(a.Name+"/", dir) })
}

// Children lists what lies directly in a folder or key.
func (m *Machine) Children(a artifact.Artifact) ([]artifact.Artifact, error) {
	return m.medium(a).Children(a)
}

// Close releases everything that is held open.
func (m *Machine) Close() error {
	if m.Registry != nil {
		m.Registry.Close()
	}
	return m.Files.Close()
}

// The file of the accounts, and how much of it is read, in bytes: enough for hundreds of
// thousands.
const (
	passwdFile = "/etc/passwd"
	maxPasswd  = 32 << 20
)

// ErrNoAccounts says that the accounts could not be read: whose home a folder is cannot be
// told then.
var ErrNoAccounts = errors.New("the machine's accounts cannot be read, so nothing is written: whose folders are " +
	"whose cannot be told")

// Accounts fails where the machine's accounts could not be read, and names their file: then
// people's own entries are not found.
func (m *Machine) Accounts() (file string, err error) {
	switch {
	case m.mac != nil:
		return mac.AccountsFolder, m.mac.Accounts
	case m.linux != nil:
		return passwdFile, m.linux.accounts
	}
	return passwdFile, nil
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

// OSRelease returns the variables of os-release(5); none where the system has no such file.
func (m *Machine) OSRelease() map[string]string {
	for _, name := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		if v := envFile(m.smallFile(name)); len(v) > 0 {
			return v
		}
	}
	return nil
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

// Release is the release of macOS; zero where it cannot be known, and on other systems.
func (m *Machine) Release() mac.Release {
	if m.mac == nil {
		return mac.Release{}
	}
	return m.mac.Release
}

// LoginItems asks for the list of a person, see [mac.System.LoginItems].
func (m *Machine) LoginItems(u account.User) ([]mac.LoginItem, error) {
	if m.mac == nil {
		return nil, mac.ErrNoLoginItems
	}
	return m.mac.LoginItems(u)
}

// Managed reports whether a running system writes an artifact itself, from another one: what Windows' scheduler keeps
// of its tasks, or a Mac of login items. It is recorded, and put back on a mounted disk only; and the other way round,
// a login item is one on the running Mac only.
func (m *Machine) Managed(a artifact.Artifact) bool {
	switch {
	case m.mac != nil:
		return m.mac.Managed(a)
	case m.windows != nil:
		return m.windows.Managed(a)
	}
	return false
}

// Narrow decodes a text in a Windows machine's own code page; ok is false where that is not known, or the text is none
// of it.
func (m *Machine) Narrow(b []byte) (text string, ok bool) {
	if m.windows == nil {
		return "", false
	}
	return m.windows.Narrow(b)
}

// Windows is the system's own folder on a Windows machine, as it names it: C:\Windows.
func (m *Machine) Windows() string {
	if m.windows == nil {
		return ""
	}
	return m.windows.Folder()
}

// Variable returns a variable of a Windows system's environment by its name in small letters.
func (m *Machine) Variable(name string) string {
	if m.windows == nil {
		return ""
	}
	return m.windows.Variable(name)
}

// Expand replaces the %variables% of a text by what they are on a Windows machine for a person, or for the system where
// u is nil. Unknown ones stay, and on other systems all.
func (m *Machine) Expand(text string, u *account.User) string {
	if m.windows == nil {
		return text
	}
	return m.windows.Expand(text, u)
}

// SearchPath are the folders in which a Windows machine looks for a command without one, see [win.System.SearchPath].
func (m *Machine) SearchPath(u *account.User) []string {
	if m.windows == nil {
		return nil
	}
	return m.windows.SearchPath(u)
}
