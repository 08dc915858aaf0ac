//go:build unix

package cli_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// states is what a list says: each entry's state, by handle.
type states map[string]string

// model is what a person would remember of the work on a machine.
type model struct {
	t         *testing.T
	p         testkit.Program
	r         *rand.Rand
	exact     bool                     // the whole tree is compared too, not only what starts
	entries   map[string]testkit.Entry // by handle
	now       states
	snapshots map[string]states          // by name
	pictures  map[string]testkit.Picture // of the tree, by the snapshot's name
	before    []states                   // of each change that stands, the last one last
	left      []string                   // handles that the last command left out
	done      []string
}

func newModel(t *testing.T, machine string, seed uint64) *model {
	m := &model{t: t, p: museum(t, machine), r: rand.New(rand.NewPCG(seed, 1887)), exact: machine != "ticket-desk-pc",
		entries: map[string]testkit.Entry{}, snapshots: map[string]states{}, pictures: map[string]testkit.Picture{}}
	m.now = m.look()
	return m
}

func (m *model) look() states {
	list, _ := m.p.List(m.t, "--all")
	s := states{}
	for _, e := range list.Entries {
		s[e.Handle] = e.State
		m.entries[e.Handle] = e
	}
	require.Len(m.t, s, len(list.Entries), "handles are one each")
	return s
}

// run runs a command and returns the name of the snapshot that it took first.
func (m *model) run(args ...string) (snapshot string, ok bool) {
	m.done = append(m.done, strings.Join(args, " "))
	picture := testkit.Picture(nil)
	if m.exact {
		picture = testkit.Tree(m.t, m.p.Root)
	}
	r := m.p.Run(m.t, append([]string{"--format", "json"}, withYes(args)...)...)
	var out struct {
		Change, Snapshot string
		Warnings         []string
	}
	m.left = nil
	if r.Code == 1 && json.Unmarshal([]byte(r.Out), &out) == nil && out.Change != "" {
		for _, w := range out.Warnings {
			if rest, ok := strings.CutPrefix(w, "left out: "); ok {
				m.left = append(m.left, strings.Fields(rest)[0])
			}
		}
		require.NotEmpty(m.t, m.left, "%v: %s", m.done, r.Out)
	}
	if r.Code != 0 && len(m.left) == 0 {
		require.Contains(m.t, []int{1, 2}, r.Code, "%v: %s", m.done, r.Err)
		require.Equal(m.t, m.now, m.look(), "a command that failed left something behind: %v: %s", m.done, r.Err)
		if m.exact {
			require.Empty(m.t, testkit.Differences(picture, testkit.Tree(m.t, m.p.Root)), "%v: %s", m.done, r.Err)
		}
		return "", false
	}
	require.NoError(m.t, json.Unmarshal([]byte(r.Out), &out), r.Out)
	if out.Change == "" {
		return "", false // there was nothing to do
	}
	m.snapshots[out.Snapshot], m.pictures[out.Snapshot] = m.now, picture
	return out.Snapshot, true
}

// choose draws some of the entries that are in a state and have a switch.
func (m *model) choose(state string) []string {
	var fits []string
	for h, s := range m.now {
		if e := m.entries[h]; s == state && e.Switch != "report" {
			fits = append(fits, h)
		}
	}
	slices.Sort(fits)
	m.r.Shuffle(len(fits), func(i, j int) { fits[i], fits[j] = fits[j], fits[i] })
	return fits[:min(len(fits), 1+m.r.IntN(4))]
}

// daemons run what stands in the tables of others.
var daemons = map[string]string{"linux.cron.system": "cron.service", "linux.cron.user": "cron.service",
	"linux.network-hooks": "NetworkManager.service"}

// bound are entries whose state follows from that of another: the jobs of at from
// the daemon that runs them, a table from its daemon's unit, a service from its socket's or timer's link, and a
// second name from the first.
func (m *model) bound(handle string, by []string) bool {
	e := m.entries[handle]
	if e.Location == "macos.at" {
		return true
	}
	for _, h := range by {
		o := m.entries[h]
		if o.Name == daemons[e.Location] {
			return true
		}
		if strings.HasPrefix(e.Location, "linux.systemd.") && o.Location == e.Location {
			return true
		}
		if class := e.Source.Key; strings.HasPrefix(class, "{") && class == o.Source.Key &&
			o.Location == "windows.shell-extensions" {
			return true // the plan tells that the class is blocked everywhere
		}
		if e.Source.Path == o.Source.Path && e.User == o.User && e.Location == o.Location {
			return true
		}
	}
	return false
}

