package windows

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/location"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// Bits of a service's Type, as winnt.h names them.
const (
	kernelDriver   = 0x01
	fileSystem     = 0x02
	recognizer     = 0x08
	ownProcess     = 0x10
	sharedProcess  = 0x20
	userService    = 0x40
	userInstance   = 0x80 // made again at each sign-in
	driverTypes    = kernelDriver | fileSystem | recognizer
	serviceTypes   = ownProcess | sharedProcess
	servicesFolder = ccs + `\Services`
)

// serviceKeys are the keys of all services and drivers, opened once for all locations that look at them.
func serviceKeys(s *location.Survey) []*registry.Key {
	root := key(s, servicesFolder)
	if root == nil {
		return nil
	}
	type opened struct {
		keys []*registry.Key
		err  error
	}
	all := s.Shared("services", func() any {
		keys, err := root.Subkeys()
		return opened{keys, err}
	}).(opened)
	s.Skip(root.Path, all.err)
	return all.keys
}

// eachService visits the services of some types.
func eachService(s *location.Survey, types uint64, visit func(k *registry.Key, kind, start uint64)) {
	for _, k := range serviceKeys(s) {
		kind, ok := k.Number("Type")
		if !ok || kind&types == 0 || kind&userInstance != 0 {
			continue
		}
		start, ok := k.Number("Start")
		if !ok {
			start = startDemand
		}
		visit(k, kind, start)
	}
}

// displayName is what people know a service by. Of one that stands in a resource, it is the text behind it
// that Windows itself falls back to, "@oem12.inf,%name%;Tide Gauge"; else the service's own name.
func displayName(k *registry.Key) string {
	name := k.Text("DisplayName")
	if strings.HasPrefix(name, "@") {
		_, name, _ = strings.Cut(name, ";")
	}
	if name = strings.TrimSpace(name); name == "" {
		return k.Name()
	}
	return name
}

func readServices(s *location.Survey) {
	eachService(s, serviceTypes, func(k *registry.Key, kind, start uint64) {
		p := place{Key: k}
		item := newItem(p.origin(), displayName(k), k.Text("ImagePath"))
		delayed, hasDelay := k.Number("DelayedAutostart")
		_, err := k.Subkey("TriggerInfo")
		triggered := err == nil
		// What one that is off was before is in the record; without one, it starts on demand, unless it has a
		// setting that only automatic ones have.
		usual := uint32(startAuto)
		if !hasDelay {
			usual = startDemand
		}
		switch start {
		case startDisabled:
			item.State, item.Mode = autostart.Disabled, "disabled"
			if triggered {
				item.Stage, usual = autostart.Event, startDemand
			}
		case startAuto:
			item.Mode = automatic
			if delayed == 1 {
				item.Mode, item.When = automatic+", delayed", "a while after startup"
			}
		case startDemand:
			item.Stage, item.Mode, usual = autostart.Event, manual, startDemand
			item.When = "when a program asks for it"
		default:
			item.Mode = fmt.Sprintf("start type %d", start)
		}
		if triggered && start != startDisabled {
			item.Mode += ", on a trigger"
			if item.When = "at startup, and on a trigger"; start == startDemand {
				item.When = "on a trigger, or when a program asks for it"
			}
		}
		if kind&userService != 0 {
			item.Mode += ", for each user"
			if start != startDemand {
				item.Stage, item.When = autostart.SignIn, ""
			}
		}
		dll := hostedDLL(s, k)
		if dll != "" {
			item.CommandLine = `"` + dll + `"`
			item.Actions = []location.Action{{Line: k.Text("ImagePath"), Host: true}, {Line: item.CommandLine}}
		}
		decides := []artifact.Artifact{artifact.RegistryValue(k.Path, "Start")}
		if hasDelay {
			// What the service control manager makes of it when the start type changes is not documented.
			decides = append(decides, artifact.RegistryValue(k.Path, "DelayedAutostart"))
		}
		item.Artifacts = artifacts(decides...)
		item.Switcher = startType{k.Path, usual}
		item.Facts, item.Group = serviceFacts(k, dll), k.Text("Group")
		s.Add(strings.ToLower(k.Name()), item)
		if v, err := k.Value("FailureCommand"); err == nil && text(v) != "" {
			command := addValue(s, p, v, displayName(k)+" (when it fails)")
			command.Stage, command.When = autostart.Event, "when the service fails"
			if !runsCommand(k) {
				passedOver(command, "its FailureActions do not ask for a command")
			}
			s.Add(strings.ToLower(k.Name())+"\x00FailureCommand", command)
		}
	})
}

