package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/note"
	"lockback/core/product"
	"lockback/core/review"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/core/work/outcome"
	"lockback/internal/page"
	"lockback/internal/screen"
	"lockback/internal/view"
)

// reviewOptions are those of review.
type reviewOptions struct {
	words      []string
	all        bool
	plain      bool
	anew       bool
	message    string
	suggestion []string // kinds; nil: all entries are reviewed
}

func newReviewCommand(a *app) *cobra.Command {
	var o reviewOptions
	c := &cobra.Command{
		Use:   "review [SELECTOR...]",
		Short: "Decide entry by entry, and change all at once at the end",
		Long: `Go through the entries one by one: what each is, who made it, what is lost without it, what
it costs, which other machines keep it, and what would happen. First come entries that
change the system's own programs or may be hostile, then what is broken, costs most, is
unused or could go, and the rest; each page says why it comes first. Keys leave an entry,
turn it off or on, take along the rest of its program, product or maker, write a note, look
it up; ? names them all.

Every answer is saved at once: you can leave the review, and lockback review goes on where
you were. Other runs of lockback can read and write the record meanwhile. The overview at
the end shows every step that your answers make. Nothing on the machine changes before one
question; then it is one change.

--plain asks line by line, for screen readers, simple terminals and pipes. --format json or
csv prints the order, with the reasons and the answers so far.`,
		Example: "  lockback review\n  lockback review stage=sign-in -m \"tidied up\"\n  lockback --root /mnt/disk " +
			"review --plain\n  lockback review --new",
		RunE: func(_ *cobra.Command, words []string) error {
			o.words = words
			return runReview(a, o)
		},
	}
	a.writeFlags(c)
	a.trialFlag(c)
	f := c.Flags()
	f.BoolVar(&o.all, "all", false, "review parts of the operating system too")
	f.BoolVar(&o.plain, "plain", false, "ask line by line")
	f.BoolVar(&o.anew, "new", false, "start over, and drop the answers of the open review")
	f.StringVarP(&o.message, "message", "m", "", "say why, for the history")
	return c
}

// allKinds is what --suggest stands for alone.
const allKinds = "all"

// suggestEntries proposes what could be turned off.
func suggestEntries(a *app, o switchOptions) error {
	// "--suggest spare,broken" reads like an option with its value; to the package for flags the kinds are an argument.
	if o.suggest == allKinds && len(o.selector) > 0 && kindsIn(o.selector[0]) {
		o.suggest, o.selector = o.selector[0], o.selector[1:]
	}
	var kinds []string
	if o.suggest != allKinds {
		kinds = strings.Split(o.suggest, ",")
		for _, k := range kinds {
			if !slices.Contains(review.Kinds, k) {
				return usage("nothing is suggested by %q%s (it is %s)", k, autostart.Suggest(k, review.Kinds),
					strings.Join(review.Kinds, ", "))
			}
		}
	}
	if o.user != "" {
		return usage("--suggest goes with no --for; choose with for=%s", o.user)
	}
	if a.format == "table" && !a.dryRun && a.Ask && a.Width > 0 {
		return runReview(a, reviewOptions{words: o.selector, message: o.message, suggestion: append([]string{},
			kinds...)})
	}
	return a.look(func(s *session, inv inventory.Inventory) error {
		c, err := s.Choose(inv, o.selector, work.Scope{Anywhere: true})
		if err != nil {
			return err
		}
		return a.page().Suggestions(s.Machine, review.Suggest(work.Once(inv, c.Items), kinds, time.Now()))
	})
}

// kindsIn reports whether a word is a list of kinds of suggestions.
func kindsIn(word string) bool {
	return !slices.ContainsFunc(strings.Split(word, ","), func(k string) bool {
		return !slices.Contains(review.Kinds,
			k)
	})
}

// ofProposals stands before the words of a review of proposals, with their kinds.
const ofProposals = "--suggest="

// begin are the words that a review is begun with, as the record keeps them.
func (o reviewOptions) begin() []string {
	if o.suggestion == nil {
		return o.words
	}
	return append([]string{ofProposals + strings.Join(o.suggestion, ",")}, o.words...)
}

