package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/review"
	"lockback/core/store"
	"lockback/internal/view"
)

// switchOptions are those of disable and enable.
type switchOptions struct {
	state    autostart.State
	message  string
	user     string
	all      bool
	hold     bool
	suggest  string
	selector []string
}

func (a *app) disableCommand() *cobra.Command {
	o := switchOptions{state: autostart.Disabled}
	c := &cobra.Command{
		Use:   "disable SELECTOR...",
		Short: "Turn entries off, so that they can be brought back exactly",
		Long: `Turn entries off. A snapshot is taken first, and every step is written down
before it is made. Entries that are disabled already are passed over; protected
ones, which the machine needs, are left out and named unless --guarded is given.
So are those that need a second thought, unless their handles or whole names are
given. What stops or starts besides is told before anything is done, and what would
stop a protected entry is left out. What runs at this moment keeps running until
the change counts.

Where protected entries, parts of the operating system, or more than half of what
starts would no longer start, the question wants the number of entries instead of y.

Some programs turn themselves on again. With --hold they are kept off where the system
has a way that their installers respect: a mask of systemd, launchd's database, Windows'
own startup settings. It is never a lock that the system's own settings cannot open.
Where there is no such way that is said, and check tells when one is on again.

With --suggest nothing is turned off: what could be is proposed, each with the reason,
from verdicts, use and cost. Protected entries, and programs that nobody has judged,
are never in it. On a terminal the proposals open in review; elsewhere, and with
--dry-run, they are listed.`,
		Example: "  lockback disable k7f3qa2 m2c5xyd\n  lockback disable \"Kelpline*\" -m \"updaters off\"\n  lockback disable fogbell-tray --for ines --dry-run\n  lockback disable --suggest spare,broken",
		Args: func(c *cobra.Command, args []string) error {
			if o.suggest != "" {
				return nil
			}
			return cobra.MinimumNArgs(1)(c, args)
		},
		RunE: func(_ *cobra.Command, words []string) error {
			o.selector = words
			if o.suggest != "" {
				return a.suggest(o)
			}
			return a.switchEntries(o)
		},
	}
	a.switchFlags(c, &o)
	a.trialFlag(c)
	c.Flags().StringVar(&o.suggest, "suggest", "", "propose entries and turn nothing off: all `KINDS`, or some of "+strings.Join(review.Kinds, ","))
	c.Flags().Lookup("suggest").NoOptDefVal = allKinds
	c.Flags().BoolVar(&a.guarded, "guarded", false, "turn protected entries off too, and those that need a second thought")
	c.Flags().BoolVar(&o.hold, "hold", false, "keep them off although their programs turn them on again, where the system has a way")
	return c
}

func (a *app) enableCommand() *cobra.Command {
	o := switchOptions{state: autostart.Enabled}
	c := &cobra.Command{
		Use:   "enable SELECTOR...",
		Short: "Turn entries on",
		Long: `Turn entries on. What lockback itself turned off comes back exactly as it was,
if nothing changed it since.`,
		Example: "  lockback enable k7f3qa2\n  lockback enable \"Kelpline*\" --for ines",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(_ *cobra.Command, words []string) error { o.selector = words; return a.switchEntries(o) },
	}
	a.switchFlags(c, &o)
	return c
}

func (a *app) switchFlags(c *cobra.Command, o *switchOptions) {
	a.writeFlags(c)
	c.Flags().StringVarP(&o.message, "message", "m", "", "say why, for the history")
	c.Flags().StringVar(&o.user, "for", "", "for the user `NAME` only, also what is for everyone")
	c.Flags().BoolVar(&o.all, "all", false, "choose among parts of the operating system too")
}

// writeFlags are those of every command that writes to the machine.
func (a *app) writeFlags(c *cobra.Command) {
	c.Flags().BoolVar(&a.dryRun, "dry-run", false, "show every step and change nothing")
	c.Flags().BoolVar(&a.yes, "yes", false, "do not ask")
}

// trialFlag is that of commands whose changes are on trial.
func (a *app) trialFlag(c *cobra.Command) {
	c.Flags().StringVar(&a.trial, "trial", "", "after how many `DAYS` check asks whether the change stays, 14d for example (default 14d)")
}

