package linux

import "lockback/core/location"

// NotLookedAt lists the kinds of places that Linux starts things from and that are not read
// yet: a short list must not be taken for a clean machine.
func NotLookedAt() []location.Location { return nil }
