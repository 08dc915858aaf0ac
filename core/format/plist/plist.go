// Package plist reads and edits property lists, the files that macOS keeps its
// settings in: plist(5). XML, binary and the older text form are understood.
//
//	doc, err := plist.Parse(content)
//	doc.Set(true, "org.gullrock.tide")
//	content, err = doc.Bytes() // in the form that it had
//
// The values are those of howett.net/plist, which does the reading and writing:
// string, bool, int64, uint64, float64, float32, []byte, time.Time, [UID],
// []any and map[string]any. This package adds bounds, because that package trusts
// its input, and the promise that an edit leaves all other keys as they are: a
// document that could not be written back faithfully is refused.
package plist

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"howett.net/plist"
)

// UID refers to an object of a keyed archive.
type UID = plist.UID

// Form is how a property list is written.
type Form int

// The forms.
const (
	XML    Form = plist.XMLFormat
	Binary Form = plist.BinaryFormat
	Text   Form = plist.OpenStepFormat
)

// The bounds that keep a hostile file from running us out of memory and time.
const (
	maxDepth  = 256     // containers inside each other
	maxValues = 1 << 20 // values, those counted again that a binary file refers to again
)

// Errors that callers decide on.
var (
	// ErrFormat says that the bytes are no property list.
	ErrFormat = errors.New("not a property list")
	// ErrTooDeep says that a property list goes beyond the bounds.
	ErrTooDeep = errors.New("the property list is nested too deeply or refers to itself")
	// ErrLossy says that a property list holds what could not be written back as
	// it was.
	ErrLossy = errors.New("the property list holds what cannot be written back unchanged")
)

// Document is one property list.
type Document struct {
	Root any
	Form Form

	original []byte
	edited   bool
}

// Parse reads a property list of any form. It fails with [ErrFormat] or
// [ErrTooDeep]. The bytes must not change afterwards.
func Parse(content []byte) (*Document, error) {
	if root, ok := parsePlainXML(content); ok {
		return &Document{Root: root, Form: XML, original: content}, nil
	}
	plain := asUTF8(content)
	if err := bounded(plain); err != nil {
		return nil, err
	}
	root, form, err := parse(plain)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	if _, isText := root.(string); isText && form != XML && form != Binary {
		return nil, ErrFormat // a word
	}
	return &Document{Root: root, Form: form, original: content}, nil
}

// parse calls the package, which panics on some damaged files.
func parse(content []byte) (root any, form Form, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	f, err := plist.Unmarshal(content, &root)
	if err == nil && root == nil {
		err = errors.New("it holds nothing")
	}
	return root, Form(f), err
}

// New makes an XML document, the form in which the system's own daemons write.
func New(root any) *Document { return &Document{Root: root, Form: XML, edited: true} }

// Dict is the dictionary at the top; empty where something else is there.
func (d *Document) Dict() Dict {
	m, _ := d.Root.(map[string]any)
	return m
}

// Set gives the value at a path of keys; dictionaries on the way are made.
func (d *Document) Set(value any, path ...string) error {
	if len(path) == 0 {
		return errors.New("no key is named")
	}
	at, ok := d.Root.(map[string]any)
	for _, key := range path[:len(path)-1] {
		if !ok {
			break
		}
		below, there := at[key]
		if !there {
			below = map[string]any{}
			at[key] = below
		}
		at, ok = below.(map[string]any)
	}
	if !ok {
		return fmt.Errorf("%q lies in no dictionary", strings.Join(path, " > "))
	}
	if have, there := at[path[len(path)-1]]; !there || !reflect.DeepEqual(have, value) {
		at[path[len(path)-1]], d.edited = value, true
	}
	return nil
}

// Delete takes the key at a path away. That it is not there is no failure.
func (d *Document) Delete(path ...string) {
	at, ok := d.Root.(map[string]any)
	for k, key := range path {
		if !ok {
			return
		}
		if k == len(path)-1 {
			if _, there := at[key]; there {
				delete(at, key)
				d.edited = true
			}
			return
		}
		at, ok = at[key].(map[string]any)
	}
}

// Bytes writes the document in the form that it had. Without an edit these are
// the bytes that it was read from. It fails with [ErrLossy] where something
// would not be read again as it is now.
func (d *Document) Bytes() ([]byte, error) {
	if !d.edited {
		return d.original, nil
	}
	b, err := encode(d.Root, d.Form)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrLossy, err)
	}
	again, _, err := parse(b)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrLossy, err)
	}
	// A name that is not Unicode was read as a replacement character.
	if !reflect.DeepEqual(again, d.Root) || contains(d.Root, "\ufffd") {
		return nil, ErrLossy
	}
	return b, nil
}

// encode calls the package, which panics on some texts.
func encode(root any, form Form) (content []byte, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	var b bytes.Buffer
	e := plist.NewEncoderForFormat(&b, int(form))
	if form != Binary {
		e.Indent("\t")
	}
	err = e.Encode(root)
	if form == XML {
		b.WriteByte('\n')
	}
	return b.Bytes(), err
}

// contains reports whether a string of the tree contains a text.
func contains(v any, text string) bool {
	switch v := v.(type) {
	case string:
		return strings.Contains(v, text)
	case []any:
		for _, item := range v {
			if contains(item, text) {
				return true
			}
		}
	case map[string]any:
		for key, item := range v {
			if strings.Contains(key, text) || contains(item, text) {
				return true
			}
		}
	}
	return false
}

// Dict is a dictionary of a property list, with accessors for what a key should
// hold. What is of another type counts as absent.
type Dict map[string]any

// Has reports whether there is such a key.
func (d Dict) Has(key string) bool { _, ok := d[key]; return ok }

// Text returns a string.
func (d Dict) Text(key string) string { s, _ := d[key].(string); return s }

// Bool returns a truth value; numbers other than 0 count as true, as
// CFBooleanGetValue's callers take them.
func (d Dict) Bool(key string) bool {
	b, ok := d[key].(bool)
	n, number := d.Int(key)
	return ok && b || number && n != 0
}

// Int returns a whole number.
func (d Dict) Int(key string) (int64, bool) { return Int(d[key]) }

// Int is the whole number that a value is.
func Int(v any) (int64, bool) {
	switch n := v.(type) {
	case int64:
		return n, true
	case uint64:
		return int64(n), n < 1<<63
	case float64:
		return int64(n), n == float64(int64(n))
	}
	return 0, false
}

// Dict returns a dictionary.
func (d Dict) Dict(key string) Dict { m, _ := d[key].(map[string]any); return m }

// Array returns an array.
func (d Dict) Array(key string) []any { a, _ := d[key].([]any); return a }

// Dicts returns the items of an array as dictionaries; those that are none are
// empty.
func (d Dict) Dicts(key string) []Dict {
	items := d.Array(key)
	dicts := make([]Dict, len(items))
	for k, v := range items {
		m, _ := v.(map[string]any)
		dicts[k] = m
	}
	return dicts
}

// Texts returns the strings of an array; a single string that is not empty counts
// as an array of one.
func (d Dict) Texts(key string) []string {
	if s := d.Text(key); s != "" {
		return []string{s}
	}
	var texts []string
	for _, v := range d.Array(key) {
		if s, ok := v.(string); ok {
			texts = append(texts, s)
		}
	}
	return texts
}

// Data returns bytes.
func (d Dict) Data(key string) []byte { b, _ := d[key].([]byte); return b }
