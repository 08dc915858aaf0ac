//go:build unix

package macos_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/internal/testkit/draw"
)

// drawnJob is a job of a Mac that was drawn by lot.
type drawnJob struct {
	folder, file, label string
	disabled, noProgram bool
	open                bool // others may write to it
	broken              bool
}

// drawnMac is such a Mac: what stands on its disk, in the words of its rules.
type drawnMac struct {
	release string
	jobs    []drawnJob
	off     map[string]map[string]bool // launchd's databases, by the person's name
	allowed map[string]bool            // what System Settings say about a job's file, for everyone
}

var jobFolders = []string{"/System/Library/LaunchDaemons", "/Library/Apple/System/Library/LaunchDaemons",
	"/Library/LaunchDaemons",
	"/System/Library/LaunchAgents", "/Library/Apple/System/Library/LaunchAgents", "/Library/LaunchAgents",
	home + "/Library/LaunchAgents"}

func drawMac(r *rand.Rand) drawnMac {
	m := drawnMac{release: []string{"10.9.5", "10.15.7", "14.1"}[r.IntN(3)], off: map[string]map[string]bool{"": {},
		"ines": {}}, allowed: map[string]bool{}}
	label := func() string { return fmt.Sprintf("org.gullrock.%c", 'a'+r.IntN(12)) }
	for k := range 4 + r.IntN(24) {
		j := drawnJob{folder: jobFolders[r.IntN(len(jobFolders))], file: fmt.Sprintf("%02d.plist", k), label: label(),
			disabled: r.IntN(4) == 0, noProgram: r.IntN(12) == 0, open: r.IntN(10) == 0 && os.Geteuid() == 0,
			broken: r.IntN(12) == 0}
		if r.IntN(12) == 0 {
			j.label = ""
		}
		if m.jobs = append(m.jobs, j); m.release == "14.1" && r.IntN(3) == 0 {
			m.allowed[path.Join(j.folder, j.file)] = r.IntN(2) == 0
		}
	}
	for range r.IntN(10) {
		m.off[[]string{"", "ines"}[r.IntN(2)]][label()] = r.IntN(2) == 0
	}
	return m
}

// build writes the machine down.
func (m drawnMac) build(t *testing.T, r *rand.Rand) string {
	files := dict{}
	for _, j := range m.jobs {
		root := dict{"Label": j.label, "Program": "/tide", "RunAtLoad": true}
		if j.label == "" {
			delete(root, "Label")
		}
		if j.noProgram {
			delete(root, "Program")
		}
		if j.disabled {
			root["Disabled"] = true
		}
		content := any(root)
		switch {
		case j.broken:
			content = "<plist><dict><key>Label"
		case r.IntN(2) == 0:
			content = binaryForm{root}
		}
		mode := os.FileMode(0o644)
		if j.open {
			mode = 0o664
		}
		files[path.Join(j.folder, j.file)] = in{mode, content}
	}
	for who, off := range m.off {
		root := dict{}
		name := map[string]string{"": "/private/var/db/com.apple.xpc.launchd/disabled.plist",
			"ines": "/private/var/db/com.apple.xpc.launchd/disabled.501.plist"}[who]
		for label, is := range off {
			root[label] = is
			if m.release == "10.9.5" {
				root[label] = dict{"Disabled": is}
			}
		}
		if m.release == "10.9.5" {
			name = map[string]string{"": "/private/var/db/launchd.db/com.apple.launchd/overrides.plist",
				"ines": "/private/var/db/launchd.db/com.apple.launchd.peruser.501/overrides.plist"}[who]
		}
		files[name] = root
	}
	if m.release == "14.1" {
		people := dict{}
		for _, id := range []string{"FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE", "0D1F5A17-ABCD-4001-8314-000000000501"} {
			items := list{}
			for file, yes := range m.allowed {
				items = append(items, dict{"type": uint64(0x10018), "disposition": map[bool]uint64{true: 0xb,
					false: 0x9}[yes], "url": "file://" + file})
			}
			people[id] = items
		}
		files["/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v11.btm"] = binaryForm{
			records(people)}
	}
	return smallMac(t, m.release, files)
}

