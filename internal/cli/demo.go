package cli

import (
	"bufio"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"lockback/internal/demo"
)

func newDemoCommand(a *app) *cobra.Command {
	var keep string
	var buildOnly, step bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "A guided example on made-up machines",
		Long: `Build three computers of the Gullrock Lighthouse Museum (the workshop box, the
ticket-desk PC, the archive Mac) as mounted disks in a temporary folder and walk
through the job on them: every command is printed with its real output. Nothing of
this machine is touched.`,
		Example: "  lockback demo\n  lockback demo --step\n  lockback demo --keep gullrock --build-only",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if buildOnly && keep == "" {
				return usage("--build-only goes with --keep")
			}
			run := func(args ...string) int {
				streams := a.Streams
				streams.Color = streams.Color && !a.noColor
				streams.Ask, streams.Watch, streams.Height = false, false, 0
				return Main(args, streams)
			}
			o := demo.Options{Keep: keep, BuildOnly: buildOnly}
			if step {
				lines := bufio.NewReader(a.In)
				o.Next = func() {
					fmt.Fprint(a.Err, "(Enter runs it, Ctrl-C ends) ")
					lines.ReadString('\n')
				}
			}
			const ends = "the example ends here; nothing of this computer was touched"
			a.stopMeans(ends)
			o.Made = func(temp string) { a.stopping.Store(&stop{ends, func() { os.RemoveAll(temp) }}) }
			return demo.Guide(a.Out, o, run)
		},
	}
	c.Flags().StringVar(&keep, "keep", "", "build the machines in `DIR`, which must not exist, and leave them there")
	c.Flags().BoolVar(&step, "step", false, "wait for Enter before each command")
	c.Flags().BoolVar(&buildOnly, "build-only", false,
		"with --keep: build the machines as they were found, and do nothing to them")
	return c
}
