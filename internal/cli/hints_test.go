package cli_test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hint is a command that a sentence suggests, with the words behind it that can belong to it.
var hint = regexp.MustCompile(`\blockback ((?:--(?:root|store|this-is) \S+ )*)([a-z]+)((?: ` +
	`(?:[SC]\d+|[a-z2-7]{7}|--?[a-z-]+))*)`)

// Whatever a command suggests works on the machine that it was said of: with the same disk and the same record.
func TestHintsAreWhole(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"workshop-box", "ticket-desk-pc", "archive-mac"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			p := museum(t, kind)
			p.Env = []string{"COLUMNS=100000"} // no command is broken between lines
			known := map[string]bool{}
			for line := range strings.Lines(p.OK(t, "--help")) {
				known[strings.SplitN(strings.TrimSpace(line), " ", 2)[0]] = true
			}
			all := map[string]bool{}
			say := func(args ...string) {
				r := p.Run(t, args...)
				for _, found := range hint.FindAllStringSubmatch(r.Out+r.Err, -1) {
					options, command, words := found[1], found[2], found[3]
					if !known[command] || command == "help" {
						continue // of prose: "lockback opens nothing"
					}
					assert.Equal(t, "--root "+p.Root+" --store "+p.Store+" ", options, "%v: %q", args, found[0])
					all[command+words] = true
				}
			}
			say("list")
			say("list", "--brief")
			say("list", "nothing-of-this-name")
			say("undo")
			say("keep")
			say("show", "C99")
			say("restore", "S9")
			say("culprit", "works")
			say("snapshot")
			say("disable", "*", "--yes", "--trial", "1d")
			say("check")
			say("history")
			say("culprit", "start", "C1", "--yes")
			say("culprit")
			say("undo")
			say("restore", "S1", "--dry-run")
			say("culprit", "stop", "--yes")
			say("review", "--plain")
			say("suggest")
			say("remove", "*", "--yes")
			say("note", "*", "--remove")
			say("undo", "C1", "--yes")
			say("compare", "S1")
			require.Greater(t, len(all), 10)
			for words := range all {
				args := strings.Fields(words)
				switch {
				case args[0] == "list" || args[0] == "show" && len(args) > 1 || args[0] == "check" ||
					args[0] == "history" ||
					args[0] == "locations" || args[0] == "figures":
					require.NotEqual(t, 1, p.Run(t, args...).Code, words)
					require.NotEqual(t, 2, p.Run(t, args...).Code, words)
				default:
					p.OK(t, append(args, "--help")...)
				}
			}
		})
	}
}
