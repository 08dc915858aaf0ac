package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine/files"
	"lockback/core/work"
)

// addOptions are those of add.
type addOptions struct {
	name, at, user, form, every, atTime, copyOf, message string
	program                                              []string
}

// stagesOfNew are the words for when something new starts.
var stagesOfNew = map[string]autostart.Stage{"startup": autostart.System, "sign-in": autostart.SignIn,
	"schedule": autostart.Schedule}

func newAddCommand(a *app) *cobra.Command {
	var o addOptions
	c := &cobra.Command{
		Use:   "add --name NAME --at sign-in|startup [--for USER] -- PROGRAM [ARGUMENT...]",
		Short: "Make something start automatically",
		Long: `Make something start automatically: at sign-in, at startup, or by the clock with --every or
--at-time; for everyone, or with --for for one user. lockback makes it where the system's
own tools would:

  Linux    sign-in: an autostart file. Startup: a systemd unit. By the clock: a timer.
           Both --as cron too, in /etc/cron.d, and so where systemd does not start
           the machine.
  Windows  sign-in: a value of the Run key, or --as shortcut in the Startup folder, or
           --as task. Startup and by the clock: a task, or --as service for a program
           that is one. Tasks are made on the running machine only.
  macOS    sign-in: a LaunchAgent. Startup and by the clock: a LaunchDaemon, and for
           one user's clock an agent of theirs.

The program must exist and be executable; arguments are passed on exactly as you give them.
--copy-of takes whatever you leave out from an existing entry: its name, when it starts, for
whom, and its command.

The new entry is in the list and on trial, and undo takes it back like any other change.`,
		Example: "  lockback add --name \"Tide board\" --at sign-in --for ines -- /opt/tide/board --full\n  " +
			"lockback add --name \"Night copy\" --at-time 02:30 -- /opt/gullrock/copy\n  lockback add --copy-of " +
			"k7f3qa2 --for bram",
		RunE: func(_ *cobra.Command, args []string) error {
			o.program = args
			return runAdd(a, o)
		},
	}
	a.writeFlags(c)
	a.trialFlag(c)
	f := c.Flags()
	f.StringVar(&o.name, "name", "", "what it is called")
	f.StringVar(&o.at, "at", "", "`WHEN` it starts: sign-in or startup")
	f.StringVar(&o.user, "for", "", "for the user `NAME` only, instead of everyone")
	f.StringVar(&o.form, "as", "", "in which `FORM` of the system, where there are several")
	f.StringVar(&o.every, "every", "", "by the clock, each time after this `TIME`: 30m, 2h, 1d")
	f.StringVar(&o.atTime, "at-time", "", "by the clock, each day at `HH:MM`")
	f.StringVar(&o.copyOf, "copy-of", "", "like the entry with this `HANDLE`")
	f.StringVarP(&o.message, "message", "m", "", "say why, for the history")
	return c
}

// span reads a length of time with a unit: 10s, 2m, 1h, 1d.
func span(text string, least, most time.Duration) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if n, isDays := strings.CutSuffix(text, "d"); isDays {
		var days int64
		days, err = strconv.ParseInt(n, 10, 16) // a length of time holds 106,751 days
		if errors.Is(err, strconv.ErrRange) {
			days, err = 1<<15, nil
		}
		d = time.Duration(days) * 24 * time.Hour
	}
	switch {
	case err != nil:
		return 0, fmt.Errorf("%q is not a time such as 10s, 2m, 1h or 1d", text)
	case d < least || d > most:
		return 0, fmt.Errorf("%s is not from %s to %s", text, location.DelayWords(least), location.DelayWords(most))
	}
	return d.Truncate(time.Second), nil
}

