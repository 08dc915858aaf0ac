// Package webextension reads what browsers keep of their extensions: the manifest
// that each extension brings along, the list of a Firefox profile, and the
// descriptions of native messaging hosts, programs that an extension may start.
// All are JSON, on every operating system.
package webextension

import (
	"encoding/json"
	"strings"
)

// Manifest is what an extension says of itself in manifest.json.
type Manifest struct {
	Name    string `json:"name"` // empty where it stands in another file, by language
	Version string `json:"version"`
}

// ParseManifest reads a manifest. What cannot be understood is empty.
func ParseManifest(content []byte) Manifest {
	var m Manifest
	if json.Unmarshal(content, &m) != nil || strings.HasPrefix(m.Name, "__MSG_") {
		m.Name = ""
	}
	return m
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

// HostPath is the program that the description of a native messaging host names;
// empty where it names none.
func HostPath(content []byte) string {
	var host struct {
		Path string `json:"path"`
	}
	_ = json.Unmarshal(content, &host)
	return host.Path
}
