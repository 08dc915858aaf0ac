// Package part knows what an entry's share of an artifact is, where several entries, or an
// entry and somebody's own text, stand in one artifact: a line of a file, an item of a list, a
// key of a property list. A part is brought from one image of its artifact into
// another, and all else there stays:
//
//	image, err := p.Carry(images, now, earlier, time.Now())
//
// An entry whose artifacts are its own has no part. Parts are plain values: [Encode] writes
// one down with its entry, so that it can be carried when its entry is long gone.
package part

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"lockback/core/machine/artifact"
)

// Images gives the image of an artifact, now or after the steps planned so far.
type Images interface {
	Image(artifact.Artifact) (artifact.Image, error)
}

// Part is an entry's share of an artifact.
type Part interface {
	// In is the artifact.
	In() artifact.Artifact
	// Carry returns the image into with the part taken from the image from: with it, without it, on
	// or off. All else stays as it is in into. Where nothing is left that differs from from, the
	// result is from itself, to the byte and its time. It fails where one of the two cannot be
	// understood.
	Carry(images Images, into, from artifact.Image, now time.Time) (artifact.Image, error)
	// Without returns the image without the part; ok is false if it is not in it.
	Without(image artifact.Image, now time.Time) (without artifact.Image, ok bool, err error)
	// like reports whether the other part, which an entry is now, says the same as this one
	// does in an image.
	like(images Images, now Part, from artifact.Image) bool
}

// Replace is [Part.Carry] for an entry that may read otherwise now: what it is now, nil where
// it is gone, gives way.
func Replace(images Images, own, now Part, into, from artifact.Image, at time.Time) (artifact.Image, error) {
	if now != nil && now.In() == own.In() && !own.like(images, now, from) {
		var err error
		if into, _, err = now.Without(into, at); err != nil {
			return into, err
		}
	}
	return own.Carry(images, into, from, at)
}

// kinds are the names of the parts in the record, with a value of each to read them into.
var kinds = map[string]func(text string) (Part, error){
	"line":     decodeLine,
	"item":     decoded[Item],
	"property": decodeProperty,
	"setting":  decoded[Setting],
	"word":     decoded[Word],
}

func decoded[P Part](text string) (Part, error) {
	var p P
	err := json.Unmarshal([]byte(text), &p)
	return p, err
}

// Encode writes a part down; nil is "".
func Encode(p Part) string {
	switch p := p.(type) {
	case nil:
		return ""
	case Line:
		return "line " + p.encode()
	case Item:
		return "item " + encoded(p)
	case Property:
		return "property " + encoded(p)
	case Setting:
		return "setting " + encoded(p)
	case Word:
		return "word " + encoded(p)
	case unknown:
		return p.text
	}
	panic(fmt.Sprintf("part: no name for %T in the record", p))
}

func encoded(p Part) string {
	text, err := json.Marshal(p)
	if err != nil {
		panic(err) // texts, numbers and bytes always encode
	}
	return string(text)
}

// Decode is the reverse of [Encode]. A kind of part that a later version wrote is kept, and
// fails when it is carried.
func Decode(text string) (Part, error) {
	if text == "" {
		return nil, nil
	}
	kind, rest, _ := strings.Cut(text, " ")
	decode, ok := kinds[kind]
	if !ok {
		return unknown{text}, nil
	}
	p, err := decode(rest)
	if err != nil {
		return nil, fmt.Errorf("a part in the record cannot be read: %w", err)
	}
	return p, nil
}

// unknown is a part of a kind that came later.
type unknown struct{ text string }

func (unknown) In() artifact.Artifact { return artifact.Artifact{} }

func (unknown) Carry(_ Images, into, _ artifact.Image, _ time.Time) (artifact.Image, error) {
	return into, errLater
}

func (unknown) Without(image artifact.Image, _ time.Time) (artifact.Image, bool, error) {
	return image, false, errLater
}

func (unknown) like(Images, Part, artifact.Image) bool { return true }

