//go:build unix

package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/crontab"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// randomTable makes a crontab of lines drawn by lot, with all that may stand
// between jobs.
func randomTable(r *rand.Rand) string {
	var b strings.Builder
	for k := range 1 + r.IntN(9) {
		switch r.IntN(7) {
		case 0:
			b.WriteString("# a note\n")
		case 1:
			b.WriteString("\n")
		case 2:
			fmt.Fprintf(&b, "NAME_%d = \"value %d\"\n", k, k)
		default:
			// Some stand twice, to the letter.
			fmt.Fprintf(&b, "%s%d\t%d * * *  root  /opt/tide/job-%d --x 100\\%%\n", strings.Repeat(" ", r.IntN(3)),
				r.IntN(3), r.IntN(2), r.IntN(4))
		}
	}
	return b.String() + "@hourly root /opt/tide/last\n"
}

// In tables drawn by lot, lines are turned off and on by lot: only those lines
// change, a restore is exact, and lines that came since survive it.
func TestLinesDrawnByLot(t *testing.T) {
	t.Parallel()
	for _, seed := range draw.Seeds(t, 25) {
		r := rand.New(rand.NewPCG(seed, 1889))
		p := workshop(t)
		require.NoError(t, os.RemoveAll(filepath.Join(p.Root, "etc/crontab")))
		file := filepath.Join(p.Root, "etc/cron.d/kelpline")
		original := randomTable(r)
		require.NoError(t, os.WriteFile(file, []byte(original), 0o644))
		before := testkit.Tree(t, p.Root)
		p.OK(t, "snapshot")
		all, _ := p.List(t, "source=/etc/cron.d/kelpline", "location=linux.cron.*")
		off := map[int]bool{}
		for range 3 {
			e := all.Entries[r.IntN(len(all.Entries))]
			verb := "disable"
			if off[e.Source.Line] {
				verb = "enable"
			}
			p.OK(t, verb, e.Handle, "--yes")
			off[e.Source.Line] = verb == "disable"
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			want := strings.SplitAfter(original, "\n")
			for line, isOff := range off {
				if isOff {
					want[line-1] = crontab.OffMark + want[line-1]
				}
			}
			require.Equal(t, strings.Join(want, ""), string(content), "seed %d", seed)
		}
		// A line comes, the restore brings the rest back and keeps it.
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append([]byte("@daily root /opt/newcomer\n"), content...), 0o644))
		p.OK(t, "restore", "S1", "--yes")
		content, err = os.ReadFile(file)
		require.NoError(t, err)
		if string(content) != "@daily root /opt/newcomer\n"+original { // nothing was off any more
			require.Equal(t, original+"@daily root /opt/newcomer\n", string(content), "seed %d", seed)
		}
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(content), "@daily root /opt/newcomer\n", "",
			1)), 0o644))
		p.OK(t, "restore", "S1", "--yes")
		require.Empty(t, testkit.Differences(before, testkit.Tree(t, p.Root)), "seed %d", seed)
	}
}
