package work

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/snapshot"
	"lockback/core/store"
)

// Number reads the number of a snapshot ("S", "a snapshot") or of a change ("C", "a change").
func Number(id, letter, what string) (int, error) {
	digits, ok := strings.CutPrefix(strings.ToUpper(id), letter)
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 1 {
		return 0, Wrong("%q is not %s; they are written %s1, %s2, ...: see lockback history", id, what, letter, letter)
	}
	return n, nil
}

// IsChange reports whether a word is written as a change is: C and a number. A handle can look the same only where it
// is cut short, and then the change is meant.
func IsChange(word string) bool {
	_, err := Number(word, "C", "a change")
	return err == nil
}

// Snapshot loads a snapshot by its written number.
func (s *Session) Snapshot(id string) (*snapshot.Snapshot, error) {
	if IsChange(id) {
		c, err := s.ChangeNamed(id)
		if err != nil {
			return nil, err
		}
		return nil, Wrong("%s is a change; S%d has the state before it, and lockback undo %s takes it back", c.Name(),
			c.Snapshot, c.Name())
	}
	n, err := Number(id, "S", "a snapshot")
	if err != nil {
		return nil, err
	}
	snap, err := s.Record.Snapshot(n)
	if err != nil {
		return nil, s.notFound(id, err)
	}
	return snap, nil
}

// Change loads a change of this machine.
func (s *Session) Change(n int) (change.Change, error) {
	c, err := s.Record.Change(n)
	if err == nil && c.Machine != s.Machine.ID {
		return c, Wrong("%s is a change of another machine", c.Name())
	}
	if err != nil {
		return c, s.notFound("C"+strconv.Itoa(n), err)
	}
	return c, nil
}

// ChangeNamed loads a change of this machine by its written number.
func (s *Session) ChangeNamed(id string) (change.Change, error) {
	n, err := Number(id, "C", "a change")
	if err != nil {
		return change.Change{}, err
	}
	return s.Change(n)
}

// notFound tells which ids there are where one was not found.
func (s *Session) notFound(id string, err error) error {
	if !errors.Is(err, change.ErrNotFound) {
		return Advise(err)
	}
	return Wrong("there is no %s in %s; %s", strings.ToUpper(id), s.Record.Path, s.numbers(strings.ToUpper(id[:1])))
}

// numbers tells which snapshots, or which changes, the record has of the machine.
func (s *Session) numbers(letter string) string {
	var names []string
	what, many := "snapshot", "snapshots"
	if letter == "C" {
		what, many = "change", "changes"
		changes, _ := s.Record.Changes(s.Machine.ID)
		for _, c := range changes {
			names = append(names, c.Name())
		}
	} else {
		snaps, _ := s.Record.Snapshots(s.Machine.ID)
		for _, snap := range snaps {
			names = append(names, snap.Name())
		}
	}
	switch len(names) {
	case 0:
		return "the record has no " + what + " of this machine"
	case 1:
		return "the only " + what + " of this machine is " + names[0]
	}
	return "the " + many + " of this machine are " + names[0] + " to " + names[len(names)-1]
}

// lastChange is the newest change of the machine for which fits holds.
func (s *Session) lastChange(fits func(change.Change) bool) (change.Change, bool, error) {
	changes, err := s.Record.Changes(s.Machine.ID)
	if err != nil {
		return change.Change{}, false, Advise(err)
	}
	for _, c := range slices.Backward(changes) {
		if fits(c) {
			return c, true, nil
		}
	}
	return change.Change{}, false, nil
}

// LastTurnedOff is the last change that stands and turned something off.
func (s *Session) LastTurnedOff() (change.Change, error) {
	c, ok, err := s.lastChange(func(c change.Change) bool {
		return c.State == change.Done && (c.Kind == change.Disable || c.Kind == change.Review)
	})
	if err == nil && !ok {
		err = Wrong("no change of this machine turned something off; name entries: lockback culprit start SELECTOR")
	}
	if err != nil {
		return c, err
	}
	return s.Change(c.ID)
}

// ToUndo is the change that was named, or the last one that is done and no undo itself.
func (s *Session) ToUndo(args []string) (change.Change, error) {
	if len(args) == 1 {
		c, err := s.ChangeNamed(args[0])
		if err == nil && c.State != change.Done {
			err = Wrong("%s is %s already", c.Name(), string(c.State))
		}
		return c, err
	}
	c, ok, err := s.lastChange(func(c change.Change) bool { return c.State == change.Done && c.Kind != change.Undo })
	if err == nil && !ok {
		err = Wrong("no change of this machine can be taken back; see lockback history")
	}
	if err != nil {
		return c, err
	}
	return s.Change(c.ID)
}

// NextUndo is the change that an undo after that of c would take back.
func (s *Session) NextUndo(c change.Change) (next change.Change, ok bool, err error) {
	return s.lastChange(func(n change.Change) bool {
		return n.State == change.Done && n.Kind != change.Undo &&
			n.ID != c.ID
	})
}

