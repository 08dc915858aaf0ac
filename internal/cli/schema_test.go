//go:build unix

package cli_test

import (
	"encoding/csv"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"lockback/internal/page"
	"lockback/internal/testkit"
)

// What every command prints is what docs/schema promises.
func TestOutputIsAsPublished(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	seen := map[string]bool{}
	holds := func(schema string, code int, args ...string) {
		t.Helper()
		seen[schema] = true
		published(t, p, schema, code, args...)
	}
	holds("list", 0, "list", "--all")
	holds("list", 0, "list", "state=disabled")
	holds("show", 0, "show", "Fogbell Sync")
	holds("locations", 0, "locations")
	holds("products", 0, "products")
	holds("products", 0, "products", "state=disabled")
	holds("snapshot", 0, "snapshot")
	holds("change", 0, "disable", "kelpline*", "--dry-run")
	holds("change", 0, "disable", "kelpline*", "--yes")
	holds("compare", 3, "compare", "S1")
	holds("history-change", 0, "history", "C1")
	holds("history-snapshot", 0, "history", "S1")
	holds("change", 0, "enable", "kelpline-updater.timer", "--yes")
	holds("change", 0, "restore", "S1", "--yes")
	holds("compare", 0, "compare", "S1", "S2")
	holds("change", 0, "undo", "C3", "--yes")
	holds("history", 0, "history")
	holds("list", 0, "list")
	holds("figures", 0, "figures", "S1")
	holds("catalogue", 0, "catalogue", "show", "telemetry")
	wrong := filepath.Join(t.TempDir(), "ours.yaml")
	require.NoError(t, os.WriteFile(wrong, []byte("format: 1\nentries:\n  - id: a\n"), 0o600))
	holds("catalogue-check", 1, "catalogue", "check", wrong)
	holds("note", 0, "note", "Fogbell Sync", "--verdict", "spare", "-m", "nobody scans")
	holds("note", 0, "note", "tidewatch.service", "--machine", "-m", "ask Ines")
	holds("note", 0, "note", "Fogbell*")
	holds("note", 0, "note")
	holds("list", 0, "list", "Fogbell")
	holds("show", 0, "show", "Fogbell Sync")
	holds("lookup", 0, "show", "--elsewhere", "Fogbell Sync", "tidewatch.service")
	holds("review", 0, "review")
	holds("suggest", 0, "suggest")
	ours := filepath.Join(t.TempDir(), "ours.yaml")
	p.OK(t, "catalogue", "export", ours, "--yes")
	holds("catalogue-import", 0, "catalogue", "import", ours, "--yes")
	holds("catalogue-list", 0, "catalogue", "list")
	holds("catalogue", 0, "catalogue", "show", "nobody")
	_, killed := crash(t, p, 4, "disable", "tidewatch.service", "--yes")
	require.True(t, killed)
	holds("recover", 0, "recover", "--yes")
	p.OK(t, "disable", "Fogbell*", "Tide Chart", "--yes")
	p.OK(t, "culprit", "start", "--yes")

	holds("check", 0, "check")
	holds("culprit", 0, "culprit")
	p.OK(t, "culprit", "stop", "--yes")
	require.NoError(t, os.Remove(filepath.Join(p.Root, "opt/tidewatch/bin/route")))
	holds("check", 3, "check", "S1")
	holds("keep", 0, "keep", "--dry-run")
	holds("change", 0, "remove", "brinecast.service", "--yes")

	holds("record-verify", 0, "record", "verify")
	holds("config", 0, "config", "show")

	// Every document that a command prints has its schema, and was held to it here.
	require.ElementsMatch(t, slices.Collect(maps.Keys(page.Documents())), slices.Collect(maps.Keys(seen)))
}

// The same machine gives the same bytes, whenever and as often as it is asked.
func TestOutputDoesNotDependOnChance(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	for _, args := range [][]string{{"list", "--all"}, {"list", "--all", "--format", "json"}, {"locations"},
		{"list", "--format", "csv"}} {
		first := p.OK(t, args...)
		for range 5 {
			require.Equal(t, first, p.OK(t, args...))
		}
	}
}

// published wants what a command prints to be what docs/schema promises.
func published(t *testing.T, p testkit.Program, schema string, code int, args ...string) {
	t.Helper()
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	compiled, err := compiler.Compile(filepath.Join(testkit.Project(), "docs/schema", schema+".schema.json"))
	require.NoError(t, err)
	r := p.Run(t, append(args, "--format", "json")...)
	require.Equal(t, code, r.Code, r.Err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(r.Out))
	require.NoError(t, err, r.Out)
	require.NoError(t, compiled.Validate(value), "%v: %s", args, r.Out)
	// The same as a sheet: every row has as many cells as the header.
	r = p.Run(t, append(args, "--format", "csv")...)
	require.Contains(t, []int{code, 2, 5}, r.Code, r.Err)
	if r.Out != "" {
		_, err = csv.NewReader(strings.NewReader(r.Out)).ReadAll()
		require.NoError(t, err, r.Out)
	}
}

// The same for machines of the other systems.
func TestOutputOfOtherSystemsIsAsPublished(t *testing.T) {
	t.Parallel()
	for _, row := range []struct{ machine, show, disable, only string }{
		{"ticket-desk-pc", "tuner.exe", "Kelpline*", "tuner.exe"}, {"archive-mac", "org.kelpline.telemetry",
			"org.brinecast*", "org.brinecast.helper"},
	} {
		p := museum(t, row.machine)
		published(t, p, "list", 0, "list", "--all")
		published(t, p, "show", 0, "show", row.show)
		published(t, p, "locations", 0, "locations")
		published(t, p, "snapshot", 0, "snapshot")
		published(t, p, "change", 0, "disable", row.disable, "--dry-run")
		published(t, p, "change", 0, "disable", row.disable, row.only, "--yes")
		published(t, p, "compare", 3, "compare", "S1")
		published(t, p, "history-change", 0, "history", "C1")
		published(t, p, "history-snapshot", 0, "history", "S1")
		published(t, p, "change", 0, "restore", "S1", "--only", row.only, "--yes")
		published(t, p, "change", 0, "undo", "--yes")
		published(t, p, "change", 0, "restore", "S1", "--yes")
		published(t, p, "history", 0, "history")
	}
}
