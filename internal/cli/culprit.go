package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/change"
	"lockback/core/culprit"
	"lockback/core/inventory"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/core/work/rounds"
	"lockback/internal/page"
)

func newCulpritCommand(a *app) *cobra.Command {
	c := &cobra.Command{
		Use:   "culprit",
		Short: "Find which of several entries broke something, by halving over restarts",
		Long: `Find which of several entries broke something. lockback puts some of them back into the
state in which things worked, you restart the computer and say whether it works: each
answer halves the suspects. Of sixteen entries it finds one in four restarts, and a fifth
confirms it.

Begin with culprit start: with a change that turned off too much, or with entries that are
on while an error appears. Then restart, try, and type culprit works or culprit broken;
culprit skip splits the suspects another way when you cannot tell. Entries that need each
other (a timer and its service, an app and its helper, cron and its lines) stay together.
Protected ones are out of it unless you add --guarded.

At the end the culprit stays in the state in which things work, all others are as before,
and you see the rounds that prove it. lockback finds a second culprit too, and notices
answers that contradict each other. You can leave the search for weeks, and go on with it
while the disk is in another machine. culprit stop gives up and puts everything back.

Without a command it says how far the search is.`,
		Example: "  lockback culprit start C1\n  lockback culprit works\n  lockback culprit stop",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return searchStatus(a) },
	}
	c.AddCommand(newCulpritStartCommand(a), newCulpritAnswerCommand(a, culprit.Works,
		"Report that it works after the restart"),
		newCulpritAnswerCommand(a, culprit.Broken, "Report that it is still broken after the restart"),
		newCulpritAnswerCommand(a, culprit.Skipped, "Try another split: it was not clear whether it works"),
		newCulpritStopCommand(a))
	return c
}

func newCulpritStartCommand(a *app) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "start [CHANGE | SELECTOR...]",
		Short: "Begin a search: with a change, or with entries",
		Long: `Begin a search and set up its first round. With a change (by default the last one that
turned something off), the suspects are its entries that are still off: turning one of them
off broke something. With a selector, they are the entries that are on: one of them breaks
something while it starts.`,
		Example: "  lockback culprit start\n  lockback culprit start C3\n  lockback culprit start stage=sign-in for=ines",
		RunE:    func(_ *cobra.Command, args []string) error { return startSearch(a, args, all) },
	}
	a.writeFlags(c)
	c.Flags().BoolVar(&all, "all", false, "choose among parts of the operating system too")
	c.Flags().BoolVar(&a.guarded, "guarded", false, "search among protected entries too, and among those that need "+
		"a second thought")
	return c
}

func newCulpritAnswerCommand(a *app, answer culprit.Answer, short string) *cobra.Command {
	var anyway bool
	c := &cobra.Command{
		Use:     string(answer),
		Short:   short,
		Example: "  lockback culprit " + string(answer),
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return answerSearch(a, answer, anyway) },
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
		c.Flags().BoolVar(&anyway, "anyway", false, "it was tried, whatever the logs say about restarts")
	}
	a.writeFlags(c)
	return c
}

func newCulpritStopCommand(a *app) *cobra.Command {
	c := &cobra.Command{
		Use:     "stop",
		Short:   "Give up the search, and put everything back as it was before",
		Long:    `Give up the search. Everything its rounds changed is put back, to the byte.`,
		Example: "  lockback culprit stop",
		Args:    cobra.NoArgs,
		RunE:    func(*cobra.Command, []string) error { return stopSearch(a) },
	}
	a.writeFlags(c)
	return c
}

// startSearch begins a search.
func startSearch(a *app, args []string, all bool) error {
	s, err := a.openToChange(rounds.OfChange(args))
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	b, err := rounds.Begin(s.Session, inv, args, work.Scope{All: all}, a.guarded)
	notes := page.SearchNotes(b.LeftOut, b.Spared)
	if err != nil {
		a.notes(notes)
		return err
	}
	st, err := rounds.Next(s.Session, b.Search, inv)
	return s.carryOutRound(b.Search, inv, st, notes, err)
}

// answerSearch goes on with an answer.
func answerSearch(a *app, answer culprit.Answer, anyway bool) error {
	s, err := a.openToChange(true)
	if err != nil {
		return err
	}
	defer s.Close()
	f, err := rounds.UnderWay(s.Session)
	if err != nil {
		return err
	}
	inv := s.Inventory()
	st, again, err := rounds.Answer(s.Session, f, inv, answer, anyway)
	if len(again) == 0 {
		return s.carryOutRound(f, inv, st, page.GoneNotes(f), err)
	}
	a.note("round %d is set up again: %s", st.Number, strings.Join(again, ", "))
	if err != nil {
		return s.explain(err)
	}
	return s.carryOut(task{plan: st.Plan, inv: inv, verb: fmt.Sprintf("Set up round %d again:", st.Number),
		message: fmt.Sprintf("round %d again, among %s", st.Number, f.Of), notes: page.GoneNotes(f), done: st.Done,
		then: []string{s.restartNow()}})
}

