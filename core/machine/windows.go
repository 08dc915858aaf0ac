package machine

import (
	"errors"
	"fmt"
	"path"
	"strings"
)

// ErrHibernated says that a mounted disk belongs to a Windows that sleeps: it
// would wake up over anything written meanwhile, and damage the disk.
var ErrHibernated = errors.New("Windows on this disk is hibernated or was shut down in fast-startup mode, and would overwrite what is changed now")

// ErrOtherDrive says that a path is on a drive that is not the mounted disk.
var ErrOtherDrive = errors.New("on a drive that is not reachable here")

// Places of the registry that tell what the machine is.
const (
	KeyNT = `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion`
	// KeyTaskCache is what the scheduler keeps of its tasks.
	KeyTaskCache = KeyNT + `\Schedule\TaskCache`
	KeyCV        = `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion`
	KeyCCS       = `HKLM\SYSTEM\CurrentControlSet`
	profileList  = KeyNT + `\ProfileList`
)

// hives are the hive files of the system itself, below its config folder.
var hives = []struct{ prefixes, file string }{
	{`HKLM\SOFTWARE`, "SOFTWARE"},
	{`HKLM\SYSTEM`, "SYSTEM"},
	{`HKU\S-1-5-18|HKU\.DEFAULT`, "DEFAULT"},
}

// bootStores are where the boot manager keeps its entries, on the system's disk.
var bootStores = []string{`\Boot\BCD`, `\EFI\Microsoft\Boot\BCD`}

// openWindows finds out what Windows machine this is.
func (m *Machine) openWindows(folder string) {
	m.openRegistry(folder, 'C')
	root := m.text(KeyNT, "SystemRoot")
	switch {
	case !onDrive(root):
	case m.Live:
		m.Files.names, m.windows = driveNames{drive: upperLetter(root[0])}, root
	case upperLetter(root[0]) != 'C':
		// A second Windows calls its own disk by another letter: so do the names of its hives.
		m.openRegistry(folder, upperLetter(root[0]))
	}
	m.ID = strings.ToLower(m.text(`HKLM\SOFTWARE\Microsoft\Cryptography`, "MachineGuid"))
	m.Name = m.text(KeyCCS+`\Control\ComputerName\ComputerName`, "ComputerName")
	m.Version = m.windowsVersion()
	m.systemVariables()
	m.readProfiles()
	if !m.Live {
		m.hibernated = m.isHibernated()
	}
}

