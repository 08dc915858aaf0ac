package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/figures"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/view"
)

func (a *app) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare FROM [TO]",
		Short: "Show what differs between two snapshots, or since one, or since a change",
		Long: `Show what differs between two snapshots, or between a snapshot and the machine as
it is now: entries that were added, entries that were removed, and what changed in
the others. What a change of lockback did is told apart from what happened by itself.
From a change on ("compare C2"), what that change did is no difference: it shows what
happened since, and what was put back.
Exits with 0 where nothing differs and with 3 where something does.`,
		Example: "  lockback compare S1\n  lockback compare S1 S4\n  lockback compare C2",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.close()
			fromName, before, since, err := s.compareFrom(args[0])
			if err != nil {
				return err
			}
			if before.Machine != s.machine.ID {
				a.note("note: %s is of another machine, %s", before.Name(), s.nameOf(before.Machine))
			}
			name := "now"
			var to *snapshot.Snapshot
			if len(args) == 2 && !strings.EqualFold(args[1], "now") {
				if to, err = s.snapshot(args[1]); err != nil {
					return err
				}
				name = to.Name()
				if since != nil && to.ID <= since.Snapshot {
					return usage("%s was taken before %s", to.Name(), since.Name())
				}
			} else {
				if to, _, err = s.captureNow(); err != nil {
					return err
				}
			}
			d, err := snapshot.Compare(before, to)
			if err != nil {
				return adviseStore(err)
			}
			if since != nil {
				if d, err = s.engine.Since(*since, d, before, to); err != nil {
					return adviseStore(err)
				}
			}
			doing, err := s.engine.Doing(before, to, d)
			if err != nil {
				return adviseStore(err)
			}
			if err := s.printDifference(fromName, name, d, doing, before.Figures, to.Figures); err != nil {
				return err
			}
			if !d.Empty() {
				return exitError(exitDifferent)
			}
			return nil
		},
	}
}

// compareFrom is where a comparison begins: a snapshot, or a change with the one before it.
func (s *session) compareFrom(id string) (string, *snapshot.Snapshot, *change.Change, error) {
	if !strings.HasPrefix(strings.ToUpper(id), "C") {
		snap, err := s.snapshot(id)
		if err != nil {
			return "", nil, nil, err
		}
		return snap.Name(), snap, nil, nil
	}
	n, err := number(id, "C", "a change")
	if err != nil {
		return "", nil, nil, err
	}
	c, err := s.change(n)
	if err == nil && c.State != change.Done {
		err = usage("%s is %s; compare with S%d, which was taken before it", c.Name(), string(c.State), c.Snapshot)
	}
	if err != nil {
		return "", nil, nil, err
	}
	snap, err := s.snapshot("S" + strconv.Itoa(c.Snapshot))
	return c.Name(), snap, &c, err
}

// captureNow captures the machine for a comparison with the record, and keeps of the contents
// only those that the record does not have.
func (s *session) captureNow() (*snapshot.Snapshot, inventory.Inventory, error) {
	fresh := map[snapshot.Digest][]byte{}
	inv := s.inventory()
	now, err := snapshot.Capture(inv, time.Now(), "", snapshot.Keeper{Sections: true, Keep: func(d snapshot.Digest, content []byte) error {
		if _, known := fresh[d]; !known && !s.store.Has(d) {
			fresh[d] = bytes.Clone(content)
		}
		return nil
	}})
	if err == nil {
		err = machine.RanOut()
	}
	if err != nil {
		return nil, inv, err
	}
	now.Figures = snapshot.FiguresOf(inv)
	now.Load = func(d snapshot.Digest) ([]byte, error) {
		if content, ok := fresh[d]; ok {
			return content, nil
		}
		return s.store.Blob(d)
	}
	return now, inv, nil
}

// changedJSON is an entry that changed, and the change of ours that did it.
type changedJSON struct {
	Handle string           `json:"handle"`
	Name   string           `json:"name"`
	By     string           `json:"by"`
	Fields []snapshot.Field `json:"fields"`
}

