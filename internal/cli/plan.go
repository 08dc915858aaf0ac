package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/difference"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/internal/view"
)

// A plan is shown, asked about, carried out and told of in the same words, whichever command
// made it.

// stepJSON is one step for one entry.
type stepJSON struct {
	Handle   string `json:"handle"`
	Artifact string `json:"artifact"`
	What     string `json:"what"`
	Before   string `json:"before"`
	After    string `json:"after"`
}

// stepsOf words steps. One that serves several entries stands once for each.
func stepsOf(steps []change.Step) []stepJSON {
	list := []stepJSON{}
	for _, s := range steps {
		handles := s.Handles
		if len(handles) == 0 {
			handles = []string{""}
		}
		what := inWords(s)
		for _, h := range handles {
			list = append(list, stepJSON{h, autostart.Text(s.Artifact.Name), what, autostart.Text(s.Before.String()), autostart.Text(s.After.String())})
		}
	}
	return list
}

func inWords(s change.Step) string {
	return autostart.Text(strings.Join(difference.Words(s.Artifact, s.Before, s.After), "; "))
}

// printSteps lists what the steps change, in words; with --verbose with each artifact's images.
func (a *app) printSteps(p view.Printer, steps []change.Step, nameOf func(handle string) string) {
	if p.Width > 0 {
		for _, s := range steps {
			lines := [][]string{append([]string{inWords(s)}, forEntries(s.Handles, nameOf)...)}
			if a.verbose {
				lines = append(lines, []string{"before: " + autostart.Text(s.Before.String())}, []string{"after:  " + autostart.Text(s.After.String())})
			}
			p.Block(whereIs(s.Artifact), lines)
		}
		return
	}
	columns := []view.Column{{Title: "where"}, {Title: "what changes"}, {Title: "for"}}
	if a.verbose {
		columns = append(columns, view.Column{Title: "before"}, view.Column{Title: "after"})
	}
	p.Table(columns, func(yield func([]view.Cell) bool) {
		for _, s := range steps {
			row := []view.Cell{view.T(whereIs(s.Artifact)), view.T(inWords(s)), {Lines: forEntries(s.Handles, nameOf)}}
			if a.verbose {
				row = append(row, view.T(autostart.Text(s.Before.String())), view.T(autostart.Text(s.After.String())))
			}
			if !yield(row) {
				return
			}
		}
	})
}

// whereIs names an artifact for a person.
func whereIs(a machine.Artifact) string {
	if a.Kind == machine.ValueArtifact {
		key, _ := a.Value()
		return autostart.Text(key)
	}
	return autostart.Text(a.Name)
}

// maxFor is how many entries of one step are named.
const maxFor = 3

func forEntries(handles []string, nameOf func(string) string) []string {
	var lines []string
	for k, h := range handles {
		if k == maxFor {
			return append(lines, fmt.Sprintf("and %d more", len(handles)-maxFor))
		}
		lines = append(lines, "("+strings.TrimSpace(h+" "+nameOf(h))+")")
	}
	return lines
}

func (a *app) stepsCSV(steps []change.Step) error {
	var rows [][]string
	for _, s := range stepsOf(steps) {
		rows = append(rows, []string{s.Handle, s.Artifact, s.What, s.Before, s.After})
	}
	return a.printer().CSV([]string{"handle", "artifact", "what", "before", "after"}, rows)
}

// outcome is an entry as it was, and as it will be or is now.
type outcome struct {
	Handle      string `json:"handle"`
	Name        string `json:"name"`
	Was         string `json:"was"`
	WillBe      string `json:"will_be"`
	TakesEffect string `json:"takes_effect"`
	whom        string
}

// absent is what is told of an entry that is not there.
const absent = "absent"