// selectorOf are the words of the selector that a review was begun with, and the kinds of its proposals; nil where it
// is of all entries.
func selectorOf(begun []string) (words, kinds []string) {
	if len(begun) == 0 || !strings.HasPrefix(begun[0], ofProposals) {
		return begun, nil
	}
	kinds = []string{}
	if list := strings.TrimPrefix(begun[0], ofProposals); list != "" {
		kinds = strings.Split(list, ",")
	}
	return begun[1:], kinds
}

// newReviewing is a review that goes on.
type reviewing struct {
	*session
	inv     inventory.Inventory
	items   map[string]*location.Item // by the handle that is shown
	places  map[string]review.Place
	propose map[string]review.Suggestion
	spreads map[string]store.Spread
	chosen  []*location.Item
	pages   map[string][]string // made already
	started map[string][]*location.Item
	entries []screen.Entry
}

// runReview goes through entries.
func runReview(a *app, o reviewOptions) error {
	if a.format != "table" {
		return printReview(a, o)
	}
	if a.store == work.OnDisk {
		return usage("a review is kept in your own record, not in the one on a disk; leave --store disk out")
	}
	o.plain = o.plain || a.Ask && os.Getenv("TERM") == "dumb"
	if !o.plain && (!a.Ask || a.Width == 0) {
		return usage("a review needs a terminal; --plain asks line by line, also through a pipe")
	}
	s, err := a.openSettled(store.Write) // between two answers, others may write
	if err != nil {
		return err
	}
	defer s.Close()
	begun, ok, err := s.Record.Review(s.Machine.ID)
	if err != nil {
		return work.Advise(err)
	}
	switch {
	case !ok || o.anew || len(begun.Decisions) == 0 && len(o.begin()) > 0:
		begun = store.Review{Words: o.begin(), All: o.all, Begun: time.Now()}
		ok = false
	case len(o.begin()) > 0 && !slices.Equal(o.begin(), begun.Words):
		return usage("a review of %s is open since %s, with %s; lockback review goes on with it, "+
			"and lockback review --new starts over",
			page.Subject(s.Machine), autostart.Minute(begun.Begun), autostart.Count(len(begun.Decisions), "answer",
				"answers"))
	}
	r, err := newReviewing(s, begun)
	if err != nil {
		return err
	}
	if len(r.entries) == 0 {
		a.note("nothing to review on %s", page.Subject(s.Machine))
		return nil
	}
	if !ok {
		if err := s.Record.BeginReview(s.Machine.ID, begun); err != nil {
			return fmt.Errorf("no review was begun: %w", work.Advise(err))
		}
	}
	decisions, gone := map[string]screen.Decision{}, 0
	for handle, d := range begun.Decisions {
		if r.items[handle] == nil {
			gone++
			continue
		}
		decisions[handle] = screen.Decision(d)
	}
	if ok {
		a.note("the review of %s goes on, with %s", autostart.Minute(begun.Begun), autostart.Count(len(decisions),
			"answer", "answers"))
	}
	if gone > 0 {
		a.note("%s on entries that are gone", autostart.Count(gone, "answer was", "answers were"))
	}
	deck := screen.NewDeck(r.entries, decisions, begun.At, r)
	a.stopMeans("your answers are in the record; lockback review goes on")
	var apply bool
	if o.plain {
		a.printer().Line("%s", page.Heading(s.Machine))
		apply, err = screen.Plain(deck, a.In, a.Out, cmp.Or(a.Width, 80), !a.Ask)
		a.Ask = true // who answers through a pipe answers the question there too
	} else {
		terminal := a.Out
		if o, ok := terminal.(*output); ok {
			terminal = o.Writer // how large it is, only the file itself tells
		}
		apply, err = screen.Screen(context.Background(), deck, page.InShort(s.Machine), a.In, terminal, a.Color &&
			!a.noColor)
	}
	if err != nil {
		return fmt.Errorf("the review stopped: an answer could not be saved: %w", work.Advise(err))
	}
	if !apply {
		_, _, _, open := deck.Count()
		a.note("your answers are in the record, and nothing was changed; %s not decided. lockback review goes on",
			autostart.Count(open, "entry is", "entries are"))
		return nil
	}
	return r.carryOut(deck.Decisions, o.message)
}

