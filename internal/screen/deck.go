// Package screen asks a person about entries one by one: on a whole terminal with keys, or line by line where that
// is not possible or not wanted. Both work on a [Deck]. It knows no machine and no record: a [Source] tells what
// to show and keeps what was decided, at once.
package screen

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Decision is what was decided on an entry.
type Decision string

// The decisions. OffProtected turns off what is protected, which is asked for twice.
const (
	Undecided    Decision = ""
	Leave        Decision = "leave"
	Off          Decision = "off"
	OffProtected Decision = "off-protected"
	On           Decision = "on"
)

// Word is a decision as people read it.
func (d Decision) Word() string {
	switch d {
	case Undecided:
		return "not decided"
	case OffProtected:
		return "off, protected"
	}
	return string(d)
}

// Entry is an entry in short.
type Entry struct {
	Handle, Name string
	Disabled     bool // it is off now
	// Program, Product and Maker tell which entries belong together; empty if that is not known.
	Program, Product, Maker string
	Protected, Fixed        string // why it is not turned off just so, and why it cannot be at all; empty otherwise
}

// Width is how wide a page is, in columns, and whether it has colours.
type Width struct {
	Columns int
	Color   bool
}

// Source is what a review is about.
type Source interface {
	// Page tells everything of an entry, in lines for a width.
	Page(handle string, w Width) []string
	// Lookup and Where tell where it is known from, and what decides it: the file or key.
	Lookup(handle string, w Width) []string
	Where(handle string, w Width) []string
	// Overview tells what the decisions amount to, by product, and with every step.
	Overview(decisions map[string]Decision, steps bool, w Width) []string
	// Note writes a note down on an entry's program, "spare: comes with the scanner", and says what it did.
	Note(handle, text string) (string, error)
	// Filter chooses entries by words, as everywhere.
	Filter(words []string) (map[string]bool, error)
	// Keep keeps which entry is looked at, and decisions, where they outlive the program.
	Keep(at string, decisions map[string]Decision) error
}

// Along says which entries a decision counts for.
type Along int

// The entries that a decision counts for: the one that is shown, or those of its program, product or maker too.
const (
	Alone Along = iota
	WithProgram
	WithProduct
	WithMaker
)

// Deck is a review: its entries in their order, where it stands, and what was decided.
type Deck struct {
	Entries   []Entry
	Decisions map[string]Decision
	At        int // in Shown
	Along     Along
	Filter    string
	source    Source
	shown     []int // of Entries
}

// NewDeck makes a deck that stands at an entry; at the first that is not decided where there is no such entry.
func NewDeck(entries []Entry, decisions map[string]Decision, at string, source Source) *Deck {
	d := &Deck{Entries: entries, Decisions: map[string]Decision{}, source: source}
	for k, e := range entries {
		d.shown = append(d.shown, k)
		if decision := decisions[e.Handle]; decision != Undecided {
			d.Decisions[e.Handle] = decision
		}
	}
	d.At = slices.IndexFunc(entries, func(e Entry) bool { return e.Handle == at })
	if d.At < 0 {
		d.At = max(0, d.nextOpen(-1))
	}
	return d
}

// Now is the entry that is looked at.
func (d *Deck) Now() Entry { return d.Entries[d.shown[d.At]] }

// Shown is how many entries the filter leaves.
func (d *Deck) Shown() int { return len(d.shown) }

// Count is how many decisions of each kind there are.
func (d *Deck) Count() (off, on, left, open int) {
	for _, e := range d.Entries {
		switch d.Decisions[e.Handle] {
		case Off, OffProtected:
			off++
		case On:
			on++
		case Leave:
			left++
		default:
			open++
		}
	}
	return off, on, left, open
}

// nextOpen is the place of the next entry behind one that is not decided; -1 where there is none.
func (d *Deck) nextOpen(from int) int {
	for n := 1; n <= len(d.shown); n++ {
		k := (from + n) % len(d.shown)
		if d.Decisions[d.Entries[d.shown[k]].Handle] == Undecided {
			return k
		}
	}
	return -1
}

// together are the entries that a decision counts for, the shown one first.
func (d *Deck) together(along Along) []Entry {
	now := d.Now()
	same := func(e Entry) bool {
		switch along {
		case WithProgram:
			return now.Program != "" && e.Program == now.Program
		case WithProduct:
			return now.Product != "" && e.Product == now.Product
		case WithMaker:
			return now.Maker != "" && e.Maker == now.Maker
		}
		return false
	}
	all := []Entry{now}
	for _, e := range d.Entries {
		if e.Handle != now.Handle && same(e) {
			all = append(all, e)
		}
	}
	return all
}

// AlongWords say which entries a decision counts for.
func (d *Deck) AlongWords() string {
	now := d.Now()
	n := len(d.together(d.Along))
	switch d.Along {
	case WithProgram:
		return fmt.Sprintf("the %d entries of this program", n)
	case WithProduct:
		return fmt.Sprintf("the %d entries of %s", n, now.Product)
	case WithMaker:
		return fmt.Sprintf("the %d entries by %s", n, now.Maker)
	}
	return "this entry"
}

