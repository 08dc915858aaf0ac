package windows

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/cimstore"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// alternateShell names a shell that a Windows without a desktop offers.
func alternateShell(s *location.Survey, item *location.Item) {
	item.Name = shortName(item.Command)
	item.Shipped = sameCommand(s, item.Command, "explorer.exe") || normalProgram(s, item.Command) == normalProgram(s,
		"cmd.exe")
}

// checksDisks looks through "autocheck", a word for the session manager and no program. A check of a disk
// that somebody asked for is the system's own as well.
func checksDisks(s *location.Survey, item *location.Item) {
	if len(item.Command) < len("autocheck ") || !strings.EqualFold(item.Command[:len("autocheck ")], "autocheck ") {
		return
	}
	item.CommandLine = item.Command[len("autocheck "):]
	program, _, _ := strings.Cut(item.CommandLine, " ")
	if strings.EqualFold(program, "autochk") {
		item.Shipped, item.Role, item.Problems = true, location.Session, nil
		item.Switcher = location.NoSwitch{Why: "it is the system's own check of its disks"}
	}
	item.Name = program
}

// notDefault says that a value which Windows does not have itself is there, and names it by its program.
func notDefault(_ *location.Survey, item *location.Item) {
	item.Name = shortName(item.Command)
	item.Problems = append(item.Problems, autostart.NotDefault)
}

func readActiveSetup(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, k := range subkeys(s, p.Key) {
			v, err := k.Value("StubPath")
			if err != nil || strings.TrimSpace(text(v)) == "" {
				continue
			}
			name := k.Text("")
			if name == "" || strings.HasPrefix(name, "@") {
				name = k.Name()
			}
			at := place{Key: k, user: p.user, narrow: p.narrow}
			item := addValue(s, at, v, name)
			item.When = "once, at each user's next sign-in"
			if isSwitch(text(v)) {
				item.CommandLine = ""
				item.Shipped = strings.EqualFold(ownComponents[strings.ToUpper(k.Name())], strings.TrimSpace(text(v)))
			}
			if n, ok := k.Number("IsInstalled"); ok && n == 0 {
				item.State, item.Mode = autostart.Disabled, "not installed"
			}
			s.Add(id(at), item)
		}
	}
}

// isSwitch reports whether a StubPath names no program: it is a word for the component itself.
func isSwitch(stub string) bool {
	stub = strings.TrimSpace(stub)
	return strings.HasPrefix(stub, "/") && !strings.ContainsAny(stub, `\.`) || len(stub) == 1
}

// ownComponents are the components of Windows 10 and 11 whose StubPath is such a word: the set-up of themes, and the
// update of the desktop.
var ownComponents = map[string]string{"{2C7339CF-2B09-4501-B3F3-F3508C9228ED}": "/UserInstall",
	"{89820200-ECBD-11CF-8B85-00AA005B4340}": "U"}

// otherProcessors are values that Windows has on every machine for libraries of some.
var otherProcessors = []string{"_wowarmhw=wowarmhw.dll", "_xtajit=xtajit.dll", "_xtajit64=xtajit64.dll",
	"_xtajit64se=xtajit64se.dll", "_wow64=wow64.dll", "_wow64cpu=wow64cpu.dll", "_wow64win=wow64win.dll",
	"_wow64base=wow64base.dll", "_wow64con=wow64con.dll"}

// readKnownDLLs reads the libraries that are loaded from the system's folder
// whatever lies beside a program; two of the values name that folder.
func readKnownDLLs(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, v := range values(s, p.Key) {
			if strings.HasPrefix(strings.ToLower(v.Name), "dlldirectory") || text(v) == "" {
				continue
			}
			item := addValue(s, p, v, v.Name)
			if slices.Contains(otherProcessors, strings.ToLower(v.Name+"="+text(v))) {
				// It is there on machines with another processor only.
				item.Shipped, item.CommandLine = true, ""
			}
			s.Add(id(p, v.Name), item)
		}
	}
}