// planned tells what a plan makes of each of its entries.
func planned(plan change.Plan, inv inventory.Inventory) []outcome {
	known := inv.ByHandle()
	all := make([]outcome, 0, len(plan.Handles))
	for _, h := range plan.Handles {
		o, will := outcome{Handle: h, Was: absent, WillBe: absent}, plan.Expect(h)
		if item := known[h]; item != nil {
			o.Name, o.whom, o.Was, o.TakesEffect = item.Name, view.Whose(&item.Entry), string(item.State), view.Effect(item.Effect)
		} else if will.Entry != nil {
			o.Name, o.whom, o.TakesEffect = will.Entry.Name, view.Whose(will.Entry), view.Effect(inv.Effect(will.Entry.Location))
		}
		switch {
		case will.Removed:
			o.WillBe = string(change.Removed)
		case will.State != "":
			o.WillBe = string(will.State)
		}
		if plan.For != "" {
			o.whom = autostart.Text(plan.For) + " only"
		}
		all = append(all, o)
	}
	return append(replaced(all, plan, inv), all...)
}

// replaced finds the entries that are gone with the artifacts that a plan takes away, besides its
// own: a user's override of what is for everyone.
func replaced(all []outcome, plan change.Plan, inv inventory.Inventory) []outcome {
	if slices.Contains([]change.Kind{change.Disable, change.Enable, change.Review, change.Culprit, change.Remove}, plan.Kind) {
		return nil
	}
	gone := map[machine.Artifact]bool{}
	for _, s := range plan.Steps {
		gone[s.Artifact] = s.After.Kind == machine.Absent
	}
	listed, kept := map[string]bool{}, map[string]bool{}
	for _, o := range all {
		listed[o.Handle] = true
		if o.Was == o.WillBe {
			kept[o.Name] = true
		}
	}
	var more []outcome
	for _, item := range inv.Items {
		if item.User == "" || !kept[item.Name] || listed[item.Handle] {
			continue
		}
		if slices.ContainsFunc(item.Artifacts(), func(a machine.Artifact) bool { return gone[a] }) {
			more = append(more, outcome{Handle: item.Handle, Name: item.Name, whom: view.Whose(&item.Entry), Was: string(item.State), WillBe: absent, TakesEffect: view.Effect(item.Effect)})
		}
	}
	return more
}

// printOutcomes lists entries as they were and as they will be, or are now, below when it counts.
func printOutcomes(p view.Printer, list []outcome, will string) {
	var effects []string
	for _, o := range list {
		if !slices.Contains(effects, o.TakesEffect) {
			effects = append(effects, o.TakesEffect)
		}
	}
	var sections []view.Section
	for _, effect := range effects {
		title := ""
		if effect != "" {
			title = "What counts " + effect + ":"
		}
		sections = append(sections, view.Section{Title: title, Rows: func(yield func([]view.Cell) bool) {
			for _, o := range list {
				if o.TakesEffect != effect {
					continue
				}
				is := o.WillBe
				switch {
				case o.WillBe == string(change.Removed):
					is = autostart.KeptInRecord
				case o.Was == o.WillBe:
					is += ", otherwise changed"
				}
				if !yield([]view.Cell{view.T(o.Handle), view.T(o.Name), view.T(o.whom), view.T(o.Was), view.T(is)}) {
					return
				}
			}
		}})
	}
	p.Sections([]view.Column{{Title: "handle"}, {Title: "name", Share: 3}, {Title: "for"}, {Title: "was"}, {Title: will, Share: 1}}, sections)
}

// nameIn tells the names of entries, by handle.
func nameIn(list []outcome) func(string) string {
	names := make(map[string]string, len(list))
	for _, o := range list {
		names[o.Handle] = o.Name
	}
	return func(h string) string { return names[h] }
}

// errand is a plan with what people are told about it.
type errand struct {
	plan    change.Plan
	inv     inventory.Inventory
	verb    string   // "Disable", "Restore"
	about   []string // what it goes back to
	message string   // for the history
	notes   []string // what of the selection is left as it is
	// done is called when the change is made, before it is told of; then are lines that people are told after it; and
	// tell and asJSON tell of it instead of the usual words. All may be nil.
	done   func(change.Change) error
	then   []string
	tell   func(view.Printer)
	asJSON func() error
}

