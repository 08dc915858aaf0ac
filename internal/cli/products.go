package cli

import (
	"github.com/spf13/cobra"

	"lockback/core/inventory"
	"lockback/core/product"
	"lockback/core/work"
)

func newProductsCommand(a *app) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "products [SELECTOR...]",
		Short: "List the installed products that start something",
		Long: `List the installed products that start something: the maker, when and how it was installed,
each entry with its state, what its programs cost together, when somebody last used one, and
the product's own uninstaller. What was installed on the same day as the system came with
the computer.

Programs without a known product are counted; list shows them. disable product=NAME turns a
whole product off.`,
		Example: "  lockback products\n  lockback products verdict=spare\n  lockback products \"Kelpline*\" --format csv",
		RunE: func(_ *cobra.Command, words []string) error {
			return a.look(func(s *session, inv inventory.Inventory) error {
				c, err := s.Choose(inv, words, work.Scope{All: all, Anywhere: true})
				if err = a.nothingFound(err); err != nil {
					return err
				}
				products, without := product.Group(s.Machine, c.Items)
				return a.paged(func() error { return a.page().Products(s.Machine, inv, products, without, c.Hidden) })
			})
		},
	}
	c.Flags().BoolVar(&all, "all", false, "show parts of the operating system too")
	return c
}
