package catalogue_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
)

// shippedFiles visits the built-in files of a system.
func shippedFiles(t *testing.T, visit func(system, name string, text []byte)) {
	t.Helper()
	for _, system := range catalogue.Systems {
		names, err := filepath.Glob(filepath.Join("data", system, "*.yaml"))
		require.NoError(t, err)
		require.NotEmpty(t, names)
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			visit(system, name, text)
		}
	}
}

// The built-in catalogues are sound, and the program, which reads them in a quick way, has what the package for YAML
// reads.
func TestShipped(t *testing.T) {
	entries := map[string]map[string]catalogue.Entry{}
	shippedFiles(t, func(system, name string, text []byte) {
		c, problems := catalogue.Parse(text)
		require.Empty(t, problems, name)
		require.NotEmpty(t, c.Entries, name)
		if entries[system] == nil {
			entries[system] = map[string]catalogue.Entry{}
		}
		for _, e := range c.Entries {
			require.NotContains(t, entries[system], e.ID, "%s has an id that another file has", name)
			require.True(t, e.Verdict != autostart.Unrated || e.Program != nil, e.ID)
			e.Line = 0
			entries[system][e.ID] = e
			require.Regexp(t, `^[A-Z.].*\.$`, e.Does, e.ID)
			for _, m := range e.KnownBy {
				if m.Location != "" {
					require.True(t, strings.HasPrefix(m.Location, system+"."), e.ID)
				}
			}
		}
	})
	for _, system := range catalogue.Systems {
		shipped := catalogue.Of(system).All()
		require.Len(t, shipped, len(entries[system]), system)
		for _, e := range shipped {
			require.Equal(t, entries[system][e.ID], e)
		}
	}
}

// finds wants a catalogue to know a subject as the entry with that id; as none if it is empty.
func finds(t *testing.T, c *catalogue.Catalogue, s catalogue.Subject, id string) {
	t.Helper()
	e := c.Find(s)
	if id == "" {
		require.Nil(t, e, "%v", s)
		return
	}
	require.NotNil(t, e, "%v", s)
	require.Equal(t, id, e.ID)
}

