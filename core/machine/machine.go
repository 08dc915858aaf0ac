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
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Machine is one computer, running or mounted.
type Machine struct {
	ID      string // the system's own id; empty when it has none
	Name    string // the host name
	OS      string // "linux", "windows" or "macos"
	Version string // as the system words it, "Debian GNU/Linux 12 (bookworm)"
	Live    bool   // it is the machine that Lock Back runs on
	Root    string // the mounted folder; "/" on the running machine
	Users   []User // the people's accounts, root first, by user id
	// KeepsOwners says that the files show who owns them on the machine. A copy
	// of a disk that was made without rights does not: there even /etc is the
	// copier's.
	KeepsOwners bool

	isService map[string]bool // all accounts of a Linux machine: whether nobody signs in to one

	// Registry is that of a Windows machine; nil on others.
	Registry *Registry

	*Files

	deaf       map[string]bool // people whose service manager did not answer
	accounts   error           // why the accounts could not be read
	release    Release         // of macOS
	tools      Tools           // of a running Mac
	offOnce    sync.Once
	offByFile  map[string]bool   // see disabledInFiles
	windows    string            // the system's folder on a Windows machine
	variables  map[string]string // of its environment, by names in small letters
	hibernated bool
	personal   struct {
		sync.Mutex
		variables map[string]map[string]string // by SID
	}
}

// User is one account of the machine.
type User struct {
	Name string
	UID  int
	GID  int
	Home string // as the machine names it
	SID  string // of a Windows account
	UUID string // of an account on a Mac, in capitals
}

// ErrNoSystem says that a folder holds no operating system that can be read.
var ErrNoSystem = errors.New("no operating system found")

