package work

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/snapshot"
)

// Scope is what a selector may choose from, and how it is read.
type Scope struct {
	All bool // parts of the operating system too
	// Anywhere says that somebody only looks: bare words are searched.
	Anywhere bool
}

// Choice is what a selector chooses from an inventory.
type Choice struct {
	Items    []*location.Item
	Hidden   int // parts of the operating system that it would choose, and that are not shown
	Selector autostart.Selector
}

// Entries are the entries of items.
func Entries(items []*location.Item) []*autostart.Entry {
	entries := make([]*autostart.Entry, len(items))
	for k, item := range items {
		entries[k] = &item.Entry
	}
	return entries
}

// Choose applies selector words to an inventory. Parts of the operating system are only chosen with all, or by their
// handle. It fails with [NothingFound] where a word chooses nothing.
func (s *Session) Choose(inv inventory.Inventory, words []string, in Scope) (Choice, error) {
	var c Choice
	words, newer, err := s.since(words)
	if err != nil {
		return c, err
	}
	c.Selector, err = autostart.ParseSelector(words)
	if err == nil && !c.Selector.Empty() { // nothing is looked up for a list of everything
		c.Selector, err = resolve(c.Selector, inv, inv.Entries())
	}
	if err != nil {
		return c, Mistake{err}
	}
	if in.Anywhere {
		c.Selector = c.Selector.Anywhere()
	}
	for _, item := range inv.Items {
		if newer != nil && !newer(item.Handle) || !c.Selector.Empty() && !c.Selector.Matches(item.Entry) {
			continue
		}
		if item.Hidden() && !in.All && !c.Selector.ByHandle(item.Entry) {
			c.Hidden++
		} else {
			c.Items = append(c.Items, item)
		}
	}
	if c.Selector.Empty() && newer == nil {
		return c, nil
	}
	if word, ok := c.Selector.Unmatched(inv.Entries()); ok {
		return c, NothingFound{unknownWord(word, inv.Entries(), in)}
	}
	if len(c.Items) == 0 {
		if c.Hidden > 0 {
			return c, NothingFound{Wrong("%q matches hidden parts of the operating system only; add --all to "+
				"choose among them", strings.Join(words, " "))}
		}
		if newer != nil && c.Selector.Empty() {
			return c, NothingFound{Wrong("nothing was added since then")}
		}
		return c, NothingFound{Wrong("no entry matches %q%s", strings.Join(words, " "), whyNone(c.Selector, inv))}
	}
	return c, nil
}

// whyNone says why names and fields choose nothing together where each of them chooses something.
func whyNone(s autostart.Selector, inv inventory.Inventory) string {
	names, fields, both := s.Apart()
	if !both {
		return ""
	}
	named, fit := len(names.Choose(inv.Entries())), len(fields.Choose(inv.Entries()))
	if named == 0 || fit == 0 {
		return ""
	}
	return fmt.Sprintf(": the names choose %s and the fields %s, but fields narrow names down, and nothing is both",
		autostart.Count(named, "entry", "entries"), autostart.Count(fit, "entry", "entries"))
}

// ChooseExactly chooses entries for a command that writes: a name that several have is refused.
func (s *Session) ChooseExactly(inv inventory.Inventory, words []string, in Scope) (Choice, error) {
	c, err := s.Choose(inv, words, in)
	if err == nil {
		err = c.Exact()
	}
	return c, err
}

// ChooseFor chooses entries to be switched, for one user only where one is named: then also what is for everyone, and
// never what is another user's.
func (s *Session) ChooseFor(inv inventory.Inventory, words []string, user string, in Scope) (Choice, location.Want,
	error) {
	want := location.Want{Now: time.Now()}
	if user == "" {
		c, err := s.ChooseExactly(inv, words, in)
		return c, want, err
	}
	u, err := s.User(user)
	if err != nil {
		return Choice{}, want, err
	}
	want.User = &u
	c, err := s.Choose(inv, words, in)
	if err != nil {
		return c, want, err
	}
	c.Items = slices.DeleteFunc(c.Items, func(i *location.Item) bool { return i.User != "" && i.User != u.Name })
	if len(c.Items) == 0 {
		return c, want, Wrong("%q matches nothing that starts for %s", strings.Join(words, " "), user)
	}
	return c, want, c.Exact()
}

// Exact fails with a [Mistake] where a name was given that several of the chosen entries have.
func (c Choice) Exact() error {
	word, among := c.Selector.Ambiguous(Entries(c.Items))
	if word == "" {
		return nil
	}
	var names []string
	for _, e := range among {
		names = append(names, fmt.Sprintf("%s (%s, for %s)", e.Handle, cmp.Or(e.Place, e.Location),
			cmp.Or(e.User, "everyone")))
	}
	return Wrong("%q is the name of %d entries: %s; use handles, or user=NAME beside it", word, len(among),
		strings.Join(names, ", "))
}