// newReviewing reads the machine, and puts what to decide into its order.
func newReviewing(s *session, begun store.Review) (*reviewing, error) {
	words, suggestion := selectorOf(begun.Words)
	inv := s.Measured()
	c, err := s.Choose(inv, words, work.Scope{All: begun.All, Anywhere: true})
	if err != nil {
		return nil, err
	}
	r := &reviewing{session: s, inv: inv, items: map[string]*location.Item{}, places: map[string]review.Place{},
		propose: map[string]review.Suggestion{}, pages: map[string][]string{}, started: work.Starters(inv)}
	if r.spreads, err = s.Record.Spreads(s.Machine.ID); err != nil {
		return nil, work.Advise(err)
	}
	r.chosen = work.Once(inv, c.Items)
	now := time.Now()
	for _, g := range review.Suggest(r.chosen, suggestion, now) {
		r.propose[g.Item.Handle] = g
	}
	for _, p := range review.Order(r.chosen, now) {
		item := p.Item
		if _, proposed := r.propose[item.Handle]; suggestion != nil && !proposed {
			continue
		}
		r.items[item.Handle], r.places[item.Handle] = item, p
		known := item.Entry.Facts()
		e := screen.Entry{Handle: item.Handle, Name: view.Safe(cmp.Or(item.Name, "(no name)")),
			Disabled: item.State == autostart.Disabled, Product: view.Safe(known.Product.Name),
			Maker: view.Safe(known.Maker.Name), Protected: item.Guarded}
		if program, ok := note.ProgramOf(s.Machine.OS, &item.Entry); ok {
			e.Program = program.Key()
		}
		if item.Switch == autostart.Report {
			e.Fixed = page.FixedWords(s.WhyFixed(item, location.Want{State: autostart.Disabled, Now: now}))
		}
		r.entries = append(r.entries, e)
	}
	return r, nil
}

// lines are what something prints, as lines of a width.
func (r *reviewing) lines(w screen.Width, print func(p view.Printer)) []string {
	var text bytes.Buffer
	print(view.Printer{Out: &text, Width: w.Columns, Color: w.Color})
	return strings.Split(strings.TrimRight(text.String(), "\n"), "\n")
}

// Page tells everything of an entry that one decides by.
func (r *reviewing) Page(handle string, w screen.Width) []string {
	key := fmt.Sprint(handle, w)
	if page, ok := r.pages[key]; ok {
		return page
	}
	page := r.lines(w, func(p view.Printer) {
		item := r.items[handle]
		r.Describe(r.inv, []*location.Item{item})
		p.Bold(cmp.Or(item.Name, "(no name)") + "  " + item.Handle + "  " + string(item.State))
		p.Pairs(r.pairs(item))
	})
	r.pages[key] = page
	return page
}

