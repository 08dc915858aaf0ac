package catalogue_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
)

const ofMakers = `format: 1
makers:
  - maker: Fogbell Works
    signs: [{name: Fogbell Works GmbH, since: 2019}, {name: "Fogbell, Inc.", until: 2019}]
    signs-only: true
    programs:
      - id: fogbell-sync
        product: Fogbell Sync
        files: [fogsync.exe, "fogsync-*.exe"]
        shared: [update.exe]
        starts:
          run: [Fogbell Sync]
          services: ["FogbellSync*"]
        role: sync
        verdict: spare
        caution: sync
        does: Keeps folders the same.
        without: Folders drift apart.
        noticed: when used
        setting: Settings, Start at sign-in
        returns: update
        delay: true
        known: 2
      - id: fogbell-update
        product: Fogbell Update
        files: [fogupdate.exe]
        shared: [update.exe]
        starts: {tasks: ['\Fogbell\Update*']}
        role: updater
        verdict: useful
        caution: updates
        security: true
        does: Updates Fogbell's programs.
        without: They get no fixes.
        noticed: late
        documented: Fogbell Administration Guide
  - maker: Brinecast
    signs: [Brinecast Oy]
    programs:
      - {id: brine, product: Brinecast Cam, files: [brine.exe], bundles: [org.brinecast.cam], role: device, verdict: useful, does: Shows a camera., without: No picture., noticed: at once, known: 3}
  - maker: Saltmarsh
    programs:
      - {id: salt, product: Saltmarsh, packages: [saltmarsh, saltmarsh-git], starts: {systemd.user: [saltd]}, role: helper, verdict: spare, does: Counts birds., without: Nobody counts., noticed: never, seen: "Debian 12 saltmarsh: /usr/lib/systemd/user/saltd.service"}
`

// A program counts where signer and file fit, or the package does. All else has only its names.
func TestFindProgram(t *testing.T) {
	c, problems := catalogue.Parse([]byte(ofMakers))
	require.Empty(t, problems)
	for _, row := range []struct {
		what string
		id   string
		fit  catalogue.Fit
		s    catalogue.Subject
	}{
		{"signer and file", "fogbell-sync", catalogue.Proven, catalogue.Subject{Maker: "fogbell works gmbh",
			File: "FOGSYNC.exe"}},
		{"an earlier name of the maker", "fogbell-sync", catalogue.Proven, catalogue.Subject{Maker: "Fogbell, Inc.",
			File: "fogsync-7.exe"}},
		{"a shared file, told by the entry's name", "fogbell-update", catalogue.Proven,
			catalogue.Subject{Maker: "Fogbell Works GmbH",
				File: "Update.exe", Location: "windows.tasks", Own: []string{"x", `\fogbell\update core`}}},
		{"a shared file of the maker", "fogbell-sync", catalogue.Proven, catalogue.Subject{Maker: "Fogbell Works GmbH",
			File: "update.exe"}},
		{"another file of the maker", "fogbell-sync", catalogue.SameMaker,
			catalogue.Subject{Maker: "Fogbell Works GmbH",
				File: "other.exe", Location: "windows.services", Own: []string{"FogbellSyncHelper"}}},
		{"the file alone", "fogbell-sync", catalogue.LooksLike, catalogue.Subject{File: "fogsync.exe"}},
		{"a shared file alone", "", catalogue.NoFit, catalogue.Subject{File: "update.exe"}},
		{"the name alone", "fogbell-sync", catalogue.NamedLike, catalogue.Subject{File: "x.exe",
			Location: "windows.run",
			Own:      []string{"Fogbell Sync"}}},
		{"the name in another place", "", catalogue.NoFit, catalogue.Subject{File: "x.exe", Location: "windows.tasks",
			Own: []string{"Fogbell Sync"}}},
		{"somebody else's signature", "fogbell-sync", catalogue.Impostors, catalogue.Subject{Maker: "Tidewrack Ltd",
			File: "fogsync.exe"}},
		{"a new name of the maker", "fogbell-sync", catalogue.OthersFile,
			catalogue.Subject{Maker: "Fogbell Software SE", File: "fogsync.exe"}},
		{"somebody else's, where not all names are known", "brine", catalogue.OthersFile,
			catalogue.Subject{Maker: "Tidewrack Ltd",
				File: "brine.exe"}},
		{"a bundle and its signer", "brine", catalogue.Proven, catalogue.Subject{Maker: "Brinecast Oy",
			Bundle: "org.brinecast.cam", File: "x"}},
		{"a bundle alone", "", catalogue.NoFit, catalogue.Subject{Bundle: "org.brinecast.cam", File: "x"}},
		{"a package", "salt", catalogue.Proven, catalogue.Subject{Packages: []string{"libc", "saltmarsh-git"},
			Delivered: true,
			Location:  "linux.systemd.user", Own: []string{"saltd"}}},
		{"another entry of the package", "salt", catalogue.Proven, catalogue.Subject{Packages: []string{"saltmarsh"},
			Delivered: true,
			Location:  "linux.systemd.user", Own: []string{"other"}}},
		{"a package whose file was changed", "salt", catalogue.NamedLike,
			catalogue.Subject{Packages: []string{"saltmarsh"},
				Location: "linux.systemd.user", Own: []string{"saltd"}}},
	} {
		e, fit := c.FindProgram(row.s)
		require.Equal(t, row.fit, fit, row.what)
		if row.id == "" {
			require.Nil(t, e, row.what)
			continue
		}
		require.Equal(t, row.id, e.ID, row.what)
	}
	e := c.Entries[0]
	require.Equal(t, "Fogbell Works", e.Program.Maker)
	require.Equal(t, []catalogue.Signature{{Name: "Fogbell Works GmbH", Since: 2019}, {Name: "Fogbell, Inc.",
		Until: 2019}}, e.Program.Signs)
	require.Equal(t, []catalogue.Start{{Location: "*.run", Names: []string{"Fogbell Sync"}},
		{Location: "*.services", Names: []string{"FogbellSync*"}}}, e.Program.Starts)
	require.True(t, e.Program.Delay)
	require.Equal(t, catalogue.Basis{Known: 2}, e.Program.Basis)

	decoded, err := catalogue.Decode(c.Encode())
	require.NoError(t, err)
	_, fit := decoded.FindProgram(catalogue.Subject{Maker: "Brinecast Oy", File: "brine.exe"})
	require.Equal(t, catalogue.Proven, fit, "a catalogue from the record")
}

