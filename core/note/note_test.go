package note_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/note"
)

// entry is an entry with a program.
func entry(location, name, target, maker, basis, product string) *autostart.Entry {
	return &autostart.Entry{Location: location, Name: name, SystemName: name, Target: autostart.Target{Path: target},
		Known: &autostart.Known{Maker: autostart.Maker{Name: maker, Basis: basis},
			Product: autostart.Product{Name: product}}}
}

// What a program is recognised by: the strongest there is, never a place, and nothing of what only runs it.
func TestProgramOf(t *testing.T) {
	for _, row := range []struct {
		entry  *autostart.Entry
		want   string // empty: nothing tells it
		proven bool
	}{
		{entry("windows.run", "Fogbell", `C:\Program Files\Fogbell\Sync.exe`, "Fogbell Works", autostart.BySignature,
			"Fogbell"), "its signer Fogbell Works and its file sync.exe", true},
		{entry("linux.xdg-autostart", "Fogbell", "/opt/fogbell/sync", "Fogbell Works", autostart.ByPackage, "fogbell"),
			"its package fogbell and its file sync", true},
		{entry("windows.run", "Saltmarsh", `D:\s\tray.exe`, "Saltmarsh", autostart.ByUnanchored, ""),
			"the maker that it names, Saltmarsh and its file tray.exe", false},
		{entry("windows.run", "Saltmarsh", `D:\s\tray.exe`, "Saltmarsh", autostart.ByVersionResource, ""),
			"the maker that it names, Saltmarsh and its file tray.exe", false},
		{entry("linux.xdg-autostart", "Tide Board", "/srv/x/board", "", "", ""),
			"its file board and its name tide board", false},
		{entry("windows.tasks", `Kelpline\Update`, `C:\k\updater.exe`, "", "", ""),
			"its file updater.exe and its name update", false},
		{entry("macos.launch-agents", "org.kelpline.helper", "", "", "", ""), "its name org.kelpline.helper", false},
		{entry("linux.browser", "Clipper", "", "", "", ""), "", false},
		{&autostart.Entry{Location: "linux.browser", Name: "Clipper", SystemName: "clip@fogbell.example"},
			"its name clip@fogbell.example", false},
		{&autostart.Entry{Location: "windows.browser", Name: "Clipper", SystemName: strings.Repeat("abcdefgh", 4)},
			"its name " + strings.Repeat("abcdefgh", 4), false},
		// What runs it is no sign of it, and a name that a place gives is none either.
		{entry("linux.cron.user", "backup", "/usr/bin/python3.11", "Debian", autostart.ByPackage, "python3"),
			"its file python3.11 and its name backup", false},
		{entry("windows.run", "Tuner", `C:\Windows\System32\rundll32.exe`, "Microsoft", autostart.BySignature,
			"Windows"), "its file rundll32.exe and its name tuner", false},
		{entry("linux.systemd.system", "tide.service", "/usr/bin/true", "Debian", autostart.ByPackage, "coreutils"),
			"its file true and its name tide.service", false},
		{entry("linux.rc-local", "sh", "/bin/sh", "Debian", autostart.ByPackage, "dash"), "", false},
		{entry("linux.rc-local", "rc.local", "/etc/rc.local", "", "", ""), "", false},
		{entry("linux.login-shell", ".bashrc", "/home/ines/.bashrc", "", "", ""), "", false},
		{entry("macos.login-items", "Catalogue", "/Volumes/Archive/", "", "", ""), "", false},
	} {
		p, ok := note.ProgramOf("linux", row.entry)
		require.Equal(t, row.want != "", ok, "%v", row.entry)
		if ok {
			require.Equal(t, row.want, strings.TrimSuffix(p.String(), ", which anybody can give"))
			require.Equal(t, row.proven, p.Proven(), row.want)
			require.Equal(t, row.proven, !strings.Contains(p.String(), "anybody"))
		}
	}
	a, _ := note.ProgramOf("linux", entry("linux.xdg-autostart", "Tide", "/opt/a/Board", "Tide", autostart.ByPackage,
		"tide"))
	b, _ := note.ProgramOf("linux", entry("linux.cron.user", "x", "/usr/local/board", "Other", autostart.ByPackage,
		"tide"))
	require.Equal(t, a.Key(), b.Key(), "wherever it lies, whatever starts it")
	c, _ := note.ProgramOf("windows", entry("linux.cron.user", "x", "/usr/local/board", "Other", autostart.ByPackage,
		"tide"))
	require.NotEqual(t, a.Key(), c.Key())
	require.Equal(t, "tide", a.Mark().Package)
}

