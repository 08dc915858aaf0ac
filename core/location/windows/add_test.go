package windows_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/location/windows"
)

// Arguments are taken apart again as they were put together; the examples are those of "Parsing C command-line
// arguments".
func FuzzCommandLine(f *testing.F) {
	for line, want := range map[string][]string{`"a b c" d e`: {"a b c", "d", "e"}, `"ab\"c" "\\" d`: {`ab"c`, `\`,
		"d"}, `a\\\b d"e f"g h`: {`a\\\b`, "de fg", "h"}, `a\\\"b c d`: {`a\"b`, "c", "d"}, `a\\\\"b c" d e`: {`a\\b c`,
		"d", "e"}} {
		require.Equal(f, want, windows.Arguments(line), line)
	}
	f.Add("C:\\Program Files\\Tide\\board.exe\n--full\nit \"is\"\nend\\\n\na\\\\\"b")
	f.Fuzz(func(t *testing.T, text string) {
		argv := strings.Split(text, "\n")
		require.Equal(t, argv, windows.Arguments(windows.CommandLine(argv)))
	})
}
