package linux

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
)

// ramdiskWhy is why nothing of an initial ramdisk has a switch.
const ramdiskWhy = "it takes effect once the initial ramdisk is rebuilt, and a mistake there keeps the machine " +
	"from starting"

// ramdiskName is the rule for scripts and hooks, initramfs-tools(7).
var ramdiskName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-zA-Z0-9._-]+$`) })

func ramdiskAccepts(_ *location.Survey, name string) bool {
	return ramdiskName().MatchString(name) && !strings.Contains(name, ".dpkg-") && name != "ORDER"
}

// ramdiskFolders are those of initramfs-tools in /etc, or in /usr/share where packages put theirs.
func ramdiskFolders(root string) []string {
	return []string{root + "/initramfs-tools/hooks", root + "/initramfs-tools/scripts/*"}
}

// ramdiskTime is when what is in a folder runs.
func ramdiskTime(dir string) string {
	if strings.HasSuffix(dir, "/hooks") {
		return "when the initial ramdisk is made"
	}
	return "before the system itself starts"
}

// ramdiskReadings are the settings of the other two makers of ramdisks, dracut.conf(5) and mkinitcpio.conf(5).
func ramdiskReadings() []location.Reading {
	report := func(form location.Form) location.Form { return location.Reporting{Form: form, Why: ramdiskWhy} }
	dracut := program{title: "dracut", files: []string{"dracut"}}
	mkinitcpio := program{title: "mkinitcpio", files: []string{"mkinitcpio"}}
	return []location.Reading{
		{Places: location.Packaged(location.In(ramdiskFolders("/usr/share")...), ramdiskFolders("/usr/share")...),
			Form: report(unix.Executables{Accepts: ramdiskAccepts, When: ramdiskTime})},
		{Places: slices.Concat(location.At("/etc/dracut.conf"), withSuffix(".conf", "/etc/dracut.conf.d",
			"/usr/lib/dracut/dracut.conf.d")),
			Form:   report(unix.Lines{Comments: "#", Describe: describeDracut}),
			Runner: location.Runner{Off: dracut.off}},
		{Places: slices.Concat(location.At("/etc/mkinitcpio.conf"), withSuffix(".conf", "/etc/mkinitcpio.conf.d")),
			Form:   report(unix.Lines{Comments: "#", Describe: describeMkinitcpio}),
			Runner: location.Runner{Off: mkinitcpio.off}},
		{Places: location.In("/etc/initcpio/hooks"),
			Form:   report(unix.WholeFiles{Adjust: atLoad("before the system itself starts")}),
			Runner: location.Runner{Off: mkinitcpio.off}},
		{Places: location.In("/etc/initcpio/install"),
			Form:   report(unix.WholeFiles{Adjust: atLoad("when the initial ramdisk is made")}),
			Runner: location.Runner{Off: mkinitcpio.off}},
	}
}

// describeDracut makes the item of a line that puts something into the ramdisk.
func describeDracut(_ *location.Survey, _ location.Found, line string) *location.Item {
	for _, key := range []string{"add_dracutmodules", "dracutmodules", "force_add_dracutmodules", "add_drivers",
		"force_drivers", "drivers", "install_items", "install_optional_items"} {
		if rest, ok := strings.CutPrefix(line, key); ok && (strings.HasPrefix(rest, "+=") ||
			strings.HasPrefix(rest, "=")) {
			value := strings.Trim(strings.TrimLeft(rest, "+="), `"' `)
			if value == "" {
				return nil
			}
			return &location.Item{Entry: autostart.Entry{Name: value, Command: line,
				When: "before the system itself starts"}}
		}
	}
	return nil
}

// describeMkinitcpio makes the item of a line that puts modules or files into the ramdisk. The hooks that every
// machine has stand in a line of their own, and are no finding.
func describeMkinitcpio(_ *location.Survey, _ location.Found, line string) *location.Item {
	key, value, ok := strings.Cut(line, "=")
	value = strings.Trim(value, `()"' `)
	if !ok || value == "" || !slices.Contains([]string{"MODULES", "BINARIES", "FILES", "HOOKS"},
		strings.TrimSuffix(strings.TrimSpace(key), "+")) {
		return nil
	}
	return &location.Item{Entry: autostart.Entry{Name: strings.TrimSpace(key), Command: line,
		When: "before the system itself starts"}}
}
