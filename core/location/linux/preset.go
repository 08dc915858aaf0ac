package linux

import (
	"path"
	"slices"
	"strings"

	"lockback/core/location"
)

// preset tells what the distribution wants of a unit that nobody has decided on,
// systemd.preset(5): the first line that matches, of the files in the order of
// their names.
func (set *unitSet) preset(name string) string {
	for _, rule := range set.presets {
		if ok, _ := path.Match(rule.pattern, name); ok {
			return rule.verb
		}
	}
	if len(set.presets) == 0 {
		return ""
	}
	return "enable"
}

type presetRule struct{ verb, pattern string }

// presetFolders go with a manager's search path; the first has precedence.
func presetFolders(p unitPath) []string {
	kind := "user"
	if p.config == systemUnits.config {
		kind = "system"
	}
	var dirs []string
	for _, base := range []string{"/etc", "/run", "/usr/local/lib", "/usr/lib"} {
		dirs = append(dirs, base+"/systemd/"+kind+"-preset")
	}
	return dirs
}

// loadPresets reads the preset files of a manager.
func (set *unitSet) loadPresets(s *location.Survey) {
	byName := map[string]string{}
	for _, dir := range presetFolders(set.path) {
		for _, e := range s.Dir(dir) {
			name := e.Name()
			if _, taken := byName[name]; !taken && strings.HasSuffix(name, ".preset") {
				byName[name] = path.Join(dir, name)
			}
		}
	}
	var names []string
	for name := range byName {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		content, ok := set.read(byName[name])
		if !ok {
			continue
		}
		for line := range strings.Lines(string(content)) {
			if f := strings.Fields(line); len(f) >= 2 && (f[0] == "enable" || f[0] == "disable") {
				set.presets = append(set.presets, presetRule{f[0], f[1]})
			}
		}
	}
}
