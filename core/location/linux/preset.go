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

// loadPresets reads the preset files of a manager. "ignore" decides too: the state stays as it is.
func (set *unitSet) loadPresets(s *location.Survey) {
	folder := "systemd/user-preset"
	if set.path.config == systemUnits.config {
		folder = "systemd/system-preset"
	}
	s.Each(location.Chain(folder, ".preset"), func(f location.Found) {
		if f.Masked != "" {
			return
		}
		content, _ := set.read(f.Path)
		for line := range strings.Lines(string(content)) {
			if f := strings.Fields(line); len(f) >= 2 && slices.Contains([]string{"enable", "disable", "ignore"},
				f[0]) {
				set.presets = append(set.presets, presetRule{f[0], f[1]})
			}
		}
	})
}
