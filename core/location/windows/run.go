package windows

import (
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/inifile"
	"lockback/core/format/shelllink"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// firstWithApproval is the build of Windows 8, which the settings pages and
// their values of approval came with.
const firstWithApproval = 9200

// obeysApproval reports whether the system looks at StartupApproved.
func obeysApproval(s *location.Survey) bool {
	k, err := s.Machine.Key(nt)
	if err != nil {
		return true
	}
	build, err := strconv.Atoi(k.Text("CurrentBuild"))
	return err != nil || build >= firstWithApproval
}

// approval is where the approval of a place's entries is written: with the
// system, or with the person.
func approval(p place, kind string) string {
	root := cv
	if p.user != nil {
		root = `HKU\` + p.user.SID + `\Software\Microsoft\Windows\CurrentVersion`
	}
	return root + `\Explorer\StartupApproved\` + kind
}

// switchByApproval gives an item its state by the approval of its name.
func switchByApproval(s *location.Survey, item *location.Item, own artifact.Artifact, key, name string) {
	if !obeysApproval(s) {
		item.Switcher, item.Artifacts = location.Park{Artifact: own}, artifacts(own)
		return
	}
	item.Switcher = approve{key, name}
	item.Artifacts = artifacts(own, artifact.RegistryValue(key, name))
	k, err := s.Machine.Key(key)
	if err != nil {
		return
	}
	v, err := k.Value(name)
	if err != nil {
		return
	}
	if off, known := approvedState(v); known && off {
		item.State = autostart.Disabled
		item.Mode = "off in Windows' own startup settings"
		if len(v.Data) >= 12 {
			if t := windata.Time(le64(v.Data[4:])); !t.IsZero() {
				item.AddFacts(func() []location.Fact {
					return []location.Fact{{Name: "turned off", Value: t.Format("2006-01-02 15:04 MST"), Basis: key}}
				})
			}
		}
	}
}

func le64(b []byte) (n uint64) {
	for k := 7; k >= 0; k-- {
		n = n<<8 | uint64(b[k])
	}
	return n
}

// runPolicies are the values of the policy Explorer that keep the system from reading Run and RunOnce, of
// the machine and of a user.
var runPolicies = map[string][2]string{
	"run": {"DisableLocalMachineRun", "DisableCurrentUserRun"}, "runonce": {"DisableLocalMachineRunOnce",
		"DisableCurrentUserRunOnce"},
}

// accounts are the system's own, which nobody signs in with: what stands in their Run is not started.
var accounts = map[string]string{"S-1-5-18": "the system", "S-1-5-19": "LocalService", "S-1-5-20": "NetworkService"}

// passedOver marks an item that the system does not start, for a reason that its switch does not change.
func passedOver(item *location.Item, why string) {
	item.State, item.Mode, item.When = autostart.Disabled, why, ""
	item.Problems = append(item.Problems, autostart.Ignored)
	item.Switcher = location.NoSwitch{Why: why}
}

// signInRules say about an item of Run, RunOnce and their like when it is not started although it is there.
func signInRules(s *location.Survey, item *location.Item) {
	if item.For != nil {
		if name, ok := accounts[item.For.SID]; ok {
			passedOver(item, "nobody signs in as "+name)
			// Accounts of the system are made from the same profile as people's, with what that starts.
			item.Shipped = slices.ContainsFunc([]string{`\SysWOW64`, `\System32`}, func(folder string) bool {
				return sameCommand(s, item.Command, s.Machine.Windows()+folder+`\OneDriveSetup.exe /thfirstsetup`)
			})
			return
		}
	}
	names, ok := runPolicies[strings.ToLower(item.Source.Path[strings.LastIndexByte(item.Source.Path, '\\')+1:])]
	if !ok {
		return
	}
	name := names[0]
	if item.For != nil {
		name = names[1]
	}
	for _, p := range explorerPolicies(s) {
		if p.on[name] && (p.user == nil || p.user == item.For || item.For == nil) {
			passedOver(item, "a policy of the machine turns all of them off ("+name+")")
			return
		}
	}
}

// policy is what a policy of Explorer's sets, of the machine or of a user.
type policy struct {
	user *account.User
	on   map[string]bool
}

// explorerPolicies are those of the machine and of each user, read once.
func explorerPolicies(s *location.Survey) []policy {
	return s.Shared("policies of Explorer", func() any {
		var all []policy
		for _, p := range places(s, cv+`\Policies\Explorer`, ucv+`\Policies\Explorer`) {
			one := policy{p.user, map[string]bool{}}
			for _, v := range values(s, p.Key) {
				if n, ok := v.Number(); ok && n != 0 {
					one.on[v.Name] = true
				}
			}
			all = append(all, one)
		}
		return all
	}).([]policy)
}

// neverRead says why no Windows of today reads an entry.
func neverRead(why string) func(*location.Survey, *location.Item) {
	return func(_ *location.Survey, item *location.Item) { passedOver(item, why) }
}

func readRun(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		kind := "Run"
		if p.narrow {
			kind = "Run32"
		}
		for _, v := range values(s, p.Key) {
			if v.Name == "" && text(v) == "" {
				continue
			}
			name := v.Name
			if name == "" {
				name = "(default)"
			}
			item := addValue(s, p, v, name)
			switchByApproval(s, item, artifact.RegistryValue(p.Path, v.Name), approval(p, kind), v.Name)
			signInRules(s, item)
			s.Add(id(p, v.Name), item)
		}
	}
}

// readSections reads RunOnceEx: keys whose values are commands, run in their order, and whose subkey
// Depend names DLLs to load.
func readSections(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, section := range subkeys(s, p.Key) {
			at := place{Key: section, user: p.user, narrow: p.narrow}
			below := []place{at}
			if k, err := section.Subkey("Depend"); err == nil {
				below = append(below, place{Key: k, user: p.user, narrow: p.narrow})
			}
			for _, at := range below {
				for _, v := range values(s, at.Key) {
					if v.Name == "" || text(v) == "" {
						continue // the default value is a title
					}
					item := addValue(s, at, v, section.Name()+" "+v.Name)
					// "||program" and "dll|function" are its own forms.
					command := strings.TrimLeft(text(v), "|")
					item.CommandLine, _, _ = strings.Cut(command, "|")
					s.Add(id(at, v.Name), item)
				}
			}
		}
	}
}

// shellFolder is where a person, or everyone, has one of the shell's folders.
func shellFolder(s *location.Survey, u *account.User, name, usual string) string {
	key := cv
	if u != nil {
		key = `HKU\` + u.SID + `\Software\Microsoft\Windows\CurrentVersion`
	}
	if k, err := s.Machine.Key(key + `\Explorer\User Shell Folders`); err == nil {
		if dir := s.Machine.Expand(k.Text(name), u); artifact.OnDrive(dir) {
			return s.Machine.Canonical(strings.TrimRight(dir, `\`))
		}
	}
	return s.Machine.Canonical(s.Machine.Expand(usual, u))
}

func readStartupFolders(s *location.Survey) {
	const menu = `\Microsoft\Windows\Start Menu\Programs\Startup`
	read := func(u *account.User, dir string) {
		for _, e := range s.Dir(dir) {
			if !e.IsDir() && !strings.EqualFold(e.Name(), "desktop.ini") && !strings.HasPrefix(e.Name(),
				files.TempPrefix) {
				addStartupFile(s, u, dir, e)
			}
		}
	}
	read(nil, shellFolder(s, nil, "Common Startup", `%ProgramData%`+menu))
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		read(u, shellFolder(s, u, "Startup", `%APPDATA%`+menu))
	}
}

func addStartupFile(s *location.Survey, u *account.User, dir string, e fs.DirEntry) {
	file := dir + `\` + e.Name()
	item := newItem(origin{path: file, user: u}, strings.TrimSuffix(e.Name(), path.Ext(e.Name())), file)
	switch strings.ToLower(path.Ext(e.Name())) {
	case ".lnk":
		readShortcut(s, u, item, file)
	case ".url":
		if b, ok := s.File(file); ok {
			item.CommandLine = ""
			for _, section := range inifile.Parse(b) {
				if strings.EqualFold(section.Name, "InternetShortcut") {
					item.Command = section.Get("URL")
				}
			}
			if target, ok := strings.CutPrefix(item.Command, "file:///"); ok {
				if plain, err := url.PathUnescape(target); err == nil {
					target = plain
				}
				item.CommandLine = strings.ReplaceAll(target, "/", `\`)
			}
		}
	}
	if item.CommandLine == file {
		item.CommandLine = `"` + file + `"`
	}
	switchByApproval(s, item, artifact.File(file), approval(place{user: u}, "StartupFolder"), e.Name())
	user := ""
	if u != nil {
		user = u.Name
	}
	s.Add(strings.ToLower(user+"\x00"+e.Name()), item)
}

// maxShortcuts is how many shortcuts are followed, one after the other.
const maxShortcuts = 8

// readShortcut puts what a shortcut starts into an item.
func readShortcut(s *location.Survey, u *account.User, item *location.Item, file string) {
	b, ok := s.File(file)
	if !ok {
		item.CommandLine = ""
		return
	}
	link, err := shelllink.ParseIn(b, s.Machine.Narrow)
	if link == nil {
		item.Problems, item.CommandLine = append(item.Problems, autostart.Unparsable), ""
		return
	}
	if err != nil {
		item.Problems = append(item.Problems, autostart.Unparsable)
	}
	target := link.Target()
	for range maxShortcuts { // one may lead to another
		if !strings.EqualFold(path.Ext(target), ".lnk") {
			break
		}
		next, err := s.ReadFile(target, files.MaxFileSize)
		if err != nil {
			break
		}
		further, _ := shelllink.ParseIn(next, s.Machine.Narrow)
		if further == nil || further.Target() == "" {
			break
		}
		target, link.Arguments = further.Target(), strings.TrimSpace(further.Arguments+" "+link.Arguments)
	}
	item.Command = strings.TrimSpace(target + " " + link.Arguments)
	item.CommandLine = ""
	if target != "" && !(link.Uncertain && link.Environment == "" && link.IDList == "") {
		item.CommandLine = strings.TrimSpace(`"` + target + `" ` + link.Arguments)
	}
	if link.Target() == "" && link.AppID != "" {
		item.Command = `shell:AppsFolder\` + link.AppID
	}
	item.AddFacts(func() []location.Fact {
		var facts []location.Fact
		for _, f := range []location.Fact{{Name: "starts in", Value: link.WorkingDir}, {Kind: autostart.FactDescription,
			Value: link.Description},
			{Name: "made on", Value: link.Machine}, {Name: "volume", Value: link.Volume}} {
			if f.Value != "" {
				f.Basis = "the shortcut"
				facts = append(facts, f)
			}
		}
		return facts
	})
}

// appData is where the state of packaged apps' startup tasks stands, below a
// person's classes.
const appData = `Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\SystemAppData`

// States of a startup task, as the packaged apps' own interface numbers them.
var packagedStates = map[uint64]string{0: "off", 1: "off by the user", 2: "on", 3: "off by policy", 4: "on by policy"}

func readPackagedApps(s *location.Survey) {
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		root := key(s, `HKU\`+u.SID+`_Classes\`+appData)
		if root == nil {
			continue
		}
		for _, app := range subkeys(s, root) {
			for _, task := range subkeys(s, app) {
				state, ok := task.Number("State")
				if !ok {
					continue
				}
				family := app.Name()
				name, _, _ := strings.Cut(family, "_")
				p := place{Key: task, user: u}
				item := newItem(p.origin(), name+" "+task.Name(), `shell:AppsFolder\`+family)
				item.CommandLine, item.Source.Key, item.Mode = "", "State", packagedStates[state]
				item.Artifacts = artifacts(artifact.RegistryValue(task.Path, "State"))
				item.Switcher = number{key: task.Path, name: "State", on: 2, off: 1}
				switch state {
				case 0, 1:
					item.State = autostart.Disabled
				case 3, 4:
					if state == 3 {
						item.State = autostart.Disabled
					}
					item.Switcher = location.NoSwitch{Why: "a policy decides about it"}
				case 2:
				default:
					item.Mode = "unknown state " + strconv.FormatUint(state, 10)
				}
				s.Add(id(p), item)
			}
		}
	}
}