// carryOutRound sets up a round, or ends the search.
func (s *session) carryOutRound(f *rounds.Search, inv inventory.Inventory, st rounds.Step, notes []string,
	err error) error {
	if err != nil {
		return s.explain(err)
	}
	t := task{plan: st.Plan, inv: inv, notes: notes, done: st.Done}
	if st.Verdict != nil {
		words := page.VerdictWords(f, *st.Verdict)
		t.verb, t.about, t.message = "End the search:", words, "the end of the search among "+f.Of
		t.report = func(w page.Writer) { w.Verdict(f, *st.Verdict, words) }
		t.asJSON = func() error { return s.page().SearchJSON(s.Machine, f, st.Verdict) }
	} else {
		t.verb, t.about = fmt.Sprintf("Set up round %d:", st.Number), page.RoundWords(st, f)
		t.message = fmt.Sprintf("round %d of about %d, among %s", st.Number, st.Of, f.Of)
		t.then = []string{strings.Join(t.about, " "), s.restartNow()}
	}
	if st.Nothing {
		return s.nothingToSetUp(t)
	}
	err = s.carryOut(t)
	if st.Verdict == nil && errors.Is(err, change.ErrOtherwise) && len(f.Rounds) > 0 {
		err = fmt.Errorf(
			"%w; these can only be switched together here: lockback culprit skip splits them another way, "+
				"lockback culprit stop gives up", err)
	}
	return err
}

// restartNow says how a round is tried.
func (s *session) restartNow() string {
	how := "Restart this computer"
	if !s.Machine.Live {
		how = "Start the computer from this disk"
	}
	return how + ", and try what was broken. Then say lockback culprit works, or lockback culprit broken."
}

// nothingToSetUp is a round, or the end of a search, for which everything is as it should be already.
func (s *session) nothingToSetUp(t task) error {
	w := s.page()
	if s.dryRun {
		s.notes(t.notes)
		if t.report != nil && s.format == "table" {
			t.report(w)
			return nil
		}
		if t.report == nil {
			s.note("%s nothing has to be changed for this round", strings.Join(t.about, " "))
		}
		return s.printNothing(change.Plan{})
	}
	if err := t.done(change.Change{}); err != nil {
		return err
	}
	s.notes(t.notes)
	switch {
	case t.asJSON != nil && s.format == "json":
		return t.asJSON()
	case t.report != nil:
		w.Line("%s", page.Subject(s.Machine))
		w.Line("")
		t.report(w)
		return nil
	case s.format != "table":
		return s.printNothing(change.Plan{})
	}
	w.Line("%s", page.Subject(s.Machine))
	w.Lines(append(t.then, "Nothing had to be changed for it."))
	return nil
}

// stopSearch gives a search up.
func stopSearch(a *app) error {
	s, err := a.openToChange(true)
	if err != nil {
		return err
	}
	defer s.Close()
	f, err := rounds.UnderWay(s.Session)
	if err != nil {
		return err
	}
	inv := s.Inventory()
	st, torn, err := rounds.Stop(s.Session, f, inv)
	if err != nil {
		return s.explain(err)
	}
	t := task{plan: st.Plan, inv: inv, verb: "Give up the search:", done: st.Done,
		about:   []string{"Gives the search among " + f.Of + " up and puts everything back as it was before."},
		message: "gives the search among " + f.Of + " up"}
	if torn != nil {
		t.notes = []string{torn.Error(), "so each entry is brought to the state that it had before the search, and " +
			"what else was changed stays"}
	}
	switch {
	case st.Nothing && s.dryRun:
		a.note("the search would end; nothing has to be changed")
		return s.printNothing(change.Plan{})
	case st.Nothing:
		if err := t.done(change.Change{}); err != nil {
			return err
		}
		a.note("the search is over; nothing had to be changed")
		return s.printNothing(change.Plan{})
	}
	return s.carryOut(t)
}

// searchStatus says how far a search is.
func searchStatus(a *app) error {
	s, err := a.open(store.Read)
	if err != nil {
		return err
	}
	defer s.Close()
	f, err := rounds.UnderWay(s.Session)
	if err != nil {
		return err
	}
	return a.page().SearchStatus(s.Machine, f)
}