// Known fails for a part of a kind that a later version recorded: which artifact it is in, and what
// of that, cannot be known.
func Known(p Part) error {
	if _, later := p.(unknown); later {
		return errLater
	}
	return nil
}

var errLater = errors.New("a later version of lockback recorded it; use that one")

// Merged is what becomes of an artifact that is brought back while others have parts in it.
type Merged struct {
	Image artifact.Image
	// Kept are texts that were added since and stay, and GaveWay those that do not, both in
	// words.
	Kept, GaveWay []string
}

// Shares are the parts of one artifact: of entries that its earlier image has too, as they are
// now and as they were, and of newcomers.
type Shares struct {
	Known, Newcomers []Part
	Earlier          func() []Part
}

// Merge brings an artifact back to its earlier image and keeps what came since: the parts
// of newcomers and, in files of lines and property lists, what else somebody added.
func Merge(images Images, earlier, now artifact.Image, shares Shares, at time.Time) (Merged, error) {
	if earlier.Kind == artifact.Regular && now.Kind == artifact.Regular {
		if lines, ok := linesOf(shares.Known, shares.Newcomers); ok {
			dropped := map[int]bool{}
			for _, l := range lines {
				for _, n := range l.numbers(now.Content) {
					dropped[n] = true
				}
			}
			return keepLines(earlier, now, dropped, at), nil
		}
	}
	if settings := settingsOf(shares); len(settings) > 0 && earlier.Kind == artifact.Regular &&
		now.Kind == artifact.Regular {
		return keepSections(images, earlier, now, settings, at), nil
	}
	merged := Merged{Image: earlier}
	if p, ok := PropertyOf(shares.Known, shares.Newcomers); ok && now.Kind == artifact.Regular {
		var err error
		if merged, err = p.keepKeys(earlier, now, append(shares.Earlier(), shares.Known...), at); err != nil {
			return merged, err
		}
	}
	if earlier.Kind == artifact.Absent && now.Kind == artifact.Regular {
		if lines, _ := linesOf(shares.Known, nil); len(lines) > 0 && lines[0].Vendor != "" {
			// It stands before a vendor's file, whose lines were in force: those that are known
			// are so again, and what else is in it stays.
			image := now
			for _, l := range lines {
				var err error
				if image, err = l.Carry(images, image, earlier, at); err != nil {
					return merged, err
				}
			}
			return Merged{Image: image}, nil
		}
	}
	for _, p := range shares.Newcomers {
		var err error
		if merged.Image, err = p.Carry(images, merged.Image, now, at); err != nil {
			return merged, err
		}
	}
	return merged, nil
}

// linesOf returns the known parts as lines; ok says that the artifact is a file of lines.
func linesOf(known, newcomers []Part) (lines []Line, ok bool) {
	for _, p := range known {
		if l, is := p.(Line); is {
			lines, ok = append(lines, l), true
		}
	}
	for _, p := range newcomers {
		_, is := p.(Line)
		ok = ok || is
	}
	return lines, ok
}

// PropertyOf is one of the parts, where they are of a property list.
func PropertyOf(lists ...[]Part) (Property, bool) {
	for _, list := range lists {
		for _, p := range list {
			if property, ok := p.(Property); ok {
				return property, true
			}
		}
	}
	return Property{}, false
}

// insertAt finds where the k-th of a list's items belongs in another list: behind the nearest
// one before it that is there too, else before the nearest one behind it, else
// at the end.
func insertAt[T any](list []T, k int, other []T, same func(a, b T) bool) int {
	index := func(item T) int {
		for n, o := range other {
			if same(item, o) {
				return n
			}
		}
		return -1
	}
	for before := k - 1; before >= 0; before-- {
		if n := index(list[before]); n >= 0 {
			return n + 1
		}
	}
	for behind := k + 1; behind < len(list); behind++ {
		if n := index(list[behind]); n >= 0 {
			return n
		}
	}
	return len(other)
}
