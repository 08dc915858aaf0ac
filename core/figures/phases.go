package figures

// phases are the parts of a start by the moments that systemd keeps of it, in microseconds: those
// of the firmware and the boot loader count back from the kernel's beginning, the others on from
// it. Without the end of it, the start is not over.
func phases(firmware, loader, initrd, userspace, finish uint64) []Figure {
	if finish == 0 || userspace > finish {
		return nil
	}
	var all []Figure
	total := uint64(0)
	add := func(name string, us uint64) {
		if us > 0 {
			total += us
			all = append(all, Figure{name, int64(us / 1000), Milliseconds, "systemd"})
		}
	}
	if firmware > loader {
		add("start-firmware", firmware-loader)
	}
	add("start-loader", loader)
	if initrd > 0 && initrd <= userspace {
		add("start-kernel", initrd)
		add("start-initrd", userspace-initrd)
	} else {
		add("start-kernel", userspace)
	}
	add("start-userspace", finish-userspace)
	return append(all, Figure{"start", int64(total / 1000), Milliseconds, "systemd"})
}
