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
	// The newest removal of each entry that is not there counts.
	type lost struct {
		store.Removal
		handle string
	}
	var gone []lost
	wanted := map[int]map[string]bool{} // by snapshot
	for _, r := range removals {
		for _, handle := range r.Handles {
			if here[handle] {
				continue
			}
			here[handle] = true
			gone = append(gone, lost{r, handle})
			if wanted[r.Snapshot] == nil {
				wanted[r.Snapshot] = map[string]bool{}
			}
			wanted[r.Snapshot][handle] = true
		}
	}
	recorded := map[int]map[string]*snapshot.Recorded{} // by snapshot and handle
	for id, handles := range wanted {
		snap, err := st.Snapshot(id)
		if err != nil {
			return inv, err
		}
		entries, err := snap.EntriesOf(handles)
		if err != nil {
			return inv, err
		}
		recorded[id] = map[string]*snapshot.Recorded{}
		for _, rec := range entries {
			recorded[id][rec.Handle] = rec
		}
	}
	for _, l := range gone {
		if rec, ok := recorded[l.Snapshot][l.handle]; ok {
			if item := takenItem(inv.Machine, rec, l.Removal); item != nil {
				inv.Items = append(inv.Items, item)
			}
		}
	}
	inv.Sort()
	return inv, nil
}

// takenItem makes the item of an entry that a change took away; nil where that
// is not what became of it.
func takenItem(m *machine.Machine, rec *snapshot.Recorded, r store.Removal) *location.Item {
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
	item.Switcher = location.NoSwitch{Why: fmt.Sprintf("its place was changed since; lockback restore S%d --only %s brings it back", r.Snapshot, rec.Handle)}
	item.Facts = func() []location.Fact {
		return []location.Fact{{Name: "taken away by", Value: fmt.Sprintf("C%d, recorded in S%d", r.Change, r.Snapshot), Basis: "the record"}}
	}
	return item
}