// Of the same names, what is proved and what is not are two programs: a note on the signed one says nothing of an
// impostor.
func TestProofIsPartOfTheProgram(t *testing.T) {
	signed := entry("windows.run", "Sync", `C:\f\sync.exe`, "Fogbell Works", autostart.BySignature, "")
	claimed := entry("windows.run", "Sync", `C:\f\sync.exe`, "Fogbell Works", autostart.ByVersionResource, "")
	unknown := entry("windows.run", "Sync", `C:\f\sync.exe`, "", "", "")
	p, _ := note.ProgramOf("windows", signed)
	at := time.Unix(1000, 0)
	book := note.NewBook([]note.Note{{Program: p, Verdict: "useful", Role: "sync", Text: "keeps the tickets",
		By: "Tess", Time: at}, {Machine: "m1", Handle: "k7f3qa2", Text: "ask Ines"}})
	signed.Handle = "k7f3qa2"
	for _, e := range []*autostart.Entry{signed, claimed, unknown} {
		before := *e.Known
		shared := e.Known
		book.Apply("windows", "m1", []*autostart.Entry{e})
		require.Equal(t, before, *shared, "what entries share is not changed")
	}
	require.Empty(t, claimed.Notes)
	require.Empty(t, unknown.Notes)
	require.Equal(t, []autostart.Note{{Text: "ask Ines", Machine: true, Proven: true}, {Text: "keeps the tickets",
		Verdict: "useful", Role: "sync", By: "Tess", Time: at, Proven: true}}, signed.Notes)
	require.Equal(t, []string{"useful", autostart.ByNote, "sync"}, []string{signed.Known.Verdict,
		signed.Known.VerdictBasis, signed.Known.Role})
	elsewhere := entry("windows.run", "Sync", `C:\f\sync.exe`, "", "", "")
	elsewhere.Handle = "k7f3qa2"
	book.Apply("windows", "m2", []*autostart.Entry{elsewhere})
	require.Empty(t, elsewhere.Notes, "of another machine")
	shouted := entry("windows.run", "Sync", `C:\f\SYNC.EXE`, "FOGBELL WORKS", autostart.BySignature, "")
	book.Apply("windows", "m2", []*autostart.Entry{shouted})
	require.Len(t, shouted.Notes, 1, "a certificate's way of writing a name is no other maker")
	var none *note.Book
	none.Apply("windows", "m1", []*autostart.Entry{signed})
}

func TestOver(t *testing.T) {
	old := note.Note{Verdict: "spare", Role: "sync", Text: "Ines' own", By: "Tess", Private: true}
	require.Equal(t, note.Note{Verdict: "useful", Role: "sync", Text: "Ines' own", By: "Bo", Private: true},
		note.Note{Verdict: "useful", By: "Bo"}.Over(old))
	require.False(t, note.Note{Text: "another text"}.Over(old).Private, "what told the name is gone")
	require.True(t, note.Note{}.Empty())
	require.Error(t, note.Note{Text: "a\xff"}.Check())
	require.Error(t, note.Note{By: "a\tb"}.Check())
	require.NoError(t, note.Note{Text: strings.Repeat("ä", note.MaxText)}.Check())
}
