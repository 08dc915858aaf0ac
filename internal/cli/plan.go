package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"slices"
	"syscall"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/machine/files"
	"lockback/core/work"
	"lockback/core/work/outcome"
	"lockback/internal/page"
)

// A plan is shown, asked about, carried out and reported in the same words, whichever command made it.

// task is a plan with its words for people.
type task struct {
	plan    change.Plan
	inv     inventory.Inventory
	verb    string   // "Disable", "Restore"
	about   []string // what it goes back to
	message string   // for the history
	notes   []string // what of the selection is left as it is
	// done runs after the change is made, before anything is printed; then is printed last. report and asJSON replace
	// the usual report. All may be nil.
	done   func(change.Change) error
	then   []string
	report func(page.Writer)
	asJSON func() error
}

// carryOut shows a plan, asks, applies it and prints the outcome.
func (s *session) carryOut(t task) error {
	// The machine comes first, so what is left out stands behind the plan.
	t.notes = append(t.notes, page.LeftOutNotes(t.plan)...)
	if s.dryRun {
		if err := s.printDryRun(t); err != nil {
			return err
		}
		s.notes(t.notes)
		return s.incomplete(t.plan)
	}
	if !s.yes {
		// It does not ask about what cannot be done. Apply checks once more.
		if err := s.Engine.Check(t.plan); err != nil {
			return s.explain(err)
		}
		if err := s.ask(t); err != nil {
			return err
		}
	}
	// From here on the first inventory is not used: a large machine's takes much memory, and a
	// second one is read.
	was, running, plan, inv := outcome.StatesOf(t.inv), page.StillRunning(t.plan, t.inv), t.plan, t.inv
	plan.Forget()
	t.inv, t.plan = inventory.Inventory{}, change.Plan{}
	result, err := s.apply(plan, inv, t.message)
	if err != nil {
		return s.explain(err)
	}
	s.stopMeans(fmt.Sprintf("%s is done; the report was cut short", result.Change.Name()))
	if t.done != nil {
		if err := t.done(result.Change); err != nil {
			return fmt.Errorf("%s is done, but its reason could not be recorded: %w", result.Change.Name(), err)
		}
	}
	if result.After == nil {
		read := inventory.Take(s.Machine, s.Memory)
		result.After = &read
	}
	after := s.WithTaken(*result.After) // what the change took away is off, not gone
	if err := s.Record.SawNow(s.Machine.ID, time.Now(), work.Sightings(after)); err != nil {
		s.note("note: what the record says to other machines of this one is out of date: %v", err)
	}
	if s.format == "json" && t.asJSON != nil {
		err = t.asJSON()
	} else {
		err = s.printChange(plan, was, after, result, running)
	}
	if err != nil {
		return err
	}
	if w := s.page(); s.format == "table" {
		if len(t.then) > 0 || t.report != nil {
			w.Line("")
		}
		w.Lines(t.then)
		if t.report != nil {
			t.report(w)
		}
	}
	if s.yes { // else they stood above the question
		s.notes(t.notes)
	}
	return s.incomplete(plan)
}

// apply makes a change. Whoever presses Ctrl-C, or closes the window, wants it as it was: then it is taken back.
func (s *session) apply(plan change.Plan, inv inventory.Inventory, message string) (change.Result, error) {
	s.progress(len(plan.Steps))
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	s.Engine.Context = ctx
	s.stopMeans("")
	if s.Engine.At == nil {
		defer s.busy("changing, and reading it back")()
	}
	return s.Engine.Apply(plan, inv, message)
}

// printDryRun prints what a plan would do.
func (s *session) printDryRun(t task) error {
	w, all := s.page(), outcome.Planned(t.plan, t.inv)
	switch s.format {
	case "json":
		return w.ChangeJSON(s.Machine, "", "", t.plan.Steps, all, page.Warnings(t.plan, nil))
	case "csv":
		w.Notes(page.Noted(t.plan.Warnings))
		return w.StepsCSV(t.plan.Steps)
	}
	s.printAbout(w, t)
	w.Outcomes(all, "will be")
	w.Line("")
	w.Steps(t.plan.Steps, page.NamesIn(all))
	w.Line("")
	w.Line("%s for %s; nothing was changed", autostart.Count(len(t.plan.Steps), "step", "steps"),
		autostart.Count(len(t.plan.Handles), "entry", "entries"))
	w.Lines(append(page.StillRunning(t.plan, t.inv), page.Noted(t.plan.Warnings)...))
	return nil
}

// printAbout heads what is said about a plan: the machine, and what it goes back to.
func (s *session) printAbout(w page.Writer, t task) {
	w.Line("%s", page.Subject(s.Machine))
	w.Lines(t.about)
	w.Line("")
}

