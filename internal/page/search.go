package page

import (
	"fmt"
	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/culprit"
	"lockback/core/machine"
	"lockback/core/work/rounds"
	"lockback/internal/view"
	"strconv"
	"strings"
	"time"
)

// purposes say what a round is for.
var purposes = map[culprit.Purpose]string{
	culprit.Halve: "Half of the suspects are back as they were before the search; everything else is as it was " +
		"when it worked.",
	culprit.Confirm: "One suspect is left. It alone is as it was when things worked; everything else is as before " +
		"the search: if it works now, that is the one.",
	culprit.Again: "It is still broken without it: there is another culprit, or an answer was wrong. So what was " +
		"reported " +
		"to work is tried again.",
	culprit.Once: "What was reported broken is tried again.",
}

// VerdictWords word the outcome of a search.
func VerdictWords(f *rounds.Search, v culprit.Verdict) []string {
	var words []string
	nameOf := func(u int) string {
		var names []string
		for k, h := range f.Units[u].Handles {
			names = append(names, f.Units[u].Names[k]+" ("+h+")")
		}
		return strings.Join(names, " with ")
	}
	for _, found := range v.Found {
		words = append(words, fmt.Sprintf("Found: %s. It works while it is %s.", nameOf(found.Unit),
			f.WorksWhile(found.Unit)))
	}
	switch {
	case v.None:
		words = append(words, "None of them: it is broken whether they are on or off. All are as before the search.")
	case len(v.Group) > 0:
		var names []string
		for _, u := range v.Group {
			names = append(names, nameOf(u))
		}
		words = append(words, "These can only be switched together, and at least one of them is it: "+
			strings.Join(names, ", ")+
			". All of them are as before the search.")
	case len(v.Found) == 0:
		words = append(words, "Nothing is left to search among: the last suspects were removed meanwhile. All "+
			"are as before the search.")
	case v.Confirmed:
		words = append(words, "All others are as before the search, and it works.")
	default:
		words = append(words, "All others are as before the search. Nobody confirmed that it works this way.")
	}
	for _, m := range v.Mistakes {
		first := "what was said before the search"
		if m.First >= 0 {
			first = "round " + strconv.Itoa(m.First+1)
		}
		words = append(words, fmt.Sprintf("Note: %s and round %d contradict each other; the newer answer counts.",
			first, m.Second+1))
	}
	return words
}

// Verdict shows what was found, and the rounds that prove it.
func (w Writer) Verdict(f *rounds.Search, v culprit.Verdict, words []string) {
	w.Lines(words)
	w.Line("")
	w.Rounds(f)
	w.Line("")
	for _, found := range v.Found {
		works, broken := "as it was before all this", "as it was when the search began"
		if found.Works >= 0 {
			works = "in round " + strconv.Itoa(found.Works+1)
		}
		if found.Broken >= 0 {
			broken = "in round " + strconv.Itoa(found.Broken+1)
		}
		w.Line("The proof for %s: it worked %s with it %s, and was broken %s with it %s as well.",
			f.Units[found.Unit].Names[0], works, f.WorksWhile(found.Unit), broken,
			f.Was[f.Units[found.Unit].Handles[0]])
	}
}

// maxNamed is how many units of a round are named.
const maxNamed = 5

// suspectTitle heads what a round had in the state in which it may be broken.
func suspectTitle(f *rounds.Search) string {
	title := ""
	for _, state := range f.Was {
		if title != "" && title != string(state) {
			return "as before the search"
		}
		title = string(state)
	}
	return title
}

// Rounds lists the rounds of a search.
func (w Writer) Rounds(f *rounds.Search) {
	columns := []view.Column{{Title: "round"}, {Title: "set up"}, {Title: "change"}, {Title: suspectTitle(f), Share: 1},
		{Title: "answer"}}
	w.Table(columns, func(yield func([]view.Cell) bool) {
		for k, r := range f.Rounds {
			name := ""
			if r.Change > 0 {
				name = "C" + strconv.Itoa(r.Change)
			}
			answer := string(r.Answer)
			if answer == "" {
				answer = "waits"
			}
			var names []string
			for k, u := range r.Suspects {
				if k == maxNamed {
					names = append(names, fmt.Sprintf("and %d more", len(r.Suspects)-k))
					break
				}
				names = append(names, f.Units[u].Names[0])
			}
			text := strings.Join(names, ", ")
			if text == "" {
				text = "none"
			}
			if !yield([]view.Cell{view.T(strconv.Itoa(k + 1)), view.T(autostart.Minute(r.Time)), view.T(name),
				view.T(text), view.T(answer)}) {
				return
			}
		}
	})
}

