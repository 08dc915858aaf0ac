package unitfile_test

import (
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"

	"lockback/core/format/unitfile"
)

// Arguments are read again as they were written; systemd itself takes $$ and %% for one.
func FuzzJoinCommand(f *testing.F) {
	f.Add("/opt/tide/board\n--full\nit \"is\" $5 100%\nback\\slash\n\n`id`\n'q'\n;")
	f.Fuzz(func(t *testing.T, text string) {
		argv := strings.Split(strings.ToValidUTF8(text, "?"), "\n")
		if strings.ContainsFunc(strings.ReplaceAll(text, "\n", ""), unicode.IsControl) ||
			!strings.HasPrefix(text, "/") {
			return
		}
		content := unitfile.New([][2]string{{"[Service]", ""}, {"ExecStart", unitfile.JoinCommand(argv)}})
		back := unitfile.SplitCommand(unitfile.Parse(content).Last("Service", "ExecStart"))
		for k := range back {
			back[k] = strings.NewReplacer("$$", "$", "%%", "%").Replace(back[k])
		}
		require.Equal(t, argv, back, "%s", content)
	})
}