// trialDays is what it says; 0 where it says nothing.
func (a *app) trialDays() (int, error) {
	if a.trial == "" {
		return 0, nil
	}
	n, err := days(a.trial)
	if err != nil {
		return 0, usage("--trial %s: %v", a.trial, err)
	}
	return n, nil
}

// switchEntries is disable and enable.
func (a *app) switchEntries(o switchOptions) error {
	if _, err := a.trialDays(); err != nil {
		return err
	}
	s, err := a.openToWrite(false)
	if err != nil {
		return err
	}
	defer s.close()
	inv := s.inventory()
	want := location.Want{State: o.state, Now: time.Now(), Hold: o.hold}
	if o.user != "" {
		u, ok := s.machine.UserNamed(o.user)
		if !ok {
			names := userNames(s.machine)
			return usage("the machine has no user %q%s (it has %s)", o.user, autostart.Suggest(o.user, names), strings.Join(names, ", "))
		}
		want.User = &u
	}
	c, err := a.choose(s.machine, inv, s.store, o.selector, scope{all: o.all})
	if err == nil && want.User != nil {
		c.items = slices.DeleteFunc(c.items, func(i *location.Item) bool { return i.User != "" && i.User != want.User.Name })
		if len(c.items) == 0 {
			err = usage("%q matches nothing that starts for %s", strings.Join(o.selector, " "), o.user)
		}
	}
	if err == nil {
		err = exact(c)
	}
	if err != nil {
		return err
	}
	sifted := sift(c.items, want, a.guarded, c.sel)
	notes := s.leftOutOf(sifted, want)
	items := sifted.chosen
	if len(items) == 0 {
		a.notes(notes)
		if len(sifted.guarded) > 0 && sifted.already == 0 {
			return usage("nothing was done: all that matches is protected")
		}
		if len(sifted.cautioned) > 0 && sifted.already == 0 {
			return usage("nothing was done: all that matches needs a second thought; name the entries one by one, by handle or by their whole names")
		}
		if len(sifted.fixed) > 0 && sifted.already == 0 {
			return fmt.Errorf("nothing was done: what matches cannot be turned off or on here")
		}
		a.note("there is nothing to do on %s", subject(s.machine))
		return s.printNothing(change.Plan{})
	}
	w := switching{want: want, message: o.message, user: o.user, notes: notes}
	if o.state == autostart.Disabled {
		w.off = items
	} else {
		w.on = items
	}
	_, err = s.carryOutSwitching(inv, w)
	return err
}

// switching is what is to be turned off and on.
type switching struct {
	off, on []*location.Item
	want    location.Want // for whom
	message string        // for the history; empty for the names of the entries
	user    string
	notes   []string // what is left as it is
}

// planSwitching makes the plan, with what people should know of it.
func (s *session) planSwitching(inv inventory.Inventory, w *switching) (change.Plan, error) {
	plan, err := s.engine.Decide(change.Choice{Off: w.off, On: w.on, Want: w.want, Inventory: inv, ProtectedToo: s.guarded})
	w.notes = append(w.notes, sparedNotes(plan.Spared)...)
	if errors.Is(err, change.ErrProtected) {
		return plan, usage("nothing was done: %v", err)
	}
	if err != nil {
		return plan, err
	}
	w.off = slices.DeleteFunc(slices.Clone(w.off), func(item *location.Item) bool {
		return slices.ContainsFunc(plan.Spared, func(s change.Spared) bool { return s.Item == item })
	})
	if plan.Trial, err = s.trialDays(); err != nil {
		return plan, err
	}
	plan.Warnings = append(plan.Warnings, effectNotes(plan.Effects)...)
	if w.want.Hold {
		plan.Warnings = append(plan.Warnings, holdNotes(w.off)...)
	}
	plan.Warnings = append(plan.Warnings, stillStarted(inv, w.off)...)
	for _, item := range w.off {
		if item.Caution != "" {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("think twice about %s: %s", item.Name, item.Caution))
		}
	}
	return plan, nil
}

