package part

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"lockback/core/machine/artifact"
)

// Setting is one key in a section of a text file: its line, or that it has none.
type Setting struct {
	File string `json:"file"`
	// Head begins the section, as it is written: "[Module-bell]" of a file with headings in brackets,
	// "service tide" of one with blocks in braces.
	Head string `json:"head"`
	// Nth is how many sections of that head stand before it.
	Nth int    `json:"nth,omitempty"`
	Key string `json:"key"`
}

// In is the file.
func (t Setting) In() artifact.Artifact { return artifact.File(t.File) }

// section is a part of a file of lines: its head, how many of that head stand before it, and its lines from the first
// behind the head to the one that ends it.
type section struct {
	head            string
	nth, first, end int
}

// sections are those of a file, with headings in brackets or with blocks in braces.
func sections(lines [][]byte, braces bool) []section {
	var all []section
	seen := map[string]int{}
	for k := 0; k < len(lines); k++ {
		text := strings.TrimSpace(string(lines[k]))
		head, opens := strings.CutSuffix(text, "{")
		head = strings.Join(strings.Fields(head), " ")
		if braces && !opens && (k+1 >= len(lines) || strings.TrimSpace(string(lines[k+1])) != "{") || !braces &&
			!strings.HasPrefix(text, "[") || head == "" {
			continue
		}
		s := section{head: head, nth: seen[head], first: k + 1}
		seen[head]++
		if braces && !opens {
			s.first++
		}
		for s.end = s.first; s.end < len(lines); s.end++ {
			text := strings.TrimSpace(string(lines[s.end]))
			if braces && text == "}" || !braces && strings.HasPrefix(text, "[") {
				break
			}
		}
		all = append(all, s)
		k = s.end
		if !braces {
			k-- // the next heading
		}
	}
	return all
}

// braces reports whether the sections of the file are blocks in braces.
func (t Setting) braces() bool { return !strings.HasPrefix(t.Head, "[") }

// place is where the lines of the section stand, and the line of the setting: the last one where there are several, -1
// where there is none. It fails where the section is not there.
func (t Setting) place(lines [][]byte) (first, key int, ok bool) {
	for _, s := range sections(lines, t.braces()) {
		if s.head == t.Head && s.nth == t.Nth {
			return s.first, t.in(lines, s), true
		}
	}
	return 0, -1, false
}

// in is the line of the setting in a section.
func (t Setting) in(lines [][]byte, s section) int {
	key := -1
	for k := s.first; k < s.end; k++ {
		if name, _, is := strings.Cut(string(lines[k]), "="); is && strings.TrimSpace(name) == t.Key {
			key = k
		}
	}
	return key
}

// Value is what the setting is; ok is false if it is not set.
func (t Setting) Value(content []byte) (value string, ok bool) {
	lines := Line{}.split(content)
	_, key, _ := t.place(lines)
	if key < 0 {
		return "", false
	}
	_, value, _ = strings.Cut(string(lines[key]), "=")
	return strings.TrimSpace(value), true
}

// SetAll is the image in which settings of one file have a line, in one pass; there says about each whether its section
// is in the file.
func SetAll(image artifact.Image, list []Setting, line string, now time.Time) (set artifact.Image, there []bool) {
	there = make([]bool, len(list))
	if image.Kind != artifact.Regular {
		return image, there
	}
	type name struct {
		head string
		nth  int
	}
	lines, places := Line{}.split(image.Content), map[name]section{}
	for _, s := range sections(lines, list[0].braces()) {
		places[name{s.head, s.nth}] = s
	}
	before := map[int]bool{} // lines that get one before them
	for n, t := range list {
		s, ok := places[name{t.Head, t.Nth}]
		if there[n] = ok; !ok {
			continue
		}
		if key := t.in(lines, s); key >= 0 {
			lines[key] = []byte(line + "\n")
		} else {
			before[s.first] = true
		}
	}
	var content []byte
	for k := 0; k <= len(lines); k++ {
		if before[k] {
			content = append(append(content, line...), '\n')
		}
		if k < len(lines) {
			content = append(content, lines[k]...)
		}
	}
	return image.WithContent(content, now), there
}

// Carry copies the line of the setting, or its absence.
func (t Setting) Carry(_ Images, into, from artifact.Image, now time.Time) (artifact.Image, error) {
	if into.Kind != artifact.Regular || from.Kind != artifact.Regular {
		return into, fmt.Errorf("%s is not a file in both states", t.File)
	}
	source, target := Line{}.split(from.Content), Line{}.split(into.Content)
	_, key, in := t.place(source)
	first, own, there := t.place(target)
	switch {
	case !there && !in:
		return into, nil
	case !there || !in:
		return into, fmt.Errorf("%s has no %s in both states", t.File, t.Head)
	case key < 0 && own >= 0:
		target = append(target[:own:own], target[own+1:]...)
	case key >= 0 && own >= 0:
		target[own] = source[key]
	case key >= 0:
		target = append(target[:first:first], append([][]byte{source[key]}, target[first:]...)...)
	}
	content := ended(joinLines(target), from.Content, into.Content)
	switch {
	case bytes.Equal(content, from.Content):
		return from, nil
	case bytes.Equal(content, into.Content):
		return into, nil
	}
	return into.WithContent(content, now), nil
}

// settingsOf are the settings among the parts of an artifact, as they were and as they are.
func settingsOf(shares Shares) []Setting {
	var settings []Setting
	for _, p := range append(shares.Known, shares.Newcomers...) {
		if _, ok := p.(Setting); !ok {
			return nil
		}
	}
	for _, p := range append(shares.Earlier(), shares.Known...) {
		if s, ok := p.(Setting); ok {
			settings = append(settings, s)
		}
	}
	return settings
}

// keepSections brings the known settings of a file back to what they were earlier, and leaves all else as it is
// now: lines of sections say nothing by themselves, so that they cannot be put together one by one. Where a
// section is gone, the earlier file comes back as it was.
func keepSections(images Images, earlier, now artifact.Image, settings []Setting, at time.Time) Merged {
	merged := Merged{Image: now}
	for _, s := range settings {
		var err error
		if merged.Image, err = s.Carry(images, merged.Image, earlier, at); err != nil {
			return Merged{Image: earlier, GaveWay: []string{"what was added to " + s.File + " since"}}
		}
	}
	if !bytes.Equal(merged.Image.Content, earlier.Content) {
		merged.Kept = []string{"what was added to " + settings[0].File + " since"}
	}
	return merged
}

// Without takes the line out.
func (t Setting) Without(image artifact.Image, now time.Time) (artifact.Image, bool, error) {
	lines := Line{}.split(image.Content)
	_, key, _ := t.place(lines)
	if image.Kind != artifact.Regular || key < 0 {
		return image, false, nil
	}
	return image.WithContent(joinLines(append(lines[:key:key], lines[key+1:]...)), now), true, nil
}

func (t Setting) like(_ Images, now Part, _ artifact.Image) bool { return Encode(t) == Encode(now) }
