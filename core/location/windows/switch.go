package windows

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/artifact"
)

// The switches of Windows. Each only says which image an artifact should have.

// approve is the switch that Windows' own settings pages use: a value of twelve
// bytes in StartupApproved, by the name of what it is about. The first byte's
// lowest bit says that it is off; a time follows of when it was turned off.
type approve struct{ key, name string }

const (
	approvedOn  = 0x02
	approvedOff = 0x03
)

// isOff tells what a value says; one that is not there leaves the entry on.
func approvedState(v regf.Value) (off bool, known bool) {
	if len(v.Data) == 0 {
		return false, false
	}
	return v.Data[0]&1 != 0, true
}

func (approve) Word() autostart.Switch { return autostart.Approve }

// Holds is Windows' own word: it stays when the program writes its value or shortcut again.
func (approve) Holds() string {
	return "Windows' own startup settings have it off, and keep that when its program writes the entry anew; they " +
		"turn it on again"
}

func (a approve) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	at := artifact.RegistryValue(a.key, a.name)
	before, err := images.Image(at)
	if err != nil {
		return nil, err
	}
	data := make([]byte, 12)
	data[0] = approvedOn
	if want.State == autostart.Disabled {
		data[0] = approvedOff
		binary.LittleEndian.PutUint64(data[4:], windata.FileTime(want.Now))
	}
	if off, known := approvedState(before.Value()); (known || want.State == autostart.Enabled) &&
		off == (want.State == autostart.Disabled) && before.Kind == artifact.Value {
		return nil, nil
	}
	image := artifact.NewValue(regf.Value{Type: regf.Binary, Data: data})
	return []location.Edit{{Artifact: at, Image: image}}, nil
}

// number is the switch of an entry whose state is a number that the location
// documents.
type number struct {
	key, name string
	on, off   uint32
	// remove says that switching on takes the value away instead, where it was
	// not there before.
	remove bool
}

func (number) Word() autostart.Switch { return autostart.StateValue }

func (n number) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	at := artifact.RegistryValue(n.key, n.name)
	before, err := images.Image(at)
	if err != nil {
		return nil, err
	}
	if want.State == autostart.Enabled && n.remove {
		return []location.Edit{{Artifact: at, Image: artifact.Image{Kind: artifact.Absent}}}, nil
	}
	v := regf.NewNumber("", n.off)
	if want.State == autostart.Enabled {
		v = regf.NewNumber("", n.on)
	}
	if before.Kind == artifact.Value && (before.Value().Type == regf.QWord || before.Value().Type == regf.String) {
		return nil, fmt.Errorf("%w: %s is not of the type it should be", location.ErrNoSwitch, at)
	}
	return []location.Edit{{Artifact: at, Image: artifact.NewValue(v)}}, nil
}

// trim takes one item out of a value that holds a list: a REG_MULTI_SZ, a text
// with separators, or one that names a single thing.
type trim struct {
	part.Item
	fallback string // what stays when the last item goes: the system's default
}

func (trim) Word() autostart.Switch { return autostart.Trim }

func (trim) Removes() bool { return true }

// Part is the item; where the value names a single thing, it is all the entry's.
func (t trim) Part() part.Part { return t.Item }

func (t trim) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case want.State == autostart.Enabled:
		return nil, fmt.Errorf("%w: the record brings back what was removed", location.ErrNoSwitch)
	}
	image, err := images.Image(t.In())
	if err != nil {
		return nil, err
	}
	if !slices.Contains(part.SplitList(image.Value(), t.Separators), t.Text) {
		return nil, fmt.Errorf("%w: %s no longer holds %q", location.ErrNoSwitch, t.In(), t.Text)
	}
	return []location.Edit{{Artifact: t.In(), Image: t.Cut(image, t.fallback)}}, nil
}

// startType is the switch of a service or driver: its start type becomes 4. What
// it was is in the record; without one it becomes the type that such services
// usually have.
type startType struct {
	key   string
	usual uint32
}

// Stop is the one of the service control manager's own program.
func (t startType) Stop() []string {
	return []string{"sc.exe", "stop", t.key[strings.LastIndexByte(t.key, '\\')+1:]}
}

// Erases is the whole key of the service.
func (s startType) Erases() []artifact.Artifact {
	return []artifact.Artifact{artifact.RegistryTree(s.key)}
}

// Start types, as winnt.h names them.
const (
	startBoot     = 0
	startSystem   = 1
	startAuto     = 2
	startDemand   = 3
	startDisabled = 4
)

func (startType) Word() autostart.Switch { return autostart.StartType }

func (s startType) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	n := uint32(startDisabled)
	if want.State == autostart.Enabled {
		n = s.usual
	}
	return []location.Edit{{Artifact: artifact.RegistryValue(s.key, "Start"),
		Image: artifact.NewValue(regf.NewNumber("", n))}}, nil
}
