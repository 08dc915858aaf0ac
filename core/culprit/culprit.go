// Package culprit finds which of several things breaks something, by putting some of them into the state in which it
// is broken, restarting, and asking whether it works: by halving, so that of n things one is found in log2 n answers
// and one more that confirms it.
//
//	s := culprit.Search{Units: units}
//	for {
//		next := s.Next()
//		if next.Verdict != nil {
//			break
//		}
//		s.Rounds = append(s.Rounds, culprit.Round{Suspects: next.Suspects, Purpose: next.Purpose, Answer: ask(next)})
//	}
//
// The package knows nothing of machines. A search is its units and the answers so far; all else is derived from them
// each time, so that it can be left at any point and gone on with from what was written down.
//
// # How it is found
//
// Two sets are kept: one that works although all its units are suspects, and a larger one that is broken. Half of what
// lies between is added to the smaller set and tried; it becomes the new smaller or the new larger set. What is left
// at last turns a set that works into one that does not, whatever else is wrong: so one is also found where two break
// it only together. Then all but that one are tried: works confirms it; broken means that there is another one, or that
// an answer was wrong. Both sets are then tried again, which tells the two apart: an answer that contradicts an
// earlier one about the same set is a mistake, and the newer one counts.
package culprit

import (
	"slices"
	"time"
)

// Answer is the outcome of a round.
type Answer string

// The answers. Unanswered is that of the round that is under way.
const (
	Unanswered Answer = ""
	Works      Answer = "works"
	Broken     Answer = "broken"
	Skipped    Answer = "skip" // it could not be told
	// Untried is that of a round that was set up again because it could not be tried: it says nothing.
	Untried Answer = "untried"
)

// Purpose is what a round is for.
type Purpose string

// The purposes.
const (
	Halve   Purpose = "halve"   // which half it is in
	Confirm Purpose = "confirm" // whether it works with all but the one
	// Again asks once more about a set that was said to work, and Once about one that was said to be broken:
	// something is not as it should be.
	Again Purpose = "again"
	Once  Purpose = "once more"
)

// Unit is one or several entries that need each other, and stay together.
type Unit struct {
	Handles []string `json:"handles"`
	Names   []string `json:"names"`
	// Gone says that it was uninstalled while the search went on: it can be tried no more.
	Gone bool `json:"gone,omitempty"`
}

// Round is one try.
type Round struct {
	// Suspects are the units, by their numbers, that were in the state in which it is broken.
	Suspects []int     `json:"suspects"`
	Purpose  Purpose   `json:"purpose"`
	Answer   Answer    `json:"answer"`
	Change   int       `json:"change"` // that set it up; 0 if nothing had to be changed
	Time     time.Time `json:"time"`   // when it was set up
}

// Search is a search from its beginning.
type Search struct {
	Units  []Unit
	Rounds []Round
}

// Next is what to do next: a round, or nothing any more.
type Next struct {
	Suspects []int // of the round
	Purpose  Purpose
	// Left is how many rounds there will be at most, with this one, if there is one culprit.
	Left    int
	Verdict *Verdict // instead of a round
}

// Mistake is two rounds that contradict each other, by their numbers from 0; the first is -1 where that is what was
// said before the search began.
type Mistake struct{ First, Second int }

// Found is a unit that was found, with its proof: rounds by their numbers from 0, -1 for what was said before the
// search.
type Found struct {
	Unit int
	// Works is a round without it that worked, Broken one that differed by it alone and did not.
	Works, Broken int
}

// Verdict is how a search ended.
type Verdict struct {
	Found []Found
	// Group are units that could not be told apart: one of them at least.
	Group []int
	// Confirmed says that it worked at last with all the others as before.
	Confirmed bool
	// None says that it is broken without any of them, too.
	None bool
	// Mistakes are answers that contradicted earlier ones, which were then not believed.
	Mistakes []Mistake
}

// set says about each unit, by its number, whether it is in it.
type set []bool

func (s set) with(units ...int) set {
	t := slices.Clone(s)
	for _, u := range units {
		if u >= 0 && u < len(t) {
			t[u] = true
		}
	}
	return t
}

// state is how far a search is.
type state struct {
	search *Search
	// works is a set that works, broken one that does not and has all of it; and the rounds that said so.
	works, broken     set
	worksBy, brokenBy int
	purpose           Purpose
	one               int // the unit that is confirmed, or asked about once more
	skips             int // of this question
	confirmBy         int // the last round that was to confirm one
	verdict           Verdict
	ended             bool
}

// maxSkips is how often one question is put in another way before what is left counts as one group.
const maxSkips = 4

// Next tells what comes next.
func (s *Search) Next() Next {
	st := state{search: s, works: make(set, len(s.Units)), worksBy: -1, brokenBy: -1, purpose: Halve}
	st.broken = st.without()
	st.endHalving()
	for k, r := range s.Rounds {
		if st.ended || r.Answer == Unanswered {
			break
		}
		if r.Answer == Untried {
			continue
		}
		st.take(k, r)
		st.endHalving()
	}
	if st.ended {
		return Next{Verdict: &st.verdict}
	}
	left := 1
	if st.purpose == Halve {
		for n := len(st.between()); n > 1; n = (n + 1) / 2 {
			left++
		}
	}
	return Next{Suspects: st.suspects(), Purpose: st.purpose, Left: left}
}