// runsCommand reports whether a service's FailureActions have one of the kind SC_ACTION_RUN_COMMAND
// (SERVICE_FAILURE_ACTIONS in winsvc.h: three words, the number of actions, a pointer, then a kind and a
// delay for each).
func runsCommand(k *registry.Key) bool {
	const (
		header     = 20
		runCommand = 3
	)
	v, err := k.Value("FailureActions")
	if err != nil || len(v.Data) < header {
		return false
	}
	n := min(int(binary.LittleEndian.Uint32(v.Data[12:])), (len(v.Data)-header)/8)
	for at := range n {
		if binary.LittleEndian.Uint32(v.Data[header+8*at:]) == runCommand {
			return true
		}
	}
	return false
}

// serviceHosts are the programs of Windows that run services from libraries.
var serviceHosts = []string{"svchost.exe", "lsass.exe"}

// hostedDLL is the library that a service is, where the program in its ImagePath is one of the system's
// hosts. Any other program is what runs, whatever library the key names.
func hostedDLL(s *location.Survey, k *registry.Key) string {
	program := normalProgram(s, k.Text("ImagePath"))
	if !slices.ContainsFunc(serviceHosts, func(host string) bool { return program == normalProgram(s, host) }) {
		return ""
	}
	if p, err := k.Subkey("Parameters"); err == nil {
		if dll := p.Text("ServiceDll"); dll != "" {
			return dll
		}
	}
	return k.Text("ServiceDll")
}

func serviceFacts(k *registry.Key, dll string) func() []location.Fact {
	return func() []location.Fact {
		var facts []location.Fact
		add := func(name, value string) {
			if value != "" && !strings.HasPrefix(value, "@") {
				facts = append(facts, location.Fact{Name: name, Value: value, Basis: k.Path})
			}
		}
		add("service name", k.Name())
		if text := k.Text("Description"); text != "" && !strings.HasPrefix(text, "@") {
			facts = append(facts, location.Fact{Kind: autostart.FactDescription, Value: text, Basis: k.Path})
		}
		add("runs as", k.Text("ObjectName"))
		add("library", dll)
		add("group", k.Text("Group"))
		if v, err := k.Value("DependOnService"); err == nil {
			add("needs", strings.Join(v.Strings(), ", "))
		}
		return facts
	}
}

// maxDevices is how many devices are looked at: a computer of many years knows some thousands.
const maxDevices = 20_000

func readDrivers(s *location.Survey) {
	met, filters := metDevices(s), filterDrivers(s)
	eachService(s, driverTypes, func(k *registry.Key, kind, start uint64) {
		p := place{Key: k}
		item := newItem(p.origin(), displayName(k), k.Text("ImagePath"))
		item.CommandLine = item.Command
		if item.CommandLine == "" {
			item.CommandLine = driverCommand(s, k.Name())
		}
		switch start {
		case startBoot:
			item.Mode = "at the very start"
		case startSystem:
			item.Mode = "with the kernel"
		case startAuto:
			item.Stage, item.Mode = autostart.System, automatic
		case startDemand:
			item.Stage, item.Mode, item.When = autostart.Event, manual, "with its device, or when a program asks for it"
		default:
			item.State, item.Mode = autostart.Disabled, "disabled"
		}
		item.Artifacts = artifacts(artifact.RegistryValue(k.Path, "Start"))
		item.Switcher = startType{k.Path, startDemand}
		item.Facts, item.Group, item.DeviceClass = serviceFacts(k, ""), k.Text("Group"),
			met.classes[strings.ToLower(k.Name())]
		if filtered := filters[strings.ToLower(k.Name())]; filtered != "" && item.State == autostart.Enabled {
			item.Switcher = location.NoSwitch{Why: "it is a filter of the " + filtered +
				", whose devices would not start without it; take it out of the list, under filter drivers"}
		}
		s.Add(strings.ToLower(k.Name()), item)
	})
}

