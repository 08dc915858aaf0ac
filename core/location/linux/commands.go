package linux

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"lockback/core/location"
	"lockback/core/location/unix"
)

// Settings of programs that run a command of the administrator's: each function describes the lines of
// one program's file.

// firstWord cuts a line into its first word and the rest.
func firstWord(line string) (word, rest string) {
	k := strings.IndexAny(line, " \t")
	if k < 0 {
		return line, ""
	}
	return line[:k], strings.TrimSpace(line[k:])
}

// shellItem is the item of a command that a shell runs at some time.
func shellItem(command, when string) *location.Item {
	item := named(programName(command), command, byShell(command))
	item.When = when
	return item
}

// describeInterface makes the item of a line of interfaces(5) that runs a command.
func describeInterface(_ *location.Survey, _ location.Found, line string) *location.Item {
	word, command := firstWord(line)
	when := map[string]string{"pre-up": "before a network interface is brought up",
		"up": "when a network interface is brought up", "post-up": "when a network interface is brought up",
		"pre-down": "when a network interface is taken down", "down": "when a network interface is taken down",
		"post-down": "after a network interface was taken down"}[word]
	if when == "" || command == "" {
		return nil
	}
	return shellItem(command, when)
}

// interfacesSource are the files that a line of interfaces(5) has read in its place.
func interfacesSource(s *location.Survey, f location.Found, line string) []location.Found {
	word, pattern := firstWord(line)
	if word != "source" && word != "source-directory" {
		return nil
	}
	if !path.IsAbs(pattern) {
		pattern = path.Join(path.Dir(f.Path), pattern)
	}
	if word == "source-directory" {
		pattern += "/*"
	}
	return included(s, f, pattern)
}

// included are the files that a pattern in a file stands for, where they lie beside it, in the same
// home, or where only root writes: nobody has others' files shown by naming them.
func included(s *location.Survey, f location.Found, pattern string) []location.Found {
	if f.User != nil {
		pattern = strings.Replace(pattern, "~/", f.User.Home+"/", 1)
		pattern = strings.Replace(pattern, "$HOME/", f.User.Home+"/", 1)
	}
	pattern = path.Clean(strings.Trim(pattern, `"'`))
	inHome := f.User != nil && strings.HasPrefix(pattern, f.User.Home+"/")
	if !inHome && !strings.HasPrefix(pattern, "/etc/") && !strings.HasPrefix(pattern, "/usr/") {
		return nil
	}
	files := []string{pattern}
	if dir, last := path.Split(pattern); strings.ContainsAny(last, "*?[") {
		files = nil
		for _, e := range s.Dir(path.Clean(dir)) {
			if matches, _ := path.Match(last, e.Name()); matches && !e.IsDir() {
				files = append(files, path.Join(dir, e.Name()))
			}
		}
	}
	var found []location.Found
	for _, file := range files {
		more := location.Found{Path: file, Key: file, User: f.User, Foreign: f.User != nil && !inHome}
		if inHome {
			more.Key = "~" + strings.TrimPrefix(file, f.User.Home)
		}
		if info, err := s.Stat(file); err == nil && info.Mode().IsRegular() {
			found = append(found, more)
		}
	}
	return found
}

// describeTunnel makes the item of a line of wg-quick(8) that runs a command.
func describeTunnel(_ *location.Survey, f location.Found, line string) *location.Item {
	key, command, ok := strings.Cut(line, "=")
	when := map[string]string{"preup": "before the tunnel ", "postup": "when the tunnel ",
		"predown": "before the tunnel ", "postdown": "after the tunnel "}[strings.ToLower(strings.TrimSpace(key))]
	if !ok || when == "" || !strings.EqualFold(f.Section, "[interface]") {
		return nil
	}
	end := " is brought up"
	if strings.Contains(strings.ToLower(key), "down") {
		end = " is taken down"
	}
	return shellItem(strings.TrimSpace(command), when+strings.TrimSuffix(path.Base(f.Path), ".conf")+end)
}

// openVPNHooks are the settings of openvpn(8) that name a program, and when it runs; the last loads
// a library.
var openVPNHooks = map[string]string{"up": "when a tunnel is brought up", "down": "when a tunnel is taken down",
	"route-up": "when a tunnel has its routes", "route-pre-down": "before a tunnel loses its routes",
	"ipchange":       "when a tunnel has its address",
	"client-connect": "when somebody connects", "client-disconnect": "when somebody disconnects",
	"learn-address": "when somebody connects", "tls-verify": "when somebody connects",
	"auth-user-pass-verify": "when somebody connects",
	"tls-crypt-v2-verify":   "when somebody connects", "plugin": "with the tunnel"}