// openRegistry makes the registry readable, on a disk that the machine calls by a letter.
func (m *Machine) openRegistry(folder string, drive byte) {
	m.Registry = &Registry{}
	m.Files.names = driveNames{drive: drive}
	m.windows = string(drive) + `:` + strings.ReplaceAll(folder, "/", `\`) // as the disk has it
	if m.Live {
		m.liveRegistry()
	} else {
		m.mountHives(folder)
	}
}

func (m *Machine) mountHives(folder string) {
	for _, row := range hives {
		file := path.Join(folder, "System32", "config", row.file)
		if full, err := m.Files.Resolve(file); err == nil {
			file = full
		}
		h := &hiveFile{files: m.Files, name: m.Files.names.named(file)}
		if row.file == "SYSTEM" {
			h.alias = h.controlSet
		}
		for prefix := range strings.SplitSeq(row.prefixes, "|") {
			m.Registry.add(prefix, h)
		}
	}
	for _, name := range bootStores {
		name = m.windows[:2] + name
		if _, err := m.Files.Stat(name); err == nil {
			m.Registry.add(`HKLM\BCD00000000`, &hiveFile{files: m.Files, name: name})
			break
		}
	}
}

// text reads one text value of the registry.
func (m *Machine) text(key, name string) string {
	k, err := m.Registry.Key(key)
	if err != nil {
		return ""
	}
	return k.Text(name)
}

// windowsVersion words the version as the system's own about page does.
func (m *Machine) windowsVersion() string {
	k, err := m.Registry.Key(KeyNT)
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
func (m *Machine) readProfiles() {
	list, err := m.Registry.Key(profileList)
	if err != nil {
		return
	}
	profiles, _ := list.Subkeys()
	seen := map[string]bool{}
	for _, p := range profiles {
		home := m.expand(p.Text("ProfileImagePath"), nil)
		if !onDrive(home) {
			continue
		}
		home = m.Files.canonicalName(strings.TrimRight(home, `\`))
		u := User{Name: home[strings.LastIndexByte(home, '\\')+1:], UID: -1, GID: -1, Home: home, SID: p.Name()}
		if u.Name == "" || seen[strings.ToLower(u.Name)] {
			u.Name += "." + u.SID
		}
		seen[strings.ToLower(u.Name)] = true
		m.Users = append(m.Users, u)
		m.mountProfile(u)
	}
	// What lies here is copied for whoever signs in for the first time.
	if home := m.expand(list.Text("Default"), nil); onDrive(home) {
		u := User{Name: NewUsers, UID: -1, GID: -1, Home: m.Files.canonicalName(strings.TrimRight(home, `\`)), SID: newUsersKey}
		if _, err := m.Stat(u.Home + `\NTUSER.DAT`); err == nil {
			m.Users = append(m.Users, u)
			m.mountProfile(u)
		}
	}
}

// NewUsers is how the profile is called that users get who sign in to Windows for the first time. Its part of the
// registry is loaded nowhere, so that the key below HKU is a name of our own.
const (
	NewUsers    = "new users"
	newUsersKey = "NewUsers"
)

// mountProfile makes a user's part of the registry readable.
func (m *Machine) mountProfile(u User) {
	root := `HKU\` + u.SID
	if u.SID == "S-1-5-18" {
		return // the system's own, mounted already
	}
	if m.Live {
		if _, err := m.Registry.Key(root); err == nil {
			return // signed in: the running system has it
		}
	}
	// Windows keeps the classes apart, and shows them at both places.
	m.Registry.add(root, &hiveFile{files: m.Files, name: u.Home + `\NTUSER.DAT`})
	classes := &hiveFile{files: m.Files, name: u.Home + `\AppData\Local\Microsoft\Windows\UsrClass.dat`}
	m.Registry.add(root+"_Classes", classes)
	m.Registry.add(root+`\Software\Classes`, classes)
}

// systemVariables collects the environment variables of the system. Those of a
// person come with [Machine.Expand].
func (m *Machine) systemVariables() {
	v := map[string]string{
		"systemroot": m.windows, "windir": m.windows, "systemdrive": m.windows[:2], "programdata": m.windows[:2] + `\ProgramData`,
		"programfiles": m.windows[:2] + `\Program Files`, "programfiles(x86)": m.windows[:2] + `\Program Files (x86)`, "public": m.windows[:2] + `\Users\Public`,
	}
	m.variables = v
	for name, value := range map[string]string{"programfiles": "ProgramFilesDir", "programw6432": "ProgramFilesDir", "programfiles(x86)": "ProgramFilesDir (x86)",
		"commonprogramfiles": "CommonFilesDir", "commonprogramw6432": "CommonFilesDir", "commonprogramfiles(x86)": "CommonFilesDir (x86)"} {
		if text := m.text(KeyCV, value); text != "" {
			v[name] = m.expand(text, nil)
		}
	}
	for name, value := range map[string]string{"programdata": "ProgramData", "public": "Public"} {
		if text := m.text(profileList, value); text != "" {
			v[name] = m.expand(text, nil)
		}
	}
	v["allusersprofile"] = v["programdata"]
	m.addVariables(v, KeyCCS+`\Control\Session Manager\Environment`, nil)
}

func (m *Machine) addVariables(v map[string]string, key string, own map[string]string) {
	k, err := m.Registry.Key(key)
	if err != nil {
		return
	}
	values, _ := k.Values()
	for _, value := range values {
		name := strings.ToLower(value.Name)
		if value.IsText() && (v[name] == "" || own != nil) && name != "path" {
			v[name] = m.expand(value.Text(), own)
		}
	}
}

// Expand replaces the %variables% of a text by what they are for a person, or
// for the system where u is nil. Unknown ones stay.
func (m *Machine) Expand(text string, u *User) string {
	if !strings.Contains(text, "%") {
		return text
	}
	if u == nil {
		return m.expand(text, nil)
	}
	m.personal.Lock()
	defer m.personal.Unlock()
	own := m.personal.variables[u.SID]
	if own == nil {
		own = map[string]string{"userprofile": u.Home, "username": u.Name, "appdata": u.Home + `\AppData\Roaming`, "localappdata": u.Home + `\AppData\Local`,
			"homedrive": u.Home[:2], "homepath": u.Home[2:], "temp": u.Home + `\AppData\Local\Temp`, "tmp": u.Home + `\AppData\Local\Temp`}
		m.addVariables(own, `HKU\`+u.SID+`\Environment`, own)
		if m.personal.variables == nil {
			m.personal.variables = map[string]map[string]string{}
		}
		m.personal.variables[u.SID] = own
	}
	return m.expand(text, own)
}

// expand replaces variables, a user's own before the system's.
func (m *Machine) expand(text string, own map[string]string) string {
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
			value, ok = m.variables[name]
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
func (m *Machine) SearchPath(u *User) []string {
	keys := []string{KeyCCS + `\Control\Session Manager\Environment`}
	if u != nil {
		keys = append(keys, `HKU\`+u.SID+`\Environment`)
	}
	var all []string
	for _, key := range keys {
		for dir := range strings.SplitSeq(m.Expand(m.text(key, "Path"), u), ";") {
			if dir = strings.TrimRight(strings.Trim(strings.TrimSpace(dir), `"`), `\`); onDrive(dir) && len(all) < maxSearched {
				all = append(all, dir)
			}
		}
	}
	return all
}

