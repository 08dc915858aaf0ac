package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/store"
	"lockback/internal/view"
)

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show SELECTOR...",
		Short: "Show everything known of one entry, or of several",
		Long: `Show everything known of an entry: what it is, whether its program is there, what
is wrong with it, when it starts and how it is turned off; where each fact comes
from; and every artifact that decides it, with its present state.`,
		Example: "  lockback show k7f3qa2\n  lockback show \"Fogbell Sync\" user=ines\n  lockback show k7f3qa2 m2c5xyd",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			return a.look(func(m *machine.Machine, inv inventory.Inventory, st *store.Store) error {
				c, err := a.choose(m, inv, st, words, scope{all: true, anywhere: true})
				if err != nil {
					return err
				}
				return a.show(m, c.items, starters(inv))
			})
		},
	}
}

// starters are the entries that start each program.
func starters(inv inventory.Inventory) map[string][]*location.Item {
	all := map[string][]*location.Item{}
	for _, item := range inv.Items {
		if item.Target.Path != "" {
			all[item.Target.Path] = append(all[item.Target.Path], item)
		}
	}
	return all
}

// maxStarters is how many other entries are named that start the same program: a shell is started
// by dozens.
const maxStarters = 8

// factJSON is one thing known of an entry.
type factJSON struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Basis string `json:"basis"`
	kind  autostart.FactKind
}

func factOf(f location.Fact) factJSON {
	return factJSON{view.FactName(f), autostart.Text(f.Value), autostart.Text(f.Basis), f.Kind}
}

type artifactJSON struct {
	Artifact string `json:"artifact"`
	Image    string `json:"image"`
	kind     machine.ArtifactKind
	where    string // the same, for people
}

// shownEntry is an entry with all that is known of it.
type shownEntry struct {
	Entry  autostart.Entry `json:"entry"`
	Effect string          `json:"takes_effect"`
	// How it is known that the entry is protected, and that it needs a second thought; empty where it is not so.
	GuardBasis   string         `json:"guarded_basis"`
	CautionBasis string         `json:"caution_basis"`
	RoleBasis    string         `json:"role_basis"`
	Search       string         `json:"search,omitempty"`
	Facts        []factJSON     `json:"facts"`
	Artifacts    []artifactJSON `json:"artifacts"`
	// Others are the handles of the other entries that start the same program.
	Others []string `json:"also_started_by"`
	others []string // the same with their names
}

// known gathers what is known of an item.
func (a *app) known(m *machine.Machine, item *location.Item, started map[string][]*location.Item) shownEntry {
	e := shownEntry{Others: []string{}, Entry: item.Entry, Effect: view.Effect(item.Effect), GuardBasis: item.GuardBasis, CautionBasis: item.CautionBasis, RoleBasis: item.Entry.Facts().RoleBasis, Search: a.searchFor(&item.Entry, m)}
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
		e.Artifacts = append(e.Artifacts, artifactJSON{autostart.Text(art.Name), autostart.Text(text), art.Kind, whereAll(art)})
	}
	e.Facts, e.Artifacts = notNil(e.Facts), notNil(e.Artifacts)
	return e
}

func (a *app) show(m *machine.Machine, items []*location.Item, started map[string][]*location.Item) error {
	p := a.printer()
	switch a.format {
	case "json":
		list := make([]shownEntry, len(items))
		for k, item := range items {
			list[k] = a.known(m, item, started)
		}
		return p.JSON(struct {
			Machine machineJSON  `json:"machine"`
			Entries []shownEntry `json:"entries"`
		}{describe(m), list})
	case "csv":
		var sheet [][]string
		for _, item := range items {
			e := a.known(m, item, started)
			for _, r := range e.rows() {
				sheet = append(sheet, []string{e.Entry.Handle, r.name, r.value, r.basis})
			}
			for _, art := range e.Artifacts {
				sheet = append(sheet, []string{e.Entry.Handle, "artifact", art.Artifact, art.Image})
			}
		}
		return p.CSV([]string{"handle", "fact", "value", "basis"}, sheet)
	}
	for k, item := range items {
		if k > 0 {
			p.Line("")
		}
		a.print(p, a.known(m, item, started))
	}
	return nil
}

