package cli

import (
	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/review"
)

func newSuggestCommand(a *app) *cobra.Command {
	o := switchOptions{state: autostart.Disabled, suggest: allKinds}
	c := &cobra.Command{
		Use:   "suggest [KINDS] [SELECTOR...]",
		Short: "Propose what could be turned off, with reasons",
		Long: `Propose what could be turned off, each with the reason, from verdicts, use and cost:
hostile, broken, costly, spare or unused. It turns nothing off. On a terminal the proposals
open in review; elsewhere, and with --dry-run, it lists them.

It never proposes protected entries. Of programs that nobody has rated it proposes those
that are missing, and those that hold up the start for 3 seconds or more if they can wait or
their maker is proved. What to consider first stands after the reason.`,
		Example: "  lockback suggest\n  lockback suggest spare,broken --dry-run\n  lockback suggest costly for=ines",
		RunE:    func(_ *cobra.Command, words []string) error { o.selector = words; return suggestEntries(a, o) },
		ValidArgsFunction: func(_ *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return completeWords(review.Kinds)(nil, nil, word)
		},
	}
	a.writeFlags(c)
	a.trialFlag(c)
	c.Flags().StringVarP(&o.message, "message", "m", "", "say why, for the history")
	return c
}