func describeOpenVPN(_ *location.Survey, _ location.Found, line string) *location.Item {
	word, command := firstWord(line)
	when := openVPNHooks[word]
	if when == "" || command == "" {
		return nil
	}
	return shellItem(unquoted(command), when)
}

// unquoted takes the quotes away that stand around a whole text.
func unquoted(text string) string {
	if n := len(text); n > 1 && (text[0] == '"' || text[0] == '\'') && text[n-1] == text[0] {
		return text[1 : n-1]
	}
	return text
}

// onMail is when commands in the settings of mail run.
const onMail = "when mail arrives"

// describeAlias makes the item of a line of aliases(5) that hands mail to a command.
func describeAlias(_ *location.Survey, _ location.Found, line string) *location.Item {
	name, to, ok := strings.Cut(line, ":")
	command := pipeOf(to)
	if !ok || command == "" {
		return nil
	}
	item := shellItem(command, onMail+" for "+strings.TrimSpace(name))
	item.Effect = location.AfterNewAliases
	return item
}

// pipeOf is the first command among receivers of mail; empty if there is none.
func pipeOf(receivers string) string {
	at := strings.IndexByte(receivers, '|')
	if at < 0 || strings.Trim(receivers[:at], " \t\",") != "" && !strings.Contains(receivers[:at], ",") {
		return ""
	}
	command := strings.TrimSpace(receivers[at+1:])
	if before := strings.TrimSpace(receivers[:at]); strings.HasSuffix(before, `"`) {
		command, _, _ = strings.Cut(command, `"`)
	}
	return strings.TrimSpace(command)
}

// describeForward makes the item of a line of a .forward that hands mail to a command.
func describeForward(_ *location.Survey, _ location.Found, line string) *location.Item {
	command := pipeOf(line)
	if command == "" {
		return nil
	}
	return shellItem(command, onMail)
}

// describeRecipe makes the item of a line of procmailrc(5) that hands mail to a command.
func describeRecipe(_ *location.Survey, _ location.Found, line string) *location.Item {
	command, ok := strings.CutPrefix(line, "|")
	if !ok {
		return nil
	}
	item := shellItem(strings.TrimSpace(command), onMail)
	item.Switcher = location.NoSwitch{Why: "it ends a recipe, and the recipe would take the next line instead"}
	return item
}

// describeSudo makes the item of a line of sudo.conf(5) that loads a library into sudo. Sudo's own are
// in the file of every machine.
func describeSudo(s *location.Survey, _ location.Found, line string) *location.Item {
	f := strings.Fields(line)
	if len(f) < 3 || f[0] != "Plugin" {
		return nil
	}
	library := f[2]
	if !path.IsAbs(library) {
		for _, dir := range []string{"/usr/libexec/sudo", "/usr/lib/sudo"} {
			if has(s, path.Join(dir, library)) {
				library = path.Join(dir, library)
				break
			}
		}
	}
	item := named(f[1], line, []string{library})
	item.When, item.ProgramDecides = "loaded into sudo", true
	return item
}

// moduleFolders are where PAM looks for modules, by the way that distributions build it.
var moduleFolders = []string{"/usr/lib/x86_64-linux-gnu/security", "/usr/lib/aarch64-linux-gnu/security",
	"/lib/x86_64-linux-gnu/security", "/lib/aarch64-linux-gnu/security", "/usr/lib64/security", "/lib64/security",
	"/usr/lib/security", "/lib/security"}

// pamModules is the form of the files of pam.d(5): a line that runs a command is an entry, and each
// module, once for all lines that name it.
type pamModules struct{ unix.Lines }

