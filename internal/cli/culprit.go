package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/culprit"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/starts"
	"lockback/core/store"
	"lockback/internal/view"
)

// search is a search for a culprit as the record keeps it. A unit is in the state in which it is broken as it was
// before the search began.
type search struct {
	Begun time.Time      `json:"begun"`
	Of    string         `json:"of"` // what it was begun with, in words
	Units []culprit.Unit `json:"units"`
	// Was is how the entries were before the search, by handle: the state in which it is broken.
	Was    map[string]autostart.State `json:"was"`
	Rounds []culprit.Round            `json:"rounds"`
}

func (a *app) culpritCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "culprit",
		Short: "Find which of several entries broke something, by halving over restarts",
		Long: `Find which of several entries broke something. Some of them are put back into the
state in which it worked, the computer is restarted, and you say whether it works:
each answer halves what is left. Of sixteen entries one is found in four restarts,
and a fifth confirms it.

Begin with culprit start: with a change that turned off too much, or with entries that
are enabled while an error appears. Then restart, try, and say culprit works or culprit
broken; culprit skip asks in another way where it cannot be told. Entries that need
each other (a timer and its service, an app and its helper, cron and its lines) stay
together, and protected ones are no part of it unless --guarded is given.

At the end the culprit stays in the state in which it works, all others are as before,
and the rounds that prove it are shown. A second culprit is found too, and an answer
that contradicts another is noticed. The search can be left for weeks, and gone on with
while the disk is in another machine. culprit stop gives it up: then all is as before.

Without a command it says how far the search is.`,
		Example: "  lockback culprit start C1\n  lockback culprit works\n  lockback culprit stop",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return a.searchStatus() },
	}
	c.AddCommand(a.culpritStartCommand(), a.culpritAnswerCommand(culprit.Works, "Say that it works after the restart"),
		a.culpritAnswerCommand(culprit.Broken, "Say that it is broken after the restart"), a.culpritAnswerCommand(culprit.Skipped, "Ask in another way: it could not be told"), a.culpritStopCommand())
	return c
}

func (a *app) culpritStartCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "start [CHANGE | SELECTOR...]",
		Short: "Begin a search: with a change, or with entries",
		Long: `Begin a search and set up its first round. With a change (by default the last one that
turned something off), its entries that are still as it left them are searched: it was
broken by turning them off. With a selector, the entries that are enabled: it is broken
while they start.`,
		Example: "  lockback culprit start\n  lockback culprit start C3\n  lockback culprit start stage=sign-in for=ines",
		RunE:    func(_ *cobra.Command, args []string) error { return a.startSearch(args, all) },
	}
	a.writeFlags(c)
	c.Flags().BoolVar(&all, "all", false, "choose among parts of the operating system too")
	c.Flags().BoolVar(&a.guarded, "guarded", false, "search among protected entries too, and among those that need a second thought")
	return c
}

func (a *app) culpritAnswerCommand(answer culprit.Answer, short string) *cobra.Command {
	var anyway bool
	c := &cobra.Command{
		Use:     string(answer),
		Short:   short,
		Example: "  lockback culprit " + string(answer),
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return a.answerSearch(answer, anyway) },
	}
	c.Long = short + `. The next round is then set up, or the culprit is named.

Where the system says that the computer was not restarted since the round was set up, or
that nobody whom it is for has signed in, nothing was tried, and the answer is refused
unless --anyway is given.`
	if answer == culprit.Skipped {
		c.Long = short + `: the next round divides what is left in another
way. Where the entries are not as the round had left them, because something turned one
on or off meanwhile, the round is set up again instead.`
	} else {
		c.Flags().BoolVar(&anyway, "anyway", false, "it was tried, whatever the system says of restarts")
	}
	a.writeFlags(c)
	return c
}

func (a *app) culpritStopCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "stop",
		Short:   "Give the search up: all is as it was before it",
		Long:    `Give the search up. All that its rounds changed is taken back, to the byte.`,
		Example: "  lockback culprit stop",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return a.stopSearch() },
	}
	a.writeFlags(c)
	return c
}

