package cli

import (
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

type locationJSON struct {
	ID      string   `json:"id"`
	Title   string   `json:"title"`
	Stage   string   `json:"stage"`
	Status  string   `json:"status"`
	Entries int      `json:"entries"`
	Where   []string `json:"where"`
	Switch  string   `json:"switch"`
	Reason  string   `json:"reason"`
}

// statusWords are what people read for a status.
var statusWords = map[string]string{"read": "read", "empty": "nothing in it", "absent": "not there", "unread": "not readable", "not-looked-at": "not looked at yet"}

// statusOf words what came of reading a location.
func statusOf(l locationJSON) string {
	if l.Reason != "" {
		return statusWords[l.Status] + "; could not be read: " + l.Reason
	}
	return statusWords[l.Status]
}

// stackLocations writes locations below each other: what they are, what came of them, and where
// they look.
func stackLocations(p view.Printer, list []locationJSON) {
	for _, l := range list {
		told := []string{l.Stage, statusOf(l)}
		if l.Entries > 0 {
			told = append(told, view.Number(l.Entries, "entry", "entries"))
		}
		if l.Switch != "" && l.Switch != string(autostart.Report) {
			told = append(told, "turned off by "+l.Switch)
		}
		where := slices.Clone(l.Where)
		for k := range len(where) - 1 {
			where[k] += ","
		}
		p.Block(l.Title+"  "+l.ID, [][]string{{strings.Join(told, ", ")}, where})
	}
}

func (a *app) locationsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "locations",
		Short: "List the places that the system starts things from",
		Long: `List every location of the machine's operating system: whether it was read, is
empty or absent, or could not be read and why; how many
entries it has, hidden parts of the operating system included; and the switch that
its entries are turned off with (lockback help switches).`,
		Example: "  lockback locations\n  lockback --root /mnt/disk locations --format json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.look(func(m *machine.Machine, inv inventory.Inventory, _ *store.Store) error {
				list := []locationJSON{}
				for _, r := range inv.Locations {
					list = append(list, locationJSON{r.ID, r.Title, string(r.Stage), string(r.Status), r.Entries, r.Where(), string(r.Switch()), r.Reason})
				}
				for _, l := range inv.NotLookedAt {
					list = append(list, locationJSON{l.ID, l.Title, string(l.Stage), string(location.Unlooked), 0, l.Where(), "", ""})
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
						rows = append(rows, []string{l.ID, l.Title, l.Stage, l.Status, strconv.Itoa(l.Entries), strings.Join(l.Where, " "), l.Switch, l.Reason})
					}
					return p.CSV([]string{"id", "title", "stage", "status", "entries", "where", "switch", "reason"}, rows)
				}
				p.Line("%s", heading(describe(m)))
				p.Line("")
				unlooked := 0
				for _, l := range list {
					if l.Status == string(location.Unlooked) {
						unlooked++
					}
				}
				if p.Width > 0 {
					stackLocations(p, list)
				} else {
					p.Table([]view.Column{{Title: "location"}, {Title: "id"}, {Title: "stage"}, {Title: "entries"}, {Title: "switch"}, {Title: "status"}, {Title: "where"}}, func(yield func([]view.Cell) bool) {
						for _, l := range list {
							if !yield([]view.Cell{view.T(l.Title), view.T(l.ID), view.T(l.Stage), view.T(strconv.Itoa(l.Entries)), view.T(l.Switch), view.T(statusOf(l)), view.T(strings.Join(l.Where, ", "))}) {
								return
							}
						}
					})
				}
				p.Line("")
				p.Line("%s read, %d not looked at yet", view.Number(len(inv.Locations), "location", "locations"), unlooked)
				return nil
			})
		},
	}
}
