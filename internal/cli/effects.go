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
	"lockback/internal/view"
)

// How many steps a plan may have for all that it has stop besides to be looked at, and how many of its entries are
// tried one by one for what stops with each.
const (
	maxStepsFollowed = 2000
	maxCausesTried   = 200
)

// sideEffects are what changes with a plan besides its own entries.
func sideEffects(inv inventory.Inventory, plan change.Plan) []inventory.SideEffect {
	images := make(map[machine.Artifact]machine.Image, len(plan.Steps))
	for _, step := range plan.Steps {
		images[step.Artifact] = step.After
	}
	return inv.SideEffects(images, plan.Handles)
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

// effectWords says what becomes of an entry by the way.
func effectWords(f inventory.SideEffect) string {
	switch {
	case f.Becomes == autostart.Enabled:
		return fmt.Sprintf("%s starts again with this", f.Item.Name)
	case f.Becomes == "" || f.Mode == "":
		return fmt.Sprintf("%s stops too: nothing else starts it", f.Item.Name)
	}
	return fmt.Sprintf("%s stops too: %s", f.Item.Name, strings.TrimPrefix(f.Mode, "ignored: "))
}

// maxEffectsNamed is how many are told of one by one.
const maxEffectsNamed = 12

// effectNotes are what is said of side effects before anything is asked or done.
func effectNotes(effects []inventory.SideEffect) []string {
	var notes []string
	for k, f := range effects {
		if k == maxEffectsNamed {
			notes = append(notes, fmt.Sprintf("%s more stop or start with this", view.Number(len(effects)-k, "entry", "entries")))
			break
		}
		words := effectWords(f)
		if f.Item.Guarded != "" && f.Becomes != autostart.Enabled {
			words += "; it is protected: " + f.Item.Guarded
		}
		notes = append(notes, words)
	}
	return notes
}

// withoutHarm looks what else changes with a plan. Where a protected entry would stop, and protected ones are not asked
// for, the plan is made again without what it would stop with.
func (s *session) withoutHarm(inv inventory.Inventory, items *[]*location.Item, plan change.Plan, want location.Want) (effects []inventory.SideEffect, notes []string, _ change.Plan, err error) {
	if len(plan.Steps) > maxStepsFollowed {
		plan.Warnings = append(plan.Warnings, "what else starts or stops with so many steps was not looked at")
		return nil, nil, plan, nil
	}
	effects = sideEffects(inv, plan)
	if s.guarded || want.State != autostart.Disabled || len(protectedStop(effects)) == 0 {
		return effects, nil, plan, nil
	}
	kept, notes := s.spare(inv, *items, want)
	if len(kept) == len(*items) {
		return effects, notes, plan, nil // only all together: it is said, and asked
	}
	if len(kept) == 0 {
		return nil, notes, plan, usage("nothing was done: what is protected would stop with all that matches")
	}
	*items = kept
	if plan, err = s.engine.Switch(kept, want); err != nil {
		return nil, notes, plan, err
	}
	return sideEffects(inv, plan), notes, plan, nil
}