// Read reports them.
func (p pamModules) Read(s *location.Survey, places []location.Place) {
	modules := map[string]bool{}
	p.Describe = func(s *location.Survey, f location.Found, line string) *location.Item {
		service := path.Base(f.Path)
		if f.Dir == "" { // pam.conf(5) names the service first
			service, line = firstWord(line)
		}
		module, args := pamModule(line)
		if module == "" {
			return nil
		}
		if path.Base(module) == "pam_exec.so" {
			k := slices.IndexFunc(args, path.IsAbs)
			if k < 0 {
				return nil
			}
			item := named(path.Base(args[k]), strings.Join(args[k:], " "), args[k:])
			item.When = "when somebody uses " + service
			return item
		}
		file := module
		if !path.IsAbs(module) {
			for _, dir := range moduleFolders {
				if has(s, path.Join(dir, module)) {
					file = path.Join(dir, module)
					break
				}
			}
		}
		if modules[file] {
			return nil
		}
		modules[file] = true
		item := named(path.Base(module), line, []string{file})
		item.When, item.ProgramDecides = "when somebody signs in or is asked for a password", has(s, file)
		if file == module && !path.IsAbs(module) {
			item.Argv = nil // where it would be looked for is not known here
			if strings.HasPrefix(line, "-") {
				return nil // it need not be there
			}
		}
		return item
	}
	p.Key = func(line string) string {
		if module, _ := pamModule(line); path.Base(module) != "pam_exec.so" {
			return module
		}
		return line
	}
	p.Lines.Read(s, places)
}

// pamModule is the module that a line loads, and its arguments: type, control (a word, or several in
// brackets), module, arguments. Lines that include another file load nothing of their own.
func pamModule(line string) (module string, args []string) {
	kind, rest := firstWord(strings.TrimPrefix(line, "-"))
	if !slices.Contains([]string{"auth", "account", "password", "session"}, kind) {
		return "", nil
	}
	control, rest := firstWord(rest)
	if strings.HasPrefix(control, "[") && !strings.HasSuffix(control, "]") {
		_, behind, ok := strings.Cut(rest, "]")
		if !ok {
			return "", nil
		}
		rest = strings.TrimSpace(behind)
	}
	words := strings.Fields(rest)
	if control == "include" || control == "substack" || len(words) == 0 {
		return "", nil
	}
	return words[0], words[1:]
}

// onPackages is when hooks of package managers run.
const onPackages = "when software is installed or removed"

// describeAptHook makes the item of a line of apt.conf(5) that has a command run. Commands stand in
// quotes behind the name of a list, or alone on a line of its block.
func describeAptHook(_ *location.Survey, f location.Found, line string) *location.Item {
	list := f.Section + "{" + line
	if !strings.Contains(list, "Invoke") && !strings.Contains(list, "Pre-Install-Pkgs") &&
		!strings.Contains(list, "Post-Install-Pkgs") {
		return nil
	}
	begin, end := strings.IndexByte(line, '"'), strings.LastIndexByte(line, '"')
	if strings.HasPrefix(line, "//") || begin < 0 || end <= begin+1 {
		return nil
	}
	command := line[begin+1 : end]
	return shellItem(strings.ReplaceAll(command, `\"`, `"`), onPackages)
}

// aptBlocks is [unix.Braces] for apt.conf(5), whose blocks end with a semicolon.
func aptBlocks(section, line string) (string, bool) {
	if strings.HasPrefix(line, "}") {
		return unix.Braces(section, "}")
	}
	if strings.HasPrefix(line, "{") {
		return section, true
	}
	if open := strings.Count(line, "{") - strings.Count(line, "}"); open == 0 {
		if list, _, ok := strings.Cut(line, "{"); !ok && !strings.ContainsAny(line, `";#/`) {
			return section + "{" + strings.TrimSpace(list), true // the brace is on the next line
		}
		return section, false
	}
	section, _ = unix.Braces(section, line)
	return section, !strings.Contains(line, `"`)
}

// aptAccepts is the rule for the names of apt.conf.d, apt.conf(5).
func aptAccepts(name string) bool {
	return !strings.ContainsFunc(name, func(r rune) bool {
		return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.", r)
	}) && (path.Ext(name) == "" || path.Ext(name) == ".conf")
}

// describeDpkgHook makes the item of a line of dpkg.cfg(5) that has a command run.
func describeDpkgHook(_ *location.Survey, _ location.Found, line string) *location.Item {
	key, command, ok := strings.Cut(strings.TrimPrefix(line, "--"), "=")
	if !ok {
		key, command = firstWord(line)
	}
	if key = strings.TrimSpace(key); key != "pre-invoke" && key != "post-invoke" && key != "status-logger" {
		return nil
	}
	return shellItem(unquoted(strings.TrimSpace(command)), onPackages)
}

