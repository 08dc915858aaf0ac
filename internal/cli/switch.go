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
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/store"
	"lockback/internal/view"
)

// switchOptions are those of disable and enable.
type switchOptions struct {
	state    autostart.State
	message  string
	user     string
	all      bool
	selector []string
}

func (a *app) disableCommand() *cobra.Command {
	o := switchOptions{state: autostart.Disabled}
	c := &cobra.Command{
		Use:   "disable SELECTOR...",
		Short: "Switch entries off, so that they can be brought back exactly",
		Long: `Switch entries off. A snapshot is taken first, and every step is written down
before it is made. Entries that are off already are passed over; guarded ones,
which the machine needs, are left out and named unless --guarded is given.
What runs at this moment goes on running.`,
		Example: "  lockback disable k7f3qa2 m2c5xyd\n  lockback disable 'Kelpline*' -m 'updaters off'\n  lockback disable fogbell-tray --user ines",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(_ *cobra.Command, words []string) error { o.selector = words; return a.switchEntries(o) },
	}
	a.switchFlags(c, &o)
	c.Flags().BoolVar(&a.guarded, "guarded", false, "switch guarded entries too")
	return c
}

func (a *app) enableCommand() *cobra.Command {
	o := switchOptions{state: autostart.Enabled}
	c := &cobra.Command{
		Use:   "enable SELECTOR...",
		Short: "Switch entries on",
		Long: `Switch entries on. What lockback itself switched off comes back exactly as it
was, if nothing changed it since.`,
		Example: "  lockback enable k7f3qa2",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(_ *cobra.Command, words []string) error { o.selector = words; return a.switchEntries(o) },
	}
	a.switchFlags(c, &o)
	return c
}

func (a *app) switchFlags(c *cobra.Command, o *switchOptions) {
	a.writeFlags(c)
	c.Flags().StringVarP(&o.message, "message", "m", "", "say why, for the history")
	c.Flags().StringVar(&o.user, "user", "", "switch for `NAME` only, also what is for everybody")
	c.Flags().BoolVar(&o.all, "all", false, "choose among parts of the operating system too")
}

// writeFlags are those of every command that writes to the machine.
func (a *app) writeFlags(c *cobra.Command) {
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, "print every step and change nothing")
	c.Flags().BoolVar(&a.yes, "yes", false, "do not ask")
}

// switchEntries is disable and enable.
func (a *app) switchEntries(o switchOptions) error {
	s, err := a.openToWrite(false)
	if err != nil {
		return err
	}
	defer s.close()
	inv := s.inventory()
	want := location.Want{State: o.state, Now: time.Now()}
	if o.user != "" {
		u, ok := s.machine.UserNamed(o.user)
		if !ok {
			return usage("the machine has no person %q; it has %s", o.user, people(s.machine))
		}
		want.User = &u
	}
	c, sel, err := choose(inv, o.selector, o.all)
	if err == nil && want.User != nil {
		c.items = slices.DeleteFunc(c.items, func(i *location.Item) bool { return i.User != "" && i.User != want.User.Name })
		if len(c.items) == 0 {
			err = usage("%q matches nothing that starts for %s", strings.Join(o.selector, " "), o.user)
		}
	}
	if err == nil {
		err = exact(c, sel)
	}
	if err != nil {
		return err
	}
	sifted := sift(c.items, want, a.guarded)
	for _, item := range sifted.fixed {
		a.note("left out: %s  %s: %s", item.Handle, item.Name, s.whyFixed(item, want))
	}
	if len(sifted.guarded) > 0 {
		a.note("left out because they are guarded (--guarded switches them too):")
		for _, item := range sifted.guarded {
			a.note("  %s  %s: %s", item.Handle, item.Name, item.Guarded)
		}
	}
	if sifted.already > 0 {
		a.note("%s %s already", view.Number(sifted.already, "entry is", "entries are"), string(o.state))
	}
	items := sifted.chosen
	if len(items) == 0 {
		if len(sifted.guarded) > 0 && sifted.already == 0 {
			return usage("nothing was done: all that matches is guarded")
		}
		if len(sifted.fixed) > 0 && sifted.already == 0 {
			return fmt.Errorf("nothing was done: what matches cannot be switched")
		}
		a.note("there is nothing to do on %s", subject(s.machine))
		return s.printChange(change.Plan{}, nil, change.Result{})
	}
	plan, err := s.engine.Switch(items, want)
	if errors.Is(err, change.ErrNothing) {
		s.noteLeftOut(plan)
		what := "it"
		if len(plan.LeftOut) > 0 {
			what = "all else"
		}
		a.note("there is nothing to do on %s: %s is %s already", subject(s.machine), what, string(o.state))
		if err := s.printChange(change.Plan{}, nil, change.Result{}); err != nil {
			return err
		}
		return s.incomplete(plan)
	}
	if err != nil {
		return err
	}
	plan.Warnings = append(plan.Warnings, stillStarted(inv, items, o.state)...)
	if o.message == "" {
		o.message = summary(items, o.user)
	}
	verb := map[autostart.State]string{autostart.Disabled: "Disable", autostart.Enabled: "Enable"}[o.state]
	return s.carryOut(plan, inv, items, o.message, verb)
}