// readPendingMoves reads what the next start does to files: pairs of a source
// and a destination, of which an empty one deletes.
func readPendingMoves(s *location.Survey) {
	k := key(s, sm)
	if k == nil {
		return
	}
	for _, name := range []string{"PendingFileRenameOperations", "PendingFileRenameOperations2"} {
		v, err := k.Value(name)
		if err != nil {
			continue
		}
		// Empty texts mean something here, so the list does not end at one.
		words := strings.Split(strings.TrimSuffix(windata.Decode(v.Data), "\x00"), "\x00")
		for n := 0; n+1 < len(words); n += 2 {
			from, to := strings.TrimPrefix(words[n], `\??\`), strings.TrimPrefix(strings.TrimLeft(words[n+1], "!*"),
				`\??\`)
			if from == "" {
				continue
			}
			item := newItem(place{Key: k}.origin(), shortName(from), from+" -> "+to)
			item.Mode = "moves a file"
			if to == "" {
				item.Mode, item.Command = "deletes a file", from
			}
			item.CommandLine = ""
			item.Source.Key = name
			item.Artifacts = artifacts(artifact.RegistryValue(k.Path, name))
			item.Switcher = location.NoSwitch{Why: "an installer waits for it; half of it done would leave a " +
				"broken program"}
			s.Add(strings.ToLower(name+"\x00"+from), item)
		}
	}
}

// readAppInit reads the libraries that every program with windows loads, which
// it only does where a number says so.
func readAppInit(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		v, err := p.Value("AppInit_DLLs")
		if err != nil {
			continue
		}
		on, ok := p.Number("LoadAppInit_DLLs")
		s.Adjusting(func(item *location.Item) {
			item.Artifacts = artifacts(artifact.RegistryValue(p.Path, "AppInit_DLLs"), artifact.RegistryValue(p.Path,
				"LoadAppInit_DLLs"))
			if ok && on == 0 {
				item.State, item.Mode = autostart.Disabled, "LoadAppInit_DLLs is 0"
			}
		}, func(s *location.Survey) { readList(s, p, v, list{separator: ", "}) })
	}
}

// Flags of a program in GlobalFlag: its VerifierDlls are loaded; its silent exit is watched.
const (
	globalVerifier = 0x100
	globalMonitor  = 0x200
)

// flag is a number that may be written as a text, as the system's own tool for flags does: "0x100".
func flag(p place, name string) uint64 {
	if n, ok := p.Number(name); ok {
		return n
	}
	n, _ := strconv.ParseUint(strings.TrimSpace(p.Text(name)), 0, 32)
	return n
}

// executeHook says when Explorer does not ask the hooks of commands: since Vista it does only where a policy
// wants it.
func executeHook(s *location.Survey, item *location.Item) {
	for _, p := range explorerPolicies(s) {
		if p.on["EnableShellExecuteHooks"] {
			return
		}
	}
	passedOver(item, "not asked since Windows Vista, unless EnableShellExecuteHooks is set")
}

// blockedClass says that a class is in the list of those that Explorer does not load.
func blockedClass(s *location.Survey, item *location.Item) {
	for _, p := range places(s, cv+`\Shell Extensions\Blocked`, ucv+`\Shell Extensions\Blocked`) {
		if p.user != nil && p.user != item.For {
			continue
		}
		if _, err := p.Value(item.Source.Key); err == nil {
			passedOver(item, "blocked, with all extensions of its class")
			item.Blocked = true
			return
		}
	}
}

// screenSaver says when a user's screen saver does not start.
func screenSaver(s *location.Survey, item *location.Item) {
	if item.For == nil {
		return
	}
	for _, key := range []string{`\Software\Policies\Microsoft\Windows\Control Panel\Desktop`,
		`\Control Panel\Desktop`} {
		k, err := s.Machine.Key(`HKU\` + item.For.SID + key)
		if err != nil {
			continue
		}
		if active := k.Text("ScreenSaveActive"); active != "" {
			if active == "0" {
				passedOver(item, "screen savers are off (ScreenSaveActive)")
			}
			return
		}
	}
}

func readImageOptions(s *location.Survey) {
	for _, p := range places(s, nt+`\Image File Execution Options`) {
		for _, k := range subkeys(s, p.Key) {
			at := place{Key: k, narrow: p.narrow}
			readRedirects(s, at, k.Name())
			if filtered, ok := k.Number("UseFilter"); ok && filtered != 0 {
				for _, f := range subkeys(s, k) {
					readRedirects(s, place{Key: f, narrow: p.narrow}, k.Name()+" ("+f.Text("FilterFullPath")+")")
				}
			}
		}
	}
	for _, p := range places(s, nt+`\SilentProcessExit`) {
		for _, k := range subkeys(s, p.Key) {
			if v, err := k.Value("MonitorProcess"); err == nil && text(v) != "" {
				at := place{Key: k, narrow: p.narrow}
				item := addValue(s, at, v, k.Name())
				item.When = "when it exits"
				// Both the program's flag and the mode of reporting have to ask for it.
				options, err := s.Machine.Key(nt + `\Image File Execution Options\` + k.Name())
				if err != nil || flag(place{Key: options}, "GlobalFlag")&globalMonitor == 0 ||
					flag(at, "ReportingMode")&1 == 0 {
					passedOver(item, "GlobalFlag and ReportingMode do not ask for it")
				}
				s.Add(id(at, v.Name), item)
			}
		}
	}
}

func readRedirects(s *location.Survey, p place, program string) {
	for _, name := range []string{"Debugger", "VerifierDlls"} {
		v, err := p.Value(name)
		if err != nil || text(v) == "" {
			continue
		}
		item := addValue(s, p, v, program)
		item.When = "whenever it is started, instead of it"
		if name == "VerifierDlls" {
			item.Mode = "loaded into it"
			if flag(p, "GlobalFlag")&globalVerifier == 0 {
				item.State, item.Mode = autostart.Disabled, "GlobalFlag does not ask for it"
			}
		} else {
			item.Problems = append(item.Problems, autostart.NotDefault)
		}
		s.Add(id(p, name), item)
	}
}

// environmentHooks are the variables that make programs load code.
var environmentHooks = []string{"COR_PROFILER", "COR_PROFILER_PATH", "COR_PROFILER_PATH_32", "COR_PROFILER_PATH_64",
	"CORECLR_PROFILER", "CORECLR_PROFILER_PATH",
	"CORECLR_PROFILER_PATH_32", "CORECLR_PROFILER_PATH_64", "DOTNET_STARTUP_HOOKS", "JAVA_TOOL_OPTIONS",
	"_JAVA_OPTIONS", "PERL5OPT", "PYTHONSTARTUP", "NODE_OPTIONS"}

// profilerSwitches are the variables without which the runtime loads no profiler, by those that name one.
var profilerSwitches = map[string]string{"COR_PROFILER": "COR_ENABLE_PROFILING",
	"COR_PROFILER_PATH": "COR_ENABLE_PROFILING", "COR_PROFILER_PATH_32": "COR_ENABLE_PROFILING",
	"COR_PROFILER_PATH_64": "COR_ENABLE_PROFILING", "CORECLR_PROFILER": "CORECLR_ENABLE_PROFILING",
	"CORECLR_PROFILER_PATH":    "CORECLR_ENABLE_PROFILING",
	"CORECLR_PROFILER_PATH_32": "CORECLR_ENABLE_PROFILING", "CORECLR_PROFILER_PATH_64": "CORECLR_ENABLE_PROFILING"}

// hookVariable is what a variable is for the programs that get an item's: a user's own counts before the
// system's.
func hookVariable(s *location.Survey, item *location.Item, name string) string {
	keys := []string{sm + `\Environment`}
	if item.For != nil {
		keys = append([]string{`HKU\` + item.For.SID + `\Environment`}, keys...)
	}
	for _, key := range keys {
		if k, err := s.Machine.Key(key); err == nil && k.Text(name) != "" {
			return strings.TrimSpace(k.Text(name))
		}
	}
	return ""
}

// findHook finds the code that a variable names: a class, or a file.
func findHook(s *location.Survey, item *location.Item) {
	if enable, ok := profilerSwitches[strings.ToUpper(item.Source.Key)]; ok && hookVariable(s, item, enable) != "1" {
		passedOver(item, enable+" is not 1")
	}
	findHooked(s, item)
}

// findHooked finds the code that an item's command is, which is the value of a variable.
func findHooked(s *location.Survey, item *location.Item) {
	switch {
	case isCLSID(item.Command):
		item.CommandLine = `"` + classOf(s, place{user: item.For}, item.Command).library + `"`
	case !artifact.OnDrive(item.Command):
		item.CommandLine = ""
	}
}

func readTelemetry(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, k := range subkeys(s, p.Key) {
			if v, err := k.Value("Command"); err == nil && text(v) != "" {
				at := place{Key: k, narrow: p.narrow}
				s.Add(id(at), addValue(s, at, v, k.Name()))
			}
		}
	}
}

// setupTypes says what SetupType makes the next start do.
var setupTypes = map[uint64]string{1: "a full setup", 2: "a command before the sign-in", 4: "an upgrade"}

func readSetup(s *location.Survey) {
	k := key(s, `HKLM\SYSTEM\Setup`)
	if k == nil {
		return
	}
	v, err := k.Value("CmdLine")
	if err != nil || text(v) == "" {
		return
	}
	item := addValue(s, place{Key: k}, v, shortName(text(v)))
	item.Artifacts = artifacts(artifact.RegistryValue(k.Path, "CmdLine"), artifact.RegistryValue(k.Path, "SetupType"))
	item.Switcher = location.NoSwitch{Why: "setup waits for it; a machine half set up may not start"}
	kind, _ := k.Number("SetupType")
	item.Mode = setupTypes[kind]
	if kind == 0 {
		item.State, item.Mode = autostart.Disabled, "SetupType is 0"
		item.Shipped = sameCommand(s, text(v), `oobe\windeploy.exe`) // setup leaves it behind
	}
	s.Add("cmdline", item)
}

// Elements of a boot entry, and the types of its object, as the boot manager's
// own interface numbers them.
const (
	bootPath        = `Elements\12000002`
	bootDescription = `Elements\12000004`
	bootLoader      = 0x10200003
	bootManager     = 0x10100002
	firmwareApp     = 0x101fffff
)

func readBootEntries(s *location.Survey) {
	objects := key(s, `HKLM\BCD00000000\Objects`)
	if objects == nil {
		return
	}
	element := func(k *registry.Key, name string) string {
		e, err := s.Machine.Key(k.Path + `\` + name)
		if err != nil {
			return ""
		}
		return e.Text("Element")
	}
	for _, k := range subkeys(s, objects) {
		d, err := k.Subkey("Description")
		if err != nil {
			continue
		}
		kind, _ := d.Number("Type")
		path := element(k, bootPath)
		if path == "" || kind != bootLoader && kind != bootManager && kind != firmwareApp {
			continue
		}
		name := element(k, bootDescription)
		if name == "" {
			name = k.Name()
		}
		item := newItem(place{Key: k}.origin(), name, path)
		item.CommandLine = ""
		item.Mode = map[uint64]string{bootLoader: "loader", bootManager: "boot manager",
			firmwareApp: "of the firmware"}[kind]
		lower := strings.ToLower(path)
		item.Shipped = strings.HasPrefix(lower, `\windows\system32\winload`) ||
			strings.HasPrefix(lower, `\efi\microsoft\boot\`) || lower == `\bootmgr`
		item.Artifacts = artifacts(artifact.RegistryTree(k.Path))
		item.Switcher = location.NoSwitch{Why: "the machine may not start without it"}
		s.Add(strings.ToLower(k.Name()), item)
	}
}

// readWMI finds the permanent subscriptions of the management service, which start a consumer on an event, see
// [cimstore].
func readWMI(s *location.Survey) {
	name := s.Machine.Windows() + `\System32\wbem\Repository\OBJECTS.DATA`
	file, size, err := s.Machine.OpenFile(name)
	if err != nil {
		s.Skip(name, err)
		return
	}
	defer file.Close()
	s.Found()
	var bindings []cimstore.Binding
	consumers := map[string]cimstore.Consumer{} // several of one name are versions of one, some maybe deleted
	const window = 1 << 20
	buf := make([]byte, window+cimstore.Overlap)
	for at := int64(0); at < size; at += window {
		n, err := file.ReadAt(buf[:min(int64(len(buf)), size-at)], at)
		if err != nil && !errors.Is(err, io.EOF) {
			s.Skip(name, &fs.PathError{Op: "read", Path: name, Err: err})
			return
		}
		for _, b := range cimstore.Bindings(buf[:n]) {
			if !slices.Contains(bindings, b) && len(bindings) < maxSubscriptions {
				bindings = append(bindings, b)
			}
		}
		for _, c := range cimstore.Consumers(buf[:n]) {
			if len(consumers) < maxSubscriptions {
				consumers[c.Class+"\x00"+strings.Join(c.Texts, "\x00")] = c
			}
		}
	}
	for _, b := range bindings {
		item := newItem(origin{path: name}, b.Consumer, b.Class+`.Name="`+b.Consumer+`"`)
		item.CommandLine = ""
		item.When = "when the filter " + b.Filter + " finds something"
		item.Shipped = b.Class == "NTEventLogEventConsumer" && b.Consumer == "SCM Event Log Consumer"
		item.Artifacts = artifacts()
		item.Switcher = location.NoSwitch{Why: "its store's format is not documented; remove it on the running " +
			"machine"}
		key := strings.ToLower(item.Command + "\x00" + b.Filter)
		if !item.Shipped {
			describeConsumer(item, b, consumers)
		}
		s.Add(key, item)
	}
}

// maxSubscriptions is how many subscriptions and consumers are kept; a usual system has one or two.
const maxSubscriptions = 1000

// maxConsumerText is how many bytes of a consumer's texts are told: a script can be long.
const maxConsumerText = 16 << 10

// describeConsumer gives an item what its consumer runs. Which of its texts is the command cannot be told, so none of
// them vouches for what runs.
func describeConsumer(item *location.Item, b cimstore.Binding, consumers map[string]cimstore.Consumer) {
	item.Unsure = true
	var runs []string
	for _, key := range slices.Sorted(maps.Keys(consumers)) {
		c := consumers[key]
		if !strings.EqualFold(c.Class, b.Class) || !slices.Contains(c.Texts, b.Consumer) {
			continue
		}
		for _, text := range c.Texts {
			if text = strings.TrimSpace(text); text != b.Consumer && text != "" && !slices.Contains(runs, text) {
				runs = append(runs, text)
			}
		}
	}
	if len(runs) == 0 {
		return
	}
	command := item.Command + ": " + strings.Join(runs, "; ")
	if len(command) > maxConsumerText {
		command = strings.ToValidUTF8(command[:maxConsumerText], "") + fmt.Sprintf(" (and %d bytes more)",
			len(command)-maxConsumerText)
	}
	item.Command = command
	for _, text := range runs {
		if b.Class == "CommandLineEventConsumer" && startsProgram(text) {
			item.Actions = append(item.Actions, location.Action{Line: text})
		}
	}
	if len(item.Actions) > 0 {
		item.CommandLine = item.Actions[0].Line
	}
}

// startsProgram reports whether a text begins with the name of a program file.
func startsProgram(text string) bool {
	lower := strings.ToLower(text)
	for _, ending := range []string{".exe", ".com", ".bat", ".cmd", ".vbs", ".js", ".wsf", ".ps1"} {
		if before, after, ok := strings.Cut(lower, ending); ok && !strings.ContainsAny(before, "/;|&") &&
			(after == "" || strings.ContainsAny(after[:1], "\" \t")) {
			return true
		}
	}
	return false
}
