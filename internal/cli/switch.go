package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/review"
	"lockback/core/work"
	"lockback/internal/page"
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

func newDisableCommand(a *app) *cobra.Command {
	o := switchOptions{state: autostart.Disabled}
	c := &cobra.Command{
		Use:   "disable SELECTOR...",
		Short: "Turn entries off, so that they can be brought back exactly",
		Long: `Turn entries off. lockback takes a snapshot first and writes down every step before it
makes it. It skips entries that are off already. It leaves out and names the protected ones,
which the machine needs, unless you add --guarded, and those that need a second thought,
unless you give their handles or whole names. It says beforehand what else stops or starts,
and leaves out whatever would stop a protected entry. What is running keeps running until
the change takes effect.

Where protected entries, parts of the operating system, or more than half of what starts
would no longer start, it asks for the number of entries instead of y.

Some programs turn themselves on again. --hold keeps them off where the system has a way
that their installers respect: a mask of systemd, launchd's database, Windows' own startup
settings. It is never a lock that the system's own settings cannot open. Where there is no
such way, lockback says so, and check says when an entry is on again.

--suggest turns nothing off; it is the earlier name of lockback suggest.`,
		Example: "  lockback disable k7f3qa2 m2c5xyd\n  lockback disable \"Kelpline*\" -m \"updaters off\"\n  " +
			"lockback disable fogbell-tray --for ines --dry-run",
		Args: func(c *cobra.Command, args []string) error {
			if o.suggest != "" {
				return nil
			}
			return cobra.MinimumNArgs(1)(c, args)
		},
		RunE: func(_ *cobra.Command, words []string) error {
			o.selector = words
			if o.suggest != "" {
				return suggestEntries(a, o)
			}
			return switchEntries(a, o)
		},
	}
	a.switchFlags(c, &o)
	a.trialFlag(c)
	c.Flags().StringVar(&o.suggest, "suggest", "", "propose, and turn nothing off: all `KINDS`, or some of "+
		strings.Join(review.Kinds, ","))
	c.Flags().Lookup("suggest").NoOptDefVal = allKinds
	c.Flags().BoolVar(&a.guarded, "guarded", false,
		"turn protected entries off too, and those that need a second thought")
	c.Flags().BoolVar(&o.hold, "hold", false, "keep them off although their programs turn them on again, where the "+
		"system has a way")
	return c
}

func newEnableCommand(a *app) *cobra.Command {
	o := switchOptions{state: autostart.Enabled}
	c := &cobra.Command{
		Use:   "enable SELECTOR...",
		Short: "Turn entries on",
		Long: `Turn entries on. What lockback itself turned off comes back exactly as it was,
if nothing changed it since.`,
		Example: "  lockback enable k7f3qa2\n  lockback enable \"Kelpline*\" --for ines",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(_ *cobra.Command, words []string) error { o.selector = words; return switchEntries(a, o) },
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
	c.Flags().StringVar(&a.trial, "trial", "", "after how many `DAYS` check asks whether the change stays, 14d for "+
		"example (default 14d)")
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
func switchEntries(a *app, o switchOptions) error {
	if _, err := a.trialDays(); err != nil {
		return err
	}
	s, err := a.openToChange(false)
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	c, want, err := s.ChooseFor(inv, o.selector, o.user, work.Scope{All: o.all})
	if err != nil {
		return err
	}
	want.State, want.Hold = o.state, o.hold
	sifted := work.Sift(c, want, a.guarded)
	notes, items := page.SiftedNotes(s.Session, sifted, want), sifted.Chosen
	if len(items) == 0 {
		a.notes(notes)
		return s.nothingChosen(sifted)
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

// nothingChosen ends a command whose choice has nothing that could be switched.
func (s *session) nothingChosen(of work.Sifted) error {
	switch {
	case of.Already > 0:
	case len(of.Guarded) > 0:
		return usage("nothing was done: every match is protected")
	case len(of.Cautioned) > 0:
		return usage("nothing was done: every match needs a second thought; name the entries one by one, by " +
			"handle or by their whole names")
	case len(of.Fixed) > 0:
		return errors.New("nothing was done: no match can be turned off or on here")
	}
	s.note("nothing to do on %s", page.Subject(s.Machine))
	return s.printNothing(change.Plan{})
}

// switching lists the entries to turn off and on.
type switching struct {
	off, on []*location.Item
	want    location.Want // for whom
	message string        // for the history; empty for the names of the entries
	user    string
	notes   []string // what is left as it is
}

// planSwitching makes the plan, with what people should know of it.
func (s *session) planSwitching(inv inventory.Inventory, w *switching) (change.Plan, error) {
	plan, err := s.Engine.Decide(change.Choice{Off: w.off, On: w.on, Want: w.want, Inventory: inv,
		ProtectedToo: s.guarded})
	w.notes = append(w.notes, page.SparedNotes(plan.Spared)...)
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
	plan.Warnings = append(plan.Warnings, page.EffectNotes(plan.Effects)...)
	if w.want.Hold {
		plan.Warnings = append(plan.Warnings, page.HoldNotes(w.off)...)
	}
	plan.Warnings = append(plan.Warnings, page.StillStarted(inv, w.off, w.want.Hold)...)
	for _, item := range w.off {
		if item.Caution != "" {
			plan.Warnings = append(plan.Warnings, fmt.Sprintf("think twice about %s: %s", item.Name, item.Caution))
		}
	}
	return plan, nil
}

// carryOutSwitching plans, asks and does it. Done is false if nothing was to be done.
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
		s.note("nothing to do on %s: %s is %s already", page.Subject(s.Machine), what, state)
		return false, s.printNothing(plan)
	}
	if err != nil {
		return false, err
	}
	if w.message == "" {
		w.message = page.Summary(slices.Concat(w.off, w.on), w.user)
	}
	verb := "Change"
	switch plan.Kind {
	case change.Disable:
		verb = "Disable"
	case change.Enable:
		verb = "Enable"
	}
	return true, s.carryOut(task{plan: plan, inv: inv, verb: verb, message: w.message, notes: w.notes})
}
