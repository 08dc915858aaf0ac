// Package autostart holds the words that every other room of Lock Back speaks:
// an [Entry] is one thing that starts by itself on a computer, a [Stage] says
// when, a [State] says whether, a [Selector] chooses some of them.
//
// The package reads nothing and writes nothing. A newcomer can start here:
//
//	sel, err := autostart.ParseSelector([]string{"stage=sign-in", "Fogbell*"})
//	for _, e := range sel.Choose(entries) {
//		fmt.Println(e.Handle, e.Name, e.State)
//	}
package autostart

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Stage says when an entry starts, in the same six words on every system.
type Stage string

// The stages, in the order in which a computer passes through them.
const (
	Boot     Stage = "boot"     // with the kernel and before services
	System   Stage = "system"   // services, with nobody signed in
	SignIn   Stage = "sign-in"  // when a person signs in
	Schedule Stage = "schedule" // at a time or an interval
	Event    Stage = "event"    // on a device, network, sleep or message event
	Attach   Stage = "attach"   // code loaded into other programs
)

// Stages lists all stages in their fixed order.
var Stages = []Stage{Boot, System, SignIn, Schedule, Event, Attach}

// When is when the entries of a stage start that say nothing more exact; empty if the stage
// does not tell.
func (s Stage) When() string {
	switch s {
	case Boot:
		return "at startup, before services"
	case System:
		return "at startup"
	case SignIn:
		return "at sign-in"
	}
	return ""
}

// State says whether an entry would start the next time its stage comes.
type State string

// The two states. How the operating system words the state more precisely
// stands in [Entry.Mode].
const (
	Enabled  State = "enabled"
	Disabled State = "disabled"
)

// KeptInRecord is the mode of an entry that was removed, and that only the record shows.
const KeptInRecord = "removed (kept in the record)"

// Scope says whose list an entry stands in.
type Scope string

// The scopes: the whole computer, or one user's account.
const (
	ForSystem Scope = "system"
	ForUser   Scope = "user"
)

// Switch names the way in which an entry is turned off so that it can be turned
// on again exactly as it was.
type Switch string

// The switches known so far. Report means that no safe switch exists.
const (
	Hide        Switch = "hide"         // XDG: Hidden=true in the file or in an override of it
	Unlink      Switch = "unlink"       // removes the links that enable it, as the init system would
	Mask        Switch = "mask"         // a link to /dev/null at the overriding place
	Comment     Switch = "comment"      // "#lockback:off " before the line, in place
	Unexec      Switch = "unexec"       // takes the execute bits away
	Approve     Switch = "approve"      // Windows: the value that its own settings pages write
	StartType   Switch = "start-type"   // Windows: the start type of a service or driver
	TaskEnabled Switch = "task-enabled" // Windows: the scheduler's own switch of a task
	StateValue  Switch = "state-value"  // the on/off value that the location documents
	Override    Switch = "override"     // macOS: launchd's own database of what is disabled
	Trim        Switch = "trim"         // takes this one item out of a list
	Rename      Switch = "rename"       // Linux: links of runlevels, from S to K
	DownFile    Switch = "down-file"    // Linux: the file down beside a service of runit
	Park        Switch = "park"         // takes the artifact away; the record keeps it
	Report      Switch = "report"       // listed, compared and restored, never switched
)

// Entry is one thing that starts by itself. The JSON names are a promise to
// scripts, see docs/schema/list.schema.json.
type Entry struct {
	Handle   string `json:"handle"`   // seven characters, see [Handle]
	Location string `json:"location"` // the id of the location, see [lockback/core/location/table]
	Place    string `json:"place"`    // the location in people's words, "Autostart folder of ines"
	Stage    Stage  `json:"stage"`
	Scope    Scope  `json:"scope"`
	User     string `json:"user"` // whose entry it is; empty for the whole computer
	Name     string `json:"name"`
	// SystemName is what the system itself calls it: a service, a label, a value, a file.
	SystemName string `json:"system_name"`
	State      State  `json:"state"`
	Mode       string `json:"mode"`    // the operating system's own word for the state
	When       string `json:"when"`    // when it starts, in words
	Command    string `json:"command"` // as it is written at the source
	Target     Target `json:"target"`
	// Commands are all programs that it starts, where these are several; what only starts others is left out.
	Commands []Command `json:"commands"`
	Known    *Known    `json:"-"`        // what is known about the program; nil: nothing, see [Entry.Facts]
	OSPart   bool      `json:"os_part"`  // a part of the operating system itself
	OSBasis  string    `json:"os_basis"` // how that is known: [BySignature] and its like
	Guarded  string    `json:"guarded"`  // what a mistake with it would cost; empty: not guarded
	Caution  string    `json:"caution"`  // what to think of before it is turned off; empty: nothing
	Source   Source    `json:"source"`
	Switch   Switch    `json:"switch"`
	Problems []string  `json:"problems"` // words of a fixed list, see docs
	Cost     *Cost     `json:"cost"`     // nil if it is not known
	Uses     []Use     `json:"-"`        // the last time each person started it by hand, the latest first
	Notes    []Note    `json:"notes"`    // what technicians wrote down about it, the nearest first
	// Shared is one handle for all entries that are the same thing of everyone's, each as one user gets it;
	// empty of others.
	Shared string `json:"-"`
}

// LastUsed is when anybody last started the program by hand; the zero time if that is not known.
func (e *Entry) LastUsed() time.Time {
	if len(e.Uses) == 0 {
		return time.Time{}
	}
	return e.Uses[0].Last
}