// only wants nothing but the chosen to have changed.
func (m *model) only(after states, chosen []string) {
	for h, was := range m.now {
		if is, there := after[h]; there && is != was && !slices.Contains(chosen, h) && !m.bound(h, chosen) {
			require.Fail(m.t, "something else changed", "%s %s: %s, %v", h, m.entries[h].Name, is, m.done)
		}
	}
}

func (m *model) step() {
	switch n := m.r.IntN(16); {
	case n == 14:
		m.add()
	case n == 15:
		m.delay()
	case n == 10:
		m.looksOnly("check")
	case n == 11:
		m.looksOnly("keep")
	case n == 12:
		chosen := m.choose("disabled")
		if len(chosen) == 0 {
			return
		}
		if _, ok := m.run(append([]string{"remove", "--now", "-m", "drawn", "--guarded"}, chosen...)...); !ok {
			return
		}
		after := m.look()
		m.only(after, nil) // what was removed stays in the list, disabled
		m.before, m.now = append(m.before, m.now), after
	case n == 13:
		m.search()
	case n < 5:
		state, verb := "enabled", "disable"
		if n >= 3 {
			state, verb = "disabled", "enable"
		}
		chosen := m.choose(state)
		if len(chosen) == 0 {
			return
		}
		args := append([]string{verb}, chosen...)
		if verb == "disable" {
			args = append(args, "--guarded")
		}
		if _, ok := m.run(args...); !ok {
			return
		}
		after := m.look()
		chosen = slices.DeleteFunc(chosen, func(h string) bool { return slices.Contains(m.left, h) })
		for _, h := range chosen {
			require.NotEqual(m.t, state, after[h], "%s %s: %v", h, m.entries[h].Name, m.done)
		}
		m.only(after, chosen)
		m.before, m.now = append(m.before, m.now), after
	case n < 7 && len(m.before) > 0:
		if _, ok := m.run("undo"); !ok {
			return
		}
		after := m.look()
		require.Equal(m.t, m.before[len(m.before)-1], after, "%v", m.done)
		m.before, m.now = m.before[:len(m.before)-1], after
	case len(m.snapshots) > 0:
		var names []string
		for name := range m.snapshots {
			names = append(names, name)
		}
		slices.Sort(names)
		name := names[m.r.IntN(len(names))]
		if n == 9 {
			handles := m.choose([]string{"enabled", "disabled"}[m.r.IntN(2)])
			if len(handles) == 0 || m.snapshots[name][handles[0]] == "" {
				return
			}
			if _, ok := m.run("restore", name, "--only", handles[0]); !ok {
				return
			}
			after := m.look()
			require.Equal(m.t, m.snapshots[name][handles[0]], after[handles[0]], "%v", m.done)
			m.only(after, handles[:1])
			m.before, m.now = append(m.before, m.now), after
			return
		}
		_, ok := m.run("restore", name)
		compared := m.p.Run(m.t, "compare", name)
		require.Zero(m.t, compared.Code, "%v: %s", m.done, compared.Out)
		if m.exact && ok {
			require.Empty(m.t, testkit.Differences(m.pictures[name], testkit.Tree(m.t, m.p.Root)), "%s: %v", name,
				m.done)
		}
		if !ok {
			return
		}
		after := m.look()
		require.Equal(m.t, m.snapshots[name], after, "%v", m.done)
		m.before, m.now = append(m.before, m.now), after
	}
}

