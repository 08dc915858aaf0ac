package starts

import (
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// startedAt is when the running system was started: its first process. In a container that is the container's start,
// where the kernel's own time would be that of the machine around it.
func startedAt() (time.Time, bool) {
	first, err := process.NewProcess(1)
	if err != nil {
		return time.Time{}, false
	}
	ms, err := first.CreateTime()
	return time.UnixMilli(ms).UTC(), err == nil && ms > 0
}
