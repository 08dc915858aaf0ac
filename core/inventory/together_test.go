package inventory_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/location/table"
)

// What needs each other is one group; what only lies beside each other is not.
func TestTogether(t *testing.T) {
	entry := func(location_, name, program, command, product, role string) *location.Item {
		e := autostart.Entry{Location: location_, Name: name, SystemName: name, Command: command,
			Target: autostart.Target{Path: program}, Stage: autostart.SignIn}
		e.Known = &autostart.Known{Product: autostart.Product{Name: product}, Role: role}
		return &location.Item{Entry: e, Row: table.Row(location_)}
	}
	groups := func(system string, items ...*location.Item) string {
		var all []string
		for _, g := range inventory.Together(system, items) {
			var names []string
			for _, item := range g {
				names = append(names, item.Name)
			}
			all = append(all, strings.Join(names, "+"))
		}
		return strings.Join(all, " ")
	}
	unit := "linux.systemd.system"
	require.Equal(t, "a.service+a.timer b.service+b.socket c.service d.timer", groups("linux",
		entry(unit, "a.service", "/a", "/a", "", ""), entry(unit, "b.service", "/b", "/b", "", ""),
		entry(unit, "c.service", "/c", "/c", "", ""),
		entry(unit, "a.timer", "", "", "", ""), entry(unit, "b.socket", "", "", "", ""), entry(unit, "d.timer", "", "",
			"", "")))
	require.Equal(t, "a.service a.timer", groups("linux", entry(unit, "a.service", "", "", "", ""),
		entry("linux.systemd.user", "a.timer", "", "", "", "")), "of the system, and of users")
	require.Equal(t, "tray+line other shell1 shell2", groups("linux", entry("x", "tray", "/o/p", "/o/p --x", "", ""),
		entry("y", "line", "/o/p", "/o/p --x", "", ""), entry("y", "other", "/o/p", "/o/p --y", "", ""),
		entry("y", "shell1", "/bin/sh", "sh", "", ""), entry("y", "shell2", "/bin/sh", "sh", "", "")),
		"one program in one way; a shell is nobody's")
	require.Equal(t, "app+agent another", groups("macos", entry("m", "app", "/Applications/A.app/Contents/MacOS/A", "1",
		"", ""), entry("m", "agent", "/Applications/A.app/Contents/Library/LoginItems/H.app/Contents/MacOS/H", "2", "",
		""),
		entry("m", "another", "/Applications/B.app/Contents/MacOS/B", "3", "", "")))
	require.Equal(t, "app+help lone1 lone2", groups("windows", entry("w", "app", "a", "1", "Fogbell", "sync"),
		entry("w", "help", "b", "2", "Fogbell", "helper"), entry("w", "lone1", "c", "3", "Kelpline", "updater"),
		entry("w", "lone2", "d", "4", "Kelpline", "")))
	class := func(location_, name, id string) *location.Item {
		item := entry(location_, name, "/x/"+name, name, "", "")
		item.Stage, item.Source.Key = autostart.Attach, id
		return item
	}
	require.Equal(t, "menu+overlay other value", groups("windows", class("windows.shell-extensions", "menu", "{5A17}"),
		class("windows.explorer", "overlay", "{5a17}"), class("windows.explorer", "other", "{5A18}"),
		class("windows.run", "value", "{5A17}")), "Explorer loads all extensions of a class, or none")
}
