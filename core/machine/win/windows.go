// Package win is what is peculiar to Windows: what a machine tells of itself, its variables and profiles, and the tasks
// that only its scheduler writes.
package win

import (
	"fmt"
	"path"
	"strings"
	"sync"

	"golang.org/x/text/encoding"

	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/registry"
)

// profileList is where Windows keeps who ever signed in.
const profileList = registry.KeyNT + `\ProfileList`

// hives are the hive files of the system itself, below its config folder.
var hives = []struct {
	prefixes []string
	file     string
}{
	{[]string{`HKLM\SOFTWARE`}, "SOFTWARE"},
	{[]string{`HKLM\SYSTEM`}, "SYSTEM"},
	{[]string{`HKU\S-1-5-18`, `HKU\.DEFAULT`}, "DEFAULT"},
}

// bootStores are where the boot manager keeps its entries, on the system's disk.
var bootStores = []string{`\Boot\BCD`, `\EFI\Microsoft\Boot\BCD`}

// System is what a Windows machine tells of itself.
type System struct {
	ID, Name, Version string
	Users             []account.User
	Registry          *registry.Registry
	// Hibernated says that the disk belongs to a Windows that sleeps.
	Hibernated bool

	files     *files.Files
	folder    string            // the system's, as the machine names it
	variables map[string]string // of its environment, by names in small letters
	codePage  sync.Once
	page      encoding.Encoding // its code page, see Narrow; nil if that is not known
	personal  struct {
		sync.Mutex
		variables map[string]map[string]string // by SID
	}
}

// Identify finds out what Windows machine the files are of. The folder is the system's own, as a path below the root.
// The files are named from here on as the machine names them.
func Identify(f *files.Files, folder string) *System {
	s := &System{files: f}
	s.identify(folder)
	return s
}

func (s *System) identify(folder string) {
	s.openRegistry(folder, 'C')
	root := s.text(registry.KeyNT, "SystemRoot")
	switch {
	case !artifact.OnDrive(root):
	case s.files.Live():
		s.folder = root
		s.nameBy(artifact.UpperLetter(root[0]))
	case artifact.UpperLetter(root[0]) != 'C':
		// A second Windows calls its own disk by another letter: so do the names of its hives.
		s.openRegistry(folder, artifact.UpperLetter(root[0]))
	}
	s.ID = strings.ToLower(s.text(`HKLM\SOFTWARE\Microsoft\Cryptography`, "MachineGuid"))
	s.Name = s.text(registry.KeyCCS+`\Control\ComputerName\ComputerName`, "ComputerName")
	s.Version = s.windowsVersion()
	s.systemVariables()
	s.readProfiles()
	if !s.files.Live() {
		s.Hibernated = s.isHibernated()
	}
}

// Hardware is the UUID of the computer on which the system was started last, {...}, as it was written down then; empty
// before Windows 8.
func (s *System) Hardware() string { return s.text(`HKLM\SYSTEM\HardwareConfig`, "LastConfig") }