// summary names what a change is about, for a history without a message.
func summary(items []*location.Item, user string) string {
	const most = 3
	var names []string
	for k, item := range items {
		if k == most {
			names = append(names, fmt.Sprintf("and %d more", len(items)-most))
			break
		}
		names = append(names, item.Name)
	}
	text := strings.Join(names, ", ")
	if user != "" {
		text += " (for " + user + ")"
	}
	return text
}

// openToWrite opens a session for a command that changes the machine. A dry run
// reads the record only, and may do without one where none is needed.
func (a *app) openToWrite(recordNeeded bool) (*session, error) {
	access := store.Write
	if a.dryRun {
		access = store.Read
	}
	s, err := a.open(access)
	if a.dryRun && !recordNeeded && errors.Is(err, store.ErrNone) {
		m, merr := a.machine()
		if merr != nil {
			return nil, merr
		}
		return &session{app: a, machine: m, engine: &change.Engine{Machine: m}}, nil
	}
	if err != nil {
		return nil, err
	}
	if err := s.settled(); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

func people(m *machine.Machine) string {
	var names []string
	for _, u := range m.Users {
		names = append(names, u.Name)
	}
	return strings.Join(names, ", ")
}

// sifted is what a selector chose, by what can be done with it.
type sifted struct {
	chosen  []*location.Item
	guarded []*location.Item // left out, unless they were asked for
	fixed   []*location.Item // no switch exists for them
	already int              // in the wanted state
}

func sift(items []*location.Item, want location.Want, guardedToo bool) sifted {
	var s sifted
	for _, item := range items {
		switch {
		case (want.User == nil || item.User == want.User.Name) && item.State == want.State:
			s.already++
		case want.State == autostart.Disabled && item.Guarded != "" && !guardedToo:
			s.guarded = append(s.guarded, item)
		case item.Switch == autostart.Report:
			s.fixed = append(s.fixed, item)
		default:
			s.chosen = append(s.chosen, item)
		}
	}
	return s
}

// whyFixed tells why an entry cannot be switched, in its switch's own words.
func (s *session) whyFixed(item *location.Item, want location.Want) string {
	if _, err := item.Plan(s.machine, want); err != nil {
		return err.Error()
	}
	return "it has no switch"
}

// stillStarted warns where a service that is switched off has a timer, socket or
// path of the same name that stays on and can start it.
func stillStarted(inv inventory.Inventory, items []*location.Item, state autostart.State) []string {
	if state != autostart.Disabled {
		return nil
	}
	off := map[string]bool{}
	for _, item := range items {
		off[item.Handle] = true
	}
	type named struct{ location, user, name string }
	starters := map[named]*location.Item{}
	for _, other := range inv.Items {
		if other.State == autostart.Enabled && !off[other.Handle] {
			starters[named{other.Location, other.User, other.Name}] = other
		}
	}
	var warnings []string
	for _, item := range items {
		bare, ok := strings.CutSuffix(item.Name, ".service")
		if !ok {
			continue
		}
		for _, suffix := range []string{".timer", ".socket", ".path"} {
			if other := starters[named{item.Location, item.User, bare + suffix}]; other != nil {
				warnings = append(warnings, fmt.Sprintf("%s (%s) stays on and can still start %s", other.Name, other.Handle, item.Name))
			}
		}
	}
	return warnings
}

// stepJSON is one step for one entry.
type stepJSON struct {
	Handle   string `json:"handle"`
	Artifact string `json:"artifact"`
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
		for _, h := range handles {
			list = append(list, stepJSON{h, autostart.Text(s.Artifact.Name), autostart.Text(s.Before.String()), autostart.Text(s.After.String())})
		}
	}
	return list
}

