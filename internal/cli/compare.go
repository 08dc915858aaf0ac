package cli

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/view"
)

func (a *app) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare FROM [TO]",
		Short: "Show what differs between two snapshots, or between one and now",
		Long: `Show what differs between two snapshots, or between a snapshot and the machine as
it is now: entries that came, entries that went, and what changed in the others.
Exits with 0 where nothing differs and with 3 where something does.`,
		Example: "  lockback compare S1\n  lockback compare S1 S4",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.close()
			from, err := s.snapshot(args[0])
			if err != nil {
				return err
			}
			if from.Machine != s.machine.ID {
				a.note("note: %s is of another machine, %s", from.Name(), s.nameOf(from.Machine))
			}
			name := "now"
			var to *snapshot.Snapshot
			if len(args) == 2 && !strings.EqualFold(args[1], "now") {
				if to, err = s.snapshot(args[1]); err != nil {
					return err
				}
				name = to.Name()
			} else {
				if to, err = s.captureNow(); err != nil {
					return err
				}
			}
			d, err := snapshot.Compare(from, to)
			if err != nil {
				return adviseStore(err)
			}
			if err := s.printDifference(from.Name(), name, d); err != nil {
				return err
			}
			if !d.Empty() {
				return exitError(exitDifferent)
			}
			return nil
		},
	}
}

// captureNow captures the machine for a comparison with the record, and keeps of the contents
// only those that the record does not have.
func (s *session) captureNow() (*snapshot.Snapshot, error) {
	fresh := map[snapshot.Digest][]byte{}
	now, err := snapshot.Capture(s.inventory(), time.Now(), "", snapshot.Keeper{Sections: true, Keep: func(d snapshot.Digest, content []byte) error {
		if _, known := fresh[d]; !known && !s.store.Has(d) {
			fresh[d] = bytes.Clone(content)
		}
		return nil
	}})
	if err == nil {
		err = machine.RanOut()
	}
	if err != nil {
		return nil, err
	}
	now.Load = func(d snapshot.Digest) ([]byte, error) {
		if content, ok := fresh[d]; ok {
			return content, nil
		}
		return s.store.Blob(d)
	}
	return now, nil
}

func (s *session) printDifference(from, to string, d snapshot.Difference) error {
	p := s.printer()
	switch s.format {
	case "json":
		return p.JSON(struct {
			From    string             `json:"from"`
			To      string             `json:"to"`
			Added   []autostart.Entry  `json:"added"`
			Removed []autostart.Entry  `json:"removed"`
			Changed []snapshot.Changed `json:"changed"`
		}{from, to, notNil(d.Added), notNil(d.Removed), notNil(d.Changed)})
	case "csv":
		var rows [][]string
		for _, e := range d.Added {
			rows = append(rows, []string{"added", e.Handle, e.Name, "", "", string(e.State)})
		}
		for _, e := range d.Removed {
			rows = append(rows, []string{"removed", e.Handle, e.Name, "", string(e.State), ""})
		}
		for _, c := range d.Changed {
			for _, f := range c.Fields {
				rows = append(rows, []string{"changed", c.Handle, c.Name, f.Field, f.From, f.To})
			}
		}
		return p.CSV([]string{"what", "handle", "name", "field", "from", "to"}, rows)
	}
	p.Line("%s", heading(describe(s.machine)))
	if d.Empty() {
		p.Line("nothing differs between %s and %s", from, to)
		return nil
	}
	if len(d.Added) > 0 {
		p.Line("")
		p.Bold("Came since " + from)
		p.Table(cameColumns, slices.Values(came(d.Added)))
	}
	if len(d.Removed) > 0 {
		p.Line("")
		p.Bold("Gone since " + from)
		p.Table(cameColumns, slices.Values(came(d.Removed)))
	}
	if len(d.Changed) > 0 {
		p.Line("")
		p.Bold("Changed since " + from)
		var rows [][]view.Cell
		for _, c := range d.Changed {
			for k, f := range together(c.Fields) {
				handle, name := c.Handle, c.Name
				if k > 0 && p.Width > 0 {
					handle, name = "", ""
				}
				rows = append(rows, []view.Cell{view.T(handle), view.T(name), view.T(f.Field), view.T(f.From), view.T(f.To)})
			}
		}
		p.Table([]view.Column{{Title: "handle"}, {Title: "name", Share: 2}, {Title: "what", Share: 2}, {Title: "was", Share: 2}, {Title: "is", Share: 2}}, slices.Values(rows))
	}
	p.Line("")
	p.Line("%d came, %d gone, %d changed between %s and %s", len(d.Added), len(d.Removed), len(d.Changed), from, to)
	return nil
}

// together puts the system's own word for a state beside the state, where both
// changed: a person reads them as one thing.
func together(fields []snapshot.Field) []snapshot.Field {
	if len(fields) < 2 || fields[0].Field != "state" || fields[1].Field != "mode" {
		return fields
	}
	state, mode := fields[0], fields[1]
	join := func(state, mode string) string {
		if mode == "" || mode == state {
			return state
		}
		return state + " (" + mode + ")"
	}
	first := snapshot.Field{Field: "state", From: join(state.From, mode.From), To: join(state.To, mode.To)}
	return append([]snapshot.Field{first}, fields[2:]...)
}

var cameColumns = []view.Column{{Title: "handle"}, {Title: "state"}, {Title: "stage"}, {Title: "name", Share: 2}, {Title: "for"}, {Title: "starts", Share: 3}}

func came(entries []autostart.Entry) [][]view.Cell {
	var rows [][]view.Cell
	for _, e := range entries {
		rows = append(rows, []view.Cell{view.T(e.Handle), view.T(string(e.State)), view.T(string(e.Stage)), view.T(e.Name), view.T(forWhom(e)), view.T(e.Command)})
	}
	return rows
}

// notFound tells which ids there are where one was not found.
func (s *session) notFound(id string, err error) error {
	if !errors.Is(err, change.ErrNotFound) {
		return adviseStore(err)
	}
	have := "the record has none of this machine"
	if snaps, err := s.store.Snapshots(s.machine.ID); err == nil && len(snaps) > 0 {
		have = "the snapshots of this machine are " + snaps[0].Name() + " to " + snaps[len(snaps)-1].Name()
		if len(snaps) == 1 {
			have = "the only snapshot of this machine is " + snaps[0].Name()
		}
	}
	return usageError{fmt.Errorf("there is no %s in %s; %s", strings.ToUpper(id), s.store.Path, have)}
}
