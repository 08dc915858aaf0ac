package windows

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// classesFolder has a key for each setup class of devices: what stands in its UpperFilters and
// LowerFilters is loaded around the driver of every device of the class. A filter whose driver does not
// load keeps the devices from starting (code 32 of the device manager), so a driver named there is not
// switched by itself.
const classesFolder = ccs + `\Control\Class`

// filterValues are the lists of filters, with where their drivers sit.
var filterValues = map[string]string{"UpperFilters": "above", "LowerFilters": "below"}

// devices are what Windows keeps of the devices that it has met.
type devices struct {
	classes map[string]string // a service in small letters, to the setup class of a device that it drives
	filters []*registry.Key   // instances that have filters of their own
}

// metDevices reads them once for all locations: below Enum stand the buses, their devices, and of each
// device the places where it was seen ("HKLM\SYSTEM\CurrentControlSet\Enum Registry Tree" of Microsoft's
// documents).
func metDevices(s *location.Survey) devices {
	return s.Shared("devices", func() any {
		d := devices{classes: map[string]string{}}
		root, err := s.Machine.Key(ccs + `\Enum`)
		if err != nil {
			return d
		}
		seen := 0
		buses, _ := root.Subkeys()
		for _, bus := range buses {
			below, _ := bus.Subkeys()
			for _, device := range below {
				instances, _ := device.Subkeys()
				for _, k := range instances {
					if seen++; seen > maxDevices {
						return d
					}
					d.add(k)
				}
			}
		}
		return d
	}).(devices)
}

// add keeps what matters of a device. Its values are read in one pass: there are thousands of devices.
func (d *devices) add(k *registry.Key) {
	service, class := "", ""
	values, _ := k.Values()
	for _, v := range values {
		switch {
		case strings.EqualFold(v.Name, "Service"):
			service = strings.ToLower(v.Text())
		case strings.EqualFold(v.Name, "ClassGUID"):
			class = strings.ToLower(v.Text())
		case strings.EqualFold(v.Name, "UpperFilters"), strings.EqualFold(v.Name, "LowerFilters"):
			if len(d.filters) == 0 || d.filters[len(d.filters)-1] != k {
				d.filters = append(d.filters, k)
			}
		}
	}
	if _, known := d.classes[service]; !known && service != "" {
		d.classes[service] = class
	}
}

// filterDrivers are the services that a list of filters names, in small letters, to the class or device.
func filterDrivers(s *location.Survey) map[string]string {
	return s.Shared("filter drivers", func() any {
		named := map[string]string{}
		eachFilterList(s, func(k *registry.Key, class, _ string, words []string) {
			for _, word := range words {
				named[strings.ToLower(word)] = class
			}
		})
		return named
	}).(map[string]string)
}

// eachFilterList visits the lists of filters of classes and of single devices.
func eachFilterList(s *location.Survey, visit func(k *registry.Key, class, name string, words []string)) {
	each := func(k *registry.Key, class string) {
		for name := range filterValues {
			if v, err := k.Value(name); err == nil {
				visit(k, class, name, v.Strings())
			}
		}
	}
	if root, err := s.Machine.Key(classesFolder); err == nil {
		classes, _ := root.Subkeys()
		for _, k := range classes {
			class := k.Text("Class")
			if class == "" {
				class = k.Name()
			}
			each(k, "class "+class)
		}
	}
	for _, k := range metDevices(s).filters {
		each(k, "device "+k.Name())
	}
}

func readClassFilters(s *location.Survey) {
	if key(s, classesFolder) == nil {
		return
	}
	eachFilterList(s, func(k *registry.Key, class, name string, _ []string) {
		v, err := k.Value(name)
		if err != nil {
			return
		}
		s.Adjusting(func(item *location.Item) {
			item.Mode = filterValues[name] + " the driver of the " + class
			item.When = "with each such device"
			item.CommandLine = driverCommand(s, item.Command)
		}, func(s *location.Survey) { readList(s, place{Key: k}, v, list{role: location.Driver}) })
	})
}

// driverCommand is the file of a driver, by the name of its service.
func driverCommand(s *location.Survey, service string) string {
	if k, err := s.Machine.Key(servicesFolder + `\` + service); err == nil {
		if image := k.Text("ImagePath"); image != "" {
			return image
		}
	}
	return `\SystemRoot\System32\drivers\` + service + ".sys"
}

// readAccessibility reads the programs that help people to see, hear and type. One starts with a session
// where a configuration names it.
func readAccessibility(s *location.Survey) {
	on := map[string]bool{}
	for _, p := range places(s, nt+`\Accessibility`, unt+`\Accessibility`) {
		for name := range strings.SplitSeq(p.Text("Configuration"), ",") {
			on[strings.ToLower(strings.TrimSpace(name))] = true
		}
	}
	for _, p := range places(s, nt+`\Accessibility\ATs`) {
		for _, k := range subkeys(s, p.Key) {
			v, err := k.Value("StartExe")
			if err != nil || text(v) == "" || p.narrow {
				continue
			}
			item := addValue(s, place{Key: k}, v, k.Name())
			item.Command = strings.TrimSpace(item.Command + " " + k.Text("StartParams"))
			item.Artifacts = artifacts(artifact.RegistryTree(k.Path))
			if !on[strings.ToLower(k.Name())] {
				item.State, item.Mode = autostart.Disabled, "nobody has turned it on"
			}
			s.Add(strings.ToLower(k.Name()), item)
		}
	}
}

// readShims reads the databases that somebody installed to change how single programs run.
func readShims(s *location.Survey) {
	databases := key(s, nt+`\AppCompatFlags\InstalledSDB`)
	file := func(id string) (path, name string) {
		if databases == nil {
			return "", ""
		}
		k, err := databases.Subkey(id)
		if err != nil {
			return "", ""
		}
		return k.Text("DatabasePath"), k.Text("DatabaseDescription")
	}
	root := key(s, nt+`\AppCompatFlags\Custom`)
	if root == nil {
		return
	}
	for _, k := range subkeys(s, root) {
		for _, v := range values(s, k) {
			id := strings.TrimSuffix(strings.ToLower(v.Name), ".sdb")
			if !strings.HasPrefix(id, "{") {
				continue
			}
			path, name := file(id)
			item := newItem(place{Key: k}.origin(), k.Name(), path)
			if name != "" {
				item.Name += " (" + name + ")"
			}
			item.Source.Key, item.When = v.Name, "whenever "+k.Name()+" is started"
			item.CommandLine = `"` + path + `"`
			item.Artifacts = artifacts(artifact.RegistryValue(k.Path, v.Name))
			s.Add(strings.ToLower(k.Name()+"\x00"+v.Name), item)
		}
	}
}
