package desktopentry_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/desktopentry"
)

const sample = "# kept\r\n[Desktop Entry]\r\nType=Application\r\nName = Fogbell\\sSync " +
	"\r\nName[de]=Nebel\r\nExec=/opt/fogbell/sync --tray\r\nOnlyShowIn=GNOME;KDE;\r\n\r\n[Desktop Action New]\r\nExec=/opt/other\r\nHidden=true\r\n"

func TestReadAndEditKeepsEverythingElse(t *testing.T) {
	f, err := desktopentry.Parse([]byte(sample))
	require.NoError(t, err)
	require.Equal(t, sample, string(f.Bytes()))
	name, ok := f.Get("Name")
	require.True(t, ok)
	require.Equal(t, "Fogbell Sync", name)
	require.False(t, f.Bool("Hidden")) // that of the action is not ours
	require.Equal(t, 6, f.Line("Exec"))

	f.Set("Hidden", "true")
	require.True(t, f.Bool("Hidden"))
	want := "OnlyShowIn=GNOME;KDE;\r\nHidden=true\r\n\r\n[Desktop Action New]"
	require.Contains(t, string(f.Bytes()), want)
	require.Len(t, f.Bytes(), len(sample)+len("Hidden=true\r\n"))
	f.Set("Hidden", "false")
	again, err := desktopentry.Parse(f.Bytes())
	require.NoError(t, err)
	v, _ := again.Get("Hidden")
	require.Equal(t, "false", v)
}

func TestOddFiles(t *testing.T) {
	for name, c := range map[string]struct{ in, after string }{
		"no line end":   {"[Desktop Entry]\nExec=x", "[Desktop Entry]\nExec=x\nHidden=true\n"},
		"only a header": {"[Desktop Entry]", "[Desktop Entry]\nHidden=true\n"},
		"the last one counts": {"[Desktop Entry]\nHidden=false\nHidden=false\n",
			"[Desktop Entry]\nHidden=false\nHidden=true\n"},
		"a second main group": {"[Desktop Entry]\nA=1\n[Desktop Entry]\nHidden=1\n",
			"[Desktop Entry]\nA=1\nHidden=true\n[Desktop Entry]\nHidden=1\n"},
		"blank value": {"[Desktop Entry]\nHidden=\nA=1\n", "[Desktop Entry]\nHidden=true\nA=1\n"},
	} {
		f, err := desktopentry.Parse([]byte(c.in))
		require.NoError(t, err, name)
		f.Set("Hidden", "true")
		require.Equal(t, c.after, string(f.Bytes()), name)
	}
	for _, none := range []string{"", "\x00", "Exec=x\n", "[desktop entry]\n", "\ufeff[Desktop Entry]\n"} {
		_, err := desktopentry.Parse([]byte(none))
		require.ErrorIs(t, err, desktopentry.ErrNoGroup, "%q", none)
	}
}

func TestSplitExec(t *testing.T) {
	for exec, want := range map[string][]string{
		`/opt/fogbell/sync --tray %U`:             {"/opt/fogbell/sync", "--tray"},
		`"/opt/Fog Bell/run" "a \"b\" \$c" 100%%`: {"/opt/Fog Bell/run", `a "b" $c`, "100%"},
		`env A=1   sh -c "exit 0"`:                {"env", "A=1", "sh", "-c", "exit 0"},
		`"open quote`:                             {"open quote"},
		"":                                        nil,
		`""`:                                      {""},
	} {
		require.Equal(t, want, desktopentry.SplitExec(exec), exec)
	}
}

// The real entries of this machine, where it has any, survive reading.
func TestEntriesOfThisMachine(t *testing.T) {
	files, _ := filepath.Glob("/usr/share/applications/*.desktop")
	for _, file := range files {
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		if f, err := desktopentry.Parse(content); err == nil {
			require.True(t, bytes.Equal(content, f.Bytes()), file)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample), "Hidden", "true")
	f.Add([]byte("[Desktop Entry]\nHidden"), "Hidden", "")
	f.Fuzz(func(t *testing.T, content []byte, key, value string) {
		d, err := desktopentry.Parse(content)
		if err != nil {
			return
		}
		require.True(t, bytes.Equal(content, d.Bytes()))
		desktopentry.SplitExec(string(content))
		d.Set("Hidden", "true")
		again, err := desktopentry.Parse(d.Bytes())
		require.NoError(t, err)
		require.True(t, again.Bool("Hidden"))
		again.Set("Hidden", "true")
		require.True(t, bytes.Equal(d.Bytes(), again.Bytes()))
	})
}
