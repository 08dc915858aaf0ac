package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/snapshot"
	"lockback/internal/view"
)

func (a *app) restoreCommand() *cobra.Command {
	var only []string
	var newcomers, onto, message string
	var systemFiles bool
	c := &cobra.Command{
		Use:   "restore SNAPSHOT",
		Short: "Bring a recorded state back",
		Long: `Bring the state of a snapshot back: every file, link and folder that decides an
entry gets the content, owner, mode, times and attributes that it had. Entries
added since are kept as they are, unless --newcomers=disable is given, and so is
what was made since where there was nothing, and lines added to a file of lines.
Files in the operating system's own folders stay as its last upgrade has them;
--with-system-files brings them back too. What cannot be read or written is left out
and named; all else is done, and the exit code is then 1.
A snapshot taken on the running machine can be restored onto its disk with --root,
and the other way round. A snapshot is taken first, so undo takes the restore back.`,
		Example: "  lockback restore S1\n  lockback restore S1 --only \"Fogbell*\"\n  lockback --root /mnt/disk restore S1 --dry-run",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			opt := change.RestoreOptions{Newcomers: change.Newcomers(newcomers), SystemFiles: systemFiles}
			if opt.Newcomers != change.KeepNewcomers && opt.Newcomers != change.DisableNewcomers {
				return usage("--newcomers is keep or disable, not %q", newcomers)
			}
			s, err := a.openToWrite(true)
			if err != nil {
				return err
			}
			defer s.close()
			snap, err := s.snapshot(args[0])
			if err != nil {
				return err
			}
			if snap.Machine != s.machine.ID && s.machine.Name == "" {
				return usage("%s is of another machine, %s, and this one has no name that --onto could give; give it one (etc/hostname) first", snap.Name(), s.nameOf(snap.Machine))
			}
			if snap.Machine != s.machine.ID && onto != s.machine.Name {
				return usage("%s is of another machine, %s; to restore it onto %q all the same, add --onto %q", snap.Name(), s.nameOf(snap.Machine), s.machine.Name, s.machine.Name)
			}
			inv := s.inventory()
			if len(only) > 0 {
				recorded, err := snap.Entries()
				if err != nil {
					return err
				}
				var entries []*autostart.Entry
				for _, r := range recorded {
					entries = append(entries, &r.Entry)
				}
				if opt.Only, err = chosenHandles(inv, append(entries, inv.Entries()...), only); err != nil {
					return err
				}
			}
			plan, err := s.engine.Restore(inv, snap, opt)
			if errors.Is(err, change.ErrNothing) {
				if added := addedSince(inv, snap); added > 0 && opt.Only == nil {
					a.note("there is nothing to do on %s: what %s knows is as it has it; %s", subject(s.machine), snap.Name(), view.Number(added, "entry was added since and stays as it is", "entries were added since and stay as they are"))
				} else if len(plan.Warnings)+len(plan.LeftOut) == 0 {
					a.note("there is nothing to do on %s: %s as %s has it", subject(s.machine), whatIs(opt), snap.Name())
				} else {
					a.note("there is nothing to do on %s but for what is kept or left out", subject(s.machine))
				}
				return s.printNothing(plan)
			}
			if err != nil {
				return err
			}
			if message == "" {
				message = snap.Name()
			}
			about := strings.TrimSuffix(fmt.Sprintf("Back to %s of %s: %s", snap.Name(), dated(snap.Time), snap.Message), ": ")
			return s.carryOut(errand{plan: plan, inv: inv, verb: "Restore", about: []string{about, "lockback undo then takes this restore back."}, message: message})
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

// addedSince counts the entries that a snapshot does not know.
func addedSince(inv inventory.Inventory, snap *snapshot.Snapshot) int {
	had, err := handlesOf(snap)
	if err != nil {
		return 0 // it was read a moment ago
	}
	n := 0
	for _, item := range inv.Items {
		if !had[item.Handle] {
			n++
		}
	}
	return n
}

// whatIs names what a restore brings back: all, or what was chosen.
func whatIs(opt change.RestoreOptions) string {
	if opt.Only == nil {
		return "the machine is"
	}
	return "what was chosen is"
}

// chosenHandles are the handles of the entries, of then or of now, that the
// words choose. The words are explicit, so parts of the operating system count.
func chosenHandles(inv inventory.Inventory, entries []*autostart.Entry, words []string) (map[string]bool, error) {
	sel, err := autostart.ParseSelector(words)
	if err == nil {
		sel, err = resolve(sel, inv, entries)
	}
	if err != nil {
		return nil, usageError{err}
	}
	if word, ok := sel.Unmatched(entries); ok {
		return nil, fmt.Errorf("in the snapshot and now: %w", unknownWord(word, entries, scope{all: true}))
	}
	handles := map[string]bool{}
	for _, e := range sel.Choose(entries) {
		handles[e.Handle] = true
	}
	if len(handles) == 0 {
		return nil, usage("no entry matches %q, in the snapshot or now", words)
	}
	return handles, nil
}

// nameOf words a machine of the record.
func (s *session) nameOf(id string) string {
	machines, err := s.store.Machines()
	if err == nil {
		for _, m := range machines {
			if m.ID == id && m.Name != "" {
				return fmt.Sprintf("%q (%s)", m.Name, id)
			}
		}
	}
	return id
}
