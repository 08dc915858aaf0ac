//go:build !linux && !windows

package starts

import (
	"time"

	"github.com/shirou/gopsutil/v4/host"
)

// startedAt is when the running system was started, as its kernel has it.
func startedAt() (time.Time, bool) {
	at, err := host.BootTime()
	return time.Unix(int64(at), 0).UTC(), err == nil && at > 0
}
