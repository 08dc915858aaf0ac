//go:build unix

package work_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/culprit"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/note"
	"lockback/core/starts"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/core/work/disclose"
	"lockback/core/work/outcome"
	"lockback/core/work/removal"
	"lockback/core/work/rounds"
	"lockback/core/work/trial"
	"lockback/internal/testkit"
)

// bench is the workshop box on the bench, with a session that may change it.
type bench struct {
	*work.Session
	testkit.Program
	desk     *work.Desk
	warnings []string
}

func workshop(t *testing.T) *bench {
	t.Helper()
	b := &bench{Program: testkit.Museum(t, "workshop-box")}
	b.desk = &work.Desk{Options: work.Options{Root: b.Root, Record: b.Store,
		Warn: func(text string) { b.warnings = append(b.warnings, text) }}}
	s, err := b.desk.OpenToChange(false, false)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	b.Session = s
	return b
}

// choose chooses entries that are there.
func (b *bench) choose(t *testing.T, words ...string) (inventory.Inventory, work.Choice) {
	t.Helper()
	inv := b.Inventory()
	c, err := b.ChooseExactly(inv, words, work.Scope{})
	require.NoError(t, err)
	return inv, c
}

// disable turns entries off, as every command does it.
func (b *bench) disable(t *testing.T, words ...string) change.Change {
	t.Helper()
	inv, c := b.choose(t, words...)
	plan, err := b.Engine.Decide(change.Choice{Off: c.Items, Inventory: inv,
		Want: location.Want{State: autostart.Disabled, Now: time.Now()}})
	require.NoError(t, err)
	result, err := b.Engine.Apply(plan, inv, "")
	require.NoError(t, err)
	return result.Change
}

// undo takes a change back.
func (b *bench) undo(t *testing.T, args ...string) {
	t.Helper()
	c, err := b.ToUndo(args)
	require.NoError(t, err)
	plan, err := b.Engine.Undo(c)
	require.NoError(t, err)
	_, err = b.Engine.Apply(plan, b.Inventory(), "")
	require.NoError(t, err)
}

func TestChoosing(t *testing.T) {
	t.Parallel()
	b := workshop(t)
	inv := b.Inventory()
	for words, want := range map[string]struct {
		items   int
		mistake bool
		nothing bool
	}{
		"Fogbell Sync": {items: 1}, "Fogbell*": {items: 5}, "nobody": {nothing: true},
		"dbus.service": {nothing: true}, "stage=nope": {mistake: true},
	} {
		c, err := b.ChooseExactly(inv, []string{words}, work.Scope{})
		var mistake work.Mistake
		var nothing work.NothingFound
		switch {
		case c.Items != nil:
			require.NoError(t, err, words)
			require.Len(t, c.Items, want.items, words)
		case want.nothing:
			require.ErrorAs(t, err, &nothing, words)
		default:
			require.True(t, want.mistake, words)
			require.ErrorAs(t, err, &mistake, words)
		}
	}
	all, err := b.Choose(inv, []string{"dbus.service"}, work.Scope{All: true})
	require.NoError(t, err, "a part of the system, where it is asked for")
	require.Len(t, all.Items, 1)
	own, want, err := b.ChooseFor(inv, []string{"Fogbell Sync"}, "ines", work.Scope{})
	require.NoError(t, err)
	require.Equal(t, "ines", want.User.Name)
	require.Len(t, own.Items, 1)
	_, _, err = b.ChooseFor(inv, []string{"Fogbell Sync"}, "nobody-at-all", work.Scope{})
	require.Error(t, err)
	protected, err := b.Choose(inv, []string{"guarded=yes"}, work.Scope{})
	require.NoError(t, err)
	off := location.Want{State: autostart.Disabled}
	require.Empty(t, work.Sift(protected, off, false).Chosen, "what is protected is left out")
	require.NotEmpty(t, work.Sift(protected, off, true).Chosen)
}

func TestChangeTrialAndUndo(t *testing.T) {
	t.Parallel()
	b := workshop(t)
	before := testkit.Tree(t, b.Root)
	was := outcome.StatesOf(b.Inventory())
	c := b.disable(t, "Fogbell Sync", "kelpline-updater.timer")
	after := b.Inventory()
	names := map[string]autostart.State{}
	for _, item := range after.Items {
		names[item.Name] = item.State
	}
	require.Equal(t, autostart.Disabled, names["Fogbell Sync"])
	require.Equal(t, autostart.Disabled, names["kelpline-updater.timer"])
	became := outcome.Became(change.Plan{Handles: c.Outcomes[0].Handles}, was, outcome.StatesOf(after))
	require.Len(t, became, 2)

	// It is on trial from here on, and tried by a start and a sign-in.
	changes, err := b.Record.Changes(b.Machine.ID)
	require.NoError(t, err)
	trials := trial.All(b.Session, changes, after, starts.Read(b.Machine), time.Now())
	require.Len(t, trials, 1)
	require.Nil(t, trials[0].Tried(), "nobody knows of a start")

	b.undo(t)
	require.Empty(t, testkit.Differences(before, testkit.Tree(t, b.Root)))
	_, err = b.ToUndo([]string{c.Name()})
	require.ErrorContains(t, err, "is undone already")
	require.Empty(t, b.warnings)
}

