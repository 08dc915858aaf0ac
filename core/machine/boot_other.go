//go:build !linux && !darwin

package machine

// runningBoot is empty: Windows has no id of its start, and after a fast startup its services are those of before.
func runningBoot() string { return "" }