// systemMarks tells by which file a system is known. Any one of a row's marks
// is enough.
var systemMarks = []struct {
	os    string
	names naming
	marks []string
}{
	// A Mac has an /etc/passwd too.
	{"macos", macNames{}, []string{macVersion, dslocal}},
	{"linux", plainNames{}, []string{"/etc/os-release", "/usr/lib/os-release", "/etc/passwd"}},
	{"windows", driveNames{drive: 'C'}, []string{"/Windows/System32/config/SYSTEM", "/WINNT/System32/config/SYSTEM"}},
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
			return openLiveWindows()
		case "darwin":
			return OpenRunningMac("/", systemTools{toolTimeout})
		default:
			return nil, fmt.Errorf("the running machine is %s, and this version reads running Linux, macOS and Windows machines only; name a mounted disk with --root", runtime.GOOS)
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
			files.names = row.names
			if _, err := files.Stat(mark); err == nil {
				m.OS = row.os
				switch m.OS {
				case "windows":
					full, _ := files.Resolve(mark)
					m.openWindows(path.Dir(path.Dir(path.Dir(full))))
				case "macos":
					m.openMac()
				default:
					m.readIdentity()
				}
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

// Image reads the full image of an artifact. What cannot be read is an error,
// what is not there an image of the kind [Absent].
func (m *Machine) Image(a Artifact) (Image, error) { return m.medium(a).image(a) }

var errNoRegistry = errors.New("this machine has no registry")

// Writable reports, before anything is touched, why an artifact could not be
// brought from one image to another: [ErrNeedsRights], [ErrReadOnly],
// [ErrLeadsOut], [ErrHibernated] or another cause.
func (m *Machine) Writable(a Artifact, before, after Image) error {
	if m.hibernated {
		return ErrHibernated
	}
	if m.accounts != nil {
		return fmt.Errorf("%w (%s: %w)", ErrNoAccounts, passwdFile, reason(m.accounts))
	}
	return m.medium(a).writable(a, before, after)
}

// Prepare writes what a file artifact is to become beside its place, see
// [Files.Prepare]. The registry needs no such thing: its hives are written whole.
func (m *Machine) Prepare(a Artifact, want Image, temp string) error {
	return m.medium(a).prepare(a, want, temp)
}

// Set brings an artifact to an image. What lies in a hive file is set in memory
// only, until [Machine.Commit].
func (m *Machine) Set(a Artifact, want Image, temp string) error {
	return m.medium(a).set(a, want, temp)
}

// Commit writes the hive files that were edited, each in one step, under temporary
// names that the token of the change gives. The function is called with a name for each
// point at which a crash would show.
func (m *Machine) Commit(token string, at func(string)) error {
	if m.Registry == nil {
		return nil
	}
	var failed []error
	for _, mount := range m.Registry.mounts {
		if err := mount.source.commit(token, at); err != nil {
			failed = append(failed, err) // the others may be possible
		}
	}
	return errors.Join(failed...)
}

// Abandon forgets the edits that were not committed, and what is remembered of folders
// and links.
func (m *Machine) Abandon() {
	m.Files.forget()
	if m.Registry == nil {
		return
	}
	for _, mount := range m.Registry.mounts {
		mount.source.abandon()
	}
}

// Discard removes what [Machine.Prepare] under a temporary name, or an interrupted
// [Machine.Commit] with a token, left behind, if anything.
func (m *Machine) Discard(a Artifact, temp, token string) error {
	return m.medium(a).discard(a, temp, token)
}

// RestoreTime gives a folder or key the time of last modification that an
// earlier image of it had, when what is in it is the same again.
func (m *Machine) RestoreTime(a Artifact, earlier Image) error {
	return m.medium(a).restoreTime(a, earlier)
}

// FlushFolder makes the names in a folder durable.
func (m *Machine) FlushFolder(a Artifact) error { return m.medium(a).flush(a) }

// Same compares two images of an artifact: as [Image.Same] does, but of a task
// of a running Windows and of the disabled databases of a running Mac by what
// they say, because the scheduler and launchd write them in their own way and at
// their own time.
func (m *Machine) Same(a Artifact, i, j Image) bool { return m.medium(a).same(i, j) }

// Beside returns the folder in which the file lies that holds an artifact of a
// mounted registry: writing it is seen there.
func (m *Machine) Beside(a Artifact) (Artifact, bool) { return m.medium(a).beside(a) }

// systemFolders are the folders that belong to the system's own packages or image: what is in
// them comes and goes with its upgrades. Windows keeps what people set up among its own
// files, and its own files are no artifacts, so there are none there.
var systemFolders = map[string][]string{
	"linux": {"/usr/", "/lib/", "/lib32/", "/lib64/", "/libx32/", "/bin/", "/sbin/"},
	"macos": {"/System/", "/usr/", "/bin/", "/sbin/", "/Library/Apple/"},
}

// SystemFile reports whether an artifact lies in one of the system's own folders.
func (m *Machine) SystemFile(a Artifact) bool {
	if a.Kind != FileArtifact || within(a.Name, "/usr/local") {
		return false
	}
	return slices.ContainsFunc(systemFolders[m.OS], func(dir string) bool { return strings.HasPrefix(a.Name+"/", dir) })
}

// Children lists what lies directly in a folder or key.
func (m *Machine) Children(a Artifact) ([]Artifact, error) { return m.medium(a).children(a) }

// Close releases everything that is held open.
func (m *Machine) Close() error {
	if m.Registry != nil {
		for _, mount := range m.Registry.mounts {
			mount.source.close()
		}
	}
	return m.Files.Close()
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
	m.Files.firstPerson = m.firstUID()
	passwd, err := m.ReadFile(passwdFile, maxPasswd)
	if err != nil && !missing(err) {
		m.accounts = err
	}
	m.Users = parsePasswd(string(passwd), m.Files.firstPerson)
	m.isService = accountsOf(string(passwd))
	m.addUnlisted(m.unlistedUsers())
}

// The file of the accounts, and how much of it is read, in bytes: enough for hundreds of
// thousands.
const (
	passwdFile = "/etc/passwd"
	maxPasswd  = 32 << 20
)

// ErrNoAccounts says that the accounts could not be read: whose home a folder is cannot be
// told then.
var ErrNoAccounts = errors.New("the machine's accounts cannot be read, so nothing is written: whose folders are whose cannot be told")

// Accounts fails where the machine's accounts could not be read, and names their file: then
// people's own entries are not found.
func (m *Machine) Accounts() (file string, err error) {
	if m.OS == "macos" {
		return dslocal, m.accounts
	}
	return passwdFile, m.accounts
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
	slices.SortStableFunc(users, func(a, b User) int { return cmp.Compare(a.UID, b.UID) })
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
