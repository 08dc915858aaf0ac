// Package work holds what a technician does with a machine, without a terminal: it opens a machine with its record,
// puts an inventory together, and chooses entries from it. Commands, and whatever else drives the program, parse what
// they are given, call this package, and word what comes back.
//
//	desk := work.Desk{Options: work.Options{Root: "/mnt/disk"}}
//	s, err := desk.Open(store.Write)
//	inv := s.Inventory()
//	choice, err := s.Choose(inv, []string{"Fogbell*"}, work.Scope{})
//
// Nothing here prints or asks. Warnings on the way go to [Options.Warn].
package work

import (
	"errors"
	"fmt"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/program"
	"lockback/core/store"
)

// Mistake is an error in what was asked for: nothing was done, and asking otherwise helps.
type Mistake struct{ error }

// Unwrap returns the error itself.
func (m Mistake) Unwrap() error { return m.error }

// Wrong makes a [Mistake].
func Wrong(format string, args ...any) error { return Mistake{fmt.Errorf(format, args...)} }

// NothingFound says that a selector, or one of its words, chooses nothing: an answer where somebody looks, a mistake
// where something is to be done.
type NothingFound struct{ error }

// Unwrap returns the error itself.
func (n NothingFound) Unwrap() error { return n.error }

// Options say which machine is worked on, and with which record.
type Options struct {
	// Root is where the machine's disk is mounted; empty for the running machine.
	Root string
	// Record is the record's file, or [OnDisk]; empty for where it lies by default.
	Record string
	// OpenMachine opens the machine; [machine.Open] where it is nil.
	OpenMachine func(root string) (*machine.Machine, error)
	// Which says which machine is at hand where the record knows several with its id: [SameMachine], [OtherMachine], or
	// a name; empty: AskWhich is asked, or, where that is nil, nothing is done.
	Which    string
	AskWhich func(Doubt) (which string, err error)
	// At is passed on to the change engine.
	At func(point string)
	// Warn gets what somebody who goes on should know; nil: nobody listens.
	Warn func(text string)
	// Reading is called when a machine is read, and what it returns when that is done. It may be nil.
	Reading func(*program.Memory) (done func())
}

// Desk opens machines and records for one run of a program. Each warning is given once.
type Desk struct {
	Options
	warnedOfDisk   bool // of the record on the disk
	warnedOfOthers bool // of other records of the machine
}

func (d *Desk) warn(format string, args ...any) {
	if d.Warn != nil {
		d.Warn(fmt.Sprintf(format, args...))
	}
}

// Machine opens the machine.
func (d *Desk) Machine() (*machine.Machine, error) {
	if d.OpenMachine != nil {
		return d.OpenMachine(d.Root)
	}
	return machine.Open(d.Root)
}

// Session is a machine with its record.
type Session struct {
	Machine *machine.Machine
	Record  *store.Store // nil if there is none to look into
	Engine  *change.Engine
	Memory  *program.Memory

	desk      *Desk
	access    store.Access
	knowledge *knowledge // of the record, read when it is first asked for
}

// noID says what gives a system its id.
var noID = map[string]string{
	"linux": "/etc/machine-id is empty or absent; run systemd-machine-id-setup, with --root for a mounted disk",
	"macos": "no file in a ByHost folder of preferences bears the hardware's UUID; sign in once on the Mac, or " +
		"work on it while it runs",
	"windows": `the value MachineGuid of HKLM\SOFTWARE\Microsoft\Cryptography is absent, or its hive cannot be ` +
		`read; see lockback locations`,
}

// Open opens the machine and its record. For writing, the machine must have an id.
func (d *Desk) Open(access store.Access) (*Session, error) {
	m, err := d.Machine()
	if err != nil {
		return nil, err
	}
	if m.ID == "" && access != store.Read {
		m.Close()
		return nil, fmt.Errorf("the system has no id of its own, and without one its record could be any machine's: %s",
			noID[m.OS])
	}
	record, err := d.openRecord(m, access)
	if err != nil {
		m.Close()
		return nil, Advise(err)
	}
	if err := d.recognise(m, record, access, false); err != nil {
		record.Close()
		m.Close()
		return nil, Advise(err)
	}
	return d.session(m, record, access), nil
}

