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
// != excludes. Names and values are compared without regard to case. A name is the
// one that lists show, or the system's own.
type Selector struct {
	names  []string
	fields []fieldTest
	// anywhere says that a naming word without wildcards is searched in all that names an entry.
	anywhere bool
	// shown are the naming words that lists show as the name of an entry: the system's own names
	// of others do not count for them.
	shown map[string]bool
}

type fieldTest struct {
	field  string
	values []string
	not    bool
}

// selectable gives the values that an entry has for a field. One that has
// several (problem) passes when any of them matches.
var selectable = map[string]func(Entry) []string{
	"handle": func(e Entry) []string { return e.handles() },
	"name":   func(e Entry) []string { return []string{e.Name, e.SystemName} },
	"place":  func(e Entry) []string { return []string{e.Place, e.Location} },
	"when":   func(e Entry) []string { return []string{e.When, e.Mode} },
	// What starts for a user: what is the user's own, and what starts for everyone at sign-in or is
	// loaded into programs. Of the latter, every name is true, see [Selector.Matches].
	"for":      func(e Entry) []string { return []string{e.User} },
	"stage":    func(e Entry) []string { return []string{string(e.Stage)} },
	"state":    func(e Entry) []string { return []string{string(e.State)} },
	"scope":    func(e Entry) []string { return []string{string(e.Scope)} },
	"user":     func(e Entry) []string { return []string{e.User} },
	"location": func(e Entry) []string { return []string{e.Location} },
	"maker":    func(e Entry) []string { return []string{e.Maker().Name} },
	"role":     func(e Entry) []string { return []string{e.Facts().RoleWord()} },
	"verdict":  func(e Entry) []string { return []string{e.Facts().VerdictWord()} },
	"product":  func(e Entry) []string { return []string{e.Facts().Product.Name} },
	"mode":     func(e Entry) []string { return []string{e.Mode, e.When} },
	"switch":   func(e Entry) []string { return []string{string(e.Switch)} },
	"command":  func(e Entry) []string { return e.lines() },
	"target":   func(e Entry) []string { return e.programs() },
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

// lines are all commands of an entry, programs all that these start.
func (e *Entry) lines() []string {
	all := []string{e.Command}
	for _, c := range e.Commands {
		if c.Line != "" && !slices.Contains(all, c.Line) {
			all = append(all, c.Line)
		}
	}
	return all
}

func (e *Entry) programs() []string {
	all := []string{e.Target.Path}
	for _, c := range e.Commands {
		if c.Path != "" && !slices.Contains(all, c.Path) {
			all = append(all, c.Path)
		}
	}
	return all
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
	"role":    Roles,
	"verdict": Verdicts,
	"switch": {string(Hide), string(Unlink), string(Mask), string(Comment), string(Unexec), string(Approve),
		string(StartType), string(TaskEnabled), string(StateValue),
		string(Override), string(Trim), string(Rename), string(DownFile), string(Park), string(Report)},
	"problem": append(slices.Clone(AllProblems), ""), // problem= chooses those without one
}

// FixedValues are the values that a field can have, where they come from a fixed list; else nil.
func FixedValues(field string) []string { return slices.Clone(fixedValues[field]) }

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
				return s,
					fmt.Errorf("an empty word chooses nothing; name an entry, or use a field such as stage=sign-in")
			}
			if _, err := path.Match(w, ""); err != nil {
				return s, fmt.Errorf("%q is not a valid wildcard", w)
			}
			s.names = append(s.names, w)
			continue
		}
		said := field
		if field = fieldNamed(said); selectable[field] == nil {
			return s, fmt.Errorf("unknown field %q in %q%s (the fields are %s)", said, w, Suggest(said, Fields()),
				strings.Join(Fields(), ", "))
		}
		t := fieldTest{field: field, not: not}
		for v := range strings.SplitSeq(values, ",") {
			t.values = append(t.values, valuesOf(field, v)...)
		}
		for _, v := range t.values {
			if _, err := path.Match(v, ""); err != nil {
				return s, fmt.Errorf("%q is not a valid wildcard", v)
			}
		}
		s.fields = append(s.fields, t)
		if fixed := fixedValues[field]; fixed != nil {
			if err := s.Check(field, fixed); err != nil {
				return s, err
			}
		}
	}
	return s, nil
}

