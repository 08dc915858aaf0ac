package view_test

import (
	"bytes"
	"encoding/csv"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/internal/view"
)

func samples() []*autostart.Entry {
	yes, no := true, false
	return []*autostart.Entry{
		{Handle: "k7f3qa2", Location: "linux.xdg-autostart", Stage: autostart.SignIn, Scope: autostart.ForUser,
			User: "ines", Name: "Fogbell Sync",
			State: autostart.Enabled, Command: "/opt/fogbell/sync --tray " +
				"--a-very-long-option=that-has-no-space-in-it-and-goes-on-and-on-and-on-until-it-is-too-long-for-any-terminal",
			Target: autostart.Target{Path: "/opt/fogbell/sync", Exists: &yes, Size: 123, Modified: time.Date(2026, 3,
				14, 9, 26, 53, 5, time.UTC)},
			Source: autostart.Source{Path: "/home/ines/.config/autostart/fogbell.desktop", Line: 4},
			Switch: autostart.Hide, Problems: []string{}},
		{Handle: "m2abcde", Location: "linux.cron.system", Stage: autostart.Schedule, Scope: autostart.ForSystem,
			Name:  "夜のバックアップ \u202e\x1b[31m\"quoted\" <b>&",
			State: autostart.Disabled, Mode: "*/10 * * * *", Command: "=cmd|' /C calc'!A0",
			Target: autostart.Target{Path: "/opt/gone", Exists: &no},
			Known:  &autostart.Known{Maker: autostart.Maker{Name: "Kelpline", Basis: "package"}}, OSPart: true,
			Guarded: "needed to sign in", Switch: autostart.Comment,
			Problems: []string{autostart.TargetMissing, autostart.Insecure}},
		{Handle: "p2abcde", Stage: autostart.Event, Name: "", Target: autostart.Target{}, Switch: autostart.Report,
			Problems: []string{autostart.Unparsable}},
	}
}

// An entry is one line, or two on a narrow terminal; no line is too long, and none is cut without a sign.
func TestLinesFitAndCutNothingSilently(t *testing.T) {
	for width := 40; width <= 400; width += 1 + width/100*7 {
		for _, color := range []bool{false, true} {
			var out bytes.Buffer
			signs := view.Printer{Out: &out, Width: width, Color: color}.Entries(samples(), view.Layout{Group: "none"})
			text := out.String()
			if color {
				text = regexp.MustCompile("\x1b\\[[0-9]+m").ReplaceAllString(text, "")
			}
			require.NotContains(t, text, "\x1b")
			require.NotContains(t, text, "\u202e")
			lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
			if width >= 100 {
				require.Len(t, lines, 3, "%d columns", width)
			} else {
				require.LessOrEqual(t, len(lines), 6, "%d columns", width)
			}
			for _, line := range lines {
				require.Less(t, ansi.StringWidth(line), width, line)
				require.Equal(t, strings.TrimRight(line, " "), line)
			}
			require.Equal(t, strings.Contains(text, "…"), signs.Cut)
			require.Equal(t, view.Signs{Cut: signs.Cut, Fixed: true, Guarded: true}, signs)
			for _, e := range samples() {
				require.Contains(t, text, e.Handle+"  "+map[bool]string{true: "on   ",
					false: "off  "}[e.State == autostart.Enabled])
			}
			for _, whole := range []string{"Fogbell Sync (ines)", `夜のバックアップ \u202e\x1b[31m"quoted" <b>&`,
				"*/10 * * * *",
				"! program missing", "! any user can change what it runs", "protected", "Kelpline",
				"! cannot be parsed", "fixed"} {
				if !strings.Contains(text, whole) {
					require.True(t, signs.Cut, "%q at %d columns", whole, width)
					require.Less(t, width, 400, whole)
				}
			}
		}
	}
	// Without a terminal, all of it is there.
	var out bytes.Buffer
	view.Printer{Out: &out}.Entries(samples(), view.Layout{})
	for _, whole := range []string{"k7f3qa2", "enabled", "disabled", "*/10 * * * *", "protected: needed to sign in",
		"program missing: /opt/gone", "any user can change what it runs", "cannot be turned off here", "Fogbell Sync",
		samples()[0].Command} {
		require.Contains(t, out.String(), whole)
	}
}

// The columns of all lines begin at the same place.
func TestColumnsStandBelowEachOther(t *testing.T) {
	var out bytes.Buffer
	entries := samples()
	for _, e := range entries {
		e.Known = &autostart.Known{Maker: autostart.Maker{Name: "Kelpline", Basis: "bundle"}}
	}
	signs := view.Printer{Out: &out, Width: 110}.Entries(entries, view.Layout{Group: "none"})
	at := map[int]bool{}
	for line := range strings.Lines(out.String()) {
		before, _, ok := strings.Cut(line, "Kelpline ?")
		require.True(t, ok, line)
		at[ansi.StringWidth(before)] = true
	}
	require.Len(t, at, 1, out.String())
	require.True(t, signs.Unproven)
	out.Reset()
	view.Printer{Out: &out, Width: 110}.Legend(signs)
	require.Contains(t, out.String(), "? nothing proves the maker")
}

