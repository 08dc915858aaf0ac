package page

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/work/disclose"
	"lockback/internal/view"
)

// ShowDocument is what is known about entries, in JSON.
type ShowDocument struct {
	Machine Machine      `json:"machine"`
	Entries []ShownEntry `json:"entries"`
}

// maxStarters is how many other entries are named that start the same program: a shell is started
// by dozens.
const maxStarters = 8

// Fact is one thing known about an entry.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Basis string `json:"basis"`
	kind  autostart.FactKind
}

func factOf(f location.Fact) Fact {
	return Fact{view.FactName(f), autostart.Text(f.Value), autostart.Text(f.Basis), f.Kind}
}

// Artifact is one that decides an entry, with its present image.
type Artifact struct {
	Artifact string `json:"artifact"`
	Image    string `json:"image"`
	kind     artifact.ArtifactKind
	where    string // the same, for people
}

// ShownEntry is an entry with all that is known about it.
type ShownEntry struct {
	Entry  autostart.Entry `json:"entry"`
	Effect string          `json:"takes_effect"`
	// How it is known that the entry is protected, and that it needs a second thought; empty if it is not so.
	GuardBasis   string     `json:"guarded_basis"`
	CautionBasis string     `json:"caution_basis"`
	RoleBasis    string     `json:"role_basis"`
	Search       string     `json:"search,omitempty"`
	Facts        []Fact     `json:"facts"`
	Artifacts    []Artifact `json:"artifacts"`
	// Others are the handles of the other entries that start the same program.
	Others []string `json:"also_started_by"`
	others []string // the same with their names
}

// Known gathers what is known about an item.
func (w Writer) Known(m *machine.Machine, item *location.Item, started map[string][]*location.Item) ShownEntry {
	e := ShownEntry{Others: []string{}, Entry: item.Entry, Effect: view.Effect(item.Effect),
		GuardBasis: item.GuardBasis, CautionBasis: item.CautionBasis, RoleBasis: item.Entry.Facts().RoleBasis,
		Search: w.address(&item.Entry, m)}
	for _, other := range started[item.Target.Path] {
		if other != item {
			e.Others = append(e.Others, other.Handle)
			e.others = append(e.others, other.Handle+" "+other.Name)
		}
	}
	if n := len(e.others) - maxStarters; n > 0 {
		e.others = append(e.others[:maxStarters], fmt.Sprintf("and %d more", n))
	}
	if item.Facts != nil {
		for _, f := range item.Facts() {
			e.Facts = append(e.Facts, factOf(f))
		}
	}
	for _, art := range item.Artifacts() {
		text := ""
		if i, err := m.Image(art); err != nil {
			text = "not readable: " + machine.Reason(err)
		} else {
			text = i.String()
		}
		e.Artifacts = append(e.Artifacts, Artifact{autostart.Text(art.Name), autostart.Text(text), art.Kind,
			whereAll(art)})
	}
	e.Facts, e.Artifacts = list(e.Facts), list(e.Artifacts)
	return e
}

// address fills in the configured address with the facts that may leave the machine; empty if there are none.
func (w Writer) address(e *autostart.Entry, m *machine.Machine, more ...string) string {
	words := disclose.Words(e, m, more...)
	if w.Search == "" || len(words) == 0 {
		return ""
	}
	return strings.Replace(w.Search, "{}", url.QueryEscape(strings.Join(words, " ")), 1)
}

// Show shows entries with all that is known about them: each by itself, several side by side.
func (w Writer) Show(m *machine.Machine, items []*location.Item, started map[string][]*location.Item) error {
	known := make([]ShownEntry, len(items))
	for k, item := range items {
		known[k] = w.Known(m, item, started)
	}
	switch {
	case w.Format == "json":
		return w.JSON(ShowDocument{MachineOf(m), known})
	case w.Format == "csv":
		var sheet [][]string
		for _, e := range known {
			for _, r := range e.rows() {
				sheet = append(sheet, []string{e.Entry.Handle, r.name, r.value, r.basis})
			}
			for _, art := range e.Artifacts {
				sheet = append(sheet, []string{e.Entry.Handle, "artifact", art.Artifact, art.Image})
			}
		}
		return w.CSV([]string{"handle", "fact", "value", "basis"}, sheet)
	case len(known) > 1 && !w.Verbose:
		w.besides(known)
		return nil
	}
	for k, e := range known {
		if k > 0 {
			w.Line("")
		}
		w.shown(e)
	}
	return nil
}