// ask shows a plan to the person and asks whether to go on.
func (s *session) ask(t task) error {
	w := s.errorPage()
	all := outcome.Planned(t.plan, t.inv)
	s.printAbout(w, t)
	w.Outcomes(all, "will be")
	if lines := slices.Concat(t.notes, page.StillRunning(t.plan, t.inv), page.Noted(t.plan.Warnings)); len(lines) > 0 {
		w.Line("")
		w.Lines(lines)
	}
	question := fmt.Sprintf("%s %s, in %s, on %s?", t.verb, autostart.Count(len(all), "entry", "entries"),
		autostart.Count(len(t.plan.Steps), "step", "steps"), cmp.Or(page.MachineOf(s.Machine).Name, "this machine"))
	w.Line("")
	// Somebody may be long about the answer: others write meanwhile. Apply finds what they did to this machine.
	if err := s.Record.Release(); err != nil {
		return err
	}
	var err error
	if large := outcome.LargeOf(t.plan, all, t.inv); !large.None() {
		w.Line("Look again: %s", page.LargeWords(large, t.plan.For))
		err = s.confirmNumber(question, len(all))
	} else {
		err = s.confirm(question)
	}
	if err != nil {
		return err
	}
	return s.HoldSettled()
}

// incomplete ends a run whose plan left something out: not everything was done.
func (s *session) incomplete(plan change.Plan) error {
	if len(plan.LeftOut) == 0 {
		return nil
	}
	s.note("not everything was done: %s left out, see above", autostart.Count(len(plan.LeftOut), "thing was",
		"things were"))
	return exitError(exitFailed)
}

// progress shows on a terminal how far a long change is.
func (s *session) progress(steps int) {
	if s.At != nil || !s.Progress || steps < 20 || s.quiet {
		return
	}
	s.Engine.At = func(point string) { fmt.Fprintf(s.Err, "\r%-40s\r", point) }
}

// explain ends an error of a change with what to do.
func (s *session) explain(err error) error {
	var denied *change.Denied
	switch {
	case errors.As(err, &denied) && errors.Is(denied.Cause, files.ErrNeedsRights):
		todo := "run as root"
		switch {
		case runtime.GOOS == "windows":
			todo = "run from an elevated prompt"
		case s.Machine.Live:
			todo = "run with sudo"
		}
		return fmt.Errorf("nothing was changed: writing %s %w; %s", names(denied), denied.Cause, todo)
	case errors.As(err, &denied) && errors.Is(denied.Cause, files.ErrReadOnly):
		return fmt.Errorf("nothing was changed: cannot write %s: %w; mount the disk for writing and try again",
			names(denied), denied.Cause)
	case errors.As(err, &denied):
		return fmt.Errorf("nothing was changed: cannot write %s: %w", names(denied), denied.Cause)
	case errors.Is(err, change.ErrInterrupted):
		return fmt.Errorf("%w; run lockback recover", err)
	case errors.Is(err, files.ErrRanOut):
		return fmt.Errorf("nothing was changed: %w", err)
	}
	return work.Advise(err)
}

func names(d *change.Denied) string {
	text := autostart.Text(d.Artifacts[0].Name)
	if more := len(d.Artifacts) - 1; more > 0 {
		text += fmt.Sprintf(" (and %d more)", more)
	}
	return text
}

// printNothing ends a command that found nothing to do.
func (s *session) printNothing(plan change.Plan) error {
	w := s.page()
	w.Notes(page.LeftOutNotes(plan))
	if s.format == "json" {
		if err := w.ChangeJSON(s.Machine, "", "", nil, nil, page.Warnings(plan, nil)); err != nil {
			return err
		}
		return s.incomplete(plan)
	}
	w.Notes(page.Noted(plan.Warnings))
	if s.format == "csv" {
		if err := w.StepsCSV(nil); err != nil {
			return err
		}
	}
	return s.incomplete(plan)
}

// printChange reports the outcome of a change. The states are those of before, the inventory is that of
// after.
func (s *session) printChange(plan change.Plan, was outcome.States, after inventory.Inventory, result change.Result,
	running []string) error {
	w, name := s.page(), result.Change.Name()
	warnings := page.Noted(slices.Concat(plan.Warnings, result.Warnings))
	if s.format == "csv" {
		w.Notes(warnings)
		return w.StepsCSV(result.Change.Steps)
	}
	all := outcome.Became(plan, was, outcome.StatesOf(after))
	if s.format == "json" {
		return w.ChangeJSON(s.Machine, name, result.Snapshot.Name(), result.Change.Steps, all,
			page.Warnings(plan, result.Warnings))
	}
	w.Line("%s", page.Subject(s.Machine))
	w.Line("")
	w.Outcomes(all, "is now")
	w.Line("")
	undo := "undo"
	switch plan.Kind {
	case change.Undo:
		undo += " " + name // undo alone takes back what is no undo itself
	case change.Culprit:
		if state, _ := s.Record.Search(s.Machine.ID); state != "" {
			undo = "culprit stop" // all of its rounds together
		}
	}
	w.Line("%s done: %s changed in %s. lockback "+undo+" takes it back; %s has the state before", name,
		autostart.Count(len(plan.Handles), "entry", "entries"), autostart.Count(len(plan.Steps), "step", "steps"),
		result.Snapshot.Name())
	if result.Change.OnTrial() {
		w.Line("It is on trial: after the restart, lockback check says what to look at, and lockback keep %s ends it.",
			name)
	}
	if plan.Takes() {
		where := "What was removed is kept in the record only, " + s.Record.Path + ": keep that file."
		if !s.Machine.Live && s.store != work.OnDisk {
			where += " lockback record carry copies it onto the disk."
		}
		w.Line("%s", w.Hinted(where))
	}
	w.Lines(running)
	w.Lines(warnings)
	return nil
}