// Widen has the next decision count for more entries: those of the program, the product, the maker, and again for the
// shown one alone. A decision that adds nothing is skipped.
func (d *Deck) Widen() {
	had := len(d.together(d.Along))
	for next := d.Along + 1; next <= WithMaker; next++ {
		if len(d.together(next)) > had {
			d.Along = next
			return
		}
	}
	d.Along = Alone
}

// TakeProduct has the next decision count for the whole product; it reports whether there is more of it.
func (d *Deck) TakeProduct() bool {
	if len(d.together(WithProduct)) < 2 {
		return false
	}
	d.Along = WithProduct
	return true
}

// Decide decides on the entries that a decision counts for, keeps that, and goes to the next that is not decided. It
// says what happened. What is protected is turned off by itself only, and with OffProtected.
func (d *Deck) Decide(decision Decision) (said string, err error) {
	now := d.Now()
	if decision == Off || decision == OffProtected {
		switch {
		case now.Fixed != "":
			return now.Name + " " + now.Fixed, nil
		case now.Protected != "" && decision == Off:
			return "", protectedError(now.Protected)
		case now.Protected == "":
			decision = Off
		}
	}
	changed, passed := map[string]Decision{}, 0
	for k, e := range d.together(d.Along) {
		is := decision
		switch {
		case (decision == Off || decision == OffProtected) && k > 0 && (e.Fixed != "" || e.Protected != ""):
			passed++
			continue
		case (decision == Off || decision == OffProtected) && e.Disabled, decision == On && !e.Disabled:
			is = Leave // it is so already
		}
		changed[e.Handle] = is
	}
	next := d.At
	before := map[string]Decision{}
	for handle, is := range changed {
		before[handle] = d.Decisions[handle]
		d.Decisions[handle] = is
	}
	if k := d.nextOpen(d.At); k >= 0 {
		next = k
	}
	if err := d.source.Keep(d.Entries[d.shown[next]].Handle, changed); err != nil {
		for handle, was := range before {
			d.Decisions[handle] = was
		}
		return "", err
	}
	said = now.Name + ": " + decision.Word()
	if changed[now.Handle] == Leave && decision != Leave {
		said = now.Name + ": as it is already"
	}
	if n := len(changed); n > 1 {
		said = fmt.Sprintf("%s, and %d more", said, n-1)
	}
	if passed > 0 {
		said += fmt.Sprintf("; %d protected or fixed left out", passed)
	}
	d.At, d.Along = next, Alone
	return said, nil
}

// protectedError says that an entry is protected, and what a mistake would cost.
type protectedError string

func (p protectedError) Error() string { return "it is protected: " + string(p) }

// Forget takes the decision on the shown entry back.
func (d *Deck) Forget() error {
	handle := d.Now().Handle
	if err := d.source.Keep(handle, map[string]Decision{handle: Undecided}); err != nil {
		return err
	}
	delete(d.Decisions, handle)
	return nil
}

// Move goes some entries on or back, and keeps where it is.
func (d *Deck) Move(by int) error {
	d.At = max(0, min(len(d.shown)-1, d.At+by))
	d.Along = Alone
	return d.source.Keep(d.Now().Handle, nil)
}

// SetFilter shows just the entries that words choose; none shows all.
func (d *Deck) SetFilter(text string) error {
	now := d.Now().Handle
	words := strings.Fields(text)
	var only map[string]bool
	if len(words) > 0 {
		var err error
		if only, err = d.source.Filter(words); err != nil {
			return err
		}
	}
	var shown []int
	for k, e := range d.Entries {
		if only == nil || only[e.Handle] {
			shown = append(shown, k)
		}
	}
	if len(shown) == 0 {
		return fmt.Errorf("%q matches none of these entries", text)
	}
	d.shown, d.Filter, d.Along = shown, strings.Join(words, " "), Alone
	d.At = max(0, slices.IndexFunc(shown, func(k int) bool { return d.Entries[k].Handle == now }))
	return d.source.Keep(d.Now().Handle, nil)
}

// Jump goes to an entry by its number, the beginning of its handle, or its name.
func (d *Deck) Jump(to string) error {
	to = strings.ToLower(strings.TrimSpace(to))
	if n, err := strconv.Atoi(to); err == nil && n >= 1 && n <= len(d.shown) {
		return d.Move(n - 1 - d.At)
	}
	for _, fits := range []func(Entry) bool{
		func(e Entry) bool { return len(to) >= 3 && strings.HasPrefix(e.Handle, to) },
		func(e Entry) bool { return to != "" && strings.HasPrefix(strings.ToLower(e.Name), to) },
		func(e Entry) bool { return to != "" && strings.Contains(strings.ToLower(e.Name), to) },
	} {
		if k := slices.IndexFunc(d.shown, func(k int) bool { return fits(d.Entries[k]) }); k >= 0 {
			return d.Move(k - d.At)
		}
	}
	return fmt.Errorf("no entry of these is called %q; a number goes from 1 to %d", to, len(d.shown))
}
