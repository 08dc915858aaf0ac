package snapshot

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/location/part"
)

// entryFields are the fields of an entry in the order in which a line holds them,
// each as text. New ones are added at the end: a line of an older snapshot lacks
// them and leaves them empty.
var entryFields = []struct {
	get func(*Recorded) string
	set func(*Recorded, string) error
}{
	text(func(e *Recorded) *string { return &e.Handle }),
	text(func(e *Recorded) *string { return &e.Location }),
	text(func(e *Recorded) *string { return (*string)(&e.Stage) }),
	text(func(e *Recorded) *string { return (*string)(&e.Scope) }),
	text(func(e *Recorded) *string { return &e.User }),
	text(func(e *Recorded) *string { return &e.Name }),
	text(func(e *Recorded) *string { return (*string)(&e.State) }),
	text(func(e *Recorded) *string { return &e.Mode }),
	text(func(e *Recorded) *string { return &e.Command }),
	text(func(e *Recorded) *string { return &e.Target.Path }),
	{
		func(e *Recorded) string {
			if e.Target.Exists == nil {
				return ""
			}
			return strconv.FormatBool(*e.Target.Exists)
		},
		func(e *Recorded, s string) error {
			if s == "" {
				return nil
			}
			b, err := strconv.ParseBool(s)
			if e.Target.Exists = &no; b {
				e.Target.Exists = &yes
			}
			return err
		},
	},
	{
		func(e *Recorded) string { return strconv.FormatInt(e.Target.Size, 10) },
		func(e *Recorded, s string) (err error) {
			e.Target.Size, err = strconv.ParseInt(s, 10, 64)
			return err
		},
	},
	{
		func(e *Recorded) string {
			if e.Target.Modified.IsZero() {
				return ""
			}
			return fmt.Sprintf("%d.%09d", e.Target.Modified.Unix(), e.Target.Modified.Nanosecond())
		},
		func(e *Recorded, s string) error {
			if s == "" {
				return nil
			}
			// Early records have nanoseconds alone.
			seconds, rest, apart := strings.Cut(s, ".")
			n, err := strconv.ParseInt(seconds, 10, 64)
			if !apart {
				e.Target.Modified = time.Unix(0, n).UTC()
				return err
			}
			nanos, nerr := strconv.ParseInt(rest, 10, 64)
			e.Target.Modified = time.Unix(n, nanos).UTC()
			return errors.Join(err, nerr)
		},
	},
	known(func(k *autostart.Known) *string { return &k.Maker.Name }),
	known(func(k *autostart.Known) *string { return &k.Maker.Basis }),
	{
		func(e *Recorded) string { return strconv.FormatBool(e.OSPart) },
		func(e *Recorded, s string) (err error) {
			e.OSPart, err = strconv.ParseBool(s)
			return err
		},
	},
	text(func(e *Recorded) *string { return &e.Guarded }),
	text(func(e *Recorded) *string { return &e.Source.Path }),
	text(func(e *Recorded) *string { return &e.Source.Key }),
	{
		func(e *Recorded) string { return strconv.Itoa(e.Source.Line) },
		func(e *Recorded, s string) (err error) {
			e.Source.Line, err = strconv.Atoi(s)
			return err
		},
	},
	text(func(e *Recorded) *string { return (*string)(&e.Switch) }),
	{
		func(e *Recorded) string { return strings.Join(e.Problems, " ") },
		func(e *Recorded, s string) error {
			e.Problems = []string{}
			if s != "" {
				e.Problems = strings.Fields(s)
			}
			return nil
		},
	},
	{
		func(e *Recorded) string { return strconv.FormatBool(e.Removes) },
		func(e *Recorded, s string) (err error) {
			e.Removes, err = strconv.ParseBool(s)
			return err
		},
	},
	{
		func(e *Recorded) string { return part.Encode(e.Part) },
		func(e *Recorded, s string) error {
			e.partText = s
			return nil
		},
	},
	text(func(e *Recorded) *string { return &e.Place }),
	text(func(e *Recorded) *string { return &e.SystemName }),
	text(func(e *Recorded) *string { return &e.When }),
	text(func(e *Recorded) *string { return &e.OSBasis }),
	known(func(k *autostart.Known) *string { return &k.Product.Name }),
	known(func(k *autostart.Known) *string { return &k.Product.Version }),
	known(func(k *autostart.Known) *string { return &k.Product.Installed }),
	known(func(k *autostart.Known) *string { return &k.Description }),
	known(func(k *autostart.Known) *string { return &k.DescriptionBasis }),
	known(func(k *autostart.Known) *string { return &k.Role }),
	known(func(k *autostart.Known) *string { return &k.Verdict }),
	known(func(k *autostart.Known) *string { return &k.VerdictBasis }),
	{
		func(e *Recorded) string {
			if len(e.Commands) == 0 {
				return ""
			}
			text, err := json.Marshal(e.Commands)
			if err != nil {
				panic(err) // texts always encode
			}
			return string(text)
		},
		func(e *Recorded, s string) error {
			if s == "" {
				return nil
			}
			return json.Unmarshal([]byte(s), &e.Commands)
		},
	},
}