// ChooseHandles are the handles of the entries, of a snapshot or of now, that words choose. The words are explicit, so
// parts of the operating system count.
func ChooseHandles(inv inventory.Inventory, snap *snapshot.Snapshot, words []string) (map[string]bool, error) {
	recorded, err := snap.Entries()
	if err != nil {
		return nil, err
	}
	var entries []*autostart.Entry
	for _, r := range recorded {
		entries = append(entries, &r.Entry)
	}
	entries = append(entries, inv.Entries()...)
	sel, err := autostart.ParseSelector(words)
	if err == nil {
		sel, err = resolve(sel, inv, entries)
	}
	if err != nil {
		return nil, Mistake{err}
	}
	if word, ok := sel.Unmatched(entries); ok {
		return nil, fmt.Errorf("in the snapshot and now: %w", unknownWord(word, entries, Scope{All: true}))
	}
	handles := map[string]bool{}
	for _, e := range sel.Choose(entries) {
		handles[e.Handle] = true
	}
	if len(handles) == 0 {
		return nil, Wrong("no entry matches %q, in the snapshot or now", words)
	}
	return handles, nil
}

// resolve completes handles, and checks the words of a machine's own sets.
func resolve(sel autostart.Selector, inv inventory.Inventory, entries []*autostart.Entry) (autostart.Selector, error) {
	sel, err := sel.Resolve(entries)
	if err == nil {
		err = sel.Check("location", LocationsIn(inv))
	}
	for _, field := range []string{"user", "for"} {
		if err == nil {
			err = sel.Check(field, UsersIn(inv))
		}
	}
	return sel, err
}

// maxMeant is how many entries are named that a word may have meant.
const maxMeant = 8

// unknownWord says that a naming word chooses nothing, and what it may have meant.
func unknownWord(word string, entries []*autostart.Entry, in Scope) error {
	if in.Anywhere {
		return Wrong("nothing has %q in its name, maker, command, program or place%s", word,
			autostart.SuggestEntry(word, entries))
	}
	var meant []string
	more := 0
	for _, e := range entries {
		if what := autostart.Occurs(word, e); what == "" || e.Hidden() && !in.All {
			continue
		} else if len(meant) == maxMeant {
			more++
		} else {
			meant = append(meant, fmt.Sprintf("%s %s (%s)", e.Handle, e.Name, what))
		}
	}
	if len(meant) == 0 {
		return Wrong("no entry has the handle or name %q%s (lockback list --all shows all)", word,
			autostart.SuggestEntry(word, entries))
	}
	if more > 0 {
		meant = append(meant, fmt.Sprintf("and %d more", more))
	}
	return Wrong("no entry has the handle or name %q; it occurs in %s. Give the handles of those you mean", word,
		strings.Join(meant, ", "))
}

// since takes since=S3 and since=2026-11-01 out of selector words: what is in the snapshot, or in the last one from
// before that day, does not count. The function is nil if there is no such word.
func (s *Session) since(words []string) ([]string, func(handle string) bool, error) {
	at := slices.IndexFunc(words, func(w string) bool { return strings.HasPrefix(strings.ToLower(w), "since=") })
	if at < 0 {
		return words, nil, nil
	}
	from := words[at][len("since="):]
	words = slices.Delete(slices.Clone(words), at, at+1)
	if s.Record == nil {
		return nil, nil, Wrong("since=%s needs a record, and there is none yet; take a snapshot first", from)
	}
	day, err := time.ParseInLocation(time.DateOnly, from, time.Local)
	if err != nil {
		if len(from) == 0 || !strings.EqualFold(from[:1], "s") {
			return nil, nil, Wrong("since=%s is neither a snapshot (since=S3) nor a day (since=2026-11-01)", from)
		}
	} else {
		snaps, err := s.Record.Snapshots(s.Machine.ID)
		if err != nil {
			return nil, nil, Advise(err)
		}
		before := slices.DeleteFunc(slices.Clone(snaps), func(s *snapshot.Snapshot) bool { return !s.Time.Before(day) })
		switch {
		case len(snaps) == 0:
			return nil, nil, Wrong("since=%s: the record has no snapshot of this machine", from)
		case len(before) == 0:
			return nil, nil, Wrong("since=%s: the record has no snapshot from before that day; the first is %s of %s",
				from, snaps[0].Name(), autostart.Minute(snaps[0].Time))
		}
		from = before[len(before)-1].Name()
	}
	snap, err := s.Snapshot(from)
	if err == nil && snap.Machine != s.Machine.ID {
		err = Wrong("%s is of another machine, %s", snap.Name(), s.MachineNamed(snap.Machine))
	}
	if err != nil {
		return nil, nil, err
	}
	had, err := HandlesOf(snap)
	if err != nil {
		return nil, nil, Advise(err)
	}
	return words, func(handle string) bool { return !had[handle] }, nil
}

