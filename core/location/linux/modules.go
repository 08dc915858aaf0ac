package linux

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
)

// describeModule makes the item of a line that loads a kernel module: its name, and what the
// module is known. Of modules-load.d(5) only the name counts.
func describeModule(_ *location.Survey, f location.Found, line string) *location.Item {
	name, _, _ := strings.Cut(line, " ")
	item := &location.Item{Entry: autostart.Entry{Name: name, Command: line}}
	if strings.HasPrefix(f.Path, "/etc/initramfs-tools/") {
		item.Mode = "from the initial ramdisk"
	}
	return item
}

// moduleKey is what a line is known by: the kernel takes - and _ in a module's name for the same.
func moduleKey(line string) string { return strings.ReplaceAll(line, "-", "_") }
