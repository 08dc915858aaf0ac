// Package review puts entries into the order in which a technician decides on them, and proposes what could be
// turned off, each with the reason. It decides nothing.
//
//	for _, p := range review.Order(items, time.Now()) {
//		fmt.Println(p.Item.Name, p.Why)
//	}
package review

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/location"
)

// Place is an entry's place in the order.
type Place struct {
	Item *location.Item
	Rank Rank
	Why  string // the reason for its place, in words
	// grave puts the reasons of one rank into an order, the gravest first.
	grave int
}

// Rank is a group of places, of which the lower come first.
type Rank int

// The ranks: what may be hostile, what is broken, what costs and nobody needs, the rest.
const (
	Hostile    Rank = iota // somebody says so
	Suspicious             // it looks like it
	Broken
	Spare
	Costly
	Open // nobody judged it
	Useful
	Fixed // protected, or cannot be turned off here
	Off   // disabled already
)

// suspicious are the problems that suggest somebody hides something, with their words, the gravest
// first.
var suspicious = []struct{ problem, why string }{
	{autostart.Impostor, "it has a name of the system's and is not the system's"},
	{autostart.SignatureInvalid, "it is not as it was signed"},
	{autostart.Obscured, "it hides what it does"},
	{autostart.Insecure, "any user can change what it runs"},
	{autostart.OddPlace, "it lies where programs are not installed"},
}

// broken are the problems of entries that no longer work.
var broken = []struct{ problem, why string }{
	{autostart.TargetMissing, "its program is missing"},
	{autostart.Unparsable, "it cannot be understood"},
}

// From when on a program counts as costly, and as not used.
const (
	costlyCPU    = 1_000     // milliseconds of processor time
	costlyMemory = 64 << 10  // KB
	costlyDisk   = 256 << 10 // KB
	costlyStart  = 1_000     // milliseconds
	unusedFor    = 180 * 24 * time.Hour
)

// Order puts items into the order in which they are decided on. Within a rank, what costs most comes first, and else
// the order of the items stays.
func Order(items []*location.Item, now time.Time) []Place {
	places := make([]Place, len(items))
	for k, item := range items {
		places[k] = placeOf(item, now)
	}
	slices.SortStableFunc(places, func(a, b Place) int {
		return cmp.Or(cmp.Compare(a.Rank, b.Rank), cmp.Compare(a.grave, b.grave), cmp.Compare(weight(b.Item.Cost),
			weight(a.Item.Cost)))
	})
	return places
}

func placeOf(item *location.Item, now time.Time) Place {
	at := func(rank Rank, why string) Place { return Place{Item: item, Rank: rank, Why: why} }
	known := item.Entry.Facts()
	has := func(problem string) bool { return slices.Contains(item.Problems, problem) }
	verdict := known.Verdict
	by := map[string]string{autostart.ByNote: "your note", autostart.ByCatalogue: "the catalogue"}[known.VerdictBasis]
	switch {
	case item.State == autostart.Disabled:
		return at(Off, "it is off already")
	case verdict == "hostile":
		return at(Hostile, by+" says that it is hostile")
	}
	for k, s := range suspicious {
		if has(s.problem) {
			return Place{item, Suspicious, s.why, k}
		}
	}
	for k, b := range broken {
		if has(b.problem) {
			return Place{item, Broken, b.why, k}
		}
	}
	if item.Guarded != "" {
		return at(Fixed, "it is protected: "+item.Guarded)
	}
	if item.Switch == autostart.Report {
		return Place{item, Fixed, "it cannot be turned off here", 1}
	}
	costs, unused := costWords(item.Cost), unusedWords(&item.Entry, now)
	why := strings.Join(slices.DeleteFunc([]string{costs, unused}, func(s string) bool { return s == "" }), ", and ")
	switch {
	case verdict == "spare":
		return at(Spare, strings.TrimSuffix(by+" says that it is spare; "+why, "; "))
	case why != "" && verdict != "essential":
		return at(Costly, "it "+why)
	case verdict == "" || verdict == autostart.Unrated:
		return at(Open, "nobody has judged it yet")
	}
	return at(Useful, by+" says that it is "+verdict)
}

// costWords say what a program costs where that is much; empty if it is not, or not known.
func costWords(c *autostart.Cost) string {
	switch {
	case c == nil:
	case c.CPUMS >= costlyCPU:
		return fmt.Sprintf("took %.1f s of processor time", float64(c.CPUMS)/1000)
	case c.StartMS >= costlyStart:
		return fmt.Sprintf("took %.1f s to start", float64(c.StartMS)/1000)
	case c.MemoryKB >= costlyMemory:
		return fmt.Sprintf("has %d MB of memory", c.MemoryKB>>10)
	case c.DiskKB >= costlyDisk:
		return fmt.Sprintf("read and wrote %d MB", c.DiskKB>>10)
	}
	return ""
}

// unusedWords say since when nobody used a program by hand, where that is long ago. Of what was never seen to be used
// nothing is said: a service is used by nobody's hand.
func unusedWords(e *autostart.Entry, now time.Time) string {
	last := e.LastUsed()
	if last.IsZero() || now.Sub(last) < unusedFor {
		return ""
	}
	return "was last used by hand on " + autostart.Day(last)
}

// weight is how much a program costs, in milliseconds of somebody's time: roughly, to compare.
func weight(c *autostart.Cost) int64 {
	if c == nil {
		return 0
	}
	return c.CPUMS + c.StartMS + c.MemoryKB>>8 + c.DiskKB>>10
}

// Suggestion is an entry that could be turned off.
type Suggestion struct {
	Item *location.Item
	Kind string // one of Kinds
	Why  string
}

// Kinds are the kinds of suggestions.
var Kinds = []string{"hostile", "broken", "spare", "unused"}

// hands are the roles that review leaves alone, whatever a catalogue says.
var hands = []string{"security", "device", "input", "display", "sound", "network", "storage", "accessibility", "system",
	"backup"}

// Suggest proposes what could be turned off, in the order of the review, of some kinds, or of all where none is
// named. What is protected or needs a second thought is never proposed, and of programs that nobody has judged only
// those that are missing.
func Suggest(items []*location.Item, kinds []string, now time.Time) []Suggestion {
	var all []Suggestion
	for _, p := range Order(items, now) {
		item, known := p.Item, p.Item.Entry.Facts()
		if item.State == autostart.Disabled || item.Hidden() || item.OSPart || item.Guarded != "" ||
			item.Caution != "" || item.Switch == autostart.Report {
			continue
		}
		kind := ""
		missing := slices.Contains(item.Problems, autostart.TargetMissing)
		left := slices.Contains(hands, known.Role)
		unused, costs := unusedWords(&item.Entry, now), costWords(item.Cost)
		why := p.Why
		switch {
		case known.Verdict == "hostile":
			kind = "hostile"
		case known.Verdict == "essential":
		case missing:
			kind, why = "broken", "its program is missing: "+item.Target.Path
		case left:
		case known.Verdict == "spare":
			kind = "spare"
		case known.Verdict == "useful" && unused != "" && costs != "":
			kind, why = "unused", "it "+costs+", and "+unused
		}
		if kind != "" && (len(kinds) == 0 || slices.Contains(kinds, kind)) {
			all = append(all, Suggestion{item, kind, why})
		}
	}
	return all
}