// HandlesOf are the handles of a snapshot's entries.
func HandlesOf(snap *snapshot.Snapshot) (map[string]bool, error) {
	entries, err := snap.Entries()
	handles := make(map[string]bool, len(entries))
	for _, r := range entries {
		handles[r.Handle] = true
	}
	return handles, err
}

// AddedSince counts the entries that a snapshot does not know.
func AddedSince(inv inventory.Inventory, snap *snapshot.Snapshot) int {
	had, err := HandlesOf(snap)
	if err != nil {
		return 0 // it was read a moment ago
	}
	n := 0
	for _, item := range inv.Items {
		if !had[item.Handle] {
			n++
		}
	}
	return n
}

// LocationsIn are the ids of the locations of an inventory.
func LocationsIn(inv inventory.Inventory) []string {
	ids := make([]string, len(inv.Locations))
	for k, l := range inv.Locations {
		ids[k] = l.ID
	}
	return ids
}

// UsersIn are the names that may stand in an entry's user field: none for what is the whole machine's, the people who
// have accounts, and whoever else has an entry.
func UsersIn(inv inventory.Inventory) []string {
	users := []string{""}
	known := map[string]bool{"": true}
	add := func(name string) {
		if !known[name] {
			known[name] = true
			users = append(users, name)
		}
	}
	for _, u := range inv.Machine.Users {
		add(autostart.Text(u.Name))
	}
	for _, item := range inv.Items {
		add(item.User)
	}
	return users
}

// Once puts one item in the place of those that are the same thing of everyone's.
func Once(inv inventory.Inventory, items []*location.Item) []*location.Item {
	by := make(map[*autostart.Entry]*location.Item, len(items))
	shared := map[string]*location.Item{}
	for _, item := range items {
		by[&item.Entry] = item
		if item.Shared != "" && shared[item.Shared] == nil {
			shared[item.Shared] = item
		}
	}
	var all []*location.Item
	for _, e := range autostart.OnceForEveryone(Entries(items), inv.Entries()) {
		item := by[e]
		if item == nil {
			one := *shared[e.Shared]
			one.Entry = *e
			item = &one
		}
		all = append(all, item)
	}
	return all
}

// ForEveryoneToo counts what starts for everyone besides what a choice of one user's own entries shows: a sign-in is
// not clean because the user's own list is empty.
func ForEveryoneToo(inv inventory.Inventory, c Choice, all bool) int {
	if c.Selector.Only("user") == nil || slices.Contains(c.Selector.Only("user"), "") {
		return 0
	}
	sel, n := c.Selector.As("user", "for"), 0
	for _, item := range inv.Items {
		if item.User == "" && (all || !item.Hidden()) && sel.Matches(item.Entry) {
			n++
		}
	}
	return n
}

// Starters are the entries that start each program.
func Starters(inv inventory.Inventory) map[string][]*location.Item {
	all := map[string][]*location.Item{}
	for _, item := range inv.Items {
		if item.Target.Path != "" {
			all[item.Target.Path] = append(all[item.Target.Path], item)
		}
	}
	return all
}

// Sifted is what a selector chose, by what can be done with it.
type Sifted struct {
	Chosen  []*location.Item
	Guarded []*location.Item // left out, unless they were asked for
	// Cautioned are left out too, unless they were named.
	Cautioned []*location.Item
	Fixed     []*location.Item // no switch exists for them
	Already   int              // in the wanted state
}

// Sift parts what was chosen. Protected entries are turned off only where they were asked for, and those that need a
// second thought where they were named or asked for.
func Sift(c Choice, want location.Want, protectedToo bool) Sifted {
	var s Sifted
	for _, item := range c.Items {
		off := want.State == autostart.Disabled
		switch {
		case want.Hold && item.Can.Hold != nil && item.State == autostart.Disabled && item.Guarded == "" &&
			!change.Taken(item):
			s.Chosen = append(s.Chosen, item) // it is off, and not held yet
		case (want.User == nil || item.User == want.User.Name) && item.State == want.State:
			s.Already++
		case off && item.Guarded != "" && !protectedToo:
			s.Guarded = append(s.Guarded, item)
		case off && item.Caution != "" && !protectedToo && !c.Selector.ByName(&item.Entry):
			s.Cautioned = append(s.Cautioned, item)
		case item.Switch == autostart.Report:
			s.Fixed = append(s.Fixed, item)
		default:
			s.Chosen = append(s.Chosen, item)
		}
	}
	return s
}

// WhyFixed tells why an entry cannot be switched, in its switch's own words; empty if nothing tells.
func (s *Session) WhyFixed(item *location.Item, want location.Want) string {
	if _, err := item.Plan(s.Machine, want); err != nil {
		return err.Error()
	}
	return ""
}
