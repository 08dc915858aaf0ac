package catalogue

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"lockback/core/autostart"
)

// Bounds of a file.
const (
	maxFile    = 8 << 20 // bytes
	maxEntries = 50_000
	maxText    = 600 // characters of a text
)

// Problem is what is wrong with a line of a catalogue's file.
type Problem struct {
	Line int
	What string
}

// Error is the problem in words, with the line.
func (p Problem) Error() string { return fmt.Sprintf("line %d: %s", p.Line, p.What) }

// Parse reads a catalogue in the form of docs/catalogue.md, and returns all that is wrong with it.
// A catalogue with problems holds the entries that are sound.
func Parse(text []byte) (*Catalogue, []Problem) {
	r := &reader{}
	if len(text) > maxFile {
		r.wrong(1, "the file is larger than %d MB", maxFile>>20)
		return &Catalogue{}, r.problems
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		r.wrong(lineIn(err), "this is not YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
		return &Catalogue{}, r.problems
	}
	c := &Catalogue{}
	if len(doc.Content) == 1 {
		r.document(doc.Content[0], c)
	} else {
		r.wrong(1, "the file is empty")
	}
	c.index()
	slices.SortStableFunc(r.problems, func(a, b Problem) int { return a.Line - b.Line })
	return c, r.problems
}

// lineIn finds the line in an error of the package: "yaml: line 3: ...".
func lineIn(err error) int {
	n := 1
	fmt.Sscanf(err.Error(), "yaml: line %d:", &n)
	return n
}

type reader struct {
	problems []Problem
	ids      map[string]int
	judged   map[string]Entry // by what they are known by
}

func (r *reader) wrong(line int, format string, args ...any) {
	if len(r.problems) < 1000 {
		r.problems = append(r.problems, Problem{line, fmt.Sprintf(format, args...)})
	}
}

// fields visits the pairs of a map. Aliases, which could make a small file large, are refused.
func (r *reader) fields(n *yaml.Node, what string, visit func(key string, value *yaml.Node)) bool {
	if n.Kind == yaml.AliasNode {
		r.wrong(n.Line, "YAML aliases are not supported")
		return false
	}
	if n.Kind != yaml.MappingNode {
		r.wrong(n.Line, "%s is not a list of names and values", what)
		return false
	}
	seen := map[string]bool{}
	for k := 0; k+1 < len(n.Content); k += 2 {
		key, value := n.Content[k], n.Content[k+1]
		switch {
		case key.Kind != yaml.ScalarNode || value.Kind == yaml.AliasNode || value.Anchor != "":
			r.wrong(key.Line, "YAML aliases are not supported")
		case seen[key.Value]:
			r.wrong(key.Line, "%s has %q twice", what, key.Value)
		default:
			seen[key.Value] = true
			visit(key.Value, value)
		}
	}
	return true
}

func (r *reader) document(n *yaml.Node, c *Catalogue) {
	r.ids, r.judged = map[string]int{}, map[string]Entry{}
	format := false
	r.fields(n, "the file", func(key string, value *yaml.Node) {
		switch key {
		case "format":
			if format = value.Value == "1"; !format {
				r.wrong(value.Line, "format %q is not known; this version of lockback reads format 1", value.Value)
			}
		case "entries":
			if value.Kind != yaml.SequenceNode {
				r.wrong(value.Line, "entries is not a list")
				return
			}
			if len(value.Content) > maxEntries {
				r.wrong(value.Line, "there are more than %d entries", maxEntries)
				return
			}
			for _, node := range value.Content {
				if e, ok := r.entry(node); ok && r.agrees(e) {
					c.Entries = append(c.Entries, e)
				}
			}
		default:
			r.wrong(value.Line, "the file has no field %q", key)
		}
	})
	if !format && len(r.problems) == 0 {
		r.wrong(1, "the file does not say its format")
	}
}

// agrees fails where an earlier entry is known by the same and is judged otherwise: which of them counts should not
// hang on their order.
func (r *reader) agrees(e Entry) bool {
	before := len(r.problems)
	for _, m := range e.KnownBy {
		key := fmt.Sprintf("%q", m)
		if first, ok := r.judged[key]; ok && first.Verdict != e.Verdict {
			r.wrong(e.Line, "%q is %s, and %q in line %d, which is known by the same, is %s", e.ID, e.Verdict, first.ID,
				first.Line, first.Verdict)
		} else if !ok {
			r.judged[key] = e
		}
	}
	return len(r.problems) == before
}

// entry reads one entry; ok is false where something is wrong with it.
func (r *reader) entry(n *yaml.Node) (e Entry, ok bool) {
	before := len(r.problems)
	e.Line, e.Role, e.Verdict = n.Line, autostart.RoleUnknown, autostart.Unrated
	texts := map[string]*string{"id": &e.ID, "does": &e.Does, "without": &e.Without, "setting": &e.Setting,
		"role": &e.Role, "verdict": &e.Verdict, "protect": &e.Protect, "caution": &e.Caution,
		"note": &e.Note, "by": &e.By, "date": &e.Date}
	if !r.fields(n, "the entry", func(key string, value *yaml.Node) {
		switch to := texts[key]; {
		case to != nil:
			*to = r.text(value, key)
		case key == "part":
			if value.Value != "true" && value.Value != "false" {
				r.wrong(value.Line, "part must be true or false")
			}
			e.Part = value.Value == "true"
		case key == "known-by":
			if value.Kind != yaml.SequenceNode {
				r.wrong(value.Line, "known-by is not a list")
				return
			}
			for _, node := range value.Content {
				e.KnownBy = append(e.KnownBy, r.mark(node))
			}
		default:
			r.wrong(value.Line, "an entry has no field %q", key)
		}
	}) {
		return e, false
	}
	if e.ID == "" {
		r.wrong(e.Line, "the entry has no id")
	} else if first := r.ids[e.ID]; first > 0 {
		r.wrong(e.Line, "line %d already has the id %q", first, e.ID)
	} else {
		r.ids[e.ID] = e.Line
	}
	if e.Does == "" && e.Note == "" && e.Verdict == autostart.Unrated {
		r.wrong(e.Line, "%q does not say what it does", e.ID)
	}
	if e.Date != "" {
		if _, err := time.Parse(time.DateOnly, e.Date); err != nil {
			r.wrong(e.Line, "the date of %q is %q; a day is written as 2026-11-26", e.ID, e.Date)
		}
	}
	if len(e.KnownBy) == 0 {
		r.wrong(e.Line, "%q does not say what it is known by", e.ID)
	}
	oneOf := func(field, word string, words []string) {
		if !slices.Contains(words, word) {
			r.wrong(e.Line, "the %s of %q is %q; it is one of %s", field, e.ID, word, strings.Join(words, ", "))
		}
	}
	oneOf("role", e.Role, autostart.Roles)
	oneOf("verdict", e.Verdict, autostart.Verdicts)
	if e.Protect != "" {
		oneOf("protection", e.Protect, slices.Sorted(maps.Keys(Protections)))
	}
	if e.Caution != "" {
		oneOf("caution", e.Caution, slices.Sorted(maps.Keys(Cautions)))
	}
	if slices.Contains(leadingOff, e.Verdict) && !e.Part && slices.ContainsFunc(e.KnownBy, Mark.onOneName) {
		r.wrong(e.Line, "%q is %s by a name alone, which anybody can give: it needs a package, a maker or a "+
			"bundle, or two of file, says and label", e.ID, e.Verdict)
	}
	return e, len(r.problems) == before
}

func (r *reader) text(n *yaml.Node, what string) string {
	if n.Kind != yaml.ScalarNode {
		r.wrong(n.Line, "%s is not text", what)
		return ""
	}
	if len(n.Value) > maxText {
		r.wrong(n.Line, "%s has more than %d characters", what, maxText)
		return ""
	}
	return n.Value
}

func (r *reader) mark(n *yaml.Node) (m Mark) {
	texts := map[string]*string{"location": &m.Location, "package": &m.Package, "bundle": &m.Bundle, "maker": &m.Maker,
		"file": &m.File, "command": &m.Command, "says": &m.Says, "label": &m.Label}
	lists := map[string]*[]string{"names": &m.Names, "runs": &m.Runs}
	r.fields(n, "what it is known by", func(key string, value *yaml.Node) {
		switch to := texts[key]; {
		case to != nil:
			*to = r.text(value, key)
		case lists[key] != nil && value.Kind == yaml.ScalarNode:
			*lists[key] = strings.Fields(value.Value)
		case lists[key] != nil && value.Kind == yaml.SequenceNode:
			for _, word := range value.Content {
				*lists[key] = append(*lists[key], r.text(word, "one of "+key))
			}
		default:
			r.wrong(value.Line, "nothing is known by %q", key)
		}
	})
	if len(m.Names) == 0 && m.onName() && m.File == "" && m.Command == "" && m.Says == "" && m.Label == "" {
		r.wrong(n.Line, "nothing is said of what it is known by")
	}
	return m
}
