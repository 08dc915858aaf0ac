package machine

import (
	"path"
	"strings"

	"lockback/core/format/journal"
)

// Mounted begins what [Machine.Boot] is of a disk.
const Mounted = "mounted:"

// LogFolder is where the machine's logs are kept that outlive a restart, systemd-journald.service(8); empty if its id
// cannot be a folder's name.
func (r *Reader) LogFolder() string {
	id := SystemID(r.ID)
	if id == "" || strings.ContainsAny(id, "/\x00") {
		return ""
	}
	return path.Join("/var/log/journal", id)
}

// Boot identifies the start of the system in which it runs: two that differ are two starts, whatever the clock said
// meanwhile. It is empty on Windows, which has no id of its starts. Of a disk it is [Mounted] and the last start that
// the system's own log has an entry of, and no more than that where there is no such log: elsewhere than under systemd,
// and where it keeps none on the disk.
func (m *Machine) Boot() string {
	if m.Live {
		return strings.ToLower(strings.ReplaceAll(runningBoot(), "-", ""))
	}
	if m.OS != "linux" || m.ID == "" || m.Files == nil {
		return Mounted
	}
	r := m.Reader(nil)
	file, _, err := r.OpenFile(path.Join(r.LogFolder(), "system.journal"))
	if err != nil {
		return Mounted
	}
	defer file.Close()
	return Mounted + journal.Boot(file)
}