// between are the units that may be it, in their order.
func (st *state) between() []int {
	var all []int
	for u := range st.search.Units {
		if st.broken[u] && !st.works[u] && !st.search.Units[u].Gone {
			all = append(all, u)
		}
	}
	return all
}

// without are all units but some.
func (st *state) without(units ...int) set {
	all := make(set, len(st.search.Units))
	for u := range all {
		all[u] = !slices.Contains(units, u)
	}
	return all
}

// there are the units of a set that can be tried, in their order.
func (st *state) there(s set) []int {
	var all []int
	for u, in := range s {
		if in && !st.search.Units[u].Gone {
			all = append(all, u)
		}
	}
	return all
}

// found are the units that were found so far.
func (st *state) found() []int {
	var all []int
	for _, f := range st.verdict.Found {
		all = append(all, f.Unit)
	}
	return all
}

// suspects are the units of the round that comes next.
func (st *state) suspects() []int {
	switch st.purpose {
	case Confirm:
		return st.there(st.without(append(st.found(), st.one)...))
	case Again:
		return st.there(st.works)
	case Once:
		return st.there(st.works.with(st.one))
	}
	between := st.between()
	half := len(between) / 2
	start := st.skips % len(between) // after a skip another half
	return st.there(st.works.with(slices.Concat(between, between)[start : start+half]...))
}

// endHalving ends the halving where one is left, or none.
func (st *state) endHalving() {
	if st.ended || st.purpose != Halve {
		return
	}
	switch between := st.between(); len(between) {
	case 0:
		st.ended = true // what is left was uninstalled meanwhile
	case 1:
		st.one, st.skips = between[0], 0
		st.purpose = Confirm
		if len(st.verdict.Found) > 0 && st.asBegun() {
			st.purpose = Once // nobody has said twice that there is another one
		}
	}
}

// asBegun reports whether the larger set is still the one that the search for another culprit began with.
func (st *state) asBegun() bool {
	return slices.Equal(st.there(st.broken), st.there(st.without(st.found()...)))
}

// take goes on with an answer. What was tried is what the round says: since then a unit may be gone.
func (st *state) take(k int, r Round) {
	tried, a := make(set, len(st.search.Units)).with(r.Suspects...), r.Answer
	if a == Skipped {
		st.skip(k)
		return
	}
	st.skips = 0
	switch st.purpose {
	case Halve:
		if a == Works {
			st.works, st.worksBy = tried, k
		} else {
			st.broken, st.brokenBy = tried, k
		}
	case Confirm:
		if a == Works {
			st.accuse()
			st.verdict.Confirmed, st.ended = true, true
			return
		}
		// There is another one, or an answer was wrong.
		st.purpose, st.confirmBy = Again, k
	case Again:
		if a == Works {
			st.worksBy = k
			st.purpose = Once
			if slices.Equal(st.there(st.works), st.there(st.without(append(st.found(), st.one)...))) {
				// The same set was called broken a moment ago.
				st.verdict.Mistakes = append(st.verdict.Mistakes, Mistake{st.confirmBy, k})
				st.accuse()
				st.verdict.Confirmed, st.ended = true, true
			}
			return
		}
		if len(st.there(st.works)) == 0 {
			st.verdict.None, st.ended = true, true
			return
		}
		st.verdict.Mistakes = append(st.verdict.Mistakes, Mistake{st.worksBy, k})
		st.broken, st.brokenBy, st.works, st.worksBy = st.works, k, make(set, len(st.search.Units)), -1
		st.purpose = Halve
	case Once:
		if a == Broken {
			st.brokenBy = k
			if len(st.verdict.Found) > 0 && st.asBegun() {
				st.purpose = Confirm
				return
			}
			st.accuse()
			st.another(k)
			return
		}
		st.verdict.Mistakes = append(st.verdict.Mistakes, Mistake{st.brokenBy, k})
		if len(st.verdict.Found) > 0 && st.asBegun() {
			st.verdict.Confirmed, st.ended = true, true // there is no other one after all
			return
		}
		st.works, st.worksBy = tried, k
		st.broken, st.brokenBy = st.without(st.found()...), -1
		st.purpose = Halve
	}
}

// accuse counts the unit as found.
func (st *state) accuse() {
	st.verdict.Found = append(st.verdict.Found, Found{st.one, st.worksBy, st.brokenBy})
}

// another goes on to the next culprit: all that was not found is broken, and what worked still works.
func (st *state) another(k int) {
	st.broken, st.brokenBy = st.without(st.found()...), k
	st.purpose = Halve
}

// skip goes on where nobody could tell.
func (st *state) skip(k int) {
	st.skips++
	switch st.purpose {
	case Halve:
		if between := st.between(); st.skips >= min(maxSkips, len(between)) {
			st.verdict.Group, st.ended = between, true
		}
	case Confirm:
		st.accuse()
		st.ended = true
	case Again:
		st.skips, st.purpose = 0, Once
	case Once:
		st.skips = 0
		st.accuse()
		st.another(k)
	}
}
