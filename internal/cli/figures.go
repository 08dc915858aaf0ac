package cli

import (
	"errors"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/internal/page"
)

func newFiguresCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "figures [SNAPSHOT...]",
		Short: "Show the machine's figures side by side: memory, processes, how long the last start took",
		Long: `Show the figures in snapshots side by side, and those of now. Without arguments: the first
and the last snapshot of this machine. A mounted disk has fewer figures than a running
machine; below them you read which can be compared.`,
		Example: "  lockback figures\n  lockback figures S1 S4",
		RunE: func(_ *cobra.Command, names []string) error {
			s, err := a.open(store.Read)
			if len(names) == 0 && errors.Is(err, store.ErrNone) { // those of now need no record
				s, err = a.with(a.desk().Look())
			}
			if err != nil {
				return err
			}
			defer s.Close()
			return showFigures(s, names)
		},
	}
}

func showFigures(s *session, names []string) error {
	if len(names) == 0 && s.Record != nil {
		all, err := s.Record.Snapshots(s.Machine.ID)
		if err != nil {
			return work.Advise(err)
		}
		if len(all) > 0 {
			names = append(names, all[0].Name())
		}
		if len(all) > 1 {
			names = append(names, all[len(all)-1].Name())
		}
	}
	var moments []page.Moment
	for _, name := range names {
		snap, err := s.Snapshot(name)
		if err != nil {
			return err
		}
		moments = append(moments, page.MomentOf(snap))
	}
	inv := s.Inventory()
	moments = append(moments, page.Moment{Name: "now", Time: time.Now().UTC().Truncate(time.Second),
		Figures: snapshot.FiguresOf(inv)})
	return s.page().Figures(s.Machine, moments)
}