// readSafeBoot reads what starts in safe mode: the shell without a desktop, and
// the services that were added to its lists.
func readSafeBoot(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		if v, err := p.Value("AlternateShell"); err == nil {
			item := addValue(s, p, v, "AlternateShell")
			item.Shipped = sameCommand(s, text(v), "cmd.exe")
			if !item.Shipped {
				item.Problems = []string{autostart.NotDefault}
			}
			s.Add(id(p, v.Name), item)
		}
	}
	for _, kind := range []string{"Minimal", "Network"} {
		list := key(s, ccs+`\Control\SafeBoot\`+kind)
		if list == nil {
			continue
		}
		for _, k := range subkeys(s, list) {
			// Classes of devices and groups of drivers are no programs.
			service, err := s.Machine.Key(servicesFolder + `\` + strings.TrimSuffix(k.Name(), ".sys"))
			if err != nil || strings.HasPrefix(k.Name(), "{") {
				continue
			}
			item := newItem(place{Key: k}.origin(), service.Name(), service.Text("ImagePath"))
			if dll := hostedDLL(s, service); dll != "" {
				item.CommandLine = `"` + dll + `"`
				item.Actions = []location.Action{{Line: item.Command, Host: true}, {Line: item.CommandLine}}
			}
			item.Mode = strings.ToLower(kind) + " safe mode"
			item.Artifacts = artifacts(artifact.RegistryTree(k.Path))
			s.Add(strings.ToLower(kind+"\x00"+k.Name()), item)
		}
	}
}

// readNetworkProviders reads the order of the providers of network drives; each
// is a service that names its DLL.
func readNetworkProviders(s *location.Survey, at []location.Place) {
	s.Adjusting(func(item *location.Item) {
		item.Name = item.Command
		if k, err := s.Machine.Key(servicesFolder + `\` + item.Command + `\NetworkProvider`); err == nil {
			item.CommandLine = `"` + k.Text("ProviderPath") + `"`
		} else {
			item.CommandLine = ""
		}
	}, func(s *location.Survey) {
		lists{"ProviderOrder": {separator: ",", usual: []string{"rdpnp", "lanmanworkstation", "webclient",
			"p9np"}}}.Read(s, at)
	})
}

// readWinsock reads the catalogues of what network connections pass through. An
// entry's library stands at the head of its packed description.
func readWinsock(s *location.Survey) {
	for _, c := range []struct{ list, value string }{
		{`Protocol_Catalog9\Catalog_Entries`, "PackedCatalogItem"}, {`Protocol_Catalog9\Catalog_Entries64`,
			"PackedCatalogItem"},
		{`NameSpace_Catalog5\Catalog_Entries`, "LibraryPath"}, {`NameSpace_Catalog5\Catalog_Entries64`, "LibraryPath"},
	} {
		list := key(s, servicesFolder+`\WinSock2\Parameters\`+c.list)
		if list == nil {
			continue
		}
		for _, k := range subkeys(s, list) {
			v, err := k.Value(c.value)
			if err != nil {
				continue
			}
			library, name := text(v), k.Text("DisplayString")
			if v.Type == regf.Binary {
				library = cString(v.Data)
				if len(v.Data) > 376+2 {
					name = regf.Value{Type: regf.String, Data: v.Data[376:]}.Text() // szProtocol of WSAPROTOCOL_INFOW
				}
			}
			if name == "" || strings.HasPrefix(name, "@") {
				name = shortName(library)
			}
			item := newItem(place{Key: k, narrow: !strings.HasSuffix(c.list, "64")}.origin(), name, library)
			item.Artifacts = artifacts(artifact.RegistryTree(k.Path))
			item.Switcher = location.NoSwitch{Why: "the entries of this list depend on each other; the system's " +
				"own netsh resets it"}
			s.Add(strings.ToLower(c.list+"\x00"+k.Name()), item)
		}
	}
}

// cString is a text of single bytes up to the first zero.
func cString(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	return s
}

// readPrintProcessors reads those of every environment, which is a kind of processor.
func readPrintProcessors(s *location.Survey, at []location.Place) {
	for _, p := range found(s, at) {
		for _, e := range subkeys(s, p.Key) {
			// A processor lies in a folder of its environment, not in that of the system.
			dir := `%SystemRoot%\System32\spool\prtprocs\` + e.Text("Directory") + `\`
			parkedKeys{value: "Driver", adjust: func(_ *location.Survey, item *location.Item) {
				if !strings.ContainsAny(item.Command, `\:`) {
					item.CommandLine = `"` + dir + item.Command + `"`
				}
			}}.Read(s, location.At(e.Path+`\Print Processors`))
		}
	}
}

func readTimeProviders(s *location.Survey, at []location.Place) {
	s.Adjusting(func(item *location.Item) {
		path := item.Source.Path
		item.Artifacts = artifacts(artifact.RegistryValue(path, "Enabled"))
		item.Switcher = number{key: path, name: "Enabled", on: 1, off: 0}
		if k, err := s.Machine.Key(path); err == nil {
			if n, ok := k.Number("Enabled"); !ok || n == 0 {
				item.State, item.Mode = autostart.Disabled, "not enabled"
			}
		}
	}, func(s *location.Survey) { parkedKeys{value: "DllName"}.Read(s, at) })
}

// readStations reads the program that each kind of connection starts instead of a desktop.
func readStations(s *location.Survey, at []location.Place) {
	for _, stations := range found(s, at) {
		for _, k := range subkeys(s, stations.Key) {
			p := place{Key: k}
			v, err := k.Value("InitialProgram")
			if err != nil || strings.TrimSpace(text(v)) == "" {
				continue
			}
			item := addValue(s, p, v, k.Name()+" "+shortName(text(v)))
			s.Add(id(p, v.Name), item)
		}
	}
}

// The words of the Services console for how a service starts.
const (
	automatic = "automatic"
	manual    = "manual"
)

// plainStart reports whether a mode says no more of a service than when it starts.
func plainStart(mode string) bool {
	return strings.HasPrefix(mode, automatic) || strings.HasPrefix(mode, manual)
}
