package macos

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine/account"
)

// bootTasks are the scripts that launchd runs while the system starts, where they are there, with when.
var bootTasks = map[string]string{"rc.server": "at startup", "rc.cdrom": "when started from a disc",
	"rc.netboot": "when started over the network", "rc.installer_cleanup": "after an installation"}

// kernelArguments has what the kernel is given at startup.
const kernelArguments = "/Library/Preferences/SystemConfiguration/com.apple.Boot.plist"

func readBootTasks(s *location.Survey) {
	for name, when := range bootTasks {
		file := path.Join("/private/etc", name)
		if _, err := s.Stat(file); err != nil {
			s.Skip(file, err)
			continue
		}
		item := newItem(nil, name, file, file)
		item.Argv, item.When = []string{file}, when
		parked(item, file)
		s.Add(key(nil, file), item)
	}
	doc, ok := readPlist(s, kernelArguments)
	if !ok {
		return
	}
	if flags := strings.TrimSpace(doc.Dict().Text("Kernel Flags")); flags != "" {
		item := newItem(nil, "Kernel Flags", flags, kernelArguments)
		item.Source.Key = "Kernel Flags"
		fixed(item, "the Mac may not start with other ones; its own tools set them")
		s.Add(key(nil, kernelArguments), item)
	}
}

// forced are the settings of ssh that run a command which whoever connects did not choose.
var forced = map[string]string{"forcecommand": "when somebody connects over ssh",
	"authorizedkeyscommand":       "when somebody connects over ssh",
	"authorizedprincipalscommand": "when somebody connects over ssh",
	"subsystem":                   "when a client asks for it", "localcommand": "when connected to another computer",
	"proxycommand": "when connecting to another computer", "knownhostscommand": "when connecting to another computer"}

func readSSHCommands(s *location.Survey) {
	config := func(u *account.User, file string) {
		content, ok := s.File(file)
		if !ok {
			return
		}
		for number, text := range numbered(content) {
			setting, value, _ := strings.Cut(strings.Replace(text, "=", " ", 1), " ")
			when := forced[strings.ToLower(setting)]
			value = strings.Trim(strings.TrimSpace(value), `"`)
			if when == "" || strings.EqualFold(value, "none") || strings.EqualFold(setting, "subsystem") &&
				strings.HasPrefix(strings.Join(strings.Fields(value), " "), "sftp /usr/libexec/sftp-server") {
				continue
			}
			s.Add(key(u, file, text), sshCommand(u, setting, value, file, when, number))
		}
	}
	for _, folder := range []string{"sshd_config", "ssh_config"} {
		file := "/private/etc/ssh/" + folder
		config(nil, file)
		for _, e := range named(s, file+".d", ".conf") {
			config(nil, path.Join(file+".d", e.Name()))
		}
	}
	for _, h := range homes(s) {
		config(h.user, path.Join(h.path, ".ssh/config"))
		for _, name := range []string{"authorized_keys", "authorized_keys2"} {
			file := path.Join(h.path, ".ssh", name)
			content, ok := s.File(file)
			if !ok {
				continue
			}
			for number, text := range numbered(content) {
				_, rest, ok := strings.Cut(text, `command="`)
				if strings.HasPrefix(text, "#") || !ok {
					continue
				}
				command, _, _ := strings.Cut(strings.ReplaceAll(rest, `\"`, "\x01"), `"`)
				s.Add(key(h.user, file, strconv.Itoa(number)), sshCommand(h.user, "command of a key",
					strings.ReplaceAll(command, "\x01", `"`), file, "when somebody connects with that key", number))
			}
		}
	}
}

func sshCommand(u *account.User, name, command, file, when string, line int) *location.Item {
	item := newItem(u, name, command, file)
	item.Argv, item.When, item.Source.Line = strings.Fields(command), when, line
	fixed(item, "others who connect may depend on it; change it in an editor")
	return item
}

// readServices reads what stands in the Services menu and among the quick actions.
func readServices(s *location.Survey) {
	form := bundles{endings: ".workflow .service", mode: "in the Services menu"}
	form.read(s, nil, "/Library/Services")
	for _, h := range homes(s) {
		form.read(s, h.user, path.Join(h.path, "Library/Services"))
	}
}

// printFolders are where the print system finds what it runs; a firmlink leads there, so anybody with the
// administrator's rights may write in them.
var printFolders = map[string]string{"/usr/libexec/cups/backend": "back end", "/usr/libexec/cups/filter": "filter"}

func readPrinting(s *location.Survey) {
	for folder, mode := range printFolders {
		for _, e := range s.Dir(folder) {
			if e.IsDir() || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			file := path.Join(folder, e.Name())
			item := newItem(nil, e.Name(), file, file)
			item.Argv, item.Mode, item.When = []string{file}, mode, "when something is printed"
			item.ProgramDecides = true
			fixed(item, "printers that need it would not print")
			s.Add(key(nil, file), item)
		}
	}
}

// extensionFolders are where an app keeps extensions of other programs, below Contents.
var extensionFolders = []string{"PlugIns", "Extensions"}

func (d *disk) readAppExtensions(s *location.Survey) {
	for _, a := range d.applications(s) {
		for _, folder := range extensionFolders {
			for _, e := range named(s, path.Join(a.path, "Contents", folder), ".appex") {
				dir := path.Join(a.path, "Contents", folder, e.Name())
				item := newBundle(s, a.user, dir, "")
				point := bundleAt(s, dir).info.Dict("NSExtension").Text("NSExtensionPointIdentifier")
				item.Mode = strings.TrimPrefix(point, "com.apple.")
				fixed(item,
					"its app registers it, and System Settings > General > Login Items & Extensions turns it off")
				s.Add(key(a.user, dir), item)
			}
		}
	}
}

func (d *disk) readDockTiles(s *location.Survey) {
	for _, a := range d.applications(s) {
		if !holds(a.info, "NSDockTilePlugIn") {
			continue
		}
		doc, err := plist.Parse(a.info)
		if err != nil {
			continue
		}
		name := doc.Dict().Text("NSDockTilePlugIn")
		if name == "" || strings.Contains(name, "/") {
			continue
		}
		dir := path.Join(a.path, "Contents/PlugIns", name)
		item := newBundle(s, a.user, dir, "")
		item.When = "while the app is in the Dock"
		fixed(item, "take the app out of the Dock")
		s.Add(key(a.user, dir), item)
	}
}

// readSudo reads the plug-ins of sudo, sudo.conf(5): each is loaded into every sudo, as root.
func readSudo(s *location.Survey) {
	const file = "/private/etc/sudo.conf"
	content, ok := s.File(file)
	if !ok {
		return
	}
	for number, text := range numbered(content) {
		words := strings.Fields(text)
		if len(words) < 3 || !slices.Contains([]string{"Plugin", "Path"}, words[0]) || words[0] == "Path" &&
			words[1] != "noexec" && words[1] != "intercept" && words[1] != "askpass" {
			continue
		}
		library := words[2]
		if words[0] == "Plugin" && !path.IsAbs(library) {
			if slices.Contains([]string{"sudoers.so", "sample_plugin.so"}, library) {
				continue // its own
			}
			library = path.Join("/usr/local/libexec/sudo", library)
		}
		item := newItem(nil, words[1], strings.Join(words, " "), file)
		item.Argv, item.Source.Line = []string{library}, number
		item.Problems = append(item.Problems, autostart.NotDefault)
		fixed(item, "a mistake here locks administrators out; change it in an editor, with a second session open")
		s.Add(key(nil, file, strings.Join(words, " ")), item)
	}
}
