//go:build unix

package cli_test

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// Notes: of the program for all of its entries, of one entry, changed in part, removed; before the catalogue's word.
func TestNotes(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Env = []string{"LOCKBACK_BY=Tess"}
	before := testkit.Tree(t, p.Root)
	p.OK(t, "note", "Fogbell Sync", "--verdict", "spare", "-m", "keeps the press photos")
	p.OK(t, "note", "Fogbell Sync", "--role", "sync") // the rest of the note stays
	of := func(name string) testkit.Entry {
		l, _ := p.List(t, "name="+name)
		require.NotEmpty(t, l.Entries)
		return l.Entries[0]
	}
	for _, name := range []string{"Fogbell Sync", "sync"} { // the crontab's line starts the same program
		e := of(name)
		require.Len(t, e.Notes, 1, name)
		require.Equal(t, []string{"keeps the press photos", "spare", "sync", "Tess"}, []string{e.Notes[0].Text,
			e.Notes[0].Verdict, e.Notes[0].Role, e.Notes[0].By})
		require.Equal(t, []string{"spare", "sync"}, []string{e.Verdict, e.Role})
	}
	require.Empty(t, of("Fogbell Notifier").Notes, "another program of the package")
	p.OK(t, "note", "Fogbell Sync", "--machine", "--verdict", "essential", "-m", "needed by the till, ask Ines")
	e := of("Fogbell Sync")
	require.Len(t, e.Notes, 2)
	require.Equal(t, "essential", e.Verdict, "what is said of this machine is nearer")
	require.Equal(t, "spare", of("sync").Verdict)
	for _, command := range [][]string{{"list"}, {"show", "Fogbell Sync"}, {"show", "Fogbell Sync", "--elsewhere"}} {
		out := p.OK(t, command...)
		require.Contains(t, out, "needed by the till, ask Ines")
		require.Contains(t, out, "by Tess, 20")
		require.Contains(t, out, "on this machine")
	}
	require.Contains(t, p.OK(t, "list", "press photos"), "Fogbell Sync", "a word of a note is found")
	require.Contains(t, p.OK(t, "list", "verdict=spare"), "1 entry")
	// What is written is shown again, with what stood before.
	require.Contains(t, p.OK(t, "note", "Fogbell Sync", "-m", "keeps all photos"),
		"before: spare, sync: keeps the press photos")
	require.Contains(t, p.OK(t, "note"), "keeps all photos")
	require.Contains(t, p.OK(t, "note", "sync"), "found again by its package fogbell and its file sync")
	require.Contains(t, p.OK(t, "note", "Fogbell Sync", "-m", "other", "--dry-run"), "nothing was written")
	require.Contains(t, p.OK(t, "note"), "keeps all photos")
	// A part of the system that a note calls spare is hidden as before, and a protected entry is protected.
	p.OK(t, "note", "brinecast_cam", "--verdict", "hostile", "--machine", "-m", "x")
	require.Contains(t, p.Run(t, "disable", "verdict=hostile", "--yes").Err, "protected")
	p.OK(t, "note", "Fogbell Sync", "--remove")
	p.OK(t, "note", "Fogbell Sync", "--machine", "--remove")
	require.Empty(t, of("Fogbell Sync").Notes)
	testkit.Same(t, before, testkit.Tree(t, p.Root))
	// What a person may get wrong.
	for _, row := range []struct {
		words string
		args  []string
	}{
		{"did you mean spare?", []string{"Fogbell Sync", "--verdict", "spar"}}, {`unknown role "tray"`,
			[]string{"Fogbell Sync", "--role", "tray"}},
		{"line break", []string{"Fogbell Sync", "-m", "a\nb"}}, {"control character", []string{"Fogbell Sync", "-m",
			"a\x1b[31mb"}}, {"more than 500", []string{"Fogbell Sync", "-m", strings.Repeat("a", 501)}},
		{"Fogbell Sync has no note to remove", []string{"Fogbell Sync", "--remove"}}, {"goes with no verdict",
			[]string{"Fogbell Sync", "--remove", "-m", "x"}},
		{"name the entries", []string{"-m", "x"}}, {"only its place", []string{".bashrc", "-m", "x"}},
		{"no entry has the handle or name", []string{"nothing-of-that-name", "-m", "x"}},
	} {
		p.Fails(t, 2, row.words, append([]string{"note"}, row.args...)...)
	}
	// A record that is somebody's claim has no notes.
	p.OK(t, "note", "Fogbell Sync", "-m", "said on the disk")
	carried := filepath.Join(p.Root, "var/lib/lockback")
	require.NoError(t, os.MkdirAll(carried, 0o700))
	record, err := os.ReadFile(p.Store)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(carried, "record.db"), record, 0o600))
	claim := p
	claim.Store = "disk"
	require.NotContains(t, claim.OK(t, "list"), "said on the disk")
	require.Contains(t, p.OK(t, "list"), "said on the disk")
}