// openRegistry makes the registry readable, on a disk that the machine calls by a letter.
func (s *System) openRegistry(folder string, drive byte) {
	s.Registry = &registry.Registry{}
	s.nameBy(drive)
	s.folder = string(drive) + `:` + strings.ReplaceAll(folder, "/", `\`) // as the disk has it
	if s.files.Live() {
		s.Registry.MountRunning()
	} else {
		s.mountHives(folder)
	}
}

func (s *System) mountHives(folder string) {
	for _, row := range hives {
		file := path.Join(folder, "System32", "config", row.file)
		if full, err := s.files.Resolve(file); err == nil {
			file = full
		}
		s.Registry.MountHive(s.files, s.files.Naming().Named(file), row.file == "SYSTEM", row.prefixes...)
	}
	for _, name := range bootStores {
		name = s.folder[:2] + name
		if _, err := s.files.Stat(name); err == nil {
			s.Registry.MountHive(s.files, name, false, `HKLM\BCD00000000`)
			break
		}
	}
}

// text reads one text value of the registry.
func (s *System) text(key, name string) string {
	k, err := s.Registry.Key(key)
	if err != nil {
		return ""
	}
	return k.Text(name)
}

// windowsVersion words the version as the system's own about page does.
func (s *System) windowsVersion() string {
	k, err := s.Registry.Key(registry.KeyNT)
	if err != nil {
		return ""
	}
	name, build := k.Text("ProductName"), k.Text("CurrentBuild")
	if len(build) == 5 && build >= "22000" {
		// Windows 11 still calls itself 10 in this place.
		name = strings.Replace(name, "Windows 10", "Windows 11", 1)
	}
	for _, release := range []string{"DisplayVersion", "CSDVersion", "ReleaseId"} {
		if r := k.Text(release); r != "" {
			name += " " + r
			break
		}
	}
	if build != "" {
		name += " (build " + build
		if ubr, ok := k.Number("UBR"); ok {
			name += fmt.Sprintf(".%d", ubr)
		}
		name += ")"
	}
	return strings.TrimSpace(name)
}

// readProfiles reads the list of everyone who ever signed in, and mounts the
// hives of those who are not signed in now.
func (s *System) readProfiles() {
	list, err := s.Registry.Key(profileList)
	if err != nil {
		return
	}
	profiles, _ := list.Subkeys()
	seen := map[string]bool{}
	for _, p := range profiles {
		home := s.expand(p.Text("ProfileImagePath"), nil)
		if !artifact.OnDrive(home) {
			continue
		}
		home = s.files.Canonical(strings.TrimRight(home, `\`))
		u := account.User{Name: home[strings.LastIndexByte(home, '\\')+1:], UID: -1, GID: -1, Home: home, SID: p.Name()}
		if u.Name == "" || seen[strings.ToLower(u.Name)] {
			u.Name += "." + u.SID
		}
		seen[strings.ToLower(u.Name)] = true
		s.Users = append(s.Users, u)
		s.mountProfile(u)
	}
	// What lies here is copied for whoever signs in for the first time.
	if home := s.expand(list.Text("Default"), nil); artifact.OnDrive(home) {
		u := account.User{Name: account.NewUsers, UID: -1, GID: -1, Home: s.files.Canonical(strings.TrimRight(home,
			`\`)), SID: newUsersKey}
		if _, err := s.files.Stat(u.Home + `\NTUSER.DAT`); err == nil {
			s.Users = append(s.Users, u)
			s.mountProfile(u)
		}
	}
}

// newUsersKey is the key below HKU for [account.NewUsers]: their part of the registry is loaded nowhere, so that the
// name is our own.
const newUsersKey = "NewUsers"

// mountProfile makes a user's part of the registry readable.
func (s *System) mountProfile(u account.User) {
	root := `HKU\` + u.SID
	if u.SID == "S-1-5-18" {
		return // the system's own, mounted already
	}
	if s.files.Live() {
		if _, err := s.Registry.Key(root); err == nil {
			return // signed in: the running system has it
		}
	}
	// Windows keeps the classes apart, and shows them at both places.
	s.Registry.MountHive(s.files, u.Home+`\NTUSER.DAT`, false, root)
	s.Registry.MountHive(s.files, u.Home+`\AppData\Local\Microsoft\Windows\UsrClass.dat`, false, root+"_Classes",
		root+`\Software\Classes`)
}

// nameBy has the files named as a machine does that calls its disk by a letter.
func (s *System) nameBy(drive byte) { s.files.SetNaming(files.DriveNames{Drive: drive}) }

// systemVariables collects the environment variables of the system. Those of a
// person come with [System.Expand].
func (s *System) systemVariables() {
	v := map[string]string{
		"systemroot": s.folder, "windir": s.folder, "systemdrive": s.folder[:2], "programdata": s.folder[:2] +
			`\ProgramData`,
		"programfiles": s.folder[:2] + `\Program Files`, "programfiles(x86)": s.folder[:2] + `\Program Files (x86)`,
		"public": s.folder[:2] + `\Users\Public`,
	}
	s.variables = v
	for name, value := range map[string]string{"programfiles": "ProgramFilesDir", "programw6432": "ProgramFilesDir",
		"programfiles(x86)":  "ProgramFilesDir (x86)",
		"commonprogramfiles": "CommonFilesDir", "commonprogramw6432": "CommonFilesDir",
		"commonprogramfiles(x86)": "CommonFilesDir (x86)"} {
		if text := s.text(registry.KeyCV, value); text != "" {
			v[name] = s.expand(text, nil)
		}
	}
	for name, value := range map[string]string{"programdata": "ProgramData", "public": "Public"} {
		if text := s.text(profileList, value); text != "" {
			v[name] = s.expand(text, nil)
		}
	}
	v["allusersprofile"] = v["programdata"]
	s.addVariables(v, registry.KeyCCS+`\Control\Session Manager\Environment`, nil)
}

func (s *System) addVariables(v map[string]string, key string, own map[string]string) {
	k, err := s.Registry.Key(key)
	if err != nil {
		return
	}
	values, _ := k.Values()
	for _, value := range values {
		name := strings.ToLower(value.Name)
		if value.IsText() && (v[name] == "" || own != nil) && name != "path" {
			v[name] = s.expand(value.Text(), own)
		}
	}
}

// Expand replaces the %variables% of a text by what they are for a person, or
// for the system where u is nil. Unknown ones stay.
func (s *System) Expand(text string, u *account.User) string {
	if !strings.Contains(text, "%") {
		return text
	}
	if u == nil {
		return s.expand(text, nil)
	}
	s.personal.Lock()
	defer s.personal.Unlock()
	own := s.personal.variables[u.SID]
	if own == nil {
		own = map[string]string{"userprofile": u.Home, "username": u.Name, "appdata": u.Home + `\AppData\Roaming`,
			"localappdata": u.Home + `\AppData\Local`,
			"homedrive":    u.Home[:2], "homepath": u.Home[2:], "temp": u.Home + `\AppData\Local\Temp`, "tmp": u.Home +
				`\AppData\Local\Temp`}
		s.addVariables(own, `HKU\`+u.SID+`\Environment`, own)
		if s.personal.variables == nil {
			s.personal.variables = map[string]map[string]string{}
		}
		s.personal.variables[u.SID] = own
	}
	return s.expand(text, own)
}

// expand replaces variables, a user's own before the system's.
func (s *System) expand(text string, own map[string]string) string {
	var b strings.Builder
	for {
		start := strings.IndexByte(text, '%')
		if start < 0 {
			break
		}
		end := strings.IndexByte(text[start+1:], '%')
		if end < 0 {
			break
		}
		name := strings.ToLower(text[start+1 : start+1+end])
		value, ok := own[name]
		if !ok {
			value, ok = s.variables[name]
		}
		if !ok || name == "" {
			b.WriteString(text[:start+1+end])
			text = text[start+1+end:]
			continue
		}
		b.WriteString(text[:start])
		b.WriteString(value)
		text = text[start+end+2:]
	}
	return b.String() + text
}

// SearchPath are the folders in which a command without one is looked for, after the system's own: those
// of the system's PATH, then those of a user's.
func (s *System) SearchPath(u *account.User) []string {
	keys := []string{registry.KeyCCS + `\Control\Session Manager\Environment`}
	if u != nil {
		keys = append(keys, `HKU\`+u.SID+`\Environment`)
	}
	var all []string
	for _, key := range keys {
		for dir := range strings.SplitSeq(s.Expand(s.text(key, "Path"), u), ";") {
			if dir = strings.TrimRight(strings.Trim(strings.TrimSpace(dir), `"`), `\`); artifact.OnDrive(dir) &&
				len(all) < maxSearched {
				all = append(all, dir)
			}
		}
	}
	return all
}