// yes and no are what a decoded entry's target points to; nothing writes there.
var yes, no = true, false

// beforeParts is how many fields the snapshots have that know of no parts.
const beforeParts = 22

// beforePrograms is how many fields the snapshots have at most that were taken before programs
// were looked at.
const beforePrograms = 27

// beforePrograms reports whether an entry was recorded before programs were looked at.
func (l *line) beforePrograms() bool { return strings.Count(l.body(), "\t") < beforePrograms }

// text is a field that is a string already.
func text(at func(*Recorded) *string) (f struct {
	get func(*Recorded) string
	set func(*Recorded, string) error
}) {
	f.get = func(e *Recorded) string { return *at(e) }
	f.set = func(e *Recorded, s string) error { *at(e) = s; return nil }
	return f
}

// known is a field of what is known about an entry's program. A decoded entry has facts of its own.
func known(at func(*autostart.Known) *string) (f struct {
	get func(*Recorded) string
	set func(*Recorded, string) error
}) {
	f.get = func(e *Recorded) string { return *at(e.Facts()) }
	f.set = func(e *Recorded, s string) error {
		if s == "" {
			return nil
		}
		if e.Known == nil {
			e.Known = new(autostart.Known)
		}
		*at(e.Known) = s
		return nil
	}
	return f
}

var (
	escapes   = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`)
	unescapes = strings.NewReplacer(`\\`, `\`, `\t`, "\t", `\n`, "\n")
)

// appendEntry adds the last part of an entry's line to it.
func appendEntry(line []byte, e *Recorded) []byte {
	for k, f := range entryFields {
		if k > 0 {
			line = append(line, '\t')
		}
		text := f.get(e)
		if strings.ContainsAny(text, "\\\t\n") {
			text = escapes.Replace(text)
		}
		line = append(line, text...)
	}
	return line
}

// decodeEntry is the reverse of appendEntry. It returns how many fields there were.
func decodeEntry(body string, e *Recorded) (fields int, err error) {
	for k, f := range entryFields {
		field, rest, more := strings.Cut(body, "\t")
		if strings.Contains(field, `\`) {
			field = unescapes.Replace(field)
		}
		if err := f.set(e, field); err != nil {
			return k, fmt.Errorf("field %d: %w", k+1, err)
		}
		if !more {
			return k + 1, nil
		}
		body = rest
	}
	return len(entryFields), nil
}

// assumeParts says what the entry of an early snapshot is part of, which did not record it.
func (r *Recorded) assumeParts() {
	r.Removes = r.Switch == autostart.Park || r.Switch == autostart.Trim
	if r.Switch == autostart.Comment && r.Source.Line > 0 && len(r.Artifacts) > 0 {
		r.Part = part.Line{File: r.Artifacts[0].Name, Number: r.Source.Line}
	}
}