// What is carried onto a disk is the machine's: no notes, no catalogue, and nothing of where programs were seen.
func TestKnowledgeIsNotCarried(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "note", "Fogbell Sync", "-m", "said in the shop")
	p.OK(t, "note", "Fogbell Sync", "--machine", "-m", "said of this machine")
	p.OK(t, "snapshot")
	mine := openSQL(t, p.Store)
	defer mine.Close()
	seen := func(what string) (n int) {
		require.NoError(t, mine.QueryRow("SELECT count(*) FROM seen WHERE program LIKE ?", what).Scan(&n))
		return n
	}
	require.Positive(t, seen("%fogbell%"))
	require.Zero(t, seen("%\x1fcron\x1f%"), "parts of the operating system are on every machine")
	file := filepath.Join(t.TempDir(), "shop.yaml")
	p.OK(t, "catalogue", "export", file, "--yes")
	p.OK(t, "catalogue", "import", file, "--yes")
	p.OK(t, "record", "carry", "--yes")
	db := openSQL(t, filepath.Join(p.Root, "var/lib/lockback/record.db"))
	defer db.Close()
	for _, table := range []string{"note", "catalogue", "seen", "review", "decision"} {
		n := 0
		require.NoError(t, db.QueryRow("SELECT count(*) FROM "+table).Scan(&n))
		require.Zero(t, n, table)
	}
}

// What is turned off by taking it away is off, and not gone, for whoever asks on the next machine.
func TestTakenIsSeenAsOff(t *testing.T) {
	t.Parallel()
	p := settled(t, museum(t, "ticket-desk-pc"))
	db := openSQL(t, p.Store)
	defer db.Close()
	seen := func() (on, off int) {
		require.NoError(t,
			db.QueryRow("SELECT sum(enabled), sum(disabled) FROM seen WHERE program LIKE '%setup.dll%'").Scan(&on,
				&off))
		return on, off
	}
	p.OK(t, "disable", "!Kelpline Setup", "--yes")
	for _, after := range [][]string{{"list"}, {"snapshot"}} {
		p.OK(t, after...)
		on, off := seen()
		require.Equal(t, []int{0, 1}, []int{on, off}, "after %v", after)
	}
	p.OK(t, "undo", "--yes")
	on, off := seen()
	require.Equal(t, []int{1, 0}, []int{on, off})
}

