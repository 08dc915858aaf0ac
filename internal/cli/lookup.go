package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/files"
	"lockback/core/note"
	"lockback/core/work"
	"lockback/internal/page"
)

// lookUpOptions say how programs are looked up.
type lookUpOptions struct {
	open, withHash, everyEntry bool
}

// elsewhereHelp says what looking up shows.
const elsewhereHelp = `what the catalogue and your notes say, on which other machines of the record the program
was seen and on how many it was kept, its signature and its SHA-256, and a web address
to look it up at. The address is made from the setting search of the configuration, with
the maker, the product and the name of the file, and with --hash the SHA-256. No path and
no user's name goes into it, and nothing is sent unless --open is given, which opens the
address in the browser of this computer.`

func newLookupCommand(a *app) *cobra.Command {
	var o lookUpOptions
	c := &cobra.Command{
		Use:   "lookup SELECTOR...",
		Short: "Show what is known about a program elsewhere: now show --elsewhere",
		Long: `The earlier name of show --elsewhere, which shows what is known about a program elsewhere:
` + elsewhereHelp,
		Example: "  lockback lookup k7f3qa2",
		Args:    cobra.MinimumNArgs(1),
		Hidden:  true,
		RunE: func(_ *cobra.Command, words []string) error {
			a.note("note: lookup is show --elsewhere now; the next version has no lookup")
			return lookUp(a, words, o)
		},
	}
	o.flags(c)
	return c
}

func (o *lookUpOptions) flags(c *cobra.Command) {
	c.Flags().BoolVar(&o.open, "open", false, "open the address in the browser of this computer")
	c.Flags().BoolVar(&o.withHash, "hash", false, "put the program's SHA-256 into the address")
	c.Flags().BoolVar(&o.everyEntry, "every-entry", false, "each entry of a program by itself")
}

// lookUp shows what is known of the programs of entries beyond this machine.
func lookUp(a *app, words []string, o lookUpOptions) error {
	return a.look(func(s *session, inv inventory.Inventory) error {
		c, err := s.Choose(inv, words, work.Scope{All: true, Anywhere: true})
		if err != nil {
			return err
		}
		if !o.everyEntry {
			c.Items = onePerProgram(s.Machine, c.Items)
		}
		w, programs := a.page(), make([]page.LookedUp, len(c.Items))
		for k, item := range c.Items {
			if programs[k], err = w.LookUp(s.Session, item, o.withHash); err != nil {
				return err
			}
		}
		if err := w.Lookups(s.Machine, programs); err != nil || !o.open {
			return err
		}
		return openSearch(a, programs)
	})
}

// onePerProgram keeps of entries that start the same program the first.
func onePerProgram(m *machine.Machine, items []*location.Item) []*location.Item {
	seen := map[string]bool{}
	return slices.DeleteFunc(slices.Clone(items), func(item *location.Item) bool {
		p, ok := note.ProgramOf(m.OS, &item.Entry)
		again := ok && seen[p.Key()]
		seen[p.Key()] = true
		return again
	})
}

// openSearch opens the address of one program.
func openSearch(a *app, list []page.LookedUp) error {
	if len(list) > 1 {
		return usage("--open opens one address, and these are %d programs; name one", len(list))
	}
	if list[0].Search == "" {
		return usage("there is no address to open")
	}
	if files.Privileged() {
		return usage("no browser is opened as root or administrator, because it would have the same rights; open " +
			"the address above as yourself")
	}
	if err := openAddress(list[0].Search); err != nil {
		return fmt.Errorf("the browser could not be started: %w; open the address above yourself", err)
	}
	a.note("opened in the browser")
	return nil
}
