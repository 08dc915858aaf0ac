package dnfstate_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/dnfstate"
)

const groups = "version = \"1.0\"\n[groups]\n[groups.core]\npackage_types = [\"mandatory\"]\npackages = [\n\"bash\",\n" +
	"\"rpm\",\n]\nuserinstalled = true\n[groups.\"desk-top\"]\npackages = [\"office\", 'gauge']\n[other.core]\n" +
	"packages = [\"game\"]\n[groups.odd]\npackages = \"none\"\n[groups.open]\npackages = [\"last\""

func TestLists(t *testing.T) {
	require.Equal(t, map[string][]string{"core": {"bash", "rpm"}, "desk-top": {"office", "gauge"}, "open": {"last"}},
		dnfstate.Lists(groups, "groups", "packages"))
	require.Empty(t, dnfstate.Lists("packages = [\"bash\"]\n", "groups", "packages"), "of no table")
}

func FuzzLists(f *testing.F) {
	f.Add(groups)
	f.Add("[groups.a]\npackages = " + strings.Repeat("[", 100))
	f.Fuzz(func(t *testing.T, content string) {
		for _, list := range dnfstate.Lists(content, "groups", "packages") {
			require.NotContains(t, list, "")
		}
	})
}
