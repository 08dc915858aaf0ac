//go:build unix

package change_test

import (
	"fmt"
	"log"
	"os"
	"path/filepath"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/store"
)

// A line of a crontab is turned off, and the change is taken back.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	root, table := filepath.Join(dir, "root"), "etc/crontab"
	for name, content := range map[string]string{"etc/os-release": "",
		"etc/machine-id": "00112233445566778899aabbccddeeff\n", table: "@daily root /opt/tide\n"} {
		os.MkdirAll(filepath.Join(root, "etc"), 0o755)
		if err := os.WriteFile(filepath.Join(root, name), []byte(content), 0o644); err != nil {
			log.Fatal(err)
		}
	}
	show := func() {
		content, err := os.ReadFile(filepath.Join(root, table))
		fmt.Printf("%s%v\n", content, err)
	}
	m, err := machine.Open(root)
	if err != nil {
		log.Fatal(err)
	}
	defer m.Close()
	record, err := store.Open(filepath.Join(dir, "record.db"), store.Write)
	if err != nil {
		log.Fatal(err)
	}
	defer record.Close()

	e := &change.Engine{Machine: m, Record: record}
	inv := inventory.Take(m, nil)
	plan, err := e.Switch(inv.Items, location.Want{State: autostart.Disabled})
	if err != nil {
		log.Fatal(err)
	}
	result, err := e.Apply(plan, inv, "before the holidays")
	if err != nil {
		log.Fatal(err)
	}
	show()
	done, err := record.Change(result.Change.ID)
	if err != nil {
		log.Fatal(err)
	}
	back, err := e.Undo(done)
	if err != nil {
		log.Fatal(err)
	}
	if _, err := e.Apply(back, inventory.Take(m, nil), ""); err != nil {
		log.Fatal(err)
	}
	show()
	// Output:
	// #lockback:off @daily root /opt/tide
	// <nil>
	// @daily root /opt/tide
	// <nil>
}
