package autostart

import (
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Every field of an entry counts when users are compared, but whose it is and what it cost whom: a field that is
// added later must not be forgotten.
func TestEntriesThatDifferAreToldApart(t *testing.T) {
	there := true
	entry := func() Entry {
		return Entry{Handle: "a", Shared: "s", User: "ines", Problems: []string{Twice}, Target: Target{Path: "/tide",
			Exists: &there}, Known: &Known{Role: "sync"}}
	}
	whose := map[string]bool{"Handle": true, "User": true, "Scope": true, "Cost": true, "Uses": true}
	for _, field := range reflect.VisibleFields(reflect.TypeFor[Entry]()) {
		a, b := entry(), entry()
		v := reflect.ValueOf(&b).Elem().FieldByIndex(field.Index)
		switch field.Name {
		case "Target":
			b.Target.Exists = new(bool)
		case "Known":
			b.Known = &Known{Role: "updater"}
		case "Problems":
			b.Problems = nil
		case "Source":
			b.Source.Line = 7
		case "Cost":
			b.Cost = &Cost{CPUMS: 1}
		case "Notes":
			b.Notes = []Note{{Text: "ask Ines"}}
		case "Commands":
			b.Commands = []Command{{Key: "ExecStop"}}
		case "Uses":
			b.Uses = []Use{{}}
		default:
			if v.Kind() == reflect.Bool {
				v.SetBool(true)
			} else {
				v.SetString("other")
			}
		}
		require.Equal(t, whose[field.Name], a.like(&b), field.Name)
	}
	a, b := entry(), entry()
	b.Target.Modified = time.Unix(1, 0)
	require.False(t, a.like(&b))
	b = entry()
	b.Target.Exists = nil
	require.False(t, a.like(&b))
	b = entry()
	again := true
	b.Target.Exists, b.Known = &again, &Known{Role: "sync"}
	require.True(t, a.like(&b), "by what they say, not by where that lies")
}

func TestOnceForEveryone(t *testing.T) {
	early, late := time.Unix(1, 0), time.Unix(2, 0)
	hers := &Entry{Handle: "hers", Shared: "both", User: "ines", Scope: ForUser, Name: "Tide", Cost: &Cost{CPUMS: 3},
		Uses: []Use{{User: "ines", Last: early}}}
	his := &Entry{Handle: "his", Shared: "both", User: "bram", Scope: ForUser, Name: "Tide", Cost: &Cost{CPUMS: 4},
		Uses: []Use{{User: "bram", Last: late}}}
	own := &Entry{Handle: "own", User: "bram", Name: "Tide"}
	third := &Entry{Handle: "third", Shared: "both", User: "odile", Scope: ForUser, Name: "Tide"}
	all := []*Entry{hers, own, his}
	require.Equal(t, all, OnceForEveryone(all, append(all[:3:3], third)), "two users of three are not everyone")
	merged := OnceForEveryone(all, all)
	require.Len(t, merged, 2)
	require.Equal(t, []any{"both", "", ForSystem, (*Cost)(nil), "bram"}, []any{merged[0].Handle, merged[0].User,
		merged[0].Scope, merged[0].Cost, merged[0].Uses[0].User})
	require.Equal(t, own, merged[1])
	require.Equal(t, "hers", hers.Handle, "what is given stays as it is")
	require.Equal(t, all[:2], OnceForEveryone(all[:2], all), "of some users only")
	his.State = Disabled
	require.Equal(t, all, OnceForEveryone(all, all), "they differ")
	s, err := ParseSelector([]string{"both"})
	require.NoError(t, err)
	require.Equal(t, []*Entry{hers, his}, s.Choose(all))
	require.True(t, s.ByHandle(*hers))
	word, _ := s.Ambiguous([]*Entry{hers, his})
	require.Empty(t, word, "it is one thing")
	s, err = ParseSelector([]string{"Tide"})
	require.NoError(t, err)
	word, among := s.Ambiguous(all)
	require.Equal(t, "Tide", word)
	require.Len(t, among, 3)
	s, err = ParseSelector([]string{"bot"})
	require.NoError(t, err)
	s, err = s.Resolve(all)
	require.NoError(t, err)
	require.Len(t, s.Choose(all), 2)
}
