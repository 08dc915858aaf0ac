package page

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/difference"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/work"
	"lockback/core/work/outcome"
	"lockback/core/work/removal"
	"lockback/internal/view"
)

// Step is one step for one entry.
type Step struct {
	Handle   string `json:"handle"`
	Artifact string `json:"artifact"`
	What     string `json:"what"`
	Before   string `json:"before"`
	After    string `json:"after"`
}

// stepsOf words steps. One that serves several entries stands once for each.
func stepsOf(steps []change.Step) []Step {
	list := []Step{}
	for _, s := range steps {
		handles := s.Handles
		if len(handles) == 0 {
			handles = []string{""}
		}
		what := inWords(s)
		for _, h := range handles {
			list = append(list, Step{h, autostart.Text(s.Artifact.Name), what, autostart.Text(s.Before.String()),
				autostart.Text(s.After.String())})
		}
	}
	return list
}

func inWords(s change.Step) string {
	return autostart.Text(strings.Join(difference.Words(s.Artifact, s.Before, s.After), "; "))
}

// Steps lists what the steps change, in words; with --verbose with each artifact's images.
func (w Writer) Steps(steps []change.Step, nameOf func(handle string) string) {
	if w.Width > 0 {
		for _, s := range steps {
			lines := [][]string{append([]string{inWords(s)}, forEntries(s.Handles, nameOf)...)}
			if w.Verbose {
				lines = append(lines, []string{"before: " + autostart.Text(s.Before.String())},
					[]string{"after:  " + autostart.Text(s.After.String())})
			}
			w.Block(whereIs(s.Artifact), lines)
		}
		return
	}
	columns := []view.Column{{Title: "where"}, {Title: "what changes"}, {Title: "for"}}
	if w.Verbose {
		columns = append(columns, view.Column{Title: "before"}, view.Column{Title: "after"})
	}
	w.Table(columns, func(yield func([]view.Cell) bool) {
		for _, s := range steps {
			row := []view.Cell{view.T(whereIs(s.Artifact)), view.T(inWords(s)), {Lines: forEntries(s.Handles, nameOf)}}
			if w.Verbose {
				row = append(row, view.T(autostart.Text(s.Before.String())), view.T(autostart.Text(s.After.String())))
			}
			if !yield(row) {
				return
			}
		}
	})
}

// whereIs names an artifact for a person.
func whereIs(a artifact.Artifact) string {
	if a.Kind == artifact.ValueArtifact {
		key, _ := a.Value()
		return autostart.Text(key)
	}
	return autostart.Text(a.Name)
}

// maxFor is how many entries of one step are named.
const maxFor = 3

func forEntries(handles []string, nameOf func(string) string) []string {
	var lines []string
	for k, h := range handles {
		if k == maxFor {
			return append(lines, fmt.Sprintf("and %d more", len(handles)-maxFor))
		}
		lines = append(lines, "("+strings.TrimSpace(h+" "+nameOf(h))+")")
	}
	return lines
}

// StepsCSV writes steps as a sheet.
func (w Writer) StepsCSV(steps []change.Step) error {
	var rows [][]string
	for _, s := range stepsOf(steps) {
		rows = append(rows, []string{s.Handle, s.Artifact, s.What, s.Before, s.After})
	}
	return w.CSV([]string{"handle", "artifact", "what", "before", "after"}, rows)
}

// Outcome is an entry as it was, and as it will be or is now.
type Outcome struct {
	Handle      string `json:"handle"`
	Name        string `json:"name"`
	Was         string `json:"was"`
	WillBe      string `json:"will_be"`
	TakesEffect string `json:"takes_effect"`
}

func outcomes(all []outcome.Outcome) []Outcome {
	docs := make([]Outcome, len(all))
	for k, o := range all {
		docs[k] = Outcome{o.Handle, o.Name, o.Was, o.WillBe, view.Effect(o.Effect)}
	}
	return docs
}

