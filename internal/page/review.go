package page

import (
	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/review"
	"lockback/internal/view"
	"strings"
)

// Suggestion is an entry that could be turned off.
type Suggestion struct {
	Handle string `json:"handle"`
	Name   string `json:"name"`
	User   string `json:"user"`
	Kind   string `json:"kind"`
	Why    string `json:"why"`
}

// SuggestionsDocument are suggestions, in JSON.
type SuggestionsDocument struct {
	Machine     Machine      `json:"machine"`
	Suggestions []Suggestion `json:"suggestions"`
}

// Suggestions lists what could be turned off.
func (w Writer) Suggestions(m *machine.Machine, all []review.Suggestion) error {
	docs := make([]Suggestion, len(all))
	for k, s := range all {
		docs[k] = Suggestion{s.Item.Handle, s.Item.Name, s.Item.User, s.Kind, s.Why}
	}
	switch w.Format {
	case "json":
		return w.JSON(SuggestionsDocument{MachineOf(m), docs})
	case "csv":
		var rows [][]string
		for _, s := range docs {
			rows = append(rows, []string{s.Handle, s.Name, s.User, s.Kind, s.Why})
		}
		return w.CSV([]string{"handle", "name", "user", "kind", "why"}, rows)
	}
	w.Line("%s", Heading(m))
	w.Line("")
	if len(all) > 0 {
		w.Table([]view.Column{{Title: "handle"}, {Title: "name", Share: 2}, {Title: "for"}, {Title: "kind"},
			{Title: "because", Share: 4}}, func(yield func([]view.Cell) bool) {
			for k, s := range docs {
				if !yield([]view.Cell{view.T(s.Handle), view.T(s.Name), view.T(view.Whose(&all[k].Item.Entry)),
					view.T(s.Kind), view.T(s.Why)}) {
					return
				}
			}
		})
		w.Line("")
	}
	w.Line("%s could be turned off; nothing was. lockback review goes through them", autostart.Count(len(all), "entry",
		"entries"))
	return nil
}

// FixedWords say that an entry cannot be turned off, and why.
func FixedWords(why string) string {
	for _, head := range []string{"cannot be turned on or off here", "it cannot be turned off here"} {
		why = strings.TrimPrefix(strings.TrimPrefix(why, head), ": ")
	}
	return strings.TrimSuffix("cannot be turned off here: "+why, ": ")
}

// ReviewEntry is an entry in the order of a review, with the answer so far.
type ReviewEntry struct {
	Handle   string `json:"handle"`
	Name     string `json:"name"`
	User     string `json:"user"`
	State    string `json:"state"`
	Why      string `json:"why"`
	Proposed string `json:"proposed"`
	Answer   string `json:"answer"`
}

// ReviewDocument is the order of a review, in JSON.
type ReviewDocument struct {
	Machine Machine       `json:"machine"`
	Entries []ReviewEntry `json:"entries"`
}

// ReviewOrder lists the order of a review, for scripts.
func (w Writer) ReviewOrder(m *machine.Machine, order []review.Place, proposals []review.Suggestion,
	answers map[string]string) error {
	propose := map[string]string{}
	for _, g := range proposals {
		propose[g.Item.Handle] = g.Kind
	}
	docs := []ReviewEntry{}
	for _, p := range order {
		docs = append(docs, ReviewEntry{p.Item.Handle, p.Item.Name, p.Item.User, string(p.Item.State), p.Why,
			propose[p.Item.Handle], answers[p.Item.Handle]})
	}
	if w.Format == "csv" {
		var rows [][]string
		for _, p := range docs {
			rows = append(rows, []string{p.Handle, p.Name, p.User, p.State, p.Why, p.Proposed, p.Answer})
		}
		return w.CSV([]string{"handle", "name", "user", "state", "why", "proposed", "answer"}, rows)
	}
	return w.JSON(ReviewDocument{MachineOf(m), docs})
}