// Check fails where a value of a field is none of the known ones: a misspelled one would silently
// choose nothing.
func (s Selector) Check(field string, known []string) error {
	for _, t := range s.fields {
		if t.field != field {
			continue
		}
		for _, v := range t.values {
			if slices.ContainsFunc(known, func(k string) bool { return matchFold(v, k) }) {
				continue
			}
			list := slices.DeleteFunc(slices.Clone(known), func(k string) bool { return k == "" })
			more := ""
			if n := len(list) - maxListed; n > 0 {
				more = fmt.Sprintf(" and %d more", n)
			}
			return fmt.Errorf("%s cannot be %q%s (it is one of %s%s)", field, v, Suggest(v, list),
				strings.Join(list[:min(len(list), maxListed)], ", "), more)
		}
	}
	return nil
}

// maxListed is how many values are listed where one is wrong.
const maxListed = 60

// minBeginning is how many letters of a handle are enough, where no other begins with them.
const minBeginning = 3

// Resolve completes the beginnings of handles among the naming words, in any case. A word that is
// an entry's name or whole handle stays what it is. It fails where a word begins several handles.
func (s Selector) Resolve(entries []*Entry) (Selector, error) {
	names := slices.Clone(s.names)
	s.shown = map[string]bool{}
	for k, w := range names {
		s.shown[w] = !isPattern(w) && slices.ContainsFunc(entries, func(e *Entry) bool {
			return strings.EqualFold(w,
				e.Name)
		})
		if len(w) < minBeginning || len(w) > 7 || slices.ContainsFunc(entries,
			func(e *Entry) bool { return s.named(w, e) }) {
			continue
		}
		var begun []string
		for _, e := range entries {
			for _, h := range e.handles() {
				if strings.HasPrefix(h, strings.ToLower(w)) && !slices.Contains(begun, h) {
					begun = append(begun, h)
				}
			}
		}
		switch len(begun) {
		case 0:
		case 1:
			names[k] = begun[0]
		default:
			return s, fmt.Errorf("%q begins %d handles: %s; type more of it", w, len(begun),
				strings.Join(begun[:min(len(begun), 5)], ", "))
		}
	}
	s.names = names
	return s, nil
}