// pairs are a page's facts, the most telling first.
func (r *reviewing) pairs(item *location.Item) []view.Pair {
	var pairs []view.Pair
	add := func(name, value, from string, mark view.Mark) {
		if value != "" {
			pairs = append(pairs, view.Pair{Name: name, Value: value, From: from, Mark: mark})
		}
	}
	e, known := &item.Entry, item.Entry.Facts()
	fact := func(kind autostart.FactKind) (value, basis string) {
		if item.Facts == nil {
			return "", ""
		}
		for _, f := range item.Facts() {
			if f.Kind == kind && f.Value != "" {
				return autostart.Text(f.Value), autostart.Text(f.Basis)
			}
		}
		return "", ""
	}
	add("why first", r.places[item.Handle].Why, "", view.Plain)
	if g, ok := r.propose[item.Handle]; ok {
		add("proposed", "disable, as "+g.Kind, "", view.Plain)
	}
	for _, n := range e.Notes {
		what, who := view.NoteWords(n)
		add("note", what, who, view.Plain)
	}
	add("what it is", cmp.Or(page.DescriptionWords(e), "not known"), "", view.Plain)
	without, basis := fact(autostart.FactWithoutIt)
	add("without it", without, basis, view.Plain)
	for _, kind := range []autostart.FactKind{autostart.FactUnproven, autostart.FactOwnSetting, autostart.FactReturns,
		autostart.FactUpdates, autostart.FactBusiness, autostart.FactSince, autostart.FactSiblings} {
		value, basis := fact(kind)
		add(view.FactName(location.Fact{Kind: kind}), value, basis, view.Plain)
	}
	add("maker", cmp.Or(view.MadeBy(e), "not known"), "", view.Plain)
	product := strings.TrimSpace(known.Product.Name + " " + known.Product.Version)
	if day, _, _ := strings.Cut(known.Product.Installed, "T"); day != "" && product != "" {
		product += ", installed on " + day
	}
	add("product", product, "", view.Plain)
	if known.Verdict != "" {
		add("verdict", known.Verdict, known.VerdictBasis, view.Plain)
	}
	for _, problem := range view.Problems(e) {
		add("problem", problem, "", view.Alert)
	}
	add("protected", e.Guarded, "", view.Alert)
	add("think twice", e.Caution, "", view.Alert)
	add("found in", cmp.Or(e.Place, e.Location), e.When, view.Plain)
	add("for", view.Whose(e), "", view.Plain)
	add("starts", e.Command, "", view.Plain)
	path, mark := page.ProgramWords(e)
	add("program", path, "", mark)
	add("costs", view.CostWords(e.Cost), "", view.Plain)
	if len(e.Uses) > 0 {
		add("used by hand", view.UseWords(e.Uses[0]), "", view.Plain)
	}
	if program, ok := note.ProgramOf(r.Machine.OS, e); ok {
		s := r.spreads[program.Key()]
		add("other machines", page.SpreadWords(s.Machines, s.Kept, s.Off, s.Last), "", view.Plain)
		for _, with := range r.with(item, program.Key()) {
			add("goes with", with, "", view.Plain)
		}
	}
	switch {
	case item.Switch == autostart.Report:
		add("to turn it off", page.FixedWords(r.WhyFixed(item, location.Want{State: autostart.Disabled,
			Now: time.Now()})), "", view.Plain)
	case item.State == autostart.Disabled:
		add("to turn it on", "what turned it off is taken back; it takes effect "+view.Effect(item.Effect), "",
			view.Plain)
	default:
		add("to turn it off", switchMeaning(item.Switch)+"; it takes effect "+view.Effect(item.Effect),
			string(item.Switch),
			view.Plain)
	}
	return pairs
}

// maxWith is how many entries are named that belong to a program or product.
const maxWith = 4

// with names the other entries of the same program, product and maker, each once.
func (r *reviewing) with(item *location.Item, program string) []string {
	now := item.Entry.Facts()
	named := map[string]bool{item.Handle: true}
	var all []string
	for _, group := range []struct {
		of   string
		same func(screen.Entry) bool
	}{
		{"this program", func(e screen.Entry) bool { return e.Program == program }},
		{"the product " + now.Product.Name, func(e screen.Entry) bool {
			return now.Product.Name != "" && e.Product == view.Safe(now.Product.Name)
		}},
		{now.Maker.Name, func(e screen.Entry) bool {
			return now.Maker.Name != "" &&
				e.Maker == view.Safe(now.Maker.Name)
		}},
	} {
		var names []string
		n := 0
		for _, e := range r.entries {
			if named[e.Handle] || !group.same(e) {
				continue
			}
			named[e.Handle] = true
			if n++; n <= maxWith {
				names = append(names, e.Name)
			}
		}
		if n > maxWith {
			names = append(names, fmt.Sprintf("and %d more", n-maxWith))
		}
		if n > 0 {
			all = append(all, fmt.Sprintf("%s of %s: %s", autostart.Count(n, "other entry", "other entries"), group.of,
				strings.Join(names, ", ")))
		}
	}
	return all
}

// Lookup tells what other sources know about a program.
func (r *reviewing) Lookup(handle string, w screen.Width) []string {
	return r.lines(w, func(p view.Printer) {
		item := r.items[handle]
		r.Describe(r.inv, []*location.Item{item})
		p.Bold(item.Name + "  " + item.Handle)
		w := r.page()
		w.Printer = p
		l, err := w.LookUp(r.Session, item, false)
		if err != nil {
			p.Line("%s", oneLine(err))
			return
		}
		w.Lookup(l)
	})
}

// maxShown is how many lines of a file are shown, and maxShownBytes how many bytes are read for that.
const (
	maxShown      = 60
	maxShownBytes = 64 << 10
)

