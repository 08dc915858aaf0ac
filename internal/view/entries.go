package view

import (
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
)

// stageWords tell a person when a stage is.
var stageWords = map[autostart.Stage]string{
	autostart.Boot:     "At boot, before services",
	autostart.System:   "With the system, nobody signed in",
	autostart.SignIn:   "When somebody signs in",
	autostart.Schedule: "At a time or an interval",
	autostart.Event:    "On an event: a connection, a device, a file",
	autostart.Attach:   "Loaded into other programs",
}

// remarks are what a technician must not overlook about an entry.
func remarks(e *autostart.Entry) []string {
	var r []string
	for _, p := range e.Problems {
		switch p {
		case autostart.TargetMissing:
			// Where the command has the whole path, it is not said again.
			if e.Target.Path != "" && !(strings.ContainsAny(e.Target.Path, `/\`) && strings.Contains(e.Command, e.Target.Path)) {
				r = append(r, "program is missing: "+e.Target.Path)
			} else {
				r = append(r, "program is missing")
			}
		case autostart.Unparsable:
			r = append(r, "cannot be understood")
		case autostart.Insecure:
			r = append(r, "anybody may change it")
		case autostart.NotDefault:
			r = append(r, "not the system's own setting")
		}
	}
	if e.Guarded != "" {
		r = append(r, "guarded: "+e.Guarded)
	}
	if e.Switch == autostart.Report {
		r = append(r, "has no switch")
	}
	return r
}

// whose words for whom an entry starts.
func whose(e *autostart.Entry) string {
	if e.User == "" {
		return "all"
	}
	return e.User
}

// wideEnough is the width from which on an entry fits a row of its own.
const wideEnough = 120

// Entries writes entries grouped by stage: a row for each where the terminal is
// wide, else the name with what it starts below it.
func (p Printer) Entries(entries []*autostart.Entry) {
	columns, row := wideColumns, wideRow
	if p.Width > 0 && p.Width < wideEnough {
		columns, row = narrowColumns, narrowRow
	}
	rows := func(stages ...autostart.Stage) iter.Seq[[]Cell] {
		return func(yield func([]Cell) bool) {
			for _, e := range entries {
				if slices.Contains(stages, e.Stage) && !yield(row(e)) {
					return
				}
			}
		}
	}
	widths := p.Widths(columns, rows(autostart.Stages...))
	titles := true
	for _, stage := range autostart.Stages {
		if !slices.ContainsFunc(entries, func(e *autostart.Entry) bool { return e.Stage == stage }) {
			continue
		}
		if !titles {
			fmt.Fprintln(p.Out)
		}
		p.Bold(stageWords[stage])
		p.table(columns, rows(stage), widths, titles)
		titles = false
	}
}

// markOf makes what is off faint.
func markOf(e *autostart.Entry) Mark {
	if e.State == autostart.Disabled {
		return Quiet
	}
	return Plain
}

var wideColumns = []Column{{Title: "handle"}, {Title: "state"}, {Title: "name", Share: 3}, {Title: "for"}, {Title: "mode", Share: 3},
	{Title: "starts", Share: 5}, {Title: "remarks", Share: 3}}

func wideRow(e *autostart.Entry) []Cell {
	m := markOf(e)
	return []Cell{T(e.Handle), {[]string{string(e.State)}, m}, {[]string{e.Name}, m}, T(whose(e)), {[]string{e.Mode}, m},
		{[]string{e.Command}, m}, {remarks(e), Alert}}
}

var narrowColumns = []Column{{Title: "handle"}, {Title: "state"}, {Title: "for"}, {Title: "name, what it starts, mode and remarks", Share: 1}}

func narrowRow(e *autostart.Entry) []Cell {
	m := markOf(e)
	lines := []string{e.Name}
	if e.Command != "" {
		lines = append(lines, e.Command)
	}
	notes := remarks(e)
	if e.Mode != "" && e.Mode != string(e.State) {
		notes = append([]string{e.Mode}, notes...)
	}
	if len(notes) > 0 {
		lines = append(lines, "("+strings.Join(notes, "; ")+")")
	}
	return []Cell{T(e.Handle), {[]string{string(e.State)}, m}, T(whose(e)), {lines, m}}
}

// AppendEntry appends an entry in JSON, exactly as encoding/json would: thousands
// of entries are most of what list prints.
func AppendEntry(b []byte, e *autostart.Entry) ([]byte, error) {
	str := func(name, value string) {
		b = append(append(append(b, '"'), name...), `":`...)
		b = appendString(b, value)
		b = append(b, ',')
	}
	b = append(b, '{')
	str("handle", e.Handle)
	str("location", e.Location)
	str("stage", string(e.Stage))
	str("scope", string(e.Scope))
	str("user", e.User)
	str("name", e.Name)
	str("state", string(e.State))
	str("mode", e.Mode)
	str("command", e.Command)
	b = append(b, `"target":{`...)
	str("path", e.Target.Path)
	switch {
	case e.Target.Exists == nil:
		b = append(b, `"exists":null`...)
	default:
		b = strconv.AppendBool(append(b, `"exists":`...), *e.Target.Exists)
	}
	if e.Target.Size != 0 {
		b = strconv.AppendInt(append(b, `,"size":`...), e.Target.Size, 10)
	}
	if !e.Target.Modified.IsZero() {
		b = append(e.Target.Modified.AppendFormat(append(b, `,"modified":"`...), time.RFC3339Nano), '"')
	}
	b = append(b, `},"maker":{`...)
	str("name", e.Maker.Name)
	b = append(appendString(append(b, `"basis":`...), e.Maker.Basis), `},"os_part":`...)
	b = append(strconv.AppendBool(b, e.OSPart), ',')
	str("guarded", e.Guarded)
	b = append(b, `"source":{`...)
	str("path", e.Source.Path)
	str("key", e.Source.Key)
	b = append(strconv.AppendInt(append(b, `"line":`...), int64(e.Source.Line), 10), `},`...)
	str("switch", string(e.Switch))
	b = append(b, `"problems":[`...)
	for k, problem := range e.Problems {
		if k > 0 {
			b = append(b, ',')
		}
		b = appendString(b, problem)
	}
	return append(b, `]}`...), nil
}

// appendString appends a JSON string. Text that needs no escape is copied.
func appendString(b []byte, s string) []byte {
	simple := true
	for k := 0; k < len(s) && simple; k++ {
		simple = s[k] >= ' ' && s[k] <= '~' && s[k] != '"' && s[k] != '\\'
	}
	if simple {
		return append(append(append(b, '"'), s...), '"')
	}
	text, err := compact(s)
	if err != nil {
		panic(err) // a string always encodes
	}
	return append(b, text...)
}

// EntriesCSV writes entries as a sheet.
func (p Printer) EntriesCSV(entries []*autostart.Entry) error {
	header := []string{"handle", "location", "stage", "scope", "user", "name", "state", "mode", "command", "target", "target_exists",
		"maker", "maker_basis", "os_part", "guarded", "source", "key", "line", "switch", "problems"}
	rows := make([][]string, len(entries))
	for k, e := range entries {
		exists := "unknown"
		if e.Target.Exists != nil {
			exists = strconv.FormatBool(*e.Target.Exists)
		}
		rows[k] = []string{e.Handle, e.Location, string(e.Stage), string(e.Scope), e.User, e.Name, string(e.State), e.Mode, e.Command,
			e.Target.Path, exists, e.Maker.Name, e.Maker.Basis, strconv.FormatBool(e.OSPart), e.Guarded, e.Source.Path, e.Source.Key,
			strconv.Itoa(e.Source.Line), string(e.Switch), strings.Join(e.Problems, " ")}
	}
	return p.CSV(header, rows)
}

// Counts words the numbers that a technician quotes.
func Counts(entries []*autostart.Entry, leftOut int) string {
	on := 0
	for _, e := range entries {
		if e.State == autostart.Enabled {
			on++
		}
	}
	s := fmt.Sprintf("%d %s, %d %s off", on, plural(on, "starts", "start"), len(entries)-on, plural(len(entries)-on, "is", "are"))
	if leftOut > 0 {
		s += fmt.Sprintf(", %d not shown (parts of the operating system; --all shows them)", leftOut)
	}
	return s
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Number words a count of things: "1 entry", "3 entries".
func Number(n int, one, many string) string { return fmt.Sprintf("%d %s", n, plural(n, one, many)) }

// Unread writes the places that could not be read.
func (p Printer) Unread(unread []autostart.Unread) {
	if len(unread) == 0 {
		return
	}
	fmt.Fprintln(p.Out)
	p.Bold("Not read")
	rows := make([][]Cell, len(unread))
	for k, u := range unread {
		rows[k] = []Cell{T(u.Path), {[]string{u.Reason}, Alert}, T(u.Location)}
	}
	columns := []Column{{Title: "place", Share: 3}, {Title: "reason", Share: 2}, {Title: "location", Share: 2}}
	p.table(columns, slices.Values(rows), p.Widths(columns, slices.Values(rows)), false)
}
