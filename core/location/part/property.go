package part

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"lockback/core/format/plist"
	"lockback/core/machine/artifact"
)

// Property is what a property list holds at a path of keys, or one item of the array there.
type Property struct {
	File string   `json:"file"`
	Path []string `json:"path"`
	// Element is the item, as a property list of its own; nil if the part is all that the
	// path leads to.
	Element []byte `json:"element,omitempty"`
	// States says that the file holds nothing but what is on and off.
	States bool `json:"states,omitempty"`
}

func decodeProperty(text string) (Part, error) {
	p, err := decoded[Property](text)
	if property, ok := p.(Property); err == nil && ok && len(property.Path) == 0 {
		return nil, errors.New("the property has no key")
	}
	return p, err
}

// NewElement is the part that one item of an array is.
func NewElement(file string, path []string, item any) (Property, error) {
	text, err := plist.New(map[string]any{elementKey: item}).Bytes()
	return Property{File: file, Path: path, Element: text}, err
}

// elementKey is where an element stands in a property list of its own, which must be
// a dictionary.
const elementKey = "item"

// In is the file.
func (p Property) In() artifact.Artifact { return artifact.File(p.File) }

// Carry brings the property over.
func (p Property) Carry(_ Images, into, from artifact.Image, now time.Time) (artifact.Image, error) {
	target, err := p.read(into)
	if err != nil {
		return into, err
	}
	source, err := p.read(from)
	if err != nil {
		return into, err
	}
	if p.Element != nil {
		err = p.carryElement(target, source)
	} else {
		err = p.carryValue(target, source)
	}
	if err != nil {
		return into, fmt.Errorf("%s: %w", p.File, err)
	}
	return p.written(target, source, into, from, now)
}

// Without is the image of the file without the property; ok is false if it is not there.
func (p Property) Without(image artifact.Image, now time.Time) (without artifact.Image, ok bool, err error) {
	doc, err := p.read(image)
	if err != nil {
		return image, false, err
	}
	if p.Element == nil {
		_, ok = lookUp(doc, p.Path)
		doc.Delete(p.Path...)
	} else {
		element, items, err := p.items(doc)
		if err != nil {
			return image, false, err
		}
		k := index(items, element)
		if ok = k >= 0; ok {
			err = doc.Set(slices.Delete(slices.Clone(items), k, k+1), p.Path...)
		}
		if err != nil {
			return image, ok, err
		}
	}
	content, err := doc.Bytes()
	if err != nil || !ok {
		return image, ok, err
	}
	return image.WithContent(content, now), ok, nil
}

func (p Property) like(_ Images, now Part, _ artifact.Image) bool { return Encode(p) == Encode(now) }

func (p Property) carryValue(target, source *plist.Document) error {
	value, has := lookUp(source, p.Path)
	if !has {
		target.Delete(p.Path...)
		return nil
	}
	return target.Set(value, p.Path...)
}

func (p Property) carryElement(target, source *plist.Document) error {
	element, theirs, err := p.items(source)
	if err != nil {
		return err
	}
	_, ours, err := p.items(target)
	if err != nil {
		return err
	}
	n, k := index(theirs, element), index(ours, element)
	switch {
	case (n < 0) == (k < 0):
		return nil
	case n < 0:
		return target.Set(slices.Delete(slices.Clone(ours), k, k+1), p.Path...)
	}
	at := insertAt(theirs, n, ours, func(a, b any) bool { return reflect.DeepEqual(a, b) })
	return target.Set(slices.Insert(slices.Clone(ours), at, element), p.Path...)
}

// items are those of the array, and the one that the part is.
func (p Property) items(doc *plist.Document) (element any, items []any, err error) {
	own, err := plist.Parse(p.Element)
	if err != nil {
		return nil, nil, err
	}
	value, _ := lookUp(doc, p.Path)
	items, _ = value.([]any)
	return own.Dict()[elementKey], items, nil
}

func index(items []any, element any) int {
	return slices.IndexFunc(items, func(v any) bool { return reflect.DeepEqual(v, element) })
}

// lookUp is what stands at a path of keys.
func lookUp(doc *plist.Document, path []string) (any, bool) {
	var at any = map[string]any(doc.Dict())
	for _, key := range path {
		m, ok := at.(map[string]any)
		if !ok {
			return nil, false
		}
		if at, ok = m[key]; !ok {
			return nil, false
		}
	}
	return at, true
}

// read parses the file; one that is not there is empty. A link is not followed: what it leads
// to may serve others.
func (p Property) read(i artifact.Image) (*plist.Document, error) {
	switch i.Kind {
	case artifact.Absent:
		return plist.New(map[string]any{}), nil
	case artifact.Regular:
		doc, err := plist.Parse(i.Content)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.File, err)
		}
		return doc, nil
	}
	return nil, fmt.Errorf("%s is %s, not a file", p.File, strings.TrimSpace(i.String()))
}

// keepKeys is the earlier image with the keys that were added since and are nobody's of the
// known parts.
func (p Property) keepKeys(earlier, now artifact.Image, known []Part, at time.Time) (Merged, error) {
	merged := Merged{Image: earlier}
	theirs, err := p.read(earlier)
	if err != nil {
		return merged, err
	}
	ours, err := p.read(now)
	if err != nil {
		return merged, err
	}
	theirOwn := map[string]bool{}
	for _, k := range known {
		if property, ok := k.(Property); ok {
			theirOwn[property.Path[0]] = true
		}
	}
	before := plist.New(maps.Clone(map[string]any(theirs.Dict())))
	for _, key := range slices.Sorted(maps.Keys(ours.Dict())) {
		if theirs.Dict().Has(key) || theirOwn[key] {
			continue
		}
		if err := theirs.Set(ours.Dict()[key], key); err != nil {
			return merged, err
		}
		merged.Kept = append(merged.Kept, key)
	}
	merged.Image, err = p.written(theirs, before, now, earlier, at)
	return merged, err
}

// Added are the properties at the top of a property list that one image has more than another.
func (p Property) Added(before, after artifact.Image) (added []Part) {
	was, err := p.read(before)
	if err != nil {
		return nil
	}
	is, err := p.read(after)
	if err != nil {
		return nil
	}
	for _, key := range slices.Sorted(maps.Keys(is.Dict())) {
		if !was.Dict().Has(key) {
			added = append(added, Property{File: p.File, Path: []string{key}, States: p.States})
		}
	}
	return added
}

// written is the image of the file with what target holds.
func (p Property) written(target, source *plist.Document, into, from artifact.Image, now time.Time) (artifact.Image,
	error) {
	content, err := target.Bytes()
	switch {
	case err != nil:
		return into, fmt.Errorf("%s: %w", p.File, err)
	case reflect.DeepEqual(target.Root, source.Root):
		return from, nil // to the byte
	case into.Kind == artifact.Regular && string(content) == string(into.Content):
		return into, nil
	case into.Kind != artifact.Regular:
		into = from
	}
	return into.WithContent(content, now), nil
}
