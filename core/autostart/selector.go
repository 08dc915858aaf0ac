package autostart

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Selector chooses entries. Words that name entries (handles and names, the
// latter with the wildcards * and ?) add up; field words such as stage=sign-in
// narrow down. Several values of a field, separated by commas, are alternatives;
// != excludes. Names and values are compared without regard to case.
type Selector struct {
	names  []string
	fields []fieldTest
}

type fieldTest struct {
	field  string
	values []string
	not    bool
}

// selectable gives the values that an entry has for a field. One that has
// several (problem) passes when any of them matches.
var selectable = map[string]func(Entry) []string{
	"handle":   func(e Entry) []string { return []string{e.Handle} },
	"name":     func(e Entry) []string { return []string{e.Name} },
	"stage":    func(e Entry) []string { return []string{string(e.Stage)} },
	"state":    func(e Entry) []string { return []string{string(e.State)} },
	"scope":    func(e Entry) []string { return []string{string(e.Scope)} },
	"user":     func(e Entry) []string { return []string{e.User} },
	"location": func(e Entry) []string { return []string{e.Location} },
	"maker":    func(e Entry) []string { return []string{e.Maker.Name} },
	"mode":     func(e Entry) []string { return []string{e.Mode} },
	"switch":   func(e Entry) []string { return []string{string(e.Switch)} },
	"command":  func(e Entry) []string { return []string{e.Command} },
	"target":   func(e Entry) []string { return []string{e.Target.Path} },
	"source":   func(e Entry) []string { return []string{e.Source.Path} },
	"problem": func(e Entry) []string {
		if len(e.Problems) == 0 {
			return []string{""}
		}
		return e.Problems
	},
	"guarded": func(e Entry) []string {
		if e.Guarded == "" {
			return []string{"no"}
		}
		return []string{"yes"}
	},
}

// Fields lists the field names that a selector may use, in alphabetical order.
func Fields() []string {
	var names []string
	for f := range selectable {
		names = append(names, f)
	}
	slices.Sort(names)
	return names
}

// fixedValues are the fields whose values come from a fixed list: a misspelled
// one would silently choose nothing.
var fixedValues = map[string][]string{
	"stage":   {"boot", "system", "sign-in", "schedule", "event", "attach"},
	"state":   {"enabled", "disabled"},
	"scope":   {"system", "user"},
	"guarded": {"yes", "no"},
}

// ParseSelector reads the words of a command line. An unknown field, a value
// that the field cannot have and a malformed wildcard are errors.
func ParseSelector(words []string) (Selector, error) {
	var s Selector
	for _, w := range words {
		field, values, isField := strings.Cut(w, "=")
		not := strings.HasSuffix(field, "!")
		field = strings.TrimSuffix(field, "!")
		if !isField || strings.ContainsAny(field, " */?[") {
			// A name may itself hold commas or an equals sign.
			if w == "" {
				return s, fmt.Errorf("an empty word chooses nothing; name an entry, or use a field such as stage=sign-in")
			}
			if _, err := path.Match(w, ""); err != nil {
				return s, fmt.Errorf("%q is not a valid wildcard", w)
			}
			s.names = append(s.names, w)
			continue
		}
		if _, ok := selectable[field]; !ok {
			return s, fmt.Errorf("unknown field %q in %q; the fields are %s", field, w, strings.Join(Fields(), ", "))
		}
		t := fieldTest{field: field, not: not, values: strings.Split(values, ",")}
		for _, v := range t.values {
			if _, err := path.Match(v, ""); err != nil {
				return s, fmt.Errorf("%q is not a valid wildcard", v)
			}
			if fixed := fixedValues[field]; fixed != nil && !slices.ContainsFunc(fixed, func(f string) bool { return matchFold(v, f) }) {
				return s, fmt.Errorf("%s cannot be %q; it is one of %s", field, v, strings.Join(fixed, ", "))
			}
		}
		s.fields = append(s.fields, t)
	}
	return s, nil
}

// Empty reports whether the selector has no words and so chooses everything.
func (s Selector) Empty() bool { return len(s.names) == 0 && len(s.fields) == 0 }

// Choose returns the entries that the selector matches, in their given order.
func (s Selector) Choose(entries []*Entry) []*Entry {
	var chosen []*Entry
	for _, e := range entries {
		if s.Matches(*e) {
			chosen = append(chosen, e)
		}
	}
	return chosen
}

// ByHandle reports whether one of the selector's words is this entry's handle:
// such an entry is meant for certain, and found even among those left out.
func (s Selector) ByHandle(e Entry) bool { return slices.Contains(s.names, e.Handle) }

// Matches reports whether the selector chooses e.
func (s Selector) Matches(e Entry) bool {
	if len(s.names) > 0 && !slices.ContainsFunc(s.names, func(w string) bool { return w == e.Handle || matchFold(w, e.Name) }) {
		return false
	}
	for _, t := range s.fields {
		hit := slices.ContainsFunc(selectable[t.field](e), func(have string) bool {
			return slices.ContainsFunc(t.values, func(want string) bool { return matchFold(want, have) })
		})
		if hit == t.not {
			return false
		}
	}
	return true
}

// Unmatched returns the first naming word that matches none of the entries: a
// misspelled handle must not vanish among ten good ones.
func (s Selector) Unmatched(entries []*Entry) (word string, ok bool) {
	for _, w := range s.names {
		if !slices.ContainsFunc(entries, func(e *Entry) bool { return w == e.Handle || matchFold(w, e.Name) }) {
			return w, true
		}
	}
	return "", false
}

// Ambiguous returns the entries among which a naming word without wildcards
// cannot decide: "Fogbell Sync" when two people have an entry of that name.
func (s Selector) Ambiguous(chosen []*Entry) (word string, among []*Entry) {
	for _, w := range s.names {
		if strings.ContainsAny(w, "*?[") {
			continue
		}
		var hits []*Entry
		for _, e := range chosen {
			if w == e.Handle || matchFold(w, e.Name) {
				hits = append(hits, e)
			}
		}
		if len(hits) > 1 {
			return w, hits
		}
	}
	return "", nil
}

// matchFold matches a wildcard without regard to case; unlike a path's, its
// star also spans slashes.
func matchFold(pattern, text string) bool {
	if !strings.ContainsAny(pattern, `*?[\`) {
		return strings.EqualFold(pattern, text)
	}
	flat := func(s string) string { return strings.ReplaceAll(strings.ToLower(s), "/", "\x00") }
	ok, _ := path.Match(flat(pattern), flat(text))
	return ok || strings.EqualFold(pattern, text)
}
