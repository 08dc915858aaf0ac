//go:build !linux

package cost

import "lockback/core/machine"

// unitsNow does nothing: other systems keep no account of the kind.
func (c *Costs) unitsNow(*machine.Machine) {}
