package webextension

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"
)

// Forced is an extension that a policy installs.
type Forced struct {
	ID   string // of the extension; empty where only its address is told
	From string // the address it comes from; empty for the browser's own shop
}

// rules are what both families say about each extension: the policy that installs it, and its source.
type rules map[string]struct {
	Mode      string `json:"installation_mode"`
	UpdateURL string `json:"update_url"`  // Chromium's word
	Install   string `json:"install_url"` // Firefox'
}

// policies are those that install extensions: the first is Chromium's, the last Firefox', the settings both's.
type policies struct {
	Forcelist  []string        `json:"ExtensionInstallForcelist"`
	Settings   json.RawMessage `json:"ExtensionSettings"`
	Extensions struct {
		Install []string `json:"Install"`
	} `json:"Extensions"`
}

// ParsePolicy finds the extensions that policies of either family install: Chromium's policies stand at the top
// of a file, Firefox' below "policies". ExtensionSettings may be a text that holds JSON, as the registry has it.
// The order is that of the ids.
func ParsePolicy(content []byte) ([]Forced, error) {
	var file struct {
		policies
		Firefox policies `json:"policies"`
	}
	if err := json.Unmarshal(content, &file); err != nil {
		return nil, err
	}
	var all []Forced
	for _, p := range []policies{file.policies, file.Firefox} {
		for _, text := range p.Forcelist {
			all = append(all, ParseForced(text))
		}
		for _, address := range p.Extensions.Install {
			all = append(all, Forced{From: address})
		}
		forced, err := ParseSettings(p.Settings)
		if err != nil {
			return nil, err
		}
		all = append(all, forced...)
	}
	slices.SortFunc(all, func(a, b Forced) int { return cmp.Or(cmp.Compare(a.ID, b.ID), cmp.Compare(a.From, b.From)) })
	return slices.Compact(all), nil
}

// ParseForced reads an item of ExtensionInstallForcelist: ID, or ID;ADDRESS.
func ParseForced(text string) Forced {
	id, from, _ := strings.Cut(text, ";")
	return Forced{id, from}
}

// ParseSettings finds what the policy ExtensionSettings installs.
func ParseSettings(content []byte) ([]Forced, error) {
	if len(content) == 0 {
		return nil, nil
	}
	var text string
	if json.Unmarshal(content, &text) == nil {
		content = []byte(text)
	}
	var settings rules
	if err := json.Unmarshal(content, &settings); err != nil {
		return nil, err
	}
	var all []Forced
	for id, r := range settings {
		if Installs(r.Mode) {
			all = append(all, Forced{id, cmp.Or(r.UpdateURL, r.Install)})
		}
	}
	return all, nil
}

// Installs reports whether an installation_mode installs an extension.
func Installs(mode string) bool { return mode == "force_installed" || mode == "normal_installed" }
