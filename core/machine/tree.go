package machine

import (
	"encoding/binary"
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

// append writes a key as [appendTree] does.
func (t treeNode) append(b []byte) []byte {
	b = appendText(b, t.name)
	b = appendNumber(b, windata.FileTime(t.image.ModTime))
	b = appendText(b, string(t.image.Xattrs[securityAttr]))
	b = appendText(b, string(t.image.Xattrs[classAttr]))
	b = appendNumber(b, uint64(len(t.values)))
	for _, v := range t.values {
		b = appendText(b, v.Name)
		b = appendNumber(b, uint64(v.Type))
		b = appendText(b, string(v.Data))
	}
	b = appendNumber(b, uint64(len(t.keys)))
	for _, sub := range t.keys {
		b = sub.append(b)
	}
	return b
}

// at finds the key of a recorded tree that holds a value; nil where the value lies elsewhere.
func (t *treeNode) at(tree, value Artifact) *treeNode {
	key, _ := value.Value()
	if tree.Kind != TreeArtifact || value.Kind != ValueArtifact || len(key) < len(tree.Name) || !strings.EqualFold(key[:len(tree.Name)], tree.Name) {
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
		k := slices.IndexFunc(t.keys, func(sub treeNode) bool { return strings.EqualFold(sub.name, name) })
		if k < 0 {
			return nil
		}
		t = &t.keys[k]
	}
	return t
}

// ValueIn is the image that a value has in the recorded image of a key with everything below it; ok is false where the
// value does not lie there, or where the image cannot be read.
func (i Image) ValueIn(tree, value Artifact) (v Image, ok bool) {
	t, _, err := parseTree(i.Content, 0)
	if err != nil || i.Kind != Tree {
		return Image{}, false
	}
	key := t.at(tree, value)
	if key == nil {
		return Image{}, false
	}
	_, name := value.Value()
	for place, v := range key.values {
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
	t, _, err := parseTree(i.Content, 0)
	if err != nil || i.Kind != Tree {
		return i, false
	}
	key := t.at(tree, value)
	if key == nil {
		return i, false
	}
	_, name := value.Value()
	at := slices.IndexFunc(key.values, func(v regf.Value) bool { return strings.EqualFold(v.Name, name) })
	switch set := (regf.Value{Name: name, Type: regf.Type(want.Type), Data: want.Content}); {
	case want.Kind == Absent && at >= 0:
		key.values = slices.Delete(key.values, at, at+1)
	case want.Kind == Absent:
	case at >= 0:
		set.Name = key.values[at].Name
		key.values[at] = set
	case want.Place >= 0 && want.Place < len(key.values):
		key.values = slices.Insert(key.values, want.Place, set)
	default:
		key.values = append(key.values, set)
	}
	i.Content = t.append(nil)
	return i, true
}
