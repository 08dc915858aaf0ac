package autostart

import (
	"cmp"
	"strconv"
	"time"
)

// The ways in which a fact is known: what [Maker.Basis] and its like may hold. If several sources
// give a fact, the strongest counts; core/program has the order.
const (
	BySignature = "signature" // signed, and traced to a root that is known
	// signed, the file is as it was signed, and its signer is nobody that is known
	ByUnanchored      = "signature-unanchored"
	ByPackage         = "package"          // a package database of the system
	ByReceipt         = "receipt"          // what the system noted when it was installed
	ByBundle          = "bundle"           // the app that it lies in says so
	ByVersionResource = "version-resource" // the program says so itself
	ByCatalogue       = "catalogue"        // the catalogue of this program
	ByNote            = "note"             // a technician's note
	BySealedVolume    = "sealed-volume"    // it lies on a volume that only the system's maker writes
	ByName            = "name"             // its name and place only
)

// Bases are all words for how a fact is known, the strongest first.
var Bases = []string{BySignature, BySealedVolume, ByPackage, ByReceipt, ByUnanchored, ByBundle, ByVersionResource,
	ByCatalogue, ByNote, ByName}

// Proven reports whether a basis tells one maker from another. What was noted at an installation does not: the file may
// have changed since, and on Windows every installer writes it, that of a single user too.
func Proven(basis string) bool {
	switch basis {
	case BySignature, BySealedVolume, ByPackage:
		return true
	}
	return false
}

// FactKind says what a fact is about, where something depends on that. Its words are the view's.
type FactKind uint8

// The kinds of facts.
const (
	OtherFact         FactKind = iota // told by its name alone
	FactDescription                   // how its place describes the entry
	FactComment                       // what stands beside the entry as a comment
	FactWithoutIt                     // what is lost without the program
	FactOwnSetting                    // the program's own setting that turns it off
	FactKnownFrom                     // the catalogue that knows the program
	FactLooksLike                     // the program that an entry has the names of
	FactUnproven                      // what is missing for a proof that it is that program
	FactReturns                       // whether the program turns its entries on again
	FactUpdates                       // whether updates that matter come through it
	FactMayWait                       // whether it may start later
	FactBusiness                      // what differs where a company manages the program
	FactSince                         // since when a program is there, and what brought it
	FactSiblings                      // what else its maker has on the machine
	FactSeenOn                        // on which other machines the record saw it
	FactProduct                       // the product that a file came with
	FactMadeBy                        // who made a file
	FactDescribedAs                   // how a file describes itself
	FactUnchanged                     // whether a file is as it was delivered
	FactUninstalledBy                 // the command that uninstalls the product
	FactSignature                     // whether a file is signed
	FactSignedBy                      // by whom
	FactSignedAs                      // as what
	FactSignedAt                      // when
)

// Known is what is known about a program beside its file, decided from all evidence on it. Entries
// that start the same program share it, so nobody changes one that an entry has.
type Known struct {
	Maker            Maker
	Product          Product
	Description      string
	DescriptionBasis string
	// Role is what the program is for, Verdict what the catalogue or a note says about it; empty
	// where that is not known. RoleBasis is a basis, or what of its place tells.
	Role, RoleBasis, Verdict, VerdictBasis string
}

// Product is what a program came with.
type Product struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	// Installed is when it was installed, in the form of [time.RFC3339] or a day alone, as
	// exact as the system keeps it; empty where it does not.
	Installed string `json:"installed"`
}

// Cost is what a program costs, from one source.
type Cost struct {
	CPUMS    int64  `json:"cpu_ms"`    // milliseconds of processor time
	MemoryKB int64  `json:"memory_kb"` // memory in units of 1,024 bytes
	DiskKB   int64  `json:"disk_kb"`   // read and written, in units of 1,024 bytes
	StartMS  int64  `json:"start_ms"`  // how long it took to start, in milliseconds
	Basis    string `json:"basis"`     // where the figures come from, and of when they are
	// StartBasis is the same of StartMS, which is of another start than the other figures may be.
	StartBasis string `json:"start_basis"`
	// Since is when the program that runs now was started.
	Since time.Time `json:"since,omitzero"`
}

// Compare orders costs by the harm that they do, the worst first: seconds on the way to the desktop, then processor
// time, what is read and written, memory. Tenths of a second and megabytes count. What has no figures, nil, comes last.
func (c *Cost) Compare(o *Cost) int {
	switch {
	case c == nil && o == nil:
		return 0
	case c == nil:
		return 1
	case o == nil:
		return -1
	}
	return cmp.Or(cmp.Compare(o.StartMS/100, c.StartMS/100), cmp.Compare(o.CPUMS/100, c.CPUMS/100),
		cmp.Compare(o.DiskKB>>10, c.DiskKB>>10), cmp.Compare(o.MemoryKB>>10, c.MemoryKB>>10))
}

// Note is what a technician wrote down about an entry's program, or of the entry itself.
type Note struct {
	Text    string    `json:"text"`
	Verdict string    `json:"verdict"`
	Role    string    `json:"role"`
	By      string    `json:"by"` // who
	Time    time.Time `json:"time"`
	// Machine says that it is about this machine's entry, and not about the program wherever it is.
	Machine bool `json:"machine"`
	// Proven says that the program was recognised by what proves it, and not by names that anybody can give.
	Proven bool `json:"proven"`
}

// Use is when a person started a program by hand.
type Use struct {
	Last  time.Time
	Count int    // how often, where the system counts; 0 where it does not
	User  string // who
	Basis string // where that was read
}

// RoleUnknown and Unrated are the words for a role and a verdict that nobody knows.
const (
	RoleUnknown = "unknown"
	Unrated     = "unrated"
)

// RoleWord is the program's role, [RoleUnknown] where it is not known.
func (k *Known) RoleWord() string { return cmp.Or(k.Role, RoleUnknown) }

// VerdictWord is what is said about the program, [Unrated] where nothing is.
func (k *Known) VerdictWord() string { return cmp.Or(k.Verdict, Unrated) }

// nothing is what is known about an entry that has no [Known].
var nothing Known

// Facts is what is known about the entry's program, never nil.
func (e *Entry) Facts() *Known {
	if e.Known == nil {
		return &nothing
	}
	return e.Known
}

// Maker is who made the program; the zero Maker where that is not known.
func (e *Entry) Maker() Maker { return e.Facts().Maker }

// Day is a time as a day in UTC; empty for the zero time.
func Day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.DateOnly)
}

// Roles are the words for what a program is for.
var Roles = []string{"security", "device", "input", "display", "sound", "network", "storage", "system", "accessibility",
	"backup", "sync", "updater", "messaging", "launcher", "media", "printing", "office",
	"telemetry", "helper", RoleUnknown}

// Verdicts are the words for what to do with a program.
var Verdicts = []string{"essential", "useful", "spare", "hostile", Unrated}

// Minute is a moment as a person reads it: in the time of the place where the program runs, to the minute.
func Minute(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// Count is a number with the word for what is counted: "1 entry", "2 entries".
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}
