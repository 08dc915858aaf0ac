package change

import (
	"fmt"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
)

// Delayed is an entry that is to start later.
type Delayed struct {
	Item *location.Item
	By   time.Duration // after its stage has come
}

// Delay plans to make entries start later: with the system's own delay where it has one, else by turning an entry off
// and making another one that starts the same, as one change. What cannot be delayed is left out and named, as
// [Engine.Switch] does.
func (e *Engine) Delay(entries []Delayed) (Plan, error) {
	plan := Plan{Kind: Delay, want: map[string]autostart.State{}, taken: map[string]bool{}, starts: map[string]string{}}
	made := map[string]*autostart.Entry{}
	plan.expect = func(handle string) Expected { return Expected{State: plan.want[handle], Entry: made[handle]} }
	d := e.newDraft()
	now := e.now()
	for _, entry := range entries {
		item := entry.Item
		later, err := e.later(d, item, entry.By, now)
		if err != nil {
			plan.leave(item, err)
			continue
		}
		// A draft of its own shows whether all of it can be done, before any of it is in the plan.
		handle := ""
		if later.Made != nil {
			handle = later.Made.Handle()
			later.Edits = append(later.Edits, later.Made.Edits...)
		}
		if later.Off {
			off := Plan{want: map[string]autostart.State{}, taken: map[string]bool{}}
			e.switchItems(d, &off, []*location.Item{item}, location.Want{State: autostart.Disabled, Now: now})
			if len(off.LeftOut) > 0 {
				plan.leave(item, off.LeftOut[0].Err)
				continue
			}
			for h := range off.taken {
				plan.taken[h] = true
			}
		}
		if err := e.make(d, &plan, location.Made{Edits: later.Edits}, item.Handle); err != nil {
			plan.leave(item, err)
			continue
		}
		plan.Handles = append(plan.Handles, item.Handle)
		plan.want[item.Handle] = item.State
		if later.Off {
			plan.want[item.Handle] = autostart.Disabled
		}
		if handle != "" {
			plan.Handles = append(plan.Handles, handle)
			plan.want[handle], plan.starts[handle] = autostart.Enabled, item.Target.Path
			like := item.Entry
			like.Handle, like.Location, like.Name = handle, later.Made.Location, item.Name+", later"
			made[handle] = &like
		}
		if later.Note != "" {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("%s: %s", item.Name, later.Note))
		}
	}
	if len(plan.LeftOut) == len(entries) && len(entries) > 0 {
		return plan, fmt.Errorf("cannot delay %q: %w", plan.LeftOut[0].Name, plan.LeftOut[0].Err)
	}
	err := d.finish(&plan)
	plan.sortOutcomes()
	return plan, err
}

// later asks the entry's switch.
func (e *Engine) later(d *draft, item *location.Item, by time.Duration, now time.Time) (location.Later, error) {
	delayer := item.Can.Delay
	switch {
	case delayer == nil:
		return location.Later{}, fmt.Errorf("%w: the system has no way to start it later",
			location.ErrNoDelay)
	case item.State != autostart.Enabled:
		return location.Later{}, fmt.Errorf("%w: it is disabled", location.ErrNoDelay)
	case item.Guarded != "":
		return location.Later{}, fmt.Errorf("%w: it is protected: %s", location.ErrNoDelay, item.Guarded)
	}
	invoked := *item
	invoked.Program, invoked.Rest = inventory.Invocation(e.Machine, item)
	return delayer.Delay(e.Machine.Reader(nil), d, &invoked, by, now)
}
