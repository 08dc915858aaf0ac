// Package mac is what is peculiar to macOS: what a Mac tells of itself, how it names and protects its files, and the
// databases that launchd and System Events of a running one keep for themselves.
package mac

import (
	"cmp"
	"errors"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/format/plist"
	"lockback/core/machine/account"
	"lockback/core/machine/files"
)

// Places of a Mac that tell what it is. The names /etc, /var and /tmp are links
// into /private, which the data volume does not have; here all is named where it
// really lies.
const (
	backgroundItems = "/private/var/db/com.apple.backgroundtaskmanagement" // the database of macOS 13 and later
	VersionFile     = "/System/Library/CoreServices/SystemVersion.plist"
	macNetwork      = "/Library/Preferences/SystemConfiguration/preferences.plist"
	macUpdates      = "/Library/Preferences/com.apple.SoftwareUpdate.plist"
	AccountsFolder  = "/private/var/db/dslocal/nodes/Default"
)

// errSystemOnly says that the accounts, and nearly all that somebody added, are elsewhere.
var errSystemOnly = errors.New("only the system's volume of a Mac is here; mount its data volume and look there")

// System is what a Mac tells of itself.
type System struct {
	ID, Name, Version string
	Release           Release // zero where it cannot be told
	Users             []account.User
	// KeepsOwners says that the files show who owns them on the Mac.
	KeepsOwners bool
	// Accounts says why the accounts could not be read; nil where they were.
	Accounts error

	files     *files.Files
	tools     Tools // of a running Mac; nil for a disk
	offOnce   sync.Once
	offByFile map[string]bool // see disabledInFiles
}

// Identify finds out what Mac the files are of: a running one, where tools are given, or a disk. The files are named
// from here on as a Mac names them.
func Identify(f *files.Files, tools Tools) *System {
	s := &System{files: f, tools: tools}
	s.identify()
	return s
}

func (s *System) identify() {
	// The data volume alone has folders below /System too, that firmlinks of the system's volume lead to;
	// what tells the version, and the first process, are on the system's only.
	_, versionErr := s.files.Lstat(VersionFile)
	_, launchdErr := s.files.Lstat("/sbin/launchd")
	s.names(versionErr != nil && launchdErr != nil)
	version := s.plist(VersionFile)
	if v := version.Text("ProductVersion"); v != "" {
		if minor, old := strings.CutPrefix(v, "16."); old {
			v = "26." + minor // programs made for older systems are told 16, a release that never was
		}
		s.Release = releaseOf(v)
		s.Version = strings.TrimSpace(cmp.Or(version.Text("ProductName"), "macOS") + " " + v)
		if build := version.Text("ProductBuildVersion"); build != "" {
			s.Version += " (" + build + ")"
		}
	} else if v := s.plist(macUpdates).Text("LastAttemptSystemVersion"); v != "" {
		s.Release, s.Version = releaseOf(v), "macOS "+v // what the data volume knows of it
	}
	s.names(versionErr != nil && launchdErr != nil)
	system := s.plist(macNetwork).Dict("System")
	s.Name = cmp.Or(system.Dict("Network").Dict("HostNames").Text("LocalHostName"),
		system.Dict("System").Text("HostName"), system.Dict("System").Text("ComputerName"))
	if info, err := s.files.Stat("/private/etc"); err == nil {
		uid, _ := files.Owner(info)
		s.KeepsOwners = uid == 0
	}
	if _, err := s.files.Lstat("/private/var/db"); err != nil && s.tools == nil {
		s.Accounts = errSystemOnly
	}
	if s.tools != nil {
		s.askMac()
	}
	if len(s.Users) == 0 {
		s.Users = s.localUsers()
	}
	if len(s.Users) == 0 {
		s.Users = s.homeUsers()
	}
	s.Users = append(s.Users, s.withoutAccount()...)
	slices.SortStableFunc(s.Users, func(a, b account.User) int { return cmp.Compare(a.UID, b.UID) })
	if s.ID == "" {
		s.ID = s.platformUUID()
	}
}

