package part

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/format/regf"
	"lockback/core/machine/artifact"
)

// Item is one item of a list that a registry value holds: a REG_MULTI_SZ, or a text with
// separators.
type Item struct {
	Key        string `json:"key"`
	Value      string `json:"value"`
	Text       string `json:"text"`                 // without the blanks around it
	Separators string `json:"separators,omitempty"` // any of which parts items; none in a REG_MULTI_SZ
}

// In is the value.
func (i Item) In() artifact.Artifact { return artifact.RegistryValue(i.Key, i.Value) }

// Carry brings the item over: into its place among the others, or out of the list.
func (i Item) Carry(_ Images, into, from artifact.Image, _ time.Time) (artifact.Image, error) {
	theirs, ours := SplitList(from.Value(), i.Separators), SplitList(into.Value(), i.Separators)
	n := slices.Index(theirs, i.Text)
	k := slices.Index(ours, i.Text)
	switch {
	case (n < 0) == (k < 0):
		return into, nil
	case n < 0:
		return i.Cut(into, ""), nil
	case into.Kind == artifact.Value && into.Type != from.Type:
		return into, fmt.Errorf("%s is of another type now", i.In())
	case i.Separators == "" && from.Value().Type != regf.MultiString:
		return from, nil // a single thing
	}
	at := insertAt(theirs, n, ours, func(a, b string) bool { return strings.EqualFold(a, b) })
	if slices.Equal(slices.Insert(slices.Clone(ours), at, i.Text), theirs) {
		return from, nil
	}
	v := into.Value()
	if into.Kind != artifact.Value {
		into, v = from, from.Value()
		v.Data = nil
	}
	if v.Type == regf.MultiString {
		into.Content = regf.ListData(slices.Insert(slices.Clone(ours), at, i.Text))
	} else {
		into.Content = regf.TextData(insertItem(v.Text(), i.Separators, at, i.Text))
	}
	return into, nil
}

// Without takes the item out.
func (i Item) Without(image artifact.Image, _ time.Time) (artifact.Image, bool, error) {
	return i.Cut(image, ""), slices.Contains(SplitList(image.Value(), i.Separators), i.Text), nil
}

func (i Item) like(_ Images, now Part, _ artifact.Image) bool { return Encode(i) == Encode(now) }

// Cut is the image of the value without the item. fallback stays where no other does: what
// the system has by default. Where nothing is left at all, the value goes.
func (i Item) Cut(image artifact.Image, fallback string) artifact.Image {
	v := image.Value()
	items := SplitList(v, i.Separators)
	k := slices.Index(items, i.Text)
	if k < 0 {
		return image
	}
	rest := slices.Delete(slices.Clone(items), k, k+1)
	if len(rest) == 0 && fallback != "" {
		rest = []string{fallback}
	}
	switch {
	case i.Separators == "" && len(rest) == 0:
		return artifact.Image{Kind: artifact.Absent}
	case v.Type == regf.MultiString:
		image.Content = regf.ListData(rest)
	default:
		image.Content = regf.TextData(cutItem(v.Text(), i.Separators, k, fallback))
	}
	return image
}

// SplitList returns the items of a list value, without the blanks around them.
// In texts, quotes keep separators together. A text without separators is one item.
func SplitList(v regf.Value, separators string) []string {
	if v.Type == regf.MultiString {
		return v.Strings()
	}
	var items []string
	for _, s := range spans(v.Text(), separators) {
		items = append(items, s.text)
	}
	return items
}

// span is an item of a text: from its first character or blank, up to and with the
// separator behind it.
type span struct {
	from, to int
	ends     bool   // with a separator
	text     string // without the blanks around it
}

// spans finds the items of a text; what holds only blanks is left out.
func spans(text, separators string) []span {
	var items []span
	quoted, from := false, 0
	add := func(to, next int) {
		if item := strings.TrimSpace(text[from:to]); item != "" {
			items = append(items, span{from, next, next > to, item})
		}
		from = next
	}
	for at := 0; at < len(text); at++ {
		if text[at] == '"' {
			quoted = !quoted
		}
		if !quoted && strings.IndexByte(separators, text[at]) >= 0 {
			add(at, at+1)
		}
	}
	add(len(text), len(text))
	return items
}

// cutItem takes the k-th item out of a text, with the separator behind it or,
// for the last one, before it. The others stay as they are, as does how they are
// separated.
func cutItem(text, separators string, k int, fallback string) string {
	if separators == "" {
		return fallback
	}
	cut := spans(text, separators)[k]
	out := text[:cut.from] + text[cut.to:]
	if cut.to == len(text) && !cut.ends {
		out = strings.TrimRight(out, separators+" ")
	}
	if strings.Trim(out, separators+" ") == "" {
		return fallback
	}
	return out
}

// insertItem puts an item before the k-th one of a text, or behind the last one.
func insertItem(text, separators string, k int, item string) string {
	items := spans(text, separators)
	separator := separators[:min(1, len(separators))]
	switch {
	case len(items) == 0:
		return item
	case k < len(items):
		return text[:items[k].from] + item + separator + text[items[k].from:]
	case items[k-1].ends:
		return text[:items[k-1].to] + item + separator + text[items[k-1].to:]
	}
	return strings.TrimRight(text, " ") + separator + item
}
