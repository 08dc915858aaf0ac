package catalogue_test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
)

// The catalogues that come with the program are sound, and as large as is promised.
func TestShipped(t *testing.T) {
	all := 0
	for _, system := range []string{"linux", "windows", "macos"} {
		text, err := os.ReadFile(system + ".yaml")
		require.NoError(t, err)
		c, problems := catalogue.Parse(text)
		require.Empty(t, problems, system)
		for k := range c.Entries {
			c.Entries[k].Line = 0 // the other form has no lines
		}
		if os.Getenv("LOCKBACK_GOLDEN") == "write" {
			packed, err := json.Marshal(c.Entries)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(system+".json", append(packed, '\n'), 0o644))
		} else {
			require.Equal(t, c.Entries, catalogue.Of(system).Entries, "LOCKBACK_GOLDEN=write go test ./core/catalogue makes it anew")
		}
		for _, e := range c.Entries {
			require.NotEqual(t, autostart.Unrated, e.Verdict, e.ID)
			require.Regexp(t, `^[A-Z.].*\.$`, e.Does, e.ID)
			for _, m := range e.KnownBy {
				if m.Location != "" {
					require.True(t, strings.HasPrefix(m.Location, system+"."), e.ID)
				}
			}
		}
		all += len(c.Entries)
	}
	require.GreaterOrEqual(t, all, 600)
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
		{"tide", catalogue.Subject{Location: "linux.systemd.user", Names: []string{"tide"}, Packages: []string{"fogbell"}}},
		{"sync", catalogue.Subject{Location: "linux.systemd.user", Names: []string{"sync"}, Packages: []string{"fogbell"}}},
		{"sync", catalogue.Subject{Bundle: "org.fogbell.sync"}},
		{"sync", catalogue.Subject{Maker: "Fogbell Works", File: "Sync.exe"}},
		{"", catalogue.Subject{Maker: "Fogbell Works", File: "other.exe"}},
		{"", catalogue.Subject{File: "sync.exe"}},
		{"exact", catalogue.Subject{Packages: []string{"reef"}, Names: []string{"reef-counter"}}},
		{"exact", catalogue.Subject{Packages: []string{"reef"}, Command: "/usr/bin/reef --x 1"}},
		{"", catalogue.Subject{Packages: []string{"reef"}, Names: []string{"other"}}},
	} {
		e := c.Find(row.s)
		if row.id == "" {
			require.Nil(t, e, "%v", row.s)
			continue
		}
		require.NotNil(t, e, "%v", row.s)
		require.Equal(t, row.id, e.ID)
	}
}

func TestWrongFiles(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "line 1: the file is empty",
		"a: [":                   "line 1: it is no YAML",
		"format: 2\nentries: []": "line 1: format \"2\" is not known",
		"entries: []":            "line 1: the file does not say its format",
		"format: 1\ncolour: red": `line 2: the file has no field "colour"`,
		"format: 1\nentries:\n  - id: a\n    does: x\n":                                                                         `line 3: "a" does not say what it is known by`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    verdict: bad\n    known-by: [{package: p}]\n":                         `line 3: the verdict of "a" is "bad"`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    verdict: hostile\n    known-by: [{names: p}]\n":                       `line 3: "a" is hostile by a name alone`,
		"format: 1\nentries:\n  - id: a\n    does: x\n    known-by: [{package: p, colour: red}]\n":                              `line 5: nothing is known by "colour"`,
		"format: 1\nentries:\n  - {id: a, does: x, known-by: [{package: p}]}\n  - {id: a, does: x, known-by: [{package: p}]}\n": `line 4: the id "a" stands in line 3 already`,
		"format: 1\nx: &a 1\nentries: *a\n":                                                                                     "aliases are not read",
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
