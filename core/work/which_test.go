package work

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/core/store"
)

// The same hardware is the same machine, whatever else changed; a kind of mark that one of both lacks tells nothing; of
// a kind that can have several, one in common is enough.
func TestCompareMarks(t *testing.T) {
	t.Parallel()
	mark := func(kind machine.MarkKind, value string) machine.Mark { return machine.Mark{Kind: kind, Value: value} }
	known := store.Identity{ID: "1", Name: "till-1.museum.example", Marks: []machine.Mark{
		mark(machine.HardwareMark, "board-1"), mark(machine.DiskMark, "disk-1"), mark(machine.AccountsMark,
			"S-1-5-21-1"),
		mark(machine.AccountsMark, "S-1-5-21-9")}}
	name := mark(machine.NameMark, "till-1")
	for _, c := range []struct {
		what  string
		marks []machine.Mark
		agree int
		want  []machine.MarkKind
	}{
		{"the same", []machine.Mark{mark(machine.HardwareMark, "board-1"), mark(machine.DiskMark, "disk-1"), name}, 3,
			nil},
		{"another disk and name in it", []machine.Mark{mark(machine.HardwareMark, "board-1"),
			mark(machine.DiskMark, "disk-2"), mark(machine.NameMark, "till-2")}, 3, nil},
		{"its disk in another", []machine.Mark{mark(machine.HardwareMark, "board-2"), mark(machine.DiskMark, "disk-1"),
			name}, 2, []machine.MarkKind{machine.HardwareMark}},
		{"from outside", []machine.Mark{mark(machine.DiskMark, "disk-1"), name}, 2, nil},
		{"nothing but the name", []machine.Mark{name}, 1, nil},
		{"another name", []machine.Mark{mark(machine.NameMark, "till-2")}, 0, []machine.MarkKind{machine.NameMark}},
		{"a key that was not known", []machine.Mark{mark(machine.HostKeyMark, "key"), name}, 1, nil},
		{"accounts of a domain too", []machine.Mark{mark(machine.AccountsMark, "S-1-5-21-7"),
			mark(machine.AccountsMark, "S-1-5-21-9"), name}, 2, nil},
		{"others' accounts", []machine.Mark{mark(machine.AccountsMark, "S-1-5-21-7"), name}, 1,
			[]machine.MarkKind{machine.AccountsMark}},
	} {
		agree, differs := compareMarks(known, c.marks)
		require.Equal(t, c.want, differs, c.what)
		require.Equal(t, c.agree, agree, c.what)
	}
}

// What is answered counts where it fits, and nothing else.
func TestDoubtIsAnswered(t *testing.T) {
	t.Parallel()
	d := Doubt{Known: []store.Identity{{ID: "7", Name: "till-1"}, {ID: "7~2", Name: "till-2"}}, best: 1}
	for answer, want := range map[string]string{"same": "7~2", "other": "7~3", "TILL-1": "7", "till-2": "7~2"} {
		id, err := d.answer(answer, "7~3")
		require.NoError(t, err, answer)
		require.Equal(t, want, id, answer)
	}
	require.Equal(t, "7~3", nextID("7", d.Known))
	require.Equal(t, "7~3", nextID("7", d.Known[1:]), "a record that was carried lacks the first")
	_, err := d.answer("yes", "7~3")
	require.ErrorContains(t, err, `"yes" is none that fits`)
	d.best = -1
	_, err = d.answer("same", "7~3")
	require.ErrorContains(t, err, "--this-is NAME")
}
