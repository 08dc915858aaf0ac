package cli

import (
	"fmt"
	"strings"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
)

// effectWords says what becomes of entries by the way, by their names.
func effectWords(f inventory.SideEffect, names []string) string {
	who, stops, starts := strings.Join(names, ", "), "stops", "starts"
	if len(names) > 1 {
		stops, starts = "stop", "start"
	}
	switch {
	case f.Becomes == autostart.Enabled:
		return who + " " + starts + " again with this"
	case f.Becomes == "" || f.Because == "":
		return who + " " + stops + " too: nothing else starts it"
	}
	return who + " " + stops + " too: " + f.Because
}

// maxEffectsNamed is how many entries of one line are named.
const maxEffectsNamed = 12

// effectNotes are what is said of side effects before anything is asked or done: a line for those of which the same is
// said, and one for each that is protected.
func effectNotes(effects []inventory.SideEffect) []string {
	type group struct {
		first inventory.SideEffect
		names []string
		more  int
	}
	var groups []*group
	alike := map[string]*group{}
	for _, f := range effects {
		guarded := ""
		if f.Becomes != autostart.Enabled {
			guarded = f.Item.Guarded
		}
		key := effectWords(f, nil) + "\x00" + guarded
		g := alike[key]
		if g == nil || guarded != "" {
			g = &group{first: f}
			alike[key], groups = g, append(groups, g)
		}
		if len(g.names) == maxEffectsNamed {
			g.more++
			continue
		}
		g.names = append(g.names, f.Item.Name)
	}
	var notes []string
	for _, g := range groups {
		if g.more > 0 {
			g.names = append(g.names, fmt.Sprintf("and %d more", g.more))
		}
		words := effectWords(g.first, g.names)
		if g.first.Item.Guarded != "" && g.first.Becomes != autostart.Enabled {
			words += "; it is protected: " + g.first.Item.Guarded
		}
		notes = append(notes, words)
	}
	return notes
}

// sparedNotes name what stays on because something protected would stop with it.
func sparedNotes(spared []change.Spared) []string {
	var notes []string
	for _, s := range spared {
		notes = append(notes, fmt.Sprintf("left out: %s  %s: %s would stop with it, and is protected: %s (--guarded takes both)",
			s.Item.Handle, s.Item.Name, s.Stops.Name, s.Stops.Guarded))
	}
	return notes
}