// describeAlpmHook makes the item of the line of a hook of alpm-hooks(5) that says what to run.
func describeAlpmHook(_ *location.Survey, f location.Found, line string) *location.Item {
	return execOf(f, line, "[Action]", onPackages)
}

// execOf makes the item of the line of a section that says what to run; it is named after the file.
func execOf(f location.Found, line, section, when string) *location.Item {
	key, command, ok := strings.Cut(line, "=")
	if !ok || strings.TrimSpace(key) != "Exec" || f.Section != section {
		return nil
	}
	command = strings.TrimSpace(command)
	item := named(strings.TrimSuffix(path.Base(f.Path), path.Ext(f.Path)), command, strings.Fields(command))
	item.When = when
	return item
}

// describeDNFPlugin makes the item of the line of a plug-in's file that turns it on.
func describeDNFPlugin(_ *location.Survey, f location.Found, line string) *location.Item {
	key, value, ok := strings.Cut(line, "=")
	if on := strings.ToLower(strings.TrimSpace(value)); !ok || strings.TrimSpace(key) != "enabled" ||
		f.Section != "[main]" || on != "1" && on != "true" && on != "yes" {
		return nil
	}
	item := named(strings.TrimSuffix(path.Base(f.Path), ".conf"), line, nil)
	item.When = onPackages
	return item
}

// logrotateScripts is the form of the scripts of logrotate(8): the first line of one that runs something stands for all
// of it.
func logrotateScripts() location.Form {
	return unix.Lines{Comments: "#", Section: scriptOfLogrotate, Describe: func(_ *location.Survey, f location.Found,
		line string) *location.Item {
		kind, more, _ := strings.Cut(f.Section, "\x00")
		if kind == "" || more != "1" {
			return nil
		}
		item := shellItem(line, map[string]string{"prerotate": "before a log is rotated",
			"preremove": "before an old log is removed"}[kind])
		if item.When == "" {
			item.When = "when a log is rotated"
		}
		item.Name = path.Base(f.Path) + ": " + item.Name
		return item
	}}
}

// scriptOfLogrotate is the script that a line stands in, and how many of its lines stood before.
func scriptOfLogrotate(section, line string) (string, bool) {
	switch word, _ := firstWord(line); {
	case word == "endscript":
		return "", true
	case section == "" && slices.Contains([]string{"prerotate", "postrotate", "firstaction", "lastaction", "preremove"},
		word):
		return word + "\x00", true
	case section == "":
		return "", false
	}
	kind, more, _ := strings.Cut(section, "\x00")
	if more == "" {
		return kind + "\x001", false
	}
	return kind + "\x002", false
}

// describePython makes the item of a line of a .pth file that Python runs at every start: only lines that
// begin with import are run, site of Python's library.
func describePython(_ *location.Survey, f location.Found, line string) *location.Item {
	if !strings.HasPrefix(line, "import ") && !strings.HasPrefix(line, "import\t") {
		return nil
	}
	item := named(strings.TrimSuffix(path.Base(f.Path), ".pth"), line, nil)
	item.When = "at every start of Python"
	return item
}

// ownPython are the folders in which an administrator or a user puts what Python loads at every start, and
// vendorsPython those of packages.
var (
	ownPython = []string{"/usr/local/lib/python3.*/dist-packages", "/usr/local/lib/python3.*/site-packages",
		"~/.local/lib/python3.*/site-packages"}
	vendorsPython = []string{"/usr/lib/python3/dist-packages", "/usr/lib/python3.*/site-packages",
		"/usr/lib64/python3.*/site-packages"}
)

// packagesFile is why nothing in the folders of packages has a switch where no other file comes before it.
const packagesFile = "a package put it there, and nothing overrides it; remove the package"

// pythonReadings are what else Python loads at every start: two files by their names, and what packages have.
func pythonReadings() []location.Reading {
	names := func(folders ...string) (files []string) {
		for _, folder := range folders {
			files = append(files, folder+"/sitecustomize.py", folder+"/usercustomize.py")
		}
		return files
	}
	whole := unix.WholeFiles{Adjust: atLoad("at every start of Python")}
	return []location.Reading{
		{Places: location.At(append(names(ownPython...), "/etc/python3*/sitecustomize.py")...), Form: whole},
		{Places: withSuffix(".pth", vendorsPython...), Form: location.Reporting{Form: unix.Lines{Comments: "#",
			Describe: describePython}, Why: packagesFile}},
		{Places: location.At(names(vendorsPython...)...), Form: location.Reporting{Form: whole, Why: packagesFile}},
	}
}

