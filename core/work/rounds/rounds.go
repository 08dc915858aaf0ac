// Package rounds carries a search for a culprit out on a machine: what is searched among, how each round is set up over
// restarts, and what is left at its end. What to ask next is the logic of core/culprit.
package rounds

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/culprit"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/starts"
	"lockback/core/work"
	"lockback/core/work/trial"
)

// Search is a search for a culprit as the record keeps it. A unit is in the state in which it is broken as it was
// before the search began.
type Search struct {
	Begun time.Time      `json:"begun"`
	Of    string         `json:"of"` // what it was begun with, in words
	Units []culprit.Unit `json:"units"`
	// Was is how the entries were before the search, by handle: the state in which it is broken.
	Was    map[string]autostart.State `json:"was"`
	Rounds []culprit.Round            `json:"rounds"`
}

// Begun is the search that is under way; nil if there is none.
func Begun(s *work.Session) (*Search, error) {
	if s.Record == nil {
		return nil, nil
	}
	text, err := s.Record.Search(s.Machine.ID)
	if err != nil || text == "" {
		return nil, work.Advise(err)
	}
	var found Search
	err = json.Unmarshal([]byte(text), &found)
	if err == nil {
		err = found.validate()
	}
	if err != nil {
		return nil, work.Advise(fmt.Errorf("%s: %w: the search for a culprit cannot be read: %w", s.Record.Path,
			change.ErrDamaged, err))
	}
	return &found, nil
}

// UnderWay is the search that is under way; it fails where there is none.
func UnderWay(s *work.Session) (*Search, error) {
	found, err := Begun(s)
	if err == nil && found == nil {
		err = work.Wrong("no search for a culprit is under way on this machine; lockback culprit start begins one")
	}
	return found, err
}

// validate checks a search that was read from an untrusted record.
func (f *Search) validate() error {
	for _, u := range f.Units {
		if len(u.Handles) == 0 || len(u.Handles) != len(u.Names) {
			return errors.New("a unit without names")
		}
		for _, h := range u.Handles {
			if was := f.Was[h]; was != autostart.Enabled && was != autostart.Disabled {
				return fmt.Errorf("no state of %s", h)
			}
		}
	}
	for _, r := range f.Rounds {
		for _, u := range r.Suspects {
			if u < 0 || u >= len(f.Units) {
				return fmt.Errorf("no unit %d", u)
			}
		}
	}
	if len(f.Units) == 0 {
		return errors.New("no units")
	}
	return nil
}

// keep keeps how far the search is; nil ends it.
func keep(s *work.Session, f *Search) error {
	text := []byte{}
	if f != nil {
		var err error
		if text, err = json.Marshal(f); err != nil {
			return err
		}
	}
	return work.Advise(s.Record.KeepSearch(s.Machine.ID, string(text)))
}

// LeftOut are entries that are no part of a search for the same reason.
type LeftOut struct {
	Items []*location.Item
	Why   string
}

// Beginning is a search before its first round.
type Beginning struct {
	Search  *Search
	LeftOut []LeftOut
	Spared  []change.Spared
}

// Begin puts together what is searched among: with a change, or with none, the entries that it left as they still are;
// with a selector, those that are enabled. It fails where a search is under way, or where there is nothing to halve;
// the beginning says all the same what was left out.
func Begin(s *work.Session, inv inventory.Inventory, words []string, in work.Scope, protectedToo bool) (Beginning,
	error) {
	var b Beginning
	if old, err := Begun(s); err != nil {
		return b, err
	} else if old != nil {
		return b, work.Wrong("a search for a culprit is under way since %s; go on with it (lockback culprit), or "+
			"give it up: lockback culprit stop", autostart.Minute(old.Begun))
	}
	f := &Search{Begun: time.Now().UTC().Truncate(time.Second), Was: map[string]autostart.State{}}
	var items []*location.Item
	var err error
	if OfChange(words) {
		items, f.Of, err = ofChange(s, inv, words)
	} else {
		items, f.Of, err = ofSelector(s, inv, words, in)
	}
	if err != nil {
		return b, err
	}
	items, b.LeftOut = searchable(s, items, protectedToo)
	if !protectedToo {
		enabled := slices.DeleteFunc(slices.Clone(items),
			func(i *location.Item) bool { return i.State != autostart.Enabled })
		var kept []*location.Item
		kept, b.Spared = s.Engine.Spare(change.Choice{Off: enabled, Inventory: inv,
			Want: location.Want{Now: time.Now()}})
		items = slices.DeleteFunc(items, func(i *location.Item) bool {
			return slices.Contains(enabled, i) &&
				!slices.Contains(kept, i)
		})
	}
	for _, group := range inseparable(s, inv, inventory.Together(s.Machine.OS, items)) {
		var u culprit.Unit
		for _, item := range group {
			u.Handles, u.Names = append(u.Handles, item.Handle), append(u.Names, item.Name)
			f.Was[item.Handle] = item.State
		}
		f.Units = append(f.Units, u)
	}
	switch len(f.Units) {
	case 0:
		return b, work.Wrong("%s has nothing to search among", f.Of)
	case 1:
		return b, work.Wrong("there is only %s to search among, so there is nothing to halve",
			strings.Join(f.Units[0].Names, ", "))
	}
	b.Search = f
	return b, nil
}