// What is sound line by line and leads astray as a whole is a problem, in its line.
func TestLint(t *testing.T) {
	program := func(fields string) string {
		return "makers:\n  - maker: M\n    signs: [M Inc]\n    programs:\n      - {id: a, product: A, does: A., " +
			fields + "}\n"
	}
	entries := func(texts ...string) string { return "entries:\n  - {" + strings.Join(texts, "}\n  - {") + "}\n" }
	for text, want := range map[string]string{
		program(
			"files: [a.exe], known: 3, verdict: spare, without: W., noticed: late"): "",
		program(
			"files: [a.exe], known: 3, verdict: spare"): "what is lost",
		program(
			"files: [a.exe], known: 3, without: W."): "when its loss is noticed",
		program(
			"files: [a.exe], known: 3, verdict: spare, role: backup, without: W., noticed: late"): "needs a caution",
		program(
			"files: [a.exe], known: 3, verdict: spare, role: backup, caution: backup, without: W., noticed: late"): "",
		program(
			"files: [a.exe], known: 3, verdict: spare, protect: screen, without: W., noticed: late"): "contradiction",
		program(
			"files: [a.exe], known: 3, verdict: essential"): "nothing protects it",
		program(
			"files: [a.exe], known: 3, verdict: spare, security: true, without: W., noticed: late"): "the caution updates",
		program("files: [a.exe]"):                                 "how it is known",
		program("files: [a.exe], known: 4"):                       "from 1 to 3",
		program("starts: {run: [A]}, known: 3"):                   "it has no file",
		program("known: 3"):                                       "what it is known by",
		program("files: ['*.*'], known: 3"):                       "fits nearly everything",
		program("files: [a.exe], known: 3, starts: {run: ['*']}"): "fits everything",
		program(`files: [a.exe], known: 3, verdict: useful, without: W., noticed: late, starts: {tasks: ` +
			`['\microsoft\windows\x\*']}`): "whole folder",
		program(
			"files: [a.exe], known: 3, noticed: some day"): "it is one of",
		program(
			"files: [a.exe], known: 3, returns: never"): "it is one of",
		"makers:\n  - {maker: M, programs: [{id: a, product: A, does: A., files: [a.exe], known: 3}]}\n": "nobody signs it",
		"makers:\n  - {maker: M, signs: [{name: M Inc, since: 2020, until: 2010}], programs: [{id: a, product: A, " +
			"does: A., files: " +
			"[a.exe], known: 3}]}\n": "until 2010",
		"makers:\n  - {maker: M, signs: [M Inc], programs: [{id: a, product: A, does: A., files: [a.exe], known: 3}]}\n" +
			"  - {maker: N, signs: [N Inc], programs: [{id: b, product: B, does: B., files: [A.exe], known: 3}]}\n": "has the file a.exe",
		"makers:\n  - {maker: M, signs: [M Inc], programs: [{id: a, product: A, does: A., files: [a.exe, b.exe], starts: " +
			"{run: [A, B]}, known: 3}, {id: b, product: B, does: B., files: [A.exe], starts: {run: [b]}, known: 3}]}\n": "never counts",
		"makers:\n  - {maker: M, signs: [M Inc], programs: [{id: a, product: A, does: A., files: [a.exe, b.exe], starts: " +
			"{run: [A]}, known: 3}, {id: b, product: B, does: B., files: [A.exe], starts: {run: [b]}, known: 3}]}\n": "",
		entries(`id: a, known-by: [{location: linux.x, names: "tide-*"}], does: x`,
			"id: b, known-by: [{location: linux.x, names: tide-gauge}], does: y"): "never counts for tide-gauge",
		entries("id: a, known-by: [{location: linux.x, names: tide}], does: x",
			"id: b, known-by: [{location: linux.x, names: tide}], does: y"): "never counts for tide",
		entries("id: a, known-by: [{location: linux.x, names: tide-gauge}], does: x",
			`id: b, known-by: [{location: linux.x, names: "tide-*"}], does: y`): "",
	} {
		_, problems := catalogue.Parse([]byte("format: 1\n" + text))
		if want == "" {
			require.Empty(t, problems, text)
			continue
		}
		require.NotEmpty(t, problems, text)
		require.Contains(t, fmt.Sprint(problems), want, text)
	}
}