// searchFor fills the address of the configuration in: with the maker, the product and the name of the program's
// file, and more words where they are asked for. Nothing that could tell whose machine it is goes into it: no path,
// and no word with a user's name or number in it, or the machine's own.
func (a *app) searchFor(e *autostart.Entry, m *machine.Machine, more ...string) string {
	if a.search == "" {
		return ""
	}
	last := func(text string) string { return text[strings.LastIndexAny(text, `/\`)+1:] }
	file, product := last(e.Target.Path), e.Facts().Product.Name
	name := ""
	if file == "" || product == "" {
		name = e.Name // what an entry is called may be anything, so it is taken where it is needed only
		if table.Kind(e) == location.Task {
			name = last(name) // behind its folder
		}
	}
	var words []string
	for _, w := range append([]string{name, e.Maker().Name, product, file}, more...) {
		known := slices.ContainsFunc(words, func(have string) bool { return strings.EqualFold(have, w) })
		if w != "" && !known && !strings.ContainsAny(w, `/\`) && !tellsUser(w, m.Users) && !tellsMachine(w, m) {
			words = append(words, w)
		}
	}
	if len(words) == 0 {
		return ""
	}
	return strings.Replace(a.search, "{}", url.QueryEscape(strings.Join(words, " ")), 1)
}

// tellsMachine reports whether a text has the name of the machine in it, or its id.
func tellsMachine(text string, m *machine.Machine) bool {
	text = strings.ToLower(text)
	return slices.ContainsFunc([]string{m.Name, m.ID}, func(word string) bool {
		return len(word) > 3 && strings.Contains(text, strings.ToLower(word))
	})
}

// tellsUser reports whether a text has a user's name in it, or what the system knows the user by. Root's name is
// nobody's.
func tellsUser(text string, users []machine.User) bool {
	text = strings.ToLower(text)
	has := func(word string) bool { return len(word) > 1 && strings.Contains(text, strings.ToLower(word)) }
	return slices.ContainsFunc(users, func(u machine.User) bool {
		home := u.Home[strings.LastIndexAny(u.Home, `/\`)+1:]
		return u.UID != 0 && u.Name != machine.NewUsers && (has(u.Name) || has(home) || has(u.SID) || has(u.UUID))
	})
}

// row is a line of what is known.
type row struct {
	name, value, basis string
	mark               view.Mark
}

// leads reports whether a fact tells what an entry is: such come first.
func (f factJSON) leads() bool {
	return f.kind == autostart.FactDescription || f.kind == autostart.FactComment
}

// rows are the facts of an entry, the most telling first; without those that are not known.
func (e shownEntry) rows() []row {
	entry := &e.Entry
	var rows []row
	add := func(name, value, basis string, mark view.Mark) {
		again := slices.ContainsFunc(rows, func(r row) bool { return r.name == name && r.value == value })
		if value != "" && !again {
			rows = append(rows, row{name, value, basis, mark})
		}
	}
	for _, f := range e.Facts {
		if f.leads() {
			add(f.Name, f.Value, f.Basis, view.Plain)
		}
	}
	known := entry.Facts()
	// What was decided stands here with where it was read, and not again among the evidence.
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
	decide("maker", cmp.Or(known.Maker.Name, "not known"), autostart.FactMadeBy, known.Maker.Basis)
	decide("product", strings.TrimSpace(known.Product.Name+" "+known.Product.Version), autostart.FactProduct, "")
	decide("description", known.Description, autostart.FactDescribedAs, known.DescriptionBasis)
	add("role", known.Role, known.RoleBasis, view.Plain)
	add("verdict", known.Verdict, known.VerdictBasis, view.Plain)
	value, mark := programWords(entry)
	add("program", value, "looked up on the machine", mark)
	add("also started by", strings.Join(e.others, ", "), "", view.Plain)
	told := *entry // that the program is missing stands there already
	told.Problems = slices.DeleteFunc(slices.Clone(entry.Problems), func(p string) bool { return p == autostart.TargetMissing && entry.Target.Path != "" })
	for _, problem := range view.Problems(&told) {
		add("problem", problem, "", view.Alert)
	}
	add("protected", entry.Guarded, e.GuardBasis, view.Alert)
	add("think twice", entry.Caution, e.CautionBasis, view.Alert)
	state := string(entry.State)
	if entry.Mode != "" && entry.Mode != state {
		state += ", " + entry.Mode
	}
	add("state", state, "", view.Plain)
	add("starts", entry.When, cmp.Or(entry.Place, entry.Location), view.Plain)
	add("for", view.Whose(entry), "", view.Plain)
	add("costs", view.CostWords(entry.Cost), "", view.Plain)
	if entry.Cost != nil && !entry.Cost.Since.IsZero() {
		add("running since", local(entry.Cost.Since), entry.Cost.Basis, view.Plain)
	}
	for _, u := range entry.Uses {
		add("used by hand", view.UseWords(u), u.Basis, view.Plain)
	}
	add("command", entry.Command, place(entry), view.Plain)
	if entry.Switch == autostart.Report {
		add("turned off by", "cannot be turned off here", "", view.Plain)
	} else {
		add("turned off by", string(entry.Switch)+", which counts "+e.Effect, "lockback help switches", view.Plain)
	}
	if entry.OSPart {
		basis := entry.OSBasis
		if basis == autostart.ByName {
			basis = "its name and place, and nothing more"
		}
		add("hidden", "a part of the operating system", basis, view.Plain)
	}
	if entry.SystemName != entry.Name {
		add("system's own name", entry.SystemName, "", view.Plain)
	}
	add("location", entry.Location, "", view.Plain)
	add("look it up at", e.Search, "lockback opens nothing", view.Plain)
	for _, f := range e.Facts {
		if !f.leads() && (decided[f.kind] != f.Value || f.Value == "") {
			add(f.Name, f.Value, f.Basis, view.Plain)
		}
	}
	return rows
}

func (a *app) print(p view.Printer, e shownEntry) {
	p.Bold(e.Entry.Name + "  " + e.Entry.Handle)
	printRows(p, e.rows())
	p.Line("")
	printDecided(p, e, a.verbose, " (--verbose lists them)")
}

// printRows writes what is known of an entry, one below the other.
func printRows(p view.Printer, rows []row) {
	pairs := make([]view.Pair, len(rows))
	for k, r := range rows {
		pairs[k] = view.Pair{Name: r.name, Value: r.value, From: r.basis, Mark: r.mark}
	}
	p.Pairs(pairs)
}

// printDecided writes what decides an entry. What is not there is counted, unless all is asked for, with a hint how to see it.
func printDecided(p view.Printer, e shownEntry, all bool, hint string) {
	p.Bold("Decided by")
	present, absent := artifactRows(e.Artifacts, all)
	for _, art := range present {
		image := art.Image
		if !all {
			image = digest.ReplaceAllString(image, "")
		}
		p.Block(art.where, [][]string{{image}})
	}
	if absent != "" {
		p.Line("and by the absence of %s that could override it%s", absent, hint)
	}
}

// digest is what the words for an image end with, for who compares: --verbose and JSON have it.
var digest = regexp.MustCompile(`, [0-9a-f]{8}$`)

// whereAll names an artifact for a person, a value by its key and its own name.
func whereAll(a machine.Artifact) string {
	if a.Kind == machine.ValueArtifact {
		_, name := a.Value()
		return whereIs(a) + ", value " + cmp.Or(autostart.Text(name), "of the key itself")
	}
	return whereIs(a)
}

// absentWords are what is absent, for each kind of artifact: one, and several.
var absentWords = []struct {
	kinds     []machine.ArtifactKind
	one, many string
}{
	{[]machine.ArtifactKind{machine.FileArtifact}, "file or folder", "files and folders"},
	{[]machine.ArtifactKind{machine.ValueArtifact}, "registry value", "registry values"},
	{[]machine.ArtifactKind{machine.KeyArtifact, machine.TreeArtifact}, "registry key", "registry keys"},
	{[]machine.ArtifactKind{machine.LoginItemArtifact}, "login item", "login items"},
}

// artifactRows leaves out what is not there, unless all is asked for: a machine with many users
// has many places where an override could be.
func artifactRows(artifacts []artifactJSON, all bool) (present []artifactJSON, absent string) {
	missing := map[machine.ArtifactKind]int{}
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

func place(e *autostart.Entry) string {
	if e.Source.Line > 0 {
		return fmt.Sprintf("%s, line %d", e.Source.Path, e.Source.Line)
	}
	return e.Source.Path
}

// programWords tells what an entry starts, and whether it is there.
func programWords(e *autostart.Entry) (string, view.Mark) {
	switch {
	case e.Target.Path == "":
		return "cannot be told without running a shell", view.Plain
	case e.Target.Exists == nil:
		return e.Target.Path + " (not known whether it is there)", view.Plain
	case !*e.Target.Exists:
		return e.Target.Path + " (missing)", view.Alert
	}
	return fmt.Sprintf("%s (%d bytes, of %s)", e.Target.Path, e.Target.Size, local(e.Target.Modified)), view.Plain
}
