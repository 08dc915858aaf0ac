package catalogue

import (
	"bytes"

	"go.yaml.in/yaml/v3"

	"lockback/core/autostart"
)

// Write is the file of some entries, in the form that [Parse] reads. What has its usual value is left out, and so is
// what only programs have: notes are of no program that a catalogue describes.
func Write(entries []Entry) []byte {
	type mark struct {
		Location string   `yaml:",omitempty"`
		Package  string   `yaml:",omitempty"`
		Bundle   string   `yaml:",omitempty"`
		Maker    string   `yaml:",omitempty"`
		Says     string   `yaml:",omitempty"`
		File     string   `yaml:",omitempty"`
		Label    string   `yaml:",omitempty"`
		Command  string   `yaml:",omitempty"`
		Names    []string `yaml:",omitempty,flow"`
		Runs     []string `yaml:",omitempty,flow"`
	}
	type entry struct {
		ID      string `yaml:"id"`
		KnownBy []mark `yaml:"known-by"`
		Role    string `yaml:",omitempty"`
		Verdict string `yaml:",omitempty"`
		Does    string `yaml:",omitempty"`
		Without string `yaml:",omitempty"`
		Setting string `yaml:",omitempty"`
		Protect string `yaml:",omitempty"`
		Caution string `yaml:",omitempty"`
		Part    bool   `yaml:",omitempty"`
		Note    string `yaml:",omitempty"`
		By      string `yaml:",omitempty"`
		Date    string `yaml:",omitempty"`
	}
	file := struct {
		Format  int     `yaml:"format"`
		Entries []entry `yaml:"entries"`
	}{1, []entry{}}
	for _, e := range entries {
		w := entry{ID: e.ID, Role: e.Role, Verdict: e.Verdict, Does: e.Does, Without: e.Without, Setting: e.Setting,
			Protect: e.Protect, Caution: e.Caution, Part: e.Part, Note: e.Note, By: e.By, Date: e.Date}
		if w.Role == autostart.RoleUnknown {
			w.Role = ""
		}
		if w.Verdict == autostart.Unrated {
			w.Verdict = ""
		}
		for _, m := range e.KnownBy {
			w.KnownBy = append(w.KnownBy, mark{m.Location, m.Package, m.Bundle, m.Maker, m.Says, m.File, m.Label,
				m.Command, m.Names, m.Runs})
		}
		file.Entries = append(file.Entries, w)
	}
	var text bytes.Buffer
	to := yaml.NewEncoder(&text)
	to.SetIndent(2)
	if err := to.Encode(file); err != nil {
		panic(err) // plain texts always encode
	}
	return text.Bytes()
}
