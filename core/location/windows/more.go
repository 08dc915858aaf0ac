package windows

import (
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// Places of the system that hold a program or a library each, and are rarely used.

// serverLibraries are what the process of the Windows subsystem loads on a Windows as it comes: ServerDll=NAME,1.
var serverLibraries = []string{"basesrv", "winsrv", "winsrvext", "sxssrv", "consrv", "csrsrv"}

// readSubSystems reports the subsystems that the session manager starts, each a value that the values Required and
// Optional name.
func readSubSystems(s *location.Survey) {
	k := key(s, sm+`\SubSystems`)
	if k == nil {
		return
	}
	p := place{Key: k}
	for _, v := range values(s, k) {
		command := strings.TrimSpace(text(v))
		if !v.IsText() || v.Type == regf.MultiString || command == "" || v.Name == "" {
			continue
		}
		item := addValue(s, p, v, v.Name+" subsystem")
		item.Switcher = location.NoSwitch{Why: "Windows does not start without its subsystems, and one that was " +
			"added is started with them"}
		program, rest, _ := strings.Cut(command, " ")
		item.CommandLine = `"` + program + `"`
		usual := map[string]string{"windows": `%SystemRoot%\System32\csrss.exe`,
			"kmode": `\SystemRoot\System32\win32k.sys`}[strings.ToLower(v.Name)]
		item.Shipped = usual != "" && sameCommand(s, program, usual)
		for _, word := range strings.Fields(rest) {
			if library, ok := strings.CutPrefix(strings.ToLower(word), "serverdll="); ok {
				name, _, _ := strings.Cut(library, ",")
				name, _, _ = strings.Cut(name, ":")
				if !slices.Contains(serverLibraries, strings.TrimSuffix(name, ".dll")) {
					item.Shipped = false
					item.CommandLine = `"` + s.Machine.Windows() + `\System32\` + strings.TrimSuffix(name, ".dll") +
						`.dll"`
				}
			}
		}
		if !item.Shipped {
			item.Problems = append(item.Problems, autostart.NotDefault)
		}
		s.Add(id(p, v.Name), item)
	}
}

// readServiceEnvironments reports the variables by which one service alone is made to load code.
func readServiceEnvironments(s *location.Survey) {
	for _, k := range serviceKeys(s) {
		v, err := k.Value("Environment")
		if err != nil || v.Type != regf.MultiString {
			continue
		}
		own := map[string]string{}
		for _, word := range v.Strings() {
			if name, value, ok := strings.Cut(word, "="); ok {
				own[strings.ToUpper(name)] = strings.TrimSpace(value)
			}
		}
		p := place{Key: k}
		for _, word := range part.SplitList(v, "") {
			name, value, _ := strings.Cut(word, "=")
			if !slices.Contains(environmentHooks, strings.ToUpper(name)) {
				continue
			}
			item := newItem(p.origin(), strings.ToUpper(name)+" of "+k.Name(), value)
			item.Source.Key = v.Name
			item.Artifacts = artifacts(artifact.RegistryValue(k.Path, v.Name))
			item.Switcher = trim{part.Item{Key: k.Path, Value: v.Name, Text: word}, ""}
			item.Effect = location.AtNextStart
			findHooked(s, item)
			if enable, ok := profilerSwitches[strings.ToUpper(name)]; ok && own[enable] != "1" {
				passedOver(item, enable+" is not 1")
			}
			s.Add(id(p, v.Name, strings.ToLower(word)), item)
		}
	}
}

// countersOff is the value by which a service's counters are not loaded, "Disable Performance Counters" in
// Microsoft's documents on counters that fail.
const countersOff = "Disable Performance Counters"

// ownCounters are the libraries of Windows' own counters, by their services in small letters.
var ownCounters = map[string]string{".net clr data": "netfxperf.dll", ".net clr networking": "netfxperf.dll",
	".net clr networking 4.0.0.0": "netfxperf.dll", ".net data provider for oracle": "netfxperf.dll",
	".net data provider for sqlserver": "netfxperf.dll", ".net memory cache 4.0": "netfxperf.dll",
	".netframework": "mscoree.dll", "bits": "bitsperf.dll", "esent": "esentprf.dll", "lsa": "secur32.dll",
	"msdtc":                "msdtcuiu.dll",
	"msdtc bridge 4.0.0.0": "netfxperf.dll", "msscntrs": "msscntrs.dll", "perfdisk": "perfdisk.dll",
	"perfnet": "perfnet.dll", "perfos": "perfos.dll", "perfproc": "perfproc.dll", "rdyboost": "sysmain.dll",
	"remoteaccess":                 "rasctrs.dll",
	"servicemodelendpoint 3.0.0.0": "netfxperf.dll", "servicemodeloperation 3.0.0.0": "netfxperf.dll",
	"servicemodelservice 3.0.0.0": "netfxperf.dll", "smsvchost 4.0.0.0": "netfxperf.dll", "spooler": "winspool.drv",
	"tapisrv": "tapiperf.dll",
	"tcpip":   "perfctrs.dll", "termservice": "perfts.dll", "ugatherer": "msscntrs.dll", "ugthrsvc": "msscntrs.dll",
	"usbhub": "usbperf.dll", "windows workflow foundation 4.0.0.0": "netfxperf.dll", "wmiaprpl": "wmiaprpl.dll",
	"wsearchidxpi": "msscntrs.dll", "psched": "pschdprf.dll", "w3svc": "w3ctrs.dll", "inetinfo": "infoctrs.dll"}

// readCounters reports the libraries that whoever reads counters of performance loads, one for each service that has
// some.
func readCounters(s *location.Survey) {
	for _, service := range serviceKeys(s) {
		k, err := service.Subkey("Performance")
		if err != nil || k.Text("Library") == "" {
			continue
		}
		p := place{Key: k}
		usual := ownCounters[strings.ToLower(service.Name())]
		item := newItem(p.origin(), service.Name()+" (counters)", k.Text("Library"))
		item.Source.Key, item.Stage, item.When = "Library", autostart.Attach, "when a program reads counters"
		item.Artifacts = artifacts(artifact.RegistryValue(k.Path, countersOff))
		item.Switcher, item.Effect = number{key: k.Path, name: countersOff, on: 0, off: 1}, location.AtNextUse
		item.Shipped = usual != "" && sameCommand(s, item.Command, usual)
		if n, ok := k.Number(countersOff); ok && n != 0 {
			item.State, item.Mode = autostart.Disabled, "not loaded ("+countersOff+")"
		}
		s.Add(id(p), item)
	}
}

// ownExtensions are the libraries with which Windows' own sign-in authority extends itself.
var ownExtensions = []string{"lsasrv", "lsadb", "dpapisrv", "efslsaext", "lsaadt", "keyiso", "cngkeyhelper"}

// readAuthorityExtensions reports what the sign-in authority loads beside its packages: names of libraries in lists
// and single values, and the extension points of the directory service.
func readAuthorityExtensions(s *location.Survey) {
	add := func(p place, v regf.Value, word string) {
		item := newItem(p.origin(), shortName(word), word)
		item.Source.Key = v.Name
		if !strings.ContainsAny(word, `.\`) {
			item.CommandLine = word + ".dll"
		}
		name := strings.TrimSuffix(strings.ToLower(shortName(word)), ".dll")
		item.Shipped = slices.Contains(ownExtensions, name)
		if !item.Shipped {
			item.Problems = append(item.Problems, autostart.NotDefault)
		}
		item.Artifacts = artifacts(artifact.RegistryValue(p.Path, v.Name))
		item.Switcher = location.NoSwitch{Why: "nobody may be able to sign in without it; the program that put it " +
			"there takes it out"}
		s.Add(id(p, v.Name, strings.ToLower(word)), item)
	}
	if k := key(s, ccs+`\Control\LsaExtensionConfig`); k != nil {
		for _, below := range subkeys(s, k) {
			keys := append([]*registry.Key{below}, subkeys(s, below)...)
			for _, k := range keys {
				for _, name := range []string{"Extensions", "Extension"} {
					v, err := k.Value(name)
					if err != nil {
						continue
					}
					for _, word := range part.SplitList(v, "") {
						if word != "" {
							add(place{Key: k}, v, word)
						}
					}
				}
			}
		}
	}
	if k := key(s, ccs+`\Services\NTDS`); k != nil {
		for _, name := range []string{"LsaDbExtPt", "DirectoryServiceExtPt"} {
			if v, err := k.Value(name); err == nil && text(v) != "" {
				add(place{Key: k}, v, text(v))
			}
		}
	}
}

// readLanguageBar reports what the language bar loads into the desktop, and the input methods of keyboard layouts.
func readLanguageBar(s *location.Survey) {
	for _, p := range places(s, soft+`\Microsoft\CTF\LangBarAddin`, `HKCU\Software\Microsoft\CTF\LangBarAddin`) {
		for _, k := range subkeys(s, p.Key) {
			file := k.Text("FilePath")
			if file == "" {
				continue
			}
			at := place{Key: k, user: p.user, narrow: p.narrow}
			item := newItem(at.origin(), shortName(file), file)
			item.Source.Key, item.Role, item.Mode = "FilePath", location.InputMode, "language bar"
			item.Artifacts = artifacts(artifact.RegistryValue(k.Path, "Enable"))
			item.Switcher = number{key: k.Path, name: "Enable", on: 1, off: 0}
			if n, ok := k.Number("Enable"); ok && n == 0 {
				item.State, item.Mode = autostart.Disabled, "not enabled"
			}
			s.Add(id(at), item)
		}
	}
	layouts := key(s, ccs+`\Control\Keyboard Layouts`)
	if layouts == nil {
		return
	}
	for _, k := range subkeys(s, layouts) {
		v, err := k.Value("Ime File")
		if err != nil || text(v) == "" {
			continue
		}
		p := place{Key: k}
		item := addValue(s, p, v, text(v))
		item.Role, item.Mode = location.InputMode, "input method"
		item.Switcher = location.NoSwitch{Why: "somebody may type with it; the settings of languages take it out"}
		s.Add(id(p, v.Name), item)
	}
}

// readToolButtons reports what buttons and menu items of Internet Explorer, and of what shows pages with its parts,
// start: a program, a script or a class.
func readToolButtons(s *location.Survey) {
	for _, p := range places(s, ie+"Extensions", uie+"Extensions") {
		for _, k := range subkeys(s, p.Key) {
			at := place{Key: k, user: p.user, narrow: p.narrow}
			for _, name := range []string{"Exec", "Script", "ClsidExtension", "BandCLSID"} {
				v, err := k.Value(name)
				if err != nil || text(v) == "" {
					continue
				}
				item := addValue(s, at, v, k.Name())
				for _, title := range []string{"ButtonText", "MenuText"} {
					if t := k.Text(title); t != "" && !strings.HasPrefix(t, "@") {
						item.Name = t
						break
					}
				}
				if item.Mode = "a button of Internet Explorer"; isCLSID(text(v)) {
					item.CommandLine = `"` + classOf(s, at, text(v)).library + `"`
				}
				a := artifact.RegistryTree(k.Path)
				item.Artifacts, item.Switcher = artifacts(a), location.Park{Artifact: a}
				s.Add(id(at, name), item)
			}
		}
	}
}
