package cli

import (
	"lockback/core/change"
	"lockback/core/location"
	"lockback/core/snapshot"
	"lockback/core/starts"
)

// needsOf finds out whether what entries need to show a change has happened since: a restart, or that their users signed
// in.
type needsOf struct {
	starts starts.Starts
	since  starts.Moment
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
		if boots, known := n.starts.BootsSince(n.since); known {
			tell(&n.restarted, boots > 0)
		}
	case location.AtNextSignIn:
		n.any = true
		if n.starts.SignInsKnown() {
			tell(&n.signedIn, n.starts.SignInsSince(item.User, n.since) > 0)
		}
	}
}

// momentOf is when a change was made.
func momentOf(c change.Change) starts.Moment {
	return starts.Moment{Time: c.Time, Boot: c.Boot}
}

// momentOfSnapshot is when a snapshot was taken.
func momentOfSnapshot(s *snapshot.Snapshot) starts.Moment {
	return starts.Moment{Time: s.Time, Boot: s.Boot}
}

// tell keeps an answer, unless one was no.
func tell(answer **bool, yes bool) {
	if *answer == nil || **answer {
		*answer = &yes
	}
}
