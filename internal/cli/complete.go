package cli

import (
	"slices"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/review"
	"lockback/core/work"
	"lockback/internal/page"
	"lockback/internal/view"
)

// Completion offers what the machine and its record have. It never says anything else: an error
// offers nothing.

const noFiles = cobra.ShellCompDirectiveNoFileComp

// quietly makes a copy of the app for a completion, with the settings of the configuration.
func (a *app) quietly() *app {
	q := &app{Streams: a.Streams, root: a.root, store: a.store, format: "table", quiet: true}
	if all, err := readConfiguration(q); err == nil && q.store == "" {
		q.store = all["store"].value
	}
	return q
}

// described makes a name fit to stand beside a completion: shells treat some characters as their
// own.
func described(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsLetter(r), unicode.IsDigit(r), strings.ContainsRune(" -_.+@/,", r):
			return r
		}
		return '?'
	}, name)
}

// completeSelectors offers handles with their names, names once a person types one, fields, and the values of fields:
// of the entries that the command takes.
func (a *app) completeSelectors(c *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	word = strings.ReplaceAll(word, `\ `, " ") // fish hands it on as it was typed
	q := a.quietly()
	s, err := q.desk().Look()
	if err != nil {
		return nil, noFiles
	}
	defer s.Close()
	guarded := false
	if f := c.Flags().Lookup("guarded"); f != nil {
		guarded = f.Changed
	}
	inv := s.Offer()
	items := work.OfferFor(c.Name(), inv.Items, guarded)
	if c.Name() == "accept" {
		items = cameBack(s, items)
	}
	if len(items) == 0 {
		return nil, noFiles
	}
	inv.Items = items
	if field, _, isField := strings.Cut(word, "="); isField {
		return valuesOf(q, inv, strings.TrimSuffix(field, "!"), word), noFiles
	}
	var offers []string
	for _, item := range items {
		if beginsWith(item.Handle, word) && !slices.Contains(args, item.Handle) {
			offers = append(offers, item.Handle+"\t"+described(item.Name)+" - "+string(item.State)+", "+
				described(view.Whose(&item.Entry)))
		}
	}
	offers = append(offers, namesOffered(items, args, word)...)
	entries := len(offers)
	for _, f := range append(autostart.Fields(), "since") {
		if strings.HasPrefix(f, word) {
			offers = append(offers, f+"=\tonly entries with this "+f)
		}
	}
	directive := noFiles
	if word != "" && len(offers) > 0 && entries == 0 {
		directive |= cobra.ShellCompDirectiveNoSpace
	}
	return offers, directive
}

func beginsWith(text, word string) bool {
	return strings.HasPrefix(strings.ToLower(text), strings.ToLower(word))
}

// namesOffered are names that begin with what was typed. One that a shell could take for more than a name is not among
// them: its handle is.
func namesOffered(items []*location.Item, args []string, word string) []string {
	var offers []string
	seen := map[string]bool{}
	for _, item := range items {
		name := item.Name
		if word == "" || seen[name] || !beginsWith(name, word) || described(name) != name ||
			slices.Contains(args, name) ||
			name == item.Handle {
			continue
		}
		seen[name] = true
		offers = append(offers, name+"\t"+item.Handle+" - "+string(item.State)+", "+described(view.Whose(&item.Entry)))
	}
	return offers
}

// cameBack are the entries that lockback turned off and that are on.
func cameBack(s *work.Session, items []*location.Item) []*location.Item {
	if s.Record == nil {
		return nil
	}
	decisions, err := s.Record.Decisions(s.Machine.ID)
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(items, func(item *location.Item) bool {
		return !decisions[item.Handle].IsOff() || item.State != autostart.Enabled
	})
}

// valuesOf offers the values of a field, behind what of the word is typed already.
func valuesOf(q *app, inv inventory.Inventory, field, word string) []string {
	var values []string
	switch field {
	case "location":
		values = work.LocationsIn(inv)
	case "user", "for":
		values = work.UsersIn(inv)
	case "since":
		values = recordIDs(q, "S", nil)
	default:
		values = autostart.FixedValues(field)
	}
	if values == nil {
		values = distinct(inv, field)
	}
	before := word[:strings.LastIndexAny(word, "=,")+1]
	var offers []string
	for _, v := range values {
		id, what, _ := strings.Cut(v, "\t")
		if id == "" || !strings.HasPrefix(strings.ToLower(before+id), strings.ToLower(word)) {
			continue
		}
		if what != "" {
			what = "\t" + what
		}
		offers = append(offers, before+id+what)
	}
	return offers
}

// maxOffered is how many values of a free field are offered.
const maxOffered = 60

// distinct are the values that entries have for a free field.
func distinct(inv inventory.Inventory, field string) []string {
	f, ok := view.FieldNamed(field)
	if !ok {
		return nil
	}
	var values []string
	for _, item := range inv.Items {
		if v := f.Value(&item.Entry); v != "" && described(v) == v && !strings.Contains(v, ",") &&
			!slices.Contains(values, v) {
			if values = append(values, v); len(values) == maxOffered {
				break
			}
		}
	}
	return values
}

