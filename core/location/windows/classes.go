package windows

import (
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// isCLSID reports whether a text is a class id in braces.
func isCLSID(t string) bool { return len(t) == 38 && t[0] == '{' && t[37] == '}' && t[9] == '-' }

// class is a COM class: what it is called, and the library it is in.
type class struct{ name, library string }

// classOf looks a class up as a program would: with the person first, then with
// the system, in the view that the place is read in.
func classOf(s *location.Survey, p place, clsid string) class {
	var roots []string
	if p.user != nil {
		roots = append(roots, `HKU\`+p.user.SID+`_Classes\`)
	}
	roots = append(roots, soft+`\Classes\`)
	sub := `CLSID\` + clsid
	if p.narrow {
		sub = `WOW6432Node\` + sub
	}
	for _, root := range roots {
		k, err := s.Machine.Key(root + sub)
		if err != nil && p.narrow && root == soft+`\Classes\` {
			k, err = s.Machine.Key(soft + `\WOW6432Node\Classes\CLSID\` + clsid)
		}
		if err != nil {
			continue
		}
		c := class{name: k.Text("")}
		for _, server := range []string{"InprocServer32", "LocalServer32"} {
			if in, err := k.Subkey(server); err == nil && in.Text("") != "" {
				c.library = in.Text("")
				break
			}
		}
		return c
	}
	return class{}
}

// newClassItem begins an item that is a class.
func newClassItem(s *location.Survey, p place, clsid, name string) *location.Item {
	c := classOf(s, p, clsid)
	if name == "" || isCLSID(name) {
		name = c.name
	}
	if name == "" || strings.HasPrefix(name, "@") {
		name = clsid
	}
	item := newItem(p.origin(), name, c.library)
	if c.library != "" && !strings.HasPrefix(c.library, `"`) {
		item.CommandLine = `"` + c.library + `"`
	}
	item.Source.Key = clsid
	item.Facts = func() []location.Fact {
		return []location.Fact{{Name: "class", Value: clsid, Basis: p.Path}}
	}
	if c.library == "" {
		item.Mode = "its class is not registered"
	}
	return item
}

func readCredentialProviders(s *location.Survey, at []location.Place) {
	eachClassKey(s, at, func(p place, item *location.Item, _ string) {
		item.Artifacts = artifacts(artifact.RegistryValue(p.Path, "Disabled"))
		item.Switcher = number{key: p.Path, name: "Disabled", on: 0, off: 1, remove: true}
		if n, ok := p.Number("Disabled"); ok && n != 0 {
			item.State, item.Mode = autostart.Disabled, "disabled"
		}
	})
}

// shellClasses are what Explorer looks up extensions for.
var shellClasses = []string{"*", "AllFilesystemObjects", "Directory", `Directory\Background`, "DesktopBackground",
	"Folder", "Drive", "LibraryFolder", "Protocols", "lnkfile", "exefile", "Printers", "Network",
	"CLSID\\{20D04FE0-3AEA-1069-A2D8-08002B30309D}"}

// handlerKinds are the kinds of extensions that Explorer loads.
var handlerKinds = []string{"ContextMenuHandlers", "PropertySheetHandlers", "DragDropHandlers", "CopyHookHandlers",
	"ColumnHandlers", "FolderExtensions"}

// singleHandlers are those of which a class has one at most: their key's default value is its id.
var singleHandlers = []string{"IconHandler", "DropHandler", "DataHandler", "PropertyHandler"}

func readShellExtensions(s *location.Survey) {
	// A class in capitals, behind the name of the user for whom it is blocked; behind none, for everyone.
	blocked := map[string]bool{}
	for _, p := range places(s, cv+`\Shell Extensions\Blocked`, ucv+`\Shell Extensions\Blocked`) {
		for _, v := range values(s, p.Key) {
			blocked[userName(p.user)+strings.ToUpper(v.Name)] = true
		}
	}
	var paths []string
	for _, c := range shellClasses {
		for _, kind := range handlerKinds {
			paths = append(paths, soft+`\Classes\`+c+`\shellex\`+kind, `HKCU\Software\Classes\`+c+`\shellex\`+kind)
		}
	}
	decide := func(p place, item *location.Item, clsid string) {
		key := cv + `\Shell Extensions\Blocked`
		if p.user != nil {
			key = `HKU\` + p.user.SID + `\Software\Microsoft\Windows\CurrentVersion\Shell Extensions\Blocked`
		} else if p.narrow {
			key = soft + `\WOW6432Node\Microsoft\Windows\CurrentVersion\Shell Extensions\Blocked`
		}
		item.Artifacts = artifacts(artifact.RegistryTree(p.Path), artifact.RegistryValue(key, clsid))
		item.Switcher = block{key, clsid}
		switch {
		case blocked[userName(p.user)+strings.ToUpper(clsid)]:
			item.State, item.Mode, item.Blocked = autostart.Disabled, "blocked", true
		case blocked[strings.ToUpper(clsid)]:
			passedOver(item, "blocked for everyone")
			item.Blocked = true
		}
	}
	eachClassKey(s, location.At(paths...), decide)
	for _, c := range shellClasses {
		for _, kind := range singleHandlers {
			for _, p := range places(s, soft+`\Classes\`+c+`\shellex\`+kind, `HKCU\Software\Classes\`+c+`\shellex\`+
				kind) {
				if clsid := p.Text(""); isCLSID(clsid) {
					item := newClassItem(s, p, clsid, "")
					decide(p, item, clsid)
					s.Add(id(p), item)
				}
			}
		}
	}
}

// block is the switch of the shell's extensions: a class whose id is the name of
// a value in a list is not loaded.
type block struct{ key, clsid string }

func (block) Word() autostart.Switch { return autostart.StateValue }

func (b block) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	a := artifact.RegistryValue(b.key, b.clsid)
	if want.State == autostart.Enabled {
		return []location.Edit{{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}}}, nil
	}
	return []location.Edit{{Artifact: a, Image: artifact.NewValue(regf.NewText("", ""))}}, nil
}

// openers are the kinds of files that run, with the commands that the system opens them with: any of them.
var openers = map[string][]string{"exefile": {`"%1" %*`}, "comfile": {`"%1" %*`}, "batfile": {`"%1" %*`},
	"cmdfile": {`"%1" %*`}, "piffile": {`"%1" %*`},
	"scrfile": {`"%1" /S`}, "regfile": {`regedit.exe "%1"`}, "htafile": {`mshta.exe "%1" %*`, `mshta.exe "%1"`,
		`C:\Windows\SysWOW64\mshta.exe "%1" ` +
			`{1E460BD7-F1C3-4B2E-88BF-4E770A288AF5}%U{1E460BD7-F1C3-4B2E-88BF-4E770A288AF5} %*`},
	"vbsfile": {`wscript.exe "%1" %*`}, "jsfile": {`wscript.exe "%1" %*`}, "txtfile": {`notepad.exe %1`,
		`C:\Windows\System32\notepad.exe %1`}, "lnkfile": nil}

// extensions are the endings of files that run, with the kind that each is.
var extensions = map[string]string{".exe": "exefile", ".com": "comfile", ".bat": "batfile", ".cmd": "cmdfile",
	".pif": "piffile", ".scr": "scrfile", ".lnk": "lnkfile"}

// openCommands are the verbs of a kind that run a file: opening it, and running it as an administrator.
var openCommands = []string{`\shell\open\command`, `\shell\runas\command`}

// readOpenCommands reads what opens files that run, where it is not what the
// system has, and what is put between a program and the protocols it speaks.
func readOpenCommands(s *location.Survey) {
	why := location.NoSwitch{Why: "taking it away would leave nothing to open such files with; restore a snapshot, " +
		"or set the system's own command"}
	add := func(p place, name string, v regf.Value, command string) {
		item := addValue(s, p, v, name)
		item.CommandLine = command
		item.Problems = append(item.Problems, autostart.NotDefault)
		item.Mode, item.Switcher = "opens every such file", why
		s.Add(id(p, name, v.Name), item)
	}
	for kind, usual := range openers {
		usual = slices.Clone(usual)
		for k := range usual {
			usual[k] = strings.Replace(usual[k], `C:\Windows`, s.Machine.Windows(), 1)
		}
		for _, verb := range openCommands {
			for _, p := range places(s, soft+`\Classes\`+kind+verb, `HKCU\Software\Classes\`+kind+verb) {
				for _, value := range []string{"", "IsolatedCommand"} {
					v, err := p.Value(value)
					name := kind
					if strings.Contains(verb, "runas") {
						name += " (as administrator)"
					}
					if err == nil && text(v) != "" &&
						!slices.ContainsFunc(usual, func(u string) bool { return sameCommand(s, text(v), u) }) {
						add(p, name, v, text(v))
					}
				}
			}
		}
	}
	for ending, kind := range extensions {
		for _, p := range places(s, soft+`\Classes\`+ending, `HKCU\Software\Classes\`+ending) {
			if v, err := p.Value(""); err == nil && text(v) != "" && !strings.EqualFold(text(v), kind) {
				command := ""
				if k, err := s.Machine.Key(soft + `\Classes\` + text(v) + openCommands[0]); err == nil {
					command = k.Text("")
				}
				add(p, ending+" files", v, command)
			}
		}
	}
	for _, kind := range []string{"Filter", "Handler"} {
		for _, p := range places(s, soft+`\Classes\Protocols\`+kind, `HKCU\Software\Classes\Protocols\`+kind) {
			for _, k := range subkeys(s, p.Key) {
				if clsid := k.Text("CLSID"); isCLSID(clsid) {
					at := place{Key: k, user: p.user, narrow: p.narrow}
					item := newClassItem(s, at, clsid, k.Name())
					item.Artifacts, item.Switcher = artifacts(artifact.RegistryTree(k.Path)), why
					s.Add(id(at), item)
				}
			}
		}
	}
}

// directShow is the category of DirectShow's filters.
const directShow = `{083863F1-70DE-11d0-BD40-00A0C911CE86}`

// readFilters reads the filters that media programs find by their class.
func readFilters(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, k := range subkeys(s, p.Key) {
			at := place{Key: k, user: p.user, narrow: p.narrow}
			clsid := k.Text("CLSID")
			if !isCLSID(clsid) {
				continue
			}
			item := newClassItem(s, at, clsid, k.Text("FriendlyName"))
			parkKey(at, item)
			s.Add(id(at), item)
		}
	}
}

// progID returns the class that a program's name for it stands for.
func progID(s *location.Survey, p place, name string) string {
	roots := []string{soft + `\Classes\`}
	if p.user != nil {
		roots = append([]string{`HKU\` + p.user.SID + `_Classes\`}, roots...)
	}
	for _, root := range roots {
		if k, err := s.Machine.Key(root + name + `\CLSID`); err == nil {
			return k.Text("")
		}
	}
	return ""
}

// searchHook is the one hook that each user of Windows has.
func searchHook(s *location.Survey, item *location.Item) {
	item.Shipped = strings.EqualFold(item.Source.Key, "{CFBFAE00-17A6-11D0-99CB-00C04FD64497}") &&
		sameCommand(s, item.Command, `%SystemRoot%\System32\ieframe.dll`)
}