// Where tells what decides an entry, with the lines of its file.
func (r *reviewing) Where(handle string, w screen.Width) []string {
	return r.lines(w, func(p view.Printer) {
		item := r.items[handle]
		known := r.page()
		known.Printer = p
		known.Decided(known.Known(r.Machine, item, r.started), false, "")
		text, err := r.Machine.Reader(nil).ReadFile(item.Source.Path, maxShownBytes)
		if err != nil || item.Source.Key != "" || bytes.IndexByte(text, 0) >= 0 {
			return // it is no file of lines
		}
		p.Line("")
		p.Bold(page.Place(&item.Entry))
		lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
		from := max(0, min(item.Source.Line-maxShown/2, len(lines)-maxShown))
		for k := from; k < min(len(lines), from+maxShown); k++ {
			mark := "  "
			if k+1 == item.Source.Line {
				mark = "> "
			}
			p.Line("%s%s", mark, autostart.Text(lines[k]))
		}
		if len(lines) > from+maxShown {
			p.Line("and %d more lines", len(lines)-from-maxShown)
		}
	})
}

// Note writes a note down: a verdict with a colon may stand in front.
func (r *reviewing) Note(handle, text string) (string, error) {
	given := note.Note{Text: strings.TrimSpace(text)}
	if verdict, rest, ok := strings.Cut(given.Text, ":"); ok && slices.Contains(autostart.Verdicts,
		strings.ToLower(verdict)) {
		given.Verdict, given.Text = strings.ToLower(verdict), strings.TrimSpace(rest)
	} else if slices.Contains(autostart.Verdicts, strings.ToLower(given.Text)) {
		given.Verdict, given.Text = strings.ToLower(given.Text), ""
	}
	if given.Empty() {
		return "nothing was noted", nil
	}
	if err := given.Check(); err != nil {
		return "", err
	}
	item := r.items[handle]
	about, without := r.About([]*location.Item{item}, false)
	if len(without) > 0 {
		about, _ = r.About([]*location.Item{item}, true)
	}
	if err := r.KeepNotes(about, given, r.author(), r.dryRun); err != nil {
		return "", err
	}
	n := about[0]
	r.Forget()
	for _, other := range r.items {
		program, ok := note.ProgramOf(r.Machine.OS, &other.Entry)
		if n.Machine != "" && other.Handle != handle || n.Machine == "" && (!ok || program.Key() != n.Program.Key()) {
			continue
		}
		other.Notes = slices.DeleteFunc(slices.Clone(other.Notes), func(old autostart.Note) bool {
			return n.Known && old.Machine == (n.Machine != "") && old.Time.Equal(n.Before.Time) &&
				old.Text == n.Before.Text
		})
		note.NewBook([]note.Note{n.Note}).Apply(r.Machine.OS, r.Machine.ID, []*autostart.Entry{&other.Entry})
	}
	clear(r.pages)
	if n.Machine != "" {
		return "noted for this entry: other machines would not know its program", nil
	}
	return "noted; other machines know it by " + n.Program.String(), nil
}

// Filter chooses entries by words, as list does.
func (r *reviewing) Filter(words []string) (map[string]bool, error) {
	c, err := r.Choose(r.inv, words, work.Scope{All: true, Anywhere: true})
	if err != nil {
		return nil, errors.New(oneLine(err))
	}
	only := map[string]bool{}
	for _, item := range c.Items {
		only[item.Handle] = true
		if item.Shared != "" {
			only[item.Shared] = true
		}
	}
	return only, nil
}

// Keep keeps decisions in the record.
func (r *reviewing) Keep(at string, decisions map[string]screen.Decision) error {
	words := make(map[string]string, len(decisions))
	for handle, d := range decisions {
		words[handle] = string(d)
	}
	return r.Record.Decide(r.Machine.ID, at, words)
}

// switching is what decisions amount to, in the order of the inventory, as if the same entries were given to disable
// or enable.
func (r *reviewing) switching(decisions map[string]screen.Decision, message string) switching {
	w := switching{message: message, want: location.Want{Now: time.Now()}}
	for _, item := range r.inv.Items {
		d := decisions[item.Handle]
		if d == screen.Undecided && item.Shared != "" && r.items[item.Shared] != nil {
			d = decisions[item.Shared]
		}
		switch {
		case d == screen.Off && item.Guarded != "": // it was not protected when it was decided on
			w.notes = append(w.notes, fmt.Sprintf("left out: %s  %s: it is protected: %s", item.Handle, item.Name,
				item.Guarded))
		case (d == screen.Off || d == screen.OffProtected) && item.State == autostart.Enabled:
			w.off = append(w.off, item)
		case d == screen.On && item.State == autostart.Disabled:
			w.on = append(w.on, item)
		}
	}
	return w
}

