package cli

import (
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
)

// How many steps a plan may have for all that it has stop besides to be looked at, and how many of its entries are
// tried one by one for what stops with each.
const (
	maxStepsFollowed = 2000
	maxCausesTried   = 200
)

// sideEffects are what changes with a plan besides its own entries.
func sideEffects(inv inventory.Inventory, plan change.Plan) []inventory.SideEffect {
	return inv.SideEffects(imagesOf(plan), plan.Handles)
}

// imagesOf are the artifacts of a plan as it leaves them.
func imagesOf(plan change.Plan) map[machine.Artifact]machine.Image {
	images := make(map[machine.Artifact]machine.Image, len(plan.Steps))
	for _, step := range plan.Steps {
		images[step.Artifact] = step.After
	}
	return images
}

// protectedStop are the protected entries that stop as side effects.
func protectedStop(effects []inventory.SideEffect) []inventory.SideEffect {
	return slices.DeleteFunc(slices.Clone(effects), func(f inventory.SideEffect) bool {
		return f.Becomes == autostart.Enabled || f.Item.Guarded == ""
	})
}

// spare leaves out of a selection what would have protected entries stop, and says so: what is not turned off by
// itself is not turned off by the way.
func (s *session) spare(inv inventory.Inventory, items []*location.Item, want location.Want) (kept []*location.Item, notes []string) {
	if len(items) > maxCausesTried {
		return items, nil
	}
	for _, item := range items {
		plan, err := s.engine.Switch([]*location.Item{item}, want)
		if err != nil {
			kept = append(kept, item)
			continue
		}
		stops := protectedStop(sideEffects(inv, plan))
		if len(stops) == 0 {
			kept = append(kept, item)
			continue
		}
		notes = append(notes, fmt.Sprintf("left out: %s  %s: %s would stop with it, and is protected: %s (--guarded takes both)", item.Handle, item.Name, stops[0].Item.Name, stops[0].Item.Guarded))
	}
	return kept, notes
}

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

// withoutHarm looks what else changes with a plan. Where a protected entry would stop, and protected ones are not asked
// for, the plan is made again without what it would stop with.
func (s *session) withoutHarm(inv inventory.Inventory, w *switching, plan change.Plan) (effects []inventory.SideEffect, notes []string, _ change.Plan, err error) {
	if len(plan.Steps) > maxStepsFollowed {
		plan.Warnings = append(plan.Warnings, "what else starts or stops with so many steps was not looked at")
		return nil, nil, plan, nil
	}
	effects = sideEffects(inv, plan)
	if s.guarded || len(w.off) == 0 || len(protectedStop(effects)) == 0 {
		return effects, nil, plan, nil
	}
	want := w.want
	want.State = autostart.Disabled
	kept, notes := s.spare(inv, w.off, want)
	if len(kept) == len(w.off) {
		return effects, notes, plan, nil // only all together: it is said, and asked
	}
	if len(kept) == 0 && len(w.on) == 0 {
		return nil, notes, plan, usage("nothing was done: what is protected would stop with all that matches")
	}
	w.off = kept
	if plan, err = s.engine.Decide(w.off, w.on, want); err != nil {
		return nil, notes, plan, err
	}
	return sideEffects(inv, plan), notes, plan, nil
}
