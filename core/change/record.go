package change

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/snapshot"
)

// Record remembers machines, snapshots and changes. What it says was kept is on the disk, and
// is read again to the byte. What every engine behind it owes stands as tests in
// internal/recordtest.
type Record interface {
	// Update runs do in a transaction: all of it is recorded and flushed, or nothing.
	Update(do func(Tx) error) error

	// Machines lists the machines of the record by name.
	Machines() ([]KnownMachine, error)
	// Snapshot loads the snapshot with that number, or fails with [ErrNotFound]; Snapshots
	// lists those of a machine, oldest first, without what they hold.
	Snapshot(id int) (*snapshot.Snapshot, error)
	Snapshots(machine string) ([]*snapshot.Snapshot, error)
	// Blob returns a content by its digest, or fails with [ErrDamaged]; Has reports whether
	// there is one.
	Blob(snapshot.Digest) ([]byte, error)
	Has(snapshot.Digest) bool

	// Change loads a change with its journal, or fails with [ErrNotFound]; Changes lists those
	// of a machine, oldest first, and Interrupted the ones that were begun and neither finished
	// nor taken back nor given up, without their journals.
	Change(id int) (Change, error)
	Changes(machine string) ([]Change, error)
	Interrupted(machine string) ([]Change, error)
	// Holds reads a change again after it was committed, and fails with [ErrDamaged] where the
	// record does not hold all of it.
	Holds(Change) error

	// Removals visits what the changes of a machine that stand took away, the newest first.
	Removals(machine string, visit func(Removal) error) error
	// Latest finds the image that the last change of a machine which stands brought an artifact
	// to; ok is false where none did.
	Latest(id string) (find func(artifact.Artifact) (i artifact.Image, ok bool, err error), err error)
	// Decisions tells how the changes of a machine which stand left its entries, by handle. Changes of early
	// versions do not tell.
	Decisions(machine string) (map[string]Decision, error)
	// StepsOn visits the images that the changes of a machine which stand found and left at an
	// artifact, oldest first.
	StepsOn(id string, a artifact.Artifact, visit func(before, after artifact.Image)) error
	// Touched visits the steps of a change without their images, and Step loads one of them by
	// its number: of a large change, most are never asked for.
	Touched(id int, visit func(seq int, handles []string, a artifact.Artifact)) error
	Step(id, seq int) (Step, error)
}

// Tx is a transaction of a record.
type Tx interface {
	// AddMachine records what a machine calls itself now.
	AddMachine(*machine.Machine) error
	// Keeper keeps the contents and sections of a capture, each once.
	Keeper() snapshot.Keeper
	// AddSnapshot records a capture that was made with Keeper, and gives it its number.
	AddSnapshot(*snapshot.Snapshot) error
	// AddChange records a change with its journal, and gives it its number.
	AddChange(*Change) error
	// SetState records how far a change got.
	SetState(id int, state State) error
	// Keep records when the trial of a change was ended.
	Keep(id int, at time.Time) error
}

// Errors of a record that callers decide on.
var (
	ErrInUse    = errors.New("another lockback is writing to the record")
	ErrNewer    = errors.New("the record was written by a newer lockback")
	ErrDamaged  = errors.New("the record is damaged")
	ErrFull     = errors.New("the disk of the record is full")
	ErrReadOnly = errors.New("the record cannot be written to")
	ErrRights   = errors.New("the record belongs to somebody else")
	ErrNotFound = errors.New("not in the record")
)

// KnownMachine is a machine that the record knows.
type KnownMachine struct{ ID, Name, OS, Version string }

// Kind says what a change is.
type Kind string

// The kinds of changes.
const (
	Disable Kind = "disable"
	Enable  Kind = "enable"
	Restore Kind = "restore"
	Undo    Kind = "undo"
	Review  Kind = "review"  // turned some entries off and others on
	Add     Kind = "add"     // made an entry
	Delay   Kind = "delay"   // made entries start later
	Remove  Kind = "remove"  // took entries away for good: only the record has them
	Keep    Kind = "keep"    // let stay enabled what had come back by itself: nothing was written
	Culprit Kind = "culprit" // a round of the search for what broke something
)

