package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/internal/view"
)

// machineJSON is how a machine stands in JSON.
type machineJSON struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	OS      string `json:"os"`
	Version string `json:"version"`
	Live    bool   `json:"live"`
	Root    string `json:"root"`
}

func describe(m *machine.Machine) machineJSON {
	return machineJSON{m.ID, autostart.Text(m.Name), m.OS, autostart.Text(m.Version), m.Live, m.Root}
}

// heading words a machine for a person.
func heading(m machineJSON) string {
	name := m.Name
	if name == "" {
		name = "a machine without a name"
	}
	h := name + " — " + m.Version
	if m.Live {
		return h + ", running"
	}
	return h + ", mounted at " + m.Root
}

// subject names the machine that something is done to, and which of the two it is: the one at
// hand, or a disk.
func subject(m *machine.Machine) string {
	d := describe(m)
	name := d.Name
	if name == "" {
		name = "a machine without a name"
	}
	if d.Live {
		return name + ", this running computer"
	}
	return name + ", the disk mounted at " + d.Root
}

func (a *app) listCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "list [SELECTOR...]",
		Short: "List what starts by itself",
		Long: `List what starts by itself, grouped by when it starts. Entries that were switched
off stay in the list. Parts of the operating system are left out and counted;
--all shows them. Places that could not be read are listed with the reason.`,
		Example: "  lockback list\n  lockback list stage=sign-in user=ines\n  lockback --root /mnt/disk list problem=target-missing",
		RunE: func(_ *cobra.Command, words []string) error {
			return a.look(func(m *machine.Machine, inv inventory.Inventory) error {
				c, _, err := choose(inv, words, all)
				var nothing nothingFound
				if errors.As(err, &nothing) {
					a.note("%s", oneLine(err)) // which is an answer: the rest of the machine was read
				} else if err != nil {
					return err
				}
				entries := entriesOf(c.items)
				p := a.printer()
				switch a.format {
				case "json":
					return view.JSONList(p, struct {
						Machine machineJSON `json:"machine"`
					}{describe(m)}, "entries", entries, struct {
						LeftOut int                `json:"left_out"`
						Unread  []autostart.Unread `json:"unread"`
					}{c.leftOut, notNil(inv.Unread)}, view.AppendEntry)
				case "csv":
					a.noteUnread(inv.Unread)
					return p.EntriesCSV(entries)
				}
				p.Line("%s", heading(describe(m)))
				if len(entries) > 0 {
					p.Line("")
					p.Entries(entries)
				}
				p.Unread(inv.Unread)
				p.Line("")
				p.Line("%s", view.Counts(entries, c.leftOut))
				return nil
			})
		},
	}
	c.Flags().BoolVar(&all, "all", false, "show parts of the operating system too")
	return c
}

func entriesOf(items []*location.Item) []*autostart.Entry {
	entries := make([]*autostart.Entry, len(items))
	for k, item := range items {
		entries[k] = &item.Entry
	}
	return entries
}

// notNil makes an empty list [] in JSON.
func notNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// noteUnread tells of unread places where the output has no room for them.
func (a *app) noteUnread(unread []autostart.Unread) {
	for _, u := range unread {
		a.note("not read: %s: %s (%s)", u.Path, u.Reason, u.Location)
	}
}
