// Package outcome tells what a plan makes of entries, and what a change made of them.
package outcome

import (
	"cmp"
	"slices"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// Absent stands for the state of an entry that is not there.
const Absent = "absent"

// Outcome is an entry as it was, and as it will be or is now.
type Outcome struct {
	Handle, Name string
	User         string // whose entry it is; empty: everyone's
	Only         string // the one user for whom an entry of everyone's is switched; empty: all
	// Was and WillBe are states, [change.Removed], or [Absent].
	Was, WillBe string
	Effect      location.Effect
}

// Planned tells what a plan makes of each of its entries.
func Planned(plan change.Plan, inv inventory.Inventory) []Outcome {
	known := inv.ByHandle()
	all := make([]Outcome, 0, len(plan.Handles))
	for _, h := range plan.Handles {
		o, will := Outcome{Handle: h, Was: Absent, WillBe: Absent, Only: plan.For}, plan.Expect(h)
		if item := known[h]; item != nil {
			o.Name, o.User, o.Was, o.Effect = item.Name, item.User, string(item.State), item.Effect
		} else if will.Entry != nil {
			o.Name, o.User, o.Effect = will.Entry.Name, will.Entry.User, inv.Effect(will.Entry.Location)
		}
		switch {
		case will.Removed:
			o.WillBe = string(change.Removed)
		case will.State != "":
			o.WillBe = string(will.State)
		}
		all = append(all, o)
	}
	return append(replaced(all, plan, inv), all...)
}

// replaced finds the entries that are gone with the artifacts that a plan takes away, besides its own: a user's
// override of what is for everyone.
func replaced(all []Outcome, plan change.Plan, inv inventory.Inventory) []Outcome {
	if slices.Contains([]change.Kind{change.Disable, change.Enable, change.Review, change.Culprit, change.Remove},
		plan.Kind) {
		return nil
	}
	gone := map[artifact.Artifact]bool{}
	for _, s := range plan.Steps {
		gone[s.Artifact] = s.After.Kind == artifact.Absent
	}
	listed, kept := map[string]bool{}, map[string]bool{}
	for _, o := range all {
		listed[o.Handle] = true
		if o.Was == o.WillBe {
			kept[o.Name] = true
		}
	}
	var more []Outcome
	for _, item := range inv.Items {
		if item.User == "" || !kept[item.Name] || listed[item.Handle] {
			continue
		}
		if slices.ContainsFunc(item.Artifacts(), func(a artifact.Artifact) bool { return gone[a] }) {
			more = append(more, Outcome{Handle: item.Handle, Name: item.Name, User: item.User, Was: string(item.State),
				WillBe: Absent, Effect: item.Effect})
		}
	}
	return more
}

// state is what is kept of an entry while a change is made. Of what many entries have in common it has the numbers of
// words, for a machine can have a hundred thousand.
type state struct {
	name        string
	user, state uint32
	effect      location.Effect
}

// States are those of all entries of an inventory.
type States struct {
	byHandle map[string]state // by handle
	words    []string
}

// StatesOf are the states of all entries.
func StatesOf(inv inventory.Inventory) States {
	s, numbers := States{byHandle: make(map[string]state, len(inv.Items))}, map[string]uint32{}
	number := func(text string) uint32 {
		n, known := numbers[text]
		if !known {
			n = uint32(len(s.words))
			s.words, numbers[text] = append(s.words, text), n
		}
		return n
	}
	for _, item := range inv.Items {
		if _, known := s.byHandle[item.Handle]; !known {
			s.byHandle[item.Handle] = state{item.Name, number(item.User), number(string(item.State)), item.Effect}
		}
	}
	return s
}

// get is what is kept of an entry, with its state.
func (s States) get(handle string) (o Outcome, is string, ok bool) {
	known, ok := s.byHandle[handle]
	if !ok {
		return Outcome{}, Absent, false
	}
	return Outcome{Name: known.name, User: s.words[known.user], Effect: known.effect}, s.words[known.state], true
}

// Became lists the entries that a change touched, as they were and as they are now.
func Became(plan change.Plan, before, after States) []Outcome {
	// An entry of its own can be added or removed with a change: a user's override of what is for everyone.
	handles := slices.Clone(plan.Handles)
	for _, side := range [2][2]States{{after, before}, {before, after}} {
		var only []string
		for h := range side[0].byHandle {
			if _, both := side[1].byHandle[h]; !both {
				only = append(only, h)
			}
		}
		slices.Sort(only)
		handles = append(handles, only...)
	}
	seen := make(map[string]bool, len(handles))
	list := make([]Outcome, 0, len(handles))
	for _, h := range handles {
		was, wasState, had := before.get(h)
		is, isState, has := after.get(h)
		if seen[h] || !had && !has || plan.For != "" && had && has && wasState == isState {
			continue // of what is for everyone, one user's own override tells
		}
		seen[h] = true
		if plan.Kind == change.Remove && had && isState == string(autostart.Disabled) {
			isState = string(change.Removed)
		}
		one := Outcome{Handle: h, Name: cmp.Or(is.Name, was.Name), User: was.User, Was: wasState, WillBe: isState,
			Effect: cmp.Or(was.Effect, is.Effect)}
		if has {
			one.User = is.User
		}
		list = append(list, one)
	}
	return list
}

// Large is what is large about a change: what would stop among what starts. Its numbers are zero if that is no more
// than usual.
type Large struct {
	Protected int // entries that are protected
	Parts     int // parts of the operating system
	// Visible of the Starting entries that are no parts of the system stop, and that is more than half.
	Visible, Starting int
}

// None reports whether nothing is large.
func (l Large) None() bool { return l.Protected+l.Parts+l.Visible == 0 }

// LargeOf is what is large about a plan.
func LargeOf(plan change.Plan, list []Outcome, inv inventory.Inventory) Large {
	known := inv.ByHandle()
	var l Large
	for _, item := range inv.Items {
		concerned := plan.For == "" || item.User == plan.For || item.ForEveryone()
		if item.State == autostart.Enabled && !item.OSPart && concerned {
			l.Starting++
		}
	}
	for _, o := range list {
		item := known[o.Handle]
		if item == nil || o.Was != string(autostart.Enabled) || o.WillBe == string(autostart.Enabled) {
			continue
		}
		if item.Guarded != "" {
			l.Protected++
		}
		if item.OSPart {
			l.Parts++
		} else {
			l.Visible++
		}
	}
	if 2*l.Visible <= l.Starting {
		l.Visible = 0
	}
	return l
}