// withSuffix are the files of folders whose names end so.
func withSuffix(suffix string, folders ...string) []location.Place {
	places := location.In(folders...)
	for k := range places {
		places[k].Suffix = suffix
	}
	return places
}

// atLoad words when a file is loaded into a program.
func atLoad(when string) func(*location.Survey, location.Found, *location.Item) {
	return func(_ *location.Survey, _ location.Found, item *location.Item) { item.When = when }
}

// describeSession says what a desktop session starts.
func describeSession(_ *location.Survey, f location.Found, line string) *location.Item {
	item := execOf(f, line, "[Desktop Entry]", "when somebody chooses this session")
	if item != nil && item.Command == "default" {
		item.Argv = nil // the system's own X session
	}
	return item
}

// isLink reports whether a file is a link.
func isLink(s *location.Survey, file string) bool {
	info, err := s.Lstat(file)
	return err == nil && info.Mode()&fs.ModeSymlink != 0
}

// hookWhy is why hooks of package managers have no switch.
const hookWhy = "without it software may be left half installed; change the file, or remove its package"

// packageHooks are the readings of what the other package managers run: dpkg.cfg(5), kernel-install and Debian's
// kernel packages, alpm-hooks(5), dnf.conf(5).
func packageHooks() []location.Reading {
	report := func(form location.Form) location.Form { return location.Reporting{Form: form, Why: hookWhy} }
	kernel := []string{"/etc/kernel/postinst.d", "/etc/kernel/postrm.d", "/etc/kernel/preinst.d", "/etc/kernel/prerm.d"}
	pacman, dnf := program{title: "pacman", files: []string{"pacman"}}, program{title: "dnf", files: []string{"dnf",
		"dnf-3", "dnf5", "yum"}}
	alpm := []string{"/etc/pacman.d/hooks", "/usr/share/libalpm/hooks"}
	dnfFolders := []string{"/etc/dnf/plugins", "/etc/yum/pluginconf.d"}
	return []location.Reading{
		{Places: location.Packaged(slices.Concat(location.At("/etc/dpkg/dpkg.cfg"),
			location.In("/etc/dpkg/dpkg.cfg.d")), "/etc/dpkg/dpkg.cfg.d"), Form: report(unix.Lines{Comments: "#",
			Accepts: runPartsAccepts, Describe: describeDpkgHook})},
		{Places: location.Packaged(location.In(kernel...), kernel...),
			Form: report(unix.Executables{Accepts: anyMachine(runPartsAccepts),
				When: func(string) string { return "when a kernel is installed or removed" }})},
		{Places: withSuffix(".install", "/etc/kernel/install.d"),
			Form: report(unix.Executables{
				When: func(string) string { return "when a kernel is installed or removed" }})},
		{Places: location.Packaged(withSuffix(".hook", alpm...), alpm...),
			Form:   report(unix.Lines{Comments: "#", Section: unix.Brackets, Describe: describeAlpmHook}),
			Runner: location.Runner{Off: pacman.off}},
		{Places: location.Packaged(withSuffix(".conf", dnfFolders...), dnfFolders...),
			Form:   report(unix.Lines{Comments: "#", Section: unix.Brackets, Describe: describeDNFPlugin}),
			Runner: location.Runner{Off: dnf.off}},
	}
}

// pamFolder says that pam.conf is not read: it is not where there is a folder, pam.conf(5).
func pamFolder(s *location.Survey) string {
	if has(s, "/etc/pam.d") {
		return "PAM reads /etc/pam.d instead"
	}
	return ""
}

// fileManagerFolders are where file managers look for extensions written in Python, by their own documents; in
// homes they lie below .local/share.
var fileManagerFolders = []string{"/usr/share/nautilus-python/extensions", "/usr/share/nemo-python/extensions",
	"/usr/share/caja-python/extensions"}

// ofHome are the folders of homes that programs read beside some in /usr/share.
func ofHome(folders []string) []string {
	var own []string
	for _, folder := range folders {
		own = append(own, "~/.local/share"+strings.TrimPrefix(folder, "/usr/share"))
	}
	return own
}
