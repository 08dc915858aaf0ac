package windows

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
)

func TestCuttingItems(t *testing.T) {
	for _, c := range []struct {
		text, separators string
		items            []string
		cut              []string // what is left when each is cut
	}{
		{`explorer.exe, C:\x y.exe /a`, ",", []string{"explorer.exe", `C:\x y.exe /a`}, []string{` C:\x y.exe /a`, "explorer.exe"}},
		{`C:\Windows\system32\userinit.exe,`, ",", []string{`C:\Windows\system32\userinit.exe`}, []string{"none"}},
		{`a.exe,b.exe,`, ",", []string{"a.exe", "b.exe"}, []string{"b.exe,", "a.exe,"}},
		{`"a, b.dll" c.dll`, ", ", []string{`"a, b.dll"`, "c.dll"}, []string{"c.dll", `"a, b.dll"`}},
		{`one`, ",", []string{"one"}, []string{"none"}},
		{` ,, one ,two`, ",", []string{"one", "two"}, []string{" ,,two", " ,, one"}},
	} {
		require.Equal(t, c.items, splitList(regf.NewText("", c.text), c.separators), c.text)
		for k, want := range c.cut {
			require.Equal(t, want, cutItem(c.text, c.separators, k, "none"), "%s without %d", c.text, k)
		}
	}
}

func TestNames(t *testing.T) {
	for word, want := range map[string]string{
		`C:\ProgramData\tuner\tuner.exe /shell`: "tuner.exe", `"C:\a b\c d.exe" -x`: "c d.exe", `C:\a b\c d`: "c d",
		`autocheck autochk *`: "autocheck", `tide \??\C:\x`: "tide", "scecli": "scecli", `C:\`: `C:\`, "": "",
	} {
		require.Equal(t, want, shortName(word), word)
	}
	require.Equal(t, "1 d 2 h", interval("P1DT2H"))
	require.Equal(t, "forever", interval("forever"))
}

func TestBindings(t *testing.T) {
	store := []byte("junk\x00CommandLineEventConsumer.Name=\"Tide\"\x00\x00\x01__EventFilter.Name=\"At seven\"\x00rest CommandLineEventConsumer.Name=\"cut short")
	require.Equal(t, []binding{{`CommandLineEventConsumer.Name="Tide"`, "At seven"}}, findBindings(store))
	require.Equal(t, "Tide", findBindings(store)[0].name())
}

func FuzzLists(f *testing.F) {
	f.Add(`explorer.exe, "a b".exe`, ",", []byte("EventConsumer.Name=\"x\"__EventFilter.Name=\"y\""))
	f.Fuzz(func(t *testing.T, text, separators string, store []byte) {
		findBindings(store)
		shortName(text)
		for _, r := range separators {
			if r >= 0x80 || r == '"' || r == 0 {
				return
			}
		}
		v := regf.NewText("", text)
		items := splitList(v, separators)
		if separators == "" {
			return
		}
		for k := range items {
			left := splitList(regf.NewText("", cutItem(v.Text(), separators, k, "")), separators)
			require.Len(t, left, len(items)-1, "%q without %d", text, k)
		}
	})
}
