package identify

import (
	"cmp"

	"lockback/core/location"
	"lockback/core/machine"
)

// What a mistake would cost.
const (
	toStart   = "the machine needs it to start"
	toSignIn  = "needed to sign in"
	toShow    = "needed to show a screen"
	toInput   = "needed for keyboard, mouse and other input"
	toNetwork = "needed to reach the network"
	toDisks   = "needed to reach its disks"
	toSession = "the desktop session needs it"
	toProtect = "it protects the machine"
)

// costs says what a mistake with an entry would cost by the role that its place gives it.
var costs = map[location.Role]string{
	location.Driver:     "a driver: without it the machine may not start, or a device not work",
	location.Module:     "a driver: a device may not work without it",
	location.Device:     "the device that it drives stops working",
	location.Session:    "needed to start or to sign in",
	location.SignInStep: "no user may be able to sign in without it",
	location.Sound:      "needed for sound",
	location.Camera:     "needed for a camera",
	location.InputMode:  "needed to type",
}

// judge decides whether an entry is a part of the operating system, and whether it is guarded.
// No other code decides either. The catalogue has the last word on the first, because it looks at
// the program too; what it says of the cost is more exact than the role.
func judge(m *machine.Reader, item *location.Item) {
	item.OSPart, item.Guarded = item.Shipped, costs[item.Role]
	row, ok := findRow(m, item)
	if !ok {
		return
	}
	item.OSPart = row.part
	item.Guarded = cmp.Or(row.guards, item.Guarded)
	item.AddFacts(func() []location.Fact {
		return []location.Fact{{Name: "part of the operating system", Value: row.what, Basis: "catalogue of " + row.location}}
	})
}