// Notes go out as a file and come back as a catalogue, in an order; what contradicts is told, and nothing of it hides
// an entry or takes protection away.
func TestOwnCatalogues(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.Env = []string{"LOCKBACK_BY=Tess"}
	dir := t.TempDir()
	shop := filepath.Join(dir, "shop.yaml")
	p.Fails(t, 1, "no record yet", "catalogue", "export", shop)
	p.OK(t, "snapshot")
	p.Fails(t, 2, "no note to export", "catalogue", "export", shop, "--yes")
	p.OK(t, "note", "Fogbell*", "--verdict", "spare", "-m", "comes with the scanner: nobody scans")
	p.OK(t, "note", "lampwick-lid", "-m", "dims the lamp, says Bram")
	p.OK(t, "note", "kelpline-updater.timer", "--machine", "-m", "later")
	p.Fails(t, 2, "add --yes", "catalogue", "export", shop)
	r := p.Run(t, "catalogue", "export", shop, "--yes")
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Err, "lampwick-lid: a user's name is in it")
	require.Contains(t, r.Err, "kelpline-updater.timer: it is about one machine's entry")
	text, err := os.ReadFile(shop)
	require.NoError(t, err)
	require.NotContains(t, strings.ToLower(string(text)), "bram")
	require.NotContains(t, string(text), "/opt")
	require.Equal(t, string(text), p.OK(t, "catalogue", "export", "-"))
	p.Fails(t, 1, "exists already", "catalogue", "export", shop, "--yes")
	require.Contains(t, p.OK(t, "catalogue", "check", shop), "sound, 5 entries")

	// Another shop's record takes it in; its own notes and its order count.
	other := workshop(t)
	require.Contains(t, other.OK(t, "catalogue", "list"), "1  notes: 0 entries")
	other.Fails(t, 2, "add --yes", "catalogue", "import", shop)
	other.OK(t, "catalogue", "import", shop, "--dry-run")
	out := other.OK(t, "catalogue", "import", shop, "--yes")
	require.Contains(t, out, "adds 5: ")
	l, by := other.List(t, "Fogbell Sync")
	require.Len(t, l.Entries, 1)
	e := by["Fogbell Sync/ines"]
	require.Equal(t, "spare", e.Verdict)
	require.Equal(t, "comes with the scanner: nobody scans", e.Notes[0].Text)
	require.Equal(t, "Tess, catalogue shop", e.Notes[0].By)
	second := filepath.Join(dir, "second.yaml")
	write := func(text string) {
		require.NoError(t, os.WriteFile(second, []byte("format: 1\nentries:\n"+text), 0o600))
	}
	write(`  - {id: sync, known-by: [{package: fogbell, file: sync}], verdict: essential, does: "Brings the tickets to the office."}
  - {id: printer, known-by: [{package: cups}], verdict: spare, does: "Prints.", without: "Nothing prints."}
  - {id: mine, known-by: [{names: "cron"}], part: true, verdict: spare, does: "Runs jobs.", without: "No jobs."}
`)
	out = other.OK(t, "catalogue", "import", second, "--yes")
	for _, words := range []string{"adds 2: sync, printer", "passes over, as parts of the operating system, 1: mine",
		"contradicts: sync is essential, and fogbell-sync of the catalogue shop is spare",
		"of lockback's own catalogue is useful"} {
		require.Contains(t, out, words)
	}
	require.Contains(t, other.OK(t, "list", "name=Fogbell Sync"), "spare", "the first that knows it counts")
	other.OK(t, "catalogue", "import", second, "--first", "--yes")
	require.Regexp(t, `(?s)1  notes.*2  second: 2 entries.*3  shop: 5 entries.*4  lockback`, other.OK(t, "catalogue",
		"list"))
	_, by = other.List(t, "name=Fogbell Sync")
	require.Equal(t, "essential", by["Fogbell Sync/ines"].Verdict)
	require.Contains(t, other.OK(t, "show", "Fogbell Sync"), "Brings the tickets to the office.")
	require.Contains(t, other.OK(t, "catalogue", "show", "tickets"), "of the catalogue second")
	other.OK(t, "note", "Fogbell Sync", "--verdict", "useful")
	_, by = other.List(t, "name=Fogbell Sync")
	require.Equal(t, "useful", by["Fogbell Sync/ines"].Verdict, "a note counts before all")
	write(`  - {id: sync, known-by: [{package: fogbell, file: sync}], verdict: spare, does: "Other.", without: "Nothing."}` + "\n")
	out = other.OK(t, "catalogue", "import", second, "--yes")
	for _, words := range []string{"changes 1: sync", "removes 1: printer", "your note on Fogbell Sync says useful"} {
		require.Contains(t, out, words)
	}
	other.OK(t, "catalogue", "remove", "second", "--yes")
	other.Fails(t, 2, `no catalogue "second"`, "catalogue", "remove", "second", "--yes")
	// It hides nothing, whatever it says, and protects only what is proved.
	write(`  - {id: chart, known-by: [{file: tidechart, label: Tide Chart}], protect: start, does: "Draws the tides."}
  - {id: tray, known-by: [{package: lampwick-labels, file: tray}], protect: session, does: "Labels."}
`)
	other.OK(t, "catalogue", "import", second, "--first", "--yes")
	require.Regexp(t, `(?s)2  second: 2 entries.*3  shop: 5 entries`, other.OK(t, "catalogue", "list"))
	l, _ = other.List(t)
	require.Len(t, l.Entries, 84)
	guarded, charts := 0, 0
	for _, e := range l.Entries {
		if e.Name == "Lampwick Label Tray" && e.Guarded == "the desktop session needs it" {
			guarded++
		}
		if e.Name == "Tide Chart" {
			require.Empty(t, e.Guarded, "by its names only")
			charts++
		}
	}
	require.Equal(t, []int{1, 1}, []int{guarded, charts})
	require.Contains(t, other.OK(t, "show", "Tide Chart"), "Draws the tides.")
	// Files that are wrong: a line each, and nothing is taken in.
	before := other.OK(t, "catalogue", "list")
	for name, row := range map[string]struct{ text, words string }{
		"twice":  {"  - {id: a, id: b, known-by: [{package: p}], does: x}\n", "has \"id\" twice"},
		"anchor": {"  - &a {id: a, known-by: [{package: p}], does: x}\n  - *a\n", "YAML aliases are not supported"},
		"contradictory": {"  - {id: a, known-by: [{package: p}], does: x, without: w, verdict: spare}\n  - {id: b, known-by: " +
			"[{package: p}], does: x, verdict: useful}\n", "known by the same"},
		"hostile": {"  - {id: \"a\\e[31m\", known-by: [{package: p}], does: x, verdict: bad}\n", "the verdict of"},
		"giant":   {"# " + strings.Repeat("x", 9<<20) + "\n", "larger than 8 MB"},
		"empty":   {"", "is not a list"},
	} {
		write(row.text)
		r := other.Run(t, "catalogue", "import", second, "--yes")
		require.NotZero(t, r.Code, name)
		require.Contains(t, r.Err, row.words, name)
		require.NotContains(t, r.Err, "\x1b", name)
	}
	other.Fails(t, 2, "cannot be called", "catalogue", "import", shop, "--as", "My Shop", "--yes")
	other.Fails(t, 2, "cannot be called", "catalogue", "import", shop, "--as", "lockback", "--yes")
	other.Fails(t, 1, "no such file", "catalogue", "import", filepath.Join(dir, "none.yaml"))
	require.Equal(t, before, other.OK(t, "catalogue", "list"))
}

