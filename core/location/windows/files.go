package windows

import (
	"fmt"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/taskjob"
	"lockback/core/location"
	"lockback/core/location/browser"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// readParkedFiles reads a folder each of whose files is an entry that is
// turned off by taking it away. With names, only those count.
func readParkedFiles(s *location.Survey, u *account.User, dir string, names []string) {
	for _, e := range s.Dir(dir) {
		name := strings.ToLower(e.Name())
		if e.IsDir() || name == "desktop.ini" || strings.HasPrefix(name, "~$") ||
			strings.HasPrefix(name, files.TempPrefix) {
			continue
		}
		wanted := len(names) == 0
		for _, n := range names {
			wanted = wanted || name == n
		}
		if wanted {
			addParkedFile(s, u, dir+`\`+e.Name(), func(*location.Item) {})
		}
	}
}

// addParkedFile reports a file that is an entry, as describe has it.
func addParkedFile(s *location.Survey, u *account.User, file string, describe func(*location.Item)) {
	item := newItem(origin{path: file, user: u}, file[strings.LastIndexByte(file, '\\')+1:], file)
	item.CommandLine = `"` + file + `"`
	a := artifact.File(file)
	item.Artifacts, item.Switcher = artifacts(a), location.Park{Artifact: a}
	key := file
	if u != nil {
		key = strings.TrimPrefix(strings.ToLower(file), strings.ToLower(u.Home))
	}
	describe(item)
	s.Add(strings.ToLower(key), item)
}

// profileNames are the scripts that PowerShell runs when it starts.
var profileNames = []string{"profile.ps1", "microsoft.powershell_profile.ps1", "microsoft.powershellise_profile.ps1",
	"microsoft.vscode_profile.ps1"}

func readPowerShellProfiles(s *location.Survey) {
	for _, dir := range []string{s.Machine.Windows() + `\System32\WindowsPowerShell\v1.0`, s.Machine.Windows() +
		`\SysWOW64\WindowsPowerShell\v1.0`,
		s.Machine.Variable("programfiles") + `\PowerShell\7`} {
		readParkedFiles(s, nil, s.Machine.Canonical(dir), profileNames)
	}
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		documents := shellFolder(s, u, "Personal", `%USERPROFILE%\Documents`)
		for _, dir := range []string{`\WindowsPowerShell`, `\PowerShell`} {
			readParkedFiles(s, u, s.Machine.Canonical(documents+dir), profileNames)
		}
	}
}

func readJobs(s *location.Survey) {
	dir := s.Machine.Windows() + `\Tasks`
	for _, e := range s.Dir(dir) {
		if e.IsDir() || !strings.EqualFold(path.Ext(e.Name()), ".job") {
			continue
		}
		file := dir + `\` + e.Name()
		addParkedFile(s, nil, file, func(item *location.Item) {
			item.Name, item.CommandLine = strings.TrimSuffix(e.Name(), path.Ext(e.Name())), ""
			if b, ok := s.File(file); ok {
				describeJob(item, b)
			}
		})
	}
}

// describeJob says what the file of an old scheduler's job holds.
func describeJob(item *location.Item, b []byte) {
	job, err := taskjob.Parse(b)
	if err != nil {
		item.Problems = append(item.Problems, autostart.Unparsable)
		return
	}
	item.Command = strings.TrimSpace(job.Program + " " + job.Arguments)
	item.CommandLine = strings.TrimSpace(`"` + job.Program + `" ` + job.Arguments)
	if item.When = fmt.Sprintf("on %d triggers", job.Triggers); job.Triggers == 1 {
		item.When = "on 1 trigger"
	}
	if job.Disabled {
		item.State, item.Mode = autostart.Disabled, "disabled"
	}
}

// family is a family of browsers: where it keeps people's profiles, and its keys.
type family struct{ name, data, key string }

// The families that keep extensions as Chromium does.
var chromium = []family{
	{"Chrome", `%LOCALAPPDATA%\Google\Chrome\User Data`, `Google\Chrome`},
	{"Edge", `%LOCALAPPDATA%\Microsoft\Edge\User Data`, `Microsoft\Edge`},
	{"Chromium", `%LOCALAPPDATA%\Chromium\User Data`, `Chromium`},
	{"Brave", `%LOCALAPPDATA%\BraveSoftware\Brave-Browser\User Data`, `BraveSoftware\Brave`},
	{"Vivaldi", `%LOCALAPPDATA%\Vivaldi\User Data`, `Vivaldi`},
	{"Opera", `%APPDATA%\Opera Software\Opera Stable`, `Opera Software`},
}

var browsers = browser.System{Join: func(elements ...string) string { return strings.Join(elements, `\`) }}

// Why extensions are not switched.
const (
	signed    = "an extension is turned off in the browser itself, which keeps a signature over its list"
	rewritten = "an extension is turned off in the browser itself, which rewrites its list when it ends"
)

func readBrowsers(s *location.Survey) {
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		for _, f := range chromium {
			browsers.Chromium(s, f.name, s.Machine.Canonical(s.Machine.Expand(f.data, u)), func(e browser.Extension) {
				item := newExtension(u, e, e.Folder, signed)
				s.Add(strings.ToLower(f.name+"\x00"+belowHome(u, e.List)+"\x00"+e.ID), item)
			})
		}
		browsers.Firefox(s, s.Machine.Canonical(s.Machine.Expand(`%APPDATA%\Mozilla\Firefox\Profiles`, u)),
			func(e browser.Extension) {
				item := newExtension(u, e, e.File, rewritten)
				item.Source.Key = e.ID
				s.Add(strings.ToLower(belowHome(u, e.List)+"\x00"+e.ID), item)
			})
	}
}

// belowHome is a path from a user's home on; all of it where it lies elsewhere, as a variable of
// theirs may have it.
func belowHome(u *account.User, path string) string {
	if len(path) >= len(u.Home) && strings.EqualFold(path[:len(u.Home)], u.Home) {
		return path[len(u.Home):]
	}
	return path
}

func newExtension(u *account.User, e browser.Extension, path, why string) *location.Item {
	item := newItem(origin{path: path, user: u}, e.Name, "")
	item.Mode, item.Shipped, item.Artifacts, item.Switcher = e.Mode, e.BuiltIn, artifacts(), location.NoSwitch{Why: why}
	if !e.Active {
		item.State = autostart.Disabled
	}
	return item
}

// readHosts reads the programs that extensions may start, and the extensions that programs have
// put into the registry.
func readHosts(s *location.Survey) {
	for _, key := range []string{`Google\Chrome`, `Microsoft\Edge`, `Chromium`, `Mozilla`} {
		for _, p := range places(s, soft+`\`+key+`\NativeMessagingHosts`, `HKCU\Software\`+key+
			`\NativeMessagingHosts`) {
			for _, k := range subkeys(s, p.Key) {
				at := place{Key: k, user: p.user, narrow: p.narrow}
				item := newItem(at.origin(), k.Name(), k.Text(""))
				item.CommandLine = hostProgram(s, k.Text(""))
				item.Mode = "native messaging host"
				parkKey(at, item)
				s.Add(id(at), item)
			}
		}
		for _, p := range places(s, soft+`\`+key+`\Extensions`, `HKCU\Software\`+key+`\Extensions`) {
			for _, k := range subkeys(s, p.Key) {
				at := place{Key: k, user: p.user, narrow: p.narrow}
				item := newItem(at.origin(), k.Name(), k.Text("update_url"))
				item.CommandLine, item.Mode = "", "installed from outside"
				item.Artifacts, item.Switcher = artifacts(artifact.RegistryTree(k.Path)), location.NoSwitch{Why: signed}
				s.Add(id(at), item)
			}
		}
	}
}

// hostProgram is the program that a native messaging host's description names.
func hostProgram(s *location.Survey, manifest string) string {
	b, err := s.ReadFile(manifest, files.MaxFileSize)
	if err != nil {
		return `"` + manifest + `"`
	}
	program := browsers.HostProgram(manifest[:max(0, strings.LastIndexByte(manifest, '\\'))], b, artifact.OnDrive)
	if program == "" {
		program = manifest
	}
	return `"` + program + `"`
}
