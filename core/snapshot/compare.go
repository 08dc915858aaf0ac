package snapshot

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/machine"
)

// Difference is what differs between two snapshots.
type Difference struct {
	Added   []autostart.Entry
	Removed []autostart.Entry
	Changed []Changed
}

// Changed is an entry that is in both snapshots, and not the same.
type Changed struct {
	Handle string  `json:"handle"`
	Name   string  `json:"name"`
	Fields []Field `json:"fields"`

	entry autostart.Entry
}

// Field is one thing that differs.
type Field struct {
	Field string `json:"field"`
	From  string `json:"from"`
	To    string `json:"to"`
}

// Empty reports whether nothing differs.
func (d Difference) Empty() bool {
	return len(d.Added) == 0 && len(d.Removed) == 0 && len(d.Changed) == 0
}

// Compare lists what differs between two snapshots, in the order of all outputs.
func Compare(from, to *Snapshot) (Difference, error) {
	var d Difference
	same := map[string]bool{}
	digests := map[string]Digest{}
	for _, s := range from.Sections {
		digests[s.Key] = s.Digest
	}
	for _, s := range to.Sections {
		if old, ok := digests[s.Key]; ok && old == s.Digest {
			same[s.Key] = true
		}
	}
	// An image stands in the section of the entry that names it first, so it
	// can move between sections: only when all images are looked at can a
	// section be left out.
	if len(same) == len(from.Sections) && len(same) == len(to.Sections) {
		return d, nil
	}
	fromEntries, fromImages, err := lines(from.Sections)
	if err != nil {
		return d, err
	}
	toEntries, toImages, err := lines(to.Sections)
	if err != nil {
		return d, err
	}
	changed := map[string][2]string{} // a quoted artifact name, to its bodies
	merge(fromImages, toImages, func(a, b *line) {
		if a != nil && b != nil && a.body != b.body {
			changed[a.id] = [2]string{a.body, b.body}
		}
	})
	type pair struct{ a, b line }
	var pairs []pair
	var failed error
	decode := func(l *line) autostart.Entry {
		r, err := l.recorded()
		if err != nil && failed == nil {
			failed = err
		}
		return r.Entry
	}
	merge(fromEntries, toEntries, func(a, b *line) {
		switch {
		case a == nil:
			d.Added = append(d.Added, decode(b))
		case b == nil:
			d.Removed = append(d.Removed, decode(a))
		case a.raw != b.raw || len(changed) > 0 && b.names(changed):
			pairs = append(pairs, pair{*a, *b})
		}
	})
	explained := map[string]bool{} // artifacts of several entries, one of which shows the difference
	var quiet []pair
	for _, p := range pairs {
		a, b := decode(&p.a), decode(&p.b)
		fields := compareEntries(a, b)
		if len(fields) == 0 {
			quiet = append(quiet, p)
			continue
		}
		for quoted := range strings.SplitSeq(p.b.artifacts, "\x1f") {
			explained[quoted] = true
		}
		d.Changed = append(d.Changed, Changed{b.Handle, b.Name, fields, b})
	}
	for _, p := range quiet {
		var fields []Field
		for quoted := range strings.SplitSeq(p.b.artifacts, "\x1f") {
			if bodies, ok := changed[quoted]; ok && !explained[quoted] {
				f, err := compareImages(quoted, bodies, from, to)
				if err != nil {
					return d, err
				}
				fields = append(fields, f...)
			}
		}
		if len(fields) > 0 {
			b := decode(&p.b)
			d.Changed = append(d.Changed, Changed{b.Handle, b.Name, fields, b})
		}
	}
	byOrder := func(a, b autostart.Entry) int { return autostart.Compare(&a, &b) }
	slices.SortFunc(d.Added, byOrder)
	slices.SortFunc(d.Removed, byOrder)
	slices.SortFunc(d.Changed, func(a, b Changed) int { return autostart.Compare(&a.entry, &b.entry) })
	return d, failed
}

// merge walks two ordered lists side by side; each call has one side or both.
func merge(a, b []line, visit func(a, b *line)) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].id < b[0].id:
			visit(&a[0], nil)
			a = a[1:]
		case len(a) == 0 || b[0].id < a[0].id:
			visit(nil, &b[0])
			b = b[1:]
		default:
			visit(&a[0], &b[0])
			a, b = a[1:], b[1:]
		}
	}
}

// names reports whether the entry names one of the artifacts.
func (l *line) names(artifacts map[string][2]string) bool {
	for quoted := range strings.SplitSeq(l.artifacts, "\x1f") {
		if _, ok := artifacts[quoted]; ok {
			return true
		}
	}
	return false
}

// comparedFields are the fields that mean something to a person. A line number
// or a catalogue's judgement is no change of the machine.
var comparedFields = []struct {
	name  string
	value func(autostart.Entry) string
}{
	{"state", func(e autostart.Entry) string { return string(e.State) }},
	{"mode", func(e autostart.Entry) string { return e.Mode }},
	{"name", func(e autostart.Entry) string { return e.Name }},
	{"stage", func(e autostart.Entry) string { return string(e.Stage) }},
	{"command", func(e autostart.Entry) string { return e.Command }},
	{"target", func(e autostart.Entry) string { return e.Target.Path }},
	{"program", program},
	{"source", func(e autostart.Entry) string { return e.Source.Path }},
	{"problems", func(e autostart.Entry) string { return strings.Join(e.Problems, ", ") }},
}

// program words what is at the target, so that one that was removed or replaced
// shows.
func program(e autostart.Entry) string {
	switch {
	case e.Target.Exists == nil:
		return "unknown"
	case !*e.Target.Exists:
		return "missing"
	}
	return fmt.Sprintf("%d bytes of %s", e.Target.Size, e.Target.Modified.Format(time.RFC3339))
}

func compareEntries(a, b autostart.Entry) []Field {
	var fields []Field
	for _, f := range comparedFields {
		if from, to := f.value(a), f.value(b); from != to {
			fields = append(fields, Field{f.name, from, to})
		}
	}
	return fields
}

// compareImages words how an artifact differs where the entry's fields do not.
func compareImages(quoted string, bodies [2]string, from, to *Snapshot) ([]Field, error) {
	name, err := strconv.Unquote(quoted)
	if err != nil {
		return nil, err
	}
	a, err := DecodeImage(bodies[0], from.Load)
	if err != nil {
		return nil, err
	}
	b, err := DecodeImage(bodies[1], to.Load)
	if err != nil {
		return nil, err
	}
	if a.Same(b) {
		return nil, nil // a folder that others put something into
	}
	field := Field{autostart.Text(name), a.String(), b.String()}
	if field.From == field.To {
		field.From += ", " + describeRest(a)
		field.To += ", " + describeRest(b)
	}
	return []Field{field}, nil
}

// describeRest words what an image's short form leaves out.
func describeRest(i machine.Image) string {
	return fmt.Sprintf("owner %d:%d, %s, %d extended attributes", i.UID, i.GID, i.ModTime.Format(time.RFC3339Nano), len(i.Xattrs))
}