// ToKeep is the change that was named, or the last one that is on trial.
func (s *Session) ToKeep(args []string) (change.Change, error) {
	if len(args) > 1 {
		return change.Change{}, Wrong("keep ends the trial of one change at a time: lockback keep %s", args[0])
	}
	if len(args) == 0 {
		c, ok, err := s.lastChange(change.Change.OnTrial)
		if err == nil && !ok {
			err = Wrong("no change of this machine is on trial; see lockback history")
		}
		return c, err
	}
	c, err := s.ChangeNamed(args[0])
	switch {
	case err != nil:
	case !c.Kept.IsZero() && c.State == change.Done:
		err = Wrong("%s was kept already, on %s", c.Name(), autostart.Minute(c.Kept))
	case c.State != change.Done:
		err = Wrong("%s is %s; there is nothing to keep of it", c.Name(), string(c.State))
	case !c.OnTrial():
		err = Wrong("%s is not on trial: it is a change of the kind %s", c.Name(), string(c.Kind))
	}
	return c, err
}

// LastSnapshot is the newest snapshot of the machine that somebody took; where nobody did, the first one that a change
// took. A snapshot taken by a change does not show what somebody has seen.
func (s *Session) LastSnapshot() (*snapshot.Snapshot, error) {
	all, err := s.Record.Snapshots(s.Machine.ID)
	if err != nil {
		return nil, Advise(err)
	}
	if len(all) == 0 {
		return nil, Wrong("the record %s has no snapshot of this machine to check against; take one with lockback "+
			"snapshot", s.Record.Path)
	}
	changes, err := s.Record.Changes(s.Machine.ID)
	if err != nil {
		return nil, Advise(err)
	}
	automatic := map[int]bool{}
	for _, c := range changes {
		automatic[c.Snapshot] = true
	}
	for _, snap := range slices.Backward(all) {
		if !automatic[snap.ID] {
			return s.Snapshot(snap.Name())
		}
	}
	return s.Snapshot(all[0].Name())
}

// MachineNamed words a machine of the record.
func (s *Session) MachineNamed(id string) string {
	machines, err := s.Record.Machines()
	if err == nil {
		for _, m := range machines {
			if m.ID == id && m.Name != "" {
				return fmt.Sprintf("%q (%s)", m.Name, id)
			}
		}
	}
	return id
}

// UserNames are the names of the machine's users.
func UserNames(m *machine.Machine) []string {
	var names []string
	for _, u := range m.Users {
		names = append(names, autostart.Text(u.Name))
	}
	return names
}

// User is the machine's user of a name.
func (s *Session) User(name string) (account.User, error) {
	u, ok := s.Machine.UserNamed(name)
	if !ok {
		names := UserNames(s.Machine)
		return u, Wrong("the machine has no user %q%s (it has %s)", name, autostart.Suggest(name, names),
			strings.Join(names, ", "))
	}
	return u, nil
}

// Touched is an entry that a change touched, as it was before: empty where it was not there.
type Touched struct {
	Handle, Name, User string
	Was                autostart.State
}

// TouchedBy lists the entries of a change by their names. Those that were not there before it have only a handle.
func (s *Session) TouchedBy(c change.Change) []Touched {
	list := []Touched{}
	at := map[string]int{}
	for _, step := range c.Steps {
		for _, h := range step.Handles {
			if _, known := at[h]; !known {
				at[h] = len(list)
				list = append(list, Touched{Handle: h})
			}
		}
	}
	snap, err := s.Record.Snapshot(c.Snapshot)
	if err != nil {
		return list // the change itself can be told of all the same
	}
	handles := make(map[string]bool, len(at))
	for h := range at {
		handles[h] = true
	}
	entries, err := snap.EntriesOf(handles)
	if err != nil {
		return list
	}
	for _, rec := range entries {
		t := &list[at[rec.Handle]]
		t.Name, t.User, t.Was = rec.Name, rec.User, rec.State
	}
	return list
}

// Event is a snapshot or a change of a machine.
type Event struct {
	Snapshot *snapshot.Snapshot // nil of a change
	Change   change.Change
}

// Events are those of a machine, the newest first; a change stands above the snapshot that was taken before it.
type Events []Event

// EventsOf lists the snapshots and changes of a machine.
func EventsOf(record *store.Store, machine string) (Events, error) {
	snaps, err := record.Snapshots(machine)
	if err != nil {
		return nil, err
	}
	changes, err := record.Changes(machine)
	if err != nil {
		return nil, err
	}
	used := map[int][]change.Change{}
	for _, c := range changes {
		used[c.Snapshot] = append(used[c.Snapshot], c)
	}
	var all Events
	for _, snap := range snaps {
		all = append(all, Event{Snapshot: snap})
		for _, c := range used[snap.ID] {
			all = append(all, Event{Change: c})
		}
	}
	slices.Reverse(all)
	return all, nil
}
