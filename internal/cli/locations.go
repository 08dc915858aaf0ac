package cli

import (
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/internal/view"
)

type locationJSON struct {
	ID      string   `json:"id"`
	Stage   string   `json:"stage"`
	Status  string   `json:"status"`
	Entries int      `json:"entries"`
	Where   []string `json:"where"`
	Switch  string   `json:"switch"`
	Reason  string   `json:"reason"`
}

func (a *app) locationsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "locations",
		Short: "List the places that the system starts things from",
		Long: `List every location of the machine's operating system: whether it was read, is
empty or absent, or could not be read and why; how many entries it has, parts of
the operating system included; and the switch that its entries are turned off with.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.look(func(m *machine.Machine, inv inventory.Inventory) error {
				list := []locationJSON{}
				for _, r := range inv.Locations {
					list = append(list, locationJSON{r.ID, string(r.Stage), string(r.Status), r.Entries, r.Where(), string(r.Switch()), r.Reason})
				}
				p := a.printer()
				switch a.format {
				case "json":
					return p.JSON(struct {
						Locations []locationJSON `json:"locations"`
					}{list})
				case "csv":
					var rows [][]string
					for _, l := range list {
						rows = append(rows, []string{l.ID, l.Stage, l.Status, strconv.Itoa(l.Entries), strings.Join(l.Where, " "), l.Switch, l.Reason})
					}
					return p.CSV([]string{"id", "stage", "status", "entries", "where", "switch", "reason"}, rows)
				}
				p.Line("%s", heading(describe(m)))
				p.Line("")
				var rows [][]view.Cell
				for _, l := range list {
					status := view.Cell{Lines: []string{l.Status}}
					if l.Reason != "" {
						status = view.Cell{Lines: []string{l.Status, "not read: " + l.Reason}, Mark: view.Alert}
					}
					rows = append(rows, []view.Cell{view.T(l.ID), view.T(l.Stage), view.T(strconv.Itoa(l.Entries)), view.T(l.Switch), status, {Lines: []string{strings.Join(l.Where, ", ")}, Mark: view.Quiet}})
				}
				p.Table([]view.Column{{Title: "location"}, {Title: "stage"}, {Title: "entries"}, {Title: "switch"}, {Title: "status", Share: 2}, {Title: "where", Share: 4}}, slices.Values(rows))
				return nil
			})
		},
	}
}
