package location

import (
	"errors"
	"fmt"
	"time"

	"lockback/core/autostart"
	"lockback/core/location/part"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
)

// Can is what the switch of an entry can do besides turning it off and on. It is asked once, when the entry is
// reported. What a switch cannot do is nil.
type Can struct {
	Share Sharer
	Hold  Holder
	Stop  Stopper
	Erase Eraser
	Delay Delayer
	Group Grouped
	// Part is the share of an artifact that the entry has; nil if its artifacts are its own.
	Part part.Part
	// Removes says that nothing is left from which the entry could be read, once it is off: then only the record shows
	// it.
	Removes bool
	// PerUser says that the switch can act for one user alone, where the entry is for everyone.
	PerUser bool
}

// Capabilities asks a switch what it can do.
func Capabilities(s Switcher) Can {
	var can Can
	if can.Share, _ = s.(Sharer); can.Share != nil {
		can.Part = can.Share.Part()
	}
	can.Hold, _ = s.(Holder)
	can.Stop, _ = s.(Stopper)
	can.Erase, _ = s.(Eraser)
	can.Delay, _ = s.(Delayer)
	can.Group, _ = s.(Grouped)
	if remover, ok := s.(Remover); ok {
		can.Removes = remover.Removes()
	}
	if single, ok := s.(PerUser); ok {
		can.PerUser = single.PerUser()
	}
	return can
}

// Wanted narrows what is wanted to what the item's switch is to do: an entry of the one user for whom it is wanted is
// switched as it is. It fails with [ErrNotPerUser] where the entry is for everyone and its switch cannot act for one
// user, and with [ErrNoSwitch] where it is another user's. No switch is asked before.
func (i *Item) Wanted(want Want) (Want, error) {
	switch {
	case want.User == nil:
	case i.User == want.User.Name:
		want.User = nil
	case i.User != "":
		return want, fmt.Errorf("%w: it is the entry of %s", ErrNoSwitch, i.User)
	case !i.Can.PerUser:
		return want, ErrNotPerUser
	}
	return want, nil
}

// Plan returns the edits that bring the item to the wanted state, see [Switcher]. It is the only way to its switch, but
// for [Grouped].
func (i *Item) Plan(images Images, want Want) ([]Edit, error) {
	want, err := i.Wanted(want)
	if err != nil {
		return nil, err
	}
	return i.Switcher.Plan(images, want)
}

// PerUser is the switch of an entry for everyone that can act for one user alone; all others act for everyone.
type PerUser interface {
	Switcher
	PerUser() bool
}

// NoSwitch stands where nothing can be switched, and says why.
type NoSwitch struct {
	Why string
	Of  part.Part // the entry's share of its artifact; nil if that is its own
}

// Part is what the entry has of its artifact.
func (n NoSwitch) Part() part.Part { return n.Of }

// PerUser is true: whoever it is wanted for, the reason is another one.
func (NoSwitch) PerUser() bool { return true }

// Word is [autostart.Report].
func (NoSwitch) Word() autostart.Switch { return autostart.Report }

// Plan fails with [ErrNoSwitch].
func (n NoSwitch) Plan(Images, Want) ([]Edit, error) {
	return nil, fmt.Errorf("%w: %s", ErrNoSwitch, n.Why)
}

// Park is the switch that takes an artifact away. The record keeps it, and is what
// brings it back.
type Park struct{ Artifact artifact.Artifact }

// Word is [autostart.Park].
func (Park) Word() autostart.Switch { return autostart.Park }

// Removes is true.
func (Park) Removes() bool { return true }

// Plan returns the edit. It fails with [ErrNoSwitch] where the artifact is to come
// back.
func (p Park) Plan(images Images, want Want) ([]Edit, error) {
	if want.State == autostart.Enabled {
		name := autostart.Text(p.Artifact.String())
		if now, err := images.Image(p.Artifact); err != nil || now.Kind != artifact.Absent {
			return nil, fmt.Errorf("%w: %s exists; something else keeps it off, see lockback show",
				ErrNoSwitch, name)
		}
		return nil, fmt.Errorf("%w: %s is not there; lockback restore brings it back from a snapshot that has it",
			ErrNoSwitch, name)
	}
	return []Edit{{Artifact: p.Artifact, Image: artifact.Image{Kind: artifact.Absent}}}, nil
}

// ParkAll is [Park] of an entry that stands in several places, all of which are taken away together.
type ParkAll []artifact.Artifact

// Word is [autostart.Park].
func (ParkAll) Word() autostart.Switch { return autostart.Park }

// Removes is true.
func (ParkAll) Removes() bool { return true }

// Plan returns the edits; what is not there needs none. It fails as [Park.Plan] does.
func (p ParkAll) Plan(images Images, want Want) ([]Edit, error) {
	var edits []Edit
	for _, a := range p {
		if want.State == autostart.Disabled {
			if image, err := images.Image(a); err == nil && image.Kind == artifact.Absent {
				continue
			}
		}
		edit, err := Park{a}.Plan(images, want)
		if err != nil {
			return nil, err
		}
		edits = append(edits, edit...)
	}
	return edits, nil
}

// Want is the state that an entry is wanted in.
type Want struct {
	State autostart.State
	// User limits the switch of an entry for everyone to one user; nil
	// means everyone that the entry is for.
	User *account.User
	Now  time.Time
	// Hold wants what is turned off to stay off, where a switch knows a way that programs which turn themselves on
	// again respect, see [Holder].
	Hold bool
}

// Holder is a switch that can keep an entry off although its program turns it on again by the usual means.
type Holder interface {
	Switcher
	// Holds says what keeps it off, in words.
	Holds() string
}

// Edit is a new image for an artifact.
type Edit struct {
	Artifact artifact.Artifact
	Image    artifact.Image
}

// Switcher turns an entry off and on.
type Switcher interface {
	// Word is what lists call it.
	Word() autostart.Switch
	// Plan returns the edits that bring the entry to the wanted state; folders and keys that
	// are missing above them need no edit. It fails with [ErrNoSwitch] where that cannot be
	// done safely.
	Plan(Images, Want) ([]Edit, error)
}

// Sharer is the switch of an entry that has only a part of an artifact.
type Sharer interface {
	Switcher
	Part() part.Part
}

// Remover is the switch that leaves nothing behind which the entry could be read from: once it
// is off, only the record shows it.
type Remover interface {
	Switcher
	Removes() bool
}

// Stopper is the switch of what keeps running after it was turned off.
type Stopper interface {
	Switcher
	// Stop is the command, in words, by which the system ends it now.
	Stop() []string
}

// Eraser is the switch of an entry that is taken away for good with other artifacts than those that it is read from and
// that decide it.
type Eraser interface {
	Switcher
	Erases() []artifact.Artifact
}

// Grouped is the switch of an entry that shares its artifact with many others: all that
// are to be switched are set in one pass.
type Grouped interface {
	Switcher
	// Group is that artifact.
	Group() artifact.Artifact
	// PlanGroup is [Switcher.Plan] for several switches of one group. Each has an error,
	// nil if it is set.
	PlanGroup(images Images, want Want, group []Switcher) ([]Edit, []error)
}

// Errors that callers decide on.
var (
	// ErrNoSwitch says that no safe way of switching exists.
	ErrNoSwitch = errors.New("cannot be turned on or off here")
	// ErrNotPerUser says that an entry cannot be switched for one user.
	ErrNotPerUser = errors.New("cannot be switched for one user only")
)
