package machine

import (
	"cmp"
	"errors"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/format/plist"
)

// Places of a Mac that tell what it is. The names /etc, /var and /tmp are links
// into /private, which the data volume does not have; here all is named where it
// really lies.
const (
	backgroundItems = "/private/var/db/com.apple.backgroundtaskmanagement" // the database of macOS 13 and later
	macVersion      = "/System/Library/CoreServices/SystemVersion.plist"
	macNetwork      = "/Library/Preferences/SystemConfiguration/preferences.plist"
	macUpdates      = "/Library/Preferences/com.apple.SoftwareUpdate.plist"
	dslocal         = "/private/var/db/dslocal/nodes/Default"
)

// firstPerson is the lowest user id that macOS gives to people; no system gives them a
// lower one. Below are root and the accounts of services.
const firstPerson = 501

// errSystemOnly says that the accounts, and nearly all that somebody added, are elsewhere.
var errSystemOnly = errors.New("only the system's volume of a Mac is here; mount its data volume and look there")

// openMac finds out what Mac this is.
func (m *Machine) openMac() {
	// The data volume alone has folders below /System too, that firmlinks of the system's volume lead to;
	// what tells the version, and the first process, are on the system's only.
	_, versionErr := m.Files.Lstat(macVersion)
	_, launchdErr := m.Files.Lstat("/sbin/launchd")
	m.Files.names = macNames{dataOnly: versionErr != nil && launchdErr != nil}
	version := m.plist(macVersion)
	if v := version.Text("ProductVersion"); v != "" {
		if minor, old := strings.CutPrefix(v, "16."); old {
			v = "26." + minor // programs made for older systems are told 16, a release that never was
		}
		m.release = releaseOf(v)
		m.Version = strings.TrimSpace(cmp.Or(version.Text("ProductName"), "macOS") + " " + v)
		if build := version.Text("ProductBuildVersion"); build != "" {
			m.Version += " (" + build + ")"
		}
	} else if v := m.plist(macUpdates).Text("LastAttemptSystemVersion"); v != "" {
		m.release, m.Version = releaseOf(v), "macOS "+v // what the data volume knows of it
	}
	system := m.plist(macNetwork).Dict("System")
	m.Name = cmp.Or(system.Dict("Network").Dict("HostNames").Text("LocalHostName"), system.Dict("System").Text("HostName"), system.Dict("System").Text("ComputerName"))
	if info, err := m.Stat("/private/etc"); err == nil {
		uid, _ := owner(info)
		m.KeepsOwners = uid == 0
	}
	if _, err := m.Files.Lstat("/private/var/db"); err != nil && m.tools == nil {
		m.accounts = errSystemOnly
	}
	if m.tools != nil {
		m.askMac()
	}
	if len(m.Users) == 0 {
		m.Users = m.localUsers()
	}
	if len(m.Users) == 0 {
		m.Users = m.homeUsers()
	}
	m.Users = append(m.Users, m.withoutAccount()...)
	slices.SortStableFunc(m.Users, func(a, b User) int { return cmp.Compare(a.UID, b.UID) })
	if m.ID == "" {
		m.ID = m.platformUUID()
	}
}

// plist reads a property list with a dictionary at its top, empty where that
// cannot be done.
func (m *Machine) plist(name string) plist.Dict {
	content, err := m.ReadFile(name, MaxFileSize)
	if err != nil {
		return nil
	}
	doc, err := plist.Parse(content)
	if err != nil {
		return nil
	}
	return doc.Dict()
}

// Release is the system's version by its first two numbers: {10, 15}, {14, 5}.
type Release [2]int

func releaseOf(version string) (r Release) {
	for k, part := range strings.SplitN(strings.SplitN(version, " ", 2)[0], ".", 3) {
		if k < len(r) {
			r[k], _ = strconv.Atoi(part)
		}
	}
	return r
}

// Before reports whether the release is known to be older than another.
func (r Release) Before(other Release) bool {
	return r != Release{} && slices.Compare(r[:], other[:]) < 0
}

// Release is the release of macOS; zero where it cannot be told.
func (m *Machine) Release() Release { return m.release }

