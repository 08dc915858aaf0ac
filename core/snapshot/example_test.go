package snapshot_test

import (
	"fmt"
	"log"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// Two captures of one entry, which was turned off in between.
func ExampleCompare() {
	capture := func(state autostart.State) *snapshot.Snapshot {
		item := &location.Item{Entry: autostart.Entry{Handle: "k7f3qa2", Name: "Fogbell Sync", State: state},
			Artifacts: func() []artifact.Artifact { return nil }}
		inv := inventory.Inventory{Machine: &machine.Machine{ID: "workshop-box"}, Items: []*location.Item{item}}
		snap, err := snapshot.Capture(inv, time.Now(), "as found", snapshot.Keeper{})
		if err != nil {
			log.Fatal(err)
		}
		return snap
	}
	diff, err := snapshot.Compare(capture(autostart.Enabled), capture(autostart.Disabled))
	if err != nil {
		log.Fatal(err)
	}
	for _, c := range diff.Changed {
		for _, f := range c.Fields {
			fmt.Printf("%s: %s was %s and is %s\n", c.Name, f.Field, f.From, f.To)
		}
	}
	// Output: Fogbell Sync: state was enabled and is disabled
}