// expected is what launchd's rules make of it, by file and person.
func (m drawnMac) expected() map[string]string {
	want := map[string]string{}
	for _, who := range []string{"", "ines"} {
		taken := map[string]bool{}
		for n, folder := range jobFolders { // in the order in which they are loaded
			if agents := n >= 3; agents != (who != "") {
				continue
			}
			for _, j := range m.jobs { // by name
				if j.folder != folder {
					continue
				}
				file := path.Join(folder, j.file)
				off, said := m.off[who][j.label]
				yes, listed := m.allowed[file]
				state := "enabled"
				switch {
				case j.broken:
					state = "enabled" // launchd may read it all the same
				case j.label == "" || j.noProgram || j.open || taken[j.label]:
					state = "ignored"
				case listed && !yes:
					state = "refused"
				case said && off, !said && j.disabled:
					state = "disabled"
				}
				if !j.broken && state == "enabled" || state == "refused" || state == "disabled" && said {
					taken[j.label] = true // one that is off by its own file leaves the label to the next
				}
				want[file+" "+who] = state
			}
		}
	}
	return want
}

// Macs drawn by lot: which of their jobs start, for whom, as launchd's rules say
// in other words than the readers do.
func TestRandomMacs(t *testing.T) {
	t.Parallel()
	counts := map[string]int{}
	seeds := draw.Seeds(t, 60)
	for k, seed := range seeds {
		r := rand.New(rand.NewPCG(seed, 314))
		drawn := drawMac(r)
		root := drawn.build(t, r)
		m, err := machine.Open(root)
		require.NoError(t, err)
		inv := inventory.Take(m, nil)
		m.Close()
		require.Empty(t, inv.Unread, seed)
		got := map[string]string{}
		for _, i := range inv.Items {
			state := string(i.State)
			switch {
			case len(i.Problems) > 0 && strings.HasPrefix(i.Mode, "ignored:"):
				state = "ignored"
			case i.Mode == "turned off in System Settings":
				state = "refused"
			}
			got[i.Source.Path+" "+i.User] = state
			counts[state]++
		}
		require.Equal(t, drawn.expected(), got, "seed %d, macOS %s", seed, drawn.release)
		if k%12 == 0 {
			comeAndGo(t, root)
		}
	}
	for _, state := range []string{"enabled", "disabled", "ignored", "refused"} {
		if draw.Long() { // a tenth of them may have few of a kind by chance
			require.Greater(t, counts[state], len(seeds)/6, "%s: %v", state, counts)
		}
	}
}

// What an edit of launchd's database leaves behind is read again by the same
// rules: each job in turn is switched, and nothing else.
func TestSwitchingRandomMacs(t *testing.T) {
	t.Parallel()
	for _, seed := range draw.Seeds(t, 3) {
		r := rand.New(rand.NewPCG(seed, 2718))
		drawn := drawMac(r)
		root := drawn.build(t, r)
		db := path.Join(root, "private/var/db/com.apple.xpc.launchd/disabled.plist")
		if drawn.release == "10.9.5" {
			db = path.Join(root, "private/var/db/launchd.db/com.apple.launchd/overrides.plist")
		}
		content, err := os.ReadFile(db)
		require.NoError(t, err)
		doc, err := plist.Parse(content)
		require.NoError(t, err)
		for _, label := range []string{"org.gullrock.a", "org.gullrock.b", "org.gullrock.c"} {
			drawn.off[""][label] = true
			at := []string{label}
			if drawn.release == "10.9.5" {
				at = append(at, "Disabled")
			}
			require.NoError(t, doc.Set(true, at...))
			content, err := doc.Bytes()
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(db, content, 0o644))
			m, err := machine.Open(root)
			require.NoError(t, err)
			off := map[string]bool{}
			for _, i := range inventory.Take(m, nil).Items {
				off[i.Source.Path+" "+i.User] = i.State == "disabled"
			}
			m.Close()
			for file, state := range drawn.expected() {
				require.Equal(t, state != "enabled", off[file], "%s: %s", file, state)
			}
		}
	}
}
