package work

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/note"
	"lockback/core/store"
)

// OpenKnowledge opens the record for what is known about programs: no machine is needed for it, and it is never the
// record on a disk.
func (d *Desk) OpenKnowledge(access store.Access) (*store.Store, error) {
	if d.Record == OnDisk {
		return nil, Wrong("catalogues and notes are kept in your own record, not in the one on a disk; leave " +
			"--store disk out")
	}
	path, err := d.RecordPath()
	if err != nil {
		return nil, err
	}
	record, err := store.Open(path, access)
	return record, Advise(err)
}

// OwnCatalogues are those of the record; none if there is no record.
func (d *Desk) OwnCatalogues() ([]*catalogue.Catalogue, error) {
	if d.Record == OnDisk {
		return nil, nil
	}
	record, err := d.OpenKnowledge(store.Read)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer record.Close()
	return (&Session{Record: record, desk: d}).known().own, nil
}

// entryOf is a note as an entry of a catalogue.
func entryOf(n note.Note, id string) catalogue.Entry {
	m := n.Program.Mark()
	m.Location = n.Program.System + ".*"
	e := catalogue.Entry{ID: id, KnownBy: []catalogue.Mark{m}, Role: n.Role, Verdict: n.Verdict, Note: n.Text, By: n.By,
		Date: n.Time.UTC().Format(time.DateOnly)}
	if e.Role == "" {
		e.Role = autostart.RoleUnknown
	}
	if e.Verdict == "" {
		e.Verdict = autostart.Unrated
	}
	return e
}

// notPlain matches the characters that an id must not contain.
var notPlain = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[^a-z0-9]+`) })

// Exported are the notes that go into a file as entries, and those that stay, with the reason.
func Exported(notes []note.Note) (entries []catalogue.Entry, stay []Stays) {
	used := map[string]int{}
	for _, n := range notes {
		switch {
		case n.Machine != "":
			stay = append(stay, Stays{n.Name, "it is about one machine's entry"})
			continue
		case n.Private:
			stay = append(stay, Stays{n.Name, "a user's name is in it"})
			continue
		case n.Verdict == "" && n.Text == "":
			stay = append(stay, Stays{n.Name, "it says no more than a role"})
			continue
		}
		id := strings.Trim(notPlain().ReplaceAllString(strings.ToLower(n.Name), "-"), "-")
		if id == "" {
			id = "program"
		}
		if used[id]++; used[id] > 1 {
			id = fmt.Sprintf("%s-%d", id, used[id])
		}
		entries = append(entries, entryOf(n, id))
	}
	return entries, stay
}

// Stays is a note that is not handed on, and why.
type Stays struct{ Name, Why string }

// catalogueName is what a catalogue may be called in the record.
var catalogueName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`) })

// CheckCatalogueName fails where no catalogue can have a name.
func CheckCatalogueName(name string) error {
	if !catalogueName().MatchString(name) || slices.Contains(catalogue.Systems, name) || name == "lockback" {
		return Wrong(
			"a catalogue cannot be called %q: a name has small letters, digits and hyphens; give one with --as", name)
	}
	return nil
}

// ErrNoEntries says that a catalogue has no entries that can be imported.
var ErrNoEntries = Wrong("it has no entries to import")

// Import is what taking a catalogue into the record does: the ids of entries.
type Import struct {
	Name                            string
	Entries                         int
	Added, Changed, Removed, Passed []string
	Contradicts                     []string          // sentences
	catalogues                      []store.Catalogue // of the record, as they become
}

