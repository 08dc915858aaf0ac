// Package taskxml reads and edits the definitions of scheduled tasks that
// Windows Vista and later keep as XML, as MS-TSCH 2.5 describes them:
//
//	task, err := taskxml.Parse(content)
//	fmt.Println(task.Enabled, task.Triggers, task.Execs)
//	content, err = taskxml.SetEnabled(content, false)
//
// An edit changes the one word it is about; every other byte stays.
package taskxml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strconv"
	"strings"

	"lockback/core/format/windata"
)

// Task is what a definition says.
type Task struct {
	URI         string
	Author      string
	Description string
	Date        string
	Enabled     bool // of the task; each trigger has its own word besides
	Hidden      bool
	UserID      string // whom it runs as
	GroupID     string
	LogonType   string // how it signs in: Password, S4U, InteractiveToken...
	RunLevel    string // HighestAvailable: with the administrator's rights
	Maintenance string // the period in which automatic maintenance runs it, ISO 8601; empty: it does not
	Triggers    []Trigger
	Execs       []Exec
	Handlers    []Handler // actions that are COM objects
	Others      []string  // other actions: SendEmail, ShowMessage
}

// Trigger is one cause for which a task starts.
type Trigger struct {
	Kind     string // the element's name: LogonTrigger, CalendarTrigger...
	Enabled  bool
	Start    string // StartBoundary, as it is written
	End      string
	UserID   string
	Delay    string
	Interval string // of a repetition, ISO 8601: PT1H
	Schedule string // in words: "every day", "every 2 weeks on Monday"
	Events   string // the query of an EventTrigger
	State    string // StateChange of a SessionStateChangeTrigger
}

// Exec is an action that starts a program.
type Exec struct{ Command, Arguments, WorkingDirectory string }

// Handler is an action that is a COM object.
type Handler struct{ ClassID, Data string }

// Errors that callers decide on.
var (
	ErrNotTask  = errors.New("not a task definition")
	ErrEncoding = errors.New("neither UTF-8 nor UTF-16")
)

const maxDepth = 64

// text decodes a definition to UTF-8 and returns how to encode it again.
func text(b []byte) (string, func(string) []byte, error) {
	switch {
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}):
		return windata.Decode(b[2:]), func(s string) []byte { return append([]byte{0xff, 0xfe}, windata.Encode(s)...) },
			nil
	case bytes.HasPrefix(b, []byte{0xfe, 0xff}):
		return windata.Decode(windata.Swap(b[2:])), func(s string) []byte {
			return append([]byte{0xfe, 0xff},
				windata.Swap(windata.Encode(s))...)
		}, nil
	case len(b) >= 4 && b[0] == '<' && b[1] == 0:
		return windata.Decode(b), windata.Encode, nil
	case bytes.HasPrefix(b, []byte{0xef, 0xbb, 0xbf}):
		return string(b[3:]), func(s string) []byte { return append([]byte{0xef, 0xbb, 0xbf}, s...) }, nil
	case bytes.IndexByte(b, 0) < 0:
		return string(b), func(s string) []byte { return []byte(s) }, nil
	}
	return "", nil, ErrEncoding
}

// decoder reads XML that was decoded already, whatever encoding it declares.
func decoder(s string) *xml.Decoder {
	d := xml.NewDecoder(strings.NewReader(windata.Valid(s)))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	return d
}

// Parse reads a definition.
func Parse(content []byte) (*Task, error) {
	s, _, err := text(content)
	if err != nil {
		return nil, err
	}
	t := &Task{Enabled: true}
	var path []string
	var trigger *Trigger
	var exec *Exec
	var handler *Handler
	var words map[string][]string // of a trigger's schedule
	d := decoder(s)
	var value strings.Builder
	for {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotTask, err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			name := token.Name.Local
			if len(path) == 0 && name != "Task" || len(path) > maxDepth {
				return nil, fmt.Errorf("%w: it begins with %q", ErrNotTask, name)
			}
			path = append(path, name)
			value.Reset()
			at := strings.Join(path[1:], "/")
			switch {
			case len(path) == 3 && path[1] == "Triggers":
				t.Triggers = append(t.Triggers, Trigger{Kind: name, Enabled: true})
				trigger, words = &t.Triggers[len(t.Triggers)-1], map[string][]string{}
			case at == "Actions/Exec":
				t.Execs = append(t.Execs, Exec{})
				exec = &t.Execs[len(t.Execs)-1]
			case at == "Actions/ComHandler":
				t.Handlers = append(t.Handlers, Handler{})
				handler = &t.Handlers[len(t.Handlers)-1]
			case len(path) == 3 && path[1] == "Actions":
				t.Others = append(t.Others, name)
			case trigger != nil && len(path) > 4:
				// The days of a week and the months are elements without text.
				words[path[len(path)-2]] = append(words[path[len(path)-2]], name)
			}
		case xml.CharData:
			if value.Len()+len(token) <= 1<<20 {
				value.Write(token)
			}
		case xml.EndElement:
			v := strings.TrimSpace(value.String())
			value.Reset()
			at := strings.Join(path[1:], "/")
			if len(path) >= 4 && path[1] == "Triggers" && trigger != nil {
				trigger.take(path[3:], v, words)
			}
			if len(path) == 3 && path[1] == "Triggers" && trigger != nil {
				trigger.Schedule = schedule(trigger.Kind, words)
				trigger = nil
			}
			t.take(at, v, exec, handler)
			path = path[:len(path)-1]
		}
	}
	if len(path) > 0 || t.empty() && !strings.Contains(s, "<Task") {
		return nil, fmt.Errorf("%w: it ends early", ErrNotTask)
	}
	return t, nil
}