// holdNotes say what keeps entries off, those of which the same is said together.
func holdNotes(items []*location.Item) []string {
	by := map[string][]string{}
	var order []string
	for _, item := range items {
		how := "nothing of the system's keeps it off if its program turns it on again; check then says so"
		if item.Can.Hold != nil {
			how = item.Can.Hold.Holds()
		}
		if by[how] == nil {
			order = append(order, how)
		}
		by[how] = append(by[how], item.Name)
	}
	var notes []string
	for _, how := range order {
		notes = append(notes, strings.Join(by[how], ", ")+": "+how)
	}
	return notes
}

// carryOutSwitching plans, asks and does it. Done is false where nothing was to be done.
func (s *session) carryOutSwitching(inv inventory.Inventory, w switching) (done bool, err error) {
	plan, err := s.planSwitching(inv, &w)
	if err != nil {
		s.notes(w.notes)
	}
	if errors.Is(err, change.ErrNothing) {
		what, state := "all that was chosen", "as it should be"
		if len(plan.LeftOut) > 0 {
			what = "all else"
		}
		switch {
		case len(w.on) == 0:
			state = string(autostart.Disabled)
		case len(w.off) == 0:
			state = string(autostart.Enabled)
		}
		s.note("there is nothing to do on %s: %s is %s already", subject(s.machine), what, state)
		return false, s.printNothing(plan)
	}
	if err != nil {
		return false, err
	}
	if w.message == "" {
		w.message = summary(slices.Concat(w.off, w.on), w.user)
	}
	verb := "Change"
	switch plan.Kind {
	case change.Disable:
		verb = "Disable"
	case change.Enable:
		verb = "Enable"
	}
	return true, s.carryOut(errand{plan: plan, inv: inv, verb: verb, message: w.message, notes: w.notes})
}

// leftOutOf says what of a selection is left as it is, and why.
func (s *session) leftOutOf(of sifted, want location.Want) []string {
	var notes []string
	for _, item := range of.fixed {
		notes = append(notes, fmt.Sprintf("left out: %s  %s: %s", item.Handle, item.Name, s.whyFixed(item, want)))
	}
	if len(of.guarded) > 0 {
		notes = append(notes, "left out because they are protected (--guarded takes them too):")
		for _, item := range of.guarded {
			notes = append(notes, fmt.Sprintf("  %s  %s: %s", item.Handle, item.Name, item.Guarded))
		}
	}
	if len(of.cautioned) > 0 {
		notes = append(notes, "left out because they need a second thought (name them one by one, or --guarded takes them too):")
		for _, item := range of.cautioned {
			notes = append(notes, fmt.Sprintf("  %s  %s: %s", item.Handle, item.Name, item.Caution))
		}
	}
	if of.already > 0 {
		notes = append(notes, fmt.Sprintf("%s %s already", view.Number(of.already, "entry is", "entries are"), string(want.State)))
	}
	return notes
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

func userNames(m *machine.Machine) []string {
	var names []string
	for _, u := range m.Users {
		names = append(names, autostart.Text(u.Name))
	}
	return names
}

// sifted is what a selector chose, by what can be done with it.
type sifted struct {
	chosen  []*location.Item
	guarded []*location.Item // left out, unless they were asked for
	// cautioned are left out too, unless they were named.
	cautioned []*location.Item
	fixed     []*location.Item // no switch exists for them
	already   int              // in the wanted state
}

func sift(items []*location.Item, want location.Want, guardedToo bool, sel autostart.Selector) sifted {
	var s sifted
	for _, item := range items {
		holds := item.Can.Hold != nil
		switch {
		case want.Hold && holds && item.State == autostart.Disabled && item.Guarded == "" && !change.Taken(item):
			s.chosen = append(s.chosen, item) // it is off, and not held yet
		case (want.User == nil || item.User == want.User.Name) && item.State == want.State:
			s.already++
		case want.State == autostart.Disabled && item.Guarded != "" && !guardedToo:
			s.guarded = append(s.guarded, item)
		case want.State == autostart.Disabled && item.Caution != "" && !guardedToo && !sel.ByName(&item.Entry):
			s.cautioned = append(s.cautioned, item)
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
	return "it cannot be turned off here"
}

// stillStarted warns where a service of those that are turned off has a timer, socket or
// path of the same name that stays on and can start it.
func stillStarted(inv inventory.Inventory, items []*location.Item) []string {
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