// Nothing that is known by a folder or a pattern alone may be turned off for that: what else has such a name is not
// known. And whoever turns something off reads what is lost.
func TestWhatIsSpareIsNamed(t *testing.T) {
	for _, system := range []string{"linux", "windows", "macos"} {
		for _, e := range catalogue.Of(system).All() {
			if e.Verdict != "spare" {
				continue
			}
			require.NotEmpty(t, e.Without, "%s %s", system, e.ID)
			for _, m := range e.KnownBy {
				for _, name := range m.Names {
					require.NotContains(t, name, "*", "%s %s", system, e.ID)
				}
			}
		}
	}
	pi := func(task string) *catalogue.Entry {
		return catalogue.Of("windows").Find(catalogue.Subject{Location: "windows.tasks",
			Names: []string{`\Microsoft\Windows\PI\` + task}, Runs: [][]string{{"class"}}})
	}
	require.Equal(t, "security", pi("Secure-Boot-Update").Protect)
	require.Equal(t, "spare", pi("Sqm-Tasks").Verdict)
	require.NotEqual(t, "spare", pi("Something-New").Verdict)
}

func TestFind(t *testing.T) {
	c, problems := catalogue.Parse([]byte(`format: 1
entries:
  - id: tide
    known-by: [{location: "linux.systemd.*", names: "tide tide-*"}]
    does: Reads the tide gauge.
  - id: sync
    known-by: [{package: fogbell}, {bundle: org.fogbell.sync}, {maker: Fogbell Works, file: sync.exe}]
    verdict: spare
    without: Folders drift apart.
    role: sync
    does: Keeps folders the same.
  - id: exact
    known-by: [{package: reef, names: ["reef-*"]}, {command: "*/reef --x*", package: reef}]
    does: Counts fish.
`))
	require.Empty(t, problems)
	for _, row := range []struct {
		id string
		s  catalogue.Subject
	}{
		{"tide", catalogue.Subject{Location: "linux.systemd.user", Names: []string{"TIDE-gauge"}}},
		{"", catalogue.Subject{Location: "linux.cron.user", Names: []string{"tide"}}},
		{"", catalogue.Subject{Location: "linux.systemd.user", Names: []string{"tidex"}}},
		{"tide", catalogue.Subject{Location: "linux.systemd.user", Names: []string{"tide"},
			Packages: []string{"fogbell"}}},
		{"sync", catalogue.Subject{Location: "linux.systemd.user", Names: []string{"sync"},
			Packages: []string{"fogbell"}}},
		{"sync", catalogue.Subject{Bundle: "org.fogbell.sync"}},
		{"sync", catalogue.Subject{Maker: "Fogbell Works", File: "Sync.exe"}},
		{"", catalogue.Subject{Maker: "Fogbell Works", File: "other.exe"}},
		{"", catalogue.Subject{File: "sync.exe"}},
		{"exact", catalogue.Subject{Packages: []string{"reef"}, Names: []string{"reef-counter"}}},
		{"exact", catalogue.Subject{Packages: []string{"reef"}, Command: "/usr/bin/reef --x 1"}},
		{"", catalogue.Subject{Packages: []string{"reef"}, Names: []string{"other"}}},
	} {
		finds(t, c, row.s, row.id)
	}
}

func TestWrongFiles(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "line 1: the file is empty",
		"a: [":                   "line 1: this is not YAML",
		"format: 2\nentries: []": "line 1: format \"2\" is not known",
		"entries: []":            "line 1: the file does not say its format",
		"format: 1\ncolour: red": `line 2: the file has no field "colour"`,
		"format: 1\nentries:\n  - id: a\n    does: x\n":                                                                         `line 3: "a" does not say what it is known by`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    known-by: {package: p}\n":                                             `known-by is not a list`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    verdict: bad\n    known-by: [{package: p}]\n":                         `line 3: the verdict of "a" is "bad"`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    verdict: hostile\n    known-by: [{names: p}]\n":                       `line 3: "a" is hostile by a name alone`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    known-by: [{package: p, colour: red}]\n":                              `line 5: nothing is known by "colour"`,
		"format: 1\nentries:\n  - {id: a, does: x, known-by: [{package: p}]}\n  - {id: a, does: x, known-by: [{package: p}]}\n": `line 4: line 3 already has the id "a"`,
		"format: 1\nx: &a 1\nentries: *a\n":                                                                                     "YAML aliases are not supported",
		"format: 1\nentries:\n  - id: [a]\n    id: b\n    does: x\n":                                                            `has "id" twice`,
	} {
		_, problems := catalogue.Parse([]byte(text))
		require.NotEmpty(t, problems, text)
		var said []string
		for _, p := range problems {
			said = append(said, p.Error())
		}
		require.Contains(t, strings.Join(said, "\n"), want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("format: 1\nentries:\n  - {id: a, does: x, known-by: [{names: \"a* ?b\"}]}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, _ := catalogue.Parse(text)
		c.Find(catalogue.Subject{Names: []string{"ab", "a"}, Packages: []string{"a"}})
	})
}

func BenchmarkShipped(b *testing.B) {
	text, err := os.ReadFile("windows.json")
	require.NoError(b, err)
	for b.Loop() {
		var entries []catalogue.Entry
		require.NoError(b, json.Unmarshal(text, &entries))
	}
}

// What is written is read again, to the last field: of all that comes with the program, and of what a hostile name
// could do to a file.
func TestWrittenIsReadAgain(t *testing.T) {
	again := func(entries []catalogue.Entry) {
		t.Helper()
		c, problems := catalogue.Parse(catalogue.Write(entries))
		require.Empty(t, problems)
		for k := range c.Entries {
			c.Entries[k].Line = 0
		}
		require.Equal(t, entries, c.Entries)
	}
	for _, system := range []string{"linux", "windows", "macos"} {
		again(slices.DeleteFunc(slices.Clone(catalogue.Of(system).All()), func(e catalogue.Entry) bool {
			return e.Program != nil // notes become no programs
		}))
	}
	for _, text := range []string{"a: b", "- x", "#", "*a", "&a", "true", "1", "2026-11-26", "a\"b'c", "\u202egpj.exe",
		"%x", "{a}", " a", "é", "!!binary x", "|", "? a"} {
		again([]catalogue.Entry{{ID: text, Note: text, By: text, Date: "2026-11-26", Role: autostart.RoleUnknown,
			Verdict: "spare",
			KnownBy: []catalogue.Mark{{Location: "linux.*", Says: text, File: text}, {Label: text, File: text},
				{Maker: text}, {Package: text, File: text}}}})
	}
}

// A mark of a technician's note: all of its names must agree.
func TestFindByNames(t *testing.T) {
	c, problems := catalogue.Parse([]byte("format: 1\nentries:\n" +
		"  - {id: board, known-by: [{location: \"linux.*\", file: board, label: Tide Board}], verdict: spare, note: x}\n" +
		"  - {id: tray, known-by: [{says: Saltmarsh, file: tray.exe}], verdict: useful}\n" +
		"  - {id: job, known-by: [{label: org.kelpline.helper}], verdict: hostile, note: x}\n"))
	require.Empty(t, problems)
	for _, row := range []struct {
		id string
		s  catalogue.Subject
	}{
		{"board", catalogue.Subject{Location: "linux.xdg-autostart", File: "Board", Label: "tide board"}},
		{"", catalogue.Subject{Location: "windows.run", File: "board", Label: "tide board"}},
		{"", catalogue.Subject{Location: "linux.xdg-autostart", File: "board", Label: "other"}},
		{"", catalogue.Subject{Location: "linux.xdg-autostart", Label: "tide board"}},
		{"tray", catalogue.Subject{Says: "saltmarsh", File: "TRAY.EXE"}},
		{"", catalogue.Subject{Maker: "Saltmarsh", File: "tray.exe"}},
		{"job", catalogue.Subject{Label: "org.kelpline.helper"}},
	} {
		finds(t, c, row.s, row.id)
	}
	for text, want := range map[string]string{
		"{id: a, known-by: [{file: f}], verdict: spare, note: x}":            "by a name alone",
		"{id: a, known-by: [{label: plain}], verdict: hostile, note: x}":     "by a name alone",
		"{id: a, known-by: [{file: f, label: l}], date: yesterday, note: x}": "a day is written as",
		"{id: a, known-by: [{file: f, label: l}]}":                           "does not say what it does",
		"{id: a, known-by: [{}], note: x}": "nothing is said of what " +
			"it is known by",
		"{id: a, known-by: [{file: f, names: n, command: c}], verdict: spare, note: x}": "by a name alone",
	} {
		_, problems := catalogue.Parse([]byte("format: 1\nentries:\n  - " + text + "\n"))
		require.NotEmpty(t, problems, text)
		require.Contains(t, problems[0].What, want, text)
	}
}

// Where two entries contradict each other, the first is kept, so that the rest of the file can be looked at.
func TestContradiction(t *testing.T) {
	c, problems := catalogue.Parse([]byte("format: 1\nentries:\n  - {id: a, known-by: [{package: p}], does: x, " +
		"without: w, " +
		"verdict: spare}\n  - {id: b, known-by: [{package: p}], does: x, verdict: useful}\n  - {id: c, known-by: " +
		"[{package: p}], does: y, without: w, verdict: spare}\n"))
	require.Len(t, problems, 1)
	require.Equal(t, 4, problems[0].Line)
	require.Len(t, c.Entries, 2)
}

func FuzzWrite(f *testing.F) {
	f.Add("a", "b: c", "d\n")
	f.Fuzz(func(t *testing.T, id, text, name string) {
		if !utf8.ValidString(id) || !utf8.ValidString(text) || !utf8.ValidString(name) {
			return // a file is text
		}
		c, problems := catalogue.Parse(catalogue.Write([]catalogue.Entry{{ID: id, Note: text, Role: "sync",
			Verdict: "useful", KnownBy: []catalogue.Mark{{Package: name, File: id}}}}))
		if len(problems) == 0 && (c.Entries[0].ID != id || c.Entries[0].Note != text ||
			c.Entries[0].KnownBy[0].Package != name) {
			t.Fatalf("%q %q %q came back as %+v", id, text, name, c.Entries[0])
		}
	})
}