// Tried reports whether changes of the kind are on trial until somebody confirms them.
func (k Kind) Tried() bool {
	return k == Disable || k == Review || k == Remove || k == Add || k == Delay
}

// DefaultTrial is after how many days a change that nobody has confirmed is called to mind.
const DefaultTrial = 14

// State says how far a change got.
type State string

// The states of a change. Begun means that it was begun and neither finished nor
// taken back.
const (
	Begun  State = "interrupted"
	Done   State = "done"
	Undone State = "undone"
	// Abandoned means that it was given up: part of it may be done.
	Abandoned State = "abandoned"
)

// Change is a set of steps made together.
type Change struct {
	ID       int
	Machine  string
	Time     time.Time
	Kind     Kind
	Message  string
	Snapshot int // the one taken before it
	Entries  int
	State    State
	Undoes   int // for an undo: the change taken back
	// Token is drawn by lot and is in the names of what the change prepares. Changes of
	// early versions have none.
	Token string
	// Root and Host say where the change was made: the mounted folder, empty for the
	// running machine, and the machine's name. A machine's id alone may be that of
	// a clone, too.
	Root, Host string
	// Boot is in which start of the system it was made, as [machine.Machine.Boot] has it: that of its snapshot.
	Boot string
	// Trial is after how many days somebody wants to be reminded that nobody has confirmed the change, and
	// Kept when somebody did; the zero time if nobody has.
	Trial    int
	Kept     time.Time
	Outcomes []Outcome
	Steps    []Step
	Folders  []Folder
}

// Outcome is how a change leaves some of its entries.
type Outcome struct {
	State   autostart.State // empty: they are not there; or [Removed]
	Handles []string
}

// Removed is the state of an entry that is kept in the record only, in outcomes and decisions.
const Removed autostart.State = "removed"

// Decision is how the changes that stand left an entry.
type Decision struct {
	Change int
	State  autostart.State // empty: it was not there; or [Removed]
	// Off are the changes that turned it off one after the other, none in between having turned it on: before
	// each but the first it had come back by itself.
	Off []int
}

// IsOff reports whether the entry was left disabled, or removed.
func (d Decision) IsOff() bool { return d.State == autostart.Disabled || d.State == Removed }

// OnTrial reports whether the change stands and nobody has confirmed it.
func (c Change) OnTrial() bool { return c.State == Done && c.Kind.Tried() && c.Kept.IsZero() }

// Stands reports whether the change is done, wrote something, and can be undone.
func (c Change) Stands() bool { return c.State == Done && c.Kind != Keep }

// Words are what the history says about the change: its kind and its message.
func (c Change) Words() string {
	message := c.Message
	if message == "" && c.Undoes > 0 {
		message = "takes back C" + strconv.Itoa(c.Undoes)
	}
	return strings.TrimSuffix(string(c.Kind)+": "+message, ": ")
}

// Name is how people write the number of a change: C1.
func (c Change) Name() string { return fmt.Sprintf("C%d", c.ID) }

// Step brings one artifact from one image to another.
type Step struct {
	Handles  []string
	Artifact artifact.Artifact
	Before   artifact.Image
	After    artifact.Image
}

// MakesFolder reports whether the step makes a folder that was not there.
func (s Step) MakesFolder() bool {
	return s.Before.Kind == artifact.Absent && s.After.Container()
}

// Folder is a folder that steps make names in or remove names from. Its times
// are put back where the names in it are those of an earlier image again: Before
// when the change is taken back, After when it is done.
type Folder struct {
	Artifact artifact.Artifact
	Before   artifact.Image
	After    artifact.Image
}

// Removal is a step that took an artifact away, or something out of a list, for
// some entries.
type Removal struct {
	Change   int
	Kind     Kind
	Snapshot int // taken before it
	Handles  []string
	Artifact artifact.Artifact
	Whole    bool // nothing is left of the artifact; else it was cut out of it
}