// PlanImport tells what an import does. With first the catalogue comes before all others, else a new one comes last.
// The record may be nil: then it has nothing yet.
func (d *Desk) PlanImport(record *store.Store, c *catalogue.Catalogue, name string, first bool) (Import, error) {
	i := Import{Name: name, Added: []string{}, Changed: []string{}, Removed: []string{}, Passed: []string{},
		Contradicts: []string{}}
	var all []store.Catalogue
	if record != nil {
		var err error
		if all, err = record.Catalogues(); err != nil {
			return i, Advise(err)
		}
	}
	c.Entries = slices.DeleteFunc(c.Entries, func(e catalogue.Entry) bool {
		if e.Part {
			i.Passed = append(i.Passed, e.ID)
		}
		return e.Part
	})
	if i.Entries = len(c.Entries); i.Entries == 0 {
		return i, ErrNoEntries
	}
	at := slices.IndexFunc(all, func(other store.Catalogue) bool { return other.Name == name })
	before := map[string]catalogue.Entry{}
	if at >= 0 {
		if old, err := catalogue.Decode(all[at].Text); err == nil {
			for _, e := range old.Entries {
				before[e.ID] = e
			}
		}
	}
	known := (&Session{Record: record, desk: d}).known()
	others := slices.DeleteFunc(slices.Clone(known.own), func(o *catalogue.Catalogue) bool { return o.Name == name })
	for _, e := range c.Entries {
		e.Line = 0
		old, was := before[e.ID]
		delete(before, e.ID)
		switch {
		case !was:
			i.Added = append(i.Added, e.ID)
		case !bytes.Equal(alone(old), alone(e)):
			i.Changed = append(i.Changed, e.ID)
		}
		i.Contradicts = append(i.Contradicts, contradictions(e, others, known.notes())...)
	}
	for id := range before {
		i.Removed = append(i.Removed, id)
	}
	slices.Sort(i.Removed)
	now := store.Catalogue{Name: name, Text: c.Encode(), Time: time.Now()}
	switch {
	case at >= 0 && !first:
		all[at] = now
	case at >= 0:
		all = slices.Insert(slices.Delete(all, at, at+1), 0, now)
	case first:
		all = slices.Insert(all, 0, now)
	default:
		all = append(all, now)
	}
	i.catalogues = all
	return i, nil
}

// alone encodes one entry, to compare it.
func alone(e catalogue.Entry) []byte {
	return (&catalogue.Catalogue{Entries: []catalogue.Entry{e}}).Encode()
}

// Carry takes the catalogue into the record.
func (i Import) Carry(record *store.Store) error { return Advise(record.SetCatalogues(i.catalogues)) }

// goes reports whether a verdict leads to switching off, and stays whether it speaks against that.
func goes(verdict string) bool { return verdict == "spare" || verdict == "hostile" }

func stays(verdict string) bool { return verdict == "essential" || verdict == "useful" }

// contradictions say where an entry judges what is known already the other way round.
func contradictions(e catalogue.Entry, others []*catalogue.Catalogue, notes *note.Book) []string {
	against := func(verdict string) bool {
		return goes(e.Verdict) && stays(verdict) || stays(e.Verdict) && goes(verdict)
	}
	var all []string
	say := func(format string, args ...any) {
		if text := fmt.Sprintf("%s is %s, and ", e.ID, e.Verdict) + fmt.Sprintf(format, args...); !slices.Contains(all,
			text) {
			all = append(all, text)
		}
	}
	for _, m := range e.Marks() {
		s := subjectLike(m)
		for _, system := range catalogue.Systems {
			if m.Location != "" && !strings.HasPrefix(m.Location, system+".") && !strings.HasPrefix(m.Location, "*") {
				continue
			}
			s.Location = strings.NewReplacer("*", "", "?", "").Replace(m.Location)
			if s.Location == "" || s.Location == system+"." {
				s.Location = cmp.Or(table.OfKind(system, location.SystemUnit).ID, system+".")
			}
			if o := catalogue.Of(system).Knows(s); o != nil {
				switch {
				case against(o.Verdict):
					say("%s of lockback's own catalogue is %s", o.ID, o.Verdict)
				case goes(e.Verdict) && o.Protect != "":
					say("%s of lockback's own catalogue is protected, which it stays: %s", o.ID,
						catalogue.Protections[o.Protect])
				}
			}
			for _, c := range others {
				if o := c.Knows(s); o != nil && against(o.Verdict) {
					say("%s of the catalogue %s is %s", o.ID, c.Name, o.Verdict)
				}
			}
			p := note.Program{System: system, Maker: m.Maker, Package: m.Package, Says: m.Says,
				File: strings.ToLower(m.File), Label: strings.ToLower(m.Label)}
			if n, ok := notes.Of(p); ok && against(n.Verdict) {
				say("your note on %s says %s", n.Name, n.Verdict)
			}
		}
	}
	return all
}

// subjectLike is what a mark would recognise.
func subjectLike(m catalogue.Mark) catalogue.Subject {
	s := catalogue.Subject{Bundle: m.Bundle, Maker: m.Maker, Says: m.Says, File: m.File, Label: m.Label,
		Command: m.Command, Names: m.Names}
	if m.Package != "" {
		s.Packages, s.Delivered = []string{m.Package}, true
	}
	if len(m.Runs) > 0 {
		s.Runs = [][]string{m.Runs}
	}
	return s
}

// ShippedCatalogues are those that are part of the program, by the names of their systems.
func ShippedCatalogues() []*catalogue.Catalogue {
	var all []*catalogue.Catalogue
	for _, system := range catalogue.Systems {
		all = append(all, &catalogue.Catalogue{Name: system, Entries: catalogue.Of(system).All()})
	}
	return all
}
