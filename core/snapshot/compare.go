package snapshot

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/difference"
	"lockback/core/location/table"
	"lockback/core/machine/artifact"
	"lockback/core/machine/mac"
	"lockback/core/parallel"
)

// Difference is what differs between two snapshots.
type Difference struct {
	Added   []autostart.Entry
	Removed []autostart.Entry
	Changed []Changed
	// Fleeting is how many entries are left out because they come from this start of the machine only: what
	// generators make in /run, and what is enabled until the next restart. A disk has none of them.
	Fleeting int
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
	// What says in words what changed, where From and To are images.
	What string `json:"what,omitempty"`
}

// Empty reports whether nothing differs.
func (d Difference) Empty() bool {
	return len(d.Added) == 0 && len(d.Removed) == 0 && len(d.Changed) == 0
}

// Compare lists what differs between two snapshots, in the order of all outputs.
func Compare(from, to *Snapshot) (Difference, error) {
	var d Difference
	// A section that both have says the same of its entries and images in both. An image
	// stands in the section of the entry that names it first, so entries of such a section
	// can still name one that differs.
	alike := alike(from, to)
	changed := map[string][2]string{} // an artifact's id, to its bodies
	if err := mergeOf(from, to, 'A', alike, func(a, b *line) {
		if a != nil && b != nil && a.body() != b.body() {
			changed[a.id()] = [2]string{a.body(), b.body()}
		}
	}); err != nil {
		return d, err
	}
	var differ, quiet []pair // those whose own text differs, and those with only an artifact that does
	var came, went []*line
	err := mergeOf(from, to, 'E', alike, func(a, b *line) {
		switch {
		case a == nil:
			came = append(came, b)
		case b == nil:
			went = append(went, a)
		case a.raw != b.raw:
			differ = append(differ, pair{a, b})
		case len(changed) > 0 && b.names(changed):
			quiet = append(quiet, pair{a, b})
		}
	})
	if err != nil {
		return d, err
	}
	shared, err := to.naming(changed, alike)
	if err != nil {
		return d, err
	}
	quiet = append(quiet, shared...)
	slices.SortFunc(quiet, func(a, b pair) int { return strings.Compare(a.b.id(), b.b.id()) })
	if d.Added, err = decodeAll(came); err != nil {
		return d, err
	}
	if d.Removed, err = decodeAll(went); err != nil {
		return d, err
	}
	var before, after []*line
	for _, p := range differ {
		before, after = append(before, p.a), append(after, p.b)
	}
	olds, err := decodeAll(before)
	if err != nil {
		return d, err
	}
	news, err := decodeAll(after)
	if err != nil {
		return d, err
	}
	explained := map[string]bool{} // artifacts of several entries, one of which shows the difference
	for k, p := range differ {
		fields := compareEntries(&olds[k], &news[k], p.a.beforePrograms() || p.b.beforePrograms())
		if len(fields) == 0 {
			quiet = append(quiet, p)
			continue
		}
		for id := range strings.SplitSeq(p.b.artifacts(), "\x1f") {
			explained[id] = true
		}
		d.Changed = append(d.Changed, Changed{news[k].Handle, news[k].Name, fields, news[k]})
	}
	for _, p := range quiet {
		if err := d.compareQuiet(p.b, changed, explained, from, to); err != nil {
			return d, err
		}
	}
	for _, list := range []*[]autostart.Entry{&d.Added, &d.Removed} {
		n := len(*list)
		*list = slices.DeleteFunc(*list, func(e autostart.Entry) bool { return fleeting(&e) })
		d.Fleeting += n - len(*list)
	}
	byOrder := func(a, b autostart.Entry) int { return autostart.Compare(&a, &b) }
	slices.SortFunc(d.Added, byOrder)
	slices.SortFunc(d.Removed, byOrder)
	slices.SortFunc(d.Changed, func(a, b Changed) int { return autostart.Compare(&a.entry, &b.entry) })
	return d, nil
}

// pair are the lines of one entry in two snapshots.
type pair struct{ a, b *line }

// naming are the entries of sections that are alike in both snapshots which name an artifact that changed: it stands in
// another section.
func (s *Snapshot) naming(changed map[string][2]string, alike map[Digest]bool) ([]pair, error) {
	var all []pair
	for _, section := range s.Sections {
		if !alike[section.Digest] || len(changed) == 0 {
			continue
		}
		one := *s
		one.Sections = []Section{section}
		entries, err := one.linesOf('E', nil)
		if err != nil {
			return nil, err
		}
		for k := range entries {
			if entries[k].names(changed) {
				all = append(all, pair{&entries[k], &entries[k]})
			}
		}
	}
	return all, nil
}

// compareQuiet notes what changed of the artifacts of an entry whose own text is the same. Of those that share one, the
// first is enough.
func (d *Difference) compareQuiet(l *line, changed map[string][2]string, explained map[string]bool,
	from, to *Snapshot) error {
	var fields []Field
	for id := range strings.SplitSeq(l.artifacts(), "\x1f") {
		bodies, ok := changed[id]
		if !ok || explained[id] {
			continue
		}
		f, err := compareImages(id, bodies, from, to)
		if err != nil {
			return err
		}
		fields = append(fields, f...)
		explained[id] = true
	}
	if len(fields) == 0 {
		return nil
	}
	e, err := decodeAll([]*line{l})
	if err != nil {
		return err
	}
	d.Changed = append(d.Changed, Changed{e[0].Handle, e[0].Name, fields, e[0]})
	return nil
}

