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
		Short: "A guided example on a made-up machine",
		Long: `Build the workshop box of the Gullrock Lighthouse Museum as a mounted disk in a
temporary folder and walk through the job on it: every command is printed with its
real output. Nothing of this machine is touched.`,
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
	c.Flags().StringVar(&keep, "keep", "", "build the machine in `DIR`, which must not exist, and leave it there")
	c.Flags().BoolVar(&buildOnly, "build-only", false, "with --keep: build the machine as it was found, and do nothing to it")
	return c
}