// OpenSettled opens the machine and its record, and fails while an interrupted change waits.
func (d *Desk) OpenSettled(access store.Access) (*Session, error) {
	s, err := d.Open(access)
	if err != nil {
		return nil, err
	}
	if err := s.Settled(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// OpenToChange opens a session for a command that changes the machine; no interrupted change may wait. A dry run reads
// the record only, and does without one where none is needed.
func (d *Desk) OpenToChange(dryRun, recordNeeded bool) (*Session, error) {
	access := store.Exclusive
	if dryRun {
		access = store.Read
	}
	s, err := d.OpenSettled(access)
	if dryRun && !recordNeeded && errors.Is(err, store.ErrNone) {
		m, merr := d.Machine()
		if merr != nil {
			return nil, merr
		}
		return &Session{Machine: m, Engine: &change.Engine{Machine: m}, desk: d, access: access}, nil
	}
	return s, err
}

// Look opens a session for a command that only looks: without the record where there is none, or none that can be read.
func (d *Desk) Look() (*Session, error) {
	m, err := d.Machine()
	if err != nil {
		return nil, err
	}
	record, err := d.openRecord(m, store.Read)
	switch {
	case err == nil:
	case errors.Is(err, store.ErrNone):
		record = nil
	default:
		d.notUsed(err)
		record = nil
	}
	var wrong Mistake
	if err := d.recognise(m, record, store.Read, true); errors.As(err, &wrong) {
		record.Close()
		m.Close()
		return nil, err
	} else if err != nil {
		d.notUsed(err)
		record.Close()
		record = nil
	}
	return d.session(m, record, store.Read), nil
}

// notUsed warns of a record that cannot be read, and of what is not known without it.
func (d *Desk) notUsed(err error) {
	d.warn("note: the record is not used, so notes, verdicts and what was removed are left out: %v", Advise(err))
}

func (d *Desk) session(m *machine.Machine, record *store.Store, access store.Access) *Session {
	s := &Session{Machine: m, Record: record, Memory: memoryOf(m, record), desk: d, access: access}
	s.Engine = &change.Engine{Machine: m, Record: recordOf(record), Memory: s.Memory, At: d.At}
	return s
}

// memoryOf is what the record has of a machine's programs. A record that cannot tell has nothing.
func memoryOf(m *machine.Machine, record *store.Store) *program.Memory {
	var rows []program.Row
	if record != nil && m.ID != "" {
		rows, _ = record.Programs(m.ID)
	}
	return program.NewMemory(rows)
}

// recordOf is a store as a record; none if there is no store.
func recordOf(record *store.Store) change.Record {
	if record == nil {
		return nil
	}
	return record
}

// Close releases the machine and the record.
func (s *Session) Close() {
	if s.Record != nil {
		s.Record.Close()
	}
	s.Machine.Close()
}

// Settled fails with [change.ErrInterrupted] while an interrupted change waits.
func (s *Session) Settled() error {
	c, ok, err := s.Engine.Interrupted()
	if err != nil {
		return Advise(err)
	}
	if ok {
		return fmt.Errorf("%s of %s was interrupted%s: %w; run lockback recover", c.Name(), autostart.Minute(c.Time),
			s.MadeElsewhere(c), change.ErrInterrupted)
	}
	return nil
}

// HoldSettled keeps others from writing to the record until the session is closed, and fails while an interrupted
// change waits.
func (s *Session) HoldSettled() error {
	if err := s.Record.Hold(); err != nil {
		return Advise(err)
	}
	return s.Settled()
}

// MadeElsewhere words where a change was made, where that is not the machine at hand; else it is empty.
func (s *Session) MadeElsewhere(c change.Change) string {
	if s.Engine.Elsewhere(c) == change.Here {
		return ""
	}
	where := "the running machine"
	if c.Root != "" {
		where = "the disk mounted at " + c.Root
	}
	return fmt.Sprintf(", begun on %s, called %q", where, c.Host)
}

// ToRecover is the change that waits: one of this machine, else one that has its id only.
func (s *Session) ToRecover() (change.Change, bool, error) {
	c, ok, err := s.Engine.Interrupted()
	if ok || err != nil {
		return c, ok, err
	}
	all, err := s.Record.Interrupted(s.Machine.ID)
	if err != nil || len(all) == 0 {
		return change.Change{}, false, err
	}
	return all[0], true, nil
}

// WarnOfInterrupted warns where an interrupted change waits, for commands that only look.
func (s *Session) WarnOfInterrupted() {
	if s.Record == nil {
		return
	}
	claim := ""
	if s.desk.Record == OnDisk {
		claim = "the record on the disk says that "
	}
	c, ok, err := s.Engine.Interrupted()
	if err == nil && !ok {
		if c, ok, err := s.ToRecover(); err == nil && ok {
			s.desk.warn("note: %s%s of %s was interrupted%s, which has the same id; nothing waits for it here", claim,
				c.Name(), autostart.Minute(c.Time), s.MadeElsewhere(c))
		}
	}
	if err == nil && ok {
		s.desk.warn("lockback: %s%s of %s was interrupted%s; the machine is between two states: run lockback recover",
			claim, c.Name(), autostart.Minute(c.Time), s.MadeElsewhere(c))
	}
}

// advice is what to do about errors of a record.
var advice = []struct {
	is   error
	todo string
}{
	{change.ErrInUse, "wait until it has ended and try again"},
	{change.ErrNewer, "use that version, or name another record with --store"},
	{change.ErrDamaged, "it was left as it is; copy it away and name another one with --store"},
	{store.ErrForeign, "name another file with --store"},
	{change.ErrFull, "nothing was changed; make room, or name a record on another disk with --store"},
	{change.ErrReadOnly, "nothing was changed; name a record on another disk with --store"},
	{store.ErrNotOurs, "make the file and its folder your own (chown, chmod 600 for the file, chmod 700 for the " +
		"folder; a removable disk needs mount options such as umask=077), or name another record with --store"},
	{change.ErrRights, "run as its owner, or name another record with --store"},
	{store.ErrNone, "take one with lockback snapshot, or name another record with --store"},
}

// Advise ends an error of the record with what to do.
func Advise(err error) error {
	for _, row := range advice {
		if errors.Is(err, row.is) {
			return fmt.Errorf("%w; %s", err, row.todo)
		}
	}
	return err
}