// maxSearched is how many folders of a PATH are looked into.
const maxSearched = 200

// Folder is the system's own, as the machine names it: C:\Windows.
func (s *System) Folder() string { return s.folder }

// Variable returns a variable of the system's environment by its name in small
// letters.
func (s *System) Variable(name string) string { return s.variables[name] }

// isHibernated reports whether hiberfil.sys holds a system that sleeps: its
// first bytes say so, and are cleared when it wakes.
func (s *System) isHibernated() bool {
	file, err := s.files.OpenRegular(s.files.Naming().Named("/hiberfil.sys"))
	if err != nil {
		return false
	}
	defer file.Close()
	var head [4]byte
	if _, err := file.ReadAt(head[:], 0); err != nil {
		return false
	}
	switch strings.ToLower(string(head[:])) {
	case "hibr", "rstr":
		return true
	}
	return false
}

// task tells which task of a running machine a file is the definition of. The
// scheduler alone may write those.
func (s *System) task(a artifact.Artifact) (string, bool) {
	if !s.files.Live() || a.Kind != artifact.FileArtifact {
		return "", false
	}
	return registry.CutFold(a.Name, s.folder+`\System32\Tasks`)
}

// Managed reports whether a running Windows writes an artifact itself, from another one: what the scheduler keeps of
// its tasks. It is recorded, and put back on a mounted disk only.
func (s *System) Managed(a artifact.Artifact) bool {
	return s.files.Live() && a.Kind != artifact.FileArtifact && registry.InTaskCache(a.Name)
}
