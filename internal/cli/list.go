package cli

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/store"
	"lockback/internal/view"
)

// machineJSON is how a machine stands in JSON.
type machineJSON struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	OS      string `json:"os"`
	Version string `json:"version"`
	Live    bool   `json:"live"`
	Root    string `json:"root"`
}

func describe(m *machine.Machine) machineJSON {
	return machineJSON{m.ID, autostart.Text(m.Name), m.OS, autostart.Text(m.Version), m.Live, m.Root}
}

// heading words a machine for a person.
func heading(m machineJSON) string {
	name := m.Name
	if name == "" {
		name = "a machine without a name"
	}
	h := name + " — " + m.Version
	if m.Live {
		return h + ", running"
	}
	return h + ", mounted at " + m.Root
}

// subject names the machine that something is done to, and which of the two it is: the one at
// hand, or a disk.
func subject(m *machine.Machine) string {
	d := describe(m)
	name := d.Name
	if name == "" {
		name = "a machine without a name"
	}
	if d.Live {
		return name + ", this running computer"
	}
	return name + ", the disk mounted at " + d.Root
}

func (a *app) listCommand() *cobra.Command {
	var all bool
	var o listOptions
	c := &cobra.Command{
		Use:   "list [SELECTOR...]",
		Short: "List what starts by itself",
		Long: `List what starts by itself: by when it starts, and below that by the place that it
starts from. Entries that were disabled stay in the list. Parts of the operating
system are hidden and counted; --all shows them. Places that could not be read are
listed with the reason. What everyone has is one line where it is the same for all
users; its handle chooses all of theirs, and --for NAME one user's.

A bare word is searched anywhere: in names, makers, commands, programs and places.`,
		Example: "  lockback list\n  lockback list stage=sign-in for=ines\n  lockback --root /mnt/disk list problem=target-missing\n  lockback list since=S3 --sort name --columns handle,name,command",
		RunE: func(_ *cobra.Command, words []string) error {
			layout, sortBy, err := o.layout()
			if err != nil {
				return err
			}
			return a.look(func(m *machine.Machine, inv inventory.Inventory, st *store.Store) error {
				c, err := a.choose(m, inv, st, words, scope{all: all, anywhere: true})
				var nothing nothingFound
				if errors.As(err, &nothing) {
					a.note("%s", oneLine(err)) // which is an answer: the rest of the machine was read
				} else if err != nil {
					return err
				}
				entries := entriesOf(c.items)
				if sortBy != nil {
					slices.SortStableFunc(entries, func(a, b *autostart.Entry) int { return sortBy(a, b) })
				}
				p := a.printer()
				switch a.format {
				case "json":
					return view.JSONList(p, struct {
						Machine machineJSON `json:"machine"`
					}{describe(m)}, "entries", entries, struct {
						LeftOut     int                `json:"left_out"`
						Unread      []autostart.Unread `json:"unread"`
						NotLookedAt []string           `json:"not_looked_at"`
					}{c.hidden, notNil(inv.Unread), idsOf(inv.NotLookedAt)}, func(b []byte, e *autostart.Entry) ([]byte, error) { return e.AppendJSON(b), nil })
				case "csv":
					a.noteUnread(inv.Unread)
					return p.EntriesCSV(entries, layout.Columns)
				}
				entries = autostart.OnceForEveryone(entries, entriesOf(inv.Items))
				p.Line("%s", heading(describe(m)))
				if len(entries) > 0 {
					p.Line("")
					p.Entries(entries, layout)
				}
				p.Unread(inv.Unread)
				p.Line("")
				p.Line("%s", view.Counts(entries, c.hidden))
				if o.sort == byCost {
					p.Line("%s", comparedCosts(entries))
				}
				if more := forEveryoneToo(inv, c, all); more > 0 {
					p.Line("and %s for everyone (for=%s shows them too)", view.Number(more, "more", "more"), strings.Join(c.sel.Only("user"), ","))
				}
				if n := len(inv.Unread); n > 0 {
					p.Line("%s could not be read, see above", view.Number(n, "place", "places"))
				}
				if n := len(inv.NotLookedAt); n > 0 {
					p.Line("%s %s not looked at yet (lockback locations names them): this list is not complete", view.Number(n, "kind of place", "kinds of places"), isAre(n))
				}
				return nil
			})
		},
	}
	f := c.Flags()
	f.BoolVar(&all, "all", false, "show parts of the operating system too")
	f.StringVar(&o.group, "group", "place", "the headings: place, stage, maker, product or none")
	f.StringVar(&o.sort, "sort", "", "sort by this `FIELD`, or by cost, without headings unless --group is given")
	f.StringSliceVar(&o.columns, "columns", nil, "a table of these fields: `LIST` of names with commas")
	return c
}

// listOptions say how a list is laid out.
type listOptions struct {
	group, sort string
	columns     []string
}

