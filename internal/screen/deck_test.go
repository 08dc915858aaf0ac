package screen

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// source is a review of a test: it remembers what it was told to keep.
type source struct {
	at   string
	kept map[string]Decision
	full bool
	said []string
}

func (s *source) Page(handle string, w Width) []string {
	return strings.Split(strings.Repeat("line of "+handle+"\n", 40), "\n")
}
func (s *source) Lookup(handle string, _ Width) []string {
	return []string{"known elsewhere: " + handle}
}
func (s *source) Where(handle string, _ Width) []string              { return []string{"/etc/" + handle} }
func (s *source) Overview(map[string]Decision, bool, Width) []string { return []string{"overview"} }
func (s *source) Note(handle, text string) (string, error) {
	s.said = append(s.said, text)
	return "noted", nil
}
func (s *source) Filter(words []string) (map[string]bool, error) {
	if words[0] == "bad" {
		return nil, errors.New("that is no word")
	}
	return map[string]bool{words[0]: true}, nil
}
func (s *source) Keep(at string, decisions map[string]Decision) error {
	if s.full {
		return errors.New("the record is full")
	}
	s.at = at
	for handle, d := range decisions {
		s.kept[handle] = d
	}
	return nil
}

func deck() (*Deck, *source) {
	s := &source{kept: map[string]Decision{}}
	return NewDeck([]Entry{
		{Handle: "aaaaaaa", Name: "Sync", Program: "p1", Product: "Fogbell", Maker: "Fogbell Works"},
		{Handle: "bbbbbbb", Name: "Sync at noon", Program: "p1", Product: "Fogbell", Maker: "Fogbell Works"},
		{Handle: "ccccccc", Name: "Index", Program: "p2", Product: "Fogbell", Maker: "Fogbell Works"},
		{Handle: "ddddddd", Name: "Driver", Program: "p3", Product: "Fogbell", Maker: "Fogbell Works",
			Protected: "a device may not work"},
		{Handle: "eeeeeee", Name: "Other", Program: "p4", Product: "Bell", Maker: "Fogbell Works",
			Fixed: "cannot be turned off here"},
		{Handle: "fffffff", Name: "Gone", Disabled: true},
	}, map[string]Decision{"aaaaaaa": Leave}, "zzzzzzz", s), s
}

// It begins at the first entry that is not decided, and each answer goes on to the next of those, around the end.
func TestWhereADeckStands(t *testing.T) {
	d, s := deck()
	require.Equal(t, "bbbbbbb", d.Now().Handle)
	require.NoError(t, d.Jump("gone"))
	said, err := d.Decide(On)
	require.NoError(t, err)
	require.Equal(t, "Gone: on", said)
	require.Equal(t, "bbbbbbb", d.Now().Handle)
	require.Equal(t, "bbbbbbb", s.at, "a review that is cut short goes on there")
	require.NoError(t, d.Move(-5))
	require.Equal(t, "aaaaaaa", d.Now().Handle)
	require.NoError(t, d.Move(50))
	require.Equal(t, "fffffff", d.Now().Handle)
	for to, want := range map[string]string{"3": "ccccccc", "eee": "eeeeeee", "sync at": "bbbbbbb", "noon": "bbbbbbb"} {
		require.NoError(t, d.Jump(to))
		require.Equal(t, want, d.Now().Handle, to)
	}
	for _, to := range []string{"0", "7", "", "zz", "nothing"} {
		require.Error(t, d.Jump(to), to)
	}
	require.NoError(t, d.SetFilter("ccccccc"))
	require.Equal(t, []any{1, "ccccccc"}, []any{d.Shown(), d.Now().Handle})
	require.Error(t, d.SetFilter("bad"))
	require.Error(t, d.SetFilter("zzzzzzz"))
	require.Equal(t, 1, d.Shown(), "as it was")
	require.NoError(t, d.SetFilter(" "))
	require.Equal(t, 6, d.Shown())
	again := NewDeck(d.Entries, s.kept, s.at, s)
	require.Equal(t, d.Now().Handle, again.Now().Handle)
}

// What is taken along: the program, the product, the maker; what is protected or fixed stays, and is said.
func TestTakingAlong(t *testing.T) {
	d, s := deck()
	var words []string
	for range 4 {
		d.Widen()
		words = append(words, d.AlongWords())
	}
	require.Equal(t, []string{"the 2 entries of this program", "the 4 entries of Fogbell",
		"the 5 entries by Fogbell Works", "this entry"}, words)
	require.True(t, d.TakeProduct())
	said, err := d.Decide(Off)
	require.NoError(t, err)
	require.Equal(t, "Sync at noon: off, and 2 more; 1 protected or fixed left out", said)
	require.Equal(t, map[string]Decision{"aaaaaaa": Off, "bbbbbbb": Off, "ccccccc": Off}, s.kept)
	require.Equal(t, Alone, d.Along)
	off, on, left, open := d.Count()
	require.Equal(t, []int{3, 0, 0, 3}, []int{off, on, left, open})
	// By itself what is protected is asked for twice, and what is fixed not at all.
	require.Equal(t, "ddddddd", d.Now().Handle)
	_, err = d.Decide(Off)
	require.ErrorContains(t, err, "a device may not work")
	said, err = d.Decide(OffProtected)
	require.NoError(t, err)
	require.Equal(t, "Driver: off, protected", said)
	said, err = d.Decide(Off)
	require.NoError(t, err)
	require.Equal(t, "Other cannot be turned off here", said)
	require.NotContains(t, s.kept, "eeeeeee")
	require.NoError(t, d.Jump("gone"))
	said, err = d.Decide(OffProtected)
	require.NoError(t, err)
	require.Equal(t, []any{"Gone: as it is already", Leave}, []any{said, s.kept["fffffff"]})
	require.False(t, d.TakeProduct())
	require.NoError(t, d.Jump("gone"))
	require.NoError(t, d.Forget())
	require.Equal(t, Undecided, d.Decisions["fffffff"])
}

// What cannot be kept is not decided.
func TestAFullRecord(t *testing.T) {
	d, s := deck()
	s.full = true
	_, err := d.Decide(Off)
	require.ErrorContains(t, err, "full")
	require.Equal(t, []any{Undecided, "bbbbbbb"}, []any{d.Decisions["bbbbbbb"], d.Now().Handle})
	apply, err := Plain(d, strings.NewReader("disable\napply\n"), &strings.Builder{}, 80, true)
	require.ErrorContains(t, err, "full")
	require.False(t, apply)
}

// Line by line: what is behind the last answer is left for whoever asks next.
func TestPlain(t *testing.T) {
	d, s := deck()
	in := strings.NewReader("note spare: nobody\r\nd\n\nn\nap\ny\n")
	var out strings.Builder
	apply, err := Plain(d, in, &out, 80, true)
	require.NoError(t, err)
	require.True(t, apply)
	require.Equal(t, 2, in.Len(), "the answer to the question")
	require.Equal(t, []string{"spare: nobody"}, s.said)
	require.Equal(t, map[string]Decision{"bbbbbbb": Off}, s.kept)
	apply, err = Plain(d, strings.NewReader("l"), &out, 80, false)
	require.NoError(t, err)
	require.False(t, apply)
	require.Equal(t, Leave, s.kept["ccccccc"], "a last line without an end counts")
	_, err = Plain(d, strings.NewReader(strings.Repeat("x", 1<<20)+"\nq\n"), &out, 80, false)
	require.NoError(t, err)
}