// maxSearched is how many folders of a PATH are looked into.
const maxSearched = 200

// Windows is the system's folder, as the machine names it: C:\Windows.
func (m *Machine) Windows() string { return m.windows }

// Variable returns a variable of the system's environment by its name in small
// letters.
func (m *Machine) Variable(name string) string { return m.variables[name] }

// isHibernated reports whether hiberfil.sys holds a system that sleeps: its
// first bytes say so, and are cleared when it wakes.
func (m *Machine) isHibernated() bool {
	file, err := m.Files.openRegular(m.Files.names.named("/hiberfil.sys"))
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

// canonicalName gives a path the case that the disk has, so that one file has
// one name.
func (f *Files) canonicalName(name string) string {
	f.mu.Lock()
	known, ok := f.canonical[name]
	f.mu.Unlock()
	if ok {
		return known
	}
	out := name
	if local, err := f.names.local(f, name); err == nil && f.isDirect(name) {
		out = f.names.named(local)
	} else if full, err := f.resolve(name, false); err == nil {
		out = f.names.named(full)
	}
	f.mu.Lock()
	f.canonical[name] = out
	f.mu.Unlock()
	return out
}

// Canonical gives a path the case that the disk has.
func (m *Machine) Canonical(name string) string { return m.Files.canonicalName(name) }

// actual finds the name that a folder has for one that the machine takes for the
// same.
func (f *Files) actual(plain, base string) (string, bool) {
	f.mu.Lock()
	names, ok := f.listed[plain]
	f.mu.Unlock()
	if !ok {
		names = map[string]string{}
		if entries, err := f.readPlainDir(plain); err == nil {
			for _, e := range entries {
				names[f.names.same(e.Name())] = e.Name()
			}
		}
		f.mu.Lock()
		f.listed[plain] = names
		f.mu.Unlock()
	}
	name, ok := names[f.names.same(base)]
	return name, ok
}

// forgetNames drops what is remembered of the names in folders.
func (f *Files) forgetNames() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.listed)
	clear(f.canonical)
}

// task tells which task of a running machine a file is the definition of. The
// scheduler alone may write those.
func (m *Machine) task(a Artifact) (string, bool) {
	if !m.Live || m.OS != "windows" || a.Kind != FileArtifact {
		return "", false
	}
	return cutFold(a.Name, m.windows+`\System32\Tasks`)
}

// Managed reports whether a running system writes an artifact itself, from
// another one: what the scheduler keeps of its tasks, or a Mac of login items. It
// is recorded, and put back on a mounted disk only; and the other way round, a
// login item is one on the running Mac only.
func (m *Machine) Managed(a Artifact) bool {
	if m.OS == "macos" {
		return m.macManaged(a)
	}
	return m.Live && a.Kind != FileArtifact && inTaskCache(a.Name)
}

// inTaskCache reports whether a key is one that the scheduler keeps of its tasks.
func inTaskCache(path string) bool {
	rest, ok := cutFold(path, KeyTaskCache)
	return ok && (rest == "" || rest[0] == '\\')
}

// cutFold cuts a prefix off without regard to case.
func cutFold(s, prefix string) (string, bool) {
	if len(s) < len(prefix) || !strings.EqualFold(s[:len(prefix)], prefix) {
		return s, false
	}
	return s[len(prefix):], true
}