// The built-in catalogue is as broad as docs/catalogue.md says, and each program has the facts by which one decides.
func TestBreadthAndDepth(t *testing.T) {
	for system, least := range map[string]int{"windows": 450, "macos": 150, "linux": 250} {
		programs := 0
		for _, e := range catalogue.Of(system).All() {
			p := e.Program
			if p == nil {
				continue
			}
			programs++
			require.NotEmpty(t, e.Without, e.ID)
			require.NotEmpty(t, p.Noticed, e.ID)
			require.NotEqual(t, autostart.RoleUnknown, e.Role, e.ID)
			for _, text := range []string{e.Does, e.Without} {
				require.Regexp(t, `^(macOS|[A-Z.0-9]).*[.]$`, text, e.ID)
			}
			if e.Verdict == "hostile" {
				require.NotEmpty(t, p.Signs, e.ID)
			}
		}
		require.GreaterOrEqual(t, programs, least, system)
	}
}

// Each program of the catalogue is found by each of its files and packages where the proof is there, with its own
// maker; as a disguise, the same names get no verdict.
func TestEveryProgramIsFoundByProof(t *testing.T) {
	r := rand.New(rand.NewPCG(33, 1889))
	name := func(pattern string) string {
		return strings.NewReplacer("*", fmt.Sprint("x", r.IntN(100)), "?", "7").Replace(pattern)
	}
	for _, system := range catalogue.Systems {
		c := catalogue.Of(system)
		found, tried := 0, 0
		for _, e := range c.All() {
			p := e.Program
			if p == nil {
				continue
			}
			for _, file := range p.Files {
				for _, signer := range p.Signs {
					got, fit := c.FindProgram(catalogue.Subject{File: name(file), Maker: signer.Name})
					require.Equal(t, catalogue.Proven, fit, "%s %s", e.ID, file)
					require.Contains(t, fmt.Sprint(got.Program.Signs), signer.Name, "%s %s: a wrong maker", e.ID, file)
					if tried++; got.ID == e.ID {
						found++
					}
				}
				for _, disguise := range []catalogue.Subject{{File: name(file)},
					{File: name(file), Maker: "Tidewrack Ltd"}} {
					_, fit := c.FindProgram(disguise)
					require.Less(t, fit, catalogue.SameMaker, "%s %s in disguise", e.ID, file)
				}
			}
			for _, pack := range p.Packages {
				got, fit := c.FindProgram(catalogue.Subject{Packages: []string{pack}, Delivered: true,
					Location: system + ".x"})
				require.Equal(t, catalogue.Proven, fit, "%s %s", e.ID, pack)
				if tried++; got.ID == e.ID {
					found++
				}
				_, fit = c.FindProgram(catalogue.Subject{Packages: []string{pack}, Location: system + ".x"})
				require.Equal(t, catalogue.NoFit, fit, "%s %s, changed", e.ID, pack)
			}
		}
		require.Greater(t, found*100, tried*95, "%s: %d of %d", system, found, tried)
	}
}
