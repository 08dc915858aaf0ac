package machine

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"slices"
	"strings"
)

// Mark is something by which a computer is told from others that have the same id, because both were made from one
// image.
type Mark struct {
	Kind  MarkKind
	Value string
}

// MarkKind says what a mark is taken from.
type MarkKind string

// The kinds of marks, the strongest first.
const (
	// HardwareMark is the UUID that the firmware tells (SMBIOS, type 1): of running Linux in /sys/class/dmi/id, of
	// Windows as it last started, in HKLM\SYSTEM\HardwareConfig.
	HardwareMark MarkKind = "hardware"
	// DiskMark is the UUID of the file system that /etc/fstab mounts at the root. A copy of the whole disk has it too.
	DiskMark MarkKind = "disk"
	// HostKeyMark is of the key that the ssh server shows.
	HostKeyMark MarkKind = "host key"
	// AccountsMark is the authority that gave accounts their SID: this Windows, or its domain.
	AccountsMark MarkKind = "accounts"
	// NameMark is what the machine calls itself.
	NameMark MarkKind = "name"
)

// Marks are those of the machine, as far as it can be asked. A Mac has none: its id is that of the hardware.
func (m *Machine) Marks() []Mark {
	var all []Mark
	add := func(kind MarkKind, value string) {
		if mark := (Mark{kind, value}); value != "" && !slices.Contains(all, mark) {
			all = append(all, mark)
		}
	}
	switch m.OS {
	case "linux":
		if m.Live {
			uuid, _ := os.ReadFile("/sys/class/dmi/id/product_uuid") // root's only
			add(HardwareMark, realUUID(string(uuid)))
		}
		add(DiskMark, m.rootUUID())
		if key := m.smallFile("/etc/ssh/ssh_host_ed25519_key.pub"); key != "" {
			sum := sha256.Sum256([]byte(key))
			add(HostKeyMark, hex.EncodeToString(sum[:8]))
		}
	case "windows":
		add(HardwareMark, realUUID(m.windows.Hardware()))
		for _, u := range m.Users {
			if k := strings.LastIndexByte(u.SID, '-'); strings.HasPrefix(u.SID, "S-1-5-21-") && k > 0 {
				add(AccountsMark, u.SID[:k])
			}
		}
	default:
		return nil
	}
	add(NameMark, ShortName(m.Name))
	if m.OS == "linux" { // what a running system is called can come from the network
		add(NameMark, ShortName(m.smallFile("/etc/hostname")))
	}
	return all
}

// SystemID is the system's own id, of one by which a record knows a machine.
func SystemID(id string) string {
	system, _, _ := strings.Cut(id, cloneMark)
	return system
}

// CloneID is the id by which a record knows the machine with that number, from 2, among those whose systems have one
// id.
func CloneID(systemID string, number int) string { return fmt.Sprint(systemID, cloneMark, number) }

// cloneMark stands in no system's id.
const cloneMark = "~"

// ShortName is a host name as it is compared: the first label, in small letters.
func ShortName(name string) string {
	short, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(name)), ".")
	return short
}

// rootUUID is the UUID by which /etc/fstab mounts the root; empty where it names it otherwise.
func (m *Machine) rootUUID() string {
	for _, f := range m.fstab() {
		if uuid, ok := strings.CutPrefix(f[0], "UUID="); ok && f[1] == "/" {
			return strings.ToLower(strings.Trim(uuid, `"`))
		}
	}
	return ""
}

// realUUID is a UUID in small letters; empty for what boards have whose maker wrote none: hardly any digits of its own.
func realUUID(text string) string {
	text = strings.ToLower(strings.Trim(strings.TrimSpace(text), "{}"))
	digits := map[rune]bool{}
	for _, r := range text {
		digits[r] = true
	}
	if len(text) != 36 || len(digits) < 6 || text == "03000200-0400-0500-0006-000700080009" {
		return ""
	}
	return text
}
