package shelllink

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// The shortest item that names a file has one letter, with or without its end.
func TestShortestItem(t *testing.T) {
	item := append(make([]byte, 12), 'a')
	require.Equal(t, "a", fileItem(item))
	require.Equal(t, "a", fileItem(append(item, 0)))
	require.Empty(t, fileItem(item[:12]))
}
