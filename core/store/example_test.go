package store_test

import (
	"fmt"
	"log"
	"os"
	"path/filepath"
	"time"

	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
)

func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	record, err := store.Open(filepath.Join(dir, "record.db"), store.Write)
	if err != nil {
		log.Fatal(err)
	}
	defer record.Close()
	box := &machine.Machine{ID: "00112233", Name: "workshop-box", OS: "linux"}
	err = record.Update(func(tx change.Tx) error {
		if err := tx.AddMachine(box); err != nil {
			return err
		}
		snap, err := snapshot.Capture(inventory.Inventory{Machine: box}, time.Now(), "as found", tx.Keeper())
		if err != nil {
			return err
		}
		return tx.AddSnapshot(snap)
	})
	if err != nil {
		log.Fatal(err)
	}
	snaps, err := record.Snapshots(box.ID)
	for _, s := range snaps {
		fmt.Println(s.Name(), s.Message, err)
	}
	// Output: S1 as found <nil>
}
