package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/work"
	"lockback/core/work/rounds"
	"lockback/internal/page"
)

func newRestoreCommand(a *app) *cobra.Command {
	var only []string
	var newcomers, onto, message string
	var systemFiles bool
	c := &cobra.Command{
		Use:   "restore SNAPSHOT",
		Short: "Bring a recorded state back",
		Long: `Bring the state of a snapshot back: every file, link and folder that decides an entry gets
back its content, owner, mode, times and attributes. What was added since stays: entries
(unless you add --newcomers=disable), new files, and new lines in a file of lines. Files in
the operating system's own folders stay as its last upgrade left them; --with-system-files
brings them back too. What cannot be read or written is left out and named; everything else
is done, and the exit code is then 1.
A snapshot of the running machine can be restored onto its disk with --root, and the other
way round. lockback takes a snapshot first, so undo takes the restore back.`,
		Example: "  lockback restore S1\n  lockback restore S1 --only \"Fogbell*\"\n  lockback --root /mnt/disk " +
			"restore S1 --dry-run",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			opt := change.RestoreOptions{Newcomers: change.Newcomers(newcomers), SystemFiles: systemFiles}
			if opt.Newcomers != change.KeepNewcomers && opt.Newcomers != change.DisableNewcomers {
				return usage("--newcomers is keep or disable, not %q", newcomers)
			}
			s, err := a.openToChange(true)
			if err != nil {
				return err
			}
			defer s.Close()
			snap, err := s.Snapshot(args[0])
			if err != nil {
				return err
			}
			if snap.Machine != s.Machine.ID && s.Machine.Name == "" {
				return usage("%s is of another machine, %s, and this one has no name that --onto could give; give "+
					"it one (etc/hostname) first", snap.Name(), s.MachineNamed(snap.Machine))
			}
			if snap.Machine != s.Machine.ID && onto != s.Machine.Name {
				return usage("%s is of another machine, %s; to restore it onto %q all the same, add --onto %q",
					snap.Name(), s.MachineNamed(snap.Machine), s.Machine.Name, s.Machine.Name)
			}
			search, err := rounds.Begun(s.Session)
			if err != nil {
				return err
			}
			if search != nil {
				a.note(
					"note: a search for a culprit is under way since %s, and a restore changes what its round tries; "+
						"lockback culprit stop ends it first", autostart.Minute(search.Begun))
			}
			inv := s.Inventory()
			if len(only) > 0 {
				if opt.Only, err = work.ChooseHandles(inv, snap, only); err != nil {
					return err
				}
			}
			plan, err := s.Engine.Restore(inv, snap, opt)
			if errors.Is(err, change.ErrNothing) {
				if added := work.AddedSince(inv, snap); added > 0 && opt.Only == nil {
					a.note("nothing to restore on %s: everything in %s is unchanged; %s", page.Subject(s.Machine),
						snap.Name(), autostart.Count(added, "entry was added since and stays as it is",
							"entries were added since and stay as they are"))
				} else if len(plan.Warnings)+len(plan.LeftOut) == 0 {
					a.note("nothing to restore on %s: %s as in %s", page.Subject(s.Machine), whatIs(opt),
						snap.Name())
				} else {
					a.note("nothing to restore on %s except what is kept or left out", page.Subject(s.Machine))
				}
				return s.printNothing(plan)
			}
			if err != nil {
				return err
			}
			if message == "" {
				message = snap.Name()
			}
			about := strings.TrimSuffix(fmt.Sprintf("Back to %s of %s: %s", snap.Name(), page.Dated(snap.Time),
				snap.Message), ": ")
			return s.carryOut(task{plan: plan, inv: inv, verb: "Restore", about: []string{about,
				"lockback undo then takes this restore back."}, message: message})
		},
	}
	a.writeFlags(c)
	f := c.Flags()
	f.StringArrayVar(&only, "only", nil, "bring back only the entries that this `SELECTOR` word chooses (repeatable)")
	f.StringVar(&newcomers, "newcomers", string(change.KeepNewcomers), "entries added since: keep or disable")
	f.BoolVar(&systemFiles, "with-system-files", false, "bring back files of the operating system's own folders too")
	f.StringVar(&onto, "onto", "", "restore onto another machine, with this `NAME`")
	f.StringVarP(&message, "message", "m", "", "say why, for the history")
	return c
}

// whatIs names what a restore brings back: all, or what was chosen.
func whatIs(opt change.RestoreOptions) string {
	if opt.Only == nil {
		return "the machine is"
	}
	return "what was chosen is"
}
