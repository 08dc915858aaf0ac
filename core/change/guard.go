package change

import (
	"errors"
	"slices"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// Choice is what somebody chose to turn off and on.
type Choice struct {
	Off, On []*location.Item
	// Want says for whom; its state does not matter.
	Want location.Want
	// Inventory is the machine as it was read: what stops with the choice is looked for in it.
	Inventory inventory.Inventory
	// ProtectedToo lets protected entries stop that were not chosen themselves.
	ProtectedToo bool
}

// Spared is an entry that stays on because a protected one would stop with it.
type Spared struct{ Item, Stops *location.Item }

// ErrProtected says that nothing is left of a choice: all of it would stop protected entries.
var ErrProtected = errors.New("every match would also stop a protected entry")

// Images are the artifacts of a plan as it leaves them.
func (p Plan) Images() map[artifact.Artifact]artifact.Image {
	images := make(map[artifact.Artifact]artifact.Image, len(p.Steps))
	for _, step := range p.Steps {
		images[step.Artifact] = step.After
	}
	return images
}

// Decide plans to turn some entries off and others on, together, as [Engine.Switch] does. The plan tells what else
// stops or starts with it. What would stop a protected entry stays on and is named in [Plan.Spared], however much was
// chosen; where nothing is left then, it fails with [ErrProtected].
func (e *Engine) Decide(c Choice) (Plan, error) {
	plan, err := e.decide(e.newDraft(), c.Off, c.On, c.Want)
	if err != nil {
		return plan, err
	}
	plan.Effects = c.Inventory.SideEffects(plan.Images(), plan.Handles)
	if c.ProtectedToo || len(c.Off) == 0 || len(protectedStops(plan.Effects)) == 0 {
		return plan, nil
	}
	kept, spared := e.Spare(c)
	if len(spared) == 0 {
		return plan, nil // what is turned on has it stop
	}
	if len(kept)+len(c.On) == 0 {
		return Plan{Spared: spared}, ErrProtected
	}
	if plan, err = e.decide(e.newDraft(), kept, c.On, c.Want); err == nil {
		plan.Effects = c.Inventory.SideEffects(plan.Images(), plan.Handles)
	}
	plan.Spared = spared
	return plan, err
}

// protectedStops are the protected entries that stop as side effects.
func protectedStops(effects []inventory.SideEffect) []*location.Item {
	var items []*location.Item
	for _, f := range effects {
		if f.Becomes != autostart.Enabled && f.Item.Guarded != "" {
			items = append(items, f.Item)
		}
	}
	return items
}

// Spare returns which entries of a choice can be turned off together while no protected entry stops, and names the
// others, each with one that would stop. It reads the machine once with everything off; only while something protected
// stops it divides what was chosen.
func (e *Engine) Spare(c Choice) (kept []*location.Item, spared []Spared) {
	off := guard{engine: e, inv: c.Inventory, want: c.Want, rest: map[artifact.Artifact]artifact.Image{},
		before: map[string]bool{}}
	off.want.State = autostart.Disabled
	if off.want.Now.IsZero() {
		off.want.Now = time.Now()
	}
	if len(c.On) > 0 {
		d, plan, want := e.newDraft(), Plan{want: map[string]autostart.State{}, taken: map[string]bool{}}, off.want
		want.State = autostart.Enabled
		e.switchItems(d, &plan, c.On, want)
		off.rest = d.after
		for _, item := range protectedStops(c.Inventory.SideEffects(off.rest, plan.Handles)) {
			off.before[item.Handle] = true
		}
	}
	kept = c.Off
	for {
		left := off.once(kept)
		if len(left) == 0 {
			return kept, spared
		}
		spared = append(spared, left...)
		kept = slices.DeleteFunc(slices.Clone(kept), func(item *location.Item) bool {
			return slices.ContainsFunc(left, func(s Spared) bool { return s.Item == item })
		})
	}
}

// guard finds out what has protected entries stop.
type guard struct {
	engine *Engine
	inv    inventory.Inventory
	want   location.Want
	rest   map[artifact.Artifact]artifact.Image // what is changed besides
	before map[string]bool                      // what stops with that alone, by handle
}

// stopping returns the first protected entry that stops where all these artifacts become as planned; nil where none
// does.
func (g guard) stopping(images map[artifact.Artifact]artifact.Image, named []string) *location.Item {
	for a, image := range g.rest {
		if _, planned := images[a]; !planned {
			images[a] = image
		}
	}
	for _, item := range protectedStops(g.inv.SideEffects(images, named)) {
		if !g.before[item.Handle] {
			return item
		}
	}
	return nil
}

// once looks at a plan with all items off, and returns those that must stay on; none if nothing protected stops.
func (g guard) once(items []*location.Item) []Spared {
	d, plan := g.engine.newDraft(), Plan{want: map[string]autostart.State{}, taken: map[string]bool{}}
	g.engine.switchItems(d, &plan, items, g.want)
	stops := func(artifacts []artifact.Artifact) *location.Item {
		images := make(map[artifact.Artifact]artifact.Image, len(artifacts))
		for _, a := range artifacts {
			images[a] = d.after[a]
		}
		return g.stopping(images, plan.Handles)
	}
	first := stops(d.order)
	if first == nil {
		return nil
	}
	byHandle := make(map[string]*location.Item, len(items))
	for _, item := range items {
		byHandle[item.Handle] = item
	}
	var left []Spared
	harmless(nil, d.order, stops, func(a artifact.Artifact, item *location.Item) {
		for _, h := range d.handles[a] {
			if chosen := byHandle[h]; chosen != nil &&
				!slices.ContainsFunc(left, func(s Spared) bool { return s.Item == chosen }) {
				left = append(left, Spared{chosen, item})
			}
		}
	})
	if len(left) == 0 { // no single artifact tells: the entries are tried themselves
		harmless(nil, items, func(some []*location.Item) *location.Item {
			d, plan := g.engine.newDraft(), Plan{want: map[string]autostart.State{}, taken: map[string]bool{}}
			g.engine.switchItems(d, &plan, some, g.want)
			return g.stopping(d.after, plan.Handles)
		}, func(item, stops *location.Item) { left = append(left, Spared{item, stops}) })
	}
	return left
}

// harmless returns the entries that can be added while nothing protected stops, and passes each other one on with
// what it would stop. It tries all at once, and halves only what fails: for k of n that must stay about k log n
// times.
func harmless[T any](others, some []T, stops func([]T) *location.Item, leave func(T, *location.Item)) []T {
	if len(some) == 0 {
		return nil
	}
	item := stops(slices.Concat(others, some))
	switch {
	case item == nil:
		return some
	case len(some) == 1:
		leave(some[0], item)
		return nil
	}
	half := len(some) / 2
	first := harmless(others, some[:half], stops, leave)
	return slices.Concat(first, harmless(slices.Concat(others, first), some[half:], stops, leave))
}
