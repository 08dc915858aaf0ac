package machine

import "golang.org/x/sys/unix"

// runningBoot is the id that XNU draws at each start (bsd/kern/kern_sysctl.c).
func runningBoot() string {
	id, _ := unix.Sysctl("kern.bootsessionuuid")
	return id
}