// lookup: the hash is the file's, goes into the address only when it is asked for, and no browser is opened as root.
func TestLookup(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	require.Contains(t, p.OK(t, "show", "--elsewhere", "Fogbell Sync"), "no address is set")
	p.Env = []string{"LOCKBACK_SEARCH=https://search.example/?q={}"}
	program, err := os.ReadFile(filepath.Join(p.Root, "opt/fogbell/sync"))
	require.NoError(t, err)
	sum := fmt.Sprintf("%x", sha256.Sum256(program))
	out := p.OK(t, "show", "--elsewhere", "Fogbell Sync")
	old := p.Run(t, "lookup", "Fogbell Sync")
	require.Equal(t, out, old.Out)
	require.Contains(t, old.Err, "show --elsewhere now")
	p.Fails(t, 2, "go with --elsewhere", "show", "Fogbell Sync", "--hash")
	require.Contains(t, out, sum)
	require.Contains(t, out, "https://search.example/?q=Fogbell+Works+fogbell+sync (nothing was sent; --open opens it)")
	require.Contains(t, p.OK(t, "show", "--elsewhere", "Fogbell Sync", "--hash"), "?q=Fogbell+Works+fogbell+sync+"+sum)
	require.Contains(t, p.OK(t, "lookup", "Tide Chart"), "none: the program is not there")
	require.Equal(t, 1, strings.Count(p.OK(t, "lookup", "sync", "Fogbell Sync"), "found again by"),
		"one program, one page")
	p.Fails(t, 2, "these are 5 programs", "lookup", "Fogbell*", "--open")
	if os.Getuid() == 0 {
		p.Fails(t, 2, "no browser is opened as root", "lookup", "Fogbell Sync", "--open")
	}
	// As somebody else it is handed to the desktop's own program, as one word.
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "xdg-open"), []byte("#!/bin/sh\nprintf '%s|' \"$@\" > "+bin+
		"/opened\n"), 0o755))
	for _, dir := range []string{bin, filepath.Dir(bin), p.Root, filepath.Dir(p.Root),
		filepath.Dir(filepath.Dir(p.Root))} {
		require.NoError(t, os.Chmod(dir, 0o777))
	}
	if os.Getuid() == 0 {
		p.Prefix = []string{"setpriv", "--reuid=65534", "--clear-groups"}
	}
	p.Env, p.Store = append(p.Env, "PATH="+bin+":"+os.Getenv("PATH")), ""
	r := p.Run(t, "lookup", "name=Fogbell Notifier", "--open")
	require.Zero(t, r.Code, r.Err)
	opened, err := os.ReadFile(filepath.Join(bin, "opened"))
	require.NoError(t, err)
	require.Equal(t, "https://search.example/?q=Fogbell+Works+fogbell+Fogbell+Notifier|", string(opened))
}
