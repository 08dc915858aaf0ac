package view

import (
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location/table"
)

// stageWords tell a person when a stage is.
var stageWords = map[autostart.Stage]string{
	autostart.Boot:     "At startup, before services",
	autostart.System:   "At startup, before anyone signs in",
	autostart.SignIn:   "When a user signs in",
	autostart.Schedule: "At a time or an interval",
	autostart.Event:    "On an event: a connection, a device, a file",
	autostart.Attach:   "Loaded into other programs",
}

// stageOrder is a stage's place in the course of a start.
func stageOrder(s autostart.Stage) int { return slices.Index(autostart.Stages, s) }

// StageWords say when a stage is.
func StageWords(s autostart.Stage) string { return stageWords[s] }

// problemWords say in words what is wrong with an entry.
var problemWords = map[string]string{
	autostart.Unparsable: "cannot be parsed",
	autostart.Insecure:   "any user can change what it runs",
	autostart.NotDefault: "not the system's own setting",

	autostart.Unsigned:         "not signed",
	autostart.SignatureInvalid: "not as it was signed",
	autostart.Changed:          "not as its package delivered it",
	autostart.Impostor:         "uses a name of the system's, but is not the system's",
	autostart.OddPlace:         "in an odd place",
	autostart.Obscured:         "hides what it does",
	autostart.Twice:            "another entry starts the same program",
}

// makerWords say how sure it is who made a program.
var makerWords = map[string]string{
	autostart.BySignature:       "signed",
	autostart.ByUnanchored:      "signed, not traced",
	autostart.ByPackage:         "package",
	autostart.BySealedVolume:    "system volume",
	autostart.ByReceipt:         "as installed",
	autostart.ByBundle:          "unproven",
	autostart.ByVersionResource: "unproven",
}

// MadeBy is who made an entry's program, and how sure that is; empty if nobody is known.
func MadeBy(e *autostart.Entry) string { return MakerWords(e.Maker()) }

// MakerWords are a maker's name, and how sure it is.
func MakerWords(maker autostart.Maker) string {
	if maker.Name == "" {
		return ""
	}
	word, ok := makerWords[maker.Basis]
	if !ok {
		word = maker.Basis
	}
	return maker.Name + " (" + word + ")"
}

// Problems are in words what is wrong with an entry.
func Problems(e *autostart.Entry) []string {
	var all []string
	for _, p := range e.Problems {
		switch {
		case p == autostart.Ignored: // its mode says why
		case p == autostart.TargetMissing && e.Target.Path != "" && !(strings.ContainsAny(e.Target.Path, `/\`) &&
			strings.Contains(e.Command, e.Target.Path)):
			all = append(all, "program missing: "+e.Target.Path)
		case p == autostart.TargetMissing: // the command has the whole path
			all = append(all, "program missing")
		case problemWords[p] != "":
			all = append(all, problemWords[p])
		default:
			all = append(all, p)
		}
	}
	return all
}

// remarks are what else a technician should know of an entry before touching it.
func remarks(e *autostart.Entry) []string {
	var all []string
	if e.Guarded != "" {
		all = append(all, "protected: "+e.Guarded)
	}
	if e.Caution != "" {
		all = append(all, "think twice: "+e.Caution)
	}
	if also := alsoRuns(e); also != "" {
		all = append(all, also)
	}
	if e.Switch == autostart.Report {
		all = append(all, "cannot be turned off here")
	}
	if cost := CostWords(e.Cost); cost != "" {
		all = append(all, cost)
	}
	if len(e.Uses) > 0 {
		all = append(all, UseWords(e.Uses[0]))
	}
	return all
}

// alsoRuns words which programs an entry starts besides its own.
func alsoRuns(e *autostart.Entry) string {
	var names []string
	for _, c := range e.Commands {
		name := c.Path[strings.LastIndexAny(c.Path, `/\`)+1:]
		switch {
		case c.Path == "":
			name = "more that only running it would show"
		case c.Path == e.Target.Path:
			continue
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	switch {
	case len(names) == 0:
		return ""
	case len(names) > 3:
		return fmt.Sprintf("also runs %d other programs", len(names))
	}
	return "also runs " + strings.Join(names, ", ")
}

// Whose words for whom an entry starts.
func Whose(e *autostart.Entry) string {
	if e.User == "" {
		return "everyone"
	}
	return e.User
}

// saysMore reports whether the mode of an entry says more than the state and the time of the start do.
func saysMore(e *autostart.Entry) bool {
	switch e.Mode {
	case "", "enabled", "disabled", "on":
		return false
	}
	plain := table.Row(e.Location).Plain
	return plain == nil || !plain(e.Mode)
}

// details are when an entry starts and in what mode it is, as far as its stage and state do not
// say it.
func details(e *autostart.Entry) []string {
	var all []string
	if e.When != e.Stage.When() {
		all = append(all, e.When)
	}
	if saysMore(e) {
		all = append(all, e.Mode)
	}
	return all
}