func TestSearchForACulprit(t *testing.T) {
	t.Parallel()
	b := workshop(t)
	inv := b.Inventory()
	begun, err := rounds.Begin(b.Session, inv, []string{"Fogbell*", "Tide Chart", "kelpline-updater.timer", "report"},
		work.Scope{}, false)
	require.NoError(t, err)
	guilty := ""
	for _, item := range inv.Items {
		if item.Name == "Fogbell Sync" {
			guilty = item.Handle
		}
	}
	step, err := rounds.Next(b.Session, begun.Search, inv)
	require.NoError(t, err)
	for range 12 {
		if !step.Nothing {
			made, err := b.Engine.Apply(step.Plan, inv, "")
			require.NoError(t, err)
			require.NoError(t, step.Done(made.Change))
		} else {
			require.NoError(t, step.Done(change.Change{}))
		}
		if step.Verdict != nil {
			break
		}
		f, err := rounds.UnderWay(b.Session)
		require.NoError(t, err)
		inv = b.Inventory()
		answer := culprit.Works
		for _, item := range inv.Items {
			if item.Handle == guilty && item.State == autostart.Enabled {
				answer = culprit.Broken
			}
		}
		step, _, err = rounds.Answer(b.Session, f, inv, answer, false)
		require.NoError(t, err)
	}
	require.NotNil(t, step.Verdict)
	require.Len(t, step.Verdict.Found, 1)
	require.Equal(t, []string{guilty}, begun.Search.Units[step.Verdict.Found[0].Unit].Handles)
	_, err = rounds.UnderWay(b.Session)
	require.Error(t, err, "it has ended")
}

func TestRemoval(t *testing.T) {
	t.Parallel()
	b := workshop(t)
	before := testkit.Tree(t, b.Root)
	inv, c := b.choose(t, "Fogbell Sync")
	rule, err := removal.New(b.Session, c, removal.Options{})
	require.NoError(t, err)
	items, left := rule.Sift(removal.WithShared(inv, c.Items))
	require.Empty(t, items, "it is on: first it is tried without")
	require.Len(t, left, 1)
	b.disable(t, "Fogbell Sync")
	inv, c = b.choose(t, "Fogbell Sync")
	rule, err = removal.New(b.Session, c, removal.Options{})
	require.NoError(t, err)
	items, _ = rule.Sift(removal.WithShared(inv, c.Items))
	require.Empty(t, items, "nobody has been without it yet")
	rule, err = removal.New(b.Session, c, removal.Options{Now: true})
	require.NoError(t, err)
	items, _ = rule.Sift(removal.WithShared(inv, c.Items))
	plan, removed, left, err := rule.Plan(inv, items)
	require.NoError(t, err)
	require.Empty(t, left)
	require.Len(t, removed, 1)
	_, err = b.Engine.Apply(plan, inv, "")
	require.NoError(t, err)
	_, gone := b.choose(t, "Fogbell Sync")
	require.True(t, change.Taken(gone.Items[0]), "only the record has it")
	b.undo(t)
	b.undo(t)
	require.Empty(t, testkit.Differences(before, testkit.Tree(t, b.Root)))
}

// Notes are kept with the program, and what is looked up names nobody's machine.
func TestNotesAndDisclosure(t *testing.T) {
	t.Parallel()
	b := workshop(t)
	_, c := b.choose(t, "Fogbell Sync")
	about, without := b.About(c.Items, false)
	require.Empty(t, without)
	require.NoError(t, b.KeepNotes(about, note.Note{Text: "comes with the scanner", Verdict: "spare"}, "Bram", false))
	b.Forget()
	_, c = b.choose(t, "Fogbell Sync")
	require.Equal(t, "comes with the scanner", c.Items[0].Notes[0].Text)
	require.Equal(t, "spare", c.Items[0].Entry.Facts().VerdictWord())
	words := disclose.Words(&c.Items[0].Entry, b.Machine, "ines", b.Machine.Name, "/home/ines", "updater")
	require.Contains(t, words, "Fogbell Works")
	require.Contains(t, words, "updater")
	for _, word := range words {
		require.NotContains(t, word, "ines")
		require.NotContains(t, word, b.Machine.Name)
	}
}

// Nothing is changed while an interrupted change waits, and a machine without a record can be looked at.
func TestSessions(t *testing.T) {
	t.Parallel()
	p := testkit.Museum(t, "workshop-box")
	desk := &work.Desk{Options: work.Options{Root: p.Root, Record: p.Store}}
	_, err := desk.Open(store.Read)
	require.ErrorIs(t, err, store.ErrNone)
	s, err := desk.Look()
	require.NoError(t, err)
	require.NotEmpty(t, s.Inventory().Items)
	s.Close()
	_, err = (&work.Desk{Options: work.Options{Root: t.TempDir()}}).Look()
	require.Error(t, err)
}
