//go:build unix

package bench

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/note"
	"lockback/core/store"
	"lockback/internal/testkit"
)

// BenchmarkListWithNotes holds a list over the record of a shop, of 300 machines, against one over a record that knows
// nothing: with what a shop writes down in a year, and with far more.
func BenchmarkListWithNotes(b *testing.B) {
	for _, size := range []struct {
		name                   string
		notes, here, catalogue int
	}{{"year", 400, 40, 200}, {"notes", 400, 40, 0}, {"far-more", 2000, 400, 5000}} {
		b.Run(size.name, func(b *testing.B) { listWithNotes(b, size.notes, size.here, size.catalogue) })
	}
}

func listWithNotes(b *testing.B, all, here, known int) {
	root, dir := large(b, Large), b.TempDir()
	program := testkit.Built(b)
	bare, shop := filepath.Join(dir, "bare.db"), filepath.Join(dir, "shop.db")
	for _, path := range []string{bare, shop} {
		testkit.Program{Root: root, Store: path}.OK(b, "snapshot")
	}
	var l testkit.List
	testkit.Program{Root: root, Store: bare}.JSON(b, &l, "list")
	st, err := store.Open(shop, store.Write)
	require.NoError(b, err)
	var notes []note.Note
	programs := map[string]store.Sighting{}
	for _, e := range l.Entries {
		p, ok := note.ProgramOf("linux", &autostart.Entry{Location: e.Location, Name: e.Name,
			Target: autostart.Target{Path: e.Target.Path}})
		if !ok || programs[p.Key()].On > 0 {
			continue
		}
		programs[p.Key()] = store.Sighting{On: 1}
		if len(notes) < here {
			notes = append(notes, note.Note{Program: p, Name: e.Name, Verdict: "spare", Text: "nobody scans",
				By: "Tess", Time: time.Unix(1, 0)})
		}
	}
	for k := len(notes); k < all; k++ {
		notes = append(notes, note.Note{Program: note.Program{System: "linux", Package: fmt.Sprint("p", k), File: "x"},
			Name: "x", Text: "of another machine", Time: time.Unix(1, 0)})
	}
	require.NoError(b, st.KeepNotes(notes))
	for n := range 300 {
		m := &machine.Machine{ID: fmt.Sprintf("%032x", n), Name: fmt.Sprint("desk", n), OS: "linux"}
		require.NoError(b, st.Update(func(tx change.Tx) error { return tx.AddMachine(m) }))
		few := map[string]store.Sighting{}
		for key, s := range programs {
			if few[key] = s; len(few) == 60 {
				break
			}
		}
		require.NoError(b, st.SawNow(m.ID, time.Unix(int64(n), 0), few))
	}
	var entries []catalogue.Entry
	for k := range known {
		entries = append(entries, catalogue.Entry{ID: fmt.Sprint("e", k), Does: "Does something.", Role: "sync",
			Verdict: "useful", KnownBy: []catalogue.Mark{{Location: "linux.*", Package: fmt.Sprint("p", k),
				File: fmt.Sprint("f", k)}}})
	}
	if known > 0 {
		require.NoError(b, st.SetCatalogues([]store.Catalogue{{Name: "shop",
			Text: (&catalogue.Catalogue{Entries: entries}).Encode(), Time: time.Unix(1, 0)}}))
	}
	require.NoError(b, st.Close())
	sideBySide(b, func() (time.Duration, int64) {
		return timed(b, nil, program, "--root", root, "--store", shop,
			"list")
	},
		func() (time.Duration, int64) { return timed(b, nil, program, "--root", root, "--store", bare, "list") })
}
