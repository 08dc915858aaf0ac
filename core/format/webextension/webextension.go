// Package webextension reads what browsers keep of their extensions: the manifest
// that each extension brings along, the list of a Firefox profile, and the
// descriptions of native messaging hosts, programs that an extension may start.
// All are JSON, on every operating system.
package webextension

import (
	"cmp"
	"encoding/json"
	"strings"
)

// Manifest is what an extension says about itself in manifest.json.
type Manifest struct {
	Name    string `json:"name"` // empty where it stands in another file, by language
	Version string `json:"version"`
}

// ParseManifest reads a manifest. What cannot be parsed is empty.
func ParseManifest(content []byte) Manifest {
	var m Manifest
	if json.Unmarshal(content, &m) != nil || strings.HasPrefix(m.Name, "__MSG_") {
		m.Name = ""
	}
	return m
}

// Setting is what a profile of Chromium's family keeps of an extension.
type Setting struct {
	// Off says that the browser does not load it: its user turned it off, or the browser did.
	Off bool
	// Origin is how it came to the profile.
	Origin Origin
	// Path is its folder, below the profile's folder of extensions unless it is absolute.
	Path          string
	Name, Version string // as its manifest has them; empty if the profile does not keep that
}

// Origin is Chromium's ManifestLocation, extensions/common/mojom/manifest.mojom.
type Origin int

// The origins that say more than that somebody installed it.
const (
	Unpacked Origin = 4 // from a folder anywhere, as developers do
	// Forced by a policy, from the shop or from elsewhere.
	PolicyDownload Origin = 7
	Policy         Origin = 9
	lastOrigin     Origin = 10
)

// ByPolicy reports whether an administrator's policy forces it on.
func (s Setting) ByPolicy() bool { return s.Origin == PolicyDownload || s.Origin == Policy }

// ParsePreferences reads the extensions of the Preferences, or Secure Preferences, of a profile of Chromium's
// family, by their ids. An extension is off where it has reasons to be, a number in older versions and a list
// in newer ones, or, in versions that keep that, where its state is 0.
func ParsePreferences(content []byte) (map[string]Setting, error) {
	var file struct {
		Extensions struct {
			Settings map[string]json.RawMessage `json:"settings"`
		} `json:"extensions"`
	}
	if err := json.Unmarshal(content, &file); err != nil {
		return nil, err
	}
	settings := map[string]Setting{}
	for id, raw := range file.Extensions.Settings {
		var one struct {
			State    any      `json:"state"`
			Reasons  any      `json:"disable_reasons"`
			Location any      `json:"location"`
			Path     any      `json:"path"`
			Manifest Manifest `json:"manifest"`
		}
		if json.Unmarshal(raw, &one) != nil {
			continue
		}
		s := Setting{Name: one.Manifest.Name, Version: one.Manifest.Version}
		if strings.HasPrefix(s.Name, "__MSG_") {
			s.Name = ""
		}
		if n, ok := one.State.(float64); ok && n == 0 {
			s.Off = true
		}
		switch reasons := one.Reasons.(type) {
		case float64:
			s.Off = s.Off || reasons != 0
		case []any:
			s.Off = s.Off || len(reasons) > 0
		}
		if n, ok := one.Location.(float64); ok && n > 0 && n <= float64(lastOrigin) {
			s.Origin = Origin(n)
		}
		s.Path, _ = one.Path.(string)
		settings[id] = s
	}
	return settings, nil
}

// Addon is one extension of a Firefox profile.
type Addon struct {
	ID, Version   string
	Location      string // where it is installed: the profile, the browser itself
	Path          string
	Active        bool
	DefaultLocale struct{ Name string }
}

// Name is what the extension calls itself, or its id.
func (a Addon) Name() string {
	if a.DefaultLocale.Name != "" {
		return a.DefaultLocale.Name
	}
	return a.ID
}

// BuiltIn reports whether the extension came with the browser.
func (a Addon) BuiltIn() bool {
	return strings.HasPrefix(a.Location, "app-builtin") || strings.HasPrefix(a.Location, "app-system")
}

// ParseAddons reads the extensions.json of a Firefox profile.
func ParseAddons(content []byte) ([]Addon, error) {
	var list struct{ Addons []Addon }
	err := json.Unmarshal(content, &list)
	return list.Addons, err
}

// ExternalFrom is where an extension comes from that a file of External Extensions offers: a file, or an address
// of updates; empty where it tells none.
func ExternalFrom(content []byte) string {
	var offer struct {
		File   string `json:"external_crx"`
		Update string `json:"external_update_url"`
	}
	_ = json.Unmarshal(content, &offer)
	return cmp.Or(offer.File, offer.Update)
}

// HostPath is the program that the description of a native messaging host names;
// empty where it names none.
func HostPath(content []byte) string {
	var host struct {
		Path string `json:"path"`
	}
	_ = json.Unmarshal(content, &host)
	return host.Path
}
