package windows

import (
	"cmp"
	"io/fs"
	"slices"
	"strings"

	"lockback/core/format/regf"
	"lockback/core/format/webextension"
	"lockback/core/location"
)

// firefoxPolicies are the policies of Firefox in the registry, and the file that may lie in its folder, as
// Mozilla's "policy-templates" documents them.
var (
	firefoxPolicies = []string{soft + `\Policies\Mozilla\Firefox`, `HKCU\Software\Policies\Mozilla\Firefox`}
	firefoxFile     = `\Mozilla Firefox\distribution\policies.json`
)

// browserPolicies are the keys of the policies that install extensions: a list, rules for each extension as one
// text or as a key each, and Firefox' list of addresses.
func browserPolicies() []location.Place {
	keys := slices.Clone(firefoxPolicies)
	for _, f := range chromium {
		keys = append(keys, soft+`\Policies\`+f.key, `HKCU\Software\Policies\`+f.key)
	}
	return location.At(keys...)
}

// readBrowserPolicies reports the extensions that an administrator's policy gives to a browser.
func readBrowserPolicies(s *location.Survey, at []location.Place) {
	const why = "a policy installs it; remove it from the policy"
	add := func(key string, item *location.Item) {
		item.CommandLine, item.Artifacts, item.Switcher = "", artifacts(), location.NoSwitch{Why: why}
		item.Mode = "forced by a policy"
		s.Add(key, item)
	}
	for _, p := range found(s, at) {
		tell := func(k place, value string, e webextension.Forced) {
			name := cmp.Or(e.ID, e.From)
			item := newItem(k.origin(), name, e.From)
			item.Source.Key = value
			add(id(k, name), item)
		}
		below := func(name string) []place {
			if k := key(s, p.Path+`\`+name); k != nil {
				return []place{{Key: k, user: p.user, narrow: p.narrow}}
			}
			return nil
		}
		for _, list := range []struct {
			key   string
			parse func(string) webextension.Forced
		}{{"ExtensionInstallForcelist", webextension.ParseForced}, {`Extensions\Install`,
			func(address string) webextension.Forced { return webextension.Forced{From: address} }}} {
			for _, k := range below(list.key) {
				for _, v := range values(s, k.Key) {
					if v.IsText() && v.Text() != "" {
						tell(k, v.Name, list.parse(v.Text()))
					}
				}
			}
		}
		if v, err := p.Value("ExtensionSettings"); err == nil {
			forced, err := webextension.ParseSettings([]byte(lines(v)))
			if err != nil {
				s.Skip(p.Path, &fs.PathError{Op: "read", Path: p.Path + `\ExtensionSettings`, Err: err})
			}
			for _, e := range forced {
				tell(p, v.Name, e)
			}
		}
		for _, k := range below("ExtensionSettings") {
			for _, one := range subkeys(s, k.Key) {
				if webextension.Installs(one.Text("installation_mode")) {
					tell(place{Key: one, user: p.user, narrow: p.narrow}, "", webextension.Forced{ID: one.Name(),
						From: cmp.Or(one.Text("update_url"), one.Text("install_url"))})
				}
			}
		}
	}
	for _, folder := range []string{`%ProgramFiles%`, `%ProgramFiles(x86)%`} {
		file := s.Machine.Canonical(s.Machine.Expand(folder, nil) + firefoxFile)
		content, ok := s.File(file)
		if !ok {
			continue
		}
		forced, err := webextension.ParsePolicy(content)
		if err != nil {
			s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: err})
		}
		for _, e := range forced {
			item := newItem(origin{path: file}, cmp.Or(e.ID, e.From), e.From)
			add(strings.ToLower(file+"\x00"+item.Name), item)
		}
	}
}

// lines is a text that may be written as several.
func lines(v regf.Value) string {
	if v.Type == regf.MultiString {
		return strings.Join(v.Strings(), "\n")
	}
	return v.Text()
}
