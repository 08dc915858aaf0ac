// Package crontab reads and edits cron's tables, after crontab(5) of the cron
// that Debian and most others ship. Every line is kept byte for byte; the only
// edit is to switch a line off, by a comment that is ours, and on again:
//
//	t := crontab.Parse(content, true) // true: a system table, with a user field
//	for _, l := range t.Jobs() { ... }
//	t.SetOff(l.Number, true)
//	content = t.Bytes()
package crontab

import (
	"bytes"
	"strings"
)

// OffMark begins a line that Lock Back turned off.
const OffMark = "#lockback:off "

// Kind says what a line is.
type Kind uint8

// The kinds of lines. A Bad line is neither comment nor variable nor job: cron
// then refuses the whole table.
const (
	Other Kind = iota // blank, or a comment
	Variable
	Job
	Bad
)

// Line is one line of a table.
type Line struct {
	Number   int32 // counted from 1
	Kind     Kind
	Off      bool   // turned off by Lock Back
	Schedule string // "17 * * * *" or "@reboot"
	User     string // in a system table
	Command  string // with cron's % still in it
	Shell    string // what runs the command: the last SHELL before the line, and /bin/sh without one
	raw      string // with its line end
}

// Text is the line as it stands in the table, with its line end.
func (l *Line) Text() string { return l.raw }

// Table is a whole crontab.
type Table struct {
	Lines []Line
	// Ended reports whether the last line has its line end. Without it, cron
	// ignores the table.
	Ended    bool
	withUser bool
}

// Parse reads a table; withUser says that jobs name a user, as in /etc/crontab
// and /etc/cron.d.
func Parse(content []byte, withUser bool) *Table {
	t := &Table{Ended: len(content) == 0 || content[len(content)-1] == '\n', withUser: withUser,
		Lines: make([]Line, 0, bytes.Count(content, []byte{'\n'})+1)}
	// The lines share one copy of the text: a table can have a hundred thousand.
	shell := "/bin/sh"
	for raw := range strings.Lines(string(content)) {
		l := parseLine(raw, withUser)
		l.Number, l.Shell = int32(len(t.Lines)+1), shell
		if name, value, _ := strings.Cut(raw, "="); l.Kind == Variable && strings.Trim(name, " \t\"'") == "SHELL" {
			shell = strings.Trim(value, " \t\r\n\"'")
		}
		t.Lines = append(t.Lines, l)
	}
	return t
}

func parseLine(raw string, withUser bool) Line {
	l := Line{raw: raw}
	text := strings.TrimLeft(strings.TrimRight(raw, "\r\n"), " \t")
	if rest, ok := strings.CutPrefix(text, OffMark); ok && !strings.HasPrefix(strings.TrimLeft(rest, " \t"), "#") {
		off := parseLine(rest, withUser)
		if off.Kind == Job || off.Kind == Bad {
			off.raw, off.Off = raw, true
			return off
		}
	}
	switch {
	case text == "" || text[0] == '#':
		return l
	case isVariable(text):
		l.Kind = Variable
		return l
	}
	l.Kind = Job
	if text[0] == '@' {
		l.Schedule, text = cutField(text)
		if !nicknames[l.Schedule] {
			l.Kind = Bad
		}
	} else {
		var fields [5]string
		for k := range fields {
			fields[k], text = cutField(text)
			if f := fields[k]; f == "" ||
				strings.Trim(f, "0123456789*/,-~?#LWabcdefghijklmnopqrstuvwxyzABCDEFGHIJKMNOPQRSTUVXYZ") != "" {
				l.Kind = Bad
			}
		}
		l.Schedule = strings.Join(fields[:], " ")
		if k := strings.Index(raw, l.Schedule); k >= 0 {
			l.Schedule = raw[k : k+len(l.Schedule)]
		}
	}
	if withUser {
		l.User, text = cutField(text)
		if l.User == "" {
			l.Kind = Bad
		}
	}
	l.Command = strings.TrimSpace(text)
	if l.Command == "" {
		l.Kind = Bad
	}
	if l.Kind == Bad {
		l.Command = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(raw), OffMark))
	}
	return l
}

// nicknames are the schedules that have a name, crontab(5).
var nicknames = map[string]bool{"@reboot": true, "@yearly": true, "@annually": true, "@monthly": true,
	"@weekly": true, "@daily": true, "@midnight": true, "@hourly": true}

// isVariable tells name=value, the name possibly quoted, from a job.
func isVariable(text string) bool {
	name, _, ok := strings.Cut(text, "=")
	name = strings.TrimSpace(name)
	if !ok || name == "" {
		return false
	}
	if q := name[0]; (q == '"' || q == '\'') && len(name) > 2 && name[len(name)-1] == q {
		return true
	}
	return !strings.ContainsAny(name, " \t*/@'\"")
}

func cutField(s string) (field, rest string) {
	end := strings.IndexAny(s, " \t")
	if end < 0 {
		return s, ""
	}
	return s[:end], strings.TrimLeft(s[end:], " \t")
}

// Bytes returns the table, unchanged but for what was switched.
func (t *Table) Bytes() []byte {
	var b bytes.Buffer
	for _, l := range t.Lines {
		b.WriteString(l.raw)
	}
	return b.Bytes()
}

// With returns the table with one more line behind the one with that number, where the table is not
// [Table.Broken]. The text has no line end.
func (t *Table) With(number int32, text string) []byte {
	var b bytes.Buffer
	for _, l := range t.Lines {
		b.WriteString(l.raw)
		if l.Number == number {
			b.WriteString(text + "\n")
		}
	}
	return b.Bytes()
}

// Jobs returns the lines that start something, those turned off by us among
// them, and the ones that cannot be parsed.
func (t *Table) Jobs() []Line {
	jobs := make([]Line, 0, len(t.Lines))
	for _, l := range t.Lines {
		if l.Kind == Job || l.Kind == Bad {
			jobs = append(jobs, l)
		}
	}
	return jobs
}

// SetOff switches the line with that number off or on.
func (t *Table) SetOff(number int32, off bool) {
	l := &t.Lines[number-1]
	if l.Off == off {
		return
	}
	if l.Off = off; off {
		l.raw = OffMark + l.raw
	} else {
		l.raw = strings.Replace(l.raw, OffMark, "", 1)
	}
}

// Broken reports why cron ignores the whole table, and "" where it does not.
func (t *Table) Broken() string {
	if !t.Ended {
		return "the last line does not end"
	}
	for _, l := range t.Lines {
		if l.Kind == Bad && !l.Off {
			return "a line cannot be parsed"
		}
	}
	return ""
}
