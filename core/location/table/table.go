// Package table has the tables of all systems: who knows the id of a location finds its row here, and asks that.
//
//	if table.Kind(entry).IsUnit() {
//		// a unit of systemd
//	}
package table

import (
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/linux"
	"lockback/core/location/macos"
	"lockback/core/location/windows"
)

// tables are the locations that are read on each system.
var tables = map[string]func() []location.Location{
	"linux":   linux.Locations,
	"windows": windows.Locations,
	"macos":   macos.Locations,
}

// Of returns the table of a system; nil if there is none. It is made again each time.
func Of(system string) []location.Location {
	if rows := tables[system]; rows != nil {
		return rows()
	}
	return nil
}

// rows are those of each system by their ids, made when somebody first asks for one.
var rows = map[string]func() map[string]*location.Location{
	"linux":   sync.OnceValue(func() map[string]*location.Location { return byID("linux") }),
	"windows": sync.OnceValue(func() map[string]*location.Location { return byID("windows") }),
	"macos":   sync.OnceValue(func() map[string]*location.Location { return byID("macos") }),
}

func byID(system string) map[string]*location.Location {
	all := map[string]*location.Location{}
	for _, row := range Of(system) {
		all[row.ID] = &row
	}
	return all
}

// Row returns the row of a location by its id; an empty row where no table has it, as of an entry that another version
// recorded.
func Row(id string) *location.Location {
	system, _, _ := strings.Cut(id, ".")
	if list := rows[system]; list != nil {
		if row := list()[id]; row != nil {
			return row
		}
	}
	return &location.Location{}
}

// Kind is the kind of an entry's location.
func Kind(e *autostart.Entry) location.Kind { return Row(e.Location).Kind }

// OfKind is the row of a system with a kind of which it has one; an empty row where it has none.
func OfKind(system string, kind location.Kind) *location.Location {
	if list := rows[system]; list != nil {
		for _, row := range list() {
			if row.Kind == kind {
				return row
			}
		}
	}
	return &location.Location{}
}
