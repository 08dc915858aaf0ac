package part

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"lockback/core/machine"
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
func (t Setting) In() machine.Artifact { return machine.File(t.File) }

// place is where the lines of the section stand: from the first behind its head to the one that ends it. key is
// the line of the setting, the last one where there are several; -1 where there is none. It fails where
// the section is not there.
func (t Setting) place(lines [][]byte) (first, end, key int, ok bool) {
	braces, nth := !strings.HasPrefix(t.Head, "["), 0
	for k := 0; k < len(lines); k++ {
		text := string(bytes.TrimSpace(lines[k]))
		head, opens := strings.CutSuffix(text, "{")
		if strings.Join(strings.Fields(head), " ") != t.Head {
			continue
		}
		if nth++; nth <= t.Nth {
			continue
		}
		first = k + 1
		if braces && !opens {
			for ; first < len(lines) && strings.TrimSpace(string(lines[first])) != "{"; first++ {
			}
			first = min(first+1, len(lines))
		}
		key = -1
		for end = first; end < len(lines); end++ {
			text := strings.TrimSpace(string(lines[end]))
			if braces && text == "}" || !braces && strings.HasPrefix(text, "[") {
				break
			}
			if name, _, is := strings.Cut(text, "="); is && strings.TrimSpace(name) == t.Key {
				key = end
			}
		}
		return first, end, key, true
	}
	return 0, 0, -1, false
}

// Value is what the setting is; ok is false where it is not set.
func (t Setting) Value(content []byte) (value string, ok bool) {
	lines := Line{}.split(content)
	_, _, key, _ := t.place(lines)
	if key < 0 {
		return "", false
	}
	_, value, _ = strings.Cut(string(lines[key]), "=")
	return strings.TrimSpace(value), true
}

// Set is the image in which the setting has a line, and ok is false where its section is not there. Lines of
// blocks are indented.
func (t Setting) Set(image machine.Image, line string, now time.Time) (set machine.Image, ok bool) {
	lines := Line{}.split(image.Content)
	first, _, key, ok := t.place(lines)
	switch {
	case !ok || image.Kind != machine.Regular:
		return image, false
	case key >= 0:
		lines[key] = []byte(line + "\n")
	default:
		lines = append(lines[:first:first], append([][]byte{[]byte(line + "\n")}, lines[first:]...)...)
	}
	return image.WithContent(bytes.Join(lines, nil), now), true
}

// Carry brings the line of the setting over, or that there is none.
func (t Setting) Carry(_ Images, into, from machine.Image, now time.Time) (machine.Image, error) {
	if into.Kind != machine.Regular || from.Kind != machine.Regular {
		return into, fmt.Errorf("%s is not a file in both states", t.File)
	}
	source, target := Line{}.split(from.Content), Line{}.split(into.Content)
	_, _, key, in := t.place(source)
	first, _, own, there := t.place(target)
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
func keepSections(images Images, earlier, now machine.Image, settings []Setting, at time.Time) Merged {
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
func (t Setting) Without(image machine.Image, now time.Time) (machine.Image, bool, error) {
	lines := Line{}.split(image.Content)
	_, _, key, _ := t.place(lines)
	if image.Kind != machine.Regular || key < 0 {
		return image, false, nil
	}
	return image.WithContent(joinLines(append(lines[:key:key], lines[key+1:]...)), now), true, nil
}

func (t Setting) like(_ Images, now Part, _ machine.Image) bool { return Encode(t) == Encode(now) }
