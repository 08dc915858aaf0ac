package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/check"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/snapshot"
	"lockback/core/starts"
	"lockback/core/store"
	"lockback/internal/view"
)

func (a *app) checkCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "check [SNAPSHOT]",
		Short: "Say what happened since, and what is on trial",
		Long: `Say what happened since the last snapshot that somebody took, or since the one that is
named: what was turned off and put itself back, and who did it, as far as files, packages, policies
and the system's logs tell; what came by itself; which program is another one now; what broke.
What an update of the system or of a package by the package manager did is told apart,
and so is what somebody turned off: that is no reason to worry.

Every disable is on trial until keep confirms it. check says whether the computer
was restarted since, or the users signed in, so that the trial means anything, and
what to try. After 14 days, or as disable --trial says, it asks for a decision.

Exits with 3 where something has to be decided. With --quiet nothing else is printed,
for runs by the clock.`,
		Example: "  lockback check\n  lockback check S3\n  lockback check --quiet",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(store.Read)
			if err != nil {
				return err
			}
			defer s.close()
			if err := s.settled(); err != nil {
				return err
			}
			r, err := s.check(args)
			if err != nil {
				return err
			}
			if err := s.printCheck(r, all); err != nil {
				return err
			}
			if r.wants() > 0 {
				return exitError(exitDifferent)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "list what updates did to parts of the operating system, too")
	return c
}

// checked is what a check found.
type checked struct {
	since    *snapshot.Snapshot
	starts   starts.Starts
	findings []check.Finding
	trials   []trial
	figures  []figureJSON
	words    string // of the figures
	search   bool   // one for a culprit is under way
}

// wants is how much somebody has to decide.
func (c checked) wants() (n int) {
	for _, f := range c.findings {
		if f.Wants {
			n++
		}
	}
	for _, t := range c.trials {
		if t.due {
			n++
		}
	}
	return n
}

// check compares the machine with a snapshot, by default the last one.
func (s *session) check(args []string) (checked, error) {
	var r checked
	var err error
	if len(args) == 1 {
		r.since, err = s.snapshot(args[0])
		if err == nil && r.since.Machine != s.machine.ID {
			err = usage("%s is of another machine, %s", r.since.Name(), s.nameOf(r.since.Machine))
		}
	} else {
		r.since, err = s.lastSnapshot()
	}
	if err != nil {
		return r, err
	}
	now, inv, err := s.captureNow()
	if err != nil {
		return r, err
	}
	diff, err := snapshot.Compare(r.since, now)
	if err != nil {
		return r, adviseStore(err)
	}
	doing, err := s.engine.Doing(r.since, now, diff)
	if err != nil {
		return r, adviseStore(err)
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return r, adviseStore(err)
	}
	decisions, err := s.store.Decisions(s.machine.ID)
	if err != nil {
		return r, adviseStore(err)
	}
	r.starts = starts.Read(s.machine)
	in := check.Input{Machine: s.machine, Memory: s.memory, Before: r.since, Diff: diff, Ours: doing.By, Decisions: decisions, Changes: changes, Items: inv.Items, Snapshot: s.store.Snapshot}
	if r.findings, err = check.Find(in); err != nil {
		return r, adviseStore(err)
	}
	r.figures, r.words = tellingFigures(r.since.Figures, now.Figures)
	for _, c := range changes {
		if c.OnTrial() {
			r.trials = append(r.trials, s.trialOf(c, inv, r.starts, time.Now()))
		}
	}
	state, err := s.store.Search(s.machine.ID)
	r.search = state != ""
	return r, adviseStore(err)
}

// lastSnapshot is the newest snapshot of the machine that somebody took; where nobody did, the first one that a change
// took. One that a change took says nothing of what somebody has seen.
func (s *session) lastSnapshot() (*snapshot.Snapshot, error) {
	all, err := s.store.Snapshots(s.machine.ID)
	if err != nil {
		return nil, adviseStore(err)
	}
	if len(all) == 0 {
		return nil, usage("the record %s has no snapshot of this machine to check against; take one with lockback snapshot", s.store.Path)
	}
	changes, err := s.store.Changes(s.machine.ID)
	if err != nil {
		return nil, adviseStore(err)
	}
	automatic := map[int]bool{}
	for _, c := range changes {
		automatic[c.Snapshot] = true
	}
	for _, snap := range slices.Backward(all) {
		if !automatic[snap.ID] {
			return s.snapshot(snap.Name())
		}
	}
	return s.snapshot(all[0].Name())
}