// Overview tells what the decisions amount to.
func (r *reviewing) Overview(decisions map[string]screen.Decision, steps bool, width screen.Width) []string {
	return r.lines(width, func(p view.Printer) {
		w := r.switching(decisions, "")
		verbs := map[*location.Item]string{}
		for _, item := range w.off {
			verbs[item] = "off"
		}
		for _, item := range w.on {
			verbs[item] = "on"
		}
		going := slices.Concat(w.off, w.on)
		products, _ := product.Group(r.Machine, going)
		grouped := map[*location.Item]bool{}
		line := func(item *location.Item) []string {
			return []string{fmt.Sprintf("%s  %-3s  %s", item.Handle, verbs[item], item.Name),
				"for " + view.Whose(&item.Entry)}
		}
		for _, pr := range products {
			var lines [][]string
			for _, item := range pr.Items {
				grouped[item] = true
				lines = append(lines, line(item))
			}
			p.Block(page.ProductTitle(pr), lines)
		}
		var lines [][]string
		for _, item := range going {
			if !grouped[item] {
				lines = append(lines, line(item))
			}
		}
		if len(lines) > 0 {
			p.Block("Product not known", lines)
		}
		if len(going) == 0 {
			p.Line("Nothing to turn off or on.")
		}
		p.Line("")
		open := 0
		left := 0
		for _, e := range r.entries {
			switch decisions[e.Handle] {
			case screen.Undecided:
				open++
			case screen.Leave:
				left++
			}
		}
		p.Line("%d to turn off, %d to turn on, %d left as they are, %d not decided (those stay as they are)",
			len(w.off),
			len(w.on), left, open)
		if len(going) == 0 {
			return
		}
		plan, err := r.planSwitching(r.inv, &w)
		if err != nil && !errors.Is(err, change.ErrNothing) {
			p.Line("This cannot be done: %s", oneLine(err))
			return
		}
		out := r.page()
		out.Printer = p
		out.Lines(slices.Concat(w.notes, page.LeftOutNotes(plan), page.Noted(plan.Warnings)))
		if !steps {
			p.Line("%s; s shows them", autostart.Count(len(plan.Steps), "step", "steps"))
			return
		}
		p.Line("")
		out.Steps(plan.Steps, page.NamesIn(outcome.Planned(plan, r.inv)))
	})
}

// carryOut makes the change, and ends the review where it was made.
func (r *reviewing) carryOut(decisions map[string]screen.Decision, message string) error {
	w := r.switching(decisions, message)
	if len(w.off)+len(w.on) == 0 {
		r.notes(w.notes)
		r.note("nothing to turn off or on on %s", page.Subject(r.Machine))
		return work.Advise(r.Record.EndReview(r.Machine.ID))
	}
	if err := r.HoldSettled(); err != nil {
		return err
	}
	before, err := r.Record.Changes(r.Machine.ID)
	if err != nil {
		return work.Advise(err)
	}
	done, err := r.carryOutSwitching(r.inv, w)
	after, aerr := r.Record.Changes(r.Machine.ID)
	if aerr == nil && (len(after) > len(before) && after[len(after)-1].State == change.Done || !done && err == nil) {
		aerr = r.Record.EndReview(r.Machine.ID)
	}
	return errors.Join(err, work.Advise(aerr))
}

// printReview prints the order of a review for scripts, with the answers so far.
func printReview(a *app, o reviewOptions) error {
	return a.look(func(s *session, inv inventory.Inventory) error {
		var begun store.Review
		if s.Record != nil {
			var err error
			if begun, _, err = s.Record.Review(s.Machine.ID); err != nil {
				return work.Advise(err)
			}
		}
		words := o.words
		if len(words) == 0 {
			words, _ = selectorOf(begun.Words)
		}
		c, err := s.Choose(inv, words, work.Scope{All: o.all || begun.All, Anywhere: true})
		if err != nil {
			return err
		}
		items := work.Once(inv, c.Items)
		return a.page().ReviewOrder(s.Machine, review.Order(items, time.Now()), review.Suggest(items, nil, time.Now()),
			begun.Decisions)
	})
}