// row is a line of what is known.
type row struct {
	name, value, basis string
	mark               view.Mark
	own                bool // the entry itself says it; its basis is a remark
	answered           bool // the first lines of a page have it, see [ShownEntry.answers]
}

// leads reports whether a fact tells what an entry is: such come first.
func (f Fact) leads() bool {
	return f.kind == autostart.FactDescription || f.kind == autostart.FactComment
}

// rowList gathers rows, each once, without those that are not known.
type rowList []row

func (l *rowList) add(r row) {
	again := slices.ContainsFunc(*l, func(o row) bool { return o.name == r.name && o.value == r.value })
	if r.value != "" && !again {
		*l = append(*l, r)
	}
}

// rows are the facts of an entry, the most telling first; without those that are not known.
func (e ShownEntry) rows() []row {
	entry := &e.Entry
	var rows rowList
	add := func(name, value, basis string, mark view.Mark) {
		rows.add(row{name: name, value: value, basis: basis, mark: mark})
	}
	for _, f := range e.Facts {
		if f.leads() {
			add(f.Name, f.Value, f.Basis, view.Plain)
		}
	}
	known := entry.Facts()
	// Decided facts are shown once, with their source.
	decided := map[autostart.FactKind]string{}
	decide := func(name, value string, among autostart.FactKind, basis string) {
		for _, f := range e.Facts {
			if f.kind == among && f.Value == value && value != "" {
				basis, decided[among] = f.Basis, value
				break
			}
		}
		add(name, value, basis, view.Plain)
	}
	for _, n := range entry.Notes {
		mark := view.Plain
		if !n.Proven {
			mark = view.Quiet
		}
		what, basis := view.NoteWords(n)
		add("note", what, basis, mark)
	}
	if known.Maker.Name == "" {
		rows.add(row{name: "maker", value: unanswered, answered: true})
	}
	decide("maker", known.Maker.Name, autostart.FactMadeBy, known.Maker.Basis)
	decide("product", strings.TrimSpace(known.Product.Name+" "+known.Product.Version), autostart.FactProduct, "")
	decide("description", known.Description, autostart.FactDescribedAs, known.DescriptionBasis)
	add("role", known.Role, known.RoleBasis, view.Plain)
	add("verdict", known.Verdict, known.VerdictBasis, view.Plain)
	e.start(&rows)
	add("protected", entry.Guarded, e.GuardBasis, view.Alert)
	add("think twice", entry.Caution, e.CautionBasis, view.Alert)
	rows.add(row{name: "measured", value: view.CostWords(entry.Cost)})
	if entry.Cost != nil && !entry.Cost.Since.IsZero() {
		add("running since", autostart.Minute(entry.Cost.Since), entry.Cost.Basis, view.Plain)
	}
	for _, u := range entry.Uses {
		add("used by hand", view.UseWords(u), u.Basis, view.Plain)
	}
	if entry.OSPart {
		basis := entry.OSBasis
		if basis == autostart.ByName {
			basis = "its name and place only"
		}
		add("hidden", "a part of the operating system", basis, view.Plain)
	}
	for _, f := range e.Facts {
		if !f.leads() && (decided[f.kind] != f.Value || f.Value == "") {
			rows.add(row{name: f.Name, value: f.Value, basis: f.Basis, answered: circumstantial(f.kind)})
		}
	}
	rows.add(row{name: "look it up at", value: e.Search, basis: "lockback opens nothing", own: true})
	return rows
}

// start adds what an entry itself says of its start.
func (e ShownEntry) start(rows *rowList) {
	entry := &e.Entry
	add := func(name, value, basis string, mark view.Mark) {
		rows.add(row{name: name, value: value, basis: basis, mark: mark, own: true})
	}
	shown := *entry // that the program is missing stands there already
	shown.Problems = slices.DeleteFunc(slices.Clone(entry.Problems),
		func(p string) bool { return p == autostart.TargetMissing && entry.Target.Path != "" })
	for _, problem := range view.Problems(&shown) {
		add("problem", problem, "", view.Alert)
	}
	state := string(entry.State)
	if entry.Mode != "" && entry.Mode != state {
		state += ", " + entry.Mode
	}
	add("state", state, "", view.Plain)
	add("starts", entry.When, cmp.Or(entry.Place, entry.Location), view.Plain)
	add("for", view.Whose(entry), "", view.Plain)
	add("command", entry.Command, Place(entry), view.Plain)
	value, mark := ProgramWords(entry)
	add("program", value, "", mark)
	for _, c := range entry.Commands {
		if c.Path != entry.Target.Path || c.Key != "" {
			add("also runs", CommandWords(c), c.Key, view.Plain)
		}
	}
	add("also started by", strings.Join(e.others, ", "), "", view.Plain)
	if entry.Switch == autostart.Report {
		add("turned off by", "cannot be turned off here", "", view.Plain)
	} else {
		add("turned off by", string(entry.Switch)+", takes effect "+e.Effect, "lockback help switches", view.Plain)
	}
	if entry.SystemName != entry.Name {
		add("system's own name", entry.SystemName, "", view.Plain)
	}
	add("location", entry.Location, "", view.Plain)
}