// decodeAll decodes the entries of lines, a stretch of them on each processor.
func decodeAll(lines []*line) ([]autostart.Entry, error) {
	entries := make([]autostart.Entry, len(lines))
	errs := make([]error, runtime.GOMAXPROCS(0))
	parallel.Each(len(errs), func(w int) {
		for k := w * len(lines) / len(errs); k < (w+1)*len(lines)/len(errs) && errs[w] == nil; k++ {
			var r Recorded
			if _, errs[w] = decodeEntry(lines[k].body(), &r); errs[w] == nil {
				entries[k] = r.Entry
			} else {
				errs[w] = fmt.Errorf("the entry %s of the snapshot cannot be read: %w", lines[k].id(), errs[w])
			}
		}
	})
	if len(lines) == 0 {
		entries = nil
	}
	return entries, errors.Join(errs...)
}

// mergeOf walks the lines of one kind of two snapshots side by side, see merge, without those
// of some sections.
func mergeOf(from, to *Snapshot, kind byte, without map[Digest]bool, visit func(a, b *line)) error {
	a, err := from.linesOf(kind, without)
	if err != nil {
		return err
	}
	b, err := to.linesOf(kind, without)
	if err != nil {
		return err
	}
	merge(a, b, visit)
	return nil
}

// merge walks two ordered lists side by side; each call has one side or both.
func merge(a, b []line, visit func(a, b *line)) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].id() < b[0].id():
			visit(&a[0], nil)
			a = a[1:]
		case len(a) == 0 || b[0].id() < a[0].id():
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
	for id := range strings.SplitSeq(l.artifacts(), "\x1f") {
		if _, ok := artifacts[id]; ok {
			return true
		}
	}
	return false
}

// comparedFields are the fields that mean something to a person. A line number
// or a catalogue's judgement is no change of the machine.
var comparedFields = []struct {
	name  string
	value func(*autostart.Entry) string
}{
	{"state", func(e *autostart.Entry) string { return string(e.State) }},
	{"mode", func(e *autostart.Entry) string { return e.Mode }},
	{"when", func(e *autostart.Entry) string { return e.When }},
	{"name", func(e *autostart.Entry) string { return e.Name }},
	{"stage", func(e *autostart.Entry) string { return string(e.Stage) }},
	{"command", func(e *autostart.Entry) string { return e.Command }},
	{"target", func(e *autostart.Entry) string { return e.Target.Path }},
	{"program", program},
	{"source", func(e *autostart.Entry) string { return e.Source.Path }},
	{"problems", func(e *autostart.Entry) string { return strings.Join(e.Problems, ", ") }},
}

// program words what is at the target, so that one that was removed or replaced
// shows.
func program(e *autostart.Entry) string {
	switch {
	case e.Target.Exists == nil:
		return "unknown"
	case !*e.Target.Exists:
		return "missing"
	}
	return fmt.Sprintf("%d bytes of %s", e.Target.Size, e.Target.Modified.Format(time.RFC3339))
}

// newProblems are those that snapshots of before programs were looked at do not have.
var newProblems = []string{autostart.Unsigned, autostart.SignatureInvalid, autostart.Changed, autostart.Impostor,
	autostart.OddPlace, autostart.Obscured, autostart.Twice}

func compareEntries(a, b *autostart.Entry, beforePrograms bool) []Field {
	one, other := *a, *b
	for _, e := range []*autostart.Entry{&one, &other} {
		e.Problems = slices.DeleteFunc(slices.Clone(e.Problems), func(p string) bool {
			// That another entry starts the same is a difference of that other, which is told there.
			return p == autostart.Twice || beforePrograms && slices.Contains(newProblems, p)
		})
	}
	a, b = &one, &other
	var fields []Field
	// An early snapshot says when an entry starts in its mode, and has no word for the place.
	early := a.Place == "" || b.Place == ""
	for _, f := range comparedFields {
		if early && (f.name == "mode" || f.name == "when") {
			continue
		}
		if removed := a.Mode == autostart.KeptInRecord && b.Mode == a.Mode; (removed || a.State != b.State) &&
			(f.name == "stage" || f.name == "when") {
			continue // when it would start is not told of all that is off: a service has no other place for it
		}
		if (fleeting(a) || fleeting(b)) && (f.name == "state" || f.name == "mode" || f.name == "when") {
			continue // what it is until the next restart
		}
		if from, to := f.value(a), f.value(b); from != to {
			fields = append(fields, Field{Field: f.name, From: from, To: to})
		}
	}
	return fields
}

// fleeting reports whether an entry's state ends with the next restart, as its location knows.
func fleeting(e *autostart.Entry) bool {
	is := table.Row(e.Location).Fleeting
	return is != nil && is(e)
}

// compareImages words how an artifact differs where the entry's fields do not.
func compareImages(id string, bodies [2]string, from, to *Snapshot) ([]Field, error) {
	artifact, err := artifact.ParseID(id)
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
	if a.Same(b) || mac.SameMeaning(artifact, a, b) {
		return nil, nil // a folder that others put something into
	}
	field := Field{autostart.Text(artifact.String()), a.String(), b.String(),
		autostart.Text(strings.Join(difference.Words(artifact, a, b), "; "))}
	if field.From == field.To {
		field.From += ", " + describeRest(a)
		field.To += ", " + describeRest(b)
	}
	return []Field{field}, nil
}

// describeRest words what an image's short form leaves out.
func describeRest(i artifact.Image) string {
	return fmt.Sprintf("owner %d:%d, %s, %d extended attributes", i.UID, i.GID, i.ModTime.Format(time.RFC3339Nano),
		len(i.Xattrs))
}
