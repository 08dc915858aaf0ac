package taskxml

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"lockback/core/format/windata"
)

// The triggers of a new task; without one it runs by the clock.
const (
	AtLogon = "LogonTrigger"
	AtBoot  = "BootTrigger"
)

// New is a task to make.
type New struct {
	Description        string
	Command, Arguments string
	User               string // the SID of whom it is for; empty: at sign-in everyone, else the system
	Trigger            string
	Delay              time.Duration // after the trigger
	Every              time.Duration // by the clock: each time that long after the last
	Daily              bool          // by the clock: each day, at that time after midnight
	At                 time.Duration
	Now                time.Time
}

// Encode writes the definition, in UTF-16 with its mark, as the scheduler itself writes it: MS-TSCH 2.5, version 1.2.
func (n New) Encode() []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\r\n", args...) }
	line(`<?xml version="1.0" encoding="UTF-16"?>`)
	line(`<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">`)
	line(`  <RegistrationInfo><Description>%s</Description></RegistrationInfo>`, escaped(n.Description))
	line(`  <Triggers>`)
	start := n.Now.Truncate(time.Minute)
	switch {
	case n.Trigger != "":
		line(`    <%s><Enabled>true</Enabled>%s%s</%s>`, n.Trigger, whom(n.Trigger, n.User), delay(n.Delay), n.Trigger)
	case n.Daily:
		day := time.Date(start.Year(), start.Month(), start.Day(), 0, 0, 0, 0, time.Local).Add(n.At)
		line(
			`    <CalendarTrigger><StartBoundary>%s</StartBoundary><Enabled>true</Enabled><ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay></CalendarTrigger>`, day.Format("2006-01-02T15:04:05"))
	default:
		line(
			`    <TimeTrigger><Repetition><Interval>%s</Interval></Repetition><StartBoundary>%s</StartBoundary><Enabled>true</Enabled></TimeTrigger>`, span(n.Every), start.Format("2006-01-02T15:04:05"))
	}
	line(`  </Triggers>`)
	line(`  <Principals><Principal id="Author">%s</Principal></Principals>`, n.principal())
	line(
		`  <Settings><MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy><DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries><StopIfGoingOnBatteries>false</StopIfGoingOnBatteries><StartWhenAvailable>true</StartWhenAvailable><ExecutionTimeLimit>PT0S</ExecutionTimeLimit><Enabled>true</Enabled></Settings>`)
	arguments := ""
	if n.Arguments != "" {
		arguments = "<Arguments>" + escaped(n.Arguments) + "</Arguments>"
	}
	line(`  <Actions Context="Author"><Exec><Command>%s</Command>%s</Exec></Actions>`, escaped(n.Command), arguments)
	line(`</Task>`)
	return append([]byte{0xff, 0xfe}, windata.Encode(b.String())...)
}

// principal is whom the task runs as: its user in their session, everyone's in the session of who signs in, else the
// system.
func (n New) principal() string {
	switch {
	case n.User != "":
		return "<UserId>" + escaped(n.User) + "</UserId><LogonType>InteractiveToken</LogonType>"
	case n.Trigger == AtLogon:
		return "<GroupId>S-1-5-32-545</GroupId>" // the users of the computer
	}
	return "<UserId>S-1-5-18</UserId>"
}

func whom(trigger, user string) string {
	if user == "" || trigger != AtLogon {
		return ""
	}
	return "<UserId>" + escaped(user) + "</UserId>"
}

func delay(d time.Duration) string {
	if d <= 0 {
		return ""
	}
	return "<Delay>" + span(d) + "</Delay>"
}

// span is a duration of ISO 8601.
func span(d time.Duration) string { return fmt.Sprintf("PT%dS", int64(d/time.Second)) }

func escaped(s string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(s))
	return b.String()
}

// SetDelay returns the definition with a delay after its triggers at sign-in and at startup, all other bytes as they
// were; ok is false where it has neither. The delay is the last thing that such a trigger says, MS-TSCH 2.5.3.
func SetDelay(content []byte, after time.Duration) (changed []byte, ok bool, err error) {
	s, encode, err := text(content)
	if err != nil {
		return nil, false, err
	}
	type edit struct {
		from, to int
		with     string
	}
	var edits []edit
	var path []string
	delayed := false // this trigger says one already
	d := decoder(s)
	for {
		start := int(d.InputOffset())
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, false, fmt.Errorf("%w: %w", ErrNotTask, err)
		}
		in := len(path) >= 3 && path[0] == "Task" && path[1] == "Triggers" && (path[2] == AtLogon || path[2] == AtBoot)
		switch token := token.(type) {
		case xml.StartElement:
			if path = append(path, token.Name.Local); len(path) > maxDepth {
				return nil, false, fmt.Errorf("%w: nested too deep", ErrNotTask)
			}
		case xml.CharData:
			if in && len(path) == 4 && path[3] == "Delay" {
				edits, delayed = append(edits, edit{start, int(d.InputOffset()), span(after)}), true
			}
		case xml.EndElement:
			switch {
			case in && len(path) == 3 && int(d.InputOffset()) == start:
				// A trigger without an end of its own, <BootTrigger/>: the decoder makes one up.
				edits = append(edits, edit{start - len("/>"), start, ">" + delay(after) + "</" + path[2] + ">"})
			case in && len(path) == 3 && !delayed:
				edits = append(edits, edit{start, start, delay(after)})
			}
			if len(path) == 3 {
				delayed = false
			}
			if len(path) > 0 {
				path = path[:len(path)-1]
			}
		}
	}
	for k := len(edits) - 1; k >= 0; k-- {
		s = s[:edits[k].from] + edits[k].with + s[edits[k].to:]
	}
	return encode(s), len(edits) > 0, nil
}