// layout checks the options.
func (o listOptions) layout() (view.Layout, func(a, b *autostart.Entry) int, error) {
	layout := view.Layout{Group: o.group}
	if !slices.Contains(view.Groupings, o.group) {
		return layout, nil, usage("a list cannot be grouped by %q%s (it is one of %s)", o.group, autostart.Suggest(o.group, view.Groupings), strings.Join(view.Groupings, ", "))
	}
	named := func(name string) (view.Field, error) {
		f, ok := view.FieldNamed(name)
		if !ok {
			return f, usage("entries have no field %q%s (the fields are %s)", name, autostart.Suggest(name, view.FieldNames()), strings.Join(view.FieldNames(), ", "))
		}
		return f, nil
	}
	for _, name := range o.columns {
		f, err := named(name)
		if err != nil {
			return layout, nil, err
		}
		layout.Columns = append(layout.Columns, f)
	}
	if o.sort == "" {
		return layout, nil, nil
	}
	if layout.Group == "place" {
		layout.Group = "none"
	}
	if o.sort == byCost {
		return layout, costliest, nil
	}
	f, err := named(o.sort)
	if err != nil {
		return layout, nil, err
	}
	number := map[string]bool{"line": true, "target_size": true, "cpu_ms": true, "memory_kb": true, "disk_kb": true, "start_ms": true}[f.Name]
	return layout, func(a, b *autostart.Entry) int {
		x, y := f.Value(a), f.Value(b)
		if number {
			n, _ := strconv.ParseInt(x, 10, 64)
			m, _ := strconv.ParseInt(y, 10, 64)
			return cmp.Compare(n, m)
		}
		return strings.Compare(strings.ToLower(x), strings.ToLower(y))
	}, nil
}

// byCost sorts by what programs cost: no field, but several.
const byCost = "cost"

// costliest puts what costs most first: by processor time, then by what was read and written, by how
// long it took to start, and by memory. What has no figures comes last.
func costliest(a, b *autostart.Entry) int {
	switch {
	case a.Cost == nil && b.Cost == nil:
		return 0
	case a.Cost == nil:
		return 1
	case b.Cost == nil:
		return -1
	}
	return cmp.Or(cmp.Compare(b.Cost.CPUMS, a.Cost.CPUMS), cmp.Compare(b.Cost.DiskKB, a.Cost.DiskKB), cmp.Compare(b.Cost.StartMS, a.Cost.StartMS), cmp.Compare(b.Cost.MemoryKB, a.Cost.MemoryKB))
}

// comparedCosts says what a list by cost compares.
func comparedCosts(entries []*autostart.Entry) string {
	of := map[string]int{}
	for _, e := range entries {
		if e.Cost != nil {
			of[cmp.Or(e.Cost.Basis, e.Cost.StartBasis)]++
		}
	}
	if len(of) == 0 {
		return "nothing is known of what these entries cost: the machine keeps no figures that can be read here"
	}
	var parts []string
	for _, basis := range slices.Sorted(maps.Keys(of)) {
		parts = append(parts, fmt.Sprintf("%s: %s", basis, view.Number(of[basis], "entry", "entries")))
	}
	text := "sorted by processor time (" + strings.Join(parts, ", ") + ")"
	if len(of) > 1 {
		text += "; figures of different times stand side by side"
	}
	if n := len(entries); n > 0 {
		none := n
		for _, k := range of {
			none -= k
		}
		if none > 0 {
			text += fmt.Sprintf("; of %s nothing is known", view.Number(none, "entry", "entries"))
		}
	}
	return text
}

// forEveryoneToo counts what starts for everyone besides what a list of one user's own shows: a
// sign-in is not clean because the user's own list is empty.
func forEveryoneToo(inv inventory.Inventory, c choice, all bool) int {
	if c.sel.Only("user") == nil || slices.Contains(c.sel.Only("user"), "") {
		return 0
	}
	sel, n := c.sel.As("user", "for"), 0
	for _, item := range inv.Items {
		if item.User == "" && (all || !item.Hidden()) && sel.Matches(item.Entry) {
			n++
		}
	}
	return n
}

// idsOf are the ids of locations.
func idsOf(locations []location.Location) []string {
	ids := make([]string, len(locations))
	for k, l := range locations {
		ids[k] = l.ID
	}
	return ids
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func entriesOf(items []*location.Item) []*autostart.Entry {
	entries := make([]*autostart.Entry, len(items))
	for k, item := range items {
		entries[k] = &item.Entry
	}
	return entries
}

// notNil makes an empty list [] in JSON.
func notNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// noteUnread tells of unread places where the output has no room for them.
func (a *app) noteUnread(unread []autostart.Unread) {
	for _, u := range unread {
		a.note("not read: %s: %s (%s)", u.Path, u.Reason, u.Location)
	}
}