// localUsers reads the accounts of the local directory, a property list each:
// every value of theirs is an array of texts.
func (m *Machine) localUsers() []User {
	entries, err := m.ReadDir(dslocal + "/users")
	if err != nil {
		return nil
	}
	var users []User
	for _, e := range entries {
		if !strings.HasSuffix(strings.ToLower(e.Name()), ".plist") {
			continue
		}
		if u, ok := macUser(m.plist(path.Join(dslocal, "users", e.Name())), ""); ok {
			users = append(users, u)
		}
	}
	return users
}

// macUser makes an account of a record of the directory. The names of its fields
// have a prefix where the running system tells them.
func macUser(d plist.Dict, prefix string) (User, bool) {
	first := func(names ...string) string {
		for _, name := range names {
			if t := d.Texts(prefix + name); len(t) > 0 {
				return t[0]
			}
		}
		return ""
	}
	uid, err := strconv.Atoi(first("uid", "UniqueID"))
	gid, _ := strconv.Atoi(cmp.Or(first("gid", "PrimaryGroupID"), "20"))
	u := User{Name: first("name", "RecordName"), UID: uid, GID: gid, Home: first("home", "NFSHomeDirectory"), UUID: strings.ToUpper(first("generateduid", "GeneratedUID"))}
	u.Home = macPath(u.Home)
	return u, err == nil && u.Name != "" && path.IsAbs(u.Home) && (uid == 0 || uid >= firstPerson && !strings.HasPrefix(u.Name, "_") || u.ownHome())
}

// ownHome reports whether an account whose number or name is one of the system's has a home like a
// person's all the same: accounts are hidden that way, and start things like any other.
func (u User) ownHome() bool {
	return u.UID > 0 && (strings.HasPrefix(u.Home, "/Users/") || strings.HasPrefix(u.Home, "/private/var/") && path.Base(path.Dir(u.Home)) == "home") && u.Home != "/private/var/empty"
}

// withoutAccount are the homes below /Users that no account has: what the network's accounts leave here, and
// what removed ones left. Their owner tells whose they are.
func (m *Machine) withoutAccount() []User {
	known := map[string]bool{}
	for _, u := range m.Users {
		known[m.Files.names.same(u.Home)] = true
	}
	return slices.DeleteFunc(m.homeUsers(), func(u User) bool { return known[m.Files.names.same(u.Home)] })
}

// homeUsers makes accounts of the home folders, where the directory is not to be
// read: it is the administrator's.
func (m *Machine) homeUsers() []User {
	entries, _ := m.ReadDir("/Users")
	var users []User
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") || e.Name() == "Shared" || e.Name() == "Guest" {
			continue
		}
		u := User{Name: e.Name(), UID: -1, GID: -1, Home: path.Join("/Users", e.Name())}
		if info, err := m.Stat(u.Home); err == nil {
			u.UID, u.GID = owner(info)
		}
		users = append(users, u)
	}
	return users
}

// byHost are the folders whose files bear the machine's own id in their names.
const byHost = "Library/Preferences/ByHost"

// platformUUID finds the machine's id on its disk. The firmware has it, and the
// system puts it into the names of the preferences that hold for this machine
// only. Homes that came from another Mac bring its id along; what is written now
// bears the machine's own, so the newest counts.
func (m *Machine) platformUUID() string {
	best, at := "", time.Time{}
	for _, home := range append([]string{"/"}, m.homes()...) {
		dir := path.Join(home, byHost)
		entries, err := m.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			id, ok := idInName(e.Name())
			if !ok {
				continue
			}
			info, err := m.Lstat(path.Join(dir, e.Name()))
			if err != nil || info.ModTime().Before(at) || info.ModTime().Equal(at) && id <= best {
				continue
			}
			best, at = id, info.ModTime()
		}
	}
	return best
}

func (m *Machine) homes() []string {
	var homes []string
	for _, u := range m.Users {
		homes = append(homes, u.Home)
	}
	return homes
}

// idInName finds the id in a name like com.apple.dock.0A1B....plist.
func idInName(name string) (string, bool) {
	name, ok := strings.CutSuffix(name, ".plist")
	if !ok || len(name) < 37 || name[len(name)-37] != '.' {
		return "", false
	}
	id := name[len(name)-36:]
	for k, c := range []byte(id) {
		if dash := k == 8 || k == 13 || k == 18 || k == 23; dash != (c == '-') || !dash && !strings.ContainsRune("0123456789abcdefABCDEF", rune(c)) {
			return "", false
		}
	}
	return strings.ToLower(id), true
}