// ForEveryone reports whether the entry starts for whoever signs in, or is loaded into everyone's
// programs. What starts without anyone signing in is not meant.
func (e *Entry) ForEveryone() bool { return e.User == "" && (e.Stage == SignIn || e.Stage == Attach) }

// Target is the program that an entry really starts.
type Target struct {
	Path   string `json:"path"`                         // empty where it cannot be told
	Exists *bool  `json:"exists" jsonschema:"nullable"` // nil (in JSON null) where it cannot be known
	// Size in bytes and time of last modification, zero where unknown. They
	// tell a program that was replaced from one that was not.
	Size     int64     `json:"size,omitempty"`
	Modified time.Time `json:"modified,omitzero"`
}

// Command is one of several programs that an entry starts.
type Command struct {
	// What the source calls its line, "ExecStartPre"; empty for the entry's own command.
	Key    string `json:"key"`
	Line   string `json:"line"`                         // the command as it is written
	Path   string `json:"path"`                         // the program; empty where it cannot be told
	Exists *bool  `json:"exists" jsonschema:"nullable"` // nil (in JSON null) where it cannot be known
}

// Maker is who made the program, and how that is known.
type Maker struct {
	Name  string `json:"name"`
	Basis string `json:"basis"`
}

// Source is the place that an entry was read from, as its own machine names it.
type Source struct {
	Path string `json:"path"`
	Key  string `json:"key"`  // the key or value inside, where the place has such
	Line int    `json:"line"` // counted from 1; 0 if the place has no lines
}

// Unread is a place that could not be read. It is always reported: an empty
// list must mean that there is nothing.
type Unread struct {
	Location string `json:"location"`
	Path     string `json:"path"`
	Reason   string `json:"reason"`
}

// The words that [Entry.Problems] may hold.
const (
	TargetMissing = "target-missing" // the program is not there
	Unparsable    = "unparsable"     // kept raw, could not be understood
	Ignored       = "ignored"        // the operating system skips it, the mode says why
	Insecure      = "insecure"       // others than its owner may change what it runs
	NotDefault    = "not-default"    // a setting of the system's own that leads elsewhere
	// Of the program itself.
	Unsigned         = "unsigned"          // not signed, where the system's kind of program usually is
	SignatureInvalid = "signature-invalid" // signed, and not as it was when it was signed
	Changed          = "changed"           // not as its package delivered it
	Impostor         = "impostor"          // a system's name in another place
	OddPlace         = "odd-place"         // where programs are not installed
	Obscured         = "obscured"          // its command hides what it does
	Twice            = "twice"             // another entry of the stage starts the same program
)

// Hidden says that the entry is a part of the system as the system comes with it, which lists leave out. One
// that somebody switched against that is shown.
func (e *Entry) Hidden() bool { return e.OSPart && !slices.Contains(e.Problems, NotDefault) }

// AllProblems are all words that [Entry.Problems] may hold.
var AllProblems = []string{TargetMissing, Unparsable, Ignored, Insecure, NotDefault, Unsigned, SignatureInvalid,
	Changed, Impostor, OddPlace, Obscured, Twice}

// Handle makes the short name of an entry from what identifies it: its location,
// its user and a key that stays the same while the entry is the same (a path, a
// unit's name, a line's command). It is the same in every snapshot. It begins
// with a letter and has seven characters of a-z and 2-7, so two of ten thousand
// entries share one about once in a hundred machines; selectors then ask for
// more words instead of picking one.
func Handle(location, user, key string) string {
	const letters = "abcdefghijklmnopqrstuvwxyz234567"
	b := make([]byte, 0, 256)
	b = append(append(append(append(append(b, location...), 0), user...), 0), key...)
	sum := sha256.Sum256(b)
	n := uint64(sum[0])<<32 | uint64(binary.BigEndian.Uint32(sum[1:5])) // 40 bits, of which 30 are shown
	h := [7]byte{'a' + sum[31]%26}
	for k := 1; k < len(h); k++ {
		h[k] = letters[n>>(40-5*k)&31]
	}
	return string(h[:])
}

// Text makes a name from the disk fit for JSON and the record: bytes that are
// not UTF-8 become \xNN. Control characters stay; the view deals with them.
func Text(raw string) string {
	if utf8.ValidString(raw) {
		return raw
	}
	var b strings.Builder
	for len(raw) > 0 {
		r, n := utf8.DecodeRuneInString(raw)
		if r == utf8.RuneError && n == 1 {
			fmt.Fprintf(&b, `\x%02x`, raw[0])
		} else {
			b.WriteString(raw[:n])
		}
		raw = raw[n:]
	}
	return b.String()
}

// Compare orders entries as every output shows them: by stage, location, user
// and name, and at last by place and handle, so that the order never depends on
// chance.
func Compare(a, b *Entry) int {
	if a.Stage != b.Stage {
		return cmp.Compare(slices.Index(Stages, a.Stage), slices.Index(Stages, b.Stage))
	}
	for _, pair := range [...][2]string{{a.Location, b.Location}, {a.User, b.User}, {a.Name, b.Name},
		{a.Source.Path, b.Source.Path}} {
		if pair[0] != pair[1] {
			return cmp.Compare(pair[0], pair[1])
		}
	}
	return cmp.Or(cmp.Compare(a.Source.Line, b.Source.Line), cmp.Compare(a.Handle, b.Handle))
}

// Switches are all switches.
var Switches = []Switch{Hide, Unlink, Mask, Comment, Unexec, Approve, StartType, TaskEnabled, Override, StateValue,
	Trim, Rename, DownFile, Park, Report}
