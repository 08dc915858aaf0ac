package page

import (
	"cmp"
	"fmt"
	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/check"
	"lockback/core/figures"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/core/starts"
	"lockback/core/work/trial"
	"lockback/internal/view"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Checked is what a check found.
type Checked struct {
	Machine     *machine.Machine
	Since       *snapshot.Snapshot
	Starts      starts.Starts
	Findings    []check.Finding
	Trials      []trial.Trial
	Before, Now []figures.Figure
	Search      bool // one for a culprit is under way
}

// Wants is how much somebody has to decide.
func (c Checked) Wants() (n int) {
	for _, f := range c.Findings {
		if f.Wants {
			n++
		}
	}
	for _, t := range c.Trials {
		if t.Due {
			n++
		}
	}
	return n
}

// trialWords say whether a trial means anything yet.
func trialWords(t trial.Trial, st starts.Starts) string {
	n, known := st.BootsSince(trial.MomentOf(t.Change))
	words := ""
	if n > 0 {
		words = "restarted " + restarts(n, st)
	}
	switch tried := t.Tried(); {
	case len(t.Entries) == 0:
		return words
	case tried == nil:
		return strings.TrimPrefix(words+"; ", "; ") + "not known whether it was tried: " +
			unknownStarts(t.Restarted == nil && !known, st)
	case *tried && t.SignedIn != nil:
		return cmp.Or(words, "the users it is for have signed in since")
	case *tried:
		return cmp.Or(words, "in force at once")
	case t.Restarted != nil && !*t.Restarted:
		return "not tried yet: not restarted since"
	}
	return strings.TrimPrefix(words+"; ", "; ") + "not tried yet: nobody whom it is for has signed in since"
}

// unknownStarts says what the machine's logs do not tell.
func unknownStarts(boots bool, st starts.Starts) string {
	switch {
	case boots && !st.Perhaps.IsZero():
		return "no log tells of a restart; " + perhapsStarted(st)
	case boots:
		return "no log tells of a restart"
	}
	return "no log tells who signs in"
}

// perhapsStarted words a start of Windows that may have been no restart.
func perhapsStarted(st starts.Starts) string {
	return "Windows' performance log has a start on " + autostart.Minute(st.Perhaps) +
		", which may have been a fast startup"
}

// restarts say how often since, and when the last time.
func restarts(n int, st starts.Starts) string {
	words := times(n) + " since"
	if len(st.Boots) > 0 {
		words += ", the last on " + autostart.Minute(st.Now.Time)
	}
	return words
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return strconv.Itoa(n) + " times"
}

// Finding is a finding for scripts.
type Finding struct {
	Kind     check.Kind       `json:"kind"`
	Decide   bool             `json:"decide"`
	Handle   string           `json:"handle"`
	Name     string           `json:"name"`
	User     string           `json:"user"`
	Location string           `json:"location"`
	State    autostart.State  `json:"state"`
	Change   string           `json:"change"`
	Times    int              `json:"times"`
	Instead  string           `json:"instead"`
	Written  string           `json:"written,omitempty"`
	By       []Author         `json:"by"`
	Update   string           `json:"update"`
	Fields   []snapshot.Field `json:"fields"`
}

// Author is who put an entry back, for scripts.
type Author struct {
	Handle string `json:"handle"` // empty: a policy, with its file's name
	Name   string `json:"name"`
	Why    string `json:"why"`
	Sure   bool   `json:"sure"`
}

// Trial is a change on trial, for scripts.
type Trial struct {
	Change    string      `json:"change"`
	Time      string      `json:"time"`
	Message   string      `json:"message"`
	Entries   []EntryName `json:"entries"`
	Restarted *bool       `json:"restarted" jsonschema:"nullable"`
	SignedIn  *bool       `json:"signed_in" jsonschema:"nullable"`
	Tried     *bool       `json:"tried" jsonschema:"nullable"`
	Try       []string    `json:"try"`
	Remind    string      `json:"remind"`
	Due       bool        `json:"due"`
}

// EntryName is an entry by its handle and name.
type EntryName struct {
	Handle string `json:"handle"`
	Name   string `json:"name"`
}

func findings(all []check.Finding) []Finding {
	docs := make([]Finding, len(all))
	for k, f := range all {
		j := Finding{Kind: f.Kind, Decide: f.Wants, Handle: f.Entry.Handle, Name: f.Entry.Name, User: f.Entry.User,
			Location: f.Entry.Location, State: f.Entry.State,
			Times: f.Times, By: []Author{}, Update: f.Update, Fields: list(f.Fields)}
		if f.Change > 0 {
			j.Change = change.Change{ID: f.Change}.Name()
		}
		if f.Instead != nil {
			j.Instead = f.Instead.Handle
		}
		if !f.At.IsZero() {
			j.Written = f.At.UTC().Format(time.RFC3339)
		}
		for _, by := range f.By {
			author := Author{Name: by.Policy, Why: by.Why, Sure: by.Sure}
			if by.Entry != nil {
				author.Handle, author.Name = by.Entry.Handle, by.Entry.Name
			}
			j.By = append(j.By, author)
		}
		docs[k] = j
	}
	return docs
}

func trials(all []trial.Trial) []Trial {
	docs := make([]Trial, len(all))
	for k, t := range all {
		j := Trial{Change: t.Change.Name(), Time: t.Change.Time.Format(time.RFC3339), Message: ItemOf(t.Change).Message,
			Entries: []EntryName{}, Restarted: t.Restarted, SignedIn: t.SignedIn,
			Tried: t.Tried(), Try: tryWords(t.Try), Remind: t.Remind.UTC().Format(time.RFC3339), Due: t.Due}
		for _, e := range t.Entries {
			j.Entries = append(j.Entries, EntryName{e.Handle, e.Name})
		}
		docs[k] = j
	}
	return docs
}

// tryWords word what somebody should try.
func tryWords(all []trial.Try) []string {
	lines := make([]string, len(all))
	for k, t := range all {
		var what []string
		if t.Does != "" && !strings.HasPrefix(strings.ToLower(t.Name), strings.ToLower(t.Does)) {
			what = append(what, t.Does)
		}
		for _, without := range t.Without {
			what = append(what, "without it: "+without)
		}
		lines[k] = strings.TrimSuffix(t.Name+": "+strings.Join(what, "; "), ": ")
	}
	return lines
}

// Restarts say how often the machine was started since a moment.
type Restarts struct {
	Known bool     `json:"known"`
	Count int      `json:"count"`
	Last  string   `json:"last,omitempty"`
	From  []string `json:"from"`
}

// CheckDocument is what a check found, in JSON.
type CheckDocument struct {
	Machine  Machine   `json:"machine"`
	From     string    `json:"from"`
	Time     string    `json:"time"`
	Restarts Restarts  `json:"restarts"`
	Decide   int       `json:"decide"`
	Findings []Finding `json:"findings"`
	Trials   []Trial   `json:"trials"`
	Figures  []Figure  `json:"figures"`
}

// Check tells what a check found; with all, what updates did to parts of the system too.
func (w Writer) Check(r Checked, all bool) error {
	telling, words := tellingFigures(r.Before, r.Now)
	switch w.Format {
	case "json":
		restarts := Restarts{From: list(r.Starts.BootsFrom)}
		restarts.Count, restarts.Known = r.Starts.BootsSince(trial.MomentOfSnapshot(r.Since))
		if len(r.Starts.Boots) > 0 {
			restarts.Last = r.Starts.Now.Time.Format(time.RFC3339)
		}
		return w.JSON(CheckDocument{MachineOf(r.Machine), r.Since.Name(), r.Since.Time.Format(time.RFC3339), restarts,
			r.Wants(), findings(r.Findings), trials(r.Trials), telling})
	case "csv":
		var rows [][]string
		for _, f := range findings(r.Findings) {
			var by []string
			for _, a := range f.By {
				by = append(by, cmp.Or(a.Handle, "policy"))
			}
			rows = append(rows, []string{string(f.Kind), strconv.FormatBool(f.Decide), f.Handle, f.Name, f.User,
				string(f.State), f.Change, strconv.Itoa(f.Times), strings.Join(by, " "), f.Update})
		}
		return w.CSV([]string{"kind", "decide", "handle", "name", "user", "state", "change", "times", "by", "update"},
			rows)
	}
	if w.Quiet && r.Wants() == 0 {
		return nil
	}
	w.Line("%s", Heading(r.Machine))
	w.Line("Since %s of %s. %s", r.Since.Name(), Dated(r.Since.Time), restartWords(r.Starts,
		trial.MomentOfSnapshot(r.Since)))
	byKind := map[check.Kind][]check.Finding{}
	for _, f := range r.Findings {
		byKind[f.Kind] = append(byKind[f.Kind], f)
	}
	for _, kind := range check.Kinds {
		if some := byKind[kind]; slices.ContainsFunc(some, func(f check.Finding) bool { return f.Wants }) {
			w.Line("")
			w.Bold(kindTitles[kind])
			for _, f := range some {
				if f.Wants {
					w.finding(f)
				}
			}
		}
	}
	w.trials(r)
	if !w.Quiet {
		w.harmless(byKind, all)
		if words != "" {
			w.Line("")
			w.Line("figures: %s (lockback figures has all)", words)
		}
	}
	w.Line("")
	switch n := r.Wants(); {
	case n > 0:
		w.Line("%s to decide.", autostart.Count(n, "thing", "things"))
	case len(r.Findings) == 0:
		w.Line("Nothing to decide: all is as it was left.")
	default:
		w.Line("Nothing to decide.")
	}
	if r.Search {
		w.Line("A search for a culprit is under way: lockback culprit")
	}
	return nil
}

// kindTitles head what has to be decided.
var kindTitles = map[check.Kind]string{
	check.PutBack: "Turned off, and on again by itself", check.Added: "Added",
	check.Replaced: "Another program or command", check.Problem: "Something is wrong now",
	check.TurnedOn: "Turned on, not by lockback",
}

// restartWords say how often the machine was started since a moment.
func restartWords(st starts.Starts, since starts.Moment) string {
	n, known := st.BootsSince(since)
	switch {
	case !known && st.Perhaps.After(since.Time):
		return "Not known whether it was restarted since: " + perhapsStarted(st) + "."
	case !known:
		return "Not known whether it was restarted since: no log tells."
	case n == 0:
		return "Not restarted since."
	}
	return "Restarted " + restarts(n, st) + "."
}

// finding tells of one thing that has to be decided, and how.
func (w Writer) finding(f check.Finding) {
	e := f.Entry
	lines := [][]string{{cmp.Or(e.Place, e.Location), e.Command}}
	switch f.Kind {
	case check.PutBack:
		did := "turned it off"
		if f.Left == change.Removed {
			did = "removed it"
		}
		words := fmt.Sprintf("C%d %s", f.Change, did)
		if f.Instead != nil {
			words = fmt.Sprintf("starts the same as %s (%s), which C%d turned off", f.Instead.Name, f.Instead.Handle,
				f.Change)
		}
		if f.Times > 1 {
			words += "; it came back " + times(f.Times) + " by now"
		}
		lines = append(lines, []string{words})
	case check.Added:
		if known := e.Facts(); known.Maker.Name != "" {
			lines = append(lines, []string{"made by " + view.MadeBy(e)})
		}
	default:
		for _, field := range together(f.Fields) {
			lines = append(lines, []string{fieldWords(field)})
		}
	}
	for _, problem := range view.Problems(e) {
		lines = append(lines, []string{problem})
	}
	if !f.At.IsZero() {
		lines = append(lines, []string{"written on " + autostart.Minute(f.At)})
	}
	if f.Kind == check.PutBack && f.Update != "" {
		lines = append(lines, []string{"its package " + f.Update + " was installed or upgraded since"})
	}
	again := []string{e.Handle}
	for _, by := range f.By {
		head := "perhaps put there by "
		if by.Sure {
			head = "put there by "
		}
		if by.Entry == nil {
			lines = append(lines, []string{head + by.Policy + ":", by.Why})
			continue
		}
		lines = append(lines, []string{head + by.Entry.Name + " (" + by.Entry.Handle + "):", by.Why})
		if by.Sure && by.Entry.Guarded == "" {
			again = append(again, by.Entry.Handle)
		}
	}
	if f.Looked && len(f.By) == 0 {
		lines = append(lines, []string{"what put it there was not found"})
	}
	switch {
	case e.Guarded != "":
		lines = append(lines, []string{"protected: " + e.Guarded})
	case e.Switch == autostart.Report:
		lines = append(lines, []string{"it cannot be turned off here"})
	case f.Kind == check.PutBack:
		lines = append(lines, []string{"off again:", "lockback disable " + strings.Join(again, " ")})
		if f.Holds {
			lines = append(lines, []string{"and kept off:", "lockback disable " + e.Handle + " --hold"})
		}
		lines = append(lines, []string{"it may stay:", "lockback accept " + e.Handle})
	default:
		lines = append(lines, []string{"to turn it off:", "lockback disable " + strings.Join(again, " ")})
	}
	w.Line("  %s  %s  for %s", e.Handle, e.Name, view.Whose(e))
	w.Below(lines)
}

func fieldWords(f snapshot.Field) string {
	if f.What != "" {
		return f.Field + ": " + f.What
	}
	return f.Field + ": " + cmp.Or(f.From, "nothing") + " → " + cmp.Or(f.To, "nothing")
}

// maxTried is how many things to try are named of one change, and how many entries.
const maxTried = 6

// trials tells what is on trial: with --quiet, only what is due.
func (w Writer) trials(r Checked) {
	titled := false
	for _, t := range r.Trials {
		if w.Quiet && !t.Due {
			continue
		}
		if !titled {
			w.Line("")
			w.Bold("On trial")
			titled = true
		}
		var names []string
		for k, e := range t.Entries {
			if k == maxTried {
				names = append(names, fmt.Sprintf("and %d more", len(t.Entries)-k))
				break
			}
			names = append(names, e.Name)
		}
		lines := [][]string{{t.Change.Words()}, {cmp.Or(strings.Join(names, ", "), "none of its entries is the way it "+
			"left them")}}
		if words := trialWords(t, r.Starts); words != "" {
			lines = append(lines, []string{words})
		}
		for k, try := range tryWords(t.Try) {
			if k == maxTried {
				lines = append(lines, []string{fmt.Sprintf("and %d more, see lockback show", len(t.Try)-k)})
				break
			}
			head := "     "
			if k == 0 {
				head = "try: "
			}
			lines = append(lines, []string{head + try})
		}
		id := t.Change.Name()
		if t.Due {
			lines = append(lines, []string{fmt.Sprintf("%s without a decision:", autostart.Count(t.Change.Trial, "day",
				"days"))})
		}
		lines = append(lines, []string{"all is well:", "lockback keep " + id}, []string{"something is missing:",
			"lockback undo " + id}, []string{"not sure which one:", "lockback culprit start " + id})
		w.Line("  %s of %s", id, Dated(t.Change.Time))
		w.Below(lines)
	}
}

// maxHarmless is how many entries of one kind are named that nobody has to decide on.
const maxHarmless = 12

// harmless tells what happened that is no reason to decide anything: what has something to do with packages and
// the system by who did it, the rest by what it is.
func (w Writer) harmless(byKind map[check.Kind][]check.Finding, all bool) {
	titled := false
	line := func(what string, names []string) {
		if len(names) == 0 {
			return
		}
		if !titled {
			w.Line("")
			w.Bold("No reason to decide anything")
			titled = true
		}
		if n := len(names); n > maxHarmless && !all {
			names = append(slices.Clone(names[:maxHarmless]), fmt.Sprintf("and %d more (--all names them)",
				n-maxHarmless))
		}
		w.Line("  %s: %s", what, strings.Join(names, ", "))
	}
	for _, kind := range check.Kinds {
		var names []string
		updates := map[string][]string{}
		for _, f := range byKind[kind] {
			switch name := f.Entry.Name; {
			case f.Wants:
			case kind == check.Updated:
				updates[f.Update] = append(updates[f.Update], name)
			default:
				names = append(names, name)
			}
		}
		line(harmlessTitles[kind], names)
		var packages []string
		for name := range updates {
			if name != systemUpdate {
				packages = append(packages, name)
			}
		}
		slices.Sort(packages)
		for _, name := range packages {
			line("came with the package "+name, updates[name])
		}
		if parts := updates[systemUpdate]; all {
			line("parts of the operating system that changed", parts)
		} else if len(parts) > 0 {
			line("parts of the operating system that changed", []string{strconv.Itoa(len(parts)) +
				" (--all names them)"})
		}
	}
}

const systemUpdate = "the operating system"

// harmlessTitles head what nobody has to decide.
var harmlessTitles = map[check.Kind]string{
	check.Added: "added, and disabled", check.Replaced: "updated by its maker, or disabled",
	check.Problem: "something is wrong, and disabled", check.TurnedOff: "turned off, not by lockback",
	check.Removed: "removed, not by lockback", check.Changed: "changed otherwise",
}