// newEntry reads the options.
func newEntry(s *session, o addOptions, inv inventory.Inventory) (location.New, error) {
	n := location.New{Name: o.name, Argv: o.program, Form: o.form, Now: time.Now()}
	if o.copyOf != "" {
		if err := likeAnother(s, o.copyOf, inv, &n); err != nil {
			return n, err
		}
	}
	if o.user != "" {
		u, err := s.User(o.user)
		if err != nil {
			return n, err
		}
		n.User = &u
	}
	if o.at != "" {
		stage, ok := stagesOfNew[o.at]
		if !ok {
			return n, usage("--at %s%s: it is sign-in or startup; by the clock are --every and --at-time", o.at,
				autostart.Suggest(o.at, []string{"sign-in", "startup"}))
		}
		n.Stage = stage
	}
	if o.every != "" || o.atTime != "" {
		if o.every != "" && o.atTime != "" || o.at != "" && n.Stage != autostart.Schedule {
			return n, usage("give only one of --at, --every and --at-time")
		}
		n.Stage, n.Every, n.Daily = autostart.Schedule, 0, false
	}
	var err error
	if o.every != "" {
		if n.Every, err = span(o.every, time.Minute, 31*24*time.Hour); err != nil {
			return n, usage("--every: %v", err)
		}
	}
	if o.atTime != "" {
		at, err := time.Parse("15:04", o.atTime)
		if err != nil {
			return n, usage("--at-time %s: it is a time of the day such as 07:30", o.atTime)
		}
		n.Daily, n.At = true, time.Duration(at.Hour())*time.Hour+time.Duration(at.Minute())*time.Minute
	}
	switch {
	case n.Name == "":
		return n, usage("give it a name with --name")
	case len(n.Argv) == 0:
		return n,
			usage("name the program after --, with its full path: lockback add --name %q --at sign-in -- PROGRAM",
				n.Name)
	case n.Stage == "":
		return n, usage("say when it starts: --at sign-in, --at startup, --every TIME or --at-time HH:MM")
	case n.Stage == autostart.Schedule && n.Every == 0 && !n.Daily:
		return n, usage("say how often: --every TIME or --at-time HH:MM")
	}
	return n, nil
}

// likeAnother takes from an entry what was not given.
func likeAnother(s *session, handle string, inv inventory.Inventory, n *location.New) error {
	c, err := s.ChooseExactly(inv, []string{handle}, work.Scope{All: true})
	if err != nil {
		return err
	}
	if len(c.Items) != 1 {
		return usage("--copy-of %s names %d entries; give one handle", handle, len(c.Items))
	}
	of := c.Items[0]
	if n.Name == "" {
		n.Name = strings.TrimSpace(of.Name)
	}
	switch of.Stage {
	case autostart.SignIn, autostart.System, autostart.Schedule:
		n.Stage = of.Stage
	default:
		return usage("--copy-of %s: an entry of the stage %s cannot be made; give --at", of.Handle, of.Stage)
	}
	if of.User != "" {
		if u, ok := s.Machine.UserNamed(of.User); ok {
			n.User = &u
		}
	}
	if len(n.Argv) > 0 {
		return nil
	}
	argv, ok := inventory.ArgumentsOf(s.Machine, of)
	if !ok {
		return usage("--copy-of %s: what it runs cannot be determined (%s); give the program after --", of.Handle,
			of.Command)
	}
	n.Argv = argv
	return nil
}

func runAdd(a *app, o addOptions) error {
	trial, err := a.trialDays()
	if err != nil {
		return err
	}
	s, err := a.openToChange(false)
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Inventory()
	n, err := newEntry(s, o, inv)
	if err != nil {
		return err
	}
	plan, err := s.Engine.Add(n, inv)
	switch {
	case errors.Is(err, location.ErrExists), errors.Is(err, location.ErrText), errors.Is(err, location.ErrNoProgram),
		errors.Is(err, location.ErrNoForm):
		return usage("nothing was added: %w", err)
	case errors.Is(err, files.ErrNeedsRights):
		return s.explain(err)
	case err != nil:
		return fmt.Errorf("nothing was added: %w", err)
	}
	plan.Trial = trial
	if o.message == "" {
		o.message = n.Name
	}
	return s.carryOut(task{plan: plan, inv: inv, verb: "Add", message: o.message})
}
