// Package trial tells how a change does that nobody has confirmed yet: whether it was tried by now, and what somebody
// should try.
package trial

import (
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/snapshot"
	"lockback/core/starts"
	"lockback/core/work"
)

// Needs finds out whether what entries need to show a change has happened since: a restart, or that their users signed
// in.
type Needs struct {
	Starts starts.Starts
	Since  starts.Moment
	// Any says that some entry needs a restart or a sign-in.
	Any bool
	// The answers are those of all entries together: one that was not tried makes them false. They are nil if no
	// entry needs it, or where it is not known.
	Restarted, SignedIn *bool
}

// Add adds an entry.
func (n *Needs) Add(item *location.Item) {
	switch item.Effect {
	case location.AtNextStart:
		n.Any = true
		if boots, known := n.Starts.BootsSince(n.Since); known {
			and(&n.Restarted, boots > 0)
		}
	case location.AtNextSignIn:
		n.Any = true
		if n.Starts.SignInsKnown() {
			and(&n.SignedIn, n.Starts.SignInsSince(item.User, n.Since) > 0)
		}
	}
}

// and keeps an answer, unless one was no.
func and(answer **bool, yes bool) {
	if *answer == nil || **answer {
		*answer = &yes
	}
}

// MomentOf is when a change was made.
func MomentOf(c change.Change) starts.Moment { return starts.Moment{Time: c.Time, Boot: c.Boot} }

// MomentOfSnapshot is when a snapshot was taken.
func MomentOfSnapshot(s *snapshot.Snapshot) starts.Moment {
	return starts.Moment{Time: s.Time, Boot: s.Boot}
}

// Try is something that somebody should try: what an entry's program did, and what is lost without it.
type Try struct {
	Name, Does string
	Without    []string
}

// Trial is a change that nobody has confirmed yet.
type Trial struct {
	Change change.Change
	// Entries are those that it left disabled, or enabled, and that are still so.
	Entries []*autostart.Entry
	// Restarted and SignedIn say whether what the entries need has happened since; nil where they do not need it, or
	// where that is not known.
	Restarted, SignedIn *bool
	Needs               bool // a restart or a sign-in
	Try                 []Try
	Remind              time.Time
	Due                 bool
}

// Tried says whether the trial means anything by now; nil if that is not known.
func (t Trial) Tried() *bool {
	yes, no := true, false
	switch {
	case len(t.Entries) == 0: // nothing is left to try
	case t.Restarted != nil && !*t.Restarted, t.SignedIn != nil && !*t.SignedIn:
		return &no
	case !t.Needs, t.Restarted != nil, t.SignedIn != nil:
		return &yes
	}
	return nil
}

// All are the trials of a machine at a moment, the oldest first.
func All(s *work.Session, changes []change.Change, inv inventory.Inventory, st starts.Starts, now time.Time) []Trial {
	var all []Trial
	for _, c := range changes {
		if c.OnTrial() {
			all = append(all, Of(s, c, inv, st, now))
		}
	}
	return all
}

// Of is how a change does.
func Of(s *work.Session, c change.Change, inv inventory.Inventory, st starts.Starts, now time.Time) Trial {
	t := Trial{Change: c, Remind: c.Time.AddDate(0, 0, c.Trial)}
	t.Due = !now.Before(t.Remind)
	full, err := s.Record.Change(c.ID)
	if err != nil {
		return t
	}
	known := inv.ByHandle()
	need := Needs{Starts: st, Since: MomentOf(c)}
	for _, o := range full.Outcomes {
		for _, h := range o.Handles {
			item := known[h]
			if item == nil || item.State != o.State && !(o.State == change.Removed && change.Taken(item)) {
				continue
			}
			t.Entries = append(t.Entries, &item.Entry)
			need.Add(item)
			if o.State != autostart.Enabled {
				t.try(item)
			}
		}
	}
	if len(full.Outcomes) == 0 { // for one user only, or of an early version
		for _, n := range s.TouchedBy(full) {
			if item := known[n.Handle]; item != nil {
				t.Entries = append(t.Entries, &item.Entry)
				need.Add(item)
			}
		}
	}
	t.Restarted, t.SignedIn, t.Needs = need.Restarted, need.SignedIn, need.Any
	return t
}

// try adds what a program did, and what is lost without it; everyone's entry once, and not once for each user.
func (t *Trial) try(item *location.Item) {
	one := Try{Name: strings.TrimSpace(item.Name), Does: item.Entry.Facts().Description}
	if item.Facts != nil {
		for _, f := range item.Facts() {
			if f.Kind == autostart.FactWithoutIt && f.Value != "" {
				one.Without = append(one.Without, autostart.Text(f.Value))
			}
		}
	}
	again := slices.ContainsFunc(t.Try, func(have Try) bool {
		return have.Name == one.Name && have.Does == one.Does && slices.Equal(have.Without, one.Without)
	})
	if (one.Does != "" || len(one.Without) > 0) && !again {
		t.Try = append(t.Try, one)
	}
}