// Apart are the two halves of a selector that has both: its naming words, and its fields.
func (s Selector) Apart() (names, fields Selector, both bool) {
	names, fields = s, s
	names.fields, fields.names = nil, nil
	return names, fields, len(s.names) > 0 && len(s.fields) > 0
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
func (s Selector) ByHandle(e Entry) bool {
	return slices.ContainsFunc(s.names, func(w string) bool { return e.hasHandle(w) })
}

// handles are those by which an entry is chosen.
func (e *Entry) handles() []string {
	if e.Shared == "" {
		return []string{e.Handle}
	}
	return []string{e.Handle, e.Shared}
}

func (e *Entry) hasHandle(word string) bool {
	return word != "" && (word == e.Handle || word == e.Shared)
}

// ByName reports whether one of the selector's words is this entry's handle or a whole name of it, and no
// pattern: then it was thought of.
func (s Selector) ByName(e *Entry) bool {
	return slices.ContainsFunc(s.names, func(w string) bool { return !isPattern(w) && s.named(w, e) })
}

// Matches reports whether the selector chooses e.
func (s Selector) Matches(e Entry) bool {
	if len(s.names) > 0 && !slices.ContainsFunc(s.names, func(w string) bool { return s.meant(w, &e) }) {
		return false
	}
	for _, t := range s.fields {
		hit := t.field == "for" && e.ForEveryone() || slices.ContainsFunc(selectable[t.field](e),
			func(have string) bool {
				return slices.ContainsFunc(t.values, func(want string) bool { return matchFold(want, have) })
			})
		if hit == t.not {
			return false
		}
	}
	return true
}

// Anywhere is the selector for commands that only look: a naming word without wildcards is
// searched in the names, the maker, the command, the program and the place.
func (s Selector) Anywhere() Selector {
	s.anywhere = true
	return s
}

// meant reports whether a naming word chooses an entry.
func (s Selector) meant(word string, e *Entry) bool {
	return s.named(word, e) || s.anywhere && !isPattern(word) && Occurs(word, e) != ""
}

// named reports whether a word is the handle of an entry or fits one of its names.
func (s Selector) named(word string, e *Entry) bool {
	return e.hasHandle(word) || matchFold(word, e.Name) || e.SystemName != "" && !s.shown[word] &&
		matchFold(word, e.SystemName)
}

func isPattern(word string) bool { return strings.ContainsAny(word, "*?[") }

// Occurs tells in what of an entry a word occurs, without regard to case: "name", "command"; it
// is empty if the word occurs nowhere.
func Occurs(word string, e *Entry) string {
	low := strings.ToLower(word)
	for _, at := range []struct{ what, text string }{{"name", e.Name}, {"system's name", e.SystemName},
		{"command", strings.Join(e.lines(), "\n")},
		{"program", strings.Join(e.programs(), "\n")}, {"source", e.Source.Path}, {"source", e.Source.Key},
		{"maker", e.Maker().Name},
		{"product", e.Facts().Product.Name}, {"description", e.Facts().Description}} {
		if strings.Contains(strings.ToLower(at.text), low) {
			return at.what
		}
	}
	if slices.ContainsFunc(e.Notes, func(n Note) bool { return strings.Contains(strings.ToLower(n.Text), low) }) {
		return "note"
	}
	return ""
}

// Only returns the words for which a field stands alone, without exclusion: user=ines gives
// [ines]. It is nil if the field is not used, or used otherwise.
func (s Selector) Only(field string) []string {
	for _, t := range s.fields {
		if t.field == field && !t.not {
			return t.values
		}
	}
	return nil
}

// As is the selector with the values of one field asked of another.
func (s Selector) As(field, other string) Selector {
	s.fields = slices.Clone(s.fields)
	for k, t := range s.fields {
		if t.field == field {
			s.fields[k].field = other
		}
	}
	return s
}

// Unmatched returns the first naming word that matches none of the entries: a
// misspelled handle must not vanish among ten good ones.
func (s Selector) Unmatched(entries []*Entry) (word string, ok bool) {
	for _, w := range s.names {
		if !slices.ContainsFunc(entries, func(e *Entry) bool { return s.meant(w, e) }) {
			return w, true
		}
	}
	return "", false
}

// SuggestEntry words the handles and names of entries that a naming word may have meant, see [Suggest].
func SuggestEntry(word string, entries []*Entry) string {
	words := make([]string, 0, 2*len(entries))
	for _, e := range entries {
		words = append(words, e.Handle, e.Name)
	}
	return Suggest(word, words)
}

// Ambiguous returns the entries among which a naming word without wildcards
// cannot decide: "Fogbell Sync" when two people have an entry of that name. What is the same thing of everyone's
// is one.
func (s Selector) Ambiguous(chosen []*Entry) (word string, among []*Entry) {
	for _, w := range s.names {
		if isPattern(w) {
			continue
		}
		var hits []*Entry
		for _, e := range chosen {
			if s.named(w, e) {
				hits = append(hits, e)
			}
		}
		same := func(e *Entry) bool { return e.Shared != "" && e.Shared == hits[0].Shared }
		if len(hits) > 1 && slices.ContainsFunc(hits, func(e *Entry) bool { return !same(e) }) {
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
