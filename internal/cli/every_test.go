//go:build unix

package cli_test

import (
	"maps"
	"math/bits"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// drawn is how many of a machine's entries, of more than a hundred, a run tries.
const drawn = 20

// byHandle are all entries of a machine, the system's own among them.
func byHandle(t *testing.T, p testkit.Program) map[string]testkit.Entry {
	t.Helper()
	list, _ := p.List(t, "--all")
	all := map[string]testkit.Entry{}
	for _, e := range list.Entries {
		all[e.Handle] = e
	}
	return all
}

// changed are the entries that are otherwise than before, come, or gone.
func changed(before, after map[string]testkit.Entry) (names []string) {
	for h, e := range before {
		if !reflect.DeepEqual(e, after[h]) {
			names = append(names, e.Name)
		}
	}
	for h, e := range after {
		if _, known := before[h]; !known {
			names = append(names, e.Name)
		}
	}
	return names
}

// timeOfFolder is what enable, unlike undo and restore, does not bring back.
var timeOfFolder = regexp.MustCompile(`(: was|, is) "d\S+ (\S+) mtime=\d+`)

// sameFiles compares the files of a machine, and of hives nothing: those hold the times of their keys.
func sameFiles(t *testing.T, before testkit.Picture, p testkit.Program, what string) {
	t.Helper()
	var d []string
	for _, line := range testkit.Differences(before, testkit.Tree(t, p.Root)) {
		name, _, _ := strings.Cut(strings.ToLower(line), ": ")
		if m := timeOfFolder.FindAllStringSubmatch(line, -1); len(m) == 2 && m[0][2] == m[1][2] {
			continue
		}
		if !strings.HasPrefix(name, "windows/system32/config/") && !strings.HasSuffix(name, ".dat") {
			d = append(d, line)
		}
	}
	require.Empty(t, d, what)
}

// Each enabled entry of each machine is asked to start later. Where that cannot be, a reason is given and nothing is
// written; else one enabled entry starts the same after exactly that time, nothing else has another state, and undo
// leaves everything as it was. The times end in what a careless writer would cut off.
func TestEveryEntryDelayed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		after  string
		least  int // entries that can wait
		spoken []string
	}{
		"workshop-box":   {"10s", 12, []string{"10s after", "after 10 s"}},
		"archive-mac":    {"90s", 12, []string{"after 90 s"}},
		"ticket-desk-pc": {"2m", 3, []string{""}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := museum(t, name)
			if name == "ticket-desk-pc" {
				settled(t, p)
			}
			before, files, delayed := byHandle(t, p), testkit.Tree(t, p.Root), 0
			for _, h := range draw.Some(t, slices.Sorted(maps.Keys(before)), drawn) {
				e := before[h]
				if e.State != "enabled" || e.Switch == "report" {
					continue
				}
				r := p.Run(t, "delay", h, c.after, "--yes")
				if r.Code != 0 {
					require.Equal(t, 1, r.Code, r.Err)
					require.Contains(t, r.Err, "cannot be delayed here: ")
					continue
				}
				if strings.Contains(r.Err, "nothing to do") {
					continue
				}
				delayed++
				later := 0
				for _, x := range byHandle(t, p) {
					was, known := before[x.Handle]
					if x.Handle != h && known {
						require.Equal(t, was.State, x.State, "%s changed %s", e.Name, x.Name)
					}
					if x.State == "enabled" && x.Target.Path == e.Target.Path && (x.Handle == h || !known) &&
						slices.ContainsFunc(c.spoken, func(words string) bool {
							return strings.Contains(x.When,
								words)
						}) {
						later++
					}
				}
				require.Equal(t, 1, later, "%s: %s", e.Name, r.Out)
				p.OK(t, "undo", "--yes")
				require.Empty(t, changed(before, byHandle(t, p)), e.Name)
			}
			if draw.Long() {
				require.GreaterOrEqual(t, delayed, c.least)
			}
			sameFiles(t, files, p, "after all")
		})
	}
}

// Each enabled entry of each machine is turned off and removed, and brought back: by undo, and by enable.
func TestEveryEntryRemoved(t *testing.T) {
	t.Parallel()
	for name, least := range map[string]int{"workshop-box": 40, "archive-mac": 15, "ticket-desk-pc": 45} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := museum(t, name)
			if name == "ticket-desk-pc" {
				settled(t, p)
			}
			before, files, removed := byHandle(t, p), testkit.Tree(t, p.Root), 0
			for _, h := range draw.Some(t, slices.Sorted(maps.Keys(before)), drawn) {
				e := before[h]
				if e.State != "enabled" || e.Switch == "report" || e.OSPart ||
					p.Run(t, "disable", h, "--yes").Code != 0 {
					continue
				}
				if r := p.Run(t, "remove", h, "--now", "-m", "to see", "--yes"); r.Code != 0 {
					require.Regexp(t, `stays|not removed|choose both|disable it first|no part of the change|removes no folders`, r.Err,
						e.Name)
					p.OK(t, "undo", "--yes")
					continue
				}
				removed++
				if x, there := byHandle(t, p)[h]; there {
					require.Equal(t, "disabled", x.State, e.Name)
					require.Contains(t, x.Mode, "kept in the record", e.Name)
				}
				if removed%2 == 0 {
					p.OK(t, "enable", h, "--yes")
					require.Empty(t, changed(before, byHandle(t, p)), "%s, enabled", e.Name)
					continue
				}
				p.OK(t, "undo", "--yes")
				if len(changed(before, byHandle(t, p))) > 0 { // what is turned off by taking it away was one change
					p.OK(t, "undo", "--yes")
				}
				require.Empty(t, changed(before, byHandle(t, p)), "%s, undone", e.Name)
			}
			if draw.Long() {
				require.GreaterOrEqual(t, removed, least)
			}
			sameFiles(t, files, p, "after all")
		})
	}
}

