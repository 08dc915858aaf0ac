package page

import (
	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/internal/view"
	"slices"
	"strconv"
	"strings"
)

// Location is a kind of place with the outcome of reading it.
type Location struct {
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
var statusWords = map[string]string{"read": "read", "empty": "nothing in it", "absent": "not there",
	"unread": "not readable", "not-looked-at": "not looked at yet"}

// statusOf words the outcome of reading a location.
func statusOf(l Location) string {
	if l.Reason != "" {
		return statusWords[l.Status] + "; could not be read: " + l.Reason
	}
	return statusWords[l.Status]
}

// stacked writes locations below each other: what they are, what reading them gave, and where they
// look.
func (w Writer) stacked(list []Location) {
	for _, l := range list {
		words := []string{l.Stage, statusOf(l)}
		if l.Entries > 0 {
			words = append(words, autostart.Count(l.Entries, "entry", "entries"))
		}
		if l.Switch != "" && l.Switch != string(autostart.Report) {
			words = append(words, "turned off by "+l.Switch)
		}
		where := slices.Clone(l.Where)
		for k := range len(where) - 1 {
			where[k] += ","
		}
		w.Block(l.Title+"  "+l.ID, [][]string{{strings.Join(words, ", ")}, where})
	}
}

// LocationsDocument are the locations of a machine, in JSON.
type LocationsDocument struct {
	Locations []Location `json:"locations"`
}

// Locations lists the locations of a machine, and what reading each gave.
func (w Writer) Locations(inv inventory.Inventory) error {
	all := []Location{}
	for _, r := range inv.Locations {
		all = append(all, Location{r.ID, r.Title, string(r.Stage), string(r.Status), r.Entries, r.Where(),
			string(r.Switch()), r.Reason})
	}
	for _, l := range inv.NotLookedAt {
		all = append(all, Location{l.ID, l.Title, string(l.Stage), string(location.Unlooked), 0, l.Where(), "", ""})
	}
	switch w.Format {
	case "json":
		return w.JSON(LocationsDocument{all})
	case "csv":
		var rows [][]string
		for _, l := range all {
			rows = append(rows, []string{l.ID, l.Title, l.Stage, l.Status, strconv.Itoa(l.Entries),
				strings.Join(l.Where, " "), l.Switch, l.Reason})
		}
		return w.CSV([]string{"id", "title", "stage", "status", "entries", "where", "switch", "reason"}, rows)
	}
	w.Line("%s", Heading(inv.Machine))
	w.Line("")
	unlooked := 0
	for _, l := range all {
		if l.Status == string(location.Unlooked) {
			unlooked++
		}
	}
	if w.Width > 0 {
		w.stacked(all)
	} else {
		w.Table([]view.Column{{Title: "location"}, {Title: "id"}, {Title: "stage"}, {Title: "entries"},
			{Title: "switch"}, {Title: "status"}, {Title: "where"}}, func(yield func([]view.Cell) bool) {
			for _, l := range all {
				if !yield([]view.Cell{view.T(l.Title), view.T(l.ID), view.T(l.Stage), view.T(strconv.Itoa(l.Entries)),
					view.T(l.Switch), view.T(statusOf(l)), view.T(strings.Join(l.Where, ", "))}) {
					return
				}
			}
		})
	}
	w.Line("")
	w.Line("%s read, %d not looked at yet", autostart.Count(len(inv.Locations), "location", "locations"), unlooked)
	return nil
}