// carryOut shows a plan, asks, applies it and prints what came of it.
func (s *session) carryOut(e errand) error {
	// The machine comes first, so what is left out is told after the plan.
	e.notes = append(e.notes, leftOutNotes(e.plan)...)
	if s.dryRun {
		if err := s.printDryRun(e); err != nil {
			return err
		}
		s.notes(e.notes)
		return s.incomplete(e.plan)
	}
	if !s.yes {
		// Nobody is asked about what cannot be done. Apply checks once more.
		if err := s.engine.Check(e.plan); err != nil {
			return s.explain(err)
		}
		if err := s.ask(e); err != nil {
			return err
		}
	}
	s.progress(len(e.plan.Steps))
	// Who presses Ctrl-C, or closes the window, wants it as it was: the change is taken back.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	s.engine.Context = ctx
	s.stopMeans("")
	// From here on the first inventory is not used: a large machine's takes much memory, and a
	// second one is read.
	was, running, plan := statesOf(e.inv), s.stillRunning(e), e.plan
	plan.Forget()
	inv := e.inv
	e.inv, e.plan = inventory.Inventory{}, change.Plan{}
	done := func() {}
	if s.engine.At == nil {
		done = s.busy("changing, and reading it back")
	}
	result, err := s.engine.Apply(plan, inv, e.message)
	done()
	if err != nil {
		return s.explain(err)
	}
	s.stopMeans(fmt.Sprintf("%s is done, and was not told of to the end", result.Change.Name()))
	if e.done != nil {
		if err := e.done(result.Change); err != nil {
			return fmt.Errorf("%s is done, but what it was for could not be recorded: %w", result.Change.Name(), err)
		}
	}
	if result.After == nil {
		read := inventory.Take(s.machine, s.memory)
		result.After = &read
	}
	after := s.withTaken(*result.After, s.store) // what the change took away is off, not gone
	if err := s.store.SawNow(s.machine.ID, time.Now(), sightings(after)); err != nil {
		s.note("note: what the record says to other machines of this one is out of date: %v", err)
	}
	if s.format == "json" && e.asJSON != nil {
		err = e.asJSON()
	} else {
		err = s.printChange(plan, was, after, result, running)
	}
	if err != nil {
		return err
	}
	if p := s.printer(); s.format == "table" {
		if len(e.then) > 0 || e.tell != nil {
			p.Line("")
		}
		printLines(p, e.then)
		if e.tell != nil {
			e.tell(p)
		}
	}
	if s.yes { // else they stood above the question
		s.notes(e.notes)
	}
	return s.incomplete(plan)
}

// printDryRun prints what a plan would do.
func (s *session) printDryRun(e errand) error {
	list := planned(e.plan, e.inv)
	switch s.format {
	case "json":
		return s.changeAsJSON("", "", e.plan.Steps, list, s.allWarnings(e.plan, nil))
	case "csv":
		for _, w := range e.plan.Warnings {
			s.note("note: %s", w)
		}
		return s.stepsCSV(e.plan.Steps)
	}
	p := s.printer()
	s.printAbout(p, e)
	printOutcomes(p, list, "will be")
	p.Line("")
	s.printSteps(p, e.plan.Steps, nameIn(list))
	p.Line("")
	p.Line("%s for %s; nothing was changed", view.Number(len(e.plan.Steps), "step", "steps"), view.Number(len(e.plan.Handles), "entry", "entries"))
	printLines(p, append(s.stillRunning(e), noted(e.plan.Warnings)...))
	return nil
}

// printAbout heads what is said of a plan: the machine, and what it goes back to.
func (s *session) printAbout(p view.Printer, e errand) {
	p.Line("%s", subject(s.machine))
	for _, line := range e.about {
		p.Line("%s", line)
	}
	p.Line("")
}

func noted(warnings []string) []string {
	lines := make([]string, len(warnings))
	for k, w := range warnings {
		lines[k] = "note: " + w
	}
	return lines
}

func printLines(p view.Printer, lines []string) {
	for _, l := range lines {
		p.Line("%s", l)
	}
}