// OfChange reports whether a search with these words is one of a change.
func OfChange(words []string) bool {
	return len(words) == 0 || len(words) == 1 && work.IsChange(words[0])
}

// maxGroupsTried is how many groups are tried one by one for what cannot start while one is off.
const maxGroupsTried = 200

// inseparable joins groups of which one cannot start while another is off: a unit and what it starts, a daemon and what
// it acts on. It is tried on the machine's files as they would be, with each group off alone.
func inseparable(s *work.Session, inv inventory.Inventory, groups [][]*location.Item) [][]*location.Item {
	if len(groups) > maxGroupsTried {
		return groups
	}
	group := map[string]int{}
	for g, items := range groups {
		for _, item := range items {
			group[item.Handle] = g
		}
	}
	with := func(off int) map[string]autostart.State {
		wanted := map[string]autostart.State{}
		for h, g := range group {
			if wanted[h] = autostart.Enabled; g == off {
				wanted[h] = autostart.Disabled
			}
		}
		plan, err := planStates(s, &Search{}, inv, wanted)
		if err != nil {
			return nil
		}
		return inv.Foreseen(plan.Images())
	}
	all := with(-1)
	into := make([]int, len(groups))
	for g := range groups {
		into[g] = g
	}
	for off := range groups {
		for h, state := range with(off) {
			g, searched := group[h]
			if at, known := all[h]; !searched || g == off || state == autostart.Enabled || known &&
				at != autostart.Enabled {
				continue // what does not start with all on is off for another reason
			}
			one, other := min(into[g], into[off]), max(into[g], into[off])
			for k := range into {
				if into[k] == other {
					into[k] = one
				}
			}
		}
	}
	joined := make([][]*location.Item, len(groups))
	for g, items := range groups {
		joined[into[g]] = append(joined[into[g]], items...)
	}
	return slices.DeleteFunc(joined, func(items []*location.Item) bool { return len(items) == 0 })
}

// ofChange are the entries of a change that are still as it left them.
func ofChange(s *work.Session, inv inventory.Inventory, words []string) ([]*location.Item, string, error) {
	var c change.Change
	var err error
	if len(words) == 1 {
		c, err = s.ChangeNamed(words[0])
	} else {
		c, err = s.LastTurnedOff()
	}
	if err != nil {
		return nil, "", err
	}
	if c.State != change.Done {
		return nil, "", work.Wrong("%s is %s; name a change that stands", c.Name(), string(c.State))
	}
	handles := map[string]autostart.State{}
	for _, o := range c.Outcomes {
		for _, h := range o.Handles {
			handles[h] = o.State
		}
	}
	var items []*location.Item
	for _, item := range inv.Items {
		if state, ok := handles[item.Handle]; ok && state == item.State {
			items = append(items, item)
		}
	}
	if len(items) == 0 {
		return nil, "", work.Wrong("none of the entries of %s is as it left it; name entries instead", c.Name())
	}
	return items, c.Name() + " (" + c.Words() + ")", nil
}

// ofSelector are the chosen entries that are enabled.
func ofSelector(s *work.Session, inv inventory.Inventory, words []string, in work.Scope) ([]*location.Item, string,
	error) {
	c, err := s.ChooseExactly(inv, words, in)
	if err != nil {
		return nil, "", err
	}
	items := slices.DeleteFunc(c.Items, func(i *location.Item) bool { return i.State != autostart.Enabled })
	if len(items) == 0 {
		return nil, "", work.Wrong("every match is off already; to find which entry of a change is missed, name " +
			"the change: " +
			"lockback culprit start C1")
	}
	return items, strings.Join(words, " "), nil
}

