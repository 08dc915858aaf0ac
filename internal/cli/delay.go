package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/change"
	"lockback/core/location"
	"lockback/core/work"
	"lockback/internal/page"
)

// The shortest and the longest delay.
const (
	leastDelay = time.Second
	mostDelay  = 24 * time.Hour
)

// delayOptions are those of delay.
type delayOptions struct {
	all             bool
	spread, message string
}

func newDelayCommand(a *app) *cobra.Command {
	var o delayOptions
	c := &cobra.Command{
		Use:   "delay SELECTOR... TIME",
		Short: "Start entries later, so that they do not all start at once",
		Long: `Start entries some time after sign-in or startup: 20s, 2m, 1h. lockback uses a reliable
delay of the system's own where there is one: a key of the autostart file that all sessions
of the machine know, a timer in front of a systemd service, the delayed start of a Windows
service, the delay of a task's trigger. Elsewhere the entry waits in the system's own shell,
or lockback turns it off and makes another one that starts the same: a job of launchd, a
crontab line for startup. No program of lockback's stays on the machine.

With --spread each entry waits that much longer than the one before, the cheapest first;
leave TIME out then.

The change is on trial, and undo takes it back exactly.`,
		Example: "  lockback delay fogbell-sync.desktop 30s\n  lockback delay stage=sign-in verdict=useful --spread 10s",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(_ *cobra.Command, words []string) error { return delayEntries(a, words, o) },
	}
	a.writeFlags(c)
	a.trialFlag(c)
	c.Flags().BoolVar(&o.all, "all", false, "choose among parts of the operating system too")
	c.Flags().StringVar(&o.spread, "spread", "", "each entry this `TIME` after the one before, by what they cost")
	c.Flags().StringVarP(&o.message, "message", "m", "", "say why, for the history")
	return c
}

func delayEntries(a *app, words []string, o delayOptions) error {
	trial, err := a.trialDays()
	if err != nil {
		return err
	}
	text := o.spread
	if text == "" {
		text, words = words[len(words)-1], words[:len(words)-1]
	}
	step, err := span(text, leastDelay, mostDelay)
	switch {
	case err != nil && o.spread != "":
		return usage("--spread: %v", err)
	case err != nil:
		return usage("the delay: %v; it comes after the entries", err)
	case len(words) == 0:
		return usage("name the entries to delay, and the time after them")
	}
	s, err := a.openToChange(false)
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	c, err := s.ChooseExactly(inv, words, work.Scope{All: o.all})
	if err != nil {
		return err
	}
	items := slices.Clone(c.Items)
	if o.spread != "" {
		inv.Measure()
		slices.SortStableFunc(items, func(x, y *location.Item) int { return cmp.Compare(costOf(x), costOf(y)) })
		if longest := time.Duration(len(items)) * step; longest > mostDelay {
			return usage("--spread %s: the last of %d entries would wait %s, and the longest delay is %s", o.spread,
				len(items), location.DelayWords(longest), location.DelayWords(mostDelay))
		}
	}
	var entries []change.Delayed
	for k, item := range items {
		by := step
		if o.spread != "" {
			by = time.Duration(k+1) * step
		}
		entries = append(entries, change.Delayed{Item: item, By: by})
	}
	plan, err := s.Engine.Delay(entries)
	if errors.Is(err, change.ErrNothing) {
		a.note("nothing to do on %s: these entries wait that long already", page.Subject(s.Machine))
		return s.printNothing(plan)
	}
	if err != nil {
		return s.explain(err)
	}
	plan.Trial = trial
	if o.message == "" {
		o.message = page.Summary(items, "") + ", by " + strings.TrimSpace(location.DelayWords(step))
		if o.spread != "" {
			o.message += " each"
		}
	}
	var about []string
	if o.spread != "" {
		for _, e := range entries {
			about = append(about, fmt.Sprintf("%s waits %s", e.Item.Name, location.DelayWords(e.By)))
		}
	}
	return s.carryOut(task{plan: plan, inv: inv, verb: "Delay", about: about, then: about, message: o.message})
}

// costOf is what a program costs at the start: the time that it took, else its processor time.
func costOf(item *location.Item) int64 {
	if item.Cost == nil {
		return 0
	}
	return max(item.Cost.StartMS, item.Cost.CPUMS)
}