// ask shows a plan to the person and asks whether to go on.
func (s *session) ask(e errand) error {
	p := s.printer()
	p.Out = s.Err
	list := planned(e.plan, e.inv)
	s.printAbout(p, e)
	printOutcomes(p, list, "will be")
	if lines := slices.Concat(e.notes, s.stillRunning(e), noted(e.plan.Warnings)); len(lines) > 0 {
		p.Line("")
		printLines(p, lines)
	}
	question := fmt.Sprintf("%s %s, in %s, on %s?", e.verb, view.Number(len(list), "entry", "entries"), view.Number(len(e.plan.Steps), "step", "steps"), cmp.Or(describe(s.machine).Name, "this machine"))
	p.Line("")
	large := large(e.plan, list, e.inv)
	if large != "" {
		p.Line("Look again: %s", large)
		return s.confirmNumber(question, len(list))
	}
	return s.confirm(question)
}

// large words what is large about a change: protected entries, the system's own parts, or more
// than half of what starts would no longer start. It is empty where nothing is.
func large(plan change.Plan, list []outcome, inv inventory.Inventory) string {
	known := inv.ByHandle()
	going, guarded, parts, starting := 0, 0, 0, 0
	for _, item := range inv.Items {
		concerned := plan.For == "" || item.User == plan.For || item.ForEveryone()
		if item.State == autostart.Enabled && !item.OSPart && concerned {
			starting++
		}
	}
	visible := 0
	for _, o := range list {
		item := known[o.Handle]
		if item == nil || o.Was != string(autostart.Enabled) || o.WillBe == string(autostart.Enabled) {
			continue
		}
		going++
		if item.Guarded != "" {
			guarded++
		}
		if item.OSPart {
			parts++
		} else {
			visible++
		}
	}
	var why []string
	if guarded > 0 {
		why = append(why, fmt.Sprintf("%d of them %s protected", guarded, isAre(guarded)))
	}
	if parts > 0 {
		why = append(why, fmt.Sprintf("%d of them %s of the operating system", parts, isParts(parts)))
	}
	if 2*visible > starting {
		whom := ""
		if plan.For != "" {
			whom = " for " + autostart.Text(plan.For)
		}
		why = append(why, fmt.Sprintf("%d of the %d entries that start%s would no longer start", visible, starting, whom))
	}
	if going == 0 {
		return ""
	}
	return strings.Join(why, "; ")
}

func isParts(n int) string {
	if n == 1 {
		return "is a part"
	}
	return "are parts"
}