// searchable leaves out what no round may turn on or off, by the reasons.
func searchable(s *work.Session, items []*location.Item, protectedToo bool) (kept []*location.Item, left []LeftOut) {
	for _, item := range items {
		why := ""
		switch {
		case item.Switch == autostart.Report:
			why = s.WhyFixed(item, location.Want{State: autostart.Disabled, Now: time.Now()})
		case !protectedToo && item.Guarded != "":
			why = "it is protected (--guarded takes it too): " + item.Guarded
		case !protectedToo && item.Caution != "":
			why = "it needs a second thought (--guarded takes it too): " + item.Caution
		}
		if why == "" {
			kept = append(kept, item)
			continue
		}
		k := slices.IndexFunc(left, func(l LeftOut) bool { return l.Why == why })
		if k < 0 {
			k = len(left)
			left = append(left, LeftOut{Why: why})
		}
		left[k].Items = append(left[k].Items, item)
	}
	return kept, left
}

// Other is the state that is not this one.
func Other(state autostart.State) autostart.State {
	if state == autostart.Enabled {
		return autostart.Disabled
	}
	return autostart.Enabled
}

// wanted is how a round wants each entry: its suspects as before the search, the others the other way.
func (f *Search) wanted(suspects []int) map[string]autostart.State {
	states := map[string]autostart.State{}
	for u, unit := range f.Units {
		for _, h := range unit.Handles {
			if states[h] = f.Was[h]; !slices.Contains(suspects, u) {
				states[h] = Other(f.Was[h])
			}
		}
	}
	return states
}

// all are the numbers of all units: with these, everything is as before the search.
func (f *Search) all() []int {
	all := make([]int, len(f.Units))
	for u := range all {
		all[u] = u
	}
	return all
}

// Logic is what is known without a machine.
func (f *Search) Logic() culprit.Search { return culprit.Search{Units: f.Units, Rounds: f.Rounds} }

// WorksWhile is the state of a unit in which it works.
func (f *Search) WorksWhile(u int) autostart.State { return Other(f.Was[f.Units[u].Handles[0]]) }

// compare notes which units were uninstalled, and returns the entries that are not as the round has them, in words.
func (f *Search) compare(inv inventory.Inventory, suspects []int) (differ []string) {
	items := inv.ByHandle()
	wanted := f.wanted(suspects)
	for u := range f.Units {
		unit := &f.Units[u]
		here := 0
		for k, h := range unit.Handles {
			item := items[h]
			if item == nil {
				continue
			}
			here++
			if item.State != wanted[h] {
				differ = append(differ, fmt.Sprintf("%s (%s) is %s", unit.Names[k], h, item.State))
			}
		}
		unit.Gone = here == 0
	}
	return differ
}

// changes are the numbers of the changes that the rounds made, the oldest first.
func (f *Search) changes() []int {
	var all []int
	for _, r := range f.Rounds {
		if r.Change > 0 {
			all = append(all, r.Change)
		}
	}
	return all
}

// Step is what a search does next: a round, or its end.
type Step struct {
	Number, Of int // which round it is, and about how many there will be
	Purpose    culprit.Purpose
	Verdict    *culprit.Verdict // of a search that ends with it
	// Plan is the change that sets it up; where Nothing is true, everything is so already.
	Plan    change.Plan
	Nothing bool
	// Done is called with the change once that is made, or with none, and keeps how far the search is.
	Done func(change.Change) error
}

// planned takes a plan into a step: that nothing to do is no error.
func (st *Step) planned(plan change.Plan, err error) error {
	st.Plan = plan
	if errors.Is(err, change.ErrNothing) {
		st.Nothing = true
		return nil
	}
	return err
}

// Next is the next step of a search.
func Next(s *work.Session, f *Search, inv inventory.Inventory) (Step, error) {
	logic := f.Logic()
	next := logic.Next()
	if next.Verdict != nil {
		return end(s, f, *next.Verdict, inv)
	}
	n := len(f.Rounds) + 1
	st := Step{Number: n, Of: n + next.Left - 1, Purpose: next.Purpose}
	if err := st.planned(planStates(s, f, inv, f.wanted(next.Suspects))); err != nil {
		return st, err
	}
	if len(st.Plan.LeftOut) > 0 {
		l := st.Plan.LeftOut[0]
		return st, fmt.Errorf("the round cannot be set up, and nothing was changed: %s  %s: %w", l.Handle, l.Name,
			l.Err)
	}
	round := culprit.Round{Suspects: next.Suspects, Purpose: next.Purpose, Time: time.Now().UTC().Truncate(time.Second)}
	st.Done = func(c change.Change) error {
		if round.Change = c.ID; c.ID > 0 {
			round.Time = c.Time
		}
		f.Rounds = append(f.Rounds, round)
		return keep(s, f)
	}
	return st, nil
}

