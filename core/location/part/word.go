package part

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/machine/artifact"
)

// Word is one item of a text file that is a list: paths with blanks, colons or line ends between them, and comments
// that a # begins, as ld.so(8) reads ld.so.preload. An item that stands there twice is one.
type Word struct {
	File string `json:"file"`
	Text string `json:"text"`
}

// Words are the items of such a file, in their order.
func Words(content []byte) []string {
	var words []string
	for _, s := range wordSpans(content) {
		words = append(words, string(content[s[0]:s[1]]))
	}
	return words
}

// wordSeparators stand between items.
const wordSeparators = " \t\r\n:"

// wordSpans are where the items begin and end.
func wordSpans(content []byte) [][2]int {
	var spans [][2]int
	for k := 0; k < len(content); {
		switch {
		case content[k] == '#':
			if end := bytes.IndexByte(content[k:], '\n'); end >= 0 {
				k += end
			} else {
				k = len(content)
			}
		case strings.IndexByte(wordSeparators, content[k]) >= 0:
			k++
		default:
			begin := k
			for k < len(content) && content[k] != '#' && strings.IndexByte(wordSeparators, content[k]) < 0 {
				k++
			}
			spans = append(spans, [2]int{begin, k})
		}
	}
	return spans
}

// In is the file.
func (w Word) In() artifact.Artifact { return artifact.File(w.File) }

// find is the first place of the item among those of a content; -1 where it is not there.
func (w Word) find(content []byte, spans [][2]int) int {
	return slices.IndexFunc(spans, func(s [2]int) bool { return string(content[s[0]:s[1]]) == w.Text })
}

// without is a content without the item.
func (w Word) without(content []byte) []byte {
	for _, s := range slices.Backward(wordSpans(content)) {
		if string(content[s[0]:s[1]]) == w.Text {
			content = cut(content, s)
		}
	}
	return content
}

// cut takes the item out, with one separator where another one is left; a line that held nothing else stays, empty.
func cut(content []byte, s [2]int) []byte {
	begin, end := s[0], s[1]
	switch {
	case end < len(content) && strings.IndexByte(" \t:", content[end]) >= 0:
		end++
	case begin > 0 && strings.IndexByte(" \t:", content[begin-1]) >= 0:
		begin--
	}
	return append(bytes.Clone(content[:begin]), content[end:]...)
}

// Without takes the item out.
func (w Word) Without(image artifact.Image, now time.Time) (artifact.Image, bool, error) {
	if image.Kind != artifact.Regular || w.find(image.Content, wordSpans(image.Content)) < 0 {
		return image, false, nil
	}
	return image.WithContent(w.without(image.Content), now), true, nil
}

// Carry brings the item over, to its place beside the nearest of its neighbours, or takes it out.
func (w Word) Carry(_ Images, into, from artifact.Image, now time.Time) (artifact.Image, error) {
	if into.Kind != artifact.Regular || from.Kind != artifact.Regular {
		return into, fmt.Errorf("%s is not a file in both states", w.File)
	}
	theirs, ours := wordSpans(from.Content), wordSpans(into.Content)
	there, here := w.find(from.Content, theirs), w.find(into.Content, ours)
	content := into.Content
	switch {
	case there < 0 && here < 0:
		return into, fmt.Errorf("%s is in neither state of %s", w.Text, w.File)
	case there < 0:
		content = w.without(into.Content)
	case here < 0 && bytes.Equal(w.without(from.Content), into.Content):
		return from, nil
	case here < 0:
		content = w.insert(into.Content, from.Content, ours, theirs, there)
	}
	switch {
	case bytes.Equal(content, from.Content):
		return from, nil
	case bytes.Equal(content, into.Content):
		return into, nil
	}
	return into.WithContent(content, now), nil
}

// insert puts the item behind the nearest one before it that is there, else before all others, on a line of its own.
func (w Word) insert(into, from []byte, ours, theirs [][2]int, k int) []byte {
	text := func(content []byte) func([2]int) string {
		return func(s [2]int) string { return string(content[s[0]:s[1]]) }
	}
	var mine, other []string
	for _, s := range ours {
		mine = append(mine, text(into)(s))
	}
	for _, s := range theirs {
		other = append(other, text(from)(s))
	}
	at := insertAt(other, k, mine, func(a, b string) bool { return a == b })
	switch {
	case len(ours) == 0:
		if n := len(into); n > 0 && into[n-1] != '\n' {
			into = append(bytes.Clone(into), '\n')
		}
		return append(bytes.Clone(into), w.Text+"\n"...)
	case at == 0:
		return append(append(bytes.Clone(into[:ours[0][0]]), w.Text+"\n"...), into[ours[0][0]:]...)
	}
	end := ours[at-1][1]
	return append(append(bytes.Clone(into[:end]), "\n"+w.Text...), into[end:]...)
}

func (w Word) like(_ Images, now Part, _ artifact.Image) bool { return Encode(w) == Encode(now) }
