package authenticode_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/authenticode"
)

// A script is taken apart at its signature's block: what stands before it is what was signed, as UTF-16.
func TestScript(t *testing.T) {
	const begin, end = "# SIG # Begin signature block\r\n", "# SIG # End signature block\r\n"
	block := begin + "# dGlk\r\n# ZQ==\r\n" + end
	signed, message, err := authenticode.Script([]byte("ebb\r\n" + block))
	require.NoError(t, err)
	require.Equal(t, "tide", string(message))
	require.Equal(t, "e\x00b\x00b\x00", string(signed))

	wide := []byte{0xff, 0xfe}
	for _, c := range []byte("ebb\r\n" + block) {
		wide = append(wide, c, 0)
	}
	signed, message, err = authenticode.Script(wide)
	require.NoError(t, err)
	require.Equal(t, "tide", string(message))
	require.Equal(t, "\xff\xfee\x00b\x00b\x00", string(signed), "in UTF-16 it is signed as it stands, its mark included")

	for text, words := range map[string]string{
		"ebb\r\n": "it is not signed", "ebb " + block: "it is not signed", "ebb\r\n" + begin + "# dGlk\r\n": "cut off",
		"ebb\r\n" + block + "more":            "added behind",
		"ebb\r\n" + begin + "# ***\r\n" + end: "damaged", "\xff\r\n" + block: "which encoding",
	} {
		_, _, err := authenticode.Script([]byte(text))
		require.ErrorContains(t, err, words)
	}
	_, _, err = authenticode.Script(nil)
	require.ErrorIs(t, err, authenticode.ErrUnsigned)
}

func FuzzScript(f *testing.F) {
	f.Add([]byte("x\n# SIG # Begin signature block\n# dGlk\n# SIG # End signature block\n"))
	f.Fuzz(func(t *testing.T, content []byte) { authenticode.Script(content) })
}
