package desktopentry_test

import (
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"

	"lockback/core/format/desktopentry"
)

// Arguments are read again as they were written, through the escapes of the file too.
func FuzzJoinExec(f *testing.F) {
	f.Add("/opt/tide/board\n--full\nit \"is\" $5 100%\nback\\slash\n\n`id`\n'q'\n~#")
	f.Fuzz(func(t *testing.T, text string) {
		argv := strings.Split(strings.ToValidUTF8(text, "?"), "\n")
		if strings.ContainsFunc(strings.ReplaceAll(text, "\n", ""), unicode.IsControl) || argv[0] == "" {
			return
		}
		content := desktopentry.New([][2]string{{"Type", "Application"}, {"Exec", desktopentry.JoinExec(argv)}})
		file, err := desktopentry.Parse(content)
		require.NoError(t, err)
		value, _ := file.Get("Exec")
		require.Equal(t, argv, desktopentry.SplitExec(value), "%s", content)
	})
}
