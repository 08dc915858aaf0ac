package linux

import (
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
)

// kernelArgsPlaces are the files that give the kernel its arguments: what boot loaders read, and what those are made
// from.
var kernelArgsPlaces = location.At("/etc/default/grub", "/etc/default/grub.d/*.cfg", "/etc/kernel/cmdline",
	"/boot/grub/grub.cfg", "/boot/grub2/grub.cfg", "/boot/loader/entries/*.conf",
	"/boot/efi/loader/entries/*.conf", "/efi/loader/entries/*.conf", "/boot/extlinux/extlinux.conf")

// runningKernel stands for what the kernel that runs was given.
const runningKernel = "/proc/cmdline"

// starting are the arguments that have something started, kernel-command-line(7), systemd(1), modules-load.d(5),
// dracut.cmdline(7).
var starting = []string{"init", "rdinit", "systemd.run", "systemd.run_success_action", "systemd.run_failure_action",
	"systemd.wants", "systemd.unit", "systemd.debug_shell", "systemd.debug-shell", "modules_load", "modules-load",
	"rd.modules_load", "rd.modules-load",
	"rd.systemd.unit", "rd.systemd.wants", "rd.systemd.run", "rd.driver.pre", "rd.driver.post", "rd.break"}

// readKernelArgs reports the arguments that have something started. What the running kernel was given counts
// only where no file has it: somebody typed it in.
func readKernelArgs(s *location.Survey, places []location.Place) {
	inFiles := map[string]bool{}
	add := func(file, key, arg string, line int) {
		item := named(arg, arg, nil)
		item.State, item.Source, item.Artifacts = autostart.Enabled, autostart.Source{Path: file, Line: line},
			unix.Files(file)
		if key, value, _ := strings.Cut(arg, "="); path.IsAbs(value) && key != "rdinit" { // which lies in the ramdisk
			item.Argv = []string{value}
		}
		item.Switcher = location.NoSwitch{Why: "remove it in the settings of the boot loader; a mistake there " +
			"keeps the machine from starting"}
		switch {
		case file == runningKernel:
			item.Mode, item.Artifacts = "typed in at this start", unix.Files()
		case strings.HasPrefix(file, "/etc/default/grub") || file == "/etc/kernel/cmdline":
			item.Mode = "once the boot loader's menu is rebuilt"
		}
		s.Add(key+"\x00"+arg, item)
	}
	s.Each(places, func(f location.Found) {
		content, ok := s.File(f.Path)
		if !ok {
			return
		}
		number := 0
		for line := range strings.Lines(string(content)) {
			number++
			for _, arg := range kernelArgs(f.Path, strings.TrimSpace(line)) {
				if once := f.Path + "\x00" + arg; !inFiles[once] { // else of another kernel in the same menu
					inFiles[arg], inFiles[once] = true, true
					add(f.Path, f.Key, arg, number)
				}
			}
		}
	})
	for _, arg := range kernelArgs(runningKernel, s.Machine.KernelArguments()) {
		if !inFiles[arg] {
			add(runningKernel, runningKernel, arg, 1)
		}
	}
}

// kernelArgs are the arguments of a line that have something started.
func kernelArgs(file, line string) []string {
	text := ""
	word, rest := firstWord(line)
	switch {
	case strings.HasPrefix(file, "/etc/default/"):
		name, value, ok := strings.Cut(line, "=")
		if !ok || !strings.HasPrefix(name, "GRUB_CMDLINE_") {
			return nil
		}
		text = value
	case file == runningKernel || file == "/etc/kernel/cmdline":
		text = line
	case path.Base(file) == "grub.cfg" && strings.HasPrefix(word, "linux"), strings.HasSuffix(file, ".conf") &&
		(word == "options" || strings.EqualFold(word, "append")):
		text = rest
	}
	if strings.HasPrefix(line, "#") {
		return nil
	}
	var args []string
	for _, arg := range strings.Fields(strings.NewReplacer(`"`, " ", `'`, " ").Replace(text)) {
		key, value, _ := strings.Cut(arg, "=")
		for _, name := range starting {
			if key == name && !(key == "init" && (value == "/sbin/init" || value == "/usr/lib/systemd/systemd" ||
				value == "/lib/systemd/systemd")) {
				args = append(args, arg)
			}
		}
	}
	return args
}
