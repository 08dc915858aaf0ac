package cli

import (
	"time"

	"lockback/core/location"
	"lockback/core/starts"
)

// needsOf finds out whether what entries need to show a change has happened since: a restart, or that their users signed
// in.
type needsOf struct {
	starts starts.Starts
	since  time.Time
	// any says that something is needed. What is needed and known is told of all entries together: one that has not
	// been tried makes it false.
	any                 bool
	restarted, signedIn *bool
}

// add adds an entry.
func (n *needsOf) add(item *location.Item) {
	switch item.Effect {
	case location.AtNextStart:
		n.any = true
		if n.starts.BootsKnown() {
			tell(&n.restarted, n.starts.BootsSince(n.since) > 0)
		}
	case location.AtNextSignIn:
		n.any = true
		if n.starts.SignInsKnown() {
			tell(&n.signedIn, n.starts.SignInsSince(item.User, n.since) > 0)
		}
	}
}

// tell keeps an answer, unless one was no.
func tell(answer **bool, yes bool) {
	if *answer == nil || **answer {
		*answer = &yes
	}
}
