package autostart

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"github.com/agnivade/levenshtein"
)

// Bounds of what is compared: the time grows with the product of the lengths.
const (
	maxCompared = 64 // characters of a word
	maxNearest  = 3  // words that are named
)

// Nearest returns the words that a misspelled one may have meant, the likeliest first: those that
// differ in a third of its letters at most, and those that begin much like it. Case does not count.
func Nearest(word string, among []string) []string {
	type candidate struct {
		word     string
		distance int
	}
	var near []candidate
	if len(word) > maxCompared {
		return nil
	}
	lower := []rune(strings.ToLower(word))
	for _, w := range among {
		if w == "" || len(w) > maxCompared {
			continue
		}
		other := []rune(strings.ToLower(w))
		d := levenshtein.ComputeDistance(string(lower), string(other))
		if len(lower) >= 3 && len(other) > len(lower) {
			beginning := string(other[:len(lower)+1])
			d = min(d, levenshtein.ComputeDistance(string(lower), beginning)+1)
			if strings.HasPrefix(beginning, string(lower)) {
				d = 1
			}
		}
		if d <= max(1, len(lower)/3) {
			near = append(near, candidate{w, d})
		}
	}
	slices.SortStableFunc(near, func(a, b candidate) int {
		return cmp.Or(cmp.Compare(a.distance, b.distance), cmp.Compare(a.word, b.word))
	})
	var words []string
	for _, c := range near {
		if !slices.Contains(words, c.word) && len(words) < maxNearest {
			words = append(words, c.word)
		}
	}
	return words
}

// Suggest words the nearest ones as a question behind an error; empty if there are none.
func Suggest(word string, among []string) string {
	near := Nearest(word, among)
	for k, w := range near {
		if strings.ContainsFunc(w, func(r rune) bool { return r <= ' ' }) {
			near[k] = strconv.Quote(w)
		}
	}
	switch last := len(near) - 1; last {
	case -1:
		return ""
	case 0:
		return "; did you mean " + near[0] + "?"
	default:
		return "; did you mean " + strings.Join(near[:last], ", ") + " or " + near[last] + "?"
	}
}
