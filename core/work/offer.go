package work

import (
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
)

// Offer reads the machine for a person who is typing: no program is looked at but what the record remembers. The
// parts of the operating system are left out; those that nothing is remembered of are told by their folder.
func (s *Session) Offer() inventory.Inventory {
	s.Memory.Only = true
	inv := s.Inventory()
	inv.Items = slices.DeleteFunc(inv.Items, func(item *location.Item) bool {
		return item.Hidden() || s.Memory.Lacks(item.Source.Path) && ofTheSystem(s.Machine.OS, item.Source.Path) ||
			s.Memory.Lacks(item.Target.Path) && ofTheSystem(s.Machine.OS, item.Target.Path)
	})
	return inv
}

// systemFolders are where an operating system, and little else, keeps what it starts.
var systemFolders = map[string][]string{
	"linux":   {"/usr/lib/", "/usr/libexec/", "/usr/bin/", "/usr/sbin/", "/usr/share/", "/lib/", "/bin/", "/sbin/"},
	"macos":   {"/system/", "/usr/libexec/", "/usr/sbin/", "/usr/bin/", "/bin/", "/sbin/"},
	"windows": {`c:\windows\`},
}

func ofTheSystem(system, file string) bool {
	return slices.ContainsFunc(systemFolders[system], func(folder string) bool {
		return strings.HasPrefix(strings.ToLower(file), folder)
	})
}

// OfferFor leaves out of what is offered what a command would refuse: one that turns entries off takes those that are
// on and that it can turn off, and the other way round.
func OfferFor(command string, items []*location.Item, guarded bool) []*location.Item {
	return slices.DeleteFunc(items, func(item *location.Item) bool {
		on, fixed := item.State == autostart.Enabled, item.Switch == autostart.Report
		protected := item.Guarded != "" && !guarded
		switch command {
		case "disable", "delay":
			return !on || fixed || protected
		case "remove":
			return fixed || protected
		case "enable":
			return on || fixed
		}
		return false
	})
}
