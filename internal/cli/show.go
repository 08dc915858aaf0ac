package cli

import (
	"github.com/spf13/cobra"

	"lockback/core/inventory"
	"lockback/core/work"
)

func newShowCommand(a *app) *cobra.Command {
	var elsewhere bool
	var o lookUpOptions
	c := &cobra.Command{
		Use:   "show SELECTOR...",
		Short: "Show everything known about an entry, or compare several",
		Long: `Show everything known about an entry. The first five lines decide: the verdict, what it is,
who made it, what it costs, and what is lost without it. Below them is how it starts, then the
facts by their source, and every file, value or link that decides it, with its present state.

Several entries stand side by side, and a sign marks the rows in which they differ. --verbose
shows each in full.

With --elsewhere it shows what is known about the program elsewhere:
` + elsewhereHelp,
		Example: "  lockback show k7f3qa2\n  lockback show \"Fogbell Sync\" user=ines\n  lockback show k7f3qa2 " +
			"m2c5xyd\n  " +
			"lockback show \"Fogbell Sync\" --elsewhere --open",
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			if elsewhere {
				return lookUp(a, words, o)
			}
			if o != (lookUpOptions{}) {
				return usage("--open, --hash and --every-entry go with --elsewhere")
			}
			return a.look(func(s *session, inv inventory.Inventory) error {
				c, err := s.Choose(inv, words, work.Scope{All: true, Anywhere: true})
				if err != nil {
					return err
				}
				s.Describe(inv, c.Items)
				return a.paged(func() error { return a.page().Show(s.Machine, c.Items, work.Starters(inv)) })
			})
		},
	}
	c.Flags().BoolVar(&elsewhere, "elsewhere", false,
		"what is known about the program elsewhere, and a web address")
	o.flags(c)
	return c
}