// A quoted program, and a path that is the whole command, are not broken at their spaces.
func TestCommandsAreBrokenBetweenWordsOnly(t *testing.T) {
	for command, whole := range map[string]string{
		`"C:\Program Files\Lampwick\Label Helper.exe" /min /quiet /log C:\x`: `"C:\Program Files\Lampwick\Label ` +
			`Helper.exe"`,
		"/Library/Application Support/Kelpline/updater --telemetry":  "/Library/Application Support/Kelpline/updater",
		"/Applications/Fogbell Sync.app/Contents/Fogbell Helper.app": "/Applications/Fogbell Sync.app/Contents/Fogbell Helper.app",
	} {
		e := samples()[0]
		e.Command, e.Target.Path = command, strings.Trim(whole, `"`)
		var out bytes.Buffer
		view.Printer{Out: &out, Width: 40}.Entries([]*autostart.Entry{e}, view.Layout{Commands: true})
		require.Contains(t, out.String(), whole)
	}
}

func TestSafe(t *testing.T) {
	for raw, want := range map[string]string{
		"plain": "plain", "a\nb\tc\rd": `a\nb\tc\rd`, "\x1b]0;x\x07": `\x1b]0;x\x07`,
		"\u202eab\u200f": `\u202eab\u200f`, "\u2028": `\u2028`,
		"grün 夜": "grün 夜", "\u0085\u00ad": `\x85\xad`, "\U000e0001": `\ue0001`, "\x7f": `\x7f`, "\ufeffx": `\ufeffx`,
	} {
		require.Equal(t, want, view.Safe(raw))
	}
}

func TestSheets(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, view.Printer{Out: &out}.EntriesCSV(samples(), nil))
	marked, ok := strings.CutPrefix(out.String(), "\ufeff")
	require.True(t, ok, "a sheet knows by the mark that it is UTF-8")
	rows, err := csv.NewReader(strings.NewReader(marked)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	require.Equal(t, view.FieldNames(), rows[0])
	column := func(name string) int { return slices.Index(rows[0], name) }
	require.Equal(t, `'=cmd|' /C calc'!A0`, rows[2][column("command")]) // no formula
	require.Equal(t, "unknown", rows[3][column("target_exists")])
}

func TestCounts(t *testing.T) {
	require.Equal(t, "3 entries: 1 enabled, 2 disabled, 1 protected, 1 cannot be turned off here, 1 program "+
		"missing, 7 parts of the system hidden (--all)", view.Counts(samples(), 7))
	require.Equal(t, "0 entries: 0 enabled, 0 disabled", view.Counts(nil, 0))
}

func FuzzSafe(f *testing.F) {
	f.Add("a\x1bb\u202e夜", 12)
	f.Fuzz(func(t *testing.T, s string, width int) {
		var out bytes.Buffer
		width = 20 + max(0, width%200)
		p := view.Printer{Out: &out, Width: width}
		p.Table([]view.Column{{Title: "a"}, {Title: "b", Share: 1}},
			slices.Values([][]view.Cell{{view.T("x"), view.T(s)}}))
		p.Line("%s", s)
		for _, r := range out.String() {
			require.False(t, r < ' ' && r != '\n' || r == 0x7f || r >= 0x202a && r <= 0x202e, "%q", r)
		}
	})
}

// Each word for a problem has a sentence of its own, but the one that an entry's mode says.
func TestProblemsAreInWords(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, problem := range autostart.AllProblems {
		words := view.Problems(&autostart.Entry{Problems: []string{problem}})
		if problem == autostart.Ignored {
			require.Empty(t, words)
			continue
		}
		require.Len(t, words, 1)
		require.NotEqual(t, problem, words[0], "%s stands in the list as it is", problem)
		require.False(t, seen[words[0]], words[0])
		seen[words[0]] = true
	}
}

// What lists show can be typed: each word for a problem, a stage, a state, and whatever a list is sorted by.
func TestShownWordsAreTaken(t *testing.T) {
	t.Parallel()
	chooses := func(word string, e autostart.Entry) {
		s, err := autostart.ParseSelector([]string{word})
		require.NoError(t, err, word)
		require.True(t, s.Matches(e), word)
		require.False(t, s.Matches(autostart.Entry{State: "neither", Problems: []string{"other"}}), word)
	}
	for _, problem := range autostart.AllProblems {
		e := autostart.Entry{Problems: []string{problem}}
		for _, words := range view.Problems(&e) {
			if !strings.Contains(words, ",") { // which stands between values
				chooses("problem="+words, e)
			}
		}
		var out bytes.Buffer
		view.Printer{Out: &out, Width: 120}.Entries([]*autostart.Entry{&e}, view.Layout{Group: "none"})
		if _, short, ok := strings.Cut(out.String(), "! "); ok {
			chooses("problem="+strings.TrimSpace(short), e)
		}
	}
	for _, stage := range autostart.Stages {
		if words := view.StageWords(stage); !strings.ContainsAny(words, ",:") {
			chooses("stage="+words, autostart.Entry{Stage: stage})
		}
	}
	chooses("stage=startup", autostart.Entry{Stage: autostart.Boot})
	chooses("stage=Startup", autostart.Entry{Stage: autostart.System})
	chooses("stage=login", autostart.Entry{Stage: autostart.SignIn})
	chooses("state=on", autostart.Entry{State: autostart.Enabled})
	chooses("Status=off", autostart.Entry{State: autostart.Disabled})
	chooses("problem=missing", autostart.Entry{Problems: []string{autostart.TargetMissing}})
	chooses("mode=daily", autostart.Entry{When: "daily"})
	chooses("when=masked", autostart.Entry{Mode: "masked"})
	chooses("place=linux.cron*", autostart.Entry{Location: "linux.cron.user"})
	for _, name := range view.ColumnNames() {
		_, ok := view.FieldNamed(name)
		require.True(t, ok, name)
	}
	_, err := autostart.ParseSelector([]string{"problem=misssing"})
	require.Error(t, err)
}