// trial is a change that nobody has confirmed yet.
type trial struct {
	change change.Change
	// entries are those that it left disabled, or enabled, and that are still so.
	entries []*autostart.Entry
	// restarted and signedIn say whether what the entries need has happened since; nil where they do not need it, or
	// where that is not known.
	restarted, signedIn *bool
	needs               bool // a restart or a sign-in
	try                 []string
	remind              time.Time
	due                 bool
}

// tried says whether the trial means anything by now; nil where that is not known.
func (t trial) tried() *bool {
	yes, no := true, false
	switch {
	case len(t.entries) == 0: // nothing is left to try
	case t.restarted != nil && !*t.restarted, t.signedIn != nil && !*t.signedIn:
		return &no
	case !t.needs, t.restarted != nil, t.signedIn != nil:
		return &yes
	}
	return nil
}

// trialOf is how a change does.
func (s *session) trialOf(c change.Change, inv inventory.Inventory, st starts.Starts, now time.Time) trial {
	t := trial{change: c, remind: c.Time.AddDate(0, 0, c.Trial)}
	t.due = !now.Before(t.remind)
	full, err := s.store.Change(c.ID)
	if err != nil {
		return t
	}
	known := inv.ByHandle()
	need := needsOf{starts: st, since: momentOf(c)}
	for _, o := range full.Outcomes {
		for _, h := range o.Handles {
			item := known[h]
			if item == nil || item.State != o.State && !(o.State == change.Removed && change.Taken(item)) {
				continue
			}
			t.entries = append(t.entries, &item.Entry)
			need.add(item)
			if o.State != autostart.Enabled {
				t.try = appendTry(t.try, item)
			}
		}
	}
	if len(full.Outcomes) == 0 { // for one user only, or of an early version
		for _, n := range s.touchedBy(full) {
			if item := known[n.Handle]; item != nil {
				t.entries = append(t.entries, &item.Entry)
				need.add(item)
			}
		}
	}
	t.restarted, t.signedIn, t.needs = need.restarted, need.signedIn, need.any
	return t
}

// appendTry adds what a program did, and what is lost without it: what somebody should try.
func appendTry(all []string, item *location.Item) []string {
	var what []string
	if d := item.Entry.Facts().Description; d != "" {
		what = append(what, d)
	}
	if item.Facts != nil {
		for _, f := range item.Facts() {
			if f.Kind == autostart.FactWithoutIt && f.Value != "" {
				what = append(what, "without it: "+autostart.Text(f.Value))
			}
		}
	}
	if len(what) == 0 {
		return all
	}
	line := strings.TrimSpace(item.Name) + ": " + strings.Join(what, "; ")
	if slices.Contains(all, line) {
		return all // everyone's entry, once for each user
	}
	return append(all, line)
}

// words say whether a trial means anything yet.
func (t trial) words(st starts.Starts) string {
	n, known := st.BootsSince(momentOf(t.change))
	told := ""
	if n > 0 {
		told = "restarted " + restarts(n, st)
	}
	switch tried := t.tried(); {
	case len(t.entries) == 0:
		return told
	case tried == nil:
		return strings.TrimPrefix(told+"; ", "; ") + "whether it was tried is not known: " + unknownStarts(t.restarted == nil && !known)
	case *tried && t.signedIn != nil:
		return cmp.Or(told, "the users it is for have signed in since")
	case *tried:
		return cmp.Or(told, "in force at once")
	case t.restarted != nil && !*t.restarted:
		return "not tried yet: not restarted since"
	}
	return strings.TrimPrefix(told+"; ", "; ") + "not tried yet: nobody whom it is for has signed in since"
}

// unknownStarts says what the system does not tell.
func unknownStarts(boots bool) string {
	if boots {
		return "the system does not note when it is started"
	}
	return "the system does not note who signs in"
}