// plainWord is a word that no shell reads as anything else: what a program calls itself is not
// put into a command that somebody copies.
var plainWord = regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`)

// maxStops is how many commands are named that end what runs now.
const maxStops = 5

// stillRunning says that what runs now goes on until the change counts, and how to end it, where
// the machine runs and the system has a way.
func (s *session) stillRunning(e errand) []string {
	if !s.machine.Live {
		return nil
	}
	known := e.inv.ByHandle()
	var stops []string
	running := 0
	for _, h := range e.plan.Handles {
		item := known[h]
		if item == nil || item.State != autostart.Enabled || e.plan.Expect(h).State == autostart.Enabled || item.Effect == location.AtNextUse {
			continue
		}
		running++
		if item.Can.Stop != nil {
			words := item.Can.Stop.Stop()
			if !slices.ContainsFunc(words, func(w string) bool { return !plainWord.MatchString(w) }) {
				stops = append(stops, strings.Join(words, " "))
			}
		}
	}
	if running == 0 {
		return nil
	}
	lines := []string{"What runs now keeps running until then."}
	for k, stop := range stops {
		if k == maxStops {
			return append(lines, fmt.Sprintf("  and %d more", len(stops)-k))
		}
		if k == 0 {
			lines[0] += " To end it now:"
		}
		lines = append(lines, "  "+stop)
	}
	return lines
}

// leftOutNotes name what a plan leaves out because it cannot be read or written.
func leftOutNotes(plan change.Plan) []string {
	var notes []string
	for _, l := range plan.LeftOut {
		notes = append(notes, "left out: "+strings.TrimSpace(fmt.Sprintf("%s  %s: %v", l.Handle, l.Name, l.Err)))
	}
	return notes
}

// incomplete ends a run whose plan left something out: not everything was done.
func (s *session) incomplete(plan change.Plan) error {
	if len(plan.LeftOut) == 0 {
		return nil
	}
	s.note("not everything was done: %s left out, see above", view.Number(len(plan.LeftOut), "thing was", "things were"))
	return exitError(exitFailed)
}

// progress shows on a terminal how far a long change is.
func (s *session) progress(steps int) {
	if s.At != nil || !s.Told || steps < 20 || s.quiet {
		return
	}
	s.engine.At = func(point string) { fmt.Fprintf(s.Err, "\r%-40s\r", point) }
}

// explain ends an error of a change with what to do.
func (s *session) explain(err error) error {
	var denied *change.Denied
	switch {
	case errors.As(err, &denied) && errors.Is(denied.Cause, machine.ErrNeedsRights):
		todo := "run as root"
		switch {
		case runtime.GOOS == "windows":
			todo = "run from an elevated prompt"
		case s.machine.Live:
			todo = "run with sudo"
		}
		return fmt.Errorf("nothing was changed: writing %s %w; %s", names(denied), denied.Cause, todo)
	case errors.As(err, &denied) && errors.Is(denied.Cause, machine.ErrReadOnly):
		return fmt.Errorf("nothing was changed: cannot write %s: %w; mount the disk for writing and try again", names(denied), denied.Cause)
	case errors.As(err, &denied):
		return fmt.Errorf("nothing was changed: cannot write %s: %w", names(denied), denied.Cause)
	case errors.Is(err, change.ErrInterrupted):
		return fmt.Errorf("%w; run lockback recover", err)
	case errors.Is(err, machine.ErrRanOut):
		return fmt.Errorf("nothing was changed: %w", err)
	}
	return adviseStore(err)
}

func names(d *change.Denied) string {
	text := autostart.Text(d.Artifacts[0].Name)
	if more := len(d.Artifacts) - 1; more > 0 {
		text += fmt.Sprintf(" (and %d more)", more)
	}
	return text
}

// stateOf is what is told of an entry that a change touched. Of what many entries have in common it
// has the numbers of words, for a machine can have a hundred thousand.
type stateOf struct {
	name                string
	whom, state, effect uint32
}

// states are those of all entries, by handle.
type states struct {
	of    map[string]stateOf
	words *words
}

// words are texts with numbers.
type words struct {
	texts   []string
	numbers map[string]uint32
}

func (w *words) number(text string) uint32 {
	n, known := w.numbers[text]
	if !known {
		n = uint32(len(w.texts))
		w.texts, w.numbers[text] = append(w.texts, text), n
	}
	return n
}

// statesOf are the states of all entries.
func statesOf(inv inventory.Inventory) states {
	s := states{make(map[string]stateOf, len(inv.Items)), &words{numbers: map[string]uint32{}}}
	for _, item := range inv.Items {
		if _, known := s.of[item.Handle]; !known {
			s.of[item.Handle] = stateOf{item.Name, s.words.number(view.Whose(&item.Entry)), s.words.number(string(item.State)), s.words.number(view.Effect(item.Effect))}
		}
	}
	return s
}

// get is what is told of an entry.
func (s states) get(handle string) (o outcome, state string, ok bool) {
	of, ok := s.of[handle]
	if !ok {
		return outcome{}, absent, false
	}
	return outcome{Name: of.name, whom: s.words.texts[of.whom], TakesEffect: s.words.texts[of.effect]}, s.words.texts[of.state], true
}

// became lists the entries that a change touched, as they were and as they are now.
func became(plan change.Plan, before, after states) []outcome {
	// An entry of its own can be added or removed with a change: a user's override of what is for
	// everyone.
	handles := slices.Clone(plan.Handles)
	for _, side := range [2][2]states{{after, before}, {before, after}} {
		var only []string
		for h := range side[0].of {
			if _, both := side[1].of[h]; !both {
				only = append(only, h)
			}
		}
		slices.Sort(only)
		handles = append(handles, only...)
	}
	seen := make(map[string]bool, len(handles))
	list := make([]outcome, 0, len(handles))
	for _, h := range handles {
		was, wasState, had := before.get(h)
		is, isState, has := after.get(h)
		if seen[h] || !had && !has || plan.For != "" && had && has && wasState == isState {
			continue // of what is for everyone, one user's own override tells
		}
		seen[h] = true
		if plan.Kind == change.Remove && had && isState == string(autostart.Disabled) {
			isState = string(change.Removed)
		}
		list = append(list, outcome{Handle: h, Name: cmp.Or(is.Name, was.Name), whom: cmp.Or(is.whom, was.whom), Was: wasState, WillBe: isState, TakesEffect: cmp.Or(was.TakesEffect, is.TakesEffect)})
	}
	return list
}

// allWarnings are those of a plan and of what came of it, for a script.
func (s *session) allWarnings(plan change.Plan, more []string) []string {
	return notNil(slices.Concat(plan.Warnings, more, leftOutNotes(plan)))
}

func (s *session) changeAsJSON(changeID, snapID string, steps []change.Step, entries []outcome, warnings []string) error {
	return s.printer().JSON(struct {
		Machine  machineJSON `json:"machine"`
		Change   string      `json:"change"`
		Snapshot string      `json:"snapshot"`
		Steps    []stepJSON  `json:"steps"`
		Entries  []outcome   `json:"entries"`
		Warnings []string    `json:"warnings"`
	}{describe(s.machine), changeID, snapID, stepsOf(steps), notNil(entries), warnings})
}

// printNothing ends a command that found nothing to do.
func (s *session) printNothing(plan change.Plan) error {
	s.notes(leftOutNotes(plan))
	if s.format == "json" {
		if err := s.changeAsJSON("", "", nil, nil, s.allWarnings(plan, nil)); err != nil {
			return err
		}
		return s.incomplete(plan)
	}
	for _, w := range plan.Warnings {
		s.note("note: %s", w)
	}
	if s.format == "csv" {
		if err := s.stepsCSV(nil); err != nil {
			return err
		}
	}
	return s.incomplete(plan)
}

// printChange tells what came of a change. The states are those of before, the inventory is that of after.
func (s *session) printChange(plan change.Plan, was states, after inventory.Inventory, result change.Result, running []string) error {
	changeID, snapID := result.Change.Name(), result.Snapshot.Name()
	if s.format == "csv" {
		for _, w := range append(slices.Clone(plan.Warnings), result.Warnings...) {
			s.note("note: %s", w)
		}
		return s.stepsCSV(result.Change.Steps)
	}
	list := became(plan, was, statesOf(after))
	if s.format == "json" {
		return s.changeAsJSON(changeID, snapID, result.Change.Steps, list, s.allWarnings(plan, result.Warnings))
	}
	p := s.printer()
	p.Line("%s", subject(s.machine))
	p.Line("")
	printOutcomes(p, list, "is now")
	p.Line("")
	undo := "undo"
	switch plan.Kind {
	case change.Undo:
		undo += " " + changeID // undo alone takes back what is no undo itself
	case change.Culprit:
		if state, _ := s.store.Search(s.machine.ID); state != "" {
			undo = "culprit stop" // all of its rounds together
		}
	}
	p.Line("%s done: %s changed in %s. lockback %s takes it back; %s has the state before", changeID,
		view.Number(len(plan.Handles), "entry", "entries"), view.Number(len(plan.Steps), "step", "steps"), undo, snapID)
	if result.Change.OnTrial() {
		p.Line("It is on trial: after the restart, lockback check says what to look at, and lockback keep %s ends it.", changeID)
	}
	if plan.Takes() {
		where := "What was removed is kept in the record only, " + s.store.Path + ": keep that file."
		if !s.machine.Live && s.app.store != onDisk {
			where += " lockback record carry copies it onto the disk."
		}
		p.Line("%s", where)
	}
	printLines(p, running)
	printLines(p, noted(append(slices.Clone(plan.Warnings), result.Warnings...)))
	return nil
}

// ago words how long ago a moment was.
func ago(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < -time.Minute:
		return "in the future, by this clock"
	case d < 2*time.Minute:
		return "just now"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes ago", int(d/time.Minute))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(d/time.Hour))
	}
	return fmt.Sprintf("%d days ago", int(d/(24*time.Hour)))
}

// dated words a moment with its age: "2026-11-20 10:22, 5 days ago".
func dated(t time.Time) string { return local(t) + ", " + ago(t, time.Now()) }
