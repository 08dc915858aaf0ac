// Package inventory reads everything that starts by itself on a machine: the
// locations of its operating system, each entry identified, in the fixed order
// of all outputs.
//
//	inv := inventory.Take(m, nil)
//	for _, item := range inv.Items { ... }
package inventory

import (
	"slices"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/cost"
	"lockback/core/identify"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/parallel"
	"lockback/core/program"
	"lockback/core/use"
)

// notLookedAt are the kinds of places of each operating system that are known and that nothing reads. There is
// none now; one that is learned of stands here, made by [location.NotLookedAt], until it has a row.
var notLookedAt = map[string][]location.Location{}

// Inventory is what was found on one machine.
type Inventory struct {
	Machine   *machine.Machine
	Items     []*location.Item
	Unread    []autostart.Unread
	Locations []location.Report
	// NotLookedAt are the kinds of places that nothing reads yet.
	NotLookedAt []location.Location
}

// Take reads all locations of the machine. What could not be read stands in
// Unread; reading goes on. What was found of programs before is taken from the memory, which may
// be nil. Catalogues of the technician's own come before the one that is part of the program.
func Take(m *machine.Machine, memory *program.Memory, own ...*catalogue.Catalogue) Inventory {
	reader := m.Reader(nil)
	identify.Prepare(m.OS)
	items, unread, reports := location.Run(reader, table.Of(m.OS))
	identify.Annotate(reader, memory, items, own...)
	if m.Registry != nil {
		for hive, err := range m.Registry.Stale() {
			unread = append(unread, autostart.Unread{Location: m.OS, Path: hive, Reason: err.Error() +
				"; what it says may be out of date"})
		}
	}
	if file, err := m.Accounts(); err != nil {
		unread = append(unread, autostart.Unread{Location: m.OS, Path: file, Reason: machine.Reason(err) +
			"; users' own entries are not listed"})
	}
	for _, h := range m.MissingHomes() {
		unread = append(unread, autostart.Unread{Location: m.OS, Path: autostart.Text(h.Path),
			Reason: autostart.Text(h.Reason)})
	}
	inv := Inventory{Machine: m, Items: items, Unread: unread, Locations: reports, NotLookedAt: notLookedAt[m.OS]}
	inv.Sort()
	return inv
}

// Measure adds to the entries what their programs cost, and when persons last started them by
// hand: what changes from one minute to the next, and is in no snapshot.
func (inv Inventory) Measure() {
	costs := cost.Read(inv.Machine)
	uses := use.Read(inv.Machine.Reader(nil))
	parallel.Each(len(inv.Items), func(k int) {
		item := inv.Items[k]
		unit := ""
		switch {
		case item.Kind() == location.SystemUnit:
			unit = item.SystemName
		case item.Kind() == location.UserUnit && item.For != nil:
			unit = cost.UserUnit(item.For.UID, item.SystemName)
		case item.Kind() == location.UserUnit:
			unit = cost.UserUnit(-1, item.SystemName)
		case item.Kind() == location.Service:
			unit = cost.ServiceUnit(item.SystemName)
		}
		item.Cost = costs.Of(item.Target.Path, unit)
		item.Uses = uses.Of(item.Target.Path, item.User)
	})
}

// Announce tells the daemons of a running machine that files were changed which they read, and
// returns warnings where that could not be done.
func Announce(m *machine.Machine, files []string) []string {
	if !m.Live {
		return nil
	}
	return m.Announce(location.Daemons(m.Users, table.Of(m.OS), files))
}

// Sort puts the items in the order of all outputs.
func (inv Inventory) Sort() {
	slices.SortFunc(inv.Items, func(a, b *location.Item) int { return autostart.Compare(&a.Entry, &b.Entry) })
}

// Entries are the items without what only their location knows of them.
func (inv Inventory) Entries() []*autostart.Entry {
	entries := make([]*autostart.Entry, len(inv.Items))
	for k, item := range inv.Items {
		entries[k] = &item.Entry
	}
	return entries
}

// Effect is when a change of a location's entries counts; empty if the machine has no such
// location.
func (inv Inventory) Effect(id string) location.Effect {
	for _, l := range inv.Locations {
		if l.ID == id {
			return l.Effect
		}
	}
	return location.UnknownEffect
}

// ByHandle finds the items by their handles; of several with the same one, the first counts.
func (inv Inventory) ByHandle() map[string]*location.Item {
	items := make(map[string]*location.Item, len(inv.Items))
	for _, item := range inv.Items {
		if _, taken := items[item.Handle]; !taken {
			items[item.Handle] = item
		}
	}
	return items
}