// add makes an entry of a name that is drawn; everything else stays.
func (m *model) add() {
	program := map[string]string{"workshop-box": "/opt/kelpline/bin/updater",
		"ticket-desk-pc": `C:\Program Files\Tidewatch\report.exe`,
		"archive-mac":    "/Users/mirela/Applications/Kelpline Assistant.app/Contents/MacOS/Kelpline Assistant"}
	if _, ok := m.run("add", "--name", fmt.Sprintf("Drawn %d", m.r.IntN(4)), "--at", "sign-in", "--yes", "--",
		program[filepath.Base(m.p.Root)]); !ok {
		return // there is one of that name
	}
	after := m.look()
	m.only(after, nil)
	require.Greater(m.t, len(after), len(m.now), "%v", m.done)
	m.before, m.now = append(m.before, m.now), after
}

// delay has an entry start later; where another one starts it instead, that is new.
func (m *model) delay() {
	chosen := m.choose("enabled")
	if len(chosen) == 0 {
		return
	}
	if _, ok := m.run("delay", chosen[0], "30s"); !ok {
		return
	}
	after := m.look()
	m.only(after, chosen[:1])
	if after[chosen[0]] != "enabled" {
		require.Greater(m.t, len(after), len(m.now), "%v", m.done)
	}
	m.before, m.now = append(m.before, m.now), after
}

// looksOnly runs a command that writes to the record at most.
func (m *model) looksOnly(args ...string) {
	if len(m.snapshots) == 0 {
		return // there is no record yet
	}
	m.done = append(m.done, strings.Join(args, " "))
	r := m.p.Run(m.t, args...)
	require.Contains(m.t, []int{0, 2, 3}, r.Code, "%v: %s", m.done, r.Err)
	require.Equal(m.t, m.now, m.look(), "%v", m.done)
}

// search is a search for a culprit with answers that are drawn. At the end, or where it is given up, all is as before
// but what was found.
func (m *model) search() {
	state := []string{"enabled", "disabled"}[m.r.IntN(2)]
	chosen := m.choose(state)
	if state == "disabled" { // only what a change turned off is searched
		chosen = nil
	}
	was := m.now
	round := func(args ...string) bool {
		before := m.now
		snapshot, ok := m.run(args...)
		after := m.look()
		if !ok && len(m.left) == 0 && maps.Equal(before, after) {
			return false
		}
		if snapshot != "" || !maps.Equal(before, after) {
			m.before, m.now = append(m.before, before), after
		}
		return true
	}
	begun := m.p.Run(m.t, append([]string{"culprit", "start", "--dry-run", "--guarded"}, chosen...)...)
	if begun.Code != 0 {
		return // nothing to search among, or what is protected is in it
	}
	if !round(append([]string{"culprit", "start", "--guarded"}, chosen...)...) {
		m.p.Run(m.t, "culprit", "stop", "--yes")
		return
	}
	for k := m.r.IntN(6); k > 0; k-- {
		answer := []string{"works", "broken", "skip"}[m.r.IntN(3)]
		args := []string{"culprit", answer}
		if answer != "skip" {
			args = append(args, "--anyway")
		}
		if m.p.Run(m.t, "culprit").Code != 0 {
			break
		}
		round(args...)
	}
	ended := m.p.Run(m.t, "culprit").Code != 0
	if !ended {
		m.done = append(m.done, "culprit stop")
		r := m.p.Run(m.t, "culprit", "stop", "--yes")
		require.Zero(m.t, r.Code, "%v: %s", m.done, r.Err)
		after := m.look()
		require.Equal(m.t, was, after, "%v", m.done)
		if !maps.Equal(m.now, after) {
			m.before, m.now = append(m.before, m.now), after
		}
	}
}

// TestSequences does what a technician does, in an order that is drawn: off and on,
// one thing taken back, an older state restored, one entry of it; and knows after
// each step how the machine must be.
func TestSequences(t *testing.T) {
	t.Parallel()
	for _, machine := range []string{"workshop-box", "ticket-desk-pc", "archive-mac"} {
		for _, seed := range draw.Seeds(t, 4) {
			t.Run(fmt.Sprintf("%s/%d", machine, seed), func(t *testing.T) {
				t.Parallel()
				m := newModel(t, machine, seed)
				for range 20 {
					m.step()
				}
				require.Greater(t, len(m.done), 8)
			})
		}
	}
}

// withYes answers the question, before what is handed to a program.
func withYes(args []string) []string {
	if slices.Contains(args, "--yes") {
		return args
	}
	return append(args, "--yes")
}
