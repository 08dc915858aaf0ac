// Package unitfile reads systemd's unit files and drop-ins, after
// systemd.syntax(7), and knows the rules for their names, systemd.unit(5). It is
// a reader only: Lock Back never changes a unit file, it makes and removes
// links.
//
//	f := unitfile.Parse(content)
//	wantedBy := f.List("Install", "WantedBy")
package unitfile

import (
	"bytes"
	"slices"
	"strings"
)

// Assignment is one Key=value, continued lines joined.
type Assignment struct {
	Section string
	Key     string
	Value   string
	Line    int // of the key, counted from 1
}

// File is the assignments of a unit file in their order. Other lines are skipped, as systemd does.
type File struct {
	Assignments []Assignment
}

// Parse reads a unit file; every input is one.
func Parse(content []byte) File {
	f := File{Assignments: make([]Assignment, 0, min(bytes.Count(content, []byte{'='}), 1<<12))}
	var (
		section string
		pending []string // the parts of a continued line
		start   int
		number  int
	)
	finish := func(last string) {
		text := last
		if len(pending) > 0 {
			text = strings.Join(append(pending, last), " ")
			pending = pending[:0]
		}
		if text = strings.TrimSpace(text); text == "" {
			return
		}
		if text[0] == '[' && text[len(text)-1] == ']' {
			section = text[1 : len(text)-1]
			return
		}
		if key, value, ok := strings.Cut(text, "="); ok {
			f.Assignments = append(f.Assignments, Assignment{section, strings.TrimSpace(key), strings.TrimSpace(value),
				start})
		}
	}
	for raw := range strings.Lines(string(content)) {
		number++
		text := strings.TrimRight(raw, "\r\n")
		trimmed := strings.TrimLeft(text, " \t")
		if trimmed != "" && (trimmed[0] == '#' || trimmed[0] == ';') {
			continue // also between the parts of a continued line
		}
		if len(pending) == 0 {
			start = number
		}
		if part, more := strings.CutSuffix(text, `\`); more {
			pending = append(pending, part)
			continue
		}
		finish(text)
	}
	finish("")
	return f
}

// Section returns the part of a file that is one section, in order.
func (f File) Section(name string) File {
	var part File
	for k := range f.Assignments {
		if f.Assignments[k].Section == name {
			part.Assignments = append(part.Assignments, f.Assignments[k])
		}
	}
	return part
}

// Last returns the value that counts of a key that takes one: the last.
func (f File) Last(section, key string) string {
	for k := len(f.Assignments) - 1; k >= 0; k-- {
		if a := &f.Assignments[k]; a.Section == section && a.Key == key {
			return a.Value
		}
	}
	return ""
}

// All returns the assignments of a key in order. An empty one takes back those
// before it.
func (f File) All(section, key string) []string {
	var all []string
	for k := range f.Assignments {
		a := &f.Assignments[k]
		if a.Section != section || a.Key != key {
			continue
		}
		if a.Value == "" {
			all = nil
		} else {
			all = append(all, a.Value)
		}
	}
	return all
}

// List returns the words of a key whose value is a list.
func (f File) List(section, key string) []string {
	var words []string
	for _, v := range f.All(section, key) {
		words = append(words, strings.Fields(v)...)
	}
	return words
}

// Merge appends the assignments of a drop-in.
func (f *File) Merge(dropIn File) { f.Assignments = append(f.Assignments, dropIn.Assignments...) }

// Suffix is the kind of a unit, with its dot: ".service".
func Suffix(name string) string {
	if at := strings.LastIndexByte(name, '.'); at >= 0 {
		return name[at:]
	}
	return ""
}

// Template returns the template that a unit is an instance of, with the
// instance: "getty@.service", "tty1" for getty@tty1.service.
func Template(name string) (template, instance string, ok bool) {
	suffix := Suffix(name)
	prefix, instance, found := strings.Cut(strings.TrimSuffix(name, suffix), "@")
	if !found || suffix == "" || prefix == "" || instance == "" {
		return "", "", false
	}
	return prefix + "@" + suffix, instance, true
}

// IsTemplate reports whether a name is a template's, such as getty@.service.
func IsTemplate(name string) bool {
	suffix := Suffix(name)
	return suffix != "" && strings.HasSuffix(strings.TrimSuffix(name, suffix), "@")
}

// Valid reports whether a name can be a unit's: systemd skips all others.
func Valid(name string) bool {
	suffix := Suffix(name)
	if len(name) > 255 || suffix == "" || suffix == name || !kinds[suffix] || name[0] == '@' {
		return false
	}
	for k := range len(name) - len(suffix) {
		c := name[k]
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(":-_.\\@",
			c) >= 0) {
			return false
		}
	}
	return true
}

var kinds = map[string]bool{".service": true, ".socket": true, ".target": true, ".device": true, ".mount": true,
	".automount": true, ".swap": true, ".timer": true, ".path": true, ".slice": true, ".scope": true}

// Expand replaces the specifiers that a unit's name decides (%n %N %p %i %I %j
// and %%). Others are left as they are, for only the running system knows them.
func Expand(value, unit string) string {
	if !strings.Contains(value, "%") {
		return value
	}
	bare := strings.TrimSuffix(unit, Suffix(unit))
	prefix, instance, _ := strings.Cut(bare, "@")
	last := prefix[strings.LastIndexByte(prefix, '-')+1:]
	return strings.NewReplacer("%%", "%", "%n", unit, "%N", bare, "%p", prefix,
		"%i", instance, "%I", strings.ReplaceAll(instance, "-", "/"), "%j", last).Replace(value)
}

// SplitCommands splits the value of an Exec key into the commands that it holds, systemd.service(5): a word that is a
// semicolon parts them. Behind the prefix @ the second word is only what the program is called.
func SplitCommands(value string) [][]string {
	var all [][]string
	prefix := value[:len(value)-len(strings.TrimLeft(value, "@-:+!| "))]
	words := SplitCommand(value)
	for len(words) > 0 {
		end := slices.Index(words, ";")
		if end < 0 {
			end = len(words)
		}
		command := words[:end:end]
		if len(all) > 0 && len(command) > 0 {
			first := strings.TrimLeft(command[0], "@-:+!|")
			prefix = command[0][:len(command[0])-len(first)]
			command = append([]string{first}, command[1:]...)
		}
		if strings.Contains(prefix, "@") && len(command) > 1 {
			command = append([]string{command[0]}, command[2:]...)
		}
		if len(command) > 0 {
			all = append(all, command)
		}
		words = words[min(end+1, len(words)):]
	}
	return all
}

// SplitCommand splits the value of ExecStart and its like into arguments,
// systemd.service(5), and takes off the prefixes before the program (@ - : + !).
func SplitCommand(value string) []string {
	value = strings.TrimLeft(value, "@-:+!| ")
	if value == "" {
		return nil
	}
	if !strings.ContainsAny(value, "\"'\\\n") {
		return strings.Fields(value) // as nearly all are
	}
	var (
		args    []string
		word    strings.Builder
		started bool
		quote   byte
	)
	for k := 0; k < len(value); k++ {
		c := value[k]
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote, started = c, true
		case c == '\\' && k+1 < len(value):
			k++
			switch value[k] {
			case 's':
				word.WriteByte(' ')
			case 't':
				word.WriteByte('\t')
			case 'n':
				word.WriteByte('\n')
			case '"', '\'', '\\', ' ':
				word.WriteByte(value[k])
			default:
				word.WriteByte('\\')
				word.WriteByte(value[k])
			}
			started = true
		case quote == 0 && (c == ' ' || c == '\t'):
			if started {
				args = append(args, word.String())
				word.Reset()
				started = false
			}
		default:
			word.WriteByte(c)
			started = true
		}
	}
	if started {
		args = append(args, word.String())
	}
	return args
}
