package cli

import (
	"github.com/spf13/cobra"

	"lockback/core/inventory"
)

func newLocationsCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "locations",
		Short: "List the places the system starts programs from",
		Long: `List every location of the machine's operating system: whether it was read, is
empty or absent, or could not be read and why; how many
entries it has, hidden parts of the operating system included; and the switch that
its entries are turned off with (lockback help switches).`,
		Example: "  lockback locations\n  lockback --root /mnt/disk locations --format json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.look(func(_ *session, inv inventory.Inventory) error {
				return a.paged(func() error { return a.page().Locations(inv) })
			})
		},
	}
}
