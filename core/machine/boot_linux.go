package machine

import (
	"os"
	"strings"
)

// runningBoot is the kernel's id of its start, random(4).
func runningBoot() string {
	id, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(id))
}
