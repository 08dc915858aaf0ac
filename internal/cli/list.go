package cli

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/work"
	"lockback/internal/page"
	"lockback/internal/view"
)

func newListCommand(a *app) *cobra.Command {
	var all bool
	var o listOptions
	c := &cobra.Command{
		Use:   "list [SELECTOR...]",
		Short: "List what starts automatically",
		Long: `List what starts automatically. On a terminal the list begins with what to look at first
and what costs most; then each entry is one line, by when it starts, those that need a
look first. --brief stops before the entries. What is longer than the screen goes through
the pager that PAGER names, or less; --no-pager leaves it out. A pipe gets the entries
alone, each whole on one line.

Disabled entries stay in the list. Parts of the operating system are hidden and counted; --all
shows them. Places that could not be read are listed with the reason. An entry that is the
same for all users is one line; its handle chooses all of them, and --for NAME one user's.

A bare word is searched for anywhere: in names, makers, commands, programs and places.`,
		Example: "  lockback list\n  lockback list --brief\n  lockback list state=off problem=missing\n  lockback list " +
			"stage=sign-in for=ines --commands\n  lockback --root /mnt/disk list " +
			"problem=target-missing\n  lockback list since=S3 --sort name --columns handle,name,command",
		RunE: func(_ *cobra.Command, words []string) error {
			layout, sortBy, err := o.layout()
			if err != nil {
				return err
			}
			return a.look(func(s *session, inv inventory.Inventory) error {
				c, err := s.Choose(inv, words, work.Scope{All: all, Anywhere: true})
				if err = a.nothingFound(err); err != nil {
					return err
				}
				entries := work.Entries(c.Items)
				if sortBy != nil {
					slices.SortStableFunc(entries, func(a, b *autostart.Entry) int { return sortBy(a, b) })
				}
				how := page.ListView{Layout: layout, ByCost: o.sort == view.Cost,
					Sorted: sortBy != nil, Brief: o.brief, Selected: !c.Selector.Empty() || len(words) > 0,
					More: work.ForEveryoneToo(inv, c, all)}
				return a.paged(func() error { return a.page().List(inv, c, entries, how) })
			})
		},
	}
	f := c.Flags()
	f.BoolVar(&all, "all", false, "show parts of the operating system too")
	f.BoolVar(&o.brief, "brief", false, "only what to look at first, what costs most, and the count")
	f.BoolVar(&o.commands, "commands", false, "the command line below each entry")
	f.StringVar(&o.group, "group", "stage", "the headings: stage, place, maker, product or none")
	f.StringVar(&o.sort, "sort", "", "sort by this `FIELD`, or by cost, without headings unless --group is given")
	f.StringSliceVar(&o.columns, "columns", nil, "a table of these fields: `LIST` of names with commas")
	return c
}

// listOptions say how a list is laid out.
type listOptions struct {
	group, sort     string
	columns         []string
	brief, commands bool
}

// layout checks the options.
func (o listOptions) layout() (view.Layout, func(a, b *autostart.Entry) int, error) {
	layout := view.Layout{Group: o.group, Commands: o.commands}
	if !slices.Contains(view.Groupings, o.group) {
		return layout, nil, usage("a list cannot be grouped by %q%s (it is one of %s)", o.group,
			autostart.Suggest(o.group, view.Groupings), strings.Join(view.Groupings, ", "))
	}
	named := func(name string) (view.Field, error) {
		f, ok := view.FieldNamed(name)
		if !ok {
			return f, usage("entries have no field %q%s (the fields are %s)", name, autostart.Suggest(name,
				view.ColumnNames()), strings.Join(view.ColumnNames(), ", "))
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
	if layout.Group == "stage" {
		layout.Group = "none"
	}
	if o.sort == view.Cost {
		return layout, page.Costliest, nil
	}
	f, err := named(o.sort)
	if err != nil {
		return layout, nil, err
	}
	number := map[string]bool{"line": true, "target_size": true, "cpu_ms": true, "memory_kb": true, "disk_kb": true,
		"start_ms": true}[f.Name]
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