// whom words for whom an entry is switched.
func whom(o outcome.Outcome) string {
	switch {
	case o.Only != "":
		return autostart.Text(o.Only) + " only"
	case o.User != "":
		return o.User
	}
	return "everyone"
}

// Outcomes lists entries as they were and as they will be, or are now, below when it counts.
func (w Writer) Outcomes(list []outcome.Outcome, will string) {
	var effects []location.Effect
	for _, o := range list {
		if !slices.Contains(effects, o.Effect) {
			effects = append(effects, o.Effect)
		}
	}
	var sections []view.Section
	for _, effect := range effects {
		title := ""
		if words := view.Effect(effect); words != "" {
			title = "Takes effect " + words + ":"
		}
		sections = append(sections, view.Section{Title: title, Rows: func(yield func([]view.Cell) bool) {
			for _, o := range list {
				if o.Effect != effect {
					continue
				}
				is := o.WillBe
				switch {
				case o.WillBe == string(change.Removed):
					is = autostart.KeptInRecord
				case o.Was == o.WillBe:
					is += ", otherwise changed"
				}
				if !yield([]view.Cell{view.T(o.Handle), view.T(o.Name), view.T(whom(o)), view.T(o.Was), view.T(is)}) {
					return
				}
			}
		}})
	}
	w.Sections([]view.Column{{Title: "handle"}, {Title: "name", Share: 3}, {Title: "for"}, {Title: "was"},
		{Title: will, Share: 1}}, sections)
}

// NamesIn tells the names of entries, by handle.
func NamesIn(list []outcome.Outcome) func(string) string {
	names := make(map[string]string, len(list))
	for _, o := range list {
		names[o.Handle] = o.Name
	}
	return func(h string) string { return names[h] }
}

// Noted makes notes of warnings.
func Noted(warnings []string) []string {
	lines := make([]string, len(warnings))
	for k, w := range warnings {
		lines[k] = "note: " + w
	}
	return lines
}

// LargeWords word what is large about a change: protected entries, the system's own parts, or more than half of what
// starts would no longer start. It is empty if nothing is.
func LargeWords(l outcome.Large, only string) string {
	var why []string
	if l.Protected > 0 {
		why = append(why, fmt.Sprintf("%d of them %s protected", l.Protected, isAre(l.Protected)))
	}
	if l.Parts > 0 {
		part := "is a part"
		if l.Parts > 1 {
			part = "are parts"
		}
		why = append(why, fmt.Sprintf("%d of them %s of the operating system", l.Parts, part))
	}
	if l.Visible > 0 {
		whom := ""
		if only != "" {
			whom = " for " + autostart.Text(only)
		}
		why = append(why, fmt.Sprintf("%d of the %d entries that start%s would no longer start", l.Visible, l.Starting,
			whom))
	}
	return strings.Join(why, "; ")
}

