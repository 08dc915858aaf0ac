// Package page is what each command says of what the core found: as tables and sentences for a person, as JSON and CSV
// for a script. A command has one file here. Each form of JSON is a named type, its document, from which docs/schema is
// made.
//
// Pages decide nothing. They are given what the core found, and the sentences are theirs.
package page

import (
	"fmt"
	"io"
	"time"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/internal/view"
)

// Writer writes pages in one form.
type Writer struct {
	view.Printer
	Format  string // table, json or csv
	Verbose bool   // with artifacts' images
	Quiet   bool   // results only
	Err     io.Writer
	Search  string // the address that programs are looked up at, {} where the words go; empty: none
}

// Note writes a line for the person to standard error, unless only results are wanted. All of it is made safe for a
// terminal: errors of packages hold names from the disk, too.
func (w Writer) Note(format string, args ...any) {
	if !w.Quiet {
		fmt.Fprintln(w.Err, view.Safe(fmt.Sprintf(w.HintedFormat(format), args...)))
	}
}

// Notes writes several.
func (w Writer) Notes(lines []string) {
	for _, l := range lines {
		w.Note("%s", w.Hinted(l))
	}
}

// Lines writes several lines of results.
func (w Writer) Lines(lines []string) {
	for _, l := range lines {
		w.Line("%s", w.Hinted(l))
	}
}

// list makes an empty list [] in JSON.
func list[T any](all []T) []T {
	if all == nil {
		return []T{}
	}
	return all
}

// Machine is how a machine stands in JSON.
type Machine struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	OS      string `json:"os"`
	Version string `json:"version"`
	Live    bool   `json:"live"`
	Root    string `json:"root"`
}

// MachineOf describes a machine.
func MachineOf(m *machine.Machine) Machine {
	return Machine{m.ID, autostart.Text(m.Name), m.OS, autostart.Text(m.Version), m.Live, m.Root}
}

// namedOr is its name, or that it has none.
func (m Machine) namedOr() string {
	if m.Name == "" {
		return "a machine without a name"
	}
	return m.Name
}

// Heading words a machine for a person.
func Heading(machine *machine.Machine) string {
	m := MachineOf(machine)
	h := m.namedOr() + " — " + m.Version
	if m.Live {
		return h + ", running"
	}
	return h + ", mounted at " + m.Root
}

// Subject names the machine that something is done to, and which of the two it is: the one at hand, or a disk.
func Subject(machine *machine.Machine) string {
	m := MachineOf(machine)
	if m.Live {
		return m.namedOr() + ", this running computer"
	}
	return m.namedOr() + ", the disk mounted at " + m.Root
}

// InShort names a machine, and tells whether it is the one at hand.
func InShort(machine *machine.Machine) string {
	m := MachineOf(machine)
	name := view.Safe(m.namedOr())
	if m.Live {
		return name + ", this computer"
	}
	return name + ", a disk"
}

// Ago words how long ago a moment was.
func Ago(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < -time.Minute:
		return "in the future, by this clock"
	case d < 2*time.Minute:
		return "just now"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes ago", int(d/time.Minute))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(d/time.Hour))
	}
	return fmt.Sprintf("%d days ago", int(d/(24*time.Hour)))
}

// Dated words a moment with its age: "2026-11-20 10:22, 5 days ago".
func Dated(t time.Time) string { return autostart.Minute(t) + ", " + Ago(t, time.Now()) }

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}