func (a *app) printSteps(steps []change.Step) {
	var rows [][]view.Cell
	for _, s := range stepsOf(steps) {
		rows = append(rows, []view.Cell{view.T(s.Handle), view.T(s.Artifact), view.T(s.Before), view.T(s.After)})
	}
	a.printer().Table([]view.Column{{Title: "handle"}, {Title: "artifact", Share: 3}, {Title: "before", Share: 2}, {Title: "after", Share: 2}}, slices.Values(rows))
}

func (a *app) stepsCSV(steps []change.Step) error {
	var rows [][]string
	for _, s := range stepsOf(steps) {
		rows = append(rows, []string{s.Handle, s.Artifact, s.Before, s.After})
	}
	return a.printer().CSV([]string{"handle", "artifact", "before", "after"}, rows)
}

// carryOut shows a plan, asks, applies it and prints what came of it.
func (s *session) carryOut(plan change.Plan, inv inventory.Inventory, items []*location.Item, message, verb string) error {
	s.noteLeftOut(plan)
	if s.dryRun {
		if err := s.printChange(plan, nil, change.Result{Change: change.Change{Steps: plan.Steps}}); err != nil {
			return err
		}
		return s.incomplete(plan)
	}
	if !s.yes {
		// Nobody is asked about what cannot be done. Apply checks once more.
		if err := s.engine.Check(plan); err != nil {
			return s.explain(err)
		}
		p := s.printer()
		p.Out = s.Err
		p.Line("%s", subject(s.machine))
		p.Line("")
		p.Entries(entriesOf(items))
		for _, w := range plan.Warnings {
			s.note("note: %s", w)
		}
		question := fmt.Sprintf("%s %s, in %s, on %s?", verb, view.Number(len(plan.Handles), "entry", "entries"), view.Number(len(plan.Steps), "step", "steps"), cmp.Or(describe(s.machine).Name, "this machine"))
		if err := s.confirm(question); err != nil {
			return err
		}
	}
	s.progress(len(plan.Steps))
	// Who presses Ctrl-C, or closes the window, wants it as it was: the change is taken back.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	s.engine.Context = ctx
	// From here on the first inventory is not used: a large machine's takes much memory, and a
	// second one is read.
	was := statesOf(inv)
	result, err := s.engine.Apply(plan, inv, message)
	if err != nil {
		return s.explain(err)
	}
	if err := s.printChange(plan, was, result); err != nil {
		return err
	}
	return s.incomplete(plan)
}

// noteLeftOut names what a plan leaves out because it cannot be read or written.
func (s *session) noteLeftOut(plan change.Plan) {
	for _, l := range plan.LeftOut {
		s.note("left out: %s", leftOut(l))
	}
}