// plainWord is a word that no shell reads as anything else: what a program calls itself is not
// put into a command that somebody copies.
var plainWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`) })

// maxStops is how many commands are named that end what runs now.
const maxStops = 5

// StillRunning says that what runs now goes on until the change counts, and how to end it, where
// the machine runs and the system has a way.
func StillRunning(plan change.Plan, inv inventory.Inventory) []string {
	if !inv.Machine.Live {
		return nil
	}
	known := inv.ByHandle()
	var stops []string
	running := 0
	for _, h := range plan.Handles {
		item := known[h]
		if item == nil || item.State != autostart.Enabled || plan.Expect(h).State == autostart.Enabled ||
			item.Effect == location.AtNextUse {
			continue
		}
		running++
		if item.Can.Stop != nil {
			words := item.Can.Stop.Stop()
			if !slices.ContainsFunc(words, func(w string) bool { return !plainWord().MatchString(w) }) {
				stops = append(stops, strings.Join(words, " "))
			}
		}
	}
	if running == 0 {
		return nil
	}
	lines := []string{"What is running now keeps running until then."}
	for k, stop := range stops {
		if k == maxStops {
			return append(lines, fmt.Sprintf("  and %d more", len(stops)-k))
		}
		if k == 0 {
			lines[0] += " To end it now:"
		}
		lines = append(lines, "  "+stop)
	}
	return lines
}

// leftOut says that an entry is left as it is, and why. Where a plan knows only what stops it, there is no handle.
func leftOut(handle, name string, why any) string {
	return "left out: " + strings.TrimSpace(fmt.Sprintf("%s  %s: %v", handle, name, why))
}

// LeftOutNotes name what a plan leaves out because it cannot be read or written.
func LeftOutNotes(plan change.Plan) []string {
	var notes []string
	for _, l := range plan.LeftOut {
		notes = append(notes, leftOut(l.Handle, l.Name, l.Err))
	}
	return notes
}

// ChangeDocument is what a change does, or did, in JSON.
type ChangeDocument struct {
	Machine  Machine   `json:"machine"`
	Change   string    `json:"change"`
	Snapshot string    `json:"snapshot"`
	Steps    []Step    `json:"steps"`
	Entries  []Outcome `json:"entries"`
	Warnings []string  `json:"warnings"`
}

// ChangeJSON writes what a change does, or did: its name and snapshot are empty of a plan.
func (w Writer) ChangeJSON(m *machine.Machine, name, snapshot string, steps []change.Step, entries []outcome.Outcome,
	warnings []string) error {
	return w.JSON(ChangeDocument{MachineOf(m), name, snapshot, stepsOf(steps), outcomes(entries), list(warnings)})
}

// Warnings are those of a plan and of its outcome, for a script.
func Warnings(plan change.Plan, more []string) []string {
	return slices.Concat(plan.Warnings, more, LeftOutNotes(plan))
}

// sideEffectWords says what becomes of entries by the way, by their names.
func sideEffectWords(f inventory.SideEffect, names []string) string {
	who, stops, starts := strings.Join(names, ", "), "stops", "starts"
	if len(names) > 1 {
		stops, starts = "stop", "start"
	}
	switch {
	case f.Becomes == autostart.Enabled:
		return who + " " + starts + " again because of this"
	case f.Becomes == "" || f.Because == "":
		return who + " " + stops + " too: nothing else starts it"
	}
	return who + " " + stops + " too: " + f.Because
}

// MostNamed is how many entries of one line are named.
const MostNamed = 12

// EffectNotes describe the side effects before the question and the change: a line for those of which the same is said,
// and one for each that is protected.
func EffectNotes(effects []inventory.SideEffect) []string {
	type group struct {
		first inventory.SideEffect
		names []string
		more  int
	}
	var groups []*group
	alike := map[string]*group{}
	for _, f := range effects {
		guarded := ""
		if f.Becomes != autostart.Enabled {
			guarded = f.Item.Guarded
		}
		key := sideEffectWords(f, nil) + "\x00" + guarded
		g := alike[key]
		if g == nil || guarded != "" {
			g = &group{first: f}
			alike[key], groups = g, append(groups, g)
		}
		if len(g.names) == MostNamed {
			g.more++
			continue
		}
		g.names = append(g.names, f.Item.Name)
	}
	var notes []string
	for _, g := range groups {
		if g.more > 0 {
			g.names = append(g.names, fmt.Sprintf("and %d more", g.more))
		}
		words := sideEffectWords(g.first, g.names)
		if g.first.Item.Guarded != "" && g.first.Becomes != autostart.Enabled {
			words += "; it is protected: " + g.first.Item.Guarded
		}
		notes = append(notes, words)
	}
	return notes
}

// SparedNotes name what stays on because something protected would stop with it.
func SparedNotes(spared []change.Spared) []string {
	var notes []string
	for _, s := range spared {
		notes = append(notes, leftOut(s.Item.Handle, s.Item.Name,
			fmt.Sprintf("%s would stop with it, and is protected: %s (--guarded takes both)", s.Stops.Name,
				s.Stops.Guarded)))
	}
	return notes
}

// HoldNotes say what keeps entries off, those of which the same is said together.
func HoldNotes(items []*location.Item) []string {
	by := map[string][]string{}
	var order []string
	for _, item := range items {
		how := "the system has no way to keep it off; if its program turns it on again, check says so"
		if item.Can.Hold != nil {
			how = item.Can.Hold.Holds()
		}
		if by[how] == nil {
			order = append(order, how)
		}
		by[how] = append(by[how], item.Name)
	}
	var notes []string
	for _, how := range order {
		notes = append(notes, strings.Join(by[how], ", ")+": "+how)
	}
	return notes
}

// Summary names what a change is about, for a history without a message.
func Summary(items []*location.Item, user string) string {
	const most = 3
	var names []string
	for k, item := range items {
		if k == most {
			names = append(names, fmt.Sprintf("and %d more", len(items)-most))
			break
		}
		names = append(names, item.Name)
	}
	text := strings.Join(names, ", ")
	if user != "" {
		text += " (for " + user + ")"
	}
	return text
}

// StillStarted warns where a service of those that are turned off has a timer, socket or
// path of the same name that stays on and can start it. Nothing starts what is masked, systemctl(1), as it is when it
// is held.
func StillStarted(inv inventory.Inventory, items []*location.Item, hold bool) []string {
	off := map[string]bool{}
	for _, item := range items {
		off[item.Handle] = true
	}
	type named struct{ location, user, name string }
	starters := map[named]*location.Item{}
	for _, other := range inv.Items {
		if other.State == autostart.Enabled && !off[other.Handle] {
			starters[named{other.Location, other.User, other.Name}] = other
		}
	}
	var warnings []string
	for _, item := range items {
		bare, ok := strings.CutSuffix(item.Name, ".service")
		if !ok || hold || item.Switch == autostart.Mask {
			continue
		}
		for _, suffix := range []string{".timer", ".socket", ".path"} {
			if other := starters[named{item.Location, item.User, bare + suffix}]; other != nil {
				warnings = append(warnings, fmt.Sprintf("%s (%s) stays on and can still start %s", other.Name,
					other.Handle, item.Name))
			}
		}
	}
	return warnings
}

// SiftedNotes say what of a selection is left as it is, and why.
func SiftedNotes(s *work.Session, of work.Sifted, want location.Want) []string {
	var notes []string
	for _, item := range of.Fixed {
		notes = append(notes, leftOut(item.Handle, item.Name,
			cmp.Or(s.WhyFixed(item, want), "it cannot be turned off here")))
	}
	if len(of.Guarded) > 0 {
		notes = append(notes, "left out because they are protected (--guarded takes them too):")
		for _, item := range of.Guarded {
			notes = append(notes, fmt.Sprintf("  %s  %s: %s", item.Handle, item.Name, item.Guarded))
		}
	}
	if len(of.Cautioned) > 0 {
		notes = append(notes, "left out because they need a second thought (name them one by one, or --guarded "+
			"takes them too):")
		for _, item := range of.Cautioned {
			notes = append(notes, fmt.Sprintf("  %s  %s: %s", item.Handle, item.Name, item.Caution))
		}
	}
	if of.Already > 0 {
		notes = append(notes, fmt.Sprintf("%s %s already", autostart.Count(of.Already, "entry is", "entries are"),
			string(want.State)))
	}
	return notes
}

// RemovalNotes name the entries that are not removed, and why.
func RemovalNotes(left []removal.Left) []string {
	var notes []string
	for _, l := range left {
		notes = append(notes, leftOut(l.Item.Handle, l.Item.Name, l.Why))
	}
	return notes
}

// UninstallNotes name the products that entries belong to, and how those are uninstalled.
func UninstallNotes(all []removal.Uninstall) []string {
	var notes []string
	for _, u := range all {
		notes = append(notes, fmt.Sprintf("%s: belongs to the product %s, which is installed; uninstalling that is "+
			"the better way: %s",
			strings.Join(u.Names, ", "), u.Product, u.Command))
	}
	return notes
}
