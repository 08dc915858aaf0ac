package artifact

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"
	"strings"

	"lockback/core/format/regf"
	"lockback/core/format/windata"
)

// A recorded tree is written as numbers (varints) and texts with their length
// before them.

func appendNumber(b []byte, n uint64) []byte { return binary.AppendUvarint(b, n) }

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// treeReader reads them again; bad is set where the bytes end early.
type treeReader struct {
	b   []byte
	bad bool
}

func (r *treeReader) number() uint64 {
	n, used := binary.Uvarint(r.b)
	if used <= 0 {
		r.b, r.bad = nil, true
		return 0
	}
	r.b = r.b[used:]
	return n
}

// count is a number of things that each take a byte at least.
func (r *treeReader) count() uint64 {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.bad = true
		return 0
	}
	return n
}

func (r *treeReader) text() string {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.b, r.bad = nil, true
		return ""
	}
	s := string(r.b[:n])
	r.b = r.b[n:]
	return s
}

// AppendKey writes a key of a recorded tree: its rights, class and time, its values in their order, and how many keys
// lie directly below it, which are to be written next.
func AppendKey(b []byte, name string, image Image, values []regf.Value, below int) []byte {
	b = appendText(b, name)
	b = appendNumber(b, windata.FileTime(image.ModTime))
	b = appendText(b, string(image.Xattrs[SecurityAttribute]))
	b = appendText(b, string(image.Xattrs[ClassAttribute]))
	b = appendNumber(b, uint64(len(values)))
	for _, v := range values {
		b = appendText(b, v.Name)
		b = appendNumber(b, uint64(v.Type))
		b = appendText(b, string(v.Data))
	}
	return appendNumber(b, uint64(below))
}

// append writes a key with everything below it.
func (t RecordedKey) append(b []byte) []byte {
	b = AppendKey(b, t.Name, t.Image, t.Values, len(t.Keys))
	for _, below := range t.Keys {
		b = below.append(b)
	}
	return b
}

// at finds the key of a recorded tree that holds a value; nil if the value lies elsewhere.
func (t *RecordedKey) at(tree, value Artifact) *RecordedKey {
	key, _ := value.Value()
	if tree.Kind != TreeArtifact || value.Kind != ValueArtifact || len(key) < len(tree.Name) ||
		!strings.EqualFold(key[:len(tree.Name)], tree.Name) {
		return nil
	}
	rest := key[len(tree.Name):]
	if rest != "" && rest[0] != '\\' {
		return nil
	}
	for name := range strings.SplitSeq(strings.TrimPrefix(rest, `\`), `\`) {
		if name == "" {
			continue
		}
		k := slices.IndexFunc(t.Keys, func(sub RecordedKey) bool { return strings.EqualFold(sub.Name, name) })
		if k < 0 {
			return nil
		}
		t = &t.Keys[k]
	}
	return t
}

// ValueIn is the image that a value has in the recorded image of a key with everything below it; ok is false if the
// value does not lie there, or where the image cannot be read.
func (i Image) ValueIn(tree, value Artifact) (v Image, ok bool) {
	t, err := i.Recorded()
	if err != nil || i.Kind != Tree {
		return Image{}, false
	}
	key := t.at(tree, value)
	if key == nil {
		return Image{}, false
	}
	_, name := value.Value()
	for place, v := range key.Values {
		if strings.EqualFold(v.Name, name) {
			image := NewValue(v)
			image.Place = place
			return image, true
		}
	}
	return Image{Kind: Absent}, true
}

// WithValueIn is the recorded image of a key with everything below it, in which a value has another image; ok is false
// where it does not lie there.
func (i Image) WithValueIn(tree, value Artifact, want Image) (changed Image, ok bool) {
	t, err := i.Recorded()
	if err != nil || i.Kind != Tree {
		return i, false
	}
	key := t.at(tree, value)
	if key == nil {
		return i, false
	}
	_, name := value.Value()
	at := slices.IndexFunc(key.Values, func(v regf.Value) bool { return strings.EqualFold(v.Name, name) })
	switch set := (regf.Value{Name: name, Type: regf.Type(want.Type), Data: want.Content}); {
	case want.Kind == Absent && at >= 0:
		key.Values = slices.Delete(key.Values, at, at+1)
	case want.Kind == Absent:
	case at >= 0:
		set.Name = key.Values[at].Name
		key.Values[at] = set
	case want.Place >= 0 && want.Place < len(key.Values):
		key.Values = slices.Insert(key.Values, want.Place, set)
	default:
		key.Values = append(key.Values, set)
	}
	i.Content = t.append(nil)
	return i, true
}

// RecordedKey is a key of a recorded tree, with everything below it. The top one has no name.
type RecordedKey struct {
	Name   string
	Image  Image
	Values []regf.Value
	Keys   []RecordedKey
}

// errTree says that a recorded tree cannot be right.
var errTree = errors.New("a recorded registry key cannot be read")

// Recorded reads the image of a key with everything below it.
func (i Image) Recorded() (RecordedKey, error) {
	t, _, err := parseTree(i.Content, 0)
	return t, err
}

// MaxTreeDepth is how deep keys of a recorded tree may be nested.
const MaxTreeDepth = 64

func parseTree(b []byte, depth int) (t RecordedKey, rest []byte, err error) {
	r := treeReader{b: b}
	t.Name = r.text()
	t.Image = Image{Kind: Key, UID: -1, GID: -1, ModTime: windata.Time(r.number()), Xattrs: map[string][]byte{}}
	if s := r.text(); s != "" {
		t.Image.Xattrs[SecurityAttribute] = []byte(s)
	}
	if s := r.text(); s != "" {
		t.Image.Xattrs[ClassAttribute] = []byte(s)
	}
	for n := r.count(); n > 0; n-- {
		t.Values = append(t.Values, regf.Value{Name: r.text(), Type: regf.Type(r.number()), Data: []byte(r.text())})
	}
	for n := r.count(); n > 0 && !r.bad; n-- {
		var sub RecordedKey
		if depth > MaxTreeDepth {
			return t, nil, errTree
		}
		if sub, r.b, err = parseTree(r.b, depth+1); err != nil {
			return t, nil, err
		}
		t.Keys = append(t.Keys, sub)
	}
	if r.bad {
		return t, nil, errTree
	}
	return t, r.b, nil
}

func (t RecordedKey) same(u RecordedKey) bool {
	return t.Name == u.Name && t.Image.sameRegistry(u.Image) &&
		slices.EqualFunc(t.Values, u.Values, func(a, b regf.Value) bool {
			return a.Name == b.Name && a.Type == b.Type && bytes.Equal(a.Data, b.Data)
		}) && slices.EqualFunc(t.Keys, u.Keys, RecordedKey.same)
}