func leftOut(l change.LeftOut) string {
	return strings.TrimSpace(fmt.Sprintf("%s  %s: %v", l.Handle, l.Name, l.Err))
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
	if s.At != nil || s.Width == 0 || steps < 20 {
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

// stateOf is what is told of an entry that a change touched.
type stateOf struct{ name, whom, state string }

// statesOf are those of all entries, by handle.
func statesOf(inv inventory.Inventory) map[string]stateOf {
	states := make(map[string]stateOf, len(inv.Items))
	for _, item := range inv.Items {
		if _, taken := states[item.Handle]; !taken {
			states[item.Handle] = stateOf{item.Name, forWhom(item.Entry), string(item.State)}
		}
	}
	return states
}

// printChange prints a change, or what a dry run would do. The states are those
// of before.
func (s *session) printChange(plan change.Plan, was map[string]stateOf, result change.Result) error {
	p := s.printer()
	warnings := append(append([]string{}, plan.Warnings...), result.Warnings...)
	if s.format == "json" {
		for _, l := range plan.LeftOut {
			warnings = append(warnings, "left out: "+leftOut(l))
		}
	}
	effect := strings.Join(plan.Effects, ", ")
	changeID, snapID := "", ""
	if result.Change.ID > 0 {
		changeID, snapID = result.Change.Name(), result.Snapshot.Name()
	}
	switch s.format {
	case "json":
		return p.JSON(struct {
			Machine     machineJSON `json:"machine"`
			Change      string      `json:"change"`
			Snapshot    string      `json:"snapshot"`
			Steps       []stepJSON  `json:"steps"`
			TakesEffect string      `json:"takes_effect"`
			Warnings    []string    `json:"warnings"`
		}{describe(s.machine), changeID, snapID, stepsOf(result.Change.Steps), effect, warnings})
	case "csv":
		for _, w := range warnings {
			s.note("note: %s", w)
		}
		return s.stepsCSV(result.Change.Steps)
	}
	if len(result.Change.Steps) == 0 {
		return nil
	}
	p.Line("%s", subject(s.machine))
	p.Line("")
	if s.dryRun {
		s.printSteps(result.Change.Steps)
		p.Line("")
		p.Line("%s for %s; nothing was changed", view.Number(len(plan.Steps), "step", "steps"), view.Number(len(plan.Handles), "entry", "entries"))
	} else {
		after := result.After
		if after == nil {
			read := inventory.Take(s.machine)
			after = &read
		}
		s.printStates(plan, was, statesOf(s.withTaken(*after, s.store)))
		p.Line("")
		undo := "undo"
		if plan.Kind == change.Undo {
			undo += " " + changeID // undo alone takes back what is no undo itself
		}
		p.Line("%s done: %s changed in %s; %s takes it back, %s has the state before", changeID,
			view.Number(len(plan.Handles), "entry", "entries"), view.Number(len(plan.Steps), "step", "steps"), undo, snapID)
	}
	p.Line("takes effect: %s", effect)
	for _, w := range warnings {
		p.Line("note: %s", w)
	}
	return nil
}

// printStates lists the entries that a change touched, as they were and as they
// are now.
func (s *session) printStates(plan change.Plan, before, after map[string]stateOf) {
	// An entry of its own can come and go with a change: a person's override of
	// what is for everybody.
	handles := slices.Clone(plan.Handles)
	for _, side := range [2][2]map[string]stateOf{{after, before}, {before, after}} {
		var only []string
		for h := range side[0] {
			if _, both := side[1][h]; !both {
				only = append(only, h)
			}
		}
		slices.Sort(only)
		handles = append(handles, only...)
	}
	seen := make(map[string]bool, len(handles))
	handles = slices.DeleteFunc(handles, func(h string) bool {
		was, had := before[h]
		is, has := after[h]
		again := seen[h]
		seen[h] = true
		return again || had == has && was.state == is.state
	})
	if len(handles) == 0 {
		return
	}
	rows := func(yield func([]view.Cell) bool) {
		for _, h := range handles {
			was, had := before[h]
			is, has := after[h]
			switch {
			case !had:
				was.state = "not there"
			case !has:
				is, is.state = was, "gone"
			}
			if !yield([]view.Cell{view.T(h), view.T(is.name), view.T(is.whom), view.T(was.state), view.T(is.state)}) {
				return
			}
		}
	}
	s.printer().Table([]view.Column{{Title: "handle"}, {Title: "name", Share: 1}, {Title: "for"}, {Title: "was"}, {Title: "is"}}, rows)
}
