package bench

import (
	"testing"

	"lockback/core/inventory"
	"lockback/core/machine"
)

func BenchmarkInventory(b *testing.B) {
	root := b.TempDir()
	if err := Build(root, Large); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		m, err := machine.Open(root)
		if err != nil {
			b.Fatal(err)
		}
		if inv := inventory.Take(m); len(inv.Items) < 4000 {
			b.Fatal(len(inv.Items))
		}
		m.Close()
	}
}
