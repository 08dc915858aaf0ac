package cli

import (
	"bufio"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"lockback/internal/demo"
)

func newDemoCommand(a *app) *cobra.Command {
	var keep, build string
	var buildOnly, all, step bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "A guided example on made-up machines",
		Long: `Build the office laptop of the Gullrock Lighthouse Museum as a mounted disk in a temporary
folder, and walk through the job on it in ten steps: each command is printed with its
real output. It takes about five minutes to read. Nothing of this machine is touched.

With --all the example goes on with three more computers, which have an entry of every
kind that lockback knows. With --build it only builds computers to try things out on: a
Windows laptop, a Mac and a Linux computer; with --all those three more.`,
		Example: "  lockback demo\n  lockback demo --step\n  lockback demo --build gullrock",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			switch {
			case buildOnly && keep == "":
				return usage("--build-only goes with --keep; --build DIR does the same")
			case build != "" && keep != "":
				return usage("--build and --keep each name the folder: give one of them")
			case build != "" && step:
				return usage("--step goes with the example; --build runs nothing")
			case build != "":
				keep, buildOnly = build, true
			}
			run := func(machine string, args ...string) int {
				streams := a.Streams
				streams.HintWith = "--root " + machine
				streams.Color = streams.Color && !a.noColor
				streams.Ask, streams.Watch, streams.Height = false, false, 0
				return Main(args, streams)
			}
			o := demo.Options{Keep: keep, BuildOnly: buildOnly, All: all}
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
	c.Flags().StringVar(&build, "build", "", "only build the machines, in `DIR`, which must not exist")
	c.Flags().StringVar(&keep, "keep", "", "run the example in `DIR`, which must not exist, and leave it there")
	c.Flags().BoolVar(&all, "all", false, "the long example, with machines that have an entry of every kind")
	c.Flags().BoolVar(&step, "step", false, "wait for Enter before each command")
	c.Flags().BoolVar(&buildOnly, "build-only", false, "with --keep: what --build does")
	c.Flags().MarkHidden("build-only") // its name of before
	return c
}