// UnitNames are entries that a search finds together.
type UnitNames struct {
	Handles []string `json:"handles"`
	Names   []string `json:"names"`
}

// VerdictDocument is how a search ended, in JSON.
type VerdictDocument struct {
	Confirmed bool `json:"confirmed"`
	None      bool `json:"none"`
	Mistakes  int  `json:"mistakes"`
}

// SearchDocument is a search for a culprit, and how it ended, in JSON.
type SearchDocument struct {
	Machine Machine         `json:"machine"`
	Begun   string          `json:"begun"`
	Of      string          `json:"of"`
	Ended   bool            `json:"ended"`
	Units   []culprit.Unit  `json:"units"`
	Rounds  []culprit.Round `json:"rounds"`
	Found   []UnitNames     `json:"found"`
	Group   []UnitNames     `json:"group"`
	Verdict VerdictDocument `json:"verdict"`
}

// SearchJSON writes a search, and how it ended; v is nil while it goes on.
func (w Writer) SearchJSON(m *machine.Machine, f *rounds.Search, v *culprit.Verdict) error {
	found, group := []UnitNames{}, []UnitNames{}
	var ended VerdictDocument
	if v != nil {
		for _, one := range v.Found {
			found = append(found, UnitNames{f.Units[one.Unit].Handles, f.Units[one.Unit].Names})
		}
		for _, u := range v.Group {
			group = append(group, UnitNames{f.Units[u].Handles, f.Units[u].Names})
		}
		ended = VerdictDocument{v.Confirmed, v.None, len(v.Mistakes)}
	}
	return w.JSON(SearchDocument{MachineOf(m), f.Begun.Format(time.RFC3339), f.Of, v != nil, f.Units, list(f.Rounds),
		found, group, ended})
}

// SearchStatus says how far a search is.
func (w Writer) SearchStatus(m *machine.Machine, f *rounds.Search) error {
	switch w.Format {
	case "json":
		return w.SearchJSON(m, f, nil)
	case "csv":
		var rows [][]string
		for k, r := range f.Rounds {
			rows = append(rows, []string{strconv.Itoa(k + 1), r.Time.Format(time.RFC3339),
				strconv.Itoa(len(r.Suspects)), string(r.Answer)})
		}
		return w.CSV([]string{"round", "time", "suspects", "answer"}, rows)
	}
	next := f.Logic()
	step := next.Next()
	w.Line("%s", Heading(m))
	w.Line("A search among %s of %s, begun on %s.", autostart.Count(len(f.Units), "entry or group",
		"entries or groups"), f.Of, Dated(f.Begun))
	w.Line("")
	w.Rounds(f)
	w.Line("")
	w.Line("%s", purposes[step.Purpose])
	w.Line("Restart, try what was broken, and say lockback culprit works, broken or skip. About %s more at most; "+
		"lockback culprit stop gives up.", autostart.Count(step.Left-1, "round", "rounds"))
	return nil
}

// RoundWords say what a round is, and what it is for.
func RoundWords(st rounds.Step, f *rounds.Search) []string {
	return []string{fmt.Sprintf("Round %d of about %d of the search among %s of %s.", st.Number, st.Of,
		autostart.Count(len(f.Units), "entry or group", "entries or groups"), f.Of), purposes[st.Purpose]}
}

// SearchNotes say what is no part of a search, those of which the same is said together.
func SearchNotes(left []rounds.LeftOut, spared []change.Spared) []string {
	var notes []string
	for _, l := range left {
		var names []string
		for k, item := range l.Items {
			if k == MostNamed {
				names = append(names, fmt.Sprintf("and %d more", len(l.Items)-k))
				break
			}
			names = append(names, fmt.Sprintf("%s (%s)", item.Name, item.Handle))
		}
		notes = append(notes, fmt.Sprintf("left out: %s: %s", strings.Join(names, ", "), l.Why))
	}
	return append(notes, SparedNotes(spared)...)
}

// GoneNotes name the units that were uninstalled while the search went on.
func GoneNotes(f *rounds.Search) []string {
	var notes []string
	for _, u := range f.Gone() {
		notes = append(notes, fmt.Sprintf("%s was removed since the search began and is out of it",
			strings.Join(u.Names, ", ")))
	}
	return notes
}