// begunSearch is the search that is under way; nil where there is none.
func (s *session) begunSearch() (*search, error) {
	if s.store == nil {
		return nil, nil
	}
	text, err := s.store.Search(s.machine.ID)
	if err != nil || text == "" {
		return nil, adviseStore(err)
	}
	var found search
	err = json.Unmarshal([]byte(text), &found)
	if err == nil {
		err = found.check()
	}
	if err != nil {
		return nil, adviseStore(fmt.Errorf("%s: %w: the search for a culprit cannot be read: %w", s.store.Path, change.ErrDamaged, err))
	}
	return &found, nil
}

// check fails where a search is none that was written here: a record on a disk may say anything.
func (f *search) check() error {
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

// underWay is the search that is under way, or what to do where there is none.
func (s *session) underWay() (*search, error) {
	found, err := s.begunSearch()
	if err == nil && found == nil {
		err = usage("no search for a culprit is under way on this machine; lockback culprit start begins one")
	}
	return found, err
}

// keepSearch keeps how far it is; nil ends it.
func (s *session) keepSearch(f *search) error {
	text := []byte{}
	if f != nil {
		var err error
		if text, err = json.Marshal(f); err != nil {
			return err
		}
	}
	return adviseStore(s.store.KeepSearch(s.machine.ID, string(text)))
}

// startSearch begins a search.
func (a *app) startSearch(args []string, all bool) error {
	ofChange := len(args) == 0 || len(args) == 1 && isChange(args[0])
	s, err := a.openToWrite(ofChange)
	if err != nil {
		return err
	}
	defer s.close()
	if old, err := s.begunSearch(); err != nil {
		return err
	} else if old != nil {
		return usage("a search for a culprit is under way since %s; go on with it (lockback culprit), or give it up with lockback culprit stop", local(old.Begun))
	}
	inv := s.inventory()
	var items []*location.Item
	f := search{Begun: time.Now().UTC().Truncate(time.Second), Was: map[string]autostart.State{}}
	if ofChange {
		items, f.Of, err = s.ofChange(args, inv)
	} else {
		items, f.Of, err = s.ofSelector(args, inv, all)
	}
	if err != nil {
		return err
	}
	items, notes := s.searchable(items)
	if !s.guarded {
		enabled := slices.DeleteFunc(slices.Clone(items), func(i *location.Item) bool { return i.State != autostart.Enabled })
		kept, spared := s.engine.Spare(change.Choice{Off: enabled, Inventory: inv, Want: location.Want{Now: time.Now()}})
		notes = append(notes, sparedNotes(spared)...)
		items = slices.DeleteFunc(items, func(i *location.Item) bool { return slices.Contains(enabled, i) && !slices.Contains(kept, i) })
	}
	for _, group := range s.inseparable(inv, inventory.Together(s.machine.OS, items)) {
		var u culprit.Unit
		for _, item := range group {
			u.Handles, u.Names = append(u.Handles, item.Handle), append(u.Names, item.Name)
			f.Was[item.Handle] = item.State
		}
		f.Units = append(f.Units, u)
	}
	if len(f.Units) < 2 {
		a.notes(notes)
		if len(f.Units) == 1 {
			return usage("there is only %s to search among: there is nothing to halve", strings.Join(f.Units[0].Names, ", "))
		}
		return usage("there is nothing to search among in %s", f.Of)
	}
	return s.setUp(&f, inv, notes)
}

// maxGroupsTried is how many groups are tried one by one for what cannot start while one is off.
const maxGroupsTried = 200

// inseparable joins groups of which one cannot start while another is off: a unit and what it starts, a daemon and what it
// acts on. What can be told of that is tried on the machine's files as they would be, with each group off alone.
func (s *session) inseparable(inv inventory.Inventory, groups [][]*location.Item) [][]*location.Item {
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
		f := search{}
		wanted := map[string]autostart.State{}
		for h, g := range group {
			if wanted[h] = autostart.Enabled; g == off {
				wanted[h] = autostart.Disabled
			}
		}
		plan, err := s.planStates(&f, inv, wanted)
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
			if at, told := all[h]; !searched || g == off || state == autostart.Enabled || told && at != autostart.Enabled {
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
func (s *session) ofChange(args []string, inv inventory.Inventory) ([]*location.Item, string, error) {
	var c change.Change
	var err error
	if len(args) == 1 {
		n, nerr := number(args[0], "C", "a change")
		if nerr != nil {
			return nil, "", nerr
		}
		c, err = s.change(n)
	} else {
		c, err = s.lastTurnedOff()
	}
	if err != nil {
		return nil, "", err
	}
	if c.State != change.Done {
		return nil, "", usage("%s is %s; name a change that stands", c.Name(), string(c.State))
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
		return nil, "", usage("none of the entries of %s is as it left it; name entries instead", c.Name())
	}
	return items, c.Name() + " (" + changeItem(c).Message + ")", nil
}

// lastTurnedOff is the last change that stands and turned something off.
func (s *session) lastTurnedOff() (change.Change, error) {
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return change.Change{}, adviseStore(err)
	}
	for _, c := range slices.Backward(changes) {
		if c.State == change.Done && (c.Kind == change.Disable || c.Kind == change.Review) {
			return s.change(c.ID)
		}
	}
	return change.Change{}, usage("no change of this machine turned something off; name entries: lockback culprit start SELECTOR")
}

// ofSelector are the chosen entries that are enabled.
func (s *session) ofSelector(words []string, inv inventory.Inventory, all bool) ([]*location.Item, string, error) {
	c, err := s.chooseExactly(inv, words, scope{all: all})
	if err != nil {
		return nil, "", err
	}
	items := slices.DeleteFunc(c.items, func(i *location.Item) bool { return i.State != autostart.Enabled })
	if len(items) == 0 {
		return nil, "", usage("all that matches is disabled; to find what was missed of a change, name that: lockback culprit start C1")
	}
	return items, strings.Join(words, " "), nil
}

// searchable leaves out what no round may turn on or off, and says so, once for each reason.
func (s *session) searchable(items []*location.Item) (kept []*location.Item, notes []string) {
	names, reasons := map[string][]string{}, []string(nil)
	for _, item := range items {
		why := ""
		switch {
		case item.Switch == autostart.Report:
			why = s.whyFixed(item, location.Want{State: autostart.Disabled, Now: time.Now()})
		case !s.guarded && item.Guarded != "":
			why = "it is protected (--guarded takes it too): " + item.Guarded
		case !s.guarded && item.Caution != "":
			why = "it needs a second thought (--guarded takes it too): " + item.Caution
		}
		if why == "" {
			kept = append(kept, item)
			continue
		}
		if names[why] == nil {
			reasons = append(reasons, why)
		}
		names[why] = append(names[why], fmt.Sprintf("%s (%s)", item.Name, item.Handle))
	}
	for _, why := range reasons {
		of := names[why]
		if n := len(of) - maxEffectsNamed; n > 0 {
			of = append(of[:maxEffectsNamed:maxEffectsNamed], fmt.Sprintf("and %d more", n))
		}
		notes = append(notes, fmt.Sprintf("left out: %s: %s", strings.Join(of, ", "), why))
	}
	return kept, notes
}

// other is the state that is not this one.
func other(state autostart.State) autostart.State {
	if state == autostart.Enabled {
		return autostart.Disabled
	}
	return autostart.Enabled
}

// wanted is how a round wants each entry: its suspects as before the search, the others the other way.
func (f *search) wanted(suspects []int) map[string]autostart.State {
	states := map[string]autostart.State{}
	for u, unit := range f.Units {
		for _, h := range unit.Handles {
			if states[h] = f.Was[h]; !slices.Contains(suspects, u) {
				states[h] = other(f.Was[h])
			}
		}
	}
	return states
}

// all are the numbers of all units: with these, all is as before the search.
func (f *search) all() []int {
	all := make([]int, len(f.Units))
	for u := range all {
		all[u] = u
	}
	return all
}

// logic is what is known without a machine.
func (f *search) logic() culprit.Search { return culprit.Search{Units: f.Units, Rounds: f.Rounds} }

// lookAgain notes which units were uninstalled, and returns the entries that are not as the round has them.
func (f *search) lookAgain(inv inventory.Inventory, suspects []int) (differ []string) {
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
func (f *search) changes() []int {
	var all []int
	for _, r := range f.Rounds {
		if r.Change > 0 {
			all = append(all, r.Change)
		}
	}
	return all
}

// setUp sets up the next round, or ends the search.
func (s *session) setUp(f *search, inv inventory.Inventory, notes []string) error {
	logic := f.logic()
	next := logic.Next()
	if next.Verdict != nil {
		return s.endSearch(f, *next.Verdict, inv, notes)
	}
	n := len(f.Rounds) + 1
	of := n + next.Left - 1
	about := []string{fmt.Sprintf("Round %d of about %d of the search among %s of %s.", n, of, view.Number(len(f.Units), "entry or group", "entries or groups"), f.Of), purposes[next.Purpose]}
	e := errand{inv: inv, verb: fmt.Sprintf("Set up round %d:", n), about: about, notes: notes, message: fmt.Sprintf("round %d of about %d, among %s", n, of, f.Of)}
	var err error
	if e.plan, err = s.planStates(f, inv, f.wanted(next.Suspects)); err != nil && !errors.Is(err, change.ErrNothing) {
		return s.explain(err)
	}
	if len(e.plan.LeftOut) > 0 {
		l := e.plan.LeftOut[0]
		return fmt.Errorf("the round cannot be set up, and nothing was changed: %s  %s: %w", l.Handle, l.Name, l.Err)
	}
	round := culprit.Round{Suspects: next.Suspects, Purpose: next.Purpose, Time: time.Now().UTC().Truncate(time.Second)}
	e.done = func(c change.Change) error {
		if round.Change = c.ID; c.ID > 0 {
			round.Time = c.Time
		}
		f.Rounds = append(f.Rounds, round)
		return s.keepSearch(f)
	}
	e.then = []string{strings.Join(about, " "), s.restartNow()}
	if errors.Is(err, change.ErrNothing) {
		return s.nothingToSetUp(e)
	}
	err = s.carryOut(e)
	if errors.Is(err, change.ErrOtherwise) && len(f.Rounds) > 0 {
		err = fmt.Errorf("%w; these cannot be told apart here: lockback culprit skip divides in another way, lockback culprit stop gives up", err)
	}
	return err
}

// restartNow says how a round is tried.
func (s *session) restartNow() string {
	how := "Restart this computer"
	if !s.machine.Live {
		how = "Start the computer from this disk"
	}
	return how + ", and try what was broken. Then say lockback culprit works, or lockback culprit broken."
}

// nothingToSetUp is a round for which all is as it should be already.
func (s *session) nothingToSetUp(e errand) error {
	if s.dryRun {
		s.notes(e.notes)
		s.note("%s nothing has to be changed for this round", strings.Join(e.about, " "))
		return s.printNothing(change.Plan{})
	}
	if err := e.done(change.Change{}); err != nil {
		return err
	}
	s.notes(e.notes)
	if s.format != "table" {
		return s.printNothing(change.Plan{})
	}
	p := s.printer()
	p.Line("%s", subject(s.machine))
	printLines(p, append(e.then, "Nothing had to be changed for it."))
	return nil
}

// purposes say what a round is for.
var purposes = map[culprit.Purpose]string{
	culprit.Halve:   "Half of the suspects are as before the search, and everything else is as it was when it worked.",
	culprit.Confirm: "One suspect is left. It alone is as it was when it worked, and everything else is as before the search: if it works now, that is the one.",
	culprit.Again:   "It is still broken without it: there is another one, or an answer was wrong. So what was said to work is tried once more.",
	culprit.Once:    "What was said to be broken is tried once more.",
}

// planStates plans to bring the entries of a search into states. Entries that are gone have none.
func (s *session) planStates(f *search, inv inventory.Inventory, wanted map[string]autostart.State) (change.Plan, error) {
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
	return s.engine.Round(off, on, location.Want{Now: time.Now()}, f.changes())
}

// answerSearch goes on with an answer.
func (a *app) answerSearch(answer culprit.Answer, anyway bool) error {
	s, err := a.openToWrite(true)
	if err != nil {
		return err
	}
	defer s.close()
	f, err := s.underWay()
	if err != nil {
		return err
	}
	if len(f.Rounds) == 0 || f.Rounds[len(f.Rounds)-1].Answer != culprit.Unanswered {
		return usage("no round of the search waits for an answer; lockback culprit skip sets the next one up")
	}
	inv := s.inventory()
	last := &f.Rounds[len(f.Rounds)-1]
	differ := f.lookAgain(inv, last.Suspects)
	if len(differ) > 0 {
		if answer != culprit.Skipped {
			return usage("round %d was not tried as it was set up: %s; lockback culprit skip sets it up again", len(f.Rounds), strings.Join(differ, ", "))
		}
		a.note("round %d is set up again: %s", len(f.Rounds), strings.Join(differ, ", "))
		return s.setUpAgain(f, inv)
	}
	if answer != culprit.Skipped && !anyway {
		if why := s.untried(f, inv, last); why != "" {
			return usage("%s since round %d was set up on %s, so it says nothing; restart first, or add --anyway", why, len(f.Rounds), local(last.Time))
		}
	}
	last.Answer = answer
	return s.setUp(f, inv, goneNotes(f))
}

// setUpAgain brings the entries to where the last round wants them.
func (s *session) setUpAgain(f *search, inv inventory.Inventory) error {
	last := &f.Rounds[len(f.Rounds)-1]
	plan, err := s.planStates(f, inv, f.wanted(last.Suspects))
	if err != nil {
		return s.explain(err)
	}
	n := len(f.Rounds)
	e := errand{plan: plan, inv: inv, verb: fmt.Sprintf("Set up round %d again:", n), message: fmt.Sprintf("round %d again, among %s", n, f.Of), notes: goneNotes(f)}
	e.done = func(c change.Change) error {
		again := culprit.Round{Suspects: last.Suspects, Purpose: last.Purpose, Change: c.ID, Time: c.Time}
		last.Answer = culprit.Untried
		f.Rounds = append(f.Rounds, again)
		return s.keepSearch(f)
	}
	e.then = []string{s.restartNow()}
	return s.carryOut(e)
}

// goneNotes name the units that were uninstalled while the search went on.
func goneNotes(f *search) []string {
	var notes []string
	for _, u := range f.Units {
		if u.Gone {
			notes = append(notes, fmt.Sprintf("%s was removed since the search began, and is no part of it any more", strings.Join(u.Names, ", ")))
		}
	}
	return notes
}

// untried says why a round was not tried yet; empty where it was, or where that is not known.
func (s *session) untried(f *search, inv inventory.Inventory, r *culprit.Round) string {
	if r.Change == 0 {
		return ""
	}
	c, err := s.store.Change(r.Change)
	if err != nil {
		return ""
	}
	need := needsOf{starts: starts.Read(s.machine), since: momentOf(c)}
	items := inv.ByHandle()
	for _, o := range c.Outcomes {
		for _, h := range o.Handles {
			if item := items[h]; item != nil {
				need.add(item)
			}
		}
	}
	switch {
	case need.restarted != nil && !*need.restarted:
		return "this machine was not restarted"
	case need.signedIn != nil && !*need.signedIn:
		return "nobody whom it is for has signed in"
	}
	return ""
}

// endSearch says what was found, and leaves that as it works and all else as before.
func (s *session) endSearch(f *search, v culprit.Verdict, inv inventory.Inventory, notes []string) error {
	wanted := f.wanted(f.all())
	for _, found := range v.Found {
		for _, h := range f.Units[found.Unit].Handles {
			wanted[h] = other(f.Was[h])
		}
	}
	words := s.verdictWords(f, v)
	e := errand{inv: inv, verb: "End the search:", about: words, notes: notes, message: "the end of the search among " + f.Of}
	var err error
	if e.plan, err = s.planStates(f, inv, wanted); err != nil && !errors.Is(err, change.ErrNothing) {
		return s.explain(err)
	}
	e.done = func(change.Change) error { return s.keepSearch(nil) }
	e.tell = func(p view.Printer) { s.printVerdict(p, f, v, words) }
	e.asJSON = func() error { return s.searchJSON(f, &v) }
	if !errors.Is(err, change.ErrNothing) {
		return s.carryOut(e)
	}
	if s.dryRun {
		s.notes(notes)
		if s.format != "table" {
			return s.printNothing(change.Plan{})
		}
		s.printVerdict(s.printer(), f, v, words)
		return nil
	}
	if err := e.done(change.Change{}); err != nil {
		return err
	}
	s.notes(notes)
	if s.format == "json" {
		return s.searchJSON(f, &v)
	}
	p := s.printer()
	p.Line("%s", subject(s.machine))
	p.Line("")
	s.printVerdict(p, f, v, words)
	return nil
}

// worksWhile is the state in which it works.
func (f *search) worksWhile(u int) string { return string(other(f.Was[f.Units[u].Handles[0]])) }

// verdictWords say what came of a search.
func (s *session) verdictWords(f *search, v culprit.Verdict) []string {
	var words []string
	nameOf := func(u int) string {
		var names []string
		for k, h := range f.Units[u].Handles {
			names = append(names, f.Units[u].Names[k]+" ("+h+")")
		}
		return strings.Join(names, " with ")
	}
	for _, found := range v.Found {
		words = append(words, fmt.Sprintf("Found: %s. It works while it is %s.", nameOf(found.Unit), f.worksWhile(found.Unit)))
	}
	switch {
	case v.None:
		words = append(words, "It is none of them: it is broken however they are. All are as before the search.")
	case len(v.Group) > 0:
		var names []string
		for _, u := range v.Group {
			names = append(names, nameOf(u))
		}
		words = append(words, "These could not be told apart, one of them at least is it: "+strings.Join(names, ", ")+". All of them are as before the search.")
	case len(v.Found) == 0:
		words = append(words, "Nothing is left to search among: what it may have been was removed meanwhile. All are as before the search.")
	case v.Confirmed:
		words = append(words, "All others are as before the search, and it works.")
	default:
		words = append(words, "All others are as before the search. That it works so was not confirmed.")
	}
	for _, m := range v.Mistakes {
		first := "what was said before the search"
		if m.First >= 0 {
			first = "round " + strconv.Itoa(m.First+1)
		}
		words = append(words, fmt.Sprintf("Note: %s and round %d contradict each other; the newer one was believed.", first, m.Second+1))
	}
	return words
}

// printVerdict shows what was found, and the rounds that prove it.
func (s *session) printVerdict(p view.Printer, f *search, v culprit.Verdict, words []string) {
	printLines(p, words)
	p.Line("")
	s.printRounds(p, f)
	p.Line("")
	for _, found := range v.Found {
		works, broken := "as it was before all this", "as it was when the search began"
		if found.Works >= 0 {
			works = "in round " + strconv.Itoa(found.Works+1)
		}
		if found.Broken >= 0 {
			broken = "in round " + strconv.Itoa(found.Broken+1)
		}
		p.Line("The proof for %s: it worked %s with it %s, and was broken %s with it %s as well.", f.Units[found.Unit].Names[0], works, f.worksWhile(found.Unit), broken, f.Was[f.Units[found.Unit].Handles[0]])
	}
}

// maxNamed is how many units of a round are named.
const maxNamed = 5

// suspectTitle heads what a round had in the state in which it may be broken.
func (f *search) suspectTitle() string {
	title := ""
	for _, state := range f.Was {
		if title != "" && title != string(state) {
			return "as before the search"
		}
		title = string(state)
	}
	return title
}

// printRounds lists the rounds of a search.
func (s *session) printRounds(p view.Printer, f *search) {
	columns := []view.Column{{Title: "round"}, {Title: "set up"}, {Title: "change"}, {Title: f.suspectTitle(), Share: 1}, {Title: "answer"}}
	p.Table(columns, func(yield func([]view.Cell) bool) {
		for k, r := range f.Rounds {
			name := ""
			if r.Change > 0 {
				name = "C" + strconv.Itoa(r.Change)
			}
			answer := string(r.Answer)
			if answer == "" {
				answer = "waits"
			}
			var names []string
			for k, u := range r.Suspects {
				if k == maxNamed {
					names = append(names, fmt.Sprintf("and %d more", len(r.Suspects)-k))
					break
				}
				names = append(names, f.Units[u].Names[0])
			}
			text := strings.Join(names, ", ")
			if text == "" {
				text = "none"
			}
			if !yield([]view.Cell{view.T(strconv.Itoa(k + 1)), view.T(local(r.Time)), view.T(name), view.T(text), view.T(answer)}) {
				return
			}
		}
	})
}

// stopSearch gives a search up.
func (a *app) stopSearch() error {
	s, err := a.openToWrite(true)
	if err != nil {
		return err
	}
	defer s.close()
	f, err := s.underWay()
	if err != nil {
		return err
	}
	inv := s.inventory()
	e := errand{inv: inv, verb: "Give the search up:", about: []string{"Gives the search among " + f.Of + " up: all is then as it was before it."}, message: "gives the search among " + f.Of + " up"}
	e.done = func(change.Change) error { return s.keepSearch(nil) }
	err = change.ErrNothing
	if changes := f.changes(); len(changes) > 0 {
		e.plan, err = s.engine.TakeBack(changes)
	}
	if errors.Is(err, change.ErrConflict) {
		// Something else wrote to it: the entries are brought to the states that they had.
		e.notes = append(e.notes, err.Error(), "so each entry is brought to the state that it had before the search, and what else was changed stays")
		e.plan, err = s.planStates(f, inv, f.wanted(f.all()))
	}
	switch {
	case errors.Is(err, change.ErrNothing) && s.dryRun:
		a.note("the search would end; nothing has to be changed")
		return s.printNothing(change.Plan{})
	case errors.Is(err, change.ErrNothing):
		if err := e.done(change.Change{}); err != nil {
			return err
		}
		a.note("the search is given up; nothing had to be changed")
		return s.printNothing(change.Plan{})
	case err != nil:
		return s.explain(err)
	}
	return s.carryOut(e)
}

// searchStatus says how far a search is.
func (a *app) searchStatus() error {
	s, err := a.open(store.Read)
	if err != nil {
		return err
	}
	defer s.close()
	f, err := s.underWay()
	if err != nil {
		return err
	}
	if a.format == "json" {
		return s.searchJSON(f, nil)
	}
	if a.format == "csv" {
		var rows [][]string
		for k, r := range f.Rounds {
			rows = append(rows, []string{strconv.Itoa(k + 1), r.Time.Format(time.RFC3339), strconv.Itoa(len(r.Suspects)), string(r.Answer)})
		}
		return s.printer().CSV([]string{"round", "time", "suspects", "answer"}, rows)
	}
	logic := f.logic()
	next := logic.Next()
	p := s.printer()
	p.Line("%s", heading(describe(s.machine)))
	p.Line("A search among %s of %s, begun on %s.", view.Number(len(f.Units), "entry or group", "entries or groups"), f.Of, dated(f.Begun))
	p.Line("")
	s.printRounds(p, f)
	p.Line("")
	p.Line("%s", purposes[next.Purpose])
	p.Line("Restart, try what was broken, and say lockback culprit works, broken or skip. At most about %s more; lockback culprit stop gives up.", view.Number(next.Left-1, "round", "rounds"))
	return nil
}

// searchJSON is a search, and how it ended, for scripts.
func (s *session) searchJSON(f *search, v *culprit.Verdict) error {
	type foundJSON struct {
		Handles []string `json:"handles"`
		Names   []string `json:"names"`
	}
	found, group := []foundJSON{}, []foundJSON{}
	ended := struct {
		Confirmed bool `json:"confirmed"`
		None      bool `json:"none"`
		Mistakes  int  `json:"mistakes"`
	}{}
	if v != nil {
		for _, one := range v.Found {
			found = append(found, foundJSON{f.Units[one.Unit].Handles, f.Units[one.Unit].Names})
		}
		for _, u := range v.Group {
			group = append(group, foundJSON{f.Units[u].Handles, f.Units[u].Names})
		}
		ended.Confirmed, ended.None, ended.Mistakes = v.Confirmed, v.None, len(v.Mistakes)
	}
	return s.printer().JSON(struct {
		Machine machineJSON     `json:"machine"`
		Begun   string          `json:"begun"`
		Of      string          `json:"of"`
		Ended   bool            `json:"ended"`
		Units   []culprit.Unit  `json:"units"`
		Rounds  []culprit.Round `json:"rounds"`
		Found   []foundJSON     `json:"found"`
		Group   []foundJSON     `json:"group"`
		Verdict any             `json:"verdict"`
	}{describe(s.machine), f.Begun.Format(time.RFC3339), f.Of, v != nil, f.Units, notNil(f.Rounds), found, group, ended})
}