// A culprit is found among all that is enabled on each machine, whatever starts with what: what cannot start while
// another is off, a line of a crontab without its daemon or an extension of a class that is blocked, is in one group
// with it.
func TestCulpritAmongEverything(t *testing.T) {
	t.Parallel()
	for name, culprit := range map[string]string{"workshop-box": "updater", "archive-mac": "LoginHook",
		"ticket-desk-pc": "FogbellSynced"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := museum(t, name)
			before := byHandle(t, p)
			_, named := p.List(t, "--all")
			h := named[culprit].Handle
			p.OK(t, "culprit", "start", "state=enabled", "--all", "--guarded", "--yes")
			var search struct {
				Units []struct{ Handles []string }
			}
			p.JSON(t, &search, "culprit")
			among := slices.IndexFunc(search.Units,
				func(u struct{ Handles []string }) bool { return slices.Contains(u.Handles, h) })
			require.GreaterOrEqual(t, among, 0)
			most := bits.Len(uint(len(search.Units)-1)) + 1
			for round := 1; ; round++ {
				require.LessOrEqual(t, round, most, "restarts for %d groups", len(search.Units))
				answer := "works"
				if byHandle(t, p)[h].State == "enabled" {
					answer = "broken"
				}
				if out := p.OK(t, "culprit", answer, "--yes"); strings.Contains(out, "Found: ") {
					require.Contains(t, out, culprit+" ("+h+")")
					break
				}
			}
			group := search.Units[among].Handles
			for h, e := range byHandle(t, p) {
				if slices.Contains(group, h) {
					require.Equal(t, "disabled", e.State, e.Name)
				} else {
					require.Equal(t, before[h].State, e.State, e.Name)
				}
			}
			switch name {
			case "workshop-box":
				require.Contains(t, group, named["cron.service"].Handle)
			case "ticket-desk-pc":
				require.Contains(t, group, named["Fogbell"].Handle)
			}
		})
	}
}

// What a search leaves out is said once for each reason, what would have something protected stop is no part of it, and
// what starts another entry is in one group with it.
func TestCulpritLeavesOut(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	r := p.Run(t, "culprit", "start", "state=enabled", "--all", "--dry-run")
	require.Zero(t, r.Code, r.Err)
	require.Regexp(t, `left out: \S+ \(\w{7}\), .*: it is protected \(--guarded takes it too\): needed to`, r.Err)
	reasons := map[string]bool{}
	for line := range strings.Lines(r.Err) {
		_, why, ok := strings.Cut(line, "): ")
		require.False(t, ok && reasons[why], line)
		reasons[why] = true
	}
	const lib = "usr/lib/systemd/system/"
	require.NoError(t, os.Remove(filepath.Join(p.Root, lib+"multi-user.target.wants/systemd-logind.service")))
	write(t, p, "etc/systemd/system/tidewatch.service",
		"[Unit]\nWants=systemd-logind.service "+
			"harbour.service\n[Service]\nExecStart=/opt/tidewatch/bin/tidewatchd\n[Install]\nWantedBy=multi-user.target\n")
	write(t, p, lib+"harbour.service", "[Service]\nExecStart=/opt/tidewatch/bin/harbour\n")
	before := testkit.Tree(t, p.Root)
	search := []string{"culprit", "start", "tidewatch.service", "harbour.service", "brinecast.service", "Tide Chart",
		"--yes"}
	r = p.Run(t, search...)
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Err, "tidewatch.service: systemd-logind.service would stop with it, and is protected")
	require.Contains(t, r.Out+r.Err, "among 3 entries or groups")
	p.OK(t, "culprit", "stop", "--yes")
	r = p.Run(t, append(search, "--guarded")...)
	require.Zero(t, r.Code, r.Err)
	require.Contains(t, r.Out, "among 3 entries or groups", "tidewatch.service and harbour.service are one")
	p.OK(t, "culprit", "works", "--yes")
	p.OK(t, "culprit", "stop", "--yes")
	testkit.Same(t, before, testkit.Tree(t, p.Root))
}

// All that was turned off and came back is caught, whatever it is and wherever it stands, and nothing else is told.
func TestEveryEntryPutBack(t *testing.T) {
	t.Parallel()
	for name, least := range map[string]int{"workshop-box": 60, "archive-mac": 40, "ticket-desk-pc": 65} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := museum(t, name)
			pristine := filepath.Join(t.TempDir(), "pristine")
			testkit.Shell(t, "cp -a "+p.Root+" "+pristine)
			p.OK(t, "snapshot")
			before := byHandle(t, p)
			for times := 1; times <= 2; times++ {
				p.OK(t, everything...)
				off := map[string]bool{}
				for h, e := range byHandle(t, p) {
					if e.State == "disabled" && before[h].State == "enabled" {
						off[h] = true
					}
				}
				require.GreaterOrEqual(t, len(off), least)
				for _, f := range check(t, p).Findings {
					require.False(t, f.Decide || f.Kind == "problem", "%s: %s", f.Kind, f.Name)
				}
				require.NoError(t, os.RemoveAll(p.Root))
				testkit.Shell(t, "cp -a "+pristine+" "+p.Root)
				found := check(t, p).Findings
				require.Len(t, found, len(off))
				for _, f := range found {
					require.True(t, off[f.Handle], f.Name)
					require.Equal(t, []any{"put-back", true, times}, []any{f.Kind, f.Decide, f.Times}, f.Name)
				}
			}
		})
	}
}
