// Package desktopentry reads and edits desktop entries, the files that the XDG
// autostart folders hold, after the Desktop Entry Specification 1.5. What it
// does not understand it keeps byte for byte:
//
//	f, err := desktopentry.Parse(content)
//	exec, _ := f.Get("Exec")
//	f.Set("Hidden", "true")
//	content = f.Bytes()
package desktopentry

import (
	"bytes"
	"errors"
	"strings"
)

// Group is the name of the group that holds everything about the program.
const Group = "Desktop Entry"

// ErrNoGroup says that a file is no desktop entry: it lacks the group
// [Desktop Entry].
var ErrNoGroup = errors.New("no [Desktop Entry] group")

// File is a desktop entry, line by line as it was read.
type File struct {
	lines []line
	first int // index of the line after the group's header
	last  int // index after the group's last line
}

type line struct {
	raw        string // with its line end
	key, value string // of an assignment, else empty
}

// Parse reads a desktop entry. The only error is [ErrNoGroup]: lines that make
// no sense are kept and skipped, as the desktops do it.
func Parse(content []byte) (*File, error) {
	f := &File{first: -1, lines: make([]line, 0, bytes.Count(content, []byte{'\n'})+1)}
	in := false
	for raw := range strings.Lines(string(content)) {
		l := line{raw: raw}
		text := strings.TrimSpace(l.raw)
		switch {
		case strings.HasPrefix(text, "["):
			if in {
				f.last = len(f.lines)
			}
			in = f.first < 0 && text == "["+Group+"]"
			if in {
				f.first = len(f.lines) + 1
			}
		case in && !strings.HasPrefix(text, "#"):
			if key, value, ok := strings.Cut(text, "="); ok {
				l.key, l.value = strings.TrimSpace(key), strings.TrimSpace(value)
			}
		}
		f.lines = append(f.lines, l)
	}
	if f.first < 0 {
		return nil, ErrNoGroup
	}
	if in {
		f.last = len(f.lines)
	}
	return f, nil
}

// Bytes returns the file, unchanged but for what was set.
func (f *File) Bytes() []byte {
	var b bytes.Buffer
	for _, l := range f.lines {
		b.WriteString(l.raw)
	}
	return b.Bytes()
}

// find returns the line that decides a key: the last one, because that is the one
// that the desktops take.
func (f *File) find(key string) int {
	for k := f.last - 1; k >= f.first; k-- {
		if f.lines[k].key == key {
			return k
		}
	}
	return -1
}

// Get returns the value of a key of the main group, its escapes undone.
func (f *File) Get(key string) (string, bool) {
	k := f.find(key)
	if k < 0 {
		return "", false
	}
	return unescape(f.lines[k].value), true
}

// Line returns the number of the line, counted from 1, that gives the key its
// value, and 0 where none does.
func (f *File) Line(key string) int { return f.find(key) + 1 }

// Bool returns a boolean key, and false if it is absent or something else.
func (f *File) Bool(key string) bool {
	v, _ := f.Get(key)
	return strings.EqualFold(v, "true") || v == "1"
}

// Set gives a key of the main group a value: in its line where it has one, else
// in a new line at the group's end. The line ends of the file are kept.
func (f *File) Set(key, value string) {
	if k := f.find(key); k >= 0 {
		l := &f.lines[k]
		body := strings.TrimRight(l.raw, "\r\n")
		at := strings.Index(body, "=") + 1
		for at < len(body) && (body[at] == ' ' || body[at] == '\t') {
			at++
		}
		l.raw, l.value = body[:at]+value+l.raw[len(body):], value
		return
	}
	at := f.last
	for at > f.first && strings.TrimSpace(f.lines[at-1].raw) == "" {
		at--
	}
	end := "\n"
	if previous := &f.lines[at-1]; strings.HasSuffix(previous.raw, "\r\n") {
		end = "\r\n"
	} else if !strings.HasSuffix(previous.raw, "\n") {
		previous.raw += "\n"
	}
	f.lines = append(f.lines, line{})
	copy(f.lines[at+1:], f.lines[at:])
	f.lines[at] = line{raw: key + "=" + value + end, key: key, value: value}
	f.last++
}

// unescape undoes the escapes that the specification gives to string values.
func unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for k := 0; k < len(s); k++ {
		if s[k] != '\\' || k+1 == len(s) {
			b.WriteByte(s[k])
			continue
		}
		k++
		switch s[k] {
		case 's':
			b.WriteByte(' ')
		case 'n':
			b.WriteByte('\n')
		case 't':
			b.WriteByte('\t')
		case 'r':
			b.WriteByte('\r')
		case '\\':
			b.WriteByte('\\')
		default:
			b.WriteByte('\\')
			b.WriteByte(s[k])
		}
	}
	return b.String()
}

// SplitExec splits the value of Exec into its arguments, undoes the quoting and
// leaves out the field codes (%f, %u ...), which stand for nothing at sign-in.
// An open quote is closed at the end.
func SplitExec(exec string) []string {
	if exec == "" {
		return nil
	}
	if !strings.ContainsAny(exec, "\"\\%") {
		return strings.Fields(exec) // as nearly all are
	}
	var (
		args    []string
		word    strings.Builder
		started bool
		quoted  bool
	)
	flush := func() {
		if started {
			args = append(args, word.String())
			word.Reset()
			started = false
		}
	}
	for k := 0; k < len(exec); k++ {
		c := exec[k]
		switch {
		case c == '"':
			quoted, started = !quoted, true
		case quoted && c == '\\' && k+1 < len(exec) && strings.IndexByte("\"`$\\", exec[k+1]) >= 0:
			k++
			word.WriteByte(exec[k])
		case quoted && c == '%' && k+1 < len(exec) && exec[k+1] == '%':
			k++
			word.WriteByte('%')
		case !quoted && (c == ' ' || c == '\t' || c == '\n'):
			flush()
		case !quoted && c == '%' && k+1 < len(exec):
			k++
			if exec[k] == '%' {
				word.WriteByte('%')
				started = true
			}
		default:
			word.WriteByte(c)
			started = true
		}
	}
	flush()
	return args
}
