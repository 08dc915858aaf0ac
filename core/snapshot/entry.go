package snapshot

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
)

// entryFields are the fields of an entry in the order in which a line holds them,
// each as text. New ones are added at the end: a line of an older snapshot lacks
// them and leaves them empty.
var entryFields = []struct {
	get func(*autostart.Entry) string
	set func(*autostart.Entry, string) error
}{
	text(func(e *autostart.Entry) *string { return &e.Handle }),
	text(func(e *autostart.Entry) *string { return &e.Location }),
	text(func(e *autostart.Entry) *string { return (*string)(&e.Stage) }),
	text(func(e *autostart.Entry) *string { return (*string)(&e.Scope) }),
	text(func(e *autostart.Entry) *string { return &e.User }),
	text(func(e *autostart.Entry) *string { return &e.Name }),
	text(func(e *autostart.Entry) *string { return (*string)(&e.State) }),
	text(func(e *autostart.Entry) *string { return &e.Mode }),
	text(func(e *autostart.Entry) *string { return &e.Command }),
	text(func(e *autostart.Entry) *string { return &e.Target.Path }),
	{
		func(e *autostart.Entry) string {
			if e.Target.Exists == nil {
				return ""
			}
			return strconv.FormatBool(*e.Target.Exists)
		},
		func(e *autostart.Entry, s string) error {
			if s == "" {
				return nil
			}
			b, err := strconv.ParseBool(s)
			e.Target.Exists = &b
			return err
		},
	},
	{
		func(e *autostart.Entry) string { return strconv.FormatInt(e.Target.Size, 10) },
		func(e *autostart.Entry, s string) (err error) {
			e.Target.Size, err = strconv.ParseInt(s, 10, 64)
			return err
		},
	},
	{
		func(e *autostart.Entry) string {
			if e.Target.Modified.IsZero() {
				return ""
			}
			return fmt.Sprintf("%d.%09d", e.Target.Modified.Unix(), e.Target.Modified.Nanosecond())
		},
		func(e *autostart.Entry, s string) error {
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
	text(func(e *autostart.Entry) *string { return &e.Maker.Name }),
	text(func(e *autostart.Entry) *string { return &e.Maker.Basis }),
	{
		func(e *autostart.Entry) string { return strconv.FormatBool(e.OSPart) },
		func(e *autostart.Entry, s string) (err error) {
			e.OSPart, err = strconv.ParseBool(s)
			return err
		},
	},
	text(func(e *autostart.Entry) *string { return &e.Guarded }),
	text(func(e *autostart.Entry) *string { return &e.Source.Path }),
	text(func(e *autostart.Entry) *string { return &e.Source.Key }),
	{
		func(e *autostart.Entry) string { return strconv.Itoa(e.Source.Line) },
		func(e *autostart.Entry, s string) (err error) {
			e.Source.Line, err = strconv.Atoi(s)
			return err
		},
	},
	text(func(e *autostart.Entry) *string { return (*string)(&e.Switch) }),
	{
		func(e *autostart.Entry) string { return strings.Join(e.Problems, " ") },
		func(e *autostart.Entry, s string) error {
			e.Problems = append([]string{}, strings.Fields(s)...)
			return nil
		},
	},
}

// text is a field that is a string already.
func text(at func(*autostart.Entry) *string) (f struct {
	get func(*autostart.Entry) string
	set func(*autostart.Entry, string) error
}) {
	f.get = func(e *autostart.Entry) string { return *at(e) }
	f.set = func(e *autostart.Entry, s string) error { *at(e) = s; return nil }
	return f
}

var (
	escapes   = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`)
	unescapes = strings.NewReplacer(`\\`, `\`, `\t`, "\t", `\n`, "\n")
)

// encodeEntry makes the last part of an entry's line.
func encodeEntry(e *autostart.Entry) string {
	var b strings.Builder
	for k, f := range entryFields {
		if k > 0 {
			b.WriteByte('\t')
		}
		escapes.WriteString(&b, f.get(e))
	}
	return b.String()
}

// decodeEntry is the reverse of encodeEntry.
func decodeEntry(body string) (autostart.Entry, error) {
	var e autostart.Entry
	for k, f := range entryFields {
		field, rest, more := strings.Cut(body, "\t")
		if strings.Contains(field, `\`) {
			field = unescapes.Replace(field)
		}
		if err := f.set(&e, field); err != nil {
			return e, fmt.Errorf("field %d: %w", k+1, err)
		}
		if !more {
			break
		}
		body = rest
	}
	return e, nil
}
