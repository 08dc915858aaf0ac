package shelllink

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// The shortest item that names a file has one letter, with or without its end.
func TestShortestItem(t *testing.T) {
	item := append(make([]byte, 12), 'a')
	require.Equal(t, "a", new(Link).fileItem(item))
	require.Equal(t, "a", new(Link).fileItem(append(item, 0)))
	require.Empty(t, new(Link).fileItem(item[:12]))
}
