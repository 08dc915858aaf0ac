package work

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/note"
)

// maxSiblings is how many other entries of a maker are named.
const maxSiblings = 4

// Describe adds facts to items whose program nothing describes: since when it is there and what brought it, what else
// its maker has on the machine, and on which other machines the record saw it. A record that cannot be read is warned
// of, and the rest is told.
func (s *Session) Describe(inv inventory.Inventory, items []*location.Item) {
	for _, item := range items {
		if !Undescribed(item) {
			continue
		}
		var facts []location.Fact
		add := func(kind autostart.FactKind, value, basis string) {
			if value != "" {
				facts = append(facts, location.Fact{Kind: kind, Value: value, Basis: basis})
			}
		}
		since, basis := sinceOf(item)
		add(autostart.FactSince, since, basis)
		add(autostart.FactSiblings, siblings(inv, item), "the entries of this machine")
		add(autostart.FactSeenOn, s.seenOn(inv, item), "the record")
		item.AddFacts(func() []location.Fact { return facts })
	}
}

// Undescribed reports whether nothing says what an item's program does.
func Undescribed(item *location.Item) bool {
	return item.Entry.Facts().Description == "" && !item.OSPart &&
		(item.Facts == nil || !slices.ContainsFunc(item.Facts(),
			func(f location.Fact) bool { return f.Kind == autostart.FactDescription }))
}

// sinceOf is the day since which an item's program is there, as far as anything tells it.
func sinceOf(item *location.Item) (day, basis string) {
	known := item.Entry.Facts()
	with := strings.TrimSpace(known.Product.Name + " " + known.Product.Version)
	if installed := known.Product.Installed; len(installed) >= len(time.DateOnly) {
		return installed[:len(time.DateOnly)] + ", installed with " + cmp.Or(with, "its product"),
			"what the installer noted"
	}
	if modified := autostart.Day(item.Target.Modified); modified != "" {
		if with != "" {
			with = ", part of " + with
		}
		return modified + with, "the date of its file, which anybody can set"
	}
	return "", ""
}

// siblings names the other entries of the machine that the same maker has.
func siblings(inv inventory.Inventory, item *location.Item) string {
	maker := item.Maker().Name
	if maker == "" {
		return ""
	}
	var names []string
	more := 0
	for _, other := range inv.Items {
		if other == item || other.Hidden() || !strings.EqualFold(other.Maker().Name, maker) ||
			slices.Contains(names, other.Name) {
			continue
		}
		if len(names) < maxSiblings {
			names = append(names, other.Name)
		} else {
			more++
		}
	}
	switch {
	case len(names) == 0:
		return "nothing else of " + maker + " starts here"
	case more > 0:
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}

// seenOn says on how many other machines the record has the item's program.
func (s *Session) seenOn(inv inventory.Inventory, item *location.Item) string {
	p, ok := note.ProgramOf(inv.Machine.OS, &item.Entry)
	if !ok || s.Record == nil {
		return ""
	}
	seen, err := s.Record.Seen(p.Key(), inv.Machine.ID)
	if err != nil {
		s.desk.warn("lockback: the record does not say where else this program is: %v", err)
		return ""
	}
	kept := 0
	for _, g := range seen {
		if g.On > 0 {
			kept++
		}
	}
	if len(seen) == 0 {
		return "not on any other machine in the record"
	}
	return fmt.Sprintf("%s, on at %d of them", autostart.Count(len(seen), "other machine", "other machines"), kept)
}