// restarts say how often since, and when the last time.
func restarts(n int, st starts.Starts) string {
	words := times(n) + " since"
	if len(st.Boots) > 0 {
		words += ", the last on " + local(st.Now.Time)
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

// findingJSON is a finding for scripts.
type findingJSON struct {
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
	By       []authorJSON     `json:"by"`
	Update   string           `json:"update"`
	Fields   []snapshot.Field `json:"fields"`
}

type authorJSON struct {
	Handle string `json:"handle"` // empty: a policy, with its file's name
	Name   string `json:"name"`
	Why    string `json:"why"`
	Sure   bool   `json:"sure"`
}

type trialJSON struct {
	Change    string      `json:"change"`
	Time      string      `json:"time"`
	Message   string      `json:"message"`
	Entries   []trialName `json:"entries"`
	Restarted *bool       `json:"restarted"`
	SignedIn  *bool       `json:"signed_in"`
	Tried     *bool       `json:"tried"`
	Try       []string    `json:"try"`
	Remind    string      `json:"remind"`
	Due       bool        `json:"due"`
}

type trialName struct {
	Handle string `json:"handle"`
	Name   string `json:"name"`
}

func findingsJSON(all []check.Finding) []findingJSON {
	list := make([]findingJSON, len(all))
	for k, f := range all {
		j := findingJSON{Kind: f.Kind, Decide: f.Wants, Handle: f.Entry.Handle, Name: f.Entry.Name, User: f.Entry.User, Location: f.Entry.Location, State: f.Entry.State,
			Times: f.Times, By: []authorJSON{}, Update: f.Update, Fields: notNil(f.Fields)}
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
			author := authorJSON{Name: by.Policy, Why: by.Why, Sure: by.Sure}
			if by.Entry != nil {
				author.Handle, author.Name = by.Entry.Handle, by.Entry.Name
			}
			j.By = append(j.By, author)
		}
		list[k] = j
	}
	return list
}

func trialsJSON(all []trial) []trialJSON {
	list := make([]trialJSON, len(all))
	for k, t := range all {
		j := trialJSON{Change: t.change.Name(), Time: t.change.Time.Format(time.RFC3339), Message: changeItem(t.change).Message, Entries: []trialName{}, Restarted: t.restarted, SignedIn: t.signedIn,
			Tried: t.tried(), Try: notNil(t.try), Remind: t.remind.UTC().Format(time.RFC3339), Due: t.due}
		for _, e := range t.entries {
			j.Entries = append(j.Entries, trialName{e.Handle, e.Name})
		}
		list[k] = j
	}
	return list
}

func (s *session) printCheck(r checked, all bool) error {
	p := s.printer()
	switch s.format {
	case "json":
		restarts := struct {
			Known bool     `json:"known"`
			Count int      `json:"count"`
			Last  string   `json:"last,omitempty"`
			From  []string `json:"from"`
		}{From: notNil(r.starts.BootsFrom)}
		restarts.Count, restarts.Known = r.starts.BootsSince(momentOfSnapshot(r.since))
		if len(r.starts.Boots) > 0 {
			restarts.Last = r.starts.Now.Time.Format(time.RFC3339)
		}
		return p.JSON(struct {
			Machine  machineJSON   `json:"machine"`
			From     string        `json:"from"`
			Time     string        `json:"time"`
			Restarts any           `json:"restarts"`
			Decide   int           `json:"decide"`
			Findings []findingJSON `json:"findings"`
			Trials   []trialJSON   `json:"trials"`
			Figures  []figureJSON  `json:"figures"`
		}{describe(s.machine), r.since.Name(), r.since.Time.Format(time.RFC3339), restarts, r.wants(), findingsJSON(r.findings), trialsJSON(r.trials), r.figures})
	case "csv":
		var rows [][]string
		for _, f := range findingsJSON(r.findings) {
			var by []string
			for _, a := range f.By {
				by = append(by, cmp.Or(a.Handle, "policy"))
			}
			rows = append(rows, []string{string(f.Kind), strconv.FormatBool(f.Decide), f.Handle, f.Name, f.User, string(f.State), f.Change, strconv.Itoa(f.Times), strings.Join(by, " "), f.Update})
		}
		return p.CSV([]string{"kind", "decide", "handle", "name", "user", "state", "change", "times", "by", "update"}, rows)
	}
	if s.quiet && r.wants() == 0 {
		return nil
	}
	p.Line("%s", heading(describe(s.machine)))
	p.Line("Since %s of %s. %s", r.since.Name(), dated(r.since.Time), restartWords(r.starts, momentOfSnapshot(r.since)))
	byKind := map[check.Kind][]check.Finding{}
	for _, f := range r.findings {
		byKind[f.Kind] = append(byKind[f.Kind], f)
	}
	for _, kind := range check.Kinds {
		if some := byKind[kind]; slices.ContainsFunc(some, func(f check.Finding) bool { return f.Wants }) {
			p.Line("")
			p.Bold(kindTitles[kind])
			for _, f := range some {
				if f.Wants {
					s.printFinding(p, f)
				}
			}
		}
	}
	s.printTrials(p, r)
	if !s.quiet {
		printHarmless(p, byKind, all)
		if r.words != "" {
			p.Line("")
			p.Line("figures: %s (lockback figures has all)", r.words)
		}
	}
	p.Line("")
	switch n := r.wants(); {
	case n > 0:
		p.Line("%s to decide.", view.Number(n, "thing", "things"))
	case len(r.findings) == 0:
		p.Line("Nothing to decide: all is as it was left.")
	default:
		p.Line("Nothing to decide.")
	}
	if r.search {
		p.Line("A search for a culprit is under way: lockback culprit")
	}
	return nil
}

// kindTitles head what has to be decided.
var kindTitles = map[check.Kind]string{
	check.PutBack: "Turned off, and on again by itself", check.Added: "Added", check.Replaced: "Another program or command", check.Problem: "Something is wrong now",
	check.TurnedOn: "Turned on, not by lockback",
}

// restartWords say how often the machine was started since a moment.
func restartWords(st starts.Starts, since starts.Moment) string {
	n, known := st.BootsSince(since)
	switch {
	case !known:
		return "Whether it was restarted since is not known."
	case n == 0:
		return "Not restarted since."
	}
	return "Restarted " + restarts(n, st) + "."
}

// printFinding tells of one thing that has to be decided, and how.
func (s *session) printFinding(p view.Printer, f check.Finding) {
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
			words = fmt.Sprintf("starts the same as %s (%s), which C%d turned off", f.Instead.Name, f.Instead.Handle, f.Change)
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
		lines = append(lines, []string{"written on " + local(f.At)})
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
		lines = append(lines, []string{"it may stay:", "lockback keep " + e.Handle})
	default:
		lines = append(lines, []string{"to turn it off:", "lockback disable " + strings.Join(again, " ")})
	}
	p.Line("  %s  %s  for %s", e.Handle, e.Name, view.Whose(e))
	p.Below(lines)
}

