package work_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/work"
	"lockback/internal/testkit"
)

// What nothing describes gets since when it is there and what else its maker has; what has a description gets nothing.
func TestDescribe(t *testing.T) {
	m, err := machine.Open(testkit.WindowsDisk(t, nil, nil, nil, nil))
	require.NoError(t, err)
	defer m.Close()
	item := func(name, description, installed string, modified time.Time) *location.Item {
		return &location.Item{Entry: autostart.Entry{Name: name, Target: autostart.Target{Path: `C:\` + name,
			Modified: modified},
			Known: &autostart.Known{Maker: autostart.Maker{Name: "Fogbell Works"}, Description: description,
				Product: autostart.Product{Name: "Fogbell Suite", Version: "2", Installed: installed}}}}
	}
	day := time.Date(2026, 3, 14, 9, 0, 0, 0, time.UTC)
	unknown, dated, known := item("sync", "", "2026-03-13T08:00:00Z", day), item("notes", "", "", day),
		item("cam", "Shows.", "", day)
	alone := &location.Item{Entry: autostart.Entry{Name: "bell"}}
	items := []*location.Item{unknown, dated, known, alone}
	for k := range 5 {
		items = append(items, item(string(rune('a'+k)), "Rings.", "", day))
	}
	(&work.Session{}).Describe(inventory.Inventory{Machine: m, Items: items}, items[:4])

	require.Equal(t, []location.Fact{{Kind: autostart.FactSince, Value: "2026-03-13, installed with Fogbell Suite 2",
		Basis: "what the installer noted"}, {Kind: autostart.FactSiblings, Value: "notes, cam, a, b, and 3 more",
		Basis: "the entries of this machine"}}, unknown.Facts())
	require.Equal(t, "2026-03-14, part of Fogbell Suite 2", dated.Facts()[0].Value)
	require.Nil(t, known.Facts)
	require.Empty(t, alone.Facts())
}
