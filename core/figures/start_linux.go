package figures

import (
	"context"
	"slices"
	"strings"
	"time"

	systemd "github.com/coreos/go-systemd/v22/dbus"
)

// startNow asks systemd how long the last start took, and in which phases, as systemd-analyze(1)
// tells it; and how many services run.
func startNow() []Figure {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	conn, err := systemd.NewWithContext(ctx)
	if err != nil {
		return nil
	}
	defer conn.Close()
	const basis = "systemd"
	var all []Figure
	if units, err := conn.ListUnitsFilteredContext(ctx, []string{"active"}); err == nil {
		n := int64(0)
		for _, u := range units {
			if u.SubState == "running" && len(u.Name) > 8 && u.Name[len(u.Name)-8:] == ".service" {
				n++
			}
		}
		all = append(all, Figure{"services-running", n, Count, basis})
	}
	at := map[string]uint64{}
	for _, name := range []string{"FirmwareTimestampMonotonic", "LoaderTimestampMonotonic", "InitRDTimestampMonotonic",
		"UserspaceTimestampMonotonic", "FinishTimestampMonotonic"} {
		text, err := conn.GetManagerProperty(name)
		if err != nil {
			return all
		}
		at[name] = microseconds(text)
	}
	if kind, err := conn.GetManagerProperty("Virtualization"); err == nil &&
		slices.Contains(containers, strings.Trim(kind, `"`)) {
		// The clock is that of the machine around it, which started long before.
		return append(all, phases(0, 0, 0, 0, at["FinishTimestampMonotonic"]-min(at["UserspaceTimestampMonotonic"],
			at["FinishTimestampMonotonic"]))...)
	}
	return append(all, phases(at["FirmwareTimestampMonotonic"], at["LoaderTimestampMonotonic"],
		at["InitRDTimestampMonotonic"], at["UserspaceTimestampMonotonic"], at["FinishTimestampMonotonic"])...)
}

// containers are what systemd calls the containers that it runs in, systemd-detect-virt(1).
var containers = []string{"systemd-nspawn", "lxc", "lxc-libvirt", "docker", "podman", "rkt", "openvz", "wsl", "proot",
	"pouch", "container-other"}

// microseconds reads a number of D-Bus as text: "@t 123".
func microseconds(text string) (n uint64) {
	for _, c := range text {
		if c >= '0' && c <= '9' {
			n = n*10 + uint64(c-'0')
		}
	}
	return n
}
