package windows

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine/account"
)

func TestNames(t *testing.T) {
	t.Parallel()
	for word, want := range map[string]string{
		`C:\ProgramData\tuner\tuner.exe /shell`: "tuner.exe", `"C:\a b\c d.exe" -x`: "c d.exe", `C:\a b\c d`: "c d",
		`autocheck autochk *`: "autocheck", `tide \??\C:\x`: "tide", "scecli": "scecli", `C:\`: `C:\`, "": "",
	} {
		require.Equal(t, want, shortName(word), word)
	}
	require.Equal(t, "1 d 2 h", interval("P1DT2H"))
	require.Equal(t, "forever", interval("forever"))
}

// A person's data may lie outside of their home, at a shorter path even.
func TestBelowHome(t *testing.T) {
	t.Parallel()
	u := &account.User{Home: `C:\Users\ines`}
	for path, want := range map[string]string{`C:\Users\ines\AppData`: `\AppData`, `c:\users\INES`: "", `C:\D`: `C:\D`,
		`C:\Other\Place\of\hers`: `C:\Other\Place\of\hers`} {
		require.Equal(t, want, belowHome(u, path))
	}
}

func FuzzNames(f *testing.F) {
	f.Add(`explorer.exe, "a b".exe`)
	f.Fuzz(func(t *testing.T, text string) {
		startsProgram(text)
		shortName(text)
	})
}
