package change

import (
	"fmt"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
)

// WithTaken adds to an inventory the entries that changes took away and that
// nothing put back since: what was switched off stays in the list, even where
// the way of switching it off left nothing behind on the machine.
func WithTaken(inv inventory.Inventory, st *store.Store) (inventory.Inventory, error) {
	if st == nil {
		return inv, nil
	}
	removals, err := st.Removals(inv.Machine.ID)
	if err != nil {
		return inv, err
	}
	here := map[string]bool{}
	for _, item := range inv.Items {
		here[item.Handle] = true
	}
	recorded := map[int][]snapshot.Recorded{} // snapshots that were looked into
	for _, r := range removals {
		for _, handle := range r.Handles {
			if here[handle] {
				continue
			}
			here[handle] = true
			if recorded[r.Snapshot] == nil {
				snap, err := st.Snapshot(r.Snapshot)
				if err != nil {
					return inv, err
				}
				if recorded[r.Snapshot], err = snap.Entries(); err != nil {
					return inv, err
				}
			}
			if item := takenItem(inv.Machine, recorded[r.Snapshot], r, handle); item != nil {
				inv.Items = append(inv.Items, item)
			}
		}
	}
	inv.Sort()
	return inv, nil
}

// takenItem makes the item of an entry that a change took away; nil where that
// is not what became of it.
func takenItem(m *machine.Machine, entries []snapshot.Recorded, r store.Removal, handle string) *location.Item {
	for _, rec := range entries {
		if rec.Handle != handle {
			continue
		}
		switch rec.Switch {
		case autostart.Park:
			// What was cut out of a file leaves the file.
			if now, err := m.Image(r.Artifact); err != nil || r.Whole && now.Kind != machine.Absent {
				return nil
			}
		case autostart.Trim:
		default:
			return nil // its program was removed since
		}
		item := &location.Item{Entry: rec.Entry, Effect: location.AtNextStart, Artifacts: func() []machine.Artifact { return rec.Artifacts }}
		item.State = autostart.Disabled
		item.Mode = "taken away"
		item.Switcher = location.NoSwitch{Why: fmt.Sprintf("its place was changed since; lockback restore S%d --only %s brings it back", r.Snapshot, handle)}
		item.Facts = func() []location.Fact {
			return []location.Fact{{Name: "taken away by", Value: fmt.Sprintf("C%d, recorded in S%d", r.Change, r.Snapshot), Basis: "the record"}}
		}
		return item
	}
	return nil
}