// plist reads a property list with a dictionary at its top, empty if that
// cannot be done.
func (s *System) plist(name string) plist.Dict {
	content, err := s.files.ReadFile(name, files.MaxFileSize)
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

// localUsers reads the accounts of the local directory, a property list each:
// every value of theirs is an array of texts.
func (s *System) localUsers() []account.User {
	entries, err := s.files.ReadDir(AccountsFolder + "/users")
	if err != nil {
		return nil
	}
	var users []account.User
	for _, e := range entries {
		if !strings.HasSuffix(strings.ToLower(e.Name()), ".plist") {
			continue
		}
		if u, ok := macUser(s.plist(path.Join(AccountsFolder, "users", e.Name())), ""); ok {
			users = append(users, u)
		}
	}
	return users
}

// macUser makes an account of a record of the directory. The names of its fields
// have a prefix where the running system tells them.
func macUser(d plist.Dict, prefix string) (account.User, bool) {
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
	u := account.User{Name: first("name", "RecordName"), UID: uid, GID: gid, Home: first("home", "NFSHomeDirectory"),
		UUID: strings.ToUpper(first("generateduid", "GeneratedUID"))}
	u.Home = macPath(u.Home)
	return u, err == nil && u.Name != "" && path.IsAbs(u.Home) && (uid == 0 || uid >= files.LowestPerson &&
		!strings.HasPrefix(u.Name, "_") || ownHome(u))
}

// ownHome reports whether an account whose number or name is one of the system's has a home like a
// person's all the same: accounts are hidden that way, and start things like any other.
func ownHome(u account.User) bool {
	return u.UID > 0 && (strings.HasPrefix(u.Home, "/Users/") || strings.HasPrefix(u.Home, "/private/var/") &&
		path.Base(path.Dir(u.Home)) == "home") && u.Home != "/private/var/empty"
}

// withoutAccount are the homes below /Users that no account has: what the network's accounts leave here, and
// what removed ones left. Their owner tells whose they are.
func (s *System) withoutAccount() []account.User {
	known := map[string]bool{}
	for _, u := range s.Users {
		known[s.files.Naming().Same(u.Home)] = true
	}
	return slices.DeleteFunc(s.homeUsers(), func(u account.User) bool { return known[s.files.Naming().Same(u.Home)] })
}

// homeUsers makes accounts of the home folders, where the directory is not to be
// read: it is the administrator's.
func (s *System) homeUsers() []account.User {
	entries, _ := s.files.ReadDir("/Users")
	var users []account.User
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") || e.Name() == "Shared" || e.Name() == "Guest" {
			continue
		}
		u := account.User{Name: e.Name(), UID: -1, GID: -1, Home: path.Join("/Users", e.Name())}
		if info, err := s.files.Stat(u.Home); err == nil {
			u.UID, u.GID = files.Owner(info)
		}
		users = append(users, u)
	}
	return users
}

// byHost are the folders whose files bear the machine's own id in their names.
const byHost = "Library/Preferences/ByHost"

// platformUUID finds the machine's id on its disk. It comes from the firmware; the system puts it
// into the names of the preferences of this machine alone. Homes that came from another Mac bring
// its id along; what is written now bears the machine's own, so the newest counts.
func (s *System) platformUUID() string {
	best, at := "", time.Time{}
	for _, home := range append([]string{"/"}, s.homes()...) {
		dir := path.Join(home, byHost)
		entries, err := s.files.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			id, ok := idInName(e.Name())
			if !ok {
				continue
			}
			info, err := s.files.Lstat(path.Join(dir, e.Name()))
			if err != nil || info.ModTime().Before(at) || info.ModTime().Equal(at) && id <= best {
				continue
			}
			best, at = id, info.ModTime()
		}
	}
	return best
}

func (s *System) homes() []string {
	var homes []string
	for _, u := range s.Users {
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
		if dash := k == 8 || k == 13 || k == 18 || k == 23; dash != (c == '-') || !dash &&
			!strings.ContainsRune("0123456789abcdefABCDEF", rune(c)) {
			return "", false
		}
	}
	return strings.ToLower(id), true
}

// names has the files named as a Mac names them.
func (s *System) names(dataOnly bool) {
	s.files.SetNaming(names{dataOnly: dataOnly, release: s.Release})
}
