package screen

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// A text goes into a line as long as it fits with the gap before it.
func TestFlow(t *testing.T) {
	require.Equal(t, []string{"aaa   bbb", "ccc"}, flow([]string{"aaa", "bbb", "ccc"}, 9))
	require.Equal(t, []string{"aaa", "bbb"}, flow([]string{"aaa", "bbb"}, 8))
	require.Equal(t, []string{"longer than that", "b"}, flow([]string{"longer than that", "b"}, 4))
}
