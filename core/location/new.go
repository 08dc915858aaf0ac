package location

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
)

// New is an entry to make.
type New struct {
	Name  string
	Stage autostart.Stage // SignIn, System or Schedule
	User  *account.User   // whom it is for; nil: everyone
	Argv  []string        // the program, as its machine names it, and its arguments
	// Every and At say when what is scheduled runs: each time that long after the last, or each day at that time.
	Every time.Duration
	At    time.Duration // since midnight
	Daily bool          // At counts
	// Delay is how long after its stage it starts, where the form has such a thing.
	Delay time.Duration
	// Form is one of the ways in which the system can start it; empty: the usual one.
	Form string
	Now  time.Time
}

// longInterval is how long a machine that somebody works at runs at least, more or less.
const longInterval = 6 * time.Hour

// IntervalNote warns of an interval that is counted from the start of the machine or of a session, and that may be
// longer than those ever run; empty: there is nothing to warn of.
func (n New) IntervalNote() string {
	if n.Every < longInterval {
		return ""
	}
	return fmt.Sprintf("the %s are counted from each start, so it never runs where the machine is not on for that "+
		"long; by the time of day it runs each day", DelayWords(n.Every))
}

// Made is how an entry is made.
type Made struct {
	Location, User, Key string // which entry it will be
	Edits               []Edit
	Effect              Effect
	Note                string // what a person should know of it; empty: nothing
}

// Handle is the one that the entry will have.
func (m Made) Handle() string { return autostart.Handle(m.Location, m.User, m.Key) }

// Errors of making an entry.
var (
	// ErrExists says that something of that name is there already.
	ErrExists = errors.New("that name is taken")
	// ErrNoForm says that the machine has no such way of starting something, or that it cannot be used now.
	ErrNoForm = errors.New("cannot be made here")
	// ErrNoProgram says that the program cannot be started.
	ErrNoProgram = errors.New("it cannot be started")
	// ErrText says that a name or an argument cannot stand in what is written.
	ErrText = errors.New("cannot be used")
)

// maxName is how long a name may be, in bytes.
const maxName = 120

// Check fails if the name cannot be used, or if the program is missing or cannot start. Runs tells of the systems
// without a mark for what files they start.
func (n New) Check(m *machine.Reader, runs func(name string) bool) error {
	if n.Name == "" || len(n.Name) > maxName || strings.TrimSpace(n.Name) != n.Name || !plain(n.Name) {
		return fmt.Errorf(
			"the name %q %w: it has one to %d bytes of UTF-8, no control characters, and no space around it", n.Name,
			ErrText, maxName)
	}
	for _, arg := range n.Argv {
		if !plain(arg) {
			return fmt.Errorf("the argument %q %w: it has a control character in it, a line break for example, or "+
				"is not UTF-8", arg, ErrText)
		}
	}
	if len(n.Argv) == 0 || n.Argv[0] == "" {
		return fmt.Errorf("%w: none is named", ErrNoProgram)
	}
	program := n.Argv[0]
	if absolute := path.IsAbs(program) && m.OS != "windows" || artifact.OnDrive(program) &&
		m.OS == "windows"; !absolute {
		return fmt.Errorf("%w: %s: give its whole path", ErrNoProgram, program)
	}
	info, err := m.Stat(program)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: %s is not there", ErrNoProgram, program)
	case err != nil:
		return fmt.Errorf("%w: %s: %s", ErrNoProgram, program, machine.Reason(err))
	case info.IsDir():
		return fmt.Errorf("%w: %s is a folder", ErrNoProgram, program)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%w: %s is not a file", ErrNoProgram, program)
	case runs != nil && !runs(program):
		return fmt.Errorf("%w: %s is none by its ending", ErrNoProgram, program)
	case runs == nil && info.Mode()&0o111 == 0:
		return fmt.Errorf("%w: %s is not executable (chmod +x)", ErrNoProgram, program)
	}
	return nil
}

// plain tells whether a text can stand in a line of each of the forms.
func plain(text string) bool {
	return utf8.ValidString(text) && !strings.ContainsFunc(text, unicode.IsControl)
}

// FileName makes a file's name of an entry's: small letters, digits and hyphens.
func (n New) FileName() string {
	var b strings.Builder
	for _, r := range strings.ToLower(n.Name) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	if name := strings.Trim(b.String(), "-"); name != "" {
		return name
	}
	return "entry-" + autostart.Handle("", "", n.Name) // of letters that no file's name needs
}

// Choose is the form that was asked for, or the first; it fails with [ErrNoForm] where the stage has no such form.
func (n New) Choose(forms ...string) (string, error) {
	if n.Form == "" {
		return forms[0], nil
	}
	if !slices.Contains(forms, n.Form) {
		return "", fmt.Errorf("%w: as %s: what starts like this is one of %s", ErrNoForm, n.Form,
			strings.Join(forms, ", "))
	}
	return n.Form, nil
}

// Owned is a file of the entry's user, else of root.
func (n New) Owned(content []byte) artifact.Image {
	uid, gid := 0, 0
	if n.User != nil && n.User.SID == "" {
		uid, gid = n.User.UID, n.User.GID
	}
	return artifact.NewFile(content, 0o644, uid, gid, n.Now)
}

// Free fails with [ErrExists] where something is there.
func Free(m *machine.Reader, name string) error {
	if _, err := m.Lstat(name); err == nil {
		return fmt.Errorf("%w: %s", ErrExists, name)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// NewSurvey is a survey of nothing in particular, for what only looks at a machine.
func NewSurvey(m *machine.Reader) *Survey { return &Survey{View: m, Machine: m} }