func (t *Task) empty() bool { return len(t.Triggers)+len(t.Execs)+len(t.Handlers)+len(t.Others) == 0 }

// take keeps the text of an element that means something.
func (t *Task) take(at, v string, exec *Exec, handler *Handler) {
	switch at {
	case "RegistrationInfo/URI":
		t.URI = v
	case "RegistrationInfo/Author":
		t.Author = v
	case "RegistrationInfo/Description":
		t.Description = v
	case "RegistrationInfo/Date":
		t.Date = v
	case "Settings/Enabled":
		t.Enabled = boolean(v)
	case "Settings/Hidden":
		t.Hidden = boolean(v)
	case "Settings/MaintenanceSettings/Period":
		t.Maintenance = v
	case "Principals/Principal/UserId":
		t.UserID = v
	case "Principals/Principal/GroupId":
		t.GroupID = v
	case "Principals/Principal/LogonType":
		t.LogonType = v
	case "Principals/Principal/RunLevel":
		t.RunLevel = v
	case "Actions/Exec/Command":
		exec.Command = v
	case "Actions/Exec/Arguments":
		exec.Arguments = v
	case "Actions/Exec/WorkingDirectory":
		exec.WorkingDirectory = v
	case "Actions/ComHandler/ClassId":
		handler.ClassID = v
	case "Actions/ComHandler/Data":
		handler.Data = v
	}
}

// boolean is xs:boolean.
func boolean(v string) bool { return v == "true" || v == "1" }

// take keeps the text of an element inside a trigger.
func (t *Trigger) take(path []string, v string, words map[string][]string) {
	switch strings.Join(path, "/") {
	case "Enabled":
		t.Enabled = boolean(v)
	case "StartBoundary":
		t.Start = v
	case "EndBoundary":
		t.End = v
	case "UserId":
		t.UserID = v
	case "Delay":
		t.Delay = v
	case "Repetition/Interval":
		t.Interval = v
	case "Subscription":
		t.Events = v
	case "StateChange":
		t.State = v
	default:
		if v != "" && len(path) > 1 {
			words[path[len(path)-1]] = append(words[path[len(path)-1]], v)
		}
	}
}

// schedule words the days of a calendar trigger.
func schedule(kind string, words map[string][]string) string {
	if kind != "CalendarTrigger" {
		return ""
	}
	list := func(name string) string { return strings.Join(words[name], ", ") }
	every := func(name, one, many string) string {
		if n := list(name); n != "" && n != "1" {
			return "every " + n + " " + many
		}
		return "every " + one
	}
	switch {
	case words["DaysInterval"] != nil || len(words["ScheduleByDay"]) > 0:
		return every("DaysInterval", "day", "days")
	case words["WeeksInterval"] != nil || words["DaysOfWeek"] != nil && words["Week"] == nil && words["Weeks"] == nil &&
		words["Months"] == nil:
		text := every("WeeksInterval", "week", "weeks")
		if days := list("DaysOfWeek"); days != "" {
			text += " on " + days
		}
		return text
	case words["Day"] != nil:
		return "day " + list("Day") + " of " + months(words)
	case words["Week"] != nil:
		return "week " + list("Week") + ", " + list("DaysOfWeek") + ", of " + months(words)
	}
	return "every day"
}

func months(words map[string][]string) string {
	if n := len(words["Months"]); n > 0 && n < 12 {
		return strings.Join(words["Months"], ", ")
	}
	return "every month"
}

// SetEnabled returns the definition with the task turned on or off, all other
// bytes as they were. A definition that does not say gets the word at the end of
// its settings.
func SetEnabled(content []byte, on bool) ([]byte, error) {
	s, encode, err := text(content)
	if err != nil {
		return nil, err
	}
	word := strconv.FormatBool(on)
	var path []string
	d := decoder(s)
	for {
		start := int(d.InputOffset())
		token, err := d.Token()
		if err == io.EOF {
			return nil, fmt.Errorf("%w: it has no settings", ErrNotTask)
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNotTask, err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			if path = append(path, token.Name.Local); len(path) > maxDepth {
				return nil, fmt.Errorf("%w: nested too deep", ErrNotTask)
			}
		case xml.CharData:
			if strings.Join(path, "/") == "Task/Settings/Enabled" {
				return encode(s[:start] + word + s[int(d.InputOffset()):]), nil
			}
		case xml.EndElement:
			if strings.Join(path, "/") == "Task/Settings" && strings.HasPrefix(s[start:], "</") {
				return encode(s[:start] + "  <Enabled>" + word + "</Enabled>\n  " + s[start:]), nil
			}
			if len(path) > 0 {
				path = path[:len(path)-1]
			}
		}
	}
}

// Equal reports whether two definitions say the same, however they are written.
func Equal(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	t, err1 := Parse(a)
	u, err2 := Parse(b)
	return err1 == nil && err2 == nil && reflect.DeepEqual(t, u)
}

// Text is the definition as text, whatever encoding it came in, without the
// declaration of one at its head.
func Text(content []byte) (string, error) {
	s, _, err := text(content)
	if err != nil {
		return "", err
	}
	if rest, ok := strings.CutPrefix(strings.TrimLeft(s, " \t\r\n"), "<?xml"); ok {
		if k := strings.Index(rest, "?>"); k >= 0 {
			s = strings.TrimLeft(rest[k+2:], " \t\r\n")
		}
	}
	return s, nil
}
