package change

import (
	"cmp"
	"fmt"
	"sync"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/location/table"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// WithTaken adds to an inventory the entries that changes took away and that
// nothing put back since: what was turned off stays in the list, even where
// the way of switching it off left nothing behind on the machine.
func WithTaken(inv inventory.Inventory, st Record) (inventory.Inventory, error) {
	if st == nil {
		return inv, nil
	}
	// Most machines have no removals, and a large one many entries.
	inventoried := sync.OnceValue(func() map[string]bool {
		here := make(map[string]bool, len(inv.Items))
		for _, item := range inv.Items {
			here[item.Handle] = true
		}
		return here
	})
	// The newest removal of each entry that is not there counts.
	type lost struct {
		Removal
		handle string
	}
	var gone []lost
	forGood := map[string]bool{}        // removed, and nothing brought it back since
	wanted := map[int]map[string]bool{} // by snapshot
	if err := st.Removals(inv.Machine.ID, func(r Removal) error {
		here := inventoried()
		for _, handle := range r.Handles {
			forGood[handle] = false // looked up below
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
		return nil
	}); err != nil {
		return inv, err
	}
	if len(forGood) > 0 {
		decisions, err := st.Decisions(inv.Machine.ID)
		if err != nil {
			return inv, err
		}
		for handle := range forGood {
			forGood[handle] = decisions[handle].State == Removed
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
	images := map[int]func() (*snapshot.Images, error){} // by snapshot, for those who ask
	for _, l := range gone {
		if images[l.Snapshot] == nil {
			images[l.Snapshot] = sync.OnceValues(func() (*snapshot.Images, error) {
				snap, err := st.Snapshot(l.Snapshot)
				if err != nil {
					return nil, err
				}
				return snap.Images()
			})
		}
		if rec, ok := recorded[l.Snapshot][l.handle]; ok {
			if item := takenItem(inv, images[l.Snapshot], rec, l.Removal, forGood[l.handle]); item != nil {
				inv.Items = append(inv.Items, item)
			}
		}
	}
	inv.Sort()
	return inv, nil
}

// isRemoved reports whether an entry is, or was when it was recorded, one that only the record shows.
func isRemoved(e *autostart.Entry) bool { return e.Mode == autostart.KeptInRecord }

// takenItem makes the item of an entry that a change took away; nil if that
// is not what became of it.
func takenItem(inv inventory.Inventory, images func() (*snapshot.Images, error), rec *snapshot.Recorded, r Removal,
	forGood bool) *location.Item {
	if !rec.Removes && !forGood {
		return nil // its program was removed since
	}
	// What was cut out of an artifact leaves that.
	if now, err := inv.Machine.Image(r.Artifact); rec.Part == nil && (err != nil || r.Whole &&
		now.Kind != artifact.Absent) {
		return nil
	}
	item := &location.Item{Entry: rec.Entry, Row: table.Row(rec.Location), Effect: cmp.Or(inv.Effect(rec.Location),
		location.AtNextStart), Artifacts: func() []artifact.Artifact { return rec.Artifacts }}
	item.State = autostart.Disabled
	item.Mode = autostart.KeptInRecord
	item.Switcher = removed{rec, r.Snapshot, images}
	item.Switch = item.Switcher.Word()
	item.Can = location.Capabilities(item.Switcher)
	item.Facts = func() []location.Fact {
		return []location.Fact{{Name: "removed by", Value: fmt.Sprintf("C%d, recorded in S%d", r.Change, r.Snapshot),
			Basis: "the record"}}
	}
	return item
}

// removed is the switch of an entry that a change took away: only the record brings it back.
type removed struct {
	*snapshot.Recorded
	snapshot int // that has it
	images   func() (*snapshot.Images, error)
}

// Word is the one of the switch that took it away. What has none was removed without being turned off, as what is
// written in a file is.
func (r removed) Word() autostart.Switch {
	if r.Switch == autostart.Report {
		return autostart.Park
	}
	return r.Switch
}

// Removes is true.
func (removed) Removes() bool { return true }

// Part is the one that was taken away.
func (r removed) Part() part.Part { return r.Recorded.Part }

// Plan puts the entry's part back among what its artifact holds by now. It fails with
// [location.ErrNoSwitch] where the whole artifact was the entry's.
func (r removed) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	own := r.Recorded.Part
	switch {
	case want.State != autostart.Enabled:
		return nil, nil
	case own == nil:
		return nil, fmt.Errorf("%w: its place was changed since; lockback restore S%d --only %s brings it back",
			location.ErrNoSwitch, r.snapshot, r.Handle)
	}
	recorded, err := r.images()
	if err != nil {
		return nil, err
	}
	earlier, ok, err := recorded.Image(own.In())
	if err != nil || !ok {
		return nil, fmt.Errorf("%w: S%d does not have %s: %w", location.ErrNoSwitch, r.snapshot, own.In(), err)
	}
	now, err := images.Image(own.In())
	if err != nil {
		return nil, err
	}
	image, err := own.Carry(images, now, earlier, want.Now)
	return []location.Edit{{Artifact: own.In(), Image: image}}, err
}
