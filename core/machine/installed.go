package machine

import (
	"time"

	"lockback/core/machine/registry"
)

// bornFiles are what a system makes while it is installed, and does not touch later: the log of Debian's installer,
// what Fedora's leaves, the folder that mke2fs makes; and the mark of a Mac's first start.
var bornFiles = map[string][]string{
	"linux": {"/var/log/installer", "/root/anaconda-ks.cfg", "/lost+found"},
	"macos": {"/private/var/db/.AppleSetupDone"},
}

// Installed is when the operating system was installed; the zero time if nothing tells. A large update of
// Windows counts as an installation, for it notes one.
func (m *Machine) Installed() time.Time {
	if m.OS == "windows" {
		if k, err := m.Registry.Key(registry.KeyNT); err == nil {
			if seconds, ok := k.Number("InstallDate"); ok && seconds > 0 && seconds < 1<<32 {
				return time.Unix(int64(seconds), 0).UTC()
			}
		}
		return time.Time{}
	}
	for _, name := range bornFiles[m.OS] {
		if info, err := m.Lstat(name); err == nil {
			return info.ModTime().UTC()
		}
	}
	return time.Time{}
}