// rows writes what is known about an entry, one below the other.
func (w Writer) rows(rows []row) {
	pairs := make([]view.Pair, len(rows))
	for k, r := range rows {
		pairs[k] = view.Pair{Name: r.name, Value: r.value, From: r.basis, Mark: r.mark}
	}
	w.Pairs(pairs)
}

// Decided writes what decides an entry. What is not there is counted, unless all is asked for, with a hint how to see
// it.
func (w Writer) Decided(e ShownEntry, all bool, hint string) {
	w.Bold("Decided by")
	present, absent := artifactRows(e.Artifacts, all)
	for _, art := range present {
		image := art.Image
		if !all {
			image = digest().ReplaceAllString(image, "")
		}
		w.Block(art.where, [][]string{{image}})
	}
	if absent != "" {
		w.Line("and by the absence of %s that could override it%s", absent, hint)
	}
}

// digest is what the words for an image end with, for whoever compares: --verbose and JSON have it.
var digest = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`, [0-9a-f]{8}$`) })

// whereAll names an artifact for a person, a value by its key and its own name.
func whereAll(a artifact.Artifact) string {
	if a.Kind == artifact.ValueArtifact {
		_, name := a.Value()
		return whereIs(a) + ", value " + cmp.Or(autostart.Text(name), "of the key itself")
	}
	return whereIs(a)
}

// absentWords are what is absent, for each kind of artifact: one, and several.
var absentWords = []struct {
	kinds     []artifact.ArtifactKind
	one, many string
}{
	{[]artifact.ArtifactKind{artifact.FileArtifact}, "file or folder", "files and folders"},
	{[]artifact.ArtifactKind{artifact.ValueArtifact}, "registry value", "registry values"},
	{[]artifact.ArtifactKind{artifact.KeyArtifact, artifact.TreeArtifact}, "registry key", "registry keys"},
	{[]artifact.ArtifactKind{artifact.LoginItemArtifact}, "login item", "login items"},
}

// artifactRows leaves out what is not there, unless all is asked for: a machine with many users
// has many places where an override could be.
func artifactRows(artifacts []Artifact, all bool) (present []Artifact, absent string) {
	missing := map[artifact.ArtifactKind]int{}
	for _, art := range artifacts {
		if art.Image == "absent" && !all {
			missing[art.kind]++
			continue
		}
		present = append(present, art)
	}
	var words []string
	for _, w := range absentWords {
		n := 0
		for _, kind := range w.kinds {
			n += missing[kind]
		}
		if n > 0 {
			words = append(words, view.Number(n, w.one, w.many))
		}
	}
	return present, strings.Join(words, " and ")
}

// Place names where an entry is read from.
func Place(e *autostart.Entry) string {
	if e.Source.Line > 0 {
		return fmt.Sprintf("%s, line %d", e.Source.Path, e.Source.Line)
	}
	return e.Source.Path
}

// CommandWords tell what one of an entry's commands starts.
func CommandWords(c autostart.Command) string {
	switch {
	case c.Path == "":
		return "something that only running it would show: " + c.Line
	case c.Exists != nil && !*c.Exists:
		return c.Path + " (missing)"
	}
	return c.Path
}

// ProgramWords tell what an entry starts, and whether it is there.
func ProgramWords(e *autostart.Entry) (string, view.Mark) {
	switch {
	case e.Target.Path == "":
		return "unknown: a shell decides it when it runs", view.Plain
	case e.Target.Exists == nil:
		return e.Target.Path + " (not known whether it is there)", view.Plain
	case !*e.Target.Exists:
		return e.Target.Path + " (missing)", view.Alert
	}
	return fmt.Sprintf("%s (%d bytes, of %s)", e.Target.Path, e.Target.Size, autostart.Minute(e.Target.Modified)),
		view.Plain
}
