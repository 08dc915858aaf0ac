package starts

import (
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// maxProcesses bounds the memory for the list of processes, in bytes.
const maxProcesses = 64 << 20

// startedAt is when the service control manager was started. After a fast startup it is the one of before, and so are
// the services: that was no restart. The list of processes tells it to everyone; opening the process would need rights.
func startedAt() (time.Time, bool) {
	for size := uint32(1 << 20); size <= maxProcesses; size *= 2 {
		list := make([]byte, size)
		var needed uint32
		err := windows.NtQuerySystemInformation(windows.SystemProcessInformation, unsafe.Pointer(&list[0]), size,
			&needed)
		if err == windows.STATUS_INFO_LENGTH_MISMATCH {
			continue
		}
		if err != nil {
			return time.Time{}, false
		}
		for at := uint32(0); uintptr(at)+unsafe.Sizeof(windows.SYSTEM_PROCESS_INFORMATION{}) <= uintptr(size); {
			p := (*windows.SYSTEM_PROCESS_INFORMATION)(unsafe.Pointer(&list[at]))
			if strings.EqualFold(p.ImageName.String(), "services.exe") && p.CreateTime > 0 {
				created := windows.Filetime{LowDateTime: uint32(p.CreateTime), HighDateTime: uint32(p.CreateTime >> 32)}
				return time.Unix(0, created.Nanoseconds()).UTC(), true
			}
			if p.NextEntryOffset == 0 {
				break
			}
			at += p.NextEntryOffset
		}
		return time.Time{}, false
	}
	return time.Time{}, false
}
