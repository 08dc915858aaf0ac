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

// The ranks, the worst first: what may be hostile, what is broken, what costs, what nobody needs, the rest.
const (
	Hostile    Rank = iota // somebody says so
	Replacing              // it changes what the system itself runs
	Suspicious             // it looks hostile
	Unsafe                 // what protects the machine is off
	Broken
	Costly
	Unused
	Spare
	Open // nobody judged it
	Useful
	Fixed // protected, or cannot be turned off here
	Off   // disabled already
)

// suspicious are the problems that suggest somebody hides something, with their words, the gravest
// first.
var suspicious = []struct{ problem, why string }{
	{autostart.Impostor, "it uses a name of the system's but is not the system's"},
	{autostart.SignatureInvalid, "it is not as it was signed"},
	{autostart.Changed, "its program is not as its package delivered it"},
	{autostart.Obscured, "it hides what it does"},
	{autostart.Insecure, "any user can change what it runs"},
	{autostart.OddPlace, "it is in a folder where nobody installs programs"},
}

// broken are the problems of entries that no longer work.
var broken = []struct{ problem, why string }{
	{autostart.TargetMissing, "its program is missing"},
	{autostart.Unparsable, "lockback cannot parse it"},
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
// the order of the items stays. It is the one order of the program: lists, reviews, suggestions and reports have it.
func Order(items []*location.Item, now time.Time) []Place {
	places := make([]Place, len(items))
	for k, item := range items {
		places[k] = placeOf(item, now)
	}
	slices.SortStableFunc(places, func(a, b Place) int {
		return cmp.Or(cmp.Compare(a.Rank, b.Rank), cmp.Compare(a.grave, b.grave), a.Item.Cost.Compare(b.Item.Cost))
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
	case item.State == autostart.Disabled && has(autostart.NotDefault) && known.Role == "security":
		return at(Unsafe, "it protects the machine, and is off")
	case item.State == autostart.Disabled:
		return at(Off, "it is off already")
	case verdict == "hostile":
		return at(Hostile, by+" calls it hostile")
	case has(autostart.NotDefault):
		return at(Replacing, "it changes what the system itself runs")
	}
	for k, s := range suspicious {
		if has(s.problem) {
			return Place{item, Suspicious, s.why, k}
		}
	}
	if item.Behind != "" {
		return Place{item, Suspicious, "it also runs " + item.Behind + ", behind a program of the system's",
			len(suspicious)}
	}
	for k, b := range broken {
		if has(b.problem) && !(b.problem == autostart.TargetMissing && helperMissing(item)) {
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
	if verdict == "spare" {
		why = strings.TrimSuffix(by+" calls it spare; "+why, "; ")
	} else if why != "" {
		why = "it " + why
	}
	switch {
	case costs != "" && verdict != "essential":
		return at(Costly, why)
	case verdict == "spare":
		return at(Spare, why)
	case unused != "" && verdict != "essential":
		return at(Unused, why)
	case verdict == "" || verdict == autostart.Unrated:
		if known.Maker.Name != "" {
			return Place{item, Open, "nobody has rated it yet", 1}
		}
		return at(Open, "nobody has rated it, and its maker is unknown")
	}
	return at(Useful, by+" calls it "+verdict)
}

// helperMissing reports whether what is missing is one of several programs of a command: the others still run.
func helperMissing(item *location.Item) bool {
	return slices.ContainsFunc(item.Commands, func(c autostart.Command) bool {
		return c.Path != item.Target.Path && (c.Exists == nil || *c.Exists)
	}) || len(item.Commands) > 0 && !strings.ContainsAny(item.Target.Path, `/\`)
}

// costWords say what a program costs where that is much, what is felt most first; empty if it is not, or not known.
func costWords(c *autostart.Cost) string {
	switch {
	case c == nil:
	case c.StartMS >= costlyStart:
		return fmt.Sprintf("took %.1f s to start", float64(c.StartMS)/1000)
	case c.CPUMS >= costlyCPU:
		return fmt.Sprintf("took %.1f s of processor time", float64(c.CPUMS)/1000)
	case c.DiskKB >= costlyDisk:
		return fmt.Sprintf("read and wrote %d MB", c.DiskKB>>10)
	case c.MemoryKB >= costlyMemory:
		return fmt.Sprintf("has %d MB of memory", c.MemoryKB>>10)
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

// Suggestion is an entry that could be turned off.
type Suggestion struct {
	Item *location.Item
	Kind string // one of Kinds
	// Why is the reason, and what to think of before.
	Why string
}

// Kinds are the kinds of suggestions.
var Kinds = []string{"hostile", "broken", "costly", "spare", "unused"}

// hands are the roles that review leaves alone, whatever a catalogue says.
var hands = []string{"security", "device", "input", "display", "sound", "network", "storage", "accessibility", "system",
	"backup"}

// idle are the roles of programs that a person does not miss at sign-in: what they do can wait until it is asked for.
var idle = []string{"updater", "launcher", "helper", "telemetry"}

// proofs are the bases by which a maker is proved.
var proofs = []string{autostart.BySignature, autostart.ByPackage}

// slowStart is from when on a start is so slow, in milliseconds, that turning the program off is proposed for that
// alone.
const slowStart = 3_000

// Suggest proposes what could be turned off, in the order of the review, of some kinds, or of all where none is
// named. What is protected is never proposed. Of programs that nobody has judged only those are that are missing, and
// those that hold up the start and can wait, or whose maker is proved: of what strangers made, nothing is said.
func Suggest(items []*location.Item, kinds []string, now time.Time) []Suggestion {
	var all []Suggestion
	for _, p := range Order(items, now) {
		kind, why := suggestionOf(p, now)
		if kind == "" || len(kinds) > 0 && !slices.Contains(kinds, kind) {
			continue
		}
		if p.Item.Caution != "" {
			why += "; think twice: " + p.Item.Caution
		}
		all = append(all, Suggestion{p.Item, kind, why})
	}
	return all
}

// suggestionOf is the kind of suggestion that an entry is, and why; empty if it is none.
func suggestionOf(p Place, now time.Time) (kind, why string) {
	item, known := p.Item, p.Item.Entry.Facts()
	if item.State == autostart.Disabled || item.Hidden() || item.OSPart || item.Guarded != "" ||
		item.Switch == autostart.Report {
		return "", ""
	}
	missing := slices.Contains(item.Problems, autostart.TargetMissing) && !helperMissing(item)
	unused, costs := unusedWords(&item.Entry, now), costWords(item.Cost)
	slow := item.Cost != nil && item.Cost.StartMS >= slowStart
	switch {
	case known.Verdict == "hostile":
		return "hostile", p.Why
	case known.Verdict == "essential":
	case missing:
		return "broken", "its program is missing: " + item.Target.Path
	case slices.Contains(hands, known.Role):
	case known.Verdict == "spare":
		return "spare", p.Why
	case known.Verdict == "useful" && unused != "" && costs != "":
		return "unused", "it " + costs + ", and " + unused
	case known.Verdict == "useful" || !slow:
	case slices.Contains(idle, known.Role):
		return "costly", "it " + costs + ", and " + what[known.Role]
	case known.RoleWord() == autostart.RoleUnknown && slices.Contains(proofs, known.Maker.Basis):
		return "costly", "it " + costs + "; nobody has rated it, so look it up first"
	}
	return "", ""
}

// what says of the roles that can wait what their programs are.
var what = map[string]string{"updater": "an updater can wait", "launcher": "it only starts another program sooner",
	"helper": "a helper can wait until it is needed", "telemetry": "it measures for its maker"}
