// Package keyedarchive reads what NSKeyedArchiver of macOS writes: a property
// list whose objects refer to each other by number. macOS keeps its list of
// background items so.
//
//	archive, err := keyedarchive.Decode(doc.Root)
//	for _, item := range archive.Top("store").Field("items").List() {
//		fmt.Println(item.Field("name").Text())
//	}
//
// References are followed when they are asked for, so one that leads in a circle
// costs nothing; what is of another type than asked for counts as absent. The
// classes of Foundation that hold values (NSArray, NSDictionary, NSString, NSURL
// and their like) are read as those values.
package keyedarchive

import (
	"encoding/hex"
	"errors"
	"math"
	"strings"

	"howett.net/plist"
)

// ErrFormat says that a property list is no keyed archive.
var ErrFormat = errors.New("not a keyed archive")

// Archive is one decoded archive.
type Archive struct {
	objects []any
	top     map[string]any
}

// Decode takes the root of a property list. It fails with [ErrFormat].
func Decode(root any) (*Archive, error) {
	dict, _ := root.(map[string]any)
	objects, ok := dict["$objects"].([]any)
	top, ok2 := dict["$top"].(map[string]any)
	if name, _ := dict["$archiver"].(string); !ok || !ok2 || !strings.HasSuffix(name, "KeyedArchiver") {
		return nil, ErrFormat
	}
	return &Archive{objects, top}, nil
}

// Top is one of the objects that were archived, by name; "root" where only one
// was.
func (a *Archive) Top(name string) Object { return a.object(a.top[name]) }

// Object is one object of an archive, or a plain value. The zero Object is
// absent.
type Object struct {
	archive *Archive
	value   any
}

// object follows a reference. An archive's references lead to objects, never to
// further references.
func (a *Archive) object(v any) Object {
	if uid, ok := v.(plist.UID); ok {
		if uint64(uid) >= uint64(len(a.objects)) {
			return Object{}
		}
		v = a.objects[uid]
	}
	if _, again := v.(plist.UID); again || v == "$null" {
		return Object{}
	}
	return Object{a, v}
}

// Exists reports whether there is anything.
func (o Object) Exists() bool { return o.value != nil }

func (o Object) raw(name string) Object {
	fields, _ := o.value.(map[string]any)
	if v, ok := fields[name]; ok {
		return o.archive.object(v)
	}
	return Object{}
}

// Field is what a field of an object, or an entry of a dictionary, refers to.
func (o Object) Field(name string) Object {
	if f := o.raw(name); f.Exists() {
		return f
	}
	keys, values := o.array("NS.keys"), o.array("NS.objects")
	for k := range min(len(keys), len(values)) {
		if o.archive.object(keys[k]).Text() == name {
			return o.archive.object(values[k])
		}
	}
	return Object{}
}

func (o Object) array(field string) []any {
	list, _ := o.raw(field).value.([]any)
	return list
}

// List returns the objects of an array or a set.
func (o Object) List() []Object {
	raw, ok := o.value.([]any)
	if !ok {
		raw = o.array("NS.objects")
	}
	list := make([]Object, len(raw))
	for k, v := range raw {
		list[k] = o.archive.object(v)
	}
	return list
}

// Pair is one entry of a dictionary.
type Pair struct{ Key, Value Object }

// Pairs returns the entries of a dictionary in the order of the archive.
func (o Object) Pairs() []Pair {
	keys, values := o.array("NS.keys"), o.array("NS.objects")
	pairs := make([]Pair, min(len(keys), len(values)))
	for k := range pairs {
		pairs[k] = Pair{o.archive.object(keys[k]), o.archive.object(values[k])}
	}
	return pairs
}

// maxBases is how many URLs that are relative to each other are followed.
const maxBases = 8

// Text is the text of a string, or of a URL.
func (o Object) Text() string { return o.text(0) }

func (o Object) text(depth int) string {
	switch v := o.value.(type) {
	case string:
		return v
	case map[string]any:
		if s := o.raw("NS.string"); s.Exists() {
			s, _ := s.value.(string)
			return s
		}
		if relative, ok := o.raw("NS.relative").value.(string); ok && depth < maxBases {
			return o.raw("NS.base").text(depth+1) + relative
		}
		if data, ok := o.raw("NS.bytes").value.([]byte); ok {
			return string(data)
		}
	}
	return ""
}

// Int is a whole number; ok is false if there is none.
func (o Object) Int() (n int64, ok bool) {
	switch v := o.value.(type) {
	case int64:
		return v, true
	case uint64:
		return int64(v), v <= math.MaxInt64
	case bool:
		return map[bool]int64{true: 1}[v], true
	case map[string]any:
		if o.raw("NS.intval").Exists() {
			return o.raw("NS.intval").Int()
		}
	}
	return 0, false
}

// Bool is a truth value.
func (o Object) Bool() bool { n, _ := o.Int(); return n != 0 }

// Data is the bytes of an NSData or of plain data.
func (o Object) Data() []byte {
	if b, ok := o.value.([]byte); ok {
		return b
	}
	b, _ := o.raw("NS.data").value.([]byte)
	return b
}

// UUID is the text of an NSUUID in the form that macOS writes it, in capitals.
func (o Object) UUID() string {
	b, _ := o.raw("NS.uuidbytes").value.([]byte)
	if len(b) != 16 {
		return strings.ToUpper(o.Text())
	}
	x := strings.ToUpper(hex.EncodeToString(b))
	return x[:8] + "-" + x[8:12] + "-" + x[12:16] + "-" + x[16:20] + "-" + x[20:]
}