// recordIDs are the numbers of the record's snapshots (S), changes (C) or both, with their messages; of the changes
// those that fit, where that is asked.
func recordIDs(a *app, letters string, fits func(change.Change) bool) []string {
	m, err := a.desk().Machine()
	if err != nil {
		return nil
	}
	defer m.Close()
	st, err := a.desk().LookInto(m)
	if err != nil {
		return nil
	}
	defer st.Close()
	events, err := work.EventsOf(st, m.ID)
	if err != nil {
		return nil
	}
	if fits != nil {
		events = slices.DeleteFunc(events, func(e work.Event) bool { return e.Snapshot == nil && !fits(e.Change) })
	}
	items, _ := page.ItemsOf(events)
	var offers []string
	for _, i := range items {
		if strings.Contains(letters, i.ID[:1]) {
			offers = append(offers, i.ID+"\t"+described(strings.TrimSpace(i.Time[:10]+" "+i.Message)))
		}
	}
	return offers
}

// completeIDs offers numbers of the record, for as many arguments as a command takes.
func completeIDs(a *app, letters string, most int, fits func(change.Change) bool) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= most {
			return nil, noFiles
		}
		return withPrefix(recordIDs(a.quietly(), letters, fits), word), noFiles | cobra.ShellCompDirectiveKeepOrder
	}
}

func withPrefix(offers []string, word string) []string {
	return slices.DeleteFunc(offers, func(o string) bool {
		return !strings.HasPrefix(strings.ToLower(o),
			strings.ToLower(word))
	})
}

// completeUsers offers the machine's users.
func (a *app) completeUsers(_ *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
	m, err := a.quietly().desk().Machine()
	if err != nil {
		return nil, noFiles
	}
	defer m.Close()
	var offers []string
	for _, u := range m.Users {
		offers = append(offers, described(u.Name))
	}
	return withPrefix(offers, word), noFiles
}

// completeWords offers fixed words, also behind a comma.
func completeWords(words []string) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
		before := word[:strings.LastIndexByte(word, ',')+1]
		var offers []string
		for _, w := range words {
			offers = append(offers, before+w)
		}
		return withPrefix(offers, word), noFiles | cobra.ShellCompDirectiveNoSpace
	}
}

// addCompletions says about all commands what their arguments and options can be.
func addCompletions(a *app, root *cobra.Command) {
	arguments := map[string]cobra.CompletionFunc{
		"list": a.completeSelectors, "show": a.completeSelectors, "disable": a.completeSelectors,
		"enable":   a.completeSelectors,
		"products": a.completeSelectors, "review": a.completeSelectors, "note": a.completeSelectors,
		"lookup": a.completeSelectors, "remove": a.completeSelectors, "delay": a.completeSelectors,
		"start": a.completeSelectors, "accept": a.completeSelectors, "suggest": a.completeSelectors,
		"check": completeIDs(a, "S", 1, nil), "keep": completeIDs(a, "C", 1, change.Change.OnTrial),
		"restore": completeIDs(a, "S", 1, nil), "undo": completeIDs(a, "C", 1, change.Change.Stands),
		"compare": completeIDs(a, "SC", 2, nil), "history": completeIDs(a, "SC", 1, nil),
		"figures": completeIDs(a, "S", 99, nil),
	}
	options := map[string]cobra.CompletionFunc{
		"for": a.completeUsers, "only": a.completeSelectors, "format": cobra.FixedCompletions(formats, noFiles),
		"group": cobra.FixedCompletions(view.Groupings, noFiles),
		"sort":  cobra.FixedCompletions(view.ColumnNames(), noFiles), "columns": completeWords(view.ColumnNames()),
		"verdict": cobra.FixedCompletions(autostart.Verdicts, noFiles), "role": cobra.FixedCompletions(autostart.Roles,
			noFiles), "suggest": completeWords(review.Kinds),
		"newcomers": cobra.FixedCompletions([]string{"keep", "disable"}, noFiles), "message": cobra.NoFileCompletions,
		"onto": cobra.NoFileCompletions,
		"at":   cobra.FixedCompletions([]string{"sign-in", "startup"}, noFiles),
		"as": cobra.FixedCompletions([]string{"autostart", "service", "timer", "run", "shortcut", "task", "agent",
			"daemon"}, noFiles),
		"copy-of": a.completeSelectors, "trial": cobra.NoFileCompletions, "every": cobra.NoFileCompletions,
		"at-time": cobra.NoFileCompletions, "spread": cobra.NoFileCompletions, "name": cobra.NoFileCompletions,
		"root": func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		},
	}
	commands := append(root.Commands(), root)
	for _, c := range root.Commands() {
		commands = append(commands, c.Commands()...)
	}
	for _, c := range commands {
		if complete := arguments[c.Name()]; complete != nil {
			c.ValidArgsFunction = complete
		} else if c.Args != nil && c.ValidArgsFunction == nil && !c.HasSubCommands() {
			c.ValidArgsFunction = cobra.NoFileCompletions
		}
		for name, complete := range options {
			if c.Flags().Lookup(name) != nil || c.PersistentFlags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, complete)
			}
		}
	}
}
