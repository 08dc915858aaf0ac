package view_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/internal/view"
)

// Entries of one name show what tells them apart, and no more where a column does that already.
func TestEntriesOfOneNameAreToldApart(t *testing.T) {
	entry := func(handle, user, place, source string, line int) *autostart.Entry {
		return &autostart.Entry{Handle: handle, Name: "Tide", User: user, Place: place, Stage: autostart.SignIn,
			State: autostart.Enabled, Source: autostart.Source{Path: source, Line: line}}
	}
	for name, c := range map[string]struct {
		width   int
		entries []*autostart.Entry
		want    []string
	}{
		"by person": {110, []*autostart.Entry{entry("a222222", "ines", "Run keys of ines", "x", 0),
			entry("b222222", "bram", "Run keys of bram", "y", 0)}, []string{"Tide (ines)", "Tide (bram)"}},
		"a column has the place": {142, []*autostart.Entry{entry("a222222", "ines", "Run keys of ines", "x", 0),
			entry("b222222", "bram", "Run keys of bram", "y", 0)}, []string{"Tide ", "Tide "}},
		"by line": {142, []*autostart.Entry{entry("a222222", "", "Hooks", "/etc/tab", 5),
			entry("b222222", "", "Hooks", "/etc/tab", 6)}, []string{"Tide (line 5)", "Tide (line 6)"}},
		"by the view of the registry": {142, []*autostart.Entry{entry("a222222", "", "Run keys", `HKLM\X\Run`, 0),
			entry("b222222", "", "Run keys", `HKLM\WOW6432Node\X\Run`, 0)}, []string{"Tide (64-bit)", "Tide (32-bit)"}},
	} {
		var out bytes.Buffer
		view.Printer{Out: &out, Width: c.width}.Entries(c.entries, view.Layout{Group: "none"})
		lines := strings.Split(out.String(), "\n")
		for k, want := range c.want {
			require.Contains(t, lines[k]+" ", "  on   "+want, name)
		}
		if name == "a column has the place" {
			require.NotContains(t, out.String(), "Tide (")
		}
	}
}

// However little room there is for a maker, the sign stays that says that nothing proves it.
func TestUnprovenMakersKeepTheirSign(t *testing.T) {
	e := &autostart.Entry{Handle: "a222222", Name: strings.Repeat("a long name ", 4), Stage: autostart.SignIn,
		When: strings.Repeat("at some time ", 5), State: autostart.Enabled, Command: "x",
		Problems: []string{autostart.Obscured, autostart.OddPlace},
		Known: &autostart.Known{Maker: autostart.Maker{Name: "Saltmarsh Ledgers and Sons of the Island",
			Basis: autostart.ByReceipt}}}
	for width := 100; width < 220; width += 6 {
		var out bytes.Buffer
		view.Printer{Out: &out, Width: width}.Entries([]*autostart.Entry{e}, view.Layout{Group: "none"})
		require.Regexp(t, `Saltmarsh[^?]* \?`, out.String(), width)
	}
}