// Answer goes on with an answer to the last round. Again says that the round was not tried as it was set up, because
// of what differs, and is set up again.
func Answer(s *work.Session, f *Search, inv inventory.Inventory, answer culprit.Answer, anyway bool) (st Step,
	again []string, err error) {
	if len(f.Rounds) == 0 || f.Rounds[len(f.Rounds)-1].Answer != culprit.Unanswered {
		return st, nil, work.Wrong("no round is waiting for an answer; lockback culprit skip sets up the " +
			"next one up")
	}
	last := &f.Rounds[len(f.Rounds)-1]
	if differ := f.compare(inv, last.Suspects); len(differ) > 0 {
		if answer != culprit.Skipped {
			return st, nil, work.Wrong("round %d was not tried as set up: %s; lockback culprit skip sets it "+
				"up again", len(f.Rounds), strings.Join(differ, ", "))
		}
		st, err = setUpAgain(s, f, inv)
		return st, differ, err
	}
	if answer != culprit.Skipped && !anyway {
		if why := untried(s, inv, last); why != "" {
			return st, nil, work.Wrong("%s since round %d was set up on %s, so this result means nothing; restart "+
				"first, or "+
				"add --anyway", why, len(f.Rounds), autostart.Minute(last.Time))
		}
	}
	last.Answer = answer
	st, err = Next(s, f, inv)
	return st, nil, err
}

// setUpAgain brings the entries to where the last round wants them.
func setUpAgain(s *work.Session, f *Search, inv inventory.Inventory) (Step, error) {
	last := &f.Rounds[len(f.Rounds)-1]
	st := Step{Number: len(f.Rounds), Purpose: last.Purpose}
	plan, err := planStates(s, f, inv, f.wanted(last.Suspects))
	st.Plan = plan
	st.Done = func(c change.Change) error {
		round := culprit.Round{Suspects: last.Suspects, Purpose: last.Purpose, Change: c.ID, Time: c.Time}
		last.Answer = culprit.Untried
		f.Rounds = append(f.Rounds, round)
		return keep(s, f)
	}
	return st, err
}

// end leaves what was found as it works, and all else as before.
func end(s *work.Session, f *Search, v culprit.Verdict, inv inventory.Inventory) (Step, error) {
	wanted := f.wanted(f.all())
	for _, found := range v.Found {
		for _, h := range f.Units[found.Unit].Handles {
			wanted[h] = Other(f.Was[h])
		}
	}
	st := Step{Verdict: &v, Done: func(change.Change) error { return keep(s, nil) }}
	return st, st.planned(planStates(s, f, inv, wanted))
}

// Stop gives a search up: everything is as it was before it. Torn says why the changes of the rounds could not be taken
// back to the byte, because something else wrote to what they changed; then each entry is brought to the state that it
// had.
func Stop(s *work.Session, f *Search, inv inventory.Inventory) (st Step, torn error, err error) {
	st.Done = func(change.Change) error { return keep(s, nil) }
	changes := f.changes()
	if len(changes) == 0 {
		st.Nothing = true
		return st, nil, nil
	}
	plan, err := s.Engine.TakeBack(changes)
	if errors.Is(err, change.ErrConflict) {
		torn = err
		plan, err = planStates(s, f, inv, f.wanted(f.all()))
	}
	return st, torn, st.planned(plan, err)
}

// Gone are the units that were uninstalled while the search went on.
func (f *Search) Gone() []culprit.Unit {
	var gone []culprit.Unit
	for _, u := range f.Units {
		if u.Gone {
			gone = append(gone, u)
		}
	}
	return gone
}

// planStates plans to bring the entries of a search into states. Entries that are gone have none.
func planStates(s *work.Session, f *Search, inv inventory.Inventory, wanted map[string]autostart.State) (change.Plan,
	error) {
	var off, on []*location.Item
	for _, item := range inv.Items {
		switch want := wanted[item.Handle]; {
		case want == "" || want == item.State:
		case want == autostart.Disabled:
			off = append(off, item)
		default:
			on = append(on, item)
		}
	}
	if len(off)+len(on) == 0 {
		return change.Plan{}, change.ErrNothing
	}
	return s.Engine.Round(off, on, location.Want{Now: time.Now()}, f.changes())
}

// untried says why a round was not tried yet; empty where it was, or where that is not known.
func untried(s *work.Session, inv inventory.Inventory, r *culprit.Round) string {
	if r.Change == 0 {
		return ""
	}
	c, err := s.Record.Change(r.Change)
	if err != nil {
		return ""
	}
	need := trial.Needs{Starts: starts.Read(s.Machine), Since: trial.MomentOf(c)}
	items := inv.ByHandle()
	for _, o := range c.Outcomes {
		for _, h := range o.Handles {
			if item := items[h]; item != nil {
				need.Add(item)
			}
		}
	}
	switch {
	case need.Restarted != nil && !*need.Restarted:
		return "this machine was not restarted"
	case need.SignedIn != nil && !*need.SignedIn:
		return "nobody whom it is for has signed in"
	}
	return ""
}
