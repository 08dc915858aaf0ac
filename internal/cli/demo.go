package cli

import (
	"github.com/spf13/cobra"

	"lockback/internal/demo"
)

func (a *app) demoCommand() *cobra.Command {
	var keep string
	var buildOnly bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "A guided example on made-up machines",
		Long: `Build three computers of the Gullrock Lighthouse Museum (the workshop box, the
ticket-desk PC, the archive Mac) as mounted disks in a temporary folder and walk
through the job on them: every command is printed with its real output. Nothing of
this machine is touched.`,
		Example: "  lockback demo\n  lockback demo --keep /tmp/gullrock",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if buildOnly && keep == "" {
				return usage("--build-only goes with --keep")
			}
			run := func(args ...string) int {
				streams := a.Streams
				streams.Color = streams.Color && !a.noColor
				streams.Ask = false
				return Main(args, streams)
			}
			return demo.Guide(a.Out, keep, buildOnly, run)
		},
	}
	c.Flags().StringVar(&keep, "keep", "", "build the machines in `DIR`, which must not exist, and leave them there")
	c.Flags().BoolVar(&buildOnly, "build-only", false, "with --keep: build the machines as they were found, and do nothing to them")
	return c
}
