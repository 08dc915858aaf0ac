package view

import (
	"fmt"
	"path"
	"strings"

	"lockback/core/autostart"
)

// differences are what may tell entries of the same name apart, that which says most first.
var differences = []func(*autostart.Entry) string{
	Whose,
	placeOf,
	func(e *autostart.Entry) string { return e.SystemName },
	func(e *autostart.Entry) string { return path.Base(strings.ReplaceAll(e.Source.Path, `\`, "/")) },
	func(e *autostart.Entry) string {
		if strings.Contains(strings.ToLower(e.Source.Path), "wow6432node") {
			return "32-bit"
		}
		return "64-bit"
	},
	func(e *autostart.Entry) string { return fmt.Sprintf("line %d", e.Source.Line) },
	func(e *autostart.Entry) string { return e.Command },
	func(e *autostart.Entry) string { return e.Source.Path },
}

// apart finds for entries that a list would show alike, by their handles, what each has that the others have not. Where
// a column has the place, that may tell them apart already.
func apart(entries []*autostart.Entry, place bool) map[string]string {
	alike := map[string][]*autostart.Entry{}
	for _, e := range entries {
		key := nameOf(e) + "\x00" + string(e.State) + "\x00" + string(e.Stage)
		alike[key] = append(alike[key], e)
	}
	words := map[string]string{}
	for _, group := range alike {
		if len(group) < 2 || place && values(group, placeOf) == len(group) {
			continue
		}
		of := telling(group)
		for _, e := range group {
			if of != nil {
				words[e.Handle] = of(e)
			}
		}
	}
	return words
}

// telling is the first difference that each entry of a group has its own value of, else that with the most values.
func telling(group []*autostart.Entry) (best func(*autostart.Entry) string) {
	most := 1
	for _, of := range differences {
		if n := values(group, of); n > most {
			best, most = of, n
		}
		if most == len(group) {
			break
		}
	}
	return best
}

// values counts the values that entries have of something.
func values(group []*autostart.Entry, of func(*autostart.Entry) string) int {
	seen := map[string]bool{}
	for _, e := range group {
		seen[of(e)] = true
	}
	return len(seen)
}