func fieldWords(f snapshot.Field) string {
	if f.What != "" {
		return f.Field + ": " + f.What
	}
	return f.Field + ": " + cmp.Or(f.From, "nothing") + " → " + cmp.Or(f.To, "nothing")
}

// maxTried is how many things to try are named of one change, and how many entries.
const maxTried = 6

// printTrials tells what is on trial: with --quiet, only what is due.
func (s *session) printTrials(p view.Printer, r checked) {
	titled := false
	for _, t := range r.trials {
		if s.quiet && !t.due {
			continue
		}
		if !titled {
			p.Line("")
			p.Bold("On trial")
			titled = true
		}
		var names []string
		for k, e := range t.entries {
			if k == maxTried {
				names = append(names, fmt.Sprintf("and %d more", len(t.entries)-k))
				break
			}
			names = append(names, e.Name)
		}
		lines := [][]string{{changeItem(t.change).Message}, {cmp.Or(strings.Join(names, ", "), "none of its entries is as it left them")}}
		if words := t.words(r.starts); words != "" {
			lines = append(lines, []string{words})
		}
		for k, try := range t.try {
			if k == maxTried {
				lines = append(lines, []string{fmt.Sprintf("and %d more, see lockback show", len(t.try)-k)})
				break
			}
			head := "     "
			if k == 0 {
				head = "try: "
			}
			lines = append(lines, []string{head + try})
		}
		id := t.change.Name()
		if t.due {
			lines = append(lines, []string{fmt.Sprintf("%s without a decision:", view.Number(t.change.Trial, "day", "days"))})
		}
		lines = append(lines, []string{"all is well:", "lockback keep " + id}, []string{"something is missing:", "lockback undo " + id + ", or lockback culprit start " + id})
		p.Line("  %s of %s", id, dated(t.change.Time))
		p.Below(lines)
	}
}

// maxHarmless is how many entries of one kind are named that nobody has to decide on.
const maxHarmless = 12

// printHarmless tells what happened that is no reason to decide anything: what has something to do with packages and
// the system by who did it, the rest by what it is.
func printHarmless(p view.Printer, byKind map[check.Kind][]check.Finding, all bool) {
	titled := false
	line := func(what string, names []string) {
		if len(names) == 0 {
			return
		}
		if !titled {
			p.Line("")
			p.Bold("No reason to decide anything")
			titled = true
		}
		if n := len(names); n > maxHarmless && !all {
			names = append(slices.Clone(names[:maxHarmless]), fmt.Sprintf("and %d more (--all names them)", n-maxHarmless))
		}
		p.Line("  %s: %s", what, strings.Join(names, ", "))
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
			line("parts of the operating system that changed", []string{strconv.Itoa(len(parts)) + " (--all names them)"})
		}
	}
}

const systemUpdate = "the operating system"

// harmlessTitles head what nobody has to decide.
var harmlessTitles = map[check.Kind]string{
	check.Added: "added, and disabled", check.Replaced: "updated by its maker, or disabled", check.Problem: "something is wrong, and disabled", check.TurnedOff: "turned off, not by lockback",
	check.Removed: "removed, not by lockback", check.Changed: "changed otherwise",
}