func (s *session) printDifference(from, to string, d snapshot.Difference, doing *change.Doing, before, after []figures.Figure) error {
	changed := make([]changedJSON, len(d.Changed))
	for k, c := range d.Changed {
		changed[k] = changedJSON{c.Handle, c.Name, doing.By(c.Handle), c.Fields}
	}
	p := s.printer()
	telling, words := tellingFigures(before, after)
	switch s.format {
	case "json":
		return p.JSON(struct {
			From    string            `json:"from"`
			To      string            `json:"to"`
			Added   []autostart.Entry `json:"added"`
			Removed []autostart.Entry `json:"removed"`
			Changed []changedJSON     `json:"changed"`
			Figures []figureJSON      `json:"figures"`
		}{from, to, notNil(d.Added), notNil(d.Removed), changed, telling})
	case "csv":
		var rows [][]string
		for _, e := range d.Added {
			rows = append(rows, []string{"added", e.Handle, e.Name, doing.By(e.Handle), "", "", string(e.State)})
		}
		for _, e := range d.Removed {
			rows = append(rows, []string{"removed", e.Handle, e.Name, doing.By(e.Handle), "", string(e.State), ""})
		}
		for _, c := range changed {
			for _, f := range c.Fields {
				rows = append(rows, []string{"changed", c.Handle, c.Name, c.By, f.Field, f.From, f.To})
			}
		}
		return p.CSV([]string{"what", "handle", "name", "by", "field", "from", "to"}, rows)
	}
	p.Line("%s", heading(describe(s.machine)))
	ends := func() {
		if d.Fleeting > 0 {
			p.Line("%s until the next restart only and not compared", view.Number(d.Fleeting, "entry is there", "entries are there"))
		}
		if words != "" {
			p.Line("figures: %s (lockback figures has all)", words)
		}
	}
	if d.Empty() {
		p.Line("nothing differs between %s and %s", from, to)
		ends()
		return nil
	}
	section := func(title string) {
		p.Line("")
		p.Bold(title)
	}
	printListed(p, "Added since "+from, d.Added, doing)
	printListed(p, "Removed since "+from, d.Removed, doing)
	var order []string // who did it: nobody of ours first
	by := map[string][]changedJSON{}
	for _, c := range changed {
		if by[c.By] == nil {
			order = append(order, c.By)
		}
		by[c.By] = append(by[c.By], c)
	}
	slices.SortStableFunc(order, func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) })
	for _, who := range order {
		if who == "" {
			section("Changed since " + from + ", not by lockback")
		} else {
			section("Changed since " + from + " by " + who)
		}
		printChanged(p, by[who])
	}
	p.Line("")
	own := len(changed) - len(by[""])
	p.Line("%d added, %d removed, %d changed between %s and %s; %d of the changes %s lockback's own", len(d.Added), len(d.Removed), len(d.Changed), from, to, own, isAre(own))
	ends()
	return nil
}

func printChanged(p view.Printer, changed []changedJSON) {
	if p.Width > 0 {
		for _, c := range changed {
			var lines [][]string
			for _, f := range together(c.Fields) {
				switch {
				case f.What != "":
					lines = append(lines, []string{f.Field + ":", f.What})
				default:
					lines = append(lines, []string{f.Field + ": " + cmp.Or(f.From, "nothing") + " → " + cmp.Or(f.To, "nothing")})
				}
			}
			p.Block(c.Handle+"  "+c.Name, lines)
		}
		return
	}
	p.Table([]view.Column{{Title: "handle"}, {Title: "name"}, {Title: "what"}, {Title: "was"}, {Title: "is"}}, func(yield func([]view.Cell) bool) {
		for _, c := range changed {
			for _, f := range together(c.Fields) {
				was, is := f.From, f.To
				if f.What != "" {
					was, is = "", f.What
				}
				if !yield([]view.Cell{view.T(c.Handle), view.T(c.Name), view.T(f.Field), view.T(was), view.T(is)}) {
					return
				}
			}
		}
	})
}

// printListed writes entries that were added or removed, those that no change of ours did first.
func printListed(p view.Printer, title string, entries []autostart.Entry, doing *change.Doing) {
	by := map[string][]*autostart.Entry{}
	var order []string
	for k := range entries {
		who := doing.By(entries[k].Handle)
		if by[who] == nil {
			order = append(order, who)
		}
		by[who] = append(by[who], &entries[k])
	}
	slices.SortFunc(order, func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) })
	for _, who := range order {
		p.Line("")
		if who == "" {
			p.Bold(title + ", not by lockback")
		} else {
			p.Bold(title + " by " + who)
		}
		p.Entries(by[who], view.Layout{Group: "place"})
	}
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
