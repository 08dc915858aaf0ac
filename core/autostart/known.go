package autostart

import "time"

// The ways in which a fact is known: what [Maker.Basis] and its like may hold. Where a fact is
// told by several, the stronger one is kept; core/program has the order.
const (
	BySignature       = "signature"            // signed, and traced to a root that is known
	ByUnanchored      = "signature-unanchored" // signed, the file is as it was signed, and its signer is nobody that is known
	ByPackage         = "package"              // a package database of the system
	ByReceipt         = "receipt"              // what the system noted when it was installed
	ByBundle          = "bundle"               // the app that it lies in says so
	ByVersionResource = "version-resource"     // the program says so itself
	ByCatalogue       = "catalogue"            // the catalogue of this program
	ByNote            = "note"                 // a technician's note
	BySealedVolume    = "sealed-volume"        // it lies on a volume that only the system's maker writes
	ByName            = "name"                 // its name and place, and nothing more
)

// Bases are all words for how a fact is known, the strongest first.
var Bases = []string{BySignature, BySealedVolume, ByPackage, ByReceipt, ByUnanchored, ByBundle, ByVersionResource, ByCatalogue, ByNote, ByName}

// Known is what is known of a program beside its file, decided from all evidence on it. Entries
// that start the same program share it, so nobody changes one that an entry has.
type Known struct {
	Maker            Maker
	Product          Product
	Description      string
	DescriptionBasis string
}

// Product is what a program came with.
type Product struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	// Installed is when it was installed, in the form of [time.RFC3339] or a day alone, as
	// exact as the system keeps it; empty where it does not.
	Installed string `json:"installed"`
}

// nothing is what is known of an entry that has no [Known].
var nothing Known

// Facts is what is known of the entry's program, never nil.
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
